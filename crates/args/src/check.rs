//! `pinewrit check`

use clap::Args;

use crate::ChangeArgs;

/// Check all file systems of a medium
///
/// Says of each FAT and ext file system whether it is sound, was cut off while it was in use, or is
/// damaged. Nothing is changed without --settle.
#[derive(Debug, Args)]
#[command(after_long_help = "Examples:\n  \
    pinewrit check K7F2\n  \
    pinewrit check K7F2 --settle")]
pub struct CheckArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    /// Apply journals, remove files without names, and clear the mark of a FAT that was not unmounted
    #[arg(long)]
    pub settle: bool,
    /// Also free clusters of a FAT that belong to no file
    #[arg(long, requires = "settle")]
    pub free_lost: bool,
}
