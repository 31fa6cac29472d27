//! Arguments of `pinewrit files`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum, ValueHint};
use jiff::tz::TimeZone;
use pinewrit_image::Location;
use pinewrit_volume::files::{Place, TextKind, time_zone};

use super::{ChangeArgs, location};

/// Look at and change files inside a medium or an image, without mounting it
///
/// PLACE is PARTITION:/path; the partition by number, label or name, or `boot`, `root`, and `whole` on a medium without a table.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit files tree larkfell-os.img.xz boot:/\n  \
    pinewrit files read K7F2 root:/etc/os-release\n  \
    pinewrit files edit K7F2 boot:/boot.conf --on overlay\n  \
    pinewrit files unpack K7F2 root:/opt wind-log.tar.xz --strip 1")]
pub(crate) struct FilesArgs {
    #[command(subcommand)]
    pub(crate) action: FilesAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum FilesAction {
    /// List what is in a folder
    List {
        #[command(flatten)]
        at: ReadArgs,
        /// Print a list for `files check`, with all below
        #[arg(long)]
        expected: bool,
    },
    /// Show a folder with all below it
    Tree {
        #[command(flatten)]
        at: ReadArgs,
        /// So many levels only
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
    },
    /// Print a file, or copy a file or folder to this computer
    Read {
        #[command(flatten)]
        at: ReadArgs,
        /// Copy it into this file; a folder into this folder, which is made
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        to: Option<PathBuf>,
    },
    /// Put a file or folder of this computer on the medium
    Put(PutArgs),
    /// Make a folder, with all above it
    MakeFolder {
        #[command(flatten)]
        change: ChangeArgs,
        /// The new folder: PARTITION:/path
        #[arg(value_name = "PLACE")]
        place: Place,
        /// Permissions, in octal digits (not on FAT)
        #[arg(long, value_parser = mode, default_value = "0755")]
        mode: u16,
        /// Numbers of user and group (not on FAT)
        #[arg(long, value_name = "UID:GID", value_parser = owner, default_value = "0:0")]
        owner: (u32, u32),
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Give a file or folder another name, or another folder on the same partition
    Move {
        #[command(flatten)]
        change: ChangeArgs,
        /// What moves: PARTITION:/path
        #[arg(value_name = "PLACE")]
        place: Place,
        /// Its new path, or a folder if it ends with /
        #[arg(value_name = "PATH")]
        to: String,
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Remove a file, a link or an empty folder
    Remove {
        #[command(flatten)]
        change: ChangeArgs,
        /// What goes: PARTITION:/path, as in boot:/overlays/snow
        #[arg(value_name = "PLACE")]
        place: Place,
        /// A folder with all below it
        #[arg(long)]
        all: bool,
        #[command(flatten)]
        fat: FatArgs,
    },
    /// Put an archive's content over what is there
    Unpack(UnpackArgs),
    /// Change a text, and nothing else in it
    Edit(Box<EditArgs>),
    /// Compare a folder with a list of what should be there
    Check {
        #[command(flatten)]
        at: ReadArgs,
        /// The list, as `files list --expected` prints it
        #[arg(value_name = "LIST", value_hint = ValueHint::FilePath)]
        list: PathBuf,
    },
}

/// Where is read.
#[derive(Debug, ClapArgs)]
pub(crate) struct ReadArgs {
    /// Tag, block device, card file, or image in any wrapping
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) source: Location,
    /// Where in it: PARTITION:/path, as in boot:/ or root:/etc/hostname
    #[arg(value_name = "PLACE")]
    pub(crate) place: Place,
    #[command(flatten)]
    pub(crate) fat: FatArgs,
}

/// How a FAT is understood.
#[derive(Debug, ClapArgs)]
pub(crate) struct FatArgs {
    /// Zone whose local time a FAT keeps: UTC, local, Europe/Vienna, +02:00 ...
    #[arg(long, value_name = "ZONE", default_value = "UTC", value_parser = zone)]
    pub(crate) fat_zone: TimeZone,
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
pub(crate) struct PutArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// The file's new place, or a folder if it ends with /
    #[arg(value_name = "PLACE")]
    pub(crate) place: Place,
    /// The file or folder on this computer; with / at its end, only what is in the folder
    #[arg(value_name = "FILE", value_hint = ValueHint::AnyPath)]
    pub(crate) file: PathBuf,
    /// Permissions, in octal digits (not on FAT)
    #[arg(long, value_parser = mode)]
    pub(crate) mode: Option<u16>,
    /// Numbers of user and group (not on FAT)
    #[arg(long, value_name = "UID:GID", value_parser = owner)]
    pub(crate) owner: Option<(u32, u32)>,
    #[command(flatten)]
    pub(crate) fat: FatArgs,
}

/// What becomes of files that are there already.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum OverwriteArg {
    /// Younger ones replace them
    Newer,
    /// They are replaced
    Always,
    /// They stay
    Never,
}

#[derive(Debug, ClapArgs)]
pub(crate) struct UnpackArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// The folder that it goes into
    #[arg(value_name = "PLACE")]
    pub(crate) place: Place,
    /// A tar, zip or 7z archive in any packing, or its address
    #[arg(value_name = "ARCHIVE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) archive: Location,
    /// Only this member, or what is below it; may be given several times, and with * and ?
    #[arg(long, value_name = "MEMBER")]
    pub(crate) pick: Vec<String>,
    /// Take so many folders off the front of all names
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub(crate) strip: usize,
    /// What becomes of files that are there already
    #[arg(long, value_name = "WHEN", default_value = "newer")]
    pub(crate) overwrite: OverwriteArg,
    #[command(flatten)]
    pub(crate) fat: FatArgs,
}

#[derive(Debug, ClapArgs)]
#[group(skip)]
pub(crate) struct EditArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// The text
    #[arg(value_name = "PLACE")]
    pub(crate) place: Place,
    #[command(flatten)]
    pub(crate) what: WhatArgs,
    /// Only in the section or block with this head; a new line goes there
    #[arg(long, value_name = "NAME")]
    pub(crate) section: Option<String>,
    /// A new line goes after this one
    #[arg(
        long,
        value_name = "LINE",
        requires = "line",
        conflicts_with = "section"
    )]
    pub(crate) after: Option<String>,
    /// What the text is made of; told by looking at it if left out
    #[arg(long, value_name = "KIND")]
    pub(crate) kind: Option<KindArg>,
    /// Keep the text as it was beside it, with .orig at its name
    #[arg(long)]
    pub(crate) keep_original: bool,
    #[command(flatten)]
    pub(crate) fat: FatArgs,
}

/// What a text is made of.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum KindArg {
    /// key=value lines
    Assignments,
    /// key value lines
    Pairs,
    /// key=value lines in sections with [heads]
    Sections,
    /// key value lines in blocks that begin with a keyword, such as label
    Blocks,
    /// Settings, and blocks in braces, such as menuentry "..." {
    Braces,
}

impl KindArg {
    pub(crate) fn kind(self) -> TextKind {
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
pub(crate) struct WhatArgs {
    /// A line that is to be there
    #[arg(long, value_name = "TEXT")]
    pub(crate) line: Option<String>,
    /// A key and its value
    #[arg(long, value_name = "KEY=VALUE", value_parser = assignment)]
    pub(crate) set: Option<(String, String)>,
    /// A key that no line is to set
    #[arg(long, value_name = "KEY")]
    pub(crate) unset: Option<String>,
    /// A line that is to go
    #[arg(long, value_name = "TEXT")]
    pub(crate) remove_line: Option<String>,
    /// A block that is to go, by its head: `label rescue`, `menuentry "Rescue"`, `[rescue]`
    #[arg(long, value_name = "HEAD")]
    pub(crate) remove_block: Option<String>,
    /// A line that is commented out, by its text or key, and is to count
    #[arg(long, value_name = "LINE")]
    pub(crate) on: Option<String>,
    /// A line that is to be commented out
    #[arg(long, value_name = "LINE")]
    pub(crate) off: Option<String>,
    /// A word that a command line of one line is to have
    #[arg(long, value_name = "WORD")]
    pub(crate) word: Option<String>,
    /// A word, or a key with its =, and what stands there then
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    pub(crate) replace_word: Option<Vec<String>>,
    /// A word, or a key with its =, that it is not to have
    #[arg(long, value_name = "WORD")]
    pub(crate) remove_word: Option<String>,
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
