//! `pinewrit table move`

use pinewrit_args::ChangeArgs;
use pinewrit_relocate::{Move, MovePlan};
use pinewrit_ui::progress::{ProgressView, Screen, Waiting};
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, MediumName, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::number_of;
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, confirm};
use pinewrit_session::signals;

/// A partition that was moved.
#[derive(Serialize, JsonSchema)]
pub struct MoveEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    #[serde(flatten)]
    plan: &'a MovePlan,
}

impl Event for MoveEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["table move"];
}

pub(super) fn run(cx: &Context, change: &ChangeArgs, partition: &str, to: u64) -> Outcome {
    let opened = change::open_as_it_is(cx, change, None)?;
    let name = &opened.name;
    let note = cx.folders.state()?.move_note(&opened.key);
    let device = &*opened.medium.device;
    // While it is being moved, it is in no table.
    let moving = pinewrit_relocate::interrupted(device, &note);
    let moving = moving.map_err(|e| words::disk_error(name, &e))?;
    let number = match moving {
        Some((moving, _)) if partition.parse() == Ok(moving) => moving,
        Some((moving, to)) => return Err(words::interrupted_move(name, moving, to)),
        None => number_of(&opened, partition)?,
    };
    let failed = |error| words::move_error(name, (number, to), &error);
    let waiting = Waiting::new(&cx.ui, format!("working out the move on {name}"));
    let prepared = Move::prepare(device, &note, (number, to));
    drop(waiting);
    let prepared = prepared.map_err(failed)?;
    let plan = prepared.plan().clone();
    let mut facts = FactList::default();
    words::move_plan(&plan, &mut facts);
    let strong = style::STRONG;
    let what = if plan.resumed { "goes on" } else { "moves" };
    cx.ui.say(format!(
        "{strong}partition {number}{strong:#} of {name} {what}\n{}",
        facts.to_text()
    ));
    if !change.dry_run {
        let lost = "Do not pull the medium before it is done.";
        confirm(
            &cx.ui,
            change,
            &format!("Move partition {number} of {name}?"),
            lost,
        )?;
        let screen = Screen::on_stderr();
        let progress = ProgressView::on(
            &screen,
            cx.ui,
            Some((name.clone(), opened.id.clone())),
            false,
        );
        let moved = prepared.carry_out(&opened.undo, &progress, &signals::watch());
        drop(progress);
        moved.map_err(failed)?;
        opened.amend(cx, "table move", Vec::new());
        opened.medium.rescan();
    }
    cx.ui.event(&MoveEvent {
        command: "table move",
        medium: opened.id.clone(),
        dry_run: change.dry_run,
        plan: &plan,
    });
    let good = style::GOOD;
    cx.ui.result(if change.dry_run {
        "nothing was changed (--dry-run); all checks passed\n".to_owned()
    } else {
        format!("{good}done:{good:#} partition {number} of {name} is in its new place, verified\n")
    });
    Ok(())
}
