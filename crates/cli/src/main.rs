//! Pinewrit's command line: arguments in, words and exit codes out.

mod args;
mod clock;
mod commands;
mod context;
mod events;
mod exit;
mod message;
mod page;
mod secrets;
mod signals;
mod ui;
mod words;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    match args::Args::try_parse() {
        Ok(args) => commands::run(args).into(),
        Err(error) => commands::refuse(&error).into(),
    }
}
