//! The commands, a file each.

mod configure;
mod demo;
mod inspect;
mod media;
mod report;
mod settings;
mod source;
mod target;
mod verify;
mod write;

use crate::args::{Args, Command};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::Ui;

/// Runs the command that was asked for.
pub(crate) fn run(args: Args) -> Exit {
    let ui = Ui::new(&args.global);
    let outcome = match args.command {
        Command::Media(args) => media::run(&ui, &args),
        Command::Inspect(args) => inspect::run(&ui, &args),
        Command::Write(args) => write::run(&ui, &args),
        Command::Verify(args) => verify::run(&ui, &args),
        Command::Configure(args) => configure::run(&ui, &args),
        Command::Demo(args) => demo::run(&ui, &args),
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

/// What a command comes to: everything said, or the message that ends it.
pub(crate) type Outcome = Result<(), Message>;
