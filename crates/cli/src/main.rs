//! The program `pinewrit`.

use std::process::ExitCode;

fn main() -> ExitCode {
    pinewrit_cli::run()
}
