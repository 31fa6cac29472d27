//! Partition tables: MBR with logical partitions, and GPT.
//!
//! [`PartitionTable::read`] finds the table of a medium and says what is wrong with it;
//! [`TableEdit`] makes and changes one. Everything read from a medium is distrusted: sizes are checked,
//! chains are bounded, and a mistake becomes a [`Problem`] rather than a guess.
//!
//! ```
//! use pinewrit_disk::{MemoryDevice, SectorSize};
//! use pinewrit_table::{
//!     NewPartition, PartitionSize, PartitionTable, PartitionType, SchemeKind, TableEdit,
//! };
//!
//! let size = 64 << 20;
//! let medium = MemoryDevice::new(size);
//! let mut ids = || [0x42; 16];
//! let mut table = TableEdit::create(size as u64, SectorSize::B512, SchemeKind::Gpt, &mut ids)?;
//! let linux = PartitionType::from_text("linux", SchemeKind::Gpt).ok_or("a known word")?;
//! table.add(&NewPartition::new(linux, PartitionSize::Bytes(16 << 20)), &mut ids)?;
//! table.write(&medium)?;
//!
//! let read = PartitionTable::read(&medium)?.ok_or("it was written")?;
//! assert_eq!(read.partitions[0].range.len(), 16 << 20);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod chain;
mod edit;
mod gpt;
mod grow;
mod mbr;
mod table;
mod types;

pub use chain::ChainRecord;
pub use edit::{
    ALIGNMENT, Ids, MAX_NAME, NewPartition, PartitionSize, SchemeKind, Slot, TableEdit, TableError,
};
pub use gpt::{GptError, GptHeader};
pub use grow::{Grown, grow_last};
pub use mbr::{MBR_SIZE, Mbr, MbrEntry};
pub use table::{Partition, PartitionTable, Problem, Scheme, TableCopy};
pub use types::{PURPOSES, PartitionType, Purpose};
pub use uuid::Uuid;
