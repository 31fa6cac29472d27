//! A request in its own thread, so that a caller can stop waiting for it.

use std::io::{ErrorKind, Read};
use std::thread;
use std::time::Duration;

use crossbeam_channel::{Receiver, Sender, bounded};
use ureq::Agent;
use ureq::http::Uri;

use super::answer::{Answer, Version};
use super::{FetchError, FetchOptions};

/// The most redirects to follow.
const MAX_REDIRECTS: u32 = 8;
const BLOCK: usize = 128 << 10;
const BLOCKS_IN_FLIGHT: usize = 8;

/// What comes out of a request, in this order.
#[derive(Debug)]
pub(super) enum Arrival {
    Answer(Answer),
    Data(Vec<u8>),
    End,
    Failed(FetchError),
}

/// What is requested.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wanted {
    /// The bytes from one offset to another, or to the end.
    Part { start: u64, end: Option<u64> },
    /// Everything, unless it is still this version.
    Newer(Version),
}

/// A client that follows few redirects, uses the proxies of the environment, and never switches
/// from HTTPS to HTTP.
pub(super) fn agent(url: &str, options: &FetchOptions) -> Result<Agent, FetchError> {
    let uri: Uri = url.parse().map_err(|_| FetchError::Address {
        detail: "it contains invalid characters".to_owned(),
    })?;
    let is_secured = uri
        .scheme_str()
        .is_some_and(|s| s.eq_ignore_ascii_case("https"));
    let tls = ureq::tls::TlsConfig::builder()
        .root_certs(ureq::tls::RootCerts::PlatformVerifier)
        .build();
    let config = Agent::config_builder()
        .http_status_as_error(false)
        .https_only(is_secured)
        .max_redirects(MAX_REDIRECTS)
        .max_redirects_will_error(true)
        .tls_config(tls)
        .user_agent(concat!("pinewrit/", env!("CARGO_PKG_VERSION")))
        .timeout_resolve(Some(options.patience))
        .timeout_connect(Some(options.patience.min(Duration::from_secs(20))))
        .timeout_per_read(Some(options.patience))
        .timeout_per_write(Some(options.patience))
        .build();
    Ok(config.new_agent())
}

/// Begins a request. It ends when the receiver is dropped, or soon after.
pub(super) fn begin(agent: &Agent, url: &str, wanted: Wanted) -> Receiver<Arrival> {
    let (sender, arrivals) = bounded(BLOCKS_IN_FLIGHT);
    let failed = sender.clone();
    let (agent, url) = (agent.clone(), url.to_owned());
    let spawned = thread::Builder::new().name("fetch".into()).spawn(move || {
        let last = match fetch(&agent, &url, &wanted, &sender) {
            Ok(()) => Arrival::End,
            Err(error) => Arrival::Failed(error),
        };
        // The receiver may be gone.
        let _ = sender.send(last);
    });
    if let Err(error) = spawned {
        let detail = error.to_string();
        let _ = failed.try_send(Arrival::Failed(FetchError::Connect { detail }));
    }
    arrivals
}

fn fetch(
    agent: &Agent,
    url: &str,
    wanted: &Wanted,
    sender: &Sender<Arrival>,
) -> Result<(), FetchError> {
    // A server that compresses on the fly would send other bytes than the file's.
    let mut request = agent.get(url).header("Accept-Encoding", "identity");
    match wanted {
        Wanted::Part { start, end } => {
            let last = end.map_or(String::new(), |end| end.saturating_sub(1).to_string());
            request = request.header("Range", format!("bytes={start}-{last}"));
        }
        Wanted::Newer(version) => {
            if let Some(tag) = &version.tag {
                request = request.header("If-None-Match", tag);
            } else if let Some(modified) = &version.modified {
                request = request.header("If-Modified-Since", modified);
            }
        }
    }
    let response = request.call().map_err(explain)?;
    let answer = Answer::read(&response)?;
    if sender.send(Arrival::Answer(answer)).is_err() {
        return Ok(());
    }
    let mut body = response.into_body().into_reader();
    loop {
        let mut block = vec![0; BLOCK];
        match body.read(&mut block) {
            Ok(0) => return Ok(()),
            Ok(len) => {
                block.truncate(len);
                if sender.send(Arrival::Data(block)).is_err() {
                    return Ok(());
                }
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => {
                let detail = error.to_string();
                return Err(FetchError::Cut { detail });
            }
        }
    }
}

fn explain(error: ureq::Error) -> FetchError {
    use ureq::Error;
    match error {
        Error::HostNotFound => FetchError::Host,
        Error::BadUri(detail) => FetchError::Address { detail },
        Error::TooManyRedirects => FetchError::Redirects {
            limit: MAX_REDIRECTS,
        },
        Error::RequireHttpsOnly(to) => FetchError::Tls {
            detail: format!("it was redirected to {to}, which is not secure"),
        },
        Error::Tls(detail) => FetchError::Tls {
            detail: detail.to_owned(),
        },
        Error::Rustls(error) => FetchError::Tls {
            detail: error.to_string(),
        },
        Error::Timeout(_) => FetchError::Connect {
            detail: "the server does not answer in time".to_owned(),
        },
        Error::Protocol(error) => FetchError::Answer {
            detail: error.to_string(),
        },
        Error::Io(error) => match error.get_ref().map(|inner| inner.to_string()) {
            // Handshakes fail inside of reads and writes.
            Some(inner) if inner.contains("certificate") => FetchError::Tls { detail: inner },
            Some(inner) if inner.contains("lookup address") => FetchError::Host,
            _ => FetchError::Connect {
                detail: error.to_string(),
            },
        },
        error => FetchError::Connect {
            detail: error.to_string(),
        },
    }
}
