//! What can be wrong with a source.

use std::io;
use std::path::PathBuf;

use crate::{FetchError, NoChoice, NotAnImage, PiecesFault, Wrapping};

/// Why a source could not be opened as an image.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum OpenError {
    /// There is nothing at this path.
    #[error("file {} does not exist", path.display())]
    Missing {
        /// The path as given.
        path: PathBuf,
    },
    /// A name on the shelf, which nobody has looked up.
    #[error("shelf:{name} names no file here")]
    OnShelf {
        /// The name.
        name: String,
    },
    /// The path leads to a folder that does not hold the pieces of one image.
    #[error("{} is a directory", path.display())]
    Folder {
        /// The path as given.
        path: PathBuf,
        /// The names of the files in it.
        names: Vec<String>,
    },
    /// The pieces are not a complete image.
    #[error("{}: {why}", path.display())]
    Pieces {
        /// The path as given.
        path: PathBuf,
        /// What is wrong with them.
        why: PiecesFault,
    },
    /// The path leads to something that is neither a file nor a block device.
    #[error("{} is neither a file nor a block device", path.display())]
    Special {
        /// The path as given.
        path: PathBuf,
    },
    /// The system refused.
    #[error("{} could not be opened", path.display())]
    Io {
        /// The path as given.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// What is inside cannot be the image of a medium.
    #[error("{} is not an image: {why}", path.display())]
    NotAnImage {
        /// The path as given.
        path: PathBuf,
        /// What it is instead.
        why: NotAnImage,
    },
    /// More layers than any real image has.
    #[error("{} has more than {} layers of compression", path.display(), crate::MAX_LAYERS)]
    TooManyLayers {
        /// The path as given.
        path: PathBuf,
    },
    /// It is not clear which member of the archive is the image.
    #[error("{}: {why}", path.display())]
    NoChoice {
        /// The path as given.
        path: PathBuf,
        /// Why none was chosen.
        why: NoChoice,
    },
    /// The packed bytes are damaged right at the start.
    #[error("{} is damaged", path.display())]
    Stream {
        /// The path as given.
        path: PathBuf,
        /// Where and how it is damaged.
        source: StreamError,
    },
}

/// A stream that cannot be read or unpacked to its end.
#[derive(Debug, thiserror::Error)]
#[error("{layer} layer: {fault}, at byte {packed} of the packed and {unpacked} of the unpacked data", layer = layer.map_or("file", Wrapping::word))]
pub struct StreamError {
    /// The layer that failed; `None` for the file itself.
    pub layer: Option<Wrapping>,
    /// What is wrong.
    pub fault: StreamFault,
    /// Bytes of this layer's input consumed so far.
    pub packed: u64,
    /// Bytes this layer had produced.
    pub unpacked: u64,
}

/// What is wrong with a stream.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StreamFault {
    /// The data ends before the format's end mark, as after a broken download.
    #[error("the data ends too early")]
    Truncated,
    /// The file is complete, but its partition table says that the image should be longer.
    #[error("the image has {found} bytes, and its table says {wanted}")]
    Short {
        /// Bytes that the table reaches to.
        wanted: u64,
        /// Bytes that there are.
        found: u64,
    },
    /// The data violates the format or its inner checksum.
    #[error("the data is damaged ({detail})")]
    Damaged {
        /// What the decoder found.
        detail: String,
    },
    /// Unpacking would need more memory than is allowed.
    #[error("unpacking needs more than {limit_mib} MiB of memory")]
    Memory {
        /// The limit in MiB.
        limit_mib: u64,
    },
    /// The data is encrypted.
    #[error("the data is encrypted")]
    Encrypted,
    /// The format is used in an unsupported way.
    #[error("not supported: {what}")]
    Unsupported {
        /// What is not supported.
        what: String,
    },
    /// There is not enough space for what has to be unpacked to a file first.
    #[error("unpacking to a file needs {needed} bytes, and {} has {free}", folder.display())]
    NoRoom {
        /// Bytes that are needed.
        needed: u64,
        /// Bytes that are free.
        free: u64,
        /// The folder.
        folder: PathBuf,
    },
    /// The file could not be read.
    #[error("reading failed ({0})")]
    Read(#[source] io::Error),
    /// A server did not deliver what was requested.
    #[error("fetching failed: {0}")]
    Fetch(#[source] FetchError),
    /// The preview ends here: it does not fetch more.
    #[error("not fetched yet")]
    NotFetched,
}

impl StreamError {
    /// The stream error inside an I/O error, however deeply it is wrapped.
    pub fn in_io(error: &io::Error) -> Option<&Self> {
        let mut cause: &(dyn std::error::Error + 'static) = error.get_ref()?;
        loop {
            if let Some(found) = cause.downcast_ref::<Self>() {
                return Some(found);
            }
            cause = match cause.downcast_ref::<io::Error>() {
                Some(inner) => inner.get_ref()?,
                None => cause.source()?,
            };
        }
    }

    /// Extracts the stream error from an I/O error, or blames the file.
    pub fn from_io(error: io::Error) -> Self {
        match error.downcast::<Self>() {
            Ok(found) => found,
            Err(error) => Self {
                layer: None,
                fault: StreamFault::Read(error),
                packed: 0,
                unpacked: 0,
            },
        }
    }
}
