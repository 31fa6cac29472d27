//! Partition tables: MBR with logical partitions, and GPT.
//!
//! [`PartitionTable::read`] finds the table of a medium and says what is wrong with it;
//! [`Mbr::to_bytes`] makes one. Everything read from a medium is distrusted: sizes are checked,
//! chains are bounded, and a mistake becomes a [`Problem`] rather than a guess.

mod chain;
mod gpt;
mod grow;
mod mbr;
mod table;
mod types;

pub use chain::ChainRecord;
pub use gpt::{GptError, GptHeader};
pub use grow::{GrowError, Grown, grow_last};
pub use mbr::{MBR_SIZE, Mbr, MbrEntry};
pub use table::{Partition, PartitionTable, Problem, Scheme, TableCopy};
pub use types::PartitionType;
pub use uuid::Uuid;
