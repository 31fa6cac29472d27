//! Colours and weights. They are omitted if the output does not support them.

use anstyle::{AnsiColor, Effects, Style};
use pinewrit_host::Verdict;

/// What failed.
pub const ERROR: Style = AnsiColor::Red.on_default().effects(Effects::BOLD);
/// What is valid, but deserves attention.
pub const WARNING: Style = AnsiColor::Yellow.on_default().effects(Effects::BOLD);
/// What went well.
pub const GOOD: Style = AnsiColor::Green.on_default().effects(Effects::BOLD);
/// The subject of the output.
pub const STRONG: Style = Style::new().effects(Effects::BOLD);
/// Names of facts, and less important text.
pub const DIM: Style = Style::new().effects(Effects::DIMMED);
/// Added lines in a diff.
pub const ADDED: Style = AnsiColor::Green.on_default();
/// Removed lines in a diff.
pub const REMOVED: Style = AnsiColor::Red.on_default();

/// Colours of neighbouring partitions.
const PARTITIONS: [AnsiColor; 4] = [
    AnsiColor::Cyan,
    AnsiColor::Green,
    AnsiColor::Magenta,
    AnsiColor::Blue,
];

/// The colour of a verdict.
pub fn verdict(verdict: &Verdict) -> Style {
    match verdict {
        Verdict::Ready => GOOD,
        Verdict::Busy(_) | Verdict::Unsure(_) => WARNING,
        Verdict::System(_) => ERROR,
        _ => STRONG,
    }
}

/// The colour of the partition at this position.
pub fn partition(index: usize) -> Style {
    PARTITIONS[index % PARTITIONS.len()].on_default()
}
