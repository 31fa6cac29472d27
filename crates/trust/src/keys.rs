//! The keys that a user trusts, in files.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use pgp::composed::SignedPublicKey;

use crate::{MAX_FILE, minisign, openpgp};

/// The most files that are looked at in a folder.
const MAX_KEYS: usize = 500;

/// Why keys cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeysError {
    /// The file cannot be read.
    #[error("the key {} cannot be read", path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// It is not a public key.
    #[error("{} is no public key of OpenPGP or minisign", path.display())]
    NoKey {
        /// The file.
        path: PathBuf,
    },
}

/// Trusted keys.
#[derive(Default)]
pub struct Keys {
    pub(crate) openpgp: Vec<SignedPublicKey>,
    /// With the names of their files, because they have none.
    pub(crate) minisign: Vec<(String, minisign_verify::PublicKey)>,
}

impl Keys {
    /// All keys in a folder. Files that are no keys are passed over; a folder that is not there has
    /// none.
    ///
    /// # Errors
    /// [`KeysError`]: a file cannot be read.
    pub fn in_folder(folder: &Path) -> Result<Self, KeysError> {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let paths = entries.map(|entry| entry.path());
        let mut paths: Vec<PathBuf> = paths.filter(|path| path.is_file()).take(MAX_KEYS).collect();
        paths.sort();
        let mut keys = Self::default();
        for path in paths {
            match keys.add(&path) {
                Err(KeysError::NoKey { .. }) | Ok(()) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(keys)
    }

    /// The keys in one file.
    ///
    /// # Errors
    /// [`KeysError`].
    pub fn in_file(path: &Path) -> Result<Self, KeysError> {
        let mut keys = Self::default();
        keys.add(path)?;
        Ok(keys)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.openpgp.is_empty() && self.minisign.is_empty()
    }

    fn add(&mut self, path: &Path) -> Result<(), KeysError> {
        let failed = |source| KeysError::Io {
            path: path.to_owned(),
            source,
        };
        let mut bytes = Vec::new();
        let file = File::open(path).map_err(failed)?;
        file.take(MAX_FILE)
            .read_to_end(&mut bytes)
            .map_err(failed)?;
        let name = path.file_stem().unwrap_or(path.as_os_str());
        let known = self.openpgp.len() + self.minisign.len();
        self.openpgp.extend(openpgp::keys_in(&bytes));
        if let Some(key) = minisign::key_in(&bytes) {
            self.minisign
                .push((name.to_string_lossy().into_owned(), key));
        }
        if self.openpgp.len() + self.minisign.len() == known {
            return Err(KeysError::NoKey {
                path: path.to_owned(),
            });
        }
        Ok(())
    }
}
