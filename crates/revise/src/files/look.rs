//! What the read-only commands share.

use pinewrit_args::{ReadArgs, SourceArgs};
use pinewrit_disk::{BlockDevice, Window};
use pinewrit_image::PeekDevice;
use pinewrit_ui::text::printable;
use pinewrit_ui::{Exit, Message, Ui, words};
use pinewrit_volume::files::{FileFacts, Files, Kind, open_to_read};

use super::filesystem;
use crate::events::ListEvent;
use pinewrit_session::change;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, medium};

/// Opens the place and passes its file system on.
pub(super) fn look<T>(
    cx: &Context,
    at: &ReadArgs,
    work: impl FnOnce(&Files<'_>, &str) -> Result<T, Message>,
) -> Result<T, Message> {
    let found = medium::named_as_source(cx, &at.source).map(|chosen| chosen.path);
    if let Some(path) = found.as_deref().or(at.source.path()) {
        change::tell_interrupted(cx, path);
    }
    if let Some(path) = found {
        let medium = cx.readers.open_for_reading(&path);
        let medium = medium.map_err(|e| words::medium_error(&e))?;
        return look_into(&medium.name(), &*medium.device, at, work);
    }
    let source = source::open(cx, &at.source, &SourceArgs::plain(), Keep::No)?;
    let device = PeekDevice::new(source.for_a_look());
    look_into(&source.name(), &device, at, work)
}

fn look_into<T>(
    name: &str,
    device: &dyn BlockDevice,
    at: &ReadArgs,
    work: impl FnOnce(&Files<'_>, &str) -> Result<T, Message>,
) -> Result<T, Message> {
    let found = filesystem(name, device, &at.place)?;
    let window = Window::new(device, found.range);
    let files = open_to_read(&window).map_err(|e| words::files_error(name, &e))?;
    work(&files.with_zone(&at.fat.fat_zone), name)
}

/// The command that shows what is at a place.
pub(super) fn listing(at: &ReadArgs) -> String {
    format!("pinewrit files list {} {}", at.source, at.place)
}

pub(super) fn not_there(at: &ReadArgs, files: &Files<'_>) -> Message {
    let path = &at.place.path;
    let is_there = matches!(files.facts(path), Ok(Some(_)));
    if is_there {
        let what = format!("{} is not a directory", at.place);
        return Message::new(Exit::Usage, what).remedy(listing(at));
    }
    let message = Message::new(Exit::Usage, format!("{} does not exist", at.place));
    let folder = path.rsplit_once('/').map_or("/", |(folder, _)| folder);
    match files.names(folder) {
        Ok(Some(names)) if !names.is_empty() => {
            let shown = names.iter().take(12).map(|name| printable(name));
            let mut shown: Vec<String> = shown.collect();
            if names.len() > shown.len() {
                shown.push(format!("and {} more", names.len() - shown.len()));
            }
            let folder = if folder.is_empty() { "/" } else { folder };
            message.fact(format!("in {folder}"), shown.join(", "))
        }
        _ => message,
    }
}

pub(super) fn tell_list(ui: &Ui, command: &'static str, source: &str, at: &ReadArgs, count: usize) {
    ui.event(&ListEvent {
        command,
        source,
        place: at.place.to_string(),
        count,
    });
}

/// Permissions as `ls` shows them, if there are any.
pub(super) fn rights(facts: &FileFacts) -> String {
    let kind = match facts.kind {
        Kind::File => '-',
        Kind::Folder => 'd',
        Kind::Link => 'l',
        Kind::Special => 's',
    };
    let Some(mode) = facts.mode else {
        return kind.to_string();
    };
    let mut text = String::from(kind);
    for (shift, special, letter) in [(6, 0o4000, 's'), (3, 0o2000, 's'), (0, 0o1000, 't')] {
        let bits = mode >> shift;
        text.push(if bits & 4 != 0 { 'r' } else { '-' });
        text.push(if bits & 2 != 0 { 'w' } else { '-' });
        text.push(match (mode & special != 0, bits & 1 != 0) {
            (true, true) => letter,
            (true, false) => letter.to_ascii_uppercase(),
            (false, true) => 'x',
            (false, false) => '-',
        });
    }
    text
}

pub(super) fn time(seconds: Option<i64>) -> String {
    let time = seconds.and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
    time.map_or(String::new(), |time| {
        time.strftime("%Y-%m-%d %H:%M").to_string()
    })
}

pub(super) fn shown_name(path: &str, facts: &FileFacts) -> String {
    let name = printable(path.rsplit('/').next().unwrap_or(path));
    match (&facts.kind, &facts.target) {
        (Kind::Folder, _) => format!("{name}/"),
        (_, Some(target)) => format!("{name} → {}", printable(target)),
        _ => name,
    }
}

/// The most lines of a tree on a screen.
pub(super) const MAX_LINES: usize = 200_000;
