//! The commands, a file each.

pub(crate) mod build;
mod change;
pub(crate) mod configure;
mod demo;
pub(crate) mod eject;
pub(crate) mod estimate;
pub(crate) mod files;
pub(crate) mod format;
pub(crate) mod inspect;
pub(crate) mod media;
pub(crate) mod rack;
mod records;
pub(crate) mod renew;
mod report;
pub(crate) mod settings;
pub(crate) mod source;
pub(crate) mod table;
pub(crate) mod target;
pub(crate) mod verify;
pub(crate) mod write;

use pinewrit_host::{Rack, Readers, SystemRoots};

use crate::args::{Args, Command};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Ui, output};

/// Runs the command that was asked for.
pub(crate) fn run(args: Args) -> Exit {
    let ui = Ui::new(&args.global);
    let outcome = dispatch(&ui, args);
    let outcome = match (outcome, output::failure()) {
        (Ok(()), Some(error)) => Err(Message::new(
            Exit::Internal,
            "the result could not be written to standard output",
        )
        .fact("system", error.to_string())
        .fact("state", "the work itself is done")
        .remedy("make room where the output goes, then look with `pinewrit inspect`")),
        (outcome, _) => outcome,
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

/// Arguments that make no sense, or a wish for help: as clap has it, and for programs as they read all
/// else.
pub(crate) fn refuse(error: &clap::Error) -> Exit {
    let exit = if error.use_stderr() {
        Exit::Usage
    } else {
        Exit::Done
    };
    let wants_json = std::env::args_os().any(|word| word == "--json");
    if wants_json && exit == Exit::Usage {
        let text = error.to_string();
        let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
        let what = lines.next().unwrap_or_default();
        let what = what.strip_prefix("error: ").unwrap_or(what);
        let message = Message::new(exit, what);
        let message = lines.fold(message, |message, line| match line.split_once(": ") {
            Some(("tip" | "Usage", text)) => message.remedy(text),
            _ => message,
        });
        Ui::for_programs().event(&message.to_json());
    }
    let _ = error.print();
    exit
}

fn dispatch(ui: &Ui, args: Args) -> Outcome {
    let path = args.global.rack.as_deref();
    // A rack is made before it is used.
    if let Command::Rack(args) = &args.command {
        return rack::run(ui, path, args);
    }
    let readers = match path {
        Some(path) => {
            let rack = Rack::open(path).map_err(|e| explain::rack_error(&e))?;
            if let Some(state) = rack.state() {
                records::keep_in(state)?;
            }
            Readers::Rack(rack)
        }
        None => Readers::Computer(roots()),
    };
    match args.command {
        Command::Media(args) => media::run(ui, &readers, &args),
        Command::Inspect(args) => inspect::run(ui, &readers, &args),
        Command::Write(args) => write::run(ui, &readers, &args),
        Command::Verify(args) => verify::run(ui, &readers, &args),
        Command::Configure(args) => configure::run(ui, &readers, &args),
        Command::Build(args) => build::run(ui, &readers, &args),
        Command::Table(args) => table::run(ui, &readers, &args),
        Command::Files(args) => files::run(ui, &readers, &args),
        Command::Format(args) => format::run(ui, &readers, &args),
        Command::Estimate(args) => estimate::run(ui, &args),
        Command::Eject(args) => eject::run(ui, &readers, &args),
        Command::Rack(_) => Ok(()),
        Command::Demo(args) => demo::run(ui, &args),
    }
}

/// Where the kernel's trees are. Programs that are built for tests take recorded ones; no other does, for
/// they decide which disk runs the computer.
fn roots() -> SystemRoots {
    #[cfg(debug_assertions)]
    if let Some(folder) = std::env::var_os("PINEWRIT_RECORDED_TREE") {
        let folder = std::path::PathBuf::from(folder);
        return SystemRoots {
            sys: folder.join("sys"),
            proc: folder.join("proc"),
            dev: folder.join("dev"),
        };
    }
    SystemRoots::default()
}

/// What a command comes to: everything said, or the message that ends it.
pub(crate) type Outcome = Result<(), Message>;
