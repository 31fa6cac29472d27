//! What commands with small changes to a medium share: opening it, the undo file, questions.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use pinewrit_args::ChangeArgs;
use pinewrit_core::inspect::Inspection;
use pinewrit_core::receipt::{
    AmendedMedium, Books, Receipt, ReceiptChange, ReceiptError, ReceiptSettings,
};
use pinewrit_core::state::StateFolder;
use pinewrit_disk::{CommitState, MemoryDevice, UndoError, UndoLog, open_plain};
use pinewrit_host::{Medium, MediumError};
use pinewrit_image::Wrapping;
use pinewrit_ui::{Answer, Event, Exit, MediumName, Message, Ui, style, units, words};
use pinewrit_volume::Recovered;
use schemars::JsonSchema;
use serde::Serialize;

use super::measure;
use super::medium::{self, Chosen};
use crate::Context;
use crate::Outcome;
use crate::clock;

/// A medium being changed, and its name.
pub struct Opened {
    /// Its name in messages.
    pub name: String,
    /// Its name in JSON.
    pub id: MediumName,
    /// The medium.
    pub medium: Medium,
    /// What a change can be put back from.
    pub undo: UndoLog,
    /// The key of its records.
    pub key: String,
    /// Its receipts, to be amended; `None` in a dry run.
    books: Option<Arc<AmendedMedium>>,
}

/// Changes that a file system was about to make when it was cut off, and that are made first.
#[derive(Serialize, JsonSchema)]
pub struct RecoveredEvent<'a> {
    #[serde(flatten)]
    medium: &'a MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    /// The file systems.
    recovered: &'a [Recovered],
}

impl Event for RecoveredEvent<'_> {
    const EVENT: &'static str = "recovered";
}

/// Says which file systems were cut off.
pub fn tell_recovered(ui: &Ui, id: &MediumName, recovered: &[Recovered], is_dry: bool) {
    if recovered.is_empty() {
        return;
    }
    ui.event(&RecoveredEvent {
        medium: id,
        dry_run: is_dry,
        recovered,
    });
    let done = if is_dry { "would be done" } else { "done" };
    for one in recovered {
        let what = words::recovered(one);
        ui.say(format!(
            "note: a file system was not unmounted; {done} first, with this change:\n  {what}\n"
        ));
    }
}

impl Opened {
    /// Updates the medium's receipts after a change. A receipt that cannot be written is no reason
    /// to call a good card bad.
    pub fn amend(&self, cx: &Context, command: &str, files: Vec<String>) {
        self.amend_by(cx, clock::change(command, files));
    }

    /// As [`Opened::amend`], after settings were put on the medium.
    pub fn amend_settings(
        &self,
        cx: &Context,
        settings: Option<ReceiptSettings>,
        files: Vec<String>,
    ) {
        self.amend_by(
            cx,
            ReceiptChange {
                settings: settings.map(Box::new),
                ..clock::change("configure", files)
            },
        );
    }

    fn amend_by(&self, cx: &Context, change: ReceiptChange) {
        if let Some(books) = &self.books {
            amend(cx, change, |state, change| books.amend(state, change));
        }
    }
}

fn amend(
    cx: &Context,
    change: ReceiptChange,
    amend: impl FnOnce(&StateFolder, &ReceiptChange) -> Result<Vec<(String, Receipt)>, ReceiptError>,
) {
    let amended = cx.folders.state().map(|state| amend(&state, &change));
    match amended {
        Ok(Ok(receipts)) => cx.record_change(&change.command, &change.files, &receipts),
        Ok(Err(error)) => {
            let why = words::error_chain(&error);
            cx.ui.warn(format!(
                "note: the receipt does not have this change: {why}\n"
            ));
        }
        Err(_) => {}
    }
}

/// Opens a medium; read-only for a dry run. A card file that does not exist is created if a size is
/// given.
pub fn open(cx: &Context, args: &ChangeArgs, size: Option<u64>) -> Result<Opened, Message> {
    let opened = open_as_it_is(cx, args, size)?;
    must_not_be_moving(cx, &opened)?;
    Ok(opened)
}

/// A medium of which a partition has been moved in part has to be finished first.
fn must_not_be_moving(cx: &Context, opened: &Opened) -> Outcome {
    let Some(state) = cx.folders.state_if_any() else {
        return Ok(());
    };
    let note = state.move_note(&opened.key);
    if !note.exists() {
        return Ok(());
    }
    let found = pinewrit_relocate::interrupted(&*opened.medium.device, &note);
    match found.map_err(|e| words::disk_error(&opened.name, &e))? {
        Some((partition, to)) => Err(words::interrupted_move(&opened.name, partition, to)),
        None => Ok(()),
    }
}

/// The same for a medium of which a partition may have been moved in part.
pub fn open_as_it_is(
    cx: &Context,
    args: &ChangeArgs,
    size: Option<u64>,
) -> Result<Opened, Message> {
    let mut chosen = medium::find(cx, &args.medium, size.is_some())?;
    let name = chosen.name();
    medium::must_not_be_system(&chosen)?;
    medium::must_not_hold_records(cx, &chosen)?;
    // A dry run is refused for the same reasons as the real one.
    let permits = if args.dry_run {
        chosen.given_permits(&args.access)
    } else {
        chosen.permits(cx, &args.access)?
    };
    let opened = cx.readers.open_target(&chosen.path, size, &permits);
    let opened = opened.and_then(|target| {
        if args.dry_run {
            target.into_medium_to_look_at()
        } else {
            target.into_medium()
        }
    });
    if chosen.facts.is_none() {
        must_not_be_packed(&name, &chosen.path)?;
    }
    let mut medium = opened.map_err(|e| match e {
        MediumError::Missing { path } if size.is_none() && !path.starts_with("/dev") => {
            let what = format!("there is no medium {}", path.display());
            Message::new(Exit::Usage, what)
                .remedy("pinewrit write IMAGE --to it first")
                .remedy("or pinewrit table create it --size 8GB for an empty card file")
        }
        e => words::named_medium_error(&name, &e),
    })?;
    if args.dry_run {
        tell_interrupted(cx, &medium.path);
        return Ok(Opened {
            undo: UndoLog::new(PathBuf::new()),
            books: None,
            key: chosen.key(),
            id: chosen.medium_name(),
            name,
            medium,
        });
    }
    let key = chosen.key();
    measure::settle(cx, (&name, &key), &*medium.device)?;
    let undo = settle_interrupted(cx, &chosen, &medium, args.yes)?;
    let found = cx
        .folders
        .state()?
        .receipts_of(&*medium.device, chosen.subject(&key));
    let nothing = Box::new(MemoryDevice::new(0));
    let device = std::mem::replace(&mut medium.device, nothing);
    let books = Arc::new(AmendedMedium::new(device, Books::open(found)));
    medium.device = Box::new(Arc::clone(&books));
    Ok(Opened {
        medium,
        books: Some(books),
        key,
        id: chosen.medium_name(),
        name,
        undo,
    })
}

/// A packed image is not a card file: its content cannot be changed.
fn must_not_be_packed(name: &str, path: &Path) -> Outcome {
    let mut head = [0; 512];
    let read = open_plain(path).and_then(|mut file| file.read(&mut head));
    let wrapping = Wrapping::detect(&head[..read.unwrap_or(0)]);
    let Some(wrapping) = wrapping else {
        return Ok(());
    };
    let what = format!(
        "{name} is compressed ({}), and cannot be changed",
        wrapping.word()
    );
    Err(Message::new(Exit::Usage, what)
        .fact("state", "nothing was changed")
        .remedy(format!(
            "pinewrit write {} --to MEDIUM first",
            path.display()
        ))
        .remedy("--settings adds settings at the same time"))
}

/// Finishes or takes back an interrupted change, and determines the place of the next undo file.
pub fn settle_interrupted(
    cx: &Context,
    chosen: &Chosen,
    medium: &Medium,
    is_unasked: bool,
) -> Result<UndoLog, Message> {
    let name = chosen.name();
    let mut free = None;
    let mut last = None;
    for path in cx.folders.state()?.undo_paths(&medium.path) {
        let undo = UndoLog::new(path);
        last = Some(undo.clone());
        let state = undo.state(&medium.device);
        match state.map_err(|e| words::undo_error(&e))? {
            CommitState::Nothing => {}
            CommitState::Elsewhere => continue,
            CommitState::Complete => {
                amend_by(cx, chosen, medium, &undo, |undo| undo.remove())?;
            }
            CommitState::Halfway { written, left } => {
                let finishes = wants_finish(&cx.ui, &name, (written, left), is_unasked);
                if finishes {
                    amend_by(cx, chosen, medium, &undo, |undo| {
                        undo.finish(&medium.device).map(drop)
                    })?
                } else {
                    let done = undo.roll_back(&medium.device);
                    done.map_err(|e| words::undo_error(&e))?;
                }
                cx.ui.say(if finishes {
                    format!("      it is finished; {name} has all of it\n")
                } else {
                    format!("      it was rolled back; {name} is as it was before\n")
                });
            }
        }
        free.get_or_insert(undo);
    }
    // The last one was abandoned.
    let undo = free.or(last);
    undo.ok_or_else(|| Message::new(Exit::Internal, "there is no place for an undo file"))
}

/// Asks whether to finish an interrupted change; otherwise it is taken back.
fn wants_finish(ui: &Ui, name: &str, (written, left): (u64, u64), is_unasked: bool) -> bool {
    let style = style::WARNING;
    let (written, left) = (units::size(written), units::size(left));
    ui.say(format!(
        "{style}note:{style:#} an earlier change of {name} was interrupted: {written} of it is on the medium, {left} is not\n"
    ));
    !is_unasked && ui.ask("Finish it? Otherwise it is rolled back.") == Answer::Yes
}

/// Completes an earlier change, and records it in the receipts.
fn amend_by(
    cx: &Context,
    chosen: &Chosen,
    medium: &Medium,
    undo: &UndoLog,
    end: impl FnOnce(&UndoLog) -> Result<(), UndoError>,
) -> Outcome {
    let failed = |e: UndoError| words::undo_error(&e);
    let before = undo.before(&medium.device).map_err(failed)?;
    let key = chosen.key();
    let found = cx
        .folders
        .state()?
        .receipts_of(&before, chosen.subject(&key));
    let mut books = Books::open(found);
    let changed = before.changed();
    for range in changed.map_err(|e| words::disk_error(&chosen.name(), &e))? {
        books.note(&before, range);
    }
    end(undo).map_err(failed)?;
    let device = &*medium.device;
    amend(cx, clock::change("finish", Vec::new()), |state, change| {
        books.amend(device, state, change)
    });
    Ok(())
}

/// Warns that a change was interrupted on a medium that is only read.
pub fn tell_interrupted(cx: &Context, path: &Path) {
    if let Ok(chosen) = medium::find(cx, path, false) {
        measure::tell_interrupted(cx, (&chosen.name(), &chosen.key()));
    }
    let Some(state) = cx.folders.state_if_any() else {
        return;
    };
    let all = state.undo_paths(path).into_iter().map(UndoLog::new);
    let there: Vec<UndoLog> = all.filter(|undo| undo.path().exists()).collect();
    if there.is_empty() {
        return;
    }
    // If it cannot be opened, the command itself reports that.
    let Ok(medium) = cx.readers.open_for_reading(path) else {
        return;
    };
    let is_halfway = |undo: &UndoLog| {
        let state = undo.state(&medium.device);
        matches!(state, Ok(CommitState::Halfway { .. }))
    };
    if there.iter().any(is_halfway) {
        let style = style::WARNING;
        let chosen = medium::find(cx, path, false);
        let name = chosen.map_or_else(|_| medium.name(), |chosen| chosen.name());
        cx.ui.say(format!(
            "{style}note:{style:#} an earlier change of {name} was interrupted halfway; the next command \
             that changes it finishes it or rolls it back\n"
        ));
    }
}

/// A change to a text, for a terminal.
pub fn colored(diff: &str) -> String {
    let line = |line: &str| {
        let color = match line.as_bytes().first() {
            Some(b'+') => style::ADDED,
            Some(b'-') => style::REMOVED,
            _ => style::DIM,
        };
        format!("  {color}{line}{color:#}\n")
    };
    diff.lines().map(line).collect()
}

/// Asks before something is lost.
pub fn confirm(ui: &Ui, args: &ChangeArgs, question: &str, lost: &str) -> Outcome {
    if args.yes || args.dry_run {
        return Ok(());
    }
    match ui.ask(question) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was changed")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            "data would be lost, and there is nobody to ask",
        )
        .fact("lost", lost)
        .remedy("--yes does it; --dry-run shows it")),
    }
}

/// The number of a partition given by number, label or name.
pub fn partition(medium: &str, inspection: &Inspection, named: &str) -> Result<u32, Message> {
    let all = &inspection.partitions;
    let label = |p: &pinewrit_core::inspect::PartitionFacts| {
        p.filesystem.as_ref().and_then(|fs| fs.label.clone())
    };
    let by_number = named.parse().ok();
    if let Some(number) = by_number
        && all.iter().any(|p| p.number == number)
    {
        return Ok(number);
    }
    let is_named = |p: &&pinewrit_core::inspect::PartitionFacts| {
        label(p).as_deref() == Some(named) || p.name.as_deref() == Some(named)
    };
    let mut found = all.iter().filter(is_named);
    match (found.next(), found.next()) {
        (Some(only), None) => return Ok(only.number),
        (Some(first), Some(second)) => {
            let what = format!("{medium} has two partitions called {named}");
            return Err(Message::new(Exit::Usage, what)
                .remedy(format!("name {} or {}", first.number, second.number)));
        }
        _ => {}
    }
    let message = Message::new(Exit::Usage, format!("{medium} has no partition {named}"));
    let known: Vec<String> = all
        .iter()
        .map(|p| match label(p).or(p.name.clone()) {
            Some(label) => format!("{} ({label})", p.number),
            None => p.number.to_string(),
        })
        .collect();
    Err(if known.is_empty() {
        message
            .fact("there are", "none")
            .remedy("pinewrit table create, then pinewrit table add")
    } else {
        message.fact("there are", known.join(", "))
    })
}
