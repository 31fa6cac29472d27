//! Arguments of `pinewrit table`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_table::{PartitionSize, SchemeKind};

use super::ChangeArgs;

/// Show and change the partition table of a medium
///
/// Every change is shown before and after; either all of it is made, or nothing. Only `move` moves the
/// content of partitions.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit table create card.img --size 8GB --scheme gpt\n  \
    pinewrit table add card.img --type fat32 --size 256MiB\n  \
    pinewrit table add card.img --type linux --size rest")]
pub struct TableArgs {
    #[command(subcommand)]
    pub action: TableAction,
}

/// A kind of partition table.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum SchemeArg {
    /// Master boot record
    Mbr,
    /// GUID partition table
    Gpt,
}

impl SchemeArg {
    pub fn kind(self) -> SchemeKind {
        match self {
            Self::Mbr => SchemeKind::Mbr,
            Self::Gpt => SchemeKind::Gpt,
        }
    }
}

#[derive(Debug, Subcommand)]
pub enum TableAction {
    /// Show the table, with sectors
    Show {
        /// Tag, block device or card file to read
        #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
        medium: PathBuf,
    },
    /// Create a new, empty table
    Create {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of table
        #[arg(long, default_value = "mbr")]
        scheme: SchemeArg,
        /// Create a card file of this size if it does not exist (8GB, 512MiB, 2048s)
        #[arg(long, value_parser = parse_size)]
        size: Option<u64>,
    },
    /// Add a partition
    Add(AddArgs),
    /// Remove a partition
    Remove {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
    },
    /// Move a partition's end; its file system keeps its size unless you say otherwise
    Resize {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
        /// New size (256MiB, 2GB, 4096s), or `rest` for everything up to the next partition
        #[arg(long, value_parser = partition_size)]
        size: PartitionSize,
        /// Resize its file system (FAT, ext2, ext3, ext4) with it; what is in it stays
        #[arg(long)]
        with_filesystem: bool,
    },
    /// Move a partition with its content; run it again if it was interrupted
    Move {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
        /// New first byte (64MiB, 131072s)
        #[arg(long, value_name = "START", value_parser = parse_size)]
        to: u64,
    },
    /// Convert MBR to GPT or back; partitions stay where they are
    Convert {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of the new table
        #[arg(long)]
        scheme: SchemeArg,
    },
    /// Mark the partition that a BIOS boots
    Activate {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name; `none` removes the mark
        #[arg(value_name = "PARTITION")]
        partition: String,
    },
    /// Set a partition's type
    Type {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
        /// A word (fat32, linux, esp, swap ...), two hexadecimal digits, or a GUID
        #[arg(value_name = "TYPE")]
        kind: String,
    },
    /// Rename a partition (GPT)
    Name {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
        /// The new name, up to 36 characters
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Generate new identifiers for the medium, its partitions and file systems
    ///
    /// Command lines, boot menus and fstab on the medium are updated.
    Renew {
        #[command(flatten)]
        change: ChangeArgs,
    },
    /// Remove all tables and signatures, and write an empty table
    Wipe {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of the new table
        #[arg(long, default_value = "mbr")]
        scheme: SchemeArg,
    },
}

/// A partition to add.
#[derive(Debug, ClapArgs)]
pub struct AddArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// A word (fat32, linux, esp, swap ...), two hexadecimal digits, or a GUID
    #[arg(long = "type", value_name = "TYPE")]
    pub kind: String,
    /// Size (256MiB, 2GB, 4096s), or `rest` for the whole largest gap
    #[arg(long, value_parser = partition_size)]
    pub size: PartitionSize,
    /// First byte (4MiB, 8192s) [default: the first gap that is large enough]
    #[arg(long, value_parser = parse_size)]
    pub start: Option<u64>,
    /// Start at a multiple of this
    #[arg(long, value_parser = parse_size, default_value = "1MiB", conflicts_with = "start")]
    pub align: u64,
    /// Name in the table (GPT)
    #[arg(long)]
    pub name: Option<String>,
    /// Create it in the extended partition (MBR), for more than four
    #[arg(long)]
    pub logical: bool,
    /// Mark it as the one that a BIOS boots
    #[arg(long)]
    pub active: bool,
}

fn partition_size(text: &str) -> Result<PartitionSize, String> {
    match text {
        "rest" => Ok(PartitionSize::Rest),
        text => parse_size(text)
            .map(PartitionSize::Bytes)
            .map_err(|e| e.to_string()),
    }
}
