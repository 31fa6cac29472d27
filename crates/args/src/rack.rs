//! Arguments of `pinewrit rack` and `pinewrit demo`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand, ValueHint};

/// Rehearse with simulated readers, cards and boards
///
/// A rack is a TOML file. With --rack FILE, or with PINEWRIT_RACK set, every command uses the rack
/// instead of the computer's own readers.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Example:\n  \
    pinewrit rack new practice\n  \
    pinewrit --rack practice/rack.toml media")]
pub struct RackArgs {
    #[command(subcommand)]
    pub action: RackAction,
}

#[derive(Debug, Subcommand)]
pub enum RackAction {
    /// Create a rack with made-up readers and cards in a new directory
    New {
        /// The directory
        #[arg(value_name = "DIR", value_hint = ValueHint::DirPath)]
        dir: PathBuf,
    },
    /// Show which reader holds which card
    Show,
    /// Insert a card into a reader
    Insert {
        /// The card's name
        card: String,
        /// The reader's name
        reader: String,
    },
    /// Remove a card from its reader
    Remove {
        /// The card's name
        card: String,
    },
    /// Switch a board on: it starts from the card in its reader, as far as a stand-in can
    PowerOn {
        /// The board's name
        board: String,
        /// Come back once it is up; power-off ends it
        #[arg(long)]
        background: bool,
    },
    /// Switch off a board that was switched on in the background
    PowerOff {
        /// The board's name
        board: String,
    },
    /// Swap the cards of two readers
    Swap {
        /// A reader's name
        first: String,
        /// Another reader's name
        second: String,
    },
}

/// Run a full example with made-up data, in a directory of its own
#[derive(Debug, ClapArgs)]
pub struct DemoArgs {
    /// Directory to work in, empty or absent [default: a temporary one, removed afterwards]
    #[arg(long, value_name = "DIR", value_hint = ValueHint::DirPath)]
    pub dir: Option<PathBuf>,
}
