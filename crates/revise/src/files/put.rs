//! `pinewrit files put`

use std::os::unix::fs::PermissionsExt;

use pinewrit_args::PutArgs;
use pinewrit_disk::open_plain;
use pinewrit_ui::{Exit, Message, units};
use pinewrit_volume::files::{Kind, Place, Rights, join};

use super::change::{Work, event, tell};
use super::unpack;
use pinewrit_session::Context;
use pinewrit_session::Outcome;
use pinewrit_session::change::{self, confirm};

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
    // Before anything is on the medium.
    if before.is_some() {
        let question = format!("Replace {shown} on {}?", opened.name);
        confirm(&cx.ui, &args.change, &question, &shown.to_string())?;
    }
    let (changes, ()) = work.change(&args.change, |files| {
        let path = &shown.path;
        // A replaced file keeps its permissions, unless others are requested.
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
