//! `pinewrit check MEDIUM`, and `--settle`

use pinewrit_args::{ChangeArgs, CheckArgs};
use pinewrit_core::check::{Checked, Condition, LostClusters, check, settle};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, Exit, MediumName, Message, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, Opened};
use pinewrit_session::clock;

/// How the file systems of a medium are.
#[derive(Serialize, JsonSchema)]
pub struct CheckedEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// The file systems, as they were found, and what has been settled.
    filesystems: &'a [Checked],
}

impl Event for CheckedEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["check"];
}

/// Checks all file systems of a medium, and settles what was cut off if that is wanted.
///
/// # Errors
/// The message that ends the command.
pub fn run(cx: &Context, args: &CheckArgs) -> Outcome {
    let settles = args.settle && !args.change.dry_run;
    let access = ChangeArgs {
        medium: args.change.medium.clone(),
        access: args.change.access.clone(),
        despite_flag: false,
        dry_run: !settles,
        yes: args.change.yes,
    };
    let opened = change::open(cx, &access, None)?;
    let found = if settles {
        settled(cx, &opened, args)?
    } else {
        let _waiting = waiting(cx, &opened);
        let found = check(&*opened.medium.device, clock::timestamp());
        found.map_err(|e| words::disk_error(&opened.name, &e))?
    };
    cx.ui.event(&CheckedEvent {
        command: "check",
        medium: opened.id.clone(),
        filesystems: &found,
    });
    let name = &opened.name;
    if !found.iter().all(Checked::is_well) {
        return Err(refused(name, &found));
    }
    cx.ui.result(result_text(name, &found));
    Ok(())
}

fn result_text(name: &str, found: &[Checked]) -> String {
    let good = style::GOOD;
    let is_checked = |one: &&Checked| one.condition != Condition::NotChecked;
    let head = match found.iter().filter(is_checked).count() as u64 {
        0 => format!("{name} has no FAT or ext file system: nothing was checked\n"),
        _ if found.iter().any(|one| one.is_settled) => {
            format!("{good}done:{good:#} {name} is settled\n")
        }
        count => {
            let count = units::counted(count, "file system");
            format!("{good}sound:{good:#} {count} on {name}\n")
        }
    };
    let mut facts = FactList::default();
    for (place, text) in states(found) {
        facts.add(&place, text);
    }
    head + &facts.to_text()
}

fn waiting(cx: &Context, opened: &Opened) -> Waiting {
    Waiting::new(&cx.ui, format!("checking {}", opened.name))
}

/// Settles what can be settled, and commits it; returns what was found.
fn settled(cx: &Context, opened: &Opened, args: &CheckArgs) -> Result<Vec<Checked>, Message> {
    let name = &opened.name;
    let lost = if args.free_lost {
        LostClusters::Freed
    } else {
        LostClusters::Kept
    };
    let waiting = waiting(cx, opened);
    let gathered = settle(&*opened.medium.device, lost, clock::timestamp());
    drop(waiting);
    let gathered = gathered.map_err(|e| words::disk_error(name, &e))?;
    let is_empty = gathered.is_empty();
    if is_empty.map_err(|e| words::disk_error(name, &e))? {
        return Ok(gathered.report().clone());
    }
    let found = gathered
        .commit(Some(&opened.undo))
        .map_err(|e| words::commit_error(name, &e))?;
    opened.amend(cx, "check", Vec::new());
    Ok(found)
}

/// Each file system, and how it is.
fn states(found: &[Checked]) -> impl Iterator<Item = (String, String)> {
    found.iter().map(|one| {
        let place = match one.partition {
            Some(number) => format!("part. {number}"),
            None => "whole".to_owned(),
        };
        (place, words::checked(one))
    })
}

fn refused(name: &str, found: &[Checked]) -> Message {
    let is_left = |wanted: Condition| {
        let mut open = found.iter().filter(|one| !one.is_settled);
        open.any(|one| one.condition == wanted)
    };
    let is_damaged = is_left(Condition::Damaged);
    let is_flagged = is_left(Condition::Flagged);
    let has_lost = is_left(Condition::LostClusters);
    let what = if is_damaged {
        format!("{name} is damaged")
    } else if is_flagged {
        format!("{name} says that it has errors")
    } else if is_left(Condition::CutOff) {
        format!("{name} was pulled while it was in use")
    } else {
        format!("{name} has lost clusters")
    };
    let mut message = Message::new(Exit::Differences, what);
    for (place, text) in states(found) {
        message = message.fact(place, text);
    }
    if is_left(Condition::CutOff) {
        message = message.remedy(format!("pinewrit check {name} --settle"));
    }
    if has_lost {
        message = message.remedy(format!("pinewrit check {name} --settle --free-lost"));
    }
    if is_damaged || is_flagged {
        message =
            message.remedy("the system's own file system checker (e2fsck, fsck.fat), on a copy");
    }
    message
}
