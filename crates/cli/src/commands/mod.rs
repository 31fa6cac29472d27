//! The commands, one file each.

pub(crate) mod batch;
pub(crate) mod boards;
pub(crate) mod build;
pub(crate) mod clone;
pub(crate) mod commission;
pub(crate) mod configure;
mod demo;
pub(crate) mod eject;
pub(crate) mod estimate;
pub(crate) mod find;
pub(crate) mod inspect;
pub(crate) mod ledger;
pub(crate) mod measure;
pub(crate) mod media;
pub(crate) mod rack;
pub(crate) mod save;
pub(crate) mod shelf;
pub(crate) mod trial;
pub(crate) mod verify;
pub(crate) mod watch;
pub(crate) mod write;

use std::path::Path;

use pinewrit_args::{Args, Command};
use pinewrit_host::{Rack, Readers, SystemRoots};
use pinewrit_ui::{Exit, Message, Ui, output, words};

pub(crate) use pinewrit_session::Outcome;
use pinewrit_session::{Context, Folders};

/// Runs the requested command.
pub(crate) fn run(args: Args) -> Exit {
    let ui = args.global.ui();
    let outcome = dispatch(&ui, args);
    let outcome = match (outcome, output::failure()) {
        (Ok(()), Some(error)) => Err(Message::new(
            Exit::Internal,
            "the result could not be written to standard output",
        )
        .fact("system", error.to_string())
        .fact("state", "the work itself is done")
        .remedy("free space where the output goes, then check with `pinewrit inspect`")),
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

/// Invalid arguments, or a request for help: as clap prints it, or as JSON for programs.
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
        let ui = Ui {
            json: true,
            quiet: false,
            verbose: false,
        };
        ui.event(&message.to_json());
    }
    let _ = error.print();
    exit
}

fn dispatch(ui: &Ui, args: Args) -> Outcome {
    let path = args.global.rack.as_deref();
    // A rack is created before it is used.
    if let Command::Rack(args) = &args.command {
        return rack::run(ui, path, args);
    }
    let context = Context {
        ledger: args.global.ledger,
        ..context(*ui, path)?
    };
    run_in(&context, args.command)
}

/// Runs a command in a given context.
pub(crate) fn run_in(cx: &Context, command: Command) -> Outcome {
    match command {
        Command::Shelf(args) => shelf::run(cx, &args),
        Command::Media(args) => media::run(cx, &args),
        Command::Measure(args) => measure::run(cx, &args),
        Command::Inspect(args) => inspect::run(cx, &args),
        Command::Write(args) => write::run(cx, &args),
        Command::Verify(args) => verify::run(cx, &args),
        Command::Check(args) => pinewrit_revise::check(cx, &args),
        Command::Configure(args) => configure::run(cx, &args),
        Command::Build(args) => build::run(cx, &args),
        Command::Table(args) => pinewrit_revise::table(cx, &args),
        Command::Files(args) => pinewrit_revise::files(cx, &args),
        Command::Format(args) => pinewrit_revise::format(cx, &args),
        Command::Clone(args) => clone::run(cx, &args),
        Command::Save(args) => save::run(cx, &args),
        Command::Batch(args) => batch::run(cx, &args),
        Command::Ledger(args) => ledger::run(cx, &args),
        Command::Estimate(args) => estimate::run(cx, &args),
        Command::Eject(args) => eject::run(cx, &args),
        Command::Trial(args) => trial::run(cx, &args),
        Command::Find(args) => find::run(cx, &args),
        Command::Watch(args) => watch::run(cx, &args),
        Command::Commission(args) => commission::run(cx, &args),
        Command::Boards(args) => boards::run(cx, &args),
        Command::Rack(args) => rack::run(&cx.ui, None, &args),
        Command::Demo(args) => demo::run(&cx.ui, &args),
    }
}

/// This computer, or the rack in the file at `rack` in its place.
pub(crate) fn context(ui: Ui, rack: Option<&Path>) -> Result<Context, Message> {
    let Some(path) = rack else {
        return Ok(Context::new(ui, Readers::Computer(roots())));
    };
    let rack = Rack::open(path).map_err(|e| words::rack_error(&e))?;
    let folders = match rack.state() {
        Some(state) => Folders::in_folder(&state)?,
        None => Folders::default(),
    };
    Ok(Context {
        folders,
        ..Context::new(ui, Readers::Rack(rack))
    })
}

/// Where the kernel's trees are. Only programs built for tests accept recorded ones, because they
/// decide which disk runs the computer.
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
