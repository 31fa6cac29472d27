//! Arguments of `pinewrit watch`.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueHint};
use regex::Regex;

/// Watch a board's serial console
///
/// Shows each line with its time, says how far the board has come, and ends where a boot cannot go on.
/// If what comes cannot be read, it says at which rate it can; if nothing comes, what to check.
#[derive(Debug, ClapArgs)]
#[command(after_long_help = "Examples:\n  \
    pinewrit watch --until \"login:\" --timeout 180\n  \
    pinewrit watch /dev/ttyUSB0 --board \"Brindle B2\" --log hut-03.log\n  \
    pinewrit watch --baud auto\n  \
    pinewrit watch --typing\n  \
    pinewrit watch --after \"autoboot\" --send \"\" --after \"=>\" --send \"boot\"")]
pub struct WatchArgs {
    /// The serial port [default: the only one, or the next one that is plugged in]
    #[arg(value_name = "PORT", value_hint = ValueHint::FilePath)]
    pub port: Option<PathBuf>,
    /// Bits a second, or auto to find out [default: as the board file says, else 115200]
    #[arg(long, value_name = "RATE", value_parser = baud)]
    pub baud: Option<Baud>,
    /// The board, whose file says the rate: a name (boards list) or a board file
    #[arg(long, value_name = "BOARD")]
    pub board: Option<String>,
    /// End well at a line like this; repeatable
    #[arg(long, value_name = "REGEX")]
    pub until: Vec<Regex>,
    /// End badly at a line like this, besides those that are known; repeatable
    #[arg(long, value_name = "REGEX")]
    pub fail: Vec<Regex>,
    /// End after so many seconds
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=604_800))]
    pub timeout: Option<u64>,
    /// Say it when nothing has come for so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 15,
        value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub silence: u64,
    /// Also write all lines to this file, with their times
    #[arg(long, value_name = "FILE", value_hint = ValueHint::FilePath)]
    pub log: Option<PathBuf>,
    /// Pass the keyboard to the board, and its output on as it is; Ctrl-\ leaves
    #[arg(long, conflicts_with_all = ["json", "until", "fail"])]
    pub typing: bool,
    /// Type this line; with --after, when the board says so; repeatable in pairs
    #[arg(long, value_name = "TEXT")]
    pub send: Vec<String>,
    /// What the board says before the --send with the same place is typed
    #[arg(long, value_name = "REGEX", requires = "send")]
    pub after: Vec<Regex>,
}

/// A rate, or any.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Baud {
    /// This one, in bits a second.
    Rate(u32),
    /// The one at which text comes.
    Auto,
}

fn baud(text: &str) -> Result<Baud, String> {
    match text {
        "auto" => Ok(Baud::Auto),
        text => match text.parse() {
            Ok(rate @ 300..=4_000_000) => Ok(Baud::Rate(rate)),
            _ => Err("a number from 300 to 4000000, or auto".to_owned()),
        },
    }
}
