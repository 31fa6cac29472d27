//! Arguments of `pinewrit files`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum, ValueHint};
use jiff::tz::TimeZone;
use pinewrit_image::Location;
use pinewrit_volume::files::{Place, TextKind, time_zone};

use super::{ChangeArgs, location};

/// Look at and change files inside a medium or an image, without mounting it
///
/// PLACE is PARTITION:/path: the partition by number, label or name, `boot`, `root`, or `whole` on a medium without a table.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit files tree larkfell-os.img.xz boot:/\n  \
    pinewrit files read K7F2 root:/etc/os-release\n  \
    pinewrit files edit K7F2 boot:/boot.conf --on overlay\n  \
    pinewrit files unpack K7F2 root:/opt wind-log.tar.xz --strip 1")]
pub struct FilesArgs {
    #[command(subcommand)]
    pub action: FilesAction,
}

#[derive(Debug, Subcommand)]
pub enum FilesAction {
    /// List a directory
    List {
        #[command(flatten)]
        at: ReadArgs,
        /// Print a recursive list for `files check`
        #[arg(long)]
        expected: bool,
    },
    /// Show a directory recursively
    Tree {
        #[command(flatten)]
        at: ReadArgs,
        /// Show this many levels only
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
    },
    /// Print a file, or copy a file or directory to this computer
    Read {
        #[command(flatten)]
        at: ReadArgs,
        /// Copy to this file, or a directory to this directory, which is created
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        to: Option<PathBuf>,
    },
    /// Copy a file or directory from this computer to the medium
    Put(PutArgs),
    /// Create a directory, with its parents
    MakeFolder {
        #[command(flatten)]
        change: ChangeArgs,
        /// The new directory: PARTITION:/path
        #[arg(value_name = "PLACE")]
        place: Place,
        /// Permissions, in octal digits (not on FAT)
        #[arg(long, value_parser = mode, default_value = "0755")]
        mode: u16,
        /// User and group ids (not on FAT)
        #[arg(long, value_name = "UID:GID", value_parser = owner, default_value = "0:0")]
        owner: (u32, u32),
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Rename or move a file or directory within its partition
    Move {
        #[command(flatten)]
        change: ChangeArgs,
        /// What to move: PARTITION:/path
        #[arg(value_name = "PLACE")]
        place: Place,
        /// Its new path, or a directory if it ends with /
        #[arg(value_name = "PATH")]
        to: String,
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Remove a file, a link or an empty directory
    Remove {
        #[command(flatten)]
        change: ChangeArgs,
        /// What to remove: PARTITION:/path, as in boot:/overlays/snow
        #[arg(value_name = "PLACE")]
        place: Place,
        /// Remove a directory with everything below it
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Unpack an archive over existing files
    Unpack(UnpackArgs),
    /// Edit one thing in a text file
    Edit(Box<EditArgs>),
    /// Compare a directory with a list of expected files
    Check {
        #[command(flatten)]
        at: ReadArgs,
        /// The list, as `files list --expected` prints it
        #[arg(value_name = "LIST", value_hint = ValueHint::FilePath)]
        list: PathBuf,
    },
}

/// What to read.
#[derive(Debug, ClapArgs)]
pub struct ReadArgs {
    /// Tag, block device, card file, or image in any wrapping
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath, value_parser = location())]
    pub source: Location,
    /// Where in it: PARTITION:/path, as in boot:/ or root:/etc/hostname
    #[arg(value_name = "PLACE")]
    pub place: Place,
    #[command(flatten)]
    pub fat: FatArgs,
}

/// How a FAT is interpreted.
#[derive(Debug, ClapArgs)]
pub struct FatArgs {
    /// Time zone of times on FAT: UTC, local, Europe/Vienna, +02:00 ...
    #[arg(long, value_name = "ZONE", default_value = "UTC", value_parser = zone)]
    pub fat_zone: TimeZone,
}

impl Default for FatArgs {
    fn default() -> Self {
        Self {
            fat_zone: TimeZone::UTC,
        }
    }
}

fn zone(text: &str) -> Result<TimeZone, String> {
    let found = match text {
        "local" => local_zone(),
        named => time_zone(named),
    };
    found.ok_or_else(|| {
        "a zone such as Europe/Vienna, an offset such as +02:00, UTC or local".to_owned()
    })
}

/// That of this computer (localtime(5)).
fn local_zone() -> Option<TimeZone> {
    let rules = std::fs::read("/etc/localtime").ok()?;
    TimeZone::tzif("local", &rules).ok()
}

#[derive(Debug, ClapArgs)]
pub struct PutArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// Destination, or a directory if it ends with /
    #[arg(value_name = "PLACE")]
    pub place: Place,
    /// File or directory on this computer; with / at its end, only the directory's content
    #[arg(value_name = "FILE", value_hint = ValueHint::AnyPath)]
    pub file: PathBuf,
    /// Permissions, in octal digits (not on FAT)
    #[arg(long, value_parser = mode)]
    pub mode: Option<u16>,
    /// User and group ids (not on FAT)
    #[arg(long, value_name = "UID:GID", value_parser = owner)]
    pub owner: Option<(u32, u32)>,
    #[command(flatten)]
    pub fat: FatArgs,
}

/// What happens to existing files.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum OverwriteArg {
    /// Replace them with newer ones
    Newer,
    /// Replace them
    Always,
    /// Keep them
    Never,
}

#[derive(Debug, ClapArgs)]
pub struct UnpackArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// The destination directory
    #[arg(value_name = "PLACE")]
    pub place: Place,
    /// A tar, zip or 7z archive in any compression, or its URL
    #[arg(value_name = "ARCHIVE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub archive: Location,
    /// Only this member, or what is below it; repeatable, with * and ?
    #[arg(long, value_name = "MEMBER")]
    pub pick: Vec<String>,
    /// Strip this many leading directories from all names
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub strip: usize,
    /// What happens to existing files
    #[arg(long, value_name = "WHEN", default_value = "newer")]
    pub overwrite: OverwriteArg,
    #[command(flatten)]
    pub fat: FatArgs,
}

#[derive(Debug, ClapArgs)]
#[group(skip)]
pub struct EditArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// The text file
    #[arg(value_name = "PLACE")]
    pub place: Place,
    #[command(flatten)]
    pub what: WhatArgs,
    /// Only in the section or block with this heading; a new line goes there
    #[arg(long, value_name = "NAME")]
    pub section: Option<String>,
    /// Insert a new line after this one
    #[arg(
        long,
        value_name = "LINE",
        requires = "line",
        conflicts_with = "section"
    )]
    pub after: Option<String>,
    /// The kind of text [default: detected]
    #[arg(long, value_name = "KIND")]
    pub kind: Option<KindArg>,
    /// Keep the original beside it, as NAME.orig
    #[arg(long)]
    pub keep_original: bool,
    #[command(flatten)]
    pub fat: FatArgs,
}

/// The kind of a text.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum KindArg {
    /// key=value lines
    Assignments,
    /// key value lines
    Pairs,
    /// key=value lines in sections with [headings]
    Sections,
    /// key value lines in blocks that begin with a keyword, such as label
    Blocks,
    /// Settings, and blocks in braces, such as menuentry "..." {
    Braces,
}

impl KindArg {
    pub fn kind(self) -> TextKind {
        match self {
            Self::Assignments => TextKind::Assignments,
            Self::Pairs => TextKind::Pairs,
            Self::Sections => TextKind::Sections,
            Self::Blocks => TextKind::Blocks,
            Self::Braces => TextKind::Braces,
        }
    }
}

/// What an edit does: one of them.
#[derive(Debug, ClapArgs)]
#[group(required = true, multiple = false)]
pub struct WhatArgs {
    /// Ensure that this line exists
    #[arg(long, value_name = "TEXT")]
    pub line: Option<String>,
    /// Set a key to a value
    #[arg(long, value_name = "KEY=VALUE", value_parser = assignment)]
    pub set: Option<(String, String)>,
    /// Remove the lines that set this key
    #[arg(long, value_name = "KEY")]
    pub unset: Option<String>,
    /// Remove this line
    #[arg(long, value_name = "TEXT")]
    pub remove_line: Option<String>,
    /// Remove the block with this heading: `label rescue`, `menuentry "Rescue"`, `[rescue]`
    #[arg(long, value_name = "HEAD")]
    pub remove_block: Option<String>,
    /// Uncomment a line, by its text or key
    #[arg(long, value_name = "LINE")]
    pub on: Option<String>,
    /// Comment a line out
    #[arg(long, value_name = "LINE")]
    pub off: Option<String>,
    /// Ensure that a one-line command line has this word
    #[arg(long, value_name = "WORD")]
    pub word: Option<String>,
    /// Replace a word, or a key with its =
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    pub replace_word: Option<Vec<String>>,
    /// Remove a word, or a key with its =
    #[arg(long, value_name = "WORD")]
    pub remove_word: Option<String>,
}

fn assignment(text: &str) -> Result<(String, String), String> {
    let parts = text.split_once('=');
    let parts = parts.filter(|(key, _)| !key.trim().is_empty());
    let (key, value) = parts.ok_or("it is written KEY=VALUE")?;
    Ok((key.trim().to_owned(), value.to_owned()))
}

fn mode(text: &str) -> Result<u16, String> {
    let mode = u16::from_str_radix(text, 8).ok();
    mode.filter(|mode| *mode <= 0o7777)
        .ok_or_else(|| "octal digits, such as 0644".to_owned())
}

fn owner(text: &str) -> Result<(u32, u32), String> {
    let numbers = text
        .split_once(':')
        .and_then(|(uid, gid)| Some((uid.parse().ok()?, gid.parse().ok()?)));
    numbers.ok_or_else(|| "two numbers, such as 1000:1000".to_owned())
}
