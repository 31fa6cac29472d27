//! `pinewrit files make-folder`

use pinewrit_args::{ChangeArgs, FatArgs};
use pinewrit_ui::{Exit, Message};
use pinewrit_volume::files::{Kind, Place, Rights};

use super::change::{Work, event, tell};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

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
