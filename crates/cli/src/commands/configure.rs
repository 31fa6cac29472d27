//! `pinewrit configure MEDIUM --settings FILE`

use pinewrit_core::configure::{ChangeKind, ConfigureReport, prepare};
use pinewrit_host::Readers;
use serde::Serialize;

use super::change::{self, Opened};
use super::{Outcome, settings};
use crate::args::{ChangeArgs, ConfigureArgs};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Answer, Ui, style};

#[derive(Serialize)]
struct ConfigureEvent<'a> {
    event: &'static str,
    command: &'static str,
    medium: String,
    dry_run: bool,
    #[serde(flatten)]
    report: &'a ConfigureReport,
}

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &ConfigureArgs) -> Outcome {
    let checked = settings::read(ui, &args.settings)?;
    let change = &args.change;
    let opened = change::open(ui, readers, change, None)?;
    let Opened { name, medium, undo } = opened;
    let prepared =
        prepare(&*medium.device, &checked).map_err(|e| explain::configure_error(&name, &e))?;
    let report = prepared.report().clone();
    if !change.dry_run && !report.is_unchanged() {
        confirm(ui, change, &report)?;
        prepared
            .commit(Some(&undo))
            .map_err(|e| explain::commit_error(&name, &e))?;
    }
    ui.event(&ConfigureEvent {
        event: "result",
        command: "configure",
        medium: change.medium.display().to_string(),
        dry_run: change.dry_run,
        report: &report,
    });
    ui.result(match change.dry_run {
        true => dry_run_text(&name, &report),
        false => done_text(&name, &settings::brief(&checked), &report),
    });
    Ok(())
}

/// Files that somebody else may have made are only replaced when asked to.
fn confirm(ui: &Ui, args: &ChangeArgs, report: &ConfigureReport) -> Outcome {
    let changed = |file: &&pinewrit_core::configure::FileChange| file.kind == ChangeKind::Changed;
    let replaced: Vec<_> = report.files.iter().filter(changed).collect();
    if replaced.is_empty() || args.yes {
        return Ok(());
    }
    let names: Vec<_> = replaced.iter().map(|file| file.path.as_str()).collect();
    let question = format!("Replace {} on the medium?", names.join(", "));
    match ui.ask(question) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was changed")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            "there are settings on this medium already, and nobody to ask",
        )
        .fact("replaced", names.join(", "))
        .remedy("--yes replaces them; --dry-run shows how")),
    }
}

fn place(report: &ConfigureReport) -> String {
    match report.partition {
        Some(number) => format!("{} seed on partition {number}", report.intake),
        None => format!("{} seed", report.intake),
    }
}

/// What became of the files: `user-data and meta-data new`.
pub(super) fn files(report: &ConfigureReport) -> String {
    let mut parts = Vec::new();
    for (kind, word) in [
        (ChangeKind::New, "new"),
        (ChangeKind::Changed, "replaced"),
        (ChangeKind::Same, "as it was"),
    ] {
        let of_kind = report.files.iter().filter(|file| file.kind == kind);
        let names: Vec<_> = of_kind
            .map(|file| file.path.trim_start_matches('/'))
            .collect();
        if !names.is_empty() {
            parts.push(format!("{} {word}", names.join(", ")));
        }
    }
    format!("{}: {}", place(report), parts.join("; "))
}

/// What must be known where cloud-init does not look by itself.
pub(super) fn label_note(report: &ConfigureReport) -> Option<String> {
    (!report.found_by_label).then(|| {
        "cloud-init looks on file systems with the label CIDATA; this one has another, so the \
         image must be set up to look there"
            .to_owned()
    })
}

fn done_text(name: &str, brief: &str, report: &ConfigureReport) -> String {
    let (good, dim) = (style::GOOD, style::DIM);
    match report.is_unchanged() {
        true => format!("{good}unchanged:{good:#} {name} has these settings already: {brief}\n"),
        false => {
            let note = label_note(report).map(|note| format!("  {dim}note     {dim:#} {note}\n"));
            format!(
                "{good}done:{good:#} {name} is configured: {brief}\n  {dim}files    {dim:#} {}\n{}",
                files(report),
                note.unwrap_or_default()
            )
        }
    }
}

fn dry_run_text(name: &str, report: &ConfigureReport) -> String {
    let strong = style::STRONG;
    let mut text = match report.is_unchanged() {
        true => format!("{strong}{name}{strong:#} has these settings already (--dry-run)\n"),
        false => format!(
            "{strong}{name}{strong:#} would change like this; nothing was changed (--dry-run)\n"
        ),
    };
    text += &format!("  {}\n", files(report));
    if let Some(note) = label_note(report) {
        text += &format!("  note: {note}\n");
    }
    for file in &report.files {
        if file.kind == ChangeKind::Same {
            continue;
        }
        text += &format!("\n{strong}{}{strong:#}\n", file.path);
        if file.diff.is_empty() {
            text += "  only hidden values change\n";
        }
        for line in file.diff.lines() {
            let color = match line.as_bytes().first() {
                Some(b'+') => style::ADDED,
                Some(b'-') => style::REMOVED,
                _ => style::DIM,
            };
            text += &format!("  {color}{line}{color:#}\n");
        }
    }
    text
}
