//! `pinewrit files remove`

use pinewrit_args::{ChangeArgs, FatArgs};
use pinewrit_ui::{Exit, Message};
use pinewrit_volume::files::{Kind, Place};

use super::change::{Work, event, tell};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, confirm};

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
