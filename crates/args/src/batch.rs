//! Arguments of `pinewrit batch` and `pinewrit ledger`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueEnum, ValueHint};

/// Make many units: each medium that is inserted gets the next one
///
/// Watches the readers. A medium that appears after the start, or that --to names, gets the next
/// unit of the roster: written, verified, configured, recorded, ejected. ^C once finishes the media
/// that are being written; twice stops them. The same command goes on where it stopped, on this
/// station or another one.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit batch huts.toml --dry-run\n  \
    pinewrit batch huts.toml\n  \
    pinewrit batch huts.toml --to K7F2 --only larkfell-03\n  \
    pinewrit batch huts.toml --again larkfell-03 --labels labels.html")]
pub struct BatchArgs {
    /// The roster: shared settings, images, and all units
    #[arg(value_name = "ROSTER", value_hint = ValueHint::FilePath)]
    pub roster: PathBuf,
    /// Also use this medium, which is there already; repeatable
    #[arg(long, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub to: Vec<PathBuf>,
    /// Make only this unit; repeatable
    #[arg(long, value_name = "UNIT")]
    pub only: Vec<String>,
    /// Make this unit once more, although it is done; repeatable
    #[arg(long, value_name = "UNIT")]
    pub again: Vec<String>,
    /// Make this unit first
    #[arg(long, value_name = "UNIT")]
    pub next: Option<String>,
    /// Write at most so many media at once
    #[arg(long, value_name = "N", default_value_t = 8, value_parser = clap::value_parser!(u16).range(1..=64))]
    pub at_once: u16,
    /// What may be overwritten without asking for the medium's tag
    #[arg(long, value_name = "WHAT", default_value = "nothing")]
    pub over: OverArg,
    /// Unmount what the desktop mounts when a medium is plugged in
    #[arg(long)]
    pub unmount: bool,
    /// Refuse what this board does not start from; instead of the roster's own
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    /// Boot every Nth finished medium in an emulator, and compare it with its settings
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub trial: Option<u16>,
    /// The private key with which trials log in [default: the agent]
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, requires = "trial")]
    pub trial_key: Option<PathBuf>,
    /// Leave finished media as they are
    #[arg(long)]
    pub no_eject: bool,
    /// Ring the terminal's bell when a medium is finished or fails
    #[arg(long)]
    pub bell: bool,
    /// Write a page with all units when it ends
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Check the roster, its images and all settings; write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Seconds without a sign of life after which another station may make a unit
    #[arg(
        long,
        value_name = "SECONDS",
        default_value_t = 120,
        hide_short_help = true
    )]
    pub lease: u64,
}

/// What a batch may overwrite.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum OverArg {
    /// Only media without files, and the batch's own
    Nothing,
    /// Whatever is on a medium that is inserted
    Any,
}

/// The workshop's records: which unit got which medium, and what became of it
#[derive(Debug, ClapArgs)]
pub struct LedgerArgs {
    #[command(subcommand)]
    pub action: LedgerAction,
}

#[derive(Debug, Subcommand)]
pub enum LedgerAction {
    /// List what was made, the latest first
    List(LedgerListArgs),
    /// Show everything about a unit, a medium or a record
    Show {
        /// A unit's name, a medium's tag, or the beginning of a record's identifier
        #[arg(value_name = "UNIT|TAG|ID")]
        name: String,
    },
    /// Find records by the beginning of any word in them
    Find {
        /// Host name, address, tag, serial number, image, checksum, identifier ...
        #[arg(value_name = "TEXT", required = true)]
        text: Vec<String>,
        /// Show at most so many
        #[arg(long, value_name = "N", default_value_t = 50)]
        last: u32,
    },
    /// Say which unit a medium is, and whether it is still what was written
    Verify {
        /// Tag, block device or card file
        #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
        medium: PathBuf,
    },
    /// Add a remark to a record
    Note {
        /// A unit's name, a medium's tag, or the beginning of a record's identifier
        #[arg(value_name = "UNIT|TAG|ID")]
        name: String,
        /// The remark
        #[arg(value_name = "TEXT")]
        text: String,
    },
    /// Write all records to files
    Export(LedgerExportArgs),
    /// Take in receipts from files or directories
    Import {
        /// Receipts, or directories of them
        #[arg(value_name = "FILE", required = true, value_hint = ValueHint::AnyPath)]
        files: Vec<PathBuf>,
    },
    /// Write a page with units, media and their pace, failures, and what is not commissioned
    Page {
        /// The page
        #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
        to: PathBuf,
        /// Show only this batch
        #[arg(long, value_name = "NAME")]
        batch: Option<String>,
    },
    /// Write a sheet of labels to be printed, each with a code that a phone reads
    Labels(LedgerLabelsArgs),
    /// Send records that were kept here because the ledger could not be reached
    Sync,
}

#[derive(Debug, ClapArgs)]
pub struct LedgerListArgs {
    /// Show at most so many
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub last: u32,
    /// Show the units of this batch, done or not
    #[arg(long, value_name = "NAME")]
    pub batch: Option<String>,
    /// Show the units whose image has a newer version on the shelf
    #[arg(long, conflicts_with_all = ["batch", "last"])]
    pub older: bool,
}

#[derive(Debug, ClapArgs)]
pub struct LedgerLabelsArgs {
    /// The sheet
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub to: PathBuf,
    /// Labels for the units of this batch
    #[arg(long, value_name = "NAME")]
    pub batch: Option<String>,
    /// Labels for these units, tags or records; repeatable
    #[arg(long, value_name = "UNIT|TAG|ID")]
    pub only: Vec<String>,
    /// Without --batch and --only: labels for so many of the latest records
    #[arg(long, value_name = "N", default_value_t = 24)]
    pub last: u32,
    /// Labels beside and below each other
    #[arg(long, value_name = "COLSxROWS", default_value = "3x8", value_parser = pair::<u32>)]
    pub sheet: (u32, u32),
    /// Width and height of a label in millimetres
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "64x34", value_parser = pair::<f64>)]
    pub size: (f64, f64),
    /// Width and height of the paper in millimetres
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "210x297", value_parser = pair::<f64>)]
    pub paper: (f64, f64),
    /// An address for the code, with {unit}, {host-name}, {address}, {tag} and {record} [default: JSON]
    #[arg(long, value_name = "TEMPLATE")]
    pub address: Option<String>,
}

/// Two positive numbers, as in `3x8`.
fn pair<T: std::str::FromStr + PartialOrd + From<u8>>(text: &str) -> Result<(T, T), String> {
    let wrong = || "two numbers, as in 3x8".to_owned();
    let (first, second) = text.split_once(['x', '×']).ok_or_else(wrong)?;
    let number = |text: &str| {
        let number = text.trim().parse::<T>().ok();
        number.filter(|number| *number >= T::from(1))
    };
    Ok((
        number(first).ok_or_else(wrong)?,
        number(second).ok_or_else(wrong)?,
    ))
}

#[derive(Debug, ClapArgs)]
pub struct LedgerExportArgs {
    /// The form
    #[arg(long = "as", value_name = "FORM")]
    pub form: ExportForm,
    /// The file; a directory for receipts [default: standard output]
    #[arg(long, value_name = "FILE", value_hint = ValueHint::AnyPath)]
    pub to: Option<PathBuf>,
}

/// The form of exported records.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ExportForm {
    /// A table with a header
    Csv,
    /// One JSON object per line
    Json,
    /// A receipt file for each record
    Receipts,
}
