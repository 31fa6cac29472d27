//! Tasks of this workspace: `cargo run -p xtask -- dist` and `-- floors`.

mod dist;
mod floors;

use std::error::Error;
use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// Tasks of this workspace
#[derive(Parser)]
struct Tasks {
    #[command(subcommand)]
    task: Task,
}

#[derive(Subcommand)]
enum Task {
    /// Write man pages and shell completions of every command
    Dist {
        /// Where to
        #[arg(default_value = "target/dist")]
        folder: PathBuf,
    },
    /// Check that no crate uses one of a higher floor, and none below the command line a terminal
    Floors,
}

fn main() -> ExitCode {
    let done = match Tasks::parse().task {
        Task::Dist { folder } => dist::write(&folder),
        Task::Floors => floors::check(),
    };
    match done {
        Ok(said) => {
            anstream::println!("{said}");
            ExitCode::SUCCESS
        }
        Err(error) => {
            anstream::eprintln!("xtask: {error}");
            ExitCode::FAILURE
        }
    }
}

/// What a task says in the end.
type Done = Result<String, Box<dyn Error>>;
