//! Why a medium cannot be opened.

use std::io;
use std::path::PathBuf;

use crate::{BlockName, Verdict};

/// Why a medium cannot be opened for reading or writing.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MediumError {
    /// There is nothing at this path.
    #[error("there is no medium {}", path.display())]
    Missing {
        /// The path as given.
        path: PathBuf,
    },
    /// A card file would be created among the devices, which belong to the system.
    #[error("there is no device {}", path.display())]
    NoSuchDevice {
        /// The path as given.
        path: PathBuf,
    },
    /// The path leads to a folder.
    #[error("{} is a directory", path.display())]
    Folder {
        /// The path as given.
        path: PathBuf,
    },
    /// The path leads to something that is neither a file nor a block device.
    #[error("{} is neither a block device nor a card file", path.display())]
    Special {
        /// The path as given.
        path: PathBuf,
    },
    /// The path leads to a partition, where a whole medium is needed.
    #[error("{} is a partition of {whole}", path.display())]
    Partition {
        /// The path as given.
        path: PathBuf,
        /// The device that it belongs to.
        whole: BlockName,
    },
    /// The medium must not be written.
    #[error("{} must not be written", path.display())]
    Refused {
        /// The path as given.
        path: PathBuf,
        /// Why.
        verdict: Verdict,
    },
    /// A card file already exists, with a different size.
    #[error("{} has {found} bytes, not {asked}", path.display())]
    OtherSize {
        /// The path as given.
        path: PathBuf,
        /// Its size in bytes.
        found: u64,
        /// The size that was asked for.
        asked: u64,
    },
    /// A size was given for a block device, which has its own.
    #[error("{} is a block device and has its own size", path.display())]
    SizeOfDevice {
        /// The path as given.
        path: PathBuf,
    },
    /// The system does not permit it to this user.
    #[error("no permission for {}", path.display())]
    Permission {
        /// The path as given.
        path: PathBuf,
        /// The group whose members may use it, if naming it helps.
        group: Option<String>,
    },
    /// The device at this path is no longer the same as a moment ago.
    #[error("another device answers at {} now", path.display())]
    Changed {
        /// The path as given.
        path: PathBuf,
    },
    /// The system failed.
    #[error("{} could not be opened", path.display())]
    Io {
        /// The path as given.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
}
