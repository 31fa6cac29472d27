//! `pinewrit files ...`

mod change;
mod look;
mod unpack;

#[cfg(test)]
pub(crate) use change::ChangeEvent;

use pinewrit_disk::BlockDevice;
use pinewrit_host::Readers;
use pinewrit_volume::files::{FilesystemOf, FindError, Place, Rights, find_place};

use super::Outcome;
use crate::args::{FilesAction, FilesArgs};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::Ui;

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &FilesArgs) -> Outcome {
    match &args.action {
        FilesAction::List { at, expected } => {
            if *expected {
                look::expected(ui, readers, at)
            } else {
                look::list(ui, readers, at)
            }
        }
        FilesAction::Tree { at, depth } => look::tree(ui, readers, at, *depth),
        FilesAction::Read { at, to } => look::read(ui, readers, at, to.as_deref()),
        FilesAction::Check { at, list } => look::check(ui, readers, at, list),
        FilesAction::Put(args) => change::put(ui, readers, args),
        FilesAction::MakeFolder {
            change,
            place,
            mode,
            owner,
            fat,
        } => {
            let rights = Rights::of(*mode, *owner);
            change::make_folder(ui, readers, change, (place, fat), rights)
        }
        FilesAction::Move {
            change,
            place,
            to,
            fat,
        } => change::move_to(ui, readers, change, (place, fat), to),
        FilesAction::Remove {
            change,
            place,
            all,
            fat,
        } => change::remove(ui, readers, change, (place, fat), *all),
        FilesAction::Unpack(args) => unpack::unpack(ui, readers, args),
        FilesAction::Edit(args) => change::edit(ui, readers, args),
    }
}

/// The file system that a place is in.
fn filesystem(
    name: &str,
    device: &dyn BlockDevice,
    place: &Place,
) -> Result<FilesystemOf, Message> {
    let all = match find_place(device, &place.partition) {
        Ok(found) => return Ok(found),
        Err(FindError::Disk(error)) => return Err(explain::disk_error(name, &error)),
        Err(FindError::NotOne(all)) => all,
    };
    let what = format!("{name} has no file system for the place {place}");
    let known: Vec<String> = all.iter().map(described).collect();
    let message = Message::new(Exit::Usage, what);
    Err(if known.is_empty() {
        message.fact("there are", "none that are recognised")
    } else {
        message
            .fact("there are", known.join(", "))
            .remedy("name one by its number or label, as in 2:/etc")
    })
}

fn described(one: &FilesystemOf) -> String {
    let number = one.partition.map_or(String::new(), |n| format!("{n} "));
    let label = one.facts.label.as_ref();
    let label = label.map_or(String::new(), |label| format!(" ({label})"));
    format!("{number}{}{label}", one.facts.kind)
}
