//! `pinewrit eject MEDIUM`

use pinewrit_args::EjectArgs;
use pinewrit_host::{EjectError, Permits, Power, Verdict};
use pinewrit_ledger::{Entry, Kind};
use pinewrit_ui::{Event, Exit, MediumName, Message, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
use pinewrit_session::Context;
use pinewrit_session::clock;
use pinewrit_session::medium;

/// A medium that can be removed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct EjectEvent {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Mount points.
    unmounted: Vec<String>,
    /// Whether it was switched off.
    powered_down: bool,
}

impl Event for EjectEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["eject"];
}

pub(crate) fn run(cx: &Context, args: &EjectArgs) -> Outcome {
    let mut chosen = medium::find(cx, &args.medium, false)?;
    let Some(facts) = chosen.facts.clone() else {
        return Err(not_to_eject(args));
    };
    if facts.identity.size == 0 {
        return Err(Message::new(
            Exit::Usage,
            format!("there is no medium in {}", chosen.path.display()),
        )
        .remedy("`pinewrit media` lists connected media"));
    }
    let mut unmounted = Vec::new();
    if matches!(&facts.verdict, Verdict::Busy(_)) {
        unmounted = chosen.free(cx, &facts.name)?;
    }
    let permits = Permits {
        chosen: facts.tag.clone(),
        confirmed: None,
    };
    let name = chosen.name();
    let power = cx
        .readers
        .eject(&chosen.path, &permits)
        .map_err(|e| words::eject_error(&name, &e))?;
    cx.ui.event(&EjectEvent {
        command: "eject",
        medium: chosen.medium_name(),
        unmounted: unmounted
            .iter()
            .map(|point| point.display().to_string())
            .collect(),
        powered_down: matches!(power, Power::Off),
    });
    cx.ui.result(format!("{}\n", farewell(&name, &power)));
    let entry = Entry {
        tag: facts.tag.as_ref().map(ToString::to_string),
        ..Entry::new(Kind::Eject, clock::seconds())
    };
    cx.record(entry, None);
    Ok(())
}

/// A card file, or nothing known.
fn not_to_eject(args: &EjectArgs) -> Message {
    let name = args.medium.display();
    if args.medium.is_file() {
        Message::new(
            Exit::Usage,
            format!("{name} is a file: there is nothing to eject"),
        )
        .remedy("card files are complete when the command that wrote them has ended")
    } else {
        Message::new(Exit::Usage, format!("there is no medium {name}"))
            .remedy("`pinewrit media` lists connected media")
    }
}

/// The state of a medium after ejecting.
pub(super) fn farewell(name: &str, power: &Power) -> String {
    let good = style::GOOD;
    let how = match power {
        Power::Off => "flushed and powered down".to_owned(),
        Power::Refused(error) => {
            format!("flushed; it does not power down by itself ({error})")
        }
        _ => "everything is flushed".to_owned(),
    };
    format!("{good}you can take {name} out:{good:#} {how}")
}

/// The error for a medium that was written but could not be ejected.
pub(super) fn after_writing(name: &str, error: &EjectError) -> Message {
    words::eject_error(name, error).fact("state", "it is written; only ejecting failed")
}
