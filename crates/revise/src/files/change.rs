//! Changing files: what the commands share that put something on a medium.

use pinewrit_args::{ChangeArgs, FatArgs};
use pinewrit_disk::{FreeWrites, Window};
use pinewrit_ui::{Event, MediumName, Message, Ui, style, words};
use pinewrit_volume::Gathered;
use pinewrit_volume::files::UnpackReport;
use pinewrit_volume::files::{Files, FilesError, FilesystemOf, Place, open_to_read};
use schemars::JsonSchema;
use serde::Serialize;

use super::filesystem;
use pinewrit_session::Context;
use pinewrit_session::change::{Opened, tell_recovered};
use pinewrit_session::clock;

/// A change of files.
#[derive(Serialize, JsonSchema)]
pub struct ChangeEvent<'a> {
    /// The command.
    pub(super) command: &'static str,
    #[serde(flatten)]
    pub(super) medium: MediumName,
    /// `PARTITION:/path`.
    pub(super) place: String,
    /// Whether nothing was changed.
    pub(super) dry_run: bool,
    /// Whether anything changed, or would change.
    pub(super) changed: bool,
    /// The change to a text.
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

/// A medium open for a change, and the file system concerned.
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

    pub(super) fn change<T>(
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
        let gathered = Gathered::files(device, free, now, |site| {
            site.set_flags(args.flags()).map_err(FilesError::from)?;
            site.change(&self.found, change)
        });
        gathered.map(Gathered::split)
    }

    /// Reads the file system in its current state.
    pub(super) fn look<T>(
        &self,
        look: impl FnOnce(&Files<'_>) -> Result<T, FilesError>,
    ) -> Result<T, Message> {
        let window = Window::new(&*self.opened.medium.device, self.found.range);
        let files = open_to_read(&window).and_then(|files| look(&files));
        files.map_err(|e| words::files_error(&self.opened.name, &e))
    }

    /// Commits the changes, unless this is a dry run; returns whether there are any.
    pub(super) fn finish(
        &self,
        cx: &Context,
        changes: Gathered<'_, ()>,
        args: &ChangeArgs,
        (command, files): (&str, Vec<String>),
    ) -> Result<bool, Message> {
        let name = &self.opened.name;
        let is_dry = args.dry_run;
        tell_recovered(&cx.ui, &self.opened.id, changes.recovered(), is_dry);
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

/// Content goes straight to free space, except in a dry run.
pub(super) fn free_writes(args: &ChangeArgs) -> FreeWrites {
    if args.dry_run {
        FreeWrites::Dropped
    } else {
        FreeWrites::Direct
    }
}

pub(super) fn event(
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
