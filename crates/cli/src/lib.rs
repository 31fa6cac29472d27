//! Pinewrit's command line: arguments in, words and exit codes out.
//!
//! It is a library so that manual pages and completions are generated from the same arguments
//! ([`command`]); the program is just [`run`].

mod commands;
#[cfg(test)]
mod events;

use std::process::ExitCode;

use clap::FromArgMatches;

/// Runs the program with the arguments of this process.
pub fn run() -> ExitCode {
    let matches = command().try_get_matches();
    let args =
        matches.and_then(|mut matches| pinewrit_args::Args::from_arg_matches_mut(&mut matches));
    match args {
        Ok(args) => commands::run(args).into(),
        Err(error) => commands::refuse(&error).into(),
    }
}

/// The arguments of the program. Options of all commands are shown once, by `pinewrit --help`.
///
/// ```
/// let mut command = pinewrit_cli::command();
/// let write = command.find_subcommand("write").map(ToString::to_string);
/// assert_eq!(write.as_deref(), Some("write"));
/// assert!(command.render_help().to_string().contains("--rack"));
/// ```
pub fn command() -> clap::Command {
    pinewrit_args::command()
}
