//! `pinewrit shelf ...`

mod add;
mod check;
mod follow;
mod get;
mod list;

use std::fs::{self, Permissions};
use std::io::{self, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use pinewrit_args::{ShelfAction, ShelfArgs};
use pinewrit_image::{Location, forget_download, kept_download};
use pinewrit_session::{Context, shelf};
use pinewrit_shelf::{Base, Found, ImageName};
use pinewrit_ui::{Answer, Event, Exit, Message, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
#[cfg(test)]
pub(crate) use check::{ListedFileEvent, ShelfCheckEvent};
pub(crate) use list::made_from;

/// Images on the shelf.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ShelfEvent {
    /// The command.
    command: &'static str,
    /// The images.
    images: Vec<ImageRow>,
}

impl Event for ShelfEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &[
        "shelf list",
        "shelf show",
        "shelf add",
        "shelf get",
        "shelf remove",
        "shelf use",
    ];
}

/// What a catalogue says of an image.
#[derive(Serialize, JsonSchema)]
struct ImageRow {
    /// Its name.
    name: String,
    /// The version.
    version: String,
    /// When that was published.
    date: Option<String>,
    /// The boards that it is for.
    boards: Vec<String>,
    /// Their processor.
    architecture: Option<&'static str>,
    /// Where it is.
    source: String,
    /// Its size as it is there.
    packed_bytes: Option<u64>,
    /// Its unpacked size.
    unpacked_bytes: Option<u64>,
    /// The checksum of the file as it is there.
    checksum: Option<String>,
    /// The smallest medium that it is meant for, in bytes.
    smallest_bytes: Option<u64>,
    /// How it takes settings.
    intake: Option<String>,
    /// What people should know.
    notes: Option<String>,
    /// What is to be used instead.
    replaced_by: Option<String>,
    /// Whether it must be signed by a key that the user has.
    signed: bool,
    /// The catalogue that it is in.
    catalogue: String,
    /// Whether it can be used without a network.
    here: bool,
    /// How many units have it, by the ledger; null if that was not looked up.
    units: Option<usize>,
}

impl ImageRow {
    fn of(cx: &Context, found: &Found<'_>, units: Option<usize>) -> Self {
        let image = found.image;
        Self {
            name: image.name.clone(),
            version: image.version.clone(),
            date: image.date.map(|date| date.to_string()),
            boards: image.boards.clone(),
            architecture: image.architecture.map(|one| one.word()),
            source: found.location().to_string(),
            packed_bytes: image.packed,
            unpacked_bytes: image.unpacked,
            checksum: image.checksum.as_ref().map(ToString::to_string),
            smallest_bytes: image.smallest,
            intake: image.intake.clone(),
            notes: image.notes.clone(),
            replaced_by: image.replaced_by.as_ref().map(ToString::to_string),
            signed: found.must_be_signed(),
            catalogue: found.base.place().to_string(),
            here: is_here(cx, &found.location()),
            units,
        }
    }
}

/// Whether it can be used without a network.
fn is_here(cx: &Context, location: &Location) -> bool {
    match location {
        Location::Path(path) => path.exists(),
        Location::Url(url) => {
            let cache = cx.folders.cache().ok();
            cache.is_some_and(|cache| kept_download(&cache, url).is_some())
        }
        Location::Shelf(_) => false,
    }
}

pub(crate) fn run(cx: &Context, args: &ShelfArgs) -> Outcome {
    match &args.action {
        ShelfAction::Add(args) => add::run(cx, args),
        ShelfAction::List(args) => list::run(cx, args),
        ShelfAction::Show { name } => list::show(cx, name),
        ShelfAction::Get { name, options } => get::run(cx, name, options),
        ShelfAction::Check { names, full } => check::run(cx, names, *full),
        ShelfAction::Remove { name, yes } => remove(cx, name, *yes),
        ShelfAction::Use {
            address,
            signed_by,
            accept,
        } => follow::run(cx, address, signed_by.as_deref(), *accept),
    }
}

/// A name as it was typed; `shelf:` before it does no harm.
fn name(text: &str) -> Result<ImageName, Message> {
    let text = text.strip_prefix("shelf:").unwrap_or(text);
    ImageName::parse(text).map_err(|e| words::shelf::name_error(&e))
}

fn tell(cx: &Context, command: &'static str, images: Vec<ImageRow>) {
    cx.ui.event(&ShelfEvent { command, images });
}

/// Writes the user's catalogue anew; others read it as before.
fn save(path: &Path, text: &str) -> Outcome {
    let saved = || -> io::Result<()> {
        // It may be a link to where it is kept.
        let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let folder = path
            .parent()
            .filter(|folder| !folder.as_os_str().is_empty());
        let folder = folder.unwrap_or(Path::new("."));
        fs::create_dir_all(folder)?;
        let present = fs::metadata(&path).map(|facts| facts.permissions()).ok();
        let fresh = Permissions::from_mode(0o666);
        let mut file = tempfile::Builder::new()
            .permissions(fresh)
            .tempfile_in(folder)?;
        file.write_all(text.as_bytes())?;
        if let Some(permissions) = present {
            file.as_file().set_permissions(permissions)?;
        }
        file.as_file().sync_all()?;
        file.persist(&path)?;
        Ok(())
    };
    saved().map_err(|error| {
        let what = format!("{} cannot be written", path.display());
        Message::new(Exit::Usage, what).fact("system", error.to_string())
    })
}

/// The text of the user's catalogue; empty if there is none.
fn text_of(path: &Path) -> Result<String, Message> {
    match fs::read_to_string(path) {
        Ok(text) => Ok(text),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(String::new()),
        Err(error) => {
            let what = format!("{} cannot be read", path.display());
            Err(Message::new(Exit::Usage, what).fact("system", error.to_string()))
        }
    }
}

fn remove(cx: &Context, text: &str, yes: bool) -> Outcome {
    let wanted = match follow::followed(cx, text)? {
        Some((file, follow)) => return follow::stop(cx, &file, &follow),
        None => name(text)?,
    };
    for file in shelf::own_files(cx) {
        let catalogue = shelf::read_own(&file)?;
        let own = catalogue.images.iter();
        let images: Vec<_> = own.filter(|image| wanted.means(image)).collect();
        if images.is_empty() {
            continue;
        }
        let names: Vec<String> = images
            .iter()
            .map(|one| one.full_name().to_string())
            .collect();
        let names = names.join(", ");
        let place = file.display();
        if !yes && images.len() > 1 {
            confirm(cx, format!("Remove {names} from {place}?"), images.len())?;
        }
        let told = |e| words::shelf::edit_error(&place.to_string(), &e);
        let changed = pinewrit_shelf::remove(&text_of(&file)?, &wanted).map_err(told)?;
        save(&file, &changed.unwrap_or_default())?;
        let base = Base::File(file.clone());
        for image in &images {
            forget(cx, &base.location(&image.source));
        }
        tell(cx, "shelf remove", Vec::new());
        cx.ui
            .result(format!("done: {names} removed from {place}\n"));
        return Ok(());
    }
    let shelf = shelf::open(cx)?;
    let found = shelf.find(&wanted);
    let found = found.map_err(|e| words::shelf::not_found(&e, shelf.catalogues.is_empty()))?;
    let place = found.base.place();
    let what = format!("{wanted} is in a catalogue that somebody else keeps");
    Err(Message::new(Exit::Usage, what)
        .fact("catalogue", place.to_string())
        .remedy(format!("pinewrit shelf remove {place} stops following it")))
}

/// Asks before several versions are removed.
fn confirm(cx: &Context, question: String, count: usize) -> Outcome {
    match cx.ui.ask(question) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was changed")),
        Answer::NobodyToAsk => {
            let what = format!("{count} versions would be removed");
            Err(Message::new(Exit::Refused, what).remedy("name one, as NAME@VERSION, or add --yes"))
        }
    }
}

/// Deletes what is kept of an image on a server. What cannot be deleted only takes space.
fn forget(cx: &Context, location: &Location) {
    if let (Location::Url(url), Ok(cache)) = (location, cx.folders.cache()) {
        let _ = forget_download(&cache, url);
    }
}
