//! `pinewrit files edit`

use pinewrit_args::{EditArgs, KindArg};
use pinewrit_ui::{Exit, Message, words};
use pinewrit_volume::files::{Edit, EditFault, EditTextError, Spot};

use super::change::{ChangeEvent, Work, tell};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

fn edit_of(args: &EditArgs) -> Edit {
    let what = &args.what;
    let section = args.section.clone();
    if let Some(text) = &what.line {
        return Edit::Line {
            text: text.clone(),
            spot: match (&args.after, section) {
                (Some(after), _) => Spot::After(after.clone()),
                (None, Some(section)) => Spot::Section(section),
                (None, None) => Spot::End,
            },
        };
    }
    if let Some((key, value)) = what.set.clone() {
        return Edit::Set {
            key,
            value,
            section,
        };
    }
    if let Some(line) = what.remove_line.clone() {
        return Edit::RemoveLine(line);
    }
    if let Some(head) = what.remove_block.clone() {
        return Edit::RemoveBlock(head);
    }
    if let Some(key) = what.unset.clone() {
        return Edit::Unset { key, section };
    }
    match (
        &what.on,
        &what.off,
        &what.word,
        &what.remove_word,
        what.replace_word.as_deref(),
    ) {
        (Some(line), ..) => Edit::On(line.clone()),
        (_, Some(line), ..) => Edit::Off(line.clone()),
        (_, _, Some(word), ..) => Edit::AddWord(word.clone()),
        (_, _, _, _, Some([old, new])) => Edit::ReplaceWord {
            old: old.clone(),
            new: new.clone(),
        },
        (_, _, _, word, _) => Edit::RemoveWord(word.clone().unwrap_or_default()),
    }
}

fn edit_fault(medium: &str, args: &EditArgs, fault: &EditFault) -> Message {
    let exit = if fault.is_missing() {
        Exit::Differences
    } else {
        Exit::Usage
    };
    let what = format!("{} was not changed: {fault}", args.place);
    let message = Message::new(exit, what);
    let message = match fault {
        EditFault::NotOneLine(_) => message.remedy("--line adds a line; --set changes one"),
        _ => message,
    };
    message.remedy(format!(
        "pinewrit files read {medium} {} shows it",
        args.place
    ))
}

pub(super) fn edit(cx: &Context, args: &EditArgs) -> Outcome {
    let opened = change::open(cx, &args.change, None)?;
    let work = Work::begin(&opened, &args.place, &args.fat)?;
    let (path, edit) = (args.place.path.clone(), edit_of(args));
    let kind = args.kind.map(KindArg::kind);
    let keep = args.keep_original;
    let edited = work.gather(&args.change, |files| files.edit(&path, &edit, kind, keep));
    let (changes, diff) = edited.map_err(|error| match error {
        EditTextError::Fault(fault) => edit_fault(&opened.name, args, &fault),
        EditTextError::Files(error) => words::files_error(&opened.name, &error),
    })?;
    let is_changed = work.finish(
        cx,
        changes,
        &args.change,
        ("files edit", vec![args.place.to_string()]),
    )? && diff.is_some();
    cx.ui.event(&ChangeEvent {
        command: "files edit",
        medium: opened.id.clone(),
        place: args.place.to_string(),
        dry_run: args.change.dry_run,
        changed: is_changed,
        diff: diff.clone(),
        unpacked: None,
    });
    tell(
        &cx.ui,
        &args.change,
        is_changed,
        &format!("{} changed on {}", args.place, opened.name),
        &format!("{} would change", args.place),
        &format!("{} on {} is already like this", args.place, opened.name),
    );
    cx.ui.result(change::colored(&diff.unwrap_or_default()));
    Ok(())
}
