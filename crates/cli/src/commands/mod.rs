//! The commands, a file each.

mod configure;
mod demo;
mod inspect;
mod report;
mod settings;
mod verify;
mod write;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use pinewrit_core::Cancel;
use signal_hook::consts::{SIGINT, SIGTERM};

use crate::args::{Args, Command};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::Ui;

/// Runs the command that was asked for.
pub(crate) fn run(args: Args) -> Exit {
    let ui = Ui::new(&args.global);
    let cancel = watch_signals();
    let outcome = match args.command {
        Command::Inspect(args) => inspect::run(&ui, &args),
        Command::Write(args) => write::run(&ui, &args, &cancel),
        Command::Verify(args) => verify::run(&ui, &args, &cancel),
        Command::Configure(args) => configure::run(&ui, &args),
        Command::Demo(args) => demo::run(&ui, &args, &cancel),
    };
    match outcome {
        Ok(()) => Exit::Done,
        Err(message) => {
            ui.event(&message.to_json());
            ui.warn(message.to_text());
            message.exit
        }
    }
}

/// The first ^C asks for an orderly end; the second one ends at once.
fn watch_signals() -> Cancel {
    let flag = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        let interrupted = i32::from(Exit::Interrupted.code());
        // Where the system refuses, ^C ends the program as it always does.
        let _ = signal_hook::flag::register_conditional_shutdown(
            signal,
            interrupted,
            Arc::clone(&flag),
        );
        let _ = signal_hook::flag::register(signal, Arc::clone(&flag));
    }
    Cancel::from_flag(flag)
}

/// What a command comes to: everything said, or the message that ends it.
pub(crate) type Outcome = Result<(), Message>;
