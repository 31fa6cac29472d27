//! Arguments of `pinewrit shelf`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueHint};
use pinewrit_disk::parse_size;
use pinewrit_image::Location;

use crate::{SourceArgs, location};

/// Keep a catalogue of images, and follow a team's
///
/// A catalogue is a TOML file; docs/formats.md describes it. Yours is shelf.toml in the current
/// directory or in ~/.config/pinewrit. What is in it can be named shelf:NAME or shelf:NAME@VERSION
/// wherever an image is named.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit shelf add larkfell-os-2.4.img.xz\n  \
    pinewrit shelf use https://larkfell.example/shelf.toml --signed-by larkfell.pub\n  \
    pinewrit shelf list --board \"Brindle B2\" --fits 8GB\n  \
    pinewrit write shelf:larkfell-os --to K7F2")]
pub struct ShelfArgs {
    #[command(subcommand)]
    pub action: ShelfAction,
}

#[derive(Debug, Subcommand)]
pub enum ShelfAction {
    /// Inspect an image and add it to your catalogue
    Add(AddImageArgs),
    /// List images: the newest version of each
    List(ShelfListArgs),
    /// Show all that is known of an image
    Show {
        /// Name, or NAME@VERSION
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Download and verify an image, for use without a network
    Get {
        /// Name, or NAME@VERSION
        #[arg(value_name = "NAME")]
        name: String,
        #[command(flatten)]
        options: SourceArgs,
    },
    /// Check that images are reachable, unchanged and up to date
    Check {
        /// Names, or NAME@VERSION [default: all]
        #[arg(value_name = "NAME")]
        names: Vec<String>,
        /// Also read every image and compute its checksum
        #[arg(long)]
        full: bool,
    },
    /// Remove an image from your catalogue, or stop following a catalogue
    Remove {
        /// NAME for all versions, NAME@VERSION, or the address of a catalogue
        #[arg(value_name = "NAME")]
        name: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Follow a catalogue that somebody else keeps
    Use {
        /// Its address or path
        #[arg(value_name = "ADDRESS", value_hint = ValueHint::Url)]
        address: String,
        /// Require a signature of the catalogue by the key in this file (OpenPGP or minisign)
        #[arg(long, value_name = "KEY", value_hint = ValueHint::FilePath)]
        signed_by: Option<PathBuf>,
        /// Accept images that changed while their version stayed the same
        #[arg(long)]
        accept: bool,
    },
}

/// What an image is, beyond what a look into it shows.
#[derive(Debug, ClapArgs)]
pub struct AddImageArgs {
    /// Image in any wrapping, or its URL
    #[arg(value_name = "IMAGE", value_hint = ValueHint::FilePath, value_parser = location())]
    pub image: Location,
    /// Its name [default: from the file's name]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Its version [default: from the file's name, or the system's]
    #[arg(long, value_name = "VERSION")]
    pub version: Option<String>,
    /// When it was published [default: the file's day]
    #[arg(long, value_name = "YYYY-MM-DD", value_parser = day)]
    pub date: Option<jiff::civil::Date>,
    /// A board it is for; repeatable [default: known boards that start from it]
    #[arg(long = "board", value_name = "BOARD")]
    pub boards: Vec<String>,
    /// The smallest medium it is meant for
    #[arg(long, value_name = "SIZE", value_parser = parse_size)]
    pub smallest: Option<u64>,
    /// A note for those who use it
    #[arg(long, value_name = "TEXT")]
    pub notes: Option<String>,
    /// Require a signature by one of your keys
    #[arg(long)]
    pub signed: bool,
    #[command(flatten)]
    pub options: SourceArgs,
}

fn day(text: &str) -> Result<jiff::civil::Date, String> {
    text.parse()
        .map_err(|_| "year, month and day: 2026-10-02".to_owned())
}

/// Which images are listed.
#[derive(Debug, ClapArgs)]
pub struct ShelfListArgs {
    /// Only those for this board
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    /// Only those that fit: a size, or a medium
    #[arg(long, value_name = "MEDIUM", value_hint = ValueHint::FilePath)]
    pub fits: Option<PathBuf>,
    /// Also older versions
    #[arg(long)]
    pub all: bool,
}
