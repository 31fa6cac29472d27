//! `pinewrit files ...`

mod change;
mod check;
mod edit;
mod list;
mod look;
mod make_folder;
mod move_to;
mod put;
mod read;
mod remove;
mod tree;
mod unpack;

pub use change::ChangeEvent;

use pinewrit_args::{FilesAction, FilesArgs};
use pinewrit_disk::BlockDevice;
use pinewrit_ui::{Exit, Message, words};
use pinewrit_volume::files::{FilesystemOf, FindError, Place, Rights, find_place};

use pinewrit_session::Context;
use pinewrit_session::Outcome;

/// Looks at the files of a medium or an image, or changes them.
///
/// # Errors
/// The message that ends the command.
pub fn run(cx: &Context, args: &FilesArgs) -> Outcome {
    match &args.action {
        FilesAction::List { at, expected } => {
            if *expected {
                list::expected(cx, at)
            } else {
                list::list(cx, at)
            }
        }
        FilesAction::Tree { at, depth } => tree::tree(cx, at, *depth),
        FilesAction::Read { at, to } => read::read(cx, at, to.as_deref()),
        FilesAction::Check { at, list } => check::check(cx, at, list),
        FilesAction::Put(args) => put::put(cx, args),
        FilesAction::MakeFolder {
            change,
            place,
            mode,
            owner,
            fat,
        } => {
            let rights = Rights::of(*mode, *owner);
            make_folder::make_folder(cx, change, (place, fat), rights)
        }
        FilesAction::Move {
            change,
            place,
            to,
            fat,
        } => move_to::move_to(cx, change, (place, fat), to),
        FilesAction::Remove {
            change,
            place,
            all,
            fat,
        } => remove::remove(cx, change, (place, fat), *all),
        FilesAction::Unpack(args) => unpack::unpack(cx, args),
        FilesAction::Edit(args) => edit::edit(cx, args),
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
        Err(FindError::Disk(error)) => return Err(words::disk_error(name, &error)),
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
