//! Why something was not read or changed.

use pinewrit_disk::DiskError;
use pinewrit_ext4::{EditError, ExtError};
use pinewrit_fat as fat;

/// Why something was not read or changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FilesError {
    /// The FAT file system cannot be read.
    #[error(transparent)]
    Fat(#[from] fat::FatError),
    /// The FAT file system cannot be changed.
    #[error(transparent)]
    FatEdit(#[from] fat::EditError),
    /// The ext file system cannot be read.
    #[error(transparent)]
    Ext(#[from] ExtError),
    /// The ext file system cannot be changed.
    #[error(transparent)]
    Edit(#[from] EditError),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// A file is too large to be read as a whole.
    #[error("{path} has {size} bytes, more than {limit}")]
    TooLarge {
        /// The file.
        path: String,
        /// Its size in bytes.
        size: u64,
        /// The largest that is read.
        limit: u64,
    },
    /// Nothing is there.
    #[error("{0} does not exist")]
    NotFound(String),
    /// A folder where a file is meant, or the other way round.
    #[error("{0} is a directory")]
    IsFolder(String),
    /// FAT holds files and folders only.
    #[error("{path}: FAT does not support {what}")]
    NotOnFat {
        /// The path.
        path: String,
        /// What was wanted.
        what: &'static str,
    },
    /// What was read could not be passed on.
    #[error("{path} could not be copied")]
    Taker {
        /// The path.
        path: String,
        /// The cause.
        source: std::io::Error,
    },
    /// The file system can only be read.
    #[error("the file system was opened for reading")]
    ReadOnly,
    /// A text to be rewritten is not text.
    #[error("{0} is not a text in UTF-8")]
    NotText(String),
    /// A file that Pinewrit wrote is not readable as such.
    #[error("{path} cannot be used: {why}")]
    Unusable {
        /// The file.
        path: String,
        /// What is wrong with it.
        why: String,
    },
    /// The file system was already inconsistent.
    #[error("the file system is damaged: {0}")]
    Damaged(String),
    /// The change would leave the file system inconsistent.
    #[error("the file system would be inconsistent: {0}")]
    Unsound(String),
}

impl FilesError {
    /// The device's own failure behind it, or the error again.
    ///
    /// # Errors
    /// The error itself, if the device did not fail.
    pub fn into_disk(self) -> Result<DiskError, Self> {
        match self {
            Self::Disk(error)
            | Self::Fat(fat::FatError::Disk(error))
            | Self::FatEdit(fat::EditError::Volume(fat::FatError::Disk(error)))
            | Self::Ext(ExtError::Disk(error))
            | Self::Edit(EditError::Volume(ExtError::Disk(error))) => Ok(error),
            other => Err(other),
        }
    }

    /// Whether a file's content cannot be read by nature: it is encrypted.
    pub fn is_unreadable(&self) -> bool {
        matches!(self, Self::Ext(ExtError::Unreadable(_)))
    }

    /// The device's own failure behind it, if it is one.
    pub fn disk(&self) -> Option<&DiskError> {
        match self {
            Self::Disk(error)
            | Self::Fat(fat::FatError::Disk(error))
            | Self::FatEdit(fat::EditError::Volume(fat::FatError::Disk(error)))
            | Self::Ext(ExtError::Disk(error))
            | Self::Edit(EditError::Volume(ExtError::Disk(error))) => Some(error),
            _ => None,
        }
    }
}
