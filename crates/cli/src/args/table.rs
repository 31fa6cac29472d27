//! Arguments of `pinewrit table`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_table::PartitionSize;

use super::ChangeArgs;

/// Show and change the partition table of a medium
///
/// Every change is shown before and after. Content of partitions is never moved; changes go on the
/// medium as one, or not at all.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit table create card.img --size 8GB --scheme gpt\n  \
    pinewrit table add card.img --type fat32 --size 256MiB\n  \
    pinewrit table add card.img --type linux --size rest")]
pub(crate) struct TableArgs {
    #[command(subcommand)]
    pub(crate) action: TableAction,
}

/// A kind of partition table.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum SchemeArg {
    /// Master boot record
    Mbr,
    /// GUID partition table
    Gpt,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TableAction {
    /// Show the table, with sectors
    Show {
        /// Tag, block device or card file to read
        #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
        medium: PathBuf,
    },
    /// Make a new, empty table
    Create {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of the table
        #[arg(long, default_value = "mbr")]
        scheme: SchemeArg,
        /// Make a card file of this size if it is not there (8GB, 512MiB, 2048s)
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
    /// Give a partition another end; the file system in it keeps its size, unless it is to grow with it
    Resize {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name
        #[arg(value_name = "PARTITION")]
        partition: String,
        /// New size (256MiB, 2GB, 4096s), or `rest` for all up to the next one
        #[arg(long, value_parser = partition_size)]
        size: PartitionSize,
        /// Let the file system in it (ext2, ext3, ext4) grow to the new size
        #[arg(long)]
        with_filesystem: bool,
    },
    /// Make an MBR a GPT, or the other way round; partitions stay where they are
    Convert {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of the new table
        #[arg(long)]
        scheme: SchemeArg,
    },
    /// Mark the partition that a BIOS starts from
    Activate {
        #[command(flatten)]
        change: ChangeArgs,
        /// Number, label or name; `none` takes the mark away
        #[arg(value_name = "PARTITION")]
        partition: String,
    },
    /// Change what a partition is for
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
    /// Give a partition another name (GPT)
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
    /// Give the medium, its partitions and file systems new identifiers
    ///
    /// Command lines, boot menus and fstab on it that name the old ones follow.
    Renew {
        #[command(flatten)]
        change: ChangeArgs,
    },
    /// Take tables and marks of file systems and arrays away, and make an empty table
    Wipe {
        #[command(flatten)]
        change: ChangeArgs,
        /// Kind of the new table
        #[arg(long, default_value = "mbr")]
        scheme: SchemeArg,
    },
}

/// A partition to be added.
#[derive(Debug, ClapArgs)]
pub(crate) struct AddArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// A word (fat32, linux, esp, swap ...), two hexadecimal digits, or a GUID
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) kind: String,
    /// Size (256MiB, 2GB, 4096s), or `rest` for all of the largest gap
    #[arg(long, value_parser = partition_size)]
    pub(crate) size: PartitionSize,
    /// First byte (4MiB, 8192s); the first gap that is large enough if left out
    #[arg(long, value_parser = parse_size)]
    pub(crate) start: Option<u64>,
    /// Begin at a multiple of this
    #[arg(long, value_parser = parse_size, default_value = "1MiB", conflicts_with = "start")]
    pub(crate) align: u64,
    /// Name in the table (GPT)
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Put it in the extended partition (MBR), for more than four
    #[arg(long)]
    pub(crate) logical: bool,
    /// Mark it for starting by a BIOS
    #[arg(long)]
    pub(crate) active: bool,
}

fn partition_size(text: &str) -> Result<PartitionSize, String> {
    match text {
        "rest" => Ok(PartitionSize::Rest),
        text => parse_size(text)
            .map(PartitionSize::Bytes)
            .map_err(|e| e.to_string()),
    }
}
