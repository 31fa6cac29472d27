//! An SSH client for where the system has none, and to look at host keys.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use pinewrit_core::Cancel;
use russh::client::{self, AuthResult, Handle};
use russh::keys::{HashAlg, PrivateKeyWithHashAlg, PublicKeyOrCertificate, load_secret_key};
use russh::{ChannelMsg, Disconnect};

use super::{LOOK, Login, Session, SshError, WORK};
use crate::commission::MOST;

/// What a server says to everybody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Greeting {
    /// Its software: `SSH-2.0-…`.
    pub banner: String,
    /// Fingerprint of its host key, the one that is preferred.
    pub host_key: Option<String>,
    /// The key itself, as in a line of `known_hosts`, without names.
    pub key: Option<String>,
}

/// A host key: its fingerprint, and itself.
type HostKey = (String, Option<String>);

struct Client {
    /// The host key, once it is known.
    seen: Arc<Mutex<Option<HostKey>>>,
    /// The fingerprint that the host key must have; any, if `None`.
    wanted: Option<String>,
    /// Whether only the key is looked at.
    is_looking: bool,
}

impl client::Handler for Client {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        key: &PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        let (found, key) = match key {
            PublicKeyOrCertificate::PublicKey { key, .. } => {
                (key.fingerprint(HashAlg::Sha256), key.to_openssh().ok())
            }
            PublicKeyOrCertificate::Certificate(certificate) => {
                (certificate.public_key().fingerprint(HashAlg::Sha256), None)
            }
        };
        let found = found.to_string();
        let is_right = self.wanted.as_ref().is_none_or(|wanted| *wanted == found);
        if let Ok(mut seen) = self.seen.lock() {
            *seen = Some((found, key));
        }
        Ok(is_right && !self.is_looking)
    }
}

fn block_on<T>(work: impl Future<Output = T>) -> Result<T, std::io::Error> {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()?;
    Ok(runtime.block_on(work))
}

/// Looks at the banner and the host key of a server, without a login.
///
/// # Errors
/// Nobody answers, or no SSH server does.
pub fn greet(at: SocketAddr, patience: Duration) -> std::io::Result<Greeting> {
    let banner = banner(at, patience)?;
    let seen = Arc::new(Mutex::new(None));
    let client = Client {
        seen: Arc::clone(&seen),
        wanted: None,
        is_looking: true,
    };
    let config = Arc::new(client::Config::default());
    let connected = block_on(async {
        // It ends as soon as the key is known.
        tokio::time::timeout(patience, client::connect(config, at, client)).await
    })?;
    drop(connected);
    let (host_key, key) = seen.lock().ok().and_then(|seen| seen.clone()).unzip();
    Ok(Greeting {
        banner,
        host_key,
        key: key.flatten(),
    })
}

/// The first line that a server sends (RFC 4253, section 4.2).
fn banner(at: SocketAddr, patience: Duration) -> std::io::Result<String> {
    use std::io::{BufRead, BufReader, Read};
    /// Longer lines are not allowed, in bytes.
    const LONGEST: u64 = 255;
    let stream = std::net::TcpStream::connect_timeout(&at, patience)?;
    stream.set_read_timeout(Some(patience))?;
    let mut line = String::new();
    BufReader::new(stream.take(LONGEST)).read_line(&mut line)?;
    let line = line.trim_end();
    match line.starts_with("SSH-") {
        true => Ok(line.chars().filter(|sign| !sign.is_control()).collect()),
        false => Err(std::io::Error::other("no SSH server")),
    }
}

pub(super) fn run(login: &Login, script: &str, cancel: &Cancel) -> Result<Session, SshError> {
    let at = login.socket()?;
    let done = block_on(async {
        let all = logged_in(login, at, script);
        tokio::select! {
            done = tokio::time::timeout(login.patience + WORK, all) => done,
            () = stopped(cancel) => Ok(Err(SshError::Other {
                host: login.host.clone(),
                why: "stopped".to_owned(),
            })),
        }
    });
    match done {
        Ok(Ok(result)) => result,
        Ok(Err(_)) => Err(silent(login, "timed out")),
        Err(error) => Err(silent(login, &error.to_string())),
    }
}

async fn stopped(cancel: &Cancel) {
    while !cancel.is_cancelled() {
        tokio::time::sleep(LOOK).await;
    }
}

fn silent(login: &Login, why: &str) -> SshError {
    SshError::NoAnswer {
        host: login.host.clone(),
        why: why.to_owned(),
    }
}

async fn logged_in(login: &Login, at: SocketAddr, script: &str) -> Result<Session, SshError> {
    let host = || login.host.clone();
    let seen = Arc::new(Mutex::new(None));
    let wanted = login.wanted();
    let client = Client {
        seen: Arc::clone(&seen),
        wanted: wanted.clone(),
        // Without a key that it must have, nothing is entrusted to it.
        is_looking: wanted.is_none(),
    };
    let config = Arc::new(client::Config::default());
    let connected = tokio::time::timeout(login.patience, client::connect(config, at, client)).await;
    let host_key = seen.lock().ok().and_then(|seen| seen.clone());
    let host_key = host_key.map(|(fingerprint, _)| fingerprint);
    let mut handle = match connected {
        Err(_) => return Err(silent(login, "timed out")),
        Ok(Ok(handle)) => handle,
        Ok(Err(russh::Error::UnknownKey)) => {
            return Err(match wanted {
                Some(wanted) => SshError::OtherHostKey {
                    host: host(),
                    wanted,
                    found: host_key,
                },
                None => SshError::HostKeyUnknown {
                    host: host(),
                    found: host_key,
                },
            });
        }
        Ok(Err(russh::Error::IO(error))) => return Err(silent(login, &error.to_string())),
        Ok(Err(error)) => return Err(other(login, &error)),
    };
    let methods = let_in(login, &mut handle).await?;
    let output = answers(&handle, script)
        .await
        .map_err(|error| other(login, &error))?;
    // What was asked is answered.
    let _ = handle.disconnect(Disconnect::ByApplication, "", "").await;
    Ok(Session {
        output,
        host_key,
        methods,
    })
}

fn other(login: &Login, error: &russh::Error) -> SshError {
    SshError::Other {
        host: login.host.clone(),
        why: error.to_string(),
    }
}

/// Logs in with the key file; returns what the server offers to somebody without one.
async fn let_in(login: &Login, handle: &mut Handle<Client>) -> Result<Vec<String>, SshError> {
    let user = login.user.clone().unwrap_or_else(|| "root".to_owned());
    let offered = handle
        .authenticate_none(&user)
        .await
        .map_err(|e| other(login, &e))?;
    let methods = match &offered {
        AuthResult::Success => return Ok(vec!["none".to_owned()]),
        AuthResult::Failure {
            remaining_methods, ..
        } => {
            let names = remaining_methods.iter().map(String::from);
            names.collect::<Vec<String>>()
        }
    };
    let refused = || SshError::Refused {
        host: login.host.clone(),
        user: user.clone(),
        methods: methods.clone(),
    };
    let path = login.key.as_ref().ok_or_else(refused)?;
    let key = load_secret_key(path, None).map_err(|error| SshError::Key {
        path: path.clone(),
        why: error.to_string(),
    })?;
    let hash = handle
        .best_supported_rsa_hash()
        .await
        .map_err(|e| other(login, &e))?;
    let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash.flatten());
    let done = handle.authenticate_publickey(&user, key).await;
    match done.map_err(|e| other(login, &e))? {
        AuthResult::Success => Ok(methods),
        AuthResult::Failure { .. } => Err(refused()),
    }
}

async fn answers(handle: &Handle<Client>, script: &str) -> Result<String, russh::Error> {
    let mut channel = handle.channel_open_session().await?;
    channel.exec(true, "sh -s").await?;
    channel.data(script.as_bytes()).await?;
    channel.eof().await?;
    let mut output = Vec::new();
    while let Some(message) = channel.wait().await {
        match message {
            ChannelMsg::Data { data } => {
                let room = MOST.saturating_sub(output.len()).min(data.len());
                output.extend(&data[..room]);
            }
            ChannelMsg::Close => break,
            _ => {}
        }
    }
    Ok(String::from_utf8_lossy(&output).into_owned())
}
