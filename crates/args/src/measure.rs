//! Arguments of `pinewrit measure`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueHint};
use pinewrit_measure::Rating;

use crate::MediumArgs;

/// Find out whether a medium is what it says: its size and its speed
///
/// Marks some places of it, reads them back past every cache, and puts back what was there. If that
/// is interrupted, the next command that changes the medium does it.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit measure K7F2\n  \
    pinewrit measure K7F2 QD40 --rated C10,A1 --report cards.html\n  \
    pinewrit measure K7F2 --replug\n  \
    pinewrit measure K7F2 --full --lose K7F2")]
pub struct MeasureArgs {
    /// Tags, block devices or card files; several are compared
    #[arg(value_name = "MEDIUM", required = true, value_hint = ValueHint::FilePath)]
    pub media: Vec<PathBuf>,
    /// Only its size
    #[arg(long, group = "what")]
    pub size: bool,
    /// Only its speed
    #[arg(long, group = "what")]
    pub speed: bool,
    /// Write nothing: only how fast it reads
    #[arg(long, group = "what")]
    pub read_only: bool,
    /// Mark all of it and read all of it back; what is on it is lost
    #[arg(long, group = "what")]
    pub full: bool,
    /// What is on it may be lost: repeat the medium's tag, or the card file's name
    #[arg(long, value_name = "TAG")]
    pub lose: Option<String>,
    /// Ask for it to be taken out and put back, to see whether it forgets what it had written
    #[arg(long, conflicts_with_all = ["speed", "read_only", "full"])]
    pub replug: bool,
    /// What is printed on it: C10, U3, V30, A1, 100x; separated by commas
    #[arg(long, value_name = "RATING", value_delimiter = ',')]
    pub rated: Vec<Rating>,
    /// If it is smaller than it says: make a table that uses only what is there; what is on it is lost
    #[arg(long, conflicts_with_all = ["speed", "read_only", "replug"])]
    pub use_real: bool,
    /// Write a page with the results
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub report: Option<PathBuf>,
    #[command(flatten)]
    pub access: MediumArgs,
}
