//! Why a change was not made.

use std::io;

use pinewrit_disk::DiskError;

use crate::check::CheckError;
use crate::error::FatError;
use crate::name::NameError;

/// Why a file system cannot be changed, or a change was not made. A failed change leaves everything
/// as it was, unless the device failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The file system cannot be read.
    #[error(transparent)]
    Volume(#[from] FatError),
    /// It was not unmounted, or errors were found in it.
    #[error("the FAT file system was not unmounted cleanly, or has errors")]
    Unclean,
    /// It is inconsistent.
    #[error(transparent)]
    Check(#[from] CheckError),
    /// A name that FAT cannot have.
    #[error("{path}: {why}")]
    Name {
        /// The path.
        path: String,
        /// What is wrong with it.
        why: NameError,
    },
    /// More room is needed than there is.
    #[error("no room for {path}: {needed} bytes needed, {free} free")]
    NoSpace {
        /// The path.
        path: String,
        /// Bytes that are needed.
        needed: u64,
        /// Bytes that are free.
        free: u64,
    },
    /// There is enough room, but not in one piece.
    #[error("no room for {path} in one piece: {needed} bytes needed, {largest} free together")]
    Scattered {
        /// The path.
        path: String,
        /// Bytes that are needed.
        needed: u64,
        /// Bytes of the largest free piece.
        largest: u64,
    },
    /// A folder cannot have more entries.
    #[error(
        "the folder of {path} is full: it holds {entries} entries, and long names take several"
    )]
    FolderFull {
        /// The path.
        path: String,
        /// The most entries it can have.
        entries: usize,
    },
    /// A file's size does not fit in 32 bits.
    #[error("{path} has {size} bytes; files on FAT have less than 4 GiB")]
    TooLarge {
        /// The path.
        path: String,
        /// Its size in bytes.
        size: u64,
    },
    /// Something with this name already exists.
    #[error("{0} already exists")]
    Exists(String),
    /// A folder to be removed is not empty.
    #[error("the directory {0} is not empty")]
    NotEmpty(String),
    /// A folder would be moved into itself.
    #[error("{0} cannot be moved below itself")]
    IntoItself(String),
    /// The source of a file's content failed.
    #[error("the content could not be read")]
    Source(#[source] io::Error),
    /// The source of a file's content ended early.
    #[error("the content ended after {found} of {expected} bytes")]
    SourceShort {
        /// Bytes that were there.
        found: u64,
        /// Bytes that were announced.
        expected: u64,
    },
    /// It cannot have this size.
    #[error("{size} bytes are not possible: at least {least}, at most {most}")]
    Size {
        /// The requested size in bytes.
        size: u64,
        /// The smallest size in bytes.
        least: u64,
        /// The largest size in bytes.
        most: u64,
    },
    /// An earlier change failed after its old content had been given up.
    #[error("an earlier change failed halfway, so nothing more is changed")]
    Spoiled,
}

impl From<DiskError> for EditError {
    fn from(error: DiskError) -> Self {
        Self::Volume(error.into())
    }
}
