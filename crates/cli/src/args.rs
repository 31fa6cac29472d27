//! The arguments. The order of the commands is the order of the work.

mod estimate;
mod files;
mod table;

use std::path::PathBuf;

use clap::builder::{OsStringValueParser, TypedValueParser};
use clap::{Args as ClapArgs, CommandFactory, Parser, Subcommand, ValueEnum, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_host::Tag;
use pinewrit_image::Location;
use pinewrit_volume::format::FormatKind;

pub(crate) use estimate::{EstimateAction, EstimateArgs};
pub(crate) use files::{
    EditArgs, FatArgs, FilesAction, FilesArgs, KindArg, OverwriteArg, PutArgs, ReadArgs, UnpackArgs,
};
pub(crate) use table::{AddArgs, SchemeArg, TableAction, TableArgs};

/// Prepares boot media for single-board computers: checked, written, verified, configured
#[derive(Debug, Parser)]
#[command(
    version,
    after_help = "Exit codes: 0 done, 1 internal fault, 2 usage, 3 refused for safety, 4 source bad,\n\
                  5 medium bad, 6 differences found, 7 settings, layout or rack file invalid, 130 interrupted"
)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// The arguments, with the options of every command shown by the program's own help only.
pub(crate) fn command() -> clap::Command {
    let mut command = Args::command();
    // Gives each subcommand its copy of them.
    command.build();
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

/// What every command takes.
#[derive(Debug, ClapArgs)]
#[command(next_help_heading = "Options of every command")]
pub(crate) struct Global {
    /// Print one JSON object a line on stdout: events, then the result
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// When to use colours
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: ColorWhen,
    /// Use simulated readers and cards instead of the computer's
    #[arg(long, global = true, value_name = "FILE", env = "PINEWRIT_RACK", value_hint = ValueHint::FilePath)]
    pub(crate) rack: Option<PathBuf>,
    /// Say nothing but the result and errors
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say more
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
}

/// When to use colours.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ColorWhen {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Media(MediaArgs),
    Inspect(InspectArgs),
    Write(WriteArgs),
    Verify(VerifyArgs),
    Configure(ConfigureArgs),
    Build(BuildArgs),
    Table(TableArgs),
    Format(FormatArgs),
    Files(FilesArgs),
    Estimate(EstimateArgs),
    Eject(EjectArgs),
    Rack(RackArgs),
    Demo(DemoArgs),
}

/// List the media that are plugged in, each with its tag
///
/// A tag stays the same on every port and every computer. What can be written comes first.
#[derive(Debug, ClapArgs)]
pub(crate) struct MediaArgs {
    /// Show also what is never written, and readers that hold nothing
    #[arg(long)]
    pub(crate) all: bool,
    /// Wait, and show what comes and goes
    #[arg(long)]
    pub(crate) watch: bool,
}

/// How a medium is opened for writing.
#[derive(Clone, Debug, Default, ClapArgs)]
pub(crate) struct MediumArgs {
    /// Unmount what is mounted of the medium, without being asked
    #[arg(long)]
    pub(crate) unmount: bool,
    /// The medium's tag once more, in scripts, for media of which Pinewrit is unsure
    #[arg(long, value_name = "TAG", value_parser = tag)]
    pub(crate) confirm: Option<Tag>,
}

fn tag(text: &str) -> Result<Tag, String> {
    Tag::parse(text).ok_or_else(|| "a tag has four or more letters and digits".to_owned())
}

/// Show what an image or a medium holds
///
/// Tells wrapping, sizes, partitions, file systems and the boot modes that it serves. Reads no
/// more of a packed image than needed, and writes nothing.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit inspect larkfell-os.img.xz\n  \
    pinewrit inspect /dev/sdx")]
pub(crate) struct InspectArgs {
    /// Image in any wrapping, card file, block device, or http(s) address
    #[arg(value_name = "SOURCE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) source: Location,
    #[command(flatten)]
    pub(crate) options: SourceArgs,
}

/// How an image is opened.
#[derive(Debug, ClapArgs)]
pub(crate) struct SourceArgs {
    /// Take this member of an archive, where several may be the image
    #[arg(long, value_name = "NAME")]
    pub(crate) member: Option<String>,
    /// Give a server up when nothing has arrived for so long
    #[arg(long, value_name = "SECONDS", default_value_t = PATIENCE,
        value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub(crate) patience: u64,
}

impl SourceArgs {
    /// As if no option was given.
    pub(crate) fn plain() -> Self {
        Self {
            member: None,
            patience: PATIENCE,
        }
    }
}

/// Seconds without a byte from a server after which it is given up.
const PATIENCE: u64 = 60;

pub(crate) fn location() -> impl TypedValueParser<Value = Location> {
    OsStringValueParser::new().map(|text| Location::parse(&text))
}

/// Write an image to a medium and verify it
///
/// Checks the source and the medium first, then writes, reads everything back past the cache,
/// puts the settings on it, and writes the first chunk last: until then the medium has no
/// partition table, so nothing half done looks done.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit write larkfell-os.img.xz --to K7F2\n  \
    pinewrit write larkfell-os.img.xz --to K7F2 --to M3QX --to 9RT4 --eject\n  \
    pinewrit write larkfell-os.img.xz --to card.img --size 8GB --settings hut-03.toml\n  \
    pinewrit write https://larkfell.example/larkfell-os.img.xz --to /dev/sdx --keep-download")]
pub(crate) struct WriteArgs {
    /// Image in any wrapping: a file, its pieces, a block device, or an http(s) address
    #[arg(value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) image: Location,
    /// Tag, block device or card file to write; several, each with its own --to, are written at once
    #[arg(long, required = true, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub(crate) to: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) medium: MediumArgs,
    /// Make a card file of this size if it is not there (8GB, 512MiB, 2048s)
    #[arg(long, value_parser = parse_size, conflicts_with = "into")]
    pub(crate) size: Option<u64>,
    /// Write a file system's image into this partition only: by number, label or name
    #[arg(long, value_name = "PARTITION")]
    pub(crate) into: Option<String>,
    #[command(flatten)]
    pub(crate) options: SourceArgs,
    /// Keep the download, so that the next write of this address need not fetch it again
    #[arg(long)]
    pub(crate) keep_download: bool,
    /// sha256:HEX (or sha512, sha1, md5), or a checksum file; else one beside the image is used
    #[arg(long, value_name = "CHECKSUM")]
    pub(crate) checksum: Option<String>,
    /// First-boot settings to put on the medium
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) settings: Option<PathBuf>,
    /// How the image takes them: cloud-init, rootfs, or an intake's file; else it is looked at
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub(crate) intake: Option<String>,
    /// Let the last partition take the whole medium (with --into: the file system its partition)
    #[arg(long)]
    pub(crate) grow: bool,
    /// Do not read back what was written
    #[arg(long)]
    pub(crate) no_verify: bool,
    /// Read and compare first, write only what differs: after an interruption, or for a new release
    #[arg(long)]
    pub(crate) only_changes: bool,
    /// Write what is not known to be an image, or is shorter than its table says, all the same
    #[arg(long)]
    pub(crate) as_it_is: bool,
    /// Write free space of file systems as well
    #[arg(long)]
    pub(crate) every_byte: bool,
    /// Tell the medium first that nothing on it is needed any more (discard)
    #[arg(long, conflicts_with = "only_changes")]
    pub(crate) clear_free: bool,
    /// Keep the receipt here as well
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) receipt: Option<PathBuf>,
    /// Write a page about it: the medium's map, its pace, slow spots, facts
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub(crate) report: Option<PathBuf>,
    /// Make the medium safe to take out when it is done
    #[arg(long)]
    pub(crate) eject: bool,
    /// Check and show everything, write nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

/// Compare a medium with an image, or with the receipt of its writing
///
/// Without --image and --receipt, the receipt is found by the identifiers on the medium.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit verify K7F2\n  \
    pinewrit verify /dev/sdx --image larkfell-os.img.xz")]
pub(crate) struct VerifyArgs {
    /// Tag, block device or card file to read
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub(crate) medium: PathBuf,
    /// Image that should be on it, in any wrapping
    #[arg(long, value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub(crate) image: Option<Location>,
    #[command(flatten)]
    pub(crate) options: SourceArgs,
    /// Compare free space of file systems as well
    #[arg(long, requires = "image")]
    pub(crate) every_byte: bool,
    /// Receipt of its writing
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, conflicts_with = "image")]
    pub(crate) receipt: Option<PathBuf>,
}

/// Put first-boot settings on a medium that is already written
///
/// The settings are checked completely first. All changes go on the medium as one, or not at all;
/// doing it twice changes nothing more.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit configure card.img --settings hut-03.toml --dry-run\n  \
    pinewrit configure /dev/sdx --settings hut-03.toml")]
pub(crate) struct ConfigureArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// First-boot settings
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) settings: PathBuf,
    /// How the image takes them: cloud-init, rootfs, or an intake's file; else the image is looked at
    #[arg(long, value_name = "INTAKE")]
    pub(crate) intake: Option<String>,
    /// Let the last partition take the whole medium first
    #[arg(long)]
    pub(crate) grow: bool,
}

/// Build a medium from parts: partitions, file systems, files, archives, loaders
///
/// A layout is a TOML file that describes it all. The medium is put together in a sparse file
/// first, then written and read back like an image. No mounting, no administrator.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit build demo/layout.toml --to hut.img --size 4GB\n  \
    pinewrit build demo/layout.toml --to hut.img.xz --size 4GB\n  \
    pinewrit build demo/layout.toml --to K7F2 --eject")]
pub(crate) struct BuildArgs {
    /// Description of the medium
    #[arg(value_name = "LAYOUT", value_hint = ValueHint::FilePath)]
    pub(crate) layout: PathBuf,
    /// Tag, block device or card file to write; or an image to make: .img.zst, .img.xz, .img.gz
    #[arg(long, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub(crate) to: PathBuf,
    #[command(flatten)]
    pub(crate) access: MediumArgs,
    /// Size of a new card file or image (8GB, 512MiB, 2048s)
    #[arg(long, value_parser = parse_size)]
    pub(crate) size: Option<u64>,
    /// First-boot settings to put on the medium
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) settings: Option<PathBuf>,
    /// How the system takes them: cloud-init, rootfs, or an intake's file; else it is looked at
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub(crate) intake: Option<String>,
    /// Folder for the sparse file (default: beside a file, or the system's temporary folder)
    #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
    pub(crate) scratch: Option<PathBuf>,
    /// Do not read back what was written
    #[arg(long)]
    pub(crate) no_verify: bool,
    #[command(flatten)]
    pub(crate) fat: FatArgs,
    /// Keep the receipt here as well
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub(crate) receipt: Option<PathBuf>,
    /// Write a page about it: the medium's map, its pace, slow spots, facts
    #[arg(long, value_name = "FILE.html", value_hint = ValueHint::FilePath)]
    pub(crate) report: Option<PathBuf>,
    /// Make the medium safe to take out when it is done
    #[arg(long)]
    pub(crate) eject: bool,
    /// Check everything and show the partitions, make nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

/// What every command takes that changes a medium a little.
#[derive(Debug, ClapArgs)]
pub(crate) struct ChangeArgs {
    /// Tag, block device or card file to change
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub(crate) medium: PathBuf,
    #[command(flatten)]
    pub(crate) access: MediumArgs,
    /// Show what would change; change nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

/// Make a file system in a partition
///
/// What was in the partition is lost; the table and the other partitions stay as they are.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit format card.img 1 --as fat32 --label BOOT\n  \
    pinewrit format K7F2 2 --as ext4 --label larkfell-root")]
pub(crate) struct FormatArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// Number, label or name of the partition
    #[arg(value_name = "PARTITION")]
    pub(crate) partition: String,
    /// fat32, fat16, fat12, fat (by its size), ext4 or swap
    #[arg(long = "as", value_name = "KIND", value_parser = format_kind)]
    pub(crate) kind: FormatKind,
    /// Label: up to 11 characters (FAT), 16 bytes (ext4) or 15 bytes (swap)
    #[arg(long, default_value = "", hide_default_value = true)]
    pub(crate) label: String,
    /// Bytes in a cluster (FAT) or block (ext4); by its size if left out
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub(crate) unit: Option<u64>,
    /// How many files it can have at least (ext4); by its size if left out
    #[arg(long, value_name = "COUNT")]
    pub(crate) inodes: Option<u32>,
    /// Make it without checksums of its structures (ext4), for old boot loaders
    #[arg(long)]
    pub(crate) no_checksums: bool,
}

fn format_kind(text: &str) -> Result<FormatKind, String> {
    FormatKind::from_word(text).ok_or_else(|| {
        let words: Vec<&str> = FormatKind::WORDS.iter().map(|(word, _)| *word).collect();
        format!("it can be {}", words.join(", "))
    })
}

/// Make a medium safe to take out
///
/// Unmounts all of it, flushes it and powers it down. Says that it can be taken out only when that
/// is so.
#[derive(Debug, ClapArgs)]
pub(crate) struct EjectArgs {
    /// Tag or block device to eject
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub(crate) medium: PathBuf,
}

/// Rehearse with simulated readers and cards
///
/// A rack is a TOML file. Every command with --rack FILE, or with PINEWRIT_RACK set, works with
/// what is in it instead of the computer's own readers.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Example:\n  \
    pinewrit rack new practice\n  \
    pinewrit --rack practice/rack.toml media")]
pub(crate) struct RackArgs {
    #[command(subcommand)]
    pub(crate) action: RackAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum RackAction {
    /// Make a rack with made-up readers and cards in a new folder
    New {
        /// The folder
        #[arg(value_name = "DIR", value_hint = ValueHint::DirPath)]
        dir: PathBuf,
    },
    /// Show which reader holds which card
    Show,
    /// Put a card into a reader
    Insert {
        /// The card's name
        card: String,
        /// The reader's name
        reader: String,
    },
    /// Take a card out of its reader
    Remove {
        /// The card's name
        card: String,
    },
    /// Exchange what two readers hold
    Swap {
        /// A reader's name
        first: String,
        /// Another reader's name
        second: String,
    },
}

/// Run a full example with made-up data, in a folder of its own
#[derive(Debug, ClapArgs)]
pub(crate) struct DemoArgs {
    /// Folder to work in; must be empty or absent (default: a new temporary one, removed after)
    #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
    pub(crate) dir: Option<PathBuf>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_arguments_do_not_contradict_each_other() {
        super::Args::command().debug_assert();
    }
}
