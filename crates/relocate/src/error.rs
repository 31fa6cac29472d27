//! Why a partition was not moved.

use std::io;
use std::path::PathBuf;

use pinewrit_disk::{CommitError, DiskError};
use pinewrit_table::TableError;

/// Why a partition was not moved.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MoveError {
    /// The table does not allow it.
    #[error(transparent)]
    Table(TableError),
    /// The medium failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// The note could not be kept.
    #[error("the note of the move could not be kept")]
    Note(#[from] io::Error),
    /// What was written reads back differently.
    #[error("what was written at offset {offset} reads back differently")]
    ReadBack {
        /// In bytes.
        offset: u64,
    },
    /// The table could not be written.
    #[error("the table could not be written")]
    Commit(#[from] CommitError),
    /// It is there already.
    #[error("partition {0} begins there already")]
    InPlace(u32),
    /// Another move of this medium was interrupted.
    #[error("an earlier move of partition {partition} was interrupted")]
    Interrupted {
        /// Its number.
        partition: u32,
        /// Where it goes, in bytes.
        to: u64,
    },
    /// It was begun on another computer, which has the bytes of the last round.
    #[error("only the computer on which it was begun can finish it")]
    Elsewhere,
    /// The move of another medium was interrupted, and its last bytes are kept in the same place.
    #[error("an interrupted move of another medium has its note in {}", .0.display())]
    InTheWay(PathBuf),
    /// It was stopped.
    #[error("stopped")]
    Cancelled,
}

impl From<TableError> for MoveError {
    fn from(error: TableError) -> Self {
        match error {
            TableError::Disk(error) => Self::Disk(error),
            error => Self::Table(error),
        }
    }
}
