//! Why a change was not made.

use pinewrit_disk::DiskError;
use pinewrit_ext4_journal::JournalError;
use pinewrit_ext4_layout::{ExtError, SuperblockError};

/// Why a file system cannot be changed, or a change was not made. A failed change leaves everything
/// as it was.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// The file system cannot be read.
    #[error(transparent)]
    Volume(#[from] ExtError),
    /// A feature is not understood well enough to write.
    #[error("the file system has the feature {0}, which Pinewrit can only read")]
    Feature(String),
    /// Its journal was not replayed.
    #[error("its journal has changes that are not yet in the file system")]
    NeedsReplay,
    /// Its journal cannot be replayed.
    #[error("its journal cannot be replayed: {0}")]
    Journal(#[from] JournalError),
    /// Its journal has to be replayed, and is on another device.
    #[error("its journal has changes that are not yet in it, and is on another device")]
    ExternalJournal,
    /// It was not unmounted, or errors were found in it.
    #[error("it was not unmounted cleanly, or has errors")]
    Unclean,
    /// More room is needed than there is.
    #[error("no room: {needed} bytes needed, {free} free")]
    NoSpace {
        /// Bytes that are needed.
        needed: u64,
        /// Bytes that are free.
        free: u64,
    },
    /// There is no inode left for another file.
    #[error("no room for another file: all {inodes} inodes are used")]
    NoInodes {
        /// Inodes of the file system.
        inodes: u32,
    },
    /// Something with this name already exists.
    #[error("{0} already exists")]
    Exists(String),
    /// A folder is where a file should be, or the other way round.
    #[error("{0} is a directory")]
    IsDirectory(String),
    /// A folder to be removed is not empty.
    #[error("the directory {0} is not empty")]
    NotEmpty(String),
    /// A folder would be moved into itself.
    #[error("{0} cannot be moved below itself")]
    IntoItself(String),
    /// A name is empty, longer than 255 bytes, or has forbidden characters.
    #[error("{0:?} is not a valid name")]
    Name(String),
    /// An extended attribute's name is unknown, or it does not fit.
    #[error("the extended attribute {0} cannot be stored in this file system")]
    Xattr(String),
    /// The file is immutable or encrypted.
    #[error("{0} is protected by its flags")]
    Fixed(String),
    /// A file is larger than its kind of map allows.
    #[error("{0} is too large, or in too many pieces, for this file system")]
    TooLarge(String),
    /// It has too many names, or too many folders in it.
    #[error("{0} has too many links")]
    TooManyLinks(String),
    /// The source of a file's content failed.
    #[error("the content could not be read")]
    Source(#[source] std::io::Error),
    /// The source of a file's content ended early.
    #[error("the content ended after {found} of {expected} bytes")]
    SourceShort {
        /// Bytes that were there.
        found: u64,
        /// Bytes that were announced.
        expected: u64,
    },
    /// The file system cannot be created with, or changed to, this size.
    #[error("{0}")]
    Size(SizeError),
}

/// Why a file system cannot have a size.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SizeError {
    /// There is no room for its own structures.
    #[error("{size} bytes are too small; at least {least} are needed")]
    TooSmall {
        /// Size in bytes.
        size: u64,
        /// The least size in bytes.
        least: u64,
    },
    /// More inodes were requested than its groups can have.
    #[error("{wanted} inodes were requested, at most {most} are possible")]
    TooManyInodes {
        /// How many were requested.
        wanted: u64,
        /// How many are possible.
        most: u64,
    },
    /// It would need more group descriptors than there is room reserved for.
    #[error("it can grow to at most {most} bytes, but {size} were requested")]
    BeyondReserve {
        /// The requested size in bytes.
        size: u64,
        /// The largest size in bytes that it can grow to.
        most: u64,
    },
    /// It is already larger.
    #[error("it already has {now} bytes, {size} were requested")]
    Shrinking {
        /// The requested size in bytes.
        size: u64,
        /// Its size in bytes.
        now: u64,
    },
    /// More blocks than can be counted.
    #[error("{size} bytes are more than this kind of file system supports")]
    TooLarge {
        /// Size in bytes.
        size: u64,
    },
}

impl From<DiskError> for EditError {
    fn from(error: DiskError) -> Self {
        Self::Volume(ExtError::Disk(error))
    }
}

impl From<SuperblockError> for EditError {
    fn from(error: SuperblockError) -> Self {
        Self::Volume(ExtError::Superblock(error))
    }
}

impl From<SizeError> for EditError {
    fn from(error: SizeError) -> Self {
        Self::Size(error)
    }
}
