//! Pinewrit's command line: arguments in, words and exit codes out.

mod args;
mod commands;
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
    commands::run(args::Args::parse()).into()
}
