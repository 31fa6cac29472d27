//! The journal of ext3 and ext4: what a file system that was cut off still has to be given.
//!
//! A transaction is a run of descriptor blocks, each followed by the blocks that it describes, of
//! lists of revoked blocks, and of a commit block. What was committed is written to its place when
//! the file system is used next. This crate finds what that is; reading and writing blocks is left
//! to the caller.
//!
//! Layout: the kernel's ext4 documentation, "Journal (jbd2)". All integers are big-endian. No number
//! is trusted.
//!
//! An empty journal has nothing to give:
//!
//! ```
//! use pinewrit_ext4_journal::{Head, Replay};
//!
//! let head = Head::empty(4096, 1024);
//! let block = head.to_block();
//! assert_eq!(Head::parse(&block, 4096, 1024)?, head);
//! let replay = Replay::find(&head, &mut |_, _| Ok::<(), std::io::Error>(()))?;
//! assert_eq!((replay.transactions, replay.blocks.len()), (0, 0));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod head;
mod log;

pub use head::{Features, Head};
pub use log::{ReadBlock, Replay, Saved};

/// What every block of the journal that is not data begins with.
const MAGIC: u32 = 0xc03b_3998;

/// Why a journal cannot be replayed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum JournalError {
    /// Its superblock is impossible.
    #[error("its superblock is damaged")]
    Head,
    /// It has features that are not known here: their bits.
    #[error("it has unknown features ({0:#x})")]
    Unknown(u32),
    /// The last changes are kept in a form that is not replayed here.
    #[error("its last changes are fast commits, which only the system replays")]
    FastCommits,
    /// A committed transaction is damaged.
    #[error("transaction {sequence} is damaged: {what}")]
    Damaged {
        /// Number of the transaction.
        sequence: u32,
        /// What is wrong, in words.
        what: &'static str,
    },
}

/// Either the journal is bad, or its blocks could not be read.
#[derive(Debug, thiserror::Error)]
pub enum ReplayError<E> {
    /// The journal is bad.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// A block could not be read.
    #[error("a block of the journal could not be read")]
    Read(#[source] E),
}

/// The number at `at`, or 0 past the end.
fn big(bytes: &[u8], at: usize) -> u32 {
    bytes
        .get(at..)
        .and_then(|rest| rest.first_chunk())
        .map_or(0, |raw| u32::from_be_bytes(*raw))
}

/// CRC-32C continued from `seed`, without the usual inversions at both ends.
fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// The checksum of a block in which the checksum itself, at `at`, counts as zero.
fn crc32c_without(seed: u32, block: &[u8], at: usize) -> u32 {
    let sum = crc32c(crc32c(seed, &block[..at]), &[0; 4]);
    crc32c(sum, &block[at + 4..])
}
