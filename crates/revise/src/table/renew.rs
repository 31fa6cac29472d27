//! `pinewrit table renew MEDIUM`

use pinewrit_args::ChangeArgs;
use pinewrit_core::renew::{RenewError, RenewReport, prepare};
use pinewrit_ui::{Event, Exit, MediumName, Message, style, words};
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use super::{Outcome, inspection::FactList};
use pinewrit_session::Context;
use pinewrit_session::change;
use pinewrit_session::clock;

/// Replaced identifiers.
#[derive(Serialize, JsonSchema)]
pub struct RenewEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    #[serde(flatten)]
    report: &'a RenewReport,
}

impl Event for RenewEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["table renew"];
}

pub(crate) fn run(cx: &Context, args: &ChangeArgs) -> Outcome {
    let opened = change::open(cx, args, None)?;
    let name = &opened.name;
    let mut ids = || Uuid::new_v4().into_bytes();
    let prepared = prepare(
        &*opened.medium.device,
        &mut ids,
        args.flags(),
        clock::timestamp(),
    );
    let prepared = prepared.map_err(|e| explained(name, &e))?;
    let report = prepared.report().clone();
    change::tell_recovered(&cx.ui, &opened.id, prepared.recovered(), args.dry_run);
    if !args.dry_run {
        prepared
            .commit(Some(&opened.undo))
            .map_err(|e| words::commit_error(name, &e))?;
        opened.amend(cx, "table renew", Vec::new());
    }
    cx.ui.event(&RenewEvent {
        command: "table renew",
        medium: opened.id.clone(),
        dry_run: args.dry_run,
        report: &report,
    });
    cx.ui.result(text(name, args.dry_run, &report));
    Ok(())
}

fn explained(name: &str, error: &RenewError) -> Message {
    match error {
        RenewError::Table(error) => words::table_error(name, error),
        RenewError::Disk(error) => words::disk_error(name, error),
        other => Message::new(Exit::Medium, format!("{name} did not get new identifiers"))
            .fact("because", other.to_string())
            .fact("state", "nothing was changed"),
    }
}

fn text(name: &str, dry_run: bool, report: &RenewReport) -> String {
    let (good, strong) = (style::GOOD, style::STRONG);
    let mut text = if dry_run {
        format!(
            "{strong}{name}{strong:#} would get new identifiers; nothing was changed (--dry-run)\n"
        )
    } else {
        format!("{good}done:{good:#} {name} has new identifiers\n")
    };
    let mut facts = FactList::default();
    words::renewed(report, dry_run, &mut facts);
    text += &facts.to_text();
    text
}
