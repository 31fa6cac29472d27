//! A login on a board: one connection, one script, its answers.
//!
//! The system's `ssh` is used where it is installed: configuration, agents and jump hosts of the user work. Without it,
//! and to look at a host key, there is a client in here.

mod own;
mod system;

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::time::Duration;

use pinewrit_core::Cancel;
use russh::keys::{HashAlg, PublicKey};

pub use own::{Greeting, greet};

/// The usual port of SSH servers.
pub const PORT: u16 = 22;
/// The name of the system's client.
const CLIENT: &str = "ssh";

/// How long a script may take. A board that is busy with its first start answers slowly.
const WORK: Duration = Duration::from_secs(120);

/// How often a login is looked at.
const LOOK: Duration = Duration::from_millis(20);

/// Whom to talk to.
#[derive(Clone, Debug)]
pub struct Login {
    /// The name: of the host, or what the user's configuration calls it.
    pub host: String,
    /// Its address, where the name alone does not lead there.
    pub address: Option<IpAddr>,
    /// The port; that of the configuration if `None`.
    pub port: Option<u16>,
    /// The user.
    pub user: Option<String>,
    /// A file with the private key; without one, agent and configuration decide.
    pub key: Option<PathBuf>,
    /// The line for `known_hosts` with the key that the host must have.
    pub known_hosts: Option<String>,
    /// How long to wait for an answer.
    pub patience: Duration,
    /// Whether the client in here is used even if the system has one.
    pub is_own: bool,
}

/// What came of a login.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Session {
    /// What the script has printed.
    pub output: String,
    /// Fingerprint of the host key.
    pub host_key: Option<String>,
    /// How the server lets somebody in.
    pub methods: Vec<String>,
}

/// Why there was no login.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SshError {
    /// Nobody knows the name.
    #[error("{host} has no address")]
    NoName {
        /// The name.
        host: String,
    },
    /// There was no answer.
    #[error("{host} does not answer: {why}")]
    NoAnswer {
        /// The name.
        host: String,
        /// The system's words.
        why: String,
    },
    /// The host has another key than it should have.
    #[error("{host} has another host key")]
    OtherHostKey {
        /// The name.
        host: String,
        /// The fingerprint that it should have.
        wanted: String,
        /// The fingerprint that it has.
        found: Option<String>,
    },
    /// Nobody knows which key the host should have.
    #[error("the host key of {host} is not known")]
    HostKeyUnknown {
        /// The name.
        host: String,
        /// The fingerprint that it has.
        found: Option<String>,
    },
    /// The login was refused.
    #[error("{host} lets nobody in as {user}")]
    Refused {
        /// The name.
        host: String,
        /// The user, or the words for the configured one.
        user: String,
        /// How the server lets somebody in.
        methods: Vec<String>,
    },
    /// A private key cannot be used.
    #[error("the key {} cannot be used: {why}", path.display())]
    Key {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// Something else.
    #[error("the login on {host} failed: {why}")]
    Other {
        /// The name.
        host: String,
        /// The client's words.
        why: String,
    },
}

impl Login {
    /// With nothing but a name.
    pub fn new(host: &str) -> Self {
        Self {
            host: host.to_owned(),
            address: None,
            port: None,
            user: None,
            key: None,
            known_hosts: None,
            patience: Duration::from_secs(10),
            is_own: false,
        }
    }

    /// Logs in, runs the script, and returns what it prints. Takes one connection.
    ///
    /// # Errors
    /// [`SshError`]; [`SshError::Other`] if it was stopped.
    pub fn run(&self, script: &str, cancel: &Cancel) -> Result<Session, SshError> {
        if !self.is_own {
            match system::run(self, script, cancel) {
                Err(system::Failure::NoClient) => {}
                Err(system::Failure::Ssh(error)) => return Err(error),
                Ok(session) => return Ok(session),
            }
        }
        own::run(self, script, cancel)
    }

    /// The fingerprint that the host key must have.
    fn wanted(&self) -> Option<String> {
        self.known_hosts.as_deref().and_then(fingerprint_in)
    }

    fn socket(&self) -> Result<SocketAddr, SshError> {
        use std::net::ToSocketAddrs;
        let port = self.port.unwrap_or(PORT);
        if let Some(address) = self.address {
            return Ok(SocketAddr::new(address, port));
        }
        let found = (self.host.as_str(), port).to_socket_addrs();
        let found = found.ok().and_then(|mut all| all.next());
        found.ok_or_else(|| SshError::NoName {
            host: self.host.clone(),
        })
    }
}

/// Whether a text is a public key, as in a file beside the private one.
pub fn is_public_key(text: &str) -> bool {
    PublicKey::from_openssh(text.trim()).is_ok()
}

/// The key of a line of `known_hosts` (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT"), without the names.
fn key_of(line: &str) -> Option<String> {
    let mut words = line
        .split_whitespace()
        .skip_while(|word| word.starts_with('@'));
    words.next()?;
    let (kind, key) = (words.next()?, words.next()?);
    Some(format!("{kind} {key}"))
}

/// The fingerprint of the key in a line of `known_hosts`.
pub(crate) fn fingerprint_in(line: &str) -> Option<String> {
    let key = PublicKey::from_openssh(&key_of(line)?).ok()?;
    Some(key.fingerprint(HashAlg::Sha256).to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_known_hosts() {
        let key = "AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp";
        let line = format!("[larkfell-03]:2222,larkfell-03.local ssh-ed25519 {key} comment");
        assert_eq!(key_of(&line), Some(format!("ssh-ed25519 {key}")));
        assert!(fingerprint_in(&line).is_some_and(|print| print.starts_with("SHA256:")));
        assert_eq!(fingerprint_in("larkfell-03 ssh-ed25519 AAAA"), None);
        assert_eq!(fingerprint_in(""), None);
    }
}
