//! Arguments of `pinewrit boards`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueHint};
use pinewrit_image::Location;

use crate::location;

/// Describe what kinds of boards need in order to start
///
/// A board file is a TOML file; docs/formats.md describes it. Those in ~/.config/pinewrit/boards/ and
/// in boards/ of the current directory are known by name.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit boards list\n  \
    pinewrit inspect larkfell-os.img.xz --board \"Brindle B2\"\n  \
    pinewrit boards learn K7F2 --name \"Brindle B2\"")]
pub struct BoardsArgs {
    #[command(subcommand)]
    pub action: BoardsAction,
}

#[derive(Debug, Subcommand)]
pub enum BoardsAction {
    /// List the boards that are known by name
    List,
    /// Show what a board needs
    Show {
        /// Name of a board, or a board file
        #[arg(value_name = "BOARD", value_hint = ValueHint::FilePath)]
        board: String,
    },
    /// Check a board file, and show all mistakes
    Check {
        /// The board file
        #[arg(value_name = "FILE", value_hint = ValueHint::FilePath)]
        file: PathBuf,
    },
    /// Write a board file from a medium that is known to start
    Learn {
        /// Tag, block device, card file, or image in any wrapping
        #[arg(value_name = "MEDIUM", value_hint = ValueHint::FilePath, value_parser = location())]
        medium: Location,
        /// Name of the board
        #[arg(long, value_name = "NAME")]
        name: String,
        /// Write to this file [default: NAME.toml in ~/.config/pinewrit/boards]
        #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
        to: Option<PathBuf>,
    },
}
