//! Packed bytes on a server: fetched in order as they are used, resumed when a connection breaks,
//! and never mixed from two versions of a file.
//!
//! HTTP semantics are those of RFC 9110: range requests (section 14), validators (section 8.8).

mod answer;
mod connection;
mod glance;
mod keep;
mod recent;
mod remote;
mod start;
mod streams;

use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use crate::packed::{PackedBytes, PackedReader};

pub use keep::{forget_download, kept_download};
pub(crate) use remote::Remote;

/// Options for requests to servers.
#[derive(Clone, Debug)]
pub struct FetchOptions {
    /// How long to wait without any data before giving up.
    pub patience: Duration,
    /// Where kept downloads are searched for.
    pub cache: Option<PathBuf>,
    /// Whether this download is kept there.
    pub keep: bool,
}

impl Default for FetchOptions {
    /// A minute, and nothing is kept.
    fn default() -> Self {
        Self {
            patience: Duration::from_secs(60),
            cache: None,
            keep: false,
        }
    }
}

/// How a download went.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FetchStats {
    /// Bytes that came from the server.
    pub fetched: u64,
    /// Bytes that an earlier download had left.
    pub kept: u64,
    /// How often a broken connection was restored.
    pub resumed: u64,
    /// A kept copy is used without the server having confirmed it.
    pub unconfirmed: bool,
}

/// Why a server did not deliver what was requested.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum FetchError {
    /// The address cannot be read.
    #[error("this is not the URL of a file on a server: {detail}")]
    Address {
        /// What is wrong with it.
        detail: String,
    },
    /// The host name is unknown.
    #[error("unknown host")]
    Host,
    /// No connection could be made.
    #[error("no connection: {detail}")]
    Connect {
        /// The system's answer.
        detail: String,
    },
    /// The connection could not be secured.
    #[error("the connection could not be secured: {detail}")]
    Tls {
        /// What is wrong.
        detail: String,
    },
    /// The server answered with an error status.
    #[error("the server answered {status}")]
    Status {
        /// The status code, RFC 9110 section 15.
        status: u16,
    },
    /// There were too many redirects.
    #[error("more than {limit} redirects")]
    Redirects {
        /// How many are followed.
        limit: u32,
    },
    /// Nothing arrived for this long.
    #[error("no data for {seconds} seconds")]
    Silent {
        /// The time waited.
        seconds: u64,
    },
    /// The connection broke, and stayed broken.
    #[error("the connection broke: {detail}")]
    Cut {
        /// The system's answer.
        detail: String,
    },
    /// The file on the server has changed since fetching began.
    #[error("the file changed on the server while it was downloading")]
    Changed,
    /// The answer violates the protocol.
    #[error("invalid answer from the server: {detail}")]
    Answer {
        /// What is wrong with it.
        detail: String,
    },
    /// The program itself cancelled the download.
    #[error("stopped")]
    Stopped,
}

impl FetchError {
    /// Whether retrying may help.
    fn is_passing(&self) -> bool {
        match self {
            Self::Host | Self::Connect { .. } | Self::Silent { .. } | Self::Cut { .. } => true,
            Self::Status { status } => matches!(status, 408 | 429 | 500..=599),
            _ => false,
        }
    }

    /// Whether the server could not be reached at all.
    fn is_offline(&self) -> bool {
        matches!(
            self,
            Self::Host | Self::Connect { .. } | Self::Silent { .. }
        )
    }
}

/// A small file at an address: at most `most` bytes of it.
///
/// # Errors
/// With a [`StreamError`](crate::StreamError) that says why; a larger file.
pub fn fetch_small(url: &str, patience: Duration, most: u64) -> io::Result<Vec<u8>> {
    let options = FetchOptions {
        patience,
        ..FetchOptions::default()
    };
    let mut reader = PackedReader::new(Arc::new(Remote::open(url, &options)?));
    let mut bytes = Vec::new();
    let read = Read::take(&mut reader, most + 1).read_to_end(&mut bytes)?;
    match read as u64 > most {
        true => Err(io::Error::other(format!("more than {most} bytes"))),
        false => Ok(bytes),
    }
}

/// The size of the file at an address, in bytes; `None` if the server does not tell.
///
/// # Errors
/// With a [`StreamError`](crate::StreamError) that says why it cannot be had.
pub fn size_at(url: &str, patience: Duration) -> io::Result<Option<u64>> {
    let options = FetchOptions {
        patience,
        ..FetchOptions::default()
    };
    Ok(Remote::open(url, &options)?.size())
}

/// Wraps an error so that it can travel through readers.
fn in_io(error: FetchError, position: u64) -> io::Error {
    io::Error::other(crate::StreamError {
        layer: None,
        fault: crate::StreamFault::Fetch(error),
        packed: position,
        unpacked: position,
    })
}
