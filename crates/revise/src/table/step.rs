//! A change of a table: worked out, shown, confirmed, committed.

use pinewrit_args::ChangeArgs;
use pinewrit_core::table::{TableChange, cut_filesystems, prepare};
use pinewrit_disk::BlockDevice;
use pinewrit_table::{TableEdit, TableError};
use pinewrit_ui::style;
use pinewrit_ui::words::{self, inspection};

use super::TableEvent;
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{Opened, confirm};

/// A change in words, and the new table.
pub(super) struct Step {
    pub(super) command: &'static str,
    /// After "done:".
    pub(super) done: String,
    /// What will be lost, and the question about it.
    pub(super) loses: Option<(String, String)>,
}

/// Changes an existing table.
pub(super) fn edit(
    cx: &Context,
    args: &ChangeArgs,
    opened: &Opened,
    step: Step,
    change: impl FnOnce(&mut TableEdit, &dyn BlockDevice) -> Result<(), TableError>,
) -> Outcome {
    let prepared = prepare(&*opened.medium.device, |device| {
        let mut table = TableEdit::read(device)?;
        change(&mut table, device)?;
        Ok(table)
    });
    let prepared = prepared.map_err(|e| words::table_error(&opened.name, &e))?;
    finish(cx, args, opened, step, prepared)
}

pub(super) fn finish(
    cx: &Context,
    args: &ChangeArgs,
    opened: &Opened,
    step: Step,
    prepared: TableChange<'_>,
) -> Outcome {
    let name = &opened.name;
    let failed = |e: pinewrit_disk::DiskError| words::disk_error(name, &e);
    if let Some(cut) = cut_filesystems(&prepared).map_err(failed)?.first() {
        return Err(words::cut_filesystem(name, cut));
    }
    let changed = !prepared.is_empty().map_err(failed)?;
    if let Some((question, lost)) = &step.loses
        && changed
    {
        confirm(&cx.ui, args, question, lost)?;
    }
    let mut note = None;
    let outcome = prepared.report().clone();
    if changed && !args.dry_run {
        prepared
            .commit(Some(&opened.undo))
            .map_err(|e| words::commit_error(name, &e))?;
        opened.amend(cx, step.command, Vec::new());
        note = rescan_note(opened);
    }
    cx.ui.event(&TableEvent {
        command: step.command,
        medium: opened.id.clone(),
        dry_run: args.dry_run,
        changed,
        before: Some(&outcome.before),
        after: &outcome.after,
    });
    let (good, strong, dim) = (style::GOOD, style::STRONG, style::DIM);
    let mut text = match (changed, args.dry_run) {
        (false, _) => format!("{good}nothing to change{good:#} on {name}\n"),
        (true, true) => {
            format!(
                "{strong}{name}{strong:#} would change like this; nothing was changed (--dry-run)\n"
            )
        }
        (true, false) => format!("{good}done:{good:#} {}\n", step.done),
    };
    if let Some(note) = note {
        text += &format!("  {dim}note{dim:#} {note}\n");
    }
    let sector = opened.medium.device.logical_sector().bytes();
    let sides = [("before", &outcome.before), ("after", &outcome.after)];
    for (side, found) in sides
        .into_iter()
        .filter(|(side, _)| changed || *side == "after")
    {
        let scheme = inspection::scheme(found);
        text += &format!("\n  {dim}{side:<9}{dim:#} {scheme}\n");
        text += &inspection::table(found, sector, pinewrit_ui::width());
    }
    text += &inspection::identifiers(&outcome.after);
    cx.ui.result(text);
    Ok(())
}

/// Makes the system read the new table, unless it still uses the old one.
fn rescan_note(opened: &Opened) -> Option<&'static str> {
    match opened.medium.rescan() {
        pinewrit_host::Rescan::InUse => {
            Some("this computer shows the old partitions until it is reconnected")
        }
        _ => None,
    }
}
