//! Detached signatures: OpenPGP (RFC 9580, section 10.4) and minisign, and the keys that a user
//! trusts.
//!
//! Nothing is fetched and nobody is asked: a key is trusted because it lies where the user has put
//! it.

mod keys;
mod minisign;
mod openpgp;

use std::io::{self, Read};

use schemars::JsonSchema;
use serde::Serialize;

pub use keys::{Keys, KeysError};

/// The largest signature and key file that is read, in bytes.
pub const MAX_FILE: u64 = 1 << 20;

/// The endings of detached signatures beside what they sign.
pub const ENDINGS: [&str; 4] = ["minisig", "asc", "gpg", "sig"];

/// What is known of a signature.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum Signed {
    /// It is good, and its key is one of the user's.
    By(Signer),
    /// It cannot be judged: the user does not have its key.
    Foreign {
        /// The key's identifier.
        key: String,
    },
    /// It is one of the user's keys, but the content is not what was signed.
    Altered(Signer),
    /// It is one of the user's keys, which was no longer valid when it signed.
    Expired(Signer),
    /// It is one of the user's keys, which its owner has revoked.
    Revoked(Signer),
    /// It is no signature that can be read.
    Unreadable {
        /// Why.
        why: String,
    },
}

/// A key of the user's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Signer {
    /// Whose it is: what the key says, or its file's name.
    pub name: String,
    /// Its fingerprint or identifier.
    pub key: String,
}

impl Signed {
    /// Whether it is good.
    pub fn is_good(&self) -> bool {
        matches!(self, Self::By(_))
    }

    /// Whether it speaks against what was signed; a missing key does not.
    pub fn is_bad(&self) -> bool {
        !matches!(self, Self::By(_) | Self::Foreign { .. })
    }
}

/// What was signed, to be read from its start.
pub type Content<'c> = &'c dyn Fn() -> io::Result<Box<dyn Read>>;

/// Verifies a detached signature over `content` at a time, in seconds since 1970.
pub fn verify(keys: &Keys, signature: &[u8], content: Content<'_>, now: u64) -> Signed {
    match std::str::from_utf8(signature) {
        Ok(text) if text.trim_start().starts_with("untrusted comment:") => {
            minisign::verify(keys, text, content)
        }
        _ => openpgp::verify(keys, signature, content, now),
    }
}
