//! `pinewrit files move`

use pinewrit_args::{ChangeArgs, FatArgs};
use pinewrit_volume::files::{Kind, Place, Rights, join};

use super::change::{Work, event, tell};
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change;

pub(super) fn move_to(
    cx: &Context,
    args: &ChangeArgs,
    (place, fat): (&Place, &FatArgs),
    to: &str,
) -> Outcome {
    // The partition may be repeated in the target.
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
