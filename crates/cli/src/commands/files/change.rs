//! Changing files: `put`, `make-folder`, `move`, `remove`, `edit`.

use std::os::unix::fs::PermissionsExt;

use pinewrit_disk::{FreeWrites, Window, open_plain};
use pinewrit_volume::Gathered;
use pinewrit_volume::files::UnpackReport;
use pinewrit_volume::files::{
    Edit, EditFault, EditTextError, Files, FilesError, FilesystemOf, Kind, Place, Rights, Spot,
    join, open_to_read,
};
use schemars::JsonSchema;
use serde::Serialize;

use super::super::Outcome;
use super::{filesystem, unpack};
use crate::args::{ChangeArgs, EditArgs, FatArgs, KindArg, PutArgs};
use crate::clock;
use crate::context::Context;
use crate::context::change::{self, Opened, confirm};
use crate::events::{Event, MediumName};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::{Ui, style, units};
use crate::words;

/// A change of files.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ChangeEvent<'a> {
    /// The command.
    pub(super) command: &'static str,
    #[serde(flatten)]
    pub(super) medium: MediumName,
    /// `PARTITION:/path`.
    pub(super) place: String,
    /// Whether nothing was changed.
    pub(super) dry_run: bool,
    /// Whether anything is, or would be, another.
    pub(super) changed: bool,
    /// Of a text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) diff: Option<String>,
    #[serde(flatten)]
    pub(super) unpacked: Option<&'a UnpackReport>,
}

impl Event for ChangeEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &[
        "files put",
        "files remove",
        "files unpack",
        "files edit",
        "files move",
        "files make-folder",
    ];
}

/// A medium that is open for a change, and the file system that it concerns.
pub(super) struct Work<'a> {
    opened: &'a Opened,
    pub(super) found: FilesystemOf,
}

impl<'a> Work<'a> {
    pub(super) fn begin(opened: &'a Opened, place: &Place, fat: &FatArgs) -> Result<Self, Message> {
        let mut found = filesystem(&opened.name, &*opened.medium.device, place)?;
        found.zone = fat.fat_zone.clone();
        Ok(Self { opened, found })
    }

    fn change<T>(
        &self,
        args: &ChangeArgs,
        change: impl FnOnce(&mut Files<'_>) -> Result<T, FilesError>,
    ) -> Result<(Gathered<'a, ()>, T), Message> {
        self.gather(args, change)
            .map_err(|e| words::files_error(&self.opened.name, &e))
    }

    pub(super) fn gather<T, E: From<FilesError>>(
        &self,
        args: &ChangeArgs,
        change: impl FnOnce(&mut Files<'_>) -> Result<T, E>,
    ) -> Result<(Gathered<'a, ()>, T), E> {
        let device = &*self.opened.medium.device;
        let (free, now) = (free_writes(args), clock::timestamp());
        let gathered = Gathered::files(device, free, now, |site| site.change(&self.found, change));
        gathered.map(Gathered::split)
    }

    /// Looks into the file system as it is.
    fn look<T>(
        &self,
        look: impl FnOnce(&Files<'_>) -> Result<T, FilesError>,
    ) -> Result<T, Message> {
        let window = Window::new(&*self.opened.medium.device, self.found.range);
        let files = open_to_read(&window).and_then(|files| look(&files));
        files.map_err(|e| words::files_error(&self.opened.name, &e))
    }

    /// Puts the changes on the medium, unless this is a dry run; returns whether there are any.
    pub(super) fn finish(
        &self,
        cx: &Context,
        changes: Gathered<'_, ()>,
        args: &ChangeArgs,
        (command, files): (&str, Vec<String>),
    ) -> Result<bool, Message> {
        let name = &self.opened.name;
        let is_empty = changes.is_empty();
        if is_empty.map_err(|e| words::disk_error(name, &e))? {
            return Ok(false);
        }
        if !args.dry_run {
            let committed = changes.commit(Some(&self.opened.undo));
            committed.map_err(|e| words::commit_error(name, &e))?;
            self.opened.amend(cx, command, files);
        }
        Ok(true)
    }
}

pub(super) fn tell(
    ui: &Ui,
    args: &ChangeArgs,
    is_changed: bool,
    done: &str,
    would: &str,
    same: &str,
) {
    let (good, strong) = (style::GOOD, style::STRONG);
    ui.result(match (is_changed, args.dry_run) {
        (false, _) => format!("{good}unchanged:{good:#} {same}\n"),
        (true, false) => format!("{good}done:{good:#} {done}\n"),
        (true, true) => {
            format!("{strong}{would}{strong:#}; nothing was changed (--dry-run)\n")
        }
    });
}

pub(super) fn put(cx: &Context, args: &PutArgs) -> Outcome {
    let unreadable = |e: std::io::Error| {
        let what = format!("{} cannot be read", args.file.display());
        Message::new(Exit::Usage, what).fact("system", e.to_string())
    };
    if args.file.is_dir() {
        return unpack::put_folder(cx, args);
    }
    let mut file = open_plain(&args.file).map_err(unreadable)?;
    let facts = file.metadata().map_err(unreadable)?;
    let opened = change::open(cx, &args.change, None)?;
    let work = Work::begin(&opened, &args.place, &args.fat)?;
    let name = args.file.file_name().unwrap_or_default().to_string_lossy();
    let own_mode = (facts.permissions().mode() & 0o777) as u16;
    let (mode, owner) = (args.mode, args.owner);
    let (path, before) = work.look(|files| {
        let is_folder = args.place.is_folder
            || files
                .facts(&args.place.path)?
                .is_some_and(|facts| facts.kind == Kind::Folder);
        let path = if is_folder {
            join(&args.place.path, &name)
        } else {
            args.place.path.clone()
        };
        let before = files.facts(&path)?;
        Ok((path, before))
    })?;
    let shown = Place {
        path,
        ..args.place.clone()
    };
    // Before any of it is on the medium.
    if before.is_some() {
        let question = format!("Replace {shown} on {}?", opened.name);
        confirm(&cx.ui, &args.change, &question, &shown.to_string())?;
    }
    let (changes, ()) = work.change(&args.change, |files| {
        let path = &shown.path;
        // What replaces a file keeps its rights, unless others are asked for.
        let known = files.rights(path)?.unwrap_or(Rights::root(own_mode));
        let owner = owner.unwrap_or((known.uid, known.gid));
        let rights = Rights::of(mode.unwrap_or(known.mode), owner);
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        files.make_folders(folder, Rights::root(0o755))?;
        files.put_from(path, rights, facts.len(), &mut file)
    })?;
    let is_changed = work.finish(
        cx,
        changes,
        &args.change,
        ("files put", vec![shown.to_string()]),
    )?;
    event(
        &cx.ui,
        "files put",
        &opened,
        &shown,
        &args.change,
        is_changed,
    );
    let size = units::size(facts.len());
    let verb = if before.is_some() { "replaced" } else { "new" };
    tell(
        &cx.ui,
        &args.change,
        is_changed,
        &format!("{shown} is on {}, {size}, {verb}", opened.name),
        &format!("{shown} would be {verb}, {size}"),
        &format!("{shown} on {} is already identical", opened.name),
    );
    Ok(())
}

pub(super) fn make_folder(
    cx: &Context,
    args: &ChangeArgs,
    (place, fat): (&Place, &FatArgs),
    rights: Rights,
) -> Outcome {
    let opened = change::open(cx, args, None)?;
    let work = Work::begin(&opened, place, fat)?;
    let path = place.path.clone();
    let (changes, is_file) = work.change(args, |files| {
        let there = files.facts(&path)?;
        let is_file = there.is_some_and(|facts| facts.kind != Kind::Folder);
        if !is_file {
            files.make_folders(&path, rights)?;
        }
        Ok(is_file)
    })?;
    if is_file {
        let what = format!("{place} already exists and is not a directory");
        return Err(Message::new(Exit::Usage, what).remedy("another name, or remove it first"));
    }
    let files = vec![place.to_string()];
    let is_changed = work.finish(cx, changes, args, ("files make-folder", files))?;
    event(
        &cx.ui,
        "files make-folder",
        &opened,
        place,
        args,
        is_changed,
    );
    tell(
        &cx.ui,
        args,
        is_changed,
        &format!("{place} created on {}", opened.name),
        &format!("{place} would be created"),
        &format!("{place} already exists on {}", opened.name),
    );
    Ok(())
}

pub(super) fn move_to(
    cx: &Context,
    args: &ChangeArgs,
    (place, fat): (&Place, &FatArgs),
    to: &str,
) -> Outcome {
    // The partition may be named once more.
    let bare = to.split_once(":/").map_or(to, |(_, path)| path);
    let is_folder = bare.ends_with('/');
    let opened = change::open(cx, args, None)?;
    let work = Work::begin(&opened, place, fat)?;
    let path = place.path.clone();
    let (changes, target) = work.change(args, |files| {
        let target = format!("/{}", bare.trim_matches('/'));
        let there = files.facts(&target)?;
        let is_inside = is_folder || there.is_some_and(|facts| facts.kind == Kind::Folder);
        let name = path.rsplit('/').next().unwrap_or_default();
        let target = if is_inside {
            join(&target, name)
        } else {
            target
        };
        let folder = target.rsplit_once('/').map_or("", |(folder, _)| folder);
        if target != path {
            files.make_folders(folder, Rights::root(0o755))?;
            files.rename(&path, &target)?;
        }
        Ok(target)
    })?;
    let new = Place {
        path: target,
        ..place.clone()
    };
    let files = vec![place.to_string(), new.to_string()];
    let is_changed = work.finish(cx, changes, args, ("files move", files))?;
    event(&cx.ui, "files move", &opened, &new, args, is_changed);
    tell(
        &cx.ui,
        args,
        is_changed,
        &format!("{place} is now {new} on {}", opened.name),
        &format!("{place} would be {new}"),
        &format!("{place} is already there"),
    );
    Ok(())
}

/// Content goes to free places at once, unless nothing is to be changed.
pub(super) fn free_writes(args: &ChangeArgs) -> FreeWrites {
    if args.dry_run {
        FreeWrites::Dropped
    } else {
        FreeWrites::Direct
    }
}

fn event(
    ui: &Ui,
    command: &'static str,
    opened: &Opened,
    place: &Place,
    args: &ChangeArgs,
    changed: bool,
) {
    ui.event(&ChangeEvent {
        command,
        medium: opened.id.clone(),
        place: place.to_string(),
        dry_run: args.dry_run,
        changed,
        diff: None,
        unpacked: None,
    });
}

pub(super) fn remove(
    cx: &Context,
    args: &ChangeArgs,
    (place, fat): (&Place, &FatArgs),
    all: bool,
) -> Outcome {
    if place.path == "/" {
        let what = "the root of a file system cannot be removed";
        return Err(Message::new(Exit::Usage, what).remedy("pinewrit format creates a new one"));
    }
    let opened = change::open(cx, args, None)?;
    let work = Work::begin(&opened, place, fat)?;
    let path = place.path.clone();
    let (changes, is_folder) = work.change(args, |files| {
        let facts = files.facts(&path)?;
        let is_folder = facts.is_some_and(|facts| facts.kind == Kind::Folder);
        if all {
            files.remove_all(&path)?
        } else {
            files.remove(&path)?
        }
        Ok(is_folder)
    })?;
    let what = match (is_folder, all) {
        (true, true) => format!("{place} with everything below it"),
        _ => place.to_string(),
    };
    confirm(
        &cx.ui,
        args,
        &format!("Remove {what} from {}?", opened.name),
        &what,
    )?;
    let is_changed = work.finish(cx, changes, args, ("files remove", vec![what.clone()]))?;
    event(&cx.ui, "files remove", &opened, place, args, is_changed);
    tell(
        &cx.ui,
        args,
        is_changed,
        &format!("{what} removed from {}", opened.name),
        &format!("{what} would be removed"),
        &format!("{what} does not exist"),
    );
    Ok(())
}

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
