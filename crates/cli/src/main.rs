//! Pinewrit's command line: arguments in, words and exit codes out.

mod args;
mod clock;
mod commands;
mod events;
mod exit;
mod explain;
mod message;
mod page;
mod secrets;
mod signals;
mod ui;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    match args::Args::try_parse() {
        Ok(args) => commands::run(args).into(),
        Err(error) => commands::refuse(&error).into(),
    }
}
