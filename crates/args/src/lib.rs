//! The arguments of the program. The order of the commands is the order of the work.
//!
//! ```
//! use clap::Parser;
//! use pinewrit_args::{Args, Command};
//!
//! let args = Args::try_parse_from(["pinewrit", "write", "os.img.xz", "--to", "PX-7Q2"])?;
//! assert!(matches!(args.command, Command::Write(_)));
//! # Ok::<(), clap::Error>(())
//! ```

#![allow(
    missing_docs,
    rustdoc::broken_intra_doc_links,
    reason = "what people read is the help of each argument, as plain text; more would be shown to them"
)]

mod batch;
mod boards;
mod check;
mod copy;
mod estimate;
mod files;
mod first_boot;
mod measure;
mod rack;
mod shelf;
mod table;
mod watch;

use std::path::PathBuf;

use anstream::ColorChoice;
use clap::builder::{OsStringValueParser, TypedValueParser};
use clap::{Args as ClapArgs, CommandFactory, Parser, Subcommand, ValueEnum, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_host::Tag;
use pinewrit_image::Location;
use pinewrit_ui::Ui;
use pinewrit_volume::ErrorFlags;
use pinewrit_volume::format::FormatKind;

pub use batch::{
    BatchArgs, ExportForm, LedgerAction, LedgerArgs, LedgerExportArgs, LedgerLabelsArgs,
    LedgerListArgs, OverArg,
};
pub use boards::{BoardsAction, BoardsArgs};
pub use check::CheckArgs;
pub use copy::{AsNewArgs, CloneArgs, RescueArgs, SaveArgs};
pub use estimate::{CardSpeed, EstimateAction, EstimateArgs};
pub use files::{
    EditArgs, FatArgs, FilesAction, FilesArgs, KindArg, OverwriteArg, PutArgs, ReadArgs, UnpackArgs,
};
pub use first_boot::{CommissionArgs, DiskArg, FindArgs, TrialArgs, WantedArgs};
pub use measure::MeasureArgs;
pub use rack::{DemoArgs, RackAction, RackArgs};
pub use shelf::{AddImageArgs, ShelfAction, ShelfArgs, ShelfListArgs};
pub use table::{AddArgs, SchemeArg, TableAction, TableArgs};
pub use watch::{Baud, WatchArgs};

/// Prepares boot media for single-board computers: checked, written, verified, configured
#[derive(Debug, Parser)]
#[command(
    name = "pinewrit",
    version,
    after_help = "`pinewrit COMMAND --help` shows examples; `pinewrit --help` the exit codes.",
    after_long_help = "Exit codes: 0 done, 1 internal fault, 2 usage, 3 refused for safety, 4 source bad,\n\
                  5 medium bad, 6 differences found, 7 settings, layout, roster, board, shelf or rack file invalid,\n\
                  8 nothing found, 130 interrupted"
)]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// The arguments, with the options of every command shown by the program's own help only.
pub fn command() -> clap::Command {
    let mut command = Args::command();
    // Gives each subcommand its own copy of the global options.
    command.build();
    // It works all the same; the help fits one screen.
    let command = command.mut_subcommand("help", |help| help.hide(true));
    command.mut_subcommands(without_global)
}

fn without_global(command: clap::Command) -> clap::Command {
    let is_group = command.has_subcommands();
    let command = command.mut_args(|arg| {
        let is_global = arg.is_global_set();
        arg.hide(is_global)
    });
    if is_group {
        command.mut_subcommands(without_global)
    } else {
        command
    }
}

/// The options of every command.
#[derive(Debug, ClapArgs)]
#[command(next_help_heading = "Options of every command")]
pub struct Global {
    /// Print one JSON object per line on stdout: events, then the result
    #[arg(long, global = true)]
    pub json: bool,
    /// When to use colors
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        default_value = "auto",
        hide_short_help = true
    )]
    pub color: ColorWhen,
    /// Use simulated readers and cards
    #[arg(long, global = true, value_name = "FILE", env = "PINEWRIT_RACK", value_hint = ValueHint::FilePath)]
    pub rack: Option<PathBuf>,
    /// Where records are kept: a file, or postgres://USER@HOST/DATABASE for several stations
    #[arg(
        long,
        global = true,
        value_name = "PLACE",
        env = "PINEWRIT_LEDGER",
        hide_env_values = true,
        hide_short_help = true
    )]
    pub ledger: Option<String>,
    /// Print only the result and errors
    #[arg(
        short,
        long,
        global = true,
        conflicts_with = "verbose",
        hide_short_help = true
    )]
    pub quiet: bool,
    /// Print more details
    #[arg(short, long, global = true, hide_short_help = true)]
    pub verbose: bool,
}

impl Global {
    /// How to communicate with the user; sets colours on or off.
    pub fn ui(&self) -> Ui {
        let choice = match self.color {
            ColorWhen::Auto => ColorChoice::Auto,
            ColorWhen::Always => ColorChoice::Always,
            ColorWhen::Never => ColorChoice::Never,
        };
        choice.write_global();
        Ui {
            json: self.json,
            quiet: self.quiet,
            verbose: self.verbose,
        }
    }
}

/// When to use colours.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum ColorWhen {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Shelf(ShelfArgs),
    Boards(BoardsArgs),
    Media(MediaArgs),
    Measure(MeasureArgs),
    Estimate(EstimateArgs),
    Inspect(InspectArgs),
    Write(WriteArgs),
    Verify(VerifyArgs),
    Check(CheckArgs),
    Configure(ConfigureArgs),
    Build(BuildArgs),
    Table(TableArgs),
    Format(FormatArgs),
    Files(FilesArgs),
    Clone(CloneArgs),
    Save(SaveArgs),
    Batch(BatchArgs),
    Ledger(LedgerArgs),
    Eject(EjectArgs),
    Trial(TrialArgs),
    Find(FindArgs),
    Watch(WatchArgs),
    Commission(CommissionArgs),
    Rack(RackArgs),
    Demo(DemoArgs),
}

/// List connected media, each with its tag
///
/// A tag is the same on every port and every computer. Writable media come first.
#[derive(Debug, ClapArgs)]
pub struct MediaArgs {
    /// Also show media that are never written, and empty readers
    #[arg(long)]
    pub all: bool,
    /// Keep running, and show media as they come and go
    #[arg(long)]
    pub watch: bool,
}

/// How a medium is opened for writing.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct MediumArgs {
    /// Unmount the medium's file systems without asking
    #[arg(long)]
    pub unmount: bool,
    /// Repeat the medium's tag, for media of which Pinewrit is unsure
    #[arg(long, value_name = "TAG", value_parser = tag)]
    pub confirm: Option<Tag>,
}

fn tag(text: &str) -> Result<Tag, String> {
    Tag::parse(text).ok_or_else(|| "a tag has four or more letters and digits".to_owned())
}

/// Show what an image or a medium contains
///
/// Shows wrapping, sizes, partitions, file systems and supported boot modes. Reads no more of a
/// compressed image than necessary, and writes nothing.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit inspect larkfell-os.img.xz\n  \
    pinewrit inspect larkfell-os.img.xz --board \"Brindle B2\"\n  \
    pinewrit inspect /dev/sdx")]
pub struct InspectArgs {
    /// Image in any wrapping, card file, tag, block device, or URL
    #[arg(value_name = "SOURCE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub source: Location,
    /// Say whether this board starts from it: a name (boards list) or a board file
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    #[command(flatten)]
    pub options: SourceArgs,
}

/// How an image is opened.
#[derive(Debug, ClapArgs)]
pub struct SourceArgs {
    /// Take this member of an archive, if several could be the image
    #[arg(long, value_name = "NAME")]
    pub member: Option<String>,
    /// Give up after this many seconds without data from a server
    #[arg(long, value_name = "SECONDS", default_value_t = PATIENCE,
        value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub patience: u64,
}

impl SourceArgs {
    /// As if no option were given.
    pub fn plain() -> Self {
        Self {
            member: None,
            patience: PATIENCE,
        }
    }
}

/// Seconds without data from a server before giving up.
const PATIENCE: u64 = 60;

pub fn location() -> impl TypedValueParser<Value = Location> {
    OsStringValueParser::new().map(|text| Location::parse(&text))
}

/// Write an image to a medium and verify it
///
/// Checks source and medium first, then writes, reads everything back past the cache, adds the
/// settings, and writes the first chunk last: until then the medium has no partition table, so
/// nothing half done looks done.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit write larkfell-os.img.xz --to K7F2\n  \
    pinewrit write larkfell-os.img.xz --to K7F2 --to M3QX --to 9RT4 --eject\n  \
    pinewrit write larkfell-os.img.xz --to card.img --size 8GB --settings hut-03.toml\n  \
    pinewrit write https://larkfell.example/larkfell-os.img.xz --to /dev/sdx --keep-download")]
pub struct WriteArgs {
    /// Image in any wrapping: a file, its pieces, a medium, or a URL
    #[arg(value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub image: Location,
    /// Tag, block device or card file to write; repeat --to to write several at once
    #[arg(long, required = true, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub to: Vec<PathBuf>,
    #[command(flatten)]
    pub medium: MediumArgs,
    /// Create a card file of this size if it does not exist (8GB, 512MiB, 2048s)
    #[arg(long, value_parser = parse_size, conflicts_with = "into")]
    pub size: Option<u64>,
    /// Write an image of one file system into this partition: number, label or name
    #[arg(long, value_name = "PARTITION")]
    pub into: Option<String>,
    #[command(flatten)]
    pub options: SourceArgs,
    /// Keep the downloaded file for the next write from this URL
    #[arg(long)]
    pub keep_download: bool,
    /// sha256:HEX (or sha512, sha1, md5) or a checksum file [default: one beside the image]
    #[arg(long, value_name = "CHECKSUM")]
    pub checksum: Option<String>,
    /// Refuse an image that is not signed by the key in this file (OpenPGP or minisign)
    #[arg(long, value_name = "KEY", value_hint = ValueHint::FilePath)]
    pub signed_by: Option<PathBuf>,
    /// Add these first-boot settings
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub settings: Option<PathBuf>,
    /// How the image takes settings: cloud-init, rootfs or an intake file [default: detected]
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub intake: Option<String>,
    /// Refuse what this board does not start from: a name (boards list) or a board file
    #[arg(long, value_name = "BOARD", conflicts_with = "into")]
    pub board: Option<String>,
    /// Grow the last partition to the end of the medium (with --into: the file system)
    #[arg(long)]
    pub grow: bool,
    /// Do not read back what was written
    #[arg(long)]
    pub no_verify: bool,
    /// Compare first and write only differences: to resume, or for a new release
    #[arg(long)]
    pub only_changes: bool,
    /// Write it even if it is not a known image, or shorter than its table says
    #[arg(long, hide_short_help = true)]
    pub as_it_is: bool,
    /// Also write free space of file systems
    #[arg(long, hide_short_help = true)]
    pub every_byte: bool,
    /// Discard the medium's old content first
    #[arg(long, conflicts_with = "only_changes", hide_short_help = true)]
    pub clear_free: bool,
    /// Store a copy of the receipt here
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub receipt: Option<PathBuf>,
    /// Write an HTML report: the medium's map, its pace, slow spots, facts
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Eject the medium when it is done
    #[arg(long)]
    pub eject: bool,
    /// Check and show everything, write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// Compare a medium with an image, or with the receipt of its write
///
/// Without --image and --receipt, the receipt is found by the identifiers on the medium.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit verify K7F2\n  \
    pinewrit verify /dev/sdx --image larkfell-os.img.xz")]
pub struct VerifyArgs {
    /// Tag, block device or card file to read
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub medium: PathBuf,
    /// Image to compare with, in any wrapping
    #[arg(long, value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub image: Option<Location>,
    #[command(flatten)]
    pub options: SourceArgs,
    /// Also compare free space of file systems
    #[arg(long, requires = "image")]
    pub every_byte: bool,
    /// Receipt to compare with
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, conflicts_with = "image")]
    pub receipt: Option<PathBuf>,
}

/// Add first-boot settings to a medium that is already written
///
/// The settings are checked completely first. Either all changes are made, or none; running it
/// again changes nothing more.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit configure card.img --settings hut-03.toml --dry-run\n  \
    pinewrit configure /dev/sdx --settings hut-03.toml")]
pub struct ConfigureArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// First-boot settings
    #[arg(
        long,
        value_name = "FILE",
        value_hint = ValueHint::FilePath,
        required_unless_present = "as_new"
    )]
    pub settings: Option<PathBuf>,
    /// How the image takes settings: cloud-init, rootfs or an intake file [default: detected]
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub intake: Option<String>,
    #[command(flatten)]
    pub new: AsNewArgs,
    /// First grow the last partition to the end of the medium
    #[arg(long, requires = "settings")]
    pub grow: bool,
}

/// Build a medium from parts: partitions, file systems, files, archives, boot loaders
///
/// A layout is a TOML file that describes the medium. It is assembled in a sparse file first,
/// then written and read back like an image. Nothing is mounted, and a card file needs no root.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit build demo/layout.toml --to hut.img --size 4GB\n  \
    pinewrit build demo/layout.toml --to hut.img.xz --size 4GB\n  \
    pinewrit build demo/layout.toml --to K7F2 --eject")]
pub struct BuildArgs {
    /// Layout file
    #[arg(value_name = "LAYOUT", value_hint = ValueHint::FilePath)]
    pub layout: PathBuf,
    /// Tag, block device or card file to write; or an image: .img.zst, .img.xz, .img.gz
    #[arg(long, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub to: PathBuf,
    #[command(flatten)]
    pub access: MediumArgs,
    /// Size of a new card file or image (8GB, 512MiB, 2048s)
    #[arg(long, value_parser = parse_size)]
    pub size: Option<u64>,
    /// Add these first-boot settings
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub settings: Option<PathBuf>,
    /// How the system takes settings: cloud-init, rootfs or an intake file [default: detected]
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub intake: Option<String>,
    /// Refuse what this board does not start from: a name (boards list) or a board file
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    /// Directory for the sparse file [default: beside the target, or the temporary directory]
    #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
    pub scratch: Option<PathBuf>,
    /// Do not read back what was written
    #[arg(long)]
    pub no_verify: bool,
    #[command(flatten)]
    pub fat: FatArgs,
    /// Store a copy of the receipt here
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub receipt: Option<PathBuf>,
    /// Write an HTML report: the medium's map, its pace, slow spots, facts
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    /// Eject the medium when it is done
    #[arg(long)]
    pub eject: bool,
    /// Check everything and show the partitions, create nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// The options of every command that makes small changes to a medium.
#[derive(Debug, ClapArgs)]
pub struct ChangeArgs {
    /// Tag, block device or card file to change
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub medium: PathBuf,
    #[command(flatten)]
    pub access: MediumArgs,
    /// Change an ext file system that says it has errors, if no fault is found; it goes on saying it
    #[arg(long)]
    pub despite_flag: bool,
    /// Show what would change, change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

impl ChangeArgs {
    /// What flags of errors mean for the change.
    pub fn flags(&self) -> ErrorFlags {
        if self.despite_flag {
            ErrorFlags::Ignored
        } else {
            ErrorFlags::Respected
        }
    }
}

/// Create a file system in a partition
///
/// The content of the partition is lost; the table and the other partitions stay as they are.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit format card.img 1 --as fat32 --label BOOT\n  \
    pinewrit format K7F2 2 --as ext4 --label larkfell-root")]
pub struct FormatArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// Number, label or name of the partition
    #[arg(value_name = "PARTITION")]
    pub partition: String,
    /// fat32, fat16, fat12, fat (by size), ext4 or swap
    #[arg(long = "as", value_name = "KIND", value_parser = format_kind)]
    pub kind: FormatKind,
    /// Label: up to 11 characters (FAT), 16 bytes (ext4) or 15 bytes (swap)
    #[arg(long, default_value = "", hide_default_value = true)]
    pub label: String,
    /// Cluster (FAT) or block size (ext4) in bytes [default: by size]
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub unit: Option<u64>,
    /// Minimum number of files (ext4) [default: by size]
    #[arg(long, value_name = "COUNT")]
    pub inodes: Option<u32>,
    /// Without metadata checksums (ext4), for old boot loaders
    #[arg(long)]
    pub no_checksums: bool,
}

fn format_kind(text: &str) -> Result<FormatKind, String> {
    FormatKind::from_word(text).ok_or_else(|| {
        let words: Vec<&str> = FormatKind::WORDS.iter().map(|(word, _)| *word).collect();
        format!("it can be {}", words.join(", "))
    })
}

/// Eject a medium
///
/// Unmounts its file systems, flushes it and powers it down. Says that you can take it out only
/// when that is true.
#[derive(Debug, ClapArgs)]
pub struct EjectArgs {
    /// Tag or block device to eject
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub medium: PathBuf,
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Command as Cli;

    #[test]
    fn the_arguments_do_not_contradict_each_other() {
        super::Args::command().debug_assert();
    }

    /// Calls `visit` with each command and its full name.
    fn each(command: &Cli, path: &str, visit: &mut dyn FnMut(&Cli, &str)) {
        let path = format!("{path} {}", command.get_name());
        visit(command, path.trim());
        let below = command.get_subcommands();
        for one in below.filter(|one| one.get_name() != "help") {
            each(one, &path, visit);
        }
    }

    #[test]
    fn every_command_and_option_has_help() {
        let mut without = Vec::new();
        each(&command(), "", &mut |command, path| {
            if command.get_about().is_none() {
                without.push(path.to_owned());
            }
            for arg in command.get_arguments() {
                if arg.get_help().is_none() {
                    without.push(format!("{path} {}", arg.get_id()));
                }
            }
        });
        assert_eq!(without, [""; 0]);
    }

    #[test]
    fn options_of_every_command_are_shown_once() {
        let help = |command: &Cli| command.clone().render_long_help().to_string();
        let whole = command();
        assert!(help(&whole).contains("--rack <FILE>"));
        each(&whole, "", &mut |command, path| {
            let is_program = path == "pinewrit";
            assert_eq!(
                help(command).contains("--rack <FILE>"),
                is_program,
                "{path}"
            );
        });
    }

    #[test]
    fn short_help_fits_one_screen() {
        each(&command(), "", &mut |command, path| {
            let text = command.clone().term_width(100).render_help().to_string();
            let lines = text.lines().count();
            assert!(lines <= 40, "{path} takes {lines} lines:\n{text}");
        });
    }
}
