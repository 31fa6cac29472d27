//! Why something in a FAT file system was not read.

use std::io;

use pinewrit_disk::DiskError;

/// Why something was not read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FatError {
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// There is no FAT file system.
    #[error("this is not a FAT file system")]
    NotFat,
    /// Its structures contradict each other.
    #[error("the FAT file system is damaged: {0}")]
    Damaged(&'static str),
    /// There is nothing at this path.
    #[error("{0} does not exist")]
    NotFound(String),
    /// What should be a folder is something else.
    #[error("{0} is not a directory")]
    NotFolder(String),
    /// What should be a file is a folder.
    #[error("{0} is a directory")]
    IsFolder(String),
    /// What was read could not be passed on.
    #[error("the data could not be passed on")]
    Taker(#[source] io::Error),
}
