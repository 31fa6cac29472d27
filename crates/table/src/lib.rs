//! Partition tables: MBR with logical partitions, and GPT.
//!
//! [`PartitionTable::read`] finds the table of a medium and says what is wrong with it;
//! [`TableEdit`] makes and changes one. Everything read from a medium is distrusted: sizes are checked,
//! chains are bounded, and a mistake becomes a [`Problem`] rather than a guess.

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
