//! What commands share that change a medium a little: opening it, the undo file, questions.

use std::path::{Path, PathBuf};

use pinewrit_core::inspect::Inspection;
use pinewrit_disk::{CommitState, UndoLog};
use pinewrit_host::{Medium, MediumError, Readers, Target};

use super::{Outcome, records, target};
use crate::args::ChangeArgs;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Answer, Ui, style, units};

/// A medium that is being changed, and what it is called.
pub(crate) struct Opened {
    pub(crate) name: String,
    pub(crate) medium: Medium,
    pub(crate) undo: UndoLog,
}

/// Opens a medium: for reading only, if nothing is to be changed. A card file that is not there is
/// made where a size is given.
pub(crate) fn open(
    ui: &Ui,
    readers: &Readers,
    args: &ChangeArgs,
    size: Option<u64>,
) -> Result<Opened, Message> {
    let mut chosen = target::find(readers, &args.medium, size.is_some())?;
    let name = chosen.name();
    let medium = if args.dry_run {
        let opened = readers.open_for_reading(&chosen.path);
        opened.map_err(|e| explain::medium_error(&e))?
    } else {
        let permits = chosen.permits(ui, readers, &args.access)?;
        let opened = readers.open_target(&chosen.path, size, &permits);
        opened.and_then(Target::into_medium).map_err(|e| match e {
            MediumError::Missing { path } if size.is_none() => Message::new(
                Exit::Usage,
                format!("there is no medium {}", path.display()),
            )
            .remedy("pinewrit write IMAGE --to it first")
            .remedy("or pinewrit table create it --size 8GB for an empty card file"),
            e => explain::medium_error(&e),
        })?
    };
    let undo = match args.dry_run {
        true => {
            tell_interrupted(ui, readers, &medium.path);
            UndoLog::new(undo_path(&medium.path, 1))
        }
        false => settle_interrupted(ui, &name, &medium, args.yes)?,
    };
    Ok(Opened { name, medium, undo })
}

/// How many undo files are kept by the name of one medium: several cards take turns in a reader.
const MAX_UNDO_FILES: u32 = 8;

/// Finishes or takes back what a change that was killed had begun, and finds the place of the next
/// undo file.
pub(crate) fn settle_interrupted(
    ui: &Ui,
    name: &str,
    medium: &Medium,
    is_unasked: bool,
) -> Result<UndoLog, Message> {
    let mut free = None;
    for nth in 1..=MAX_UNDO_FILES {
        let undo = UndoLog::new(undo_path(&medium.path, nth));
        let state = undo.state(&medium.device);
        match state.map_err(|e| explain::undo_error(&e))? {
            CommitState::Nothing => {}
            CommitState::Elsewhere => continue,
            CommitState::Complete => undo.remove().map_err(|e| explain::undo_error(&e))?,
            CommitState::Halfway { written, left } => {
                settle(ui, name, medium, &undo, (written, left), is_unasked)?;
            }
        }
        free.get_or_insert(undo);
    }
    // Nobody has come back for the last one.
    let undo = free.unwrap_or_else(|| UndoLog::new(undo_path(&medium.path, MAX_UNDO_FILES)));
    if let Some(folder) = undo.path().parent() {
        // Where this fails, writing the undo file will say so.
        let _ = std::fs::create_dir_all(folder);
    }
    Ok(undo)
}

fn settle(
    ui: &Ui,
    name: &str,
    medium: &Medium,
    undo: &UndoLog,
    (written, left): (u64, u64),
    is_unasked: bool,
) -> Outcome {
    let style = style::WARNING;
    let (written, left) = (units::size(written), units::size(left));
    ui.say(format!(
        "{style}note:{style:#} an earlier change of {name} was interrupted: {written} of it are on \
         the medium, {left} are not\n"
    ));
    let answer = match is_unasked {
        true => Answer::NobodyToAsk,
        false => ui.ask("Finish it? Else it is put back."),
    };
    let done = match answer {
        Answer::Yes => undo.finish(&medium.device),
        Answer::No | Answer::NobodyToAsk => undo.roll_back(&medium.device),
    };
    done.map_err(|e| explain::undo_error(&e))?;
    ui.say(match answer {
        Answer::Yes => format!("      it is finished; {name} has all of it\n"),
        _ => format!("      it was put back; {name} is as it was before\n"),
    });
    Ok(())
}

/// Says of a medium that is only read that a change of it was interrupted.
pub(crate) fn tell_interrupted(ui: &Ui, readers: &Readers, path: &Path) {
    let all = (1..=MAX_UNDO_FILES).map(|nth| UndoLog::new(undo_path(path, nth)));
    let there: Vec<UndoLog> = all.filter(|undo| undo.path().exists()).collect();
    if there.is_empty() {
        return;
    }
    // One that cannot be opened is told by the command itself.
    let Ok(medium) = readers.open_for_reading(path) else {
        return;
    };
    let is_halfway = |undo: &UndoLog| {
        let state = undo.state(&medium.device);
        matches!(state, Ok(CommitState::Halfway { .. }))
    };
    if there.iter().any(is_halfway) {
        let style = style::WARNING;
        let chosen = target::find(readers, path, false);
        let name = chosen.map_or_else(|_| medium.name(), |chosen| chosen.name());
        ui.say(format!(
            "{style}note:{style:#} an earlier change of {name} was interrupted halfway; the next command \
             that changes it finishes it or puts it back\n"
        ));
    }
}

/// An undo file of a medium, in the state folder, by the medium's full path.
fn undo_path(medium: &Path, nth: u32) -> PathBuf {
    let full = std::fs::canonicalize(medium).unwrap_or_else(|_| medium.to_owned());
    let safe: String = full
        .to_string_lossy()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '_' })
        .rev()
        .take(180)
        .collect();
    let safe: String = safe.chars().rev().collect();
    records::state_folder().join(match nth {
        1 => format!("{safe}.undo"),
        nth => format!("{safe}.{nth}.undo"),
    })
}

/// A change of a text, for a terminal.
pub(crate) fn colored(diff: &str) -> String {
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
pub(crate) fn confirm(ui: &Ui, args: &ChangeArgs, question: &str, lost: &str) -> Outcome {
    if args.yes || args.dry_run {
        return Ok(());
    }
    match ui.ask(question) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was changed")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            "something would be lost, and there is nobody to ask",
        )
        .fact("lost", lost)
        .remedy("--yes does it; --dry-run shows it")),
    }
}

/// The number of the partition that was named by number, label or name.
pub(crate) fn partition(
    medium: &str,
    inspection: &Inspection,
    named: &str,
) -> Result<u32, Message> {
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
            let what = format!("{medium} has two partitions that are called {named}");
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
    Err(match known.is_empty() {
        true => message
            .fact("there are", "none")
            .remedy("pinewrit table create, then pinewrit table add"),
        false => message.fact("there are", known.join(", ")),
    })
}
