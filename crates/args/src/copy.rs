//! Arguments of `pinewrit clone` and `pinewrit save`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_image::Location;

use super::{MediumArgs, SourceArgs, location};

/// What a copy leaves behind.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct AsNewArgs {
    /// Remove what makes the system one unit: machine id, host keys, leases, logs, histories ...
    #[arg(long)]
    pub as_new: bool,
    /// With --as-new: keep this path and everything below it; repeatable
    #[arg(long, value_name = "PATH", requires = "as_new")]
    pub keep: Vec<String>,
}

/// Copying a medium that cannot be read in every place.
#[derive(Clone, Debug, ClapArgs)]
pub struct RescueArgs {
    /// Read around errors; keep what was read in this file, and the map of it in FILE.map
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, conflicts_with = "dry_run")]
    pub rescue: Option<PathBuf>,
    /// With --rescue: take what another rescue of the same medium has read; repeatable
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath, requires = "rescue")]
    pub merge: Vec<PathBuf>,
    /// With --rescue: the most minutes for each pass over what does not read at once
    #[arg(
        long,
        value_name = "MINUTES",
        default_value_t = 30,
        hide_short_help = true
    )]
    pub pass_minutes: u64,
    /// With --rescue: how many seconds to wait for a medium that is gone
    #[arg(
        long,
        value_name = "SECONDS",
        default_value_t = 300,
        hide_short_help = true
    )]
    pub wait: u64,
}

/// Copy a medium or image to other media, each with identifiers of its own
///
/// Reads only what is in use. Disk signature, GUIDs and file system identifiers are new on each
/// copy, and boot lines, boot menus and fstab follow. On a smaller medium, the last file system
/// becomes as small as it has to be.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit clone K7F2 --to M3QX\n  \
    pinewrit clone K7F2 --to M3QX --to 9RT4 --as-new --eject\n  \
    pinewrit clone K7F2 --to M3QX --as-new --settings hut-04.toml --grow\n  \
    pinewrit clone K7F2 --to card.img --size 4GB --dry-run")]
pub struct CloneArgs {
    /// Tag, block device, card file or image to copy
    #[arg(value_name = "SOURCE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub source: Location,
    /// Refuse an image that is not signed by the key in this file (OpenPGP or minisign)
    #[arg(long, value_name = "KEY", value_hint = ValueHint::FilePath, hide_short_help = true)]
    pub signed_by: Option<PathBuf>,
    /// Tag, block device or card file to write; repeat --to to write several at once
    #[arg(long, required = true, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub to: Vec<PathBuf>,
    #[command(flatten)]
    pub medium: MediumArgs,
    /// Create a card file of this size if it does not exist (8GB, 512MiB, 2048s)
    #[arg(long, value_parser = parse_size)]
    pub size: Option<u64>,
    #[command(flatten)]
    pub options: SourceArgs,
    #[command(flatten)]
    pub rescue: RescueArgs,
    #[command(flatten)]
    pub new: AsNewArgs,
    /// Keep all identifiers: never use both cards in one computer
    #[arg(long)]
    pub keep_identifiers: bool,
    /// Add these first-boot settings
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub settings: Option<PathBuf>,
    /// Refuse what this board does not start from: a name (boards list) or a board file
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    /// How the system takes settings: cloud-init, rootfs or an intake file [default: detected]
    #[arg(long, value_name = "INTAKE", requires = "settings")]
    pub intake: Option<String>,
    /// Grow the last partition to the end of the medium
    #[arg(long)]
    pub grow: bool,
    /// Do not read back what was written
    #[arg(long)]
    pub no_verify: bool,
    /// Compare first and write only differences: to resume, or to bring a copy up to date
    #[arg(long)]
    pub only_changes: bool,
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

/// Save a medium as an image
///
/// Free space becomes zeros, and the image ends behind the last partition. It is packed as its
/// name says, decoded again and compared before it gets its name; a checksum file is put beside
/// it. `write` restores it, and `write --grow` gives the room back.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit save K7F2 --to hut-03.img.zst\n  \
    pinewrit save K7F2 --to golden.img.xz --as-new --shrink\n  \
    pinewrit save K7F2 --to golden.img.xz --pieces 1GB\n  \
    pinewrit save K7F2 --to hut-03.img.zst --rescue hut-03.rescue")]
pub struct SaveArgs {
    /// Tag, block device, card file or image to save
    #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath, value_parser = location())]
    pub medium: Location,
    /// The image: .img, .img.zst, .img.xz or .img.gz
    #[arg(long, value_name = "IMAGE", value_hint = ValueHint::FilePath)]
    pub to: PathBuf,
    #[command(flatten)]
    pub access: MediumArgs,
    #[command(flatten)]
    pub rescue: RescueArgs,
    #[command(flatten)]
    pub new: AsNewArgs,
    /// Make the last file system as small as its content allows
    #[arg(long)]
    pub shrink: bool,
    /// With --shrink: free space to leave in it [default: 5 %, at least 64 MiB]
    #[arg(long, value_name = "SIZE", value_parser = parse_size, requires = "shrink")]
    pub spare: Option<u64>,
    /// Cut the image into numbered pieces of this size
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub pieces: Option<u64>,
    /// Store a copy of the receipt here
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub receipt: Option<PathBuf>,
    /// Check and show everything, write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}
