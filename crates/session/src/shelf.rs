//! The shelf: the user's own catalogue, and those of others that it follows.
//!
//! Of a catalogue that is followed a copy is kept with the records: for when its server cannot be
//! reached, and to notice an image that changes although its version does not.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use pinewrit_core::state::save;
use pinewrit_image::{Location, StreamError, StreamFault, fetch_small};
use pinewrit_shelf::{Base, Catalogue, Follow, ImageName, MAX_CATALOGUE, Shelf, changes};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Exit, Message, words};

use crate::trust::{self, FoundSignature};
use crate::workshop::{config_folder, give_to_owner};
use crate::{Context, clock};

/// The catalogue's name, in the current directory and in the configuration.
const FILE: &str = "shelf.toml";
/// How long a catalogue's server may take, or say nothing.
const PATIENCE: Duration = Duration::from_secs(10);

/// What a catalogue says of an image that was named.
#[derive(Clone, Debug)]
pub struct Listed {
    /// Name and version.
    pub name: String,
    /// Where it is.
    pub location: Location,
    /// The checksum of its file.
    pub checksum: Option<pinewrit_image::Checksum>,
    /// Whether it must be signed by a key that the user has.
    pub must_be_signed: bool,
    /// How it takes settings.
    pub intake: Option<String>,
    /// The smallest medium that it is meant for, in bytes.
    pub smallest: Option<u64>,
}

/// A catalogue of somebody else, as it was just read.
pub struct Fetched {
    /// The catalogue.
    pub catalogue: Catalogue,
    /// Its text.
    text: String,
    /// Who has signed it.
    pub signature: Option<FoundSignature>,
    /// When it was kept, in seconds since 1970, if only the copy could be read.
    pub as_of: Option<i64>,
    /// The copy of before.
    pub before: Option<Catalogue>,
}

/// Why a catalogue of somebody else cannot be used.
pub enum Unusable {
    /// It cannot be reached.
    OutOfReach(String),
    /// It must not be used.
    Refused(Message),
}

/// The user's own catalogues: in the current directory, and in the configuration.
pub fn own_files(cx: &Context) -> Vec<PathBuf> {
    if let Some(file) = &cx.own_shelf {
        return vec![file.clone()];
    }
    let own = config_folder().map(|folder| folder.join(FILE));
    let all = [PathBuf::from(FILE)].into_iter().chain(own);
    all.filter(|file| file.is_file()).collect()
}

/// The one that is changed: that in the current directory, if there is one.
pub fn own_file(cx: &Context) -> Result<PathBuf, Message> {
    if let Some(file) = &cx.own_shelf {
        return Ok(file.clone());
    }
    let here = PathBuf::from(FILE);
    if here.is_file() {
        return Ok(here);
    }
    let folder = config_folder().ok_or_else(|| {
        Message::new(Exit::Usage, "this user has no home").remedy(format!(
            "an empty {FILE} in the current directory is used as well"
        ))
    })?;
    Ok(folder.join(FILE))
}

/// One of the user's own; an absent one is empty.
pub fn read_own(path: &Path) -> Result<Catalogue, Message> {
    if !path.exists() {
        return Ok(Catalogue::default());
    }
    let place = Location::Path(path.to_owned());
    let text = read(&place).map_err(|why| cannot_be_read(&place, &why))?;
    parsed(&place, &text)
}

fn cannot_be_read(place: &Location, why: &str) -> Message {
    let what = format!("the catalogue {place} cannot be read");
    Message::new(Exit::Source, what).fact("found", why)
}

fn parsed(place: &Location, text: &str) -> Result<Catalogue, Message> {
    Catalogue::parse(text).map_err(|mistakes| words::mistakes(&place.to_string(), &mistakes))
}

/// The text of a catalogue, or why there is none.
fn read(place: &Location) -> Result<String, String> {
    let bytes = match place {
        Location::Path(path) => small_file(path),
        Location::Url(url) => fetch_small(url, PATIENCE, MAX_CATALOGUE),
        Location::Shelf(_) => Err(std::io::ErrorKind::InvalidInput.into()),
    };
    let bytes = bytes.map_err(|error| why(&error))?;
    String::from_utf8(bytes).map_err(|_| "it is not text".to_owned())
}

/// Why a server or a disk did not give a file, in few words.
pub fn why(error: &std::io::Error) -> String {
    match StreamError::in_io(error).map(|found| &found.fault) {
        Some(StreamFault::Fetch(fault)) => fault.to_string(),
        _ => error.to_string(),
    }
}

fn small_file(path: &Path) -> std::io::Result<Vec<u8>> {
    let facts = std::fs::metadata(path)?;
    if !facts.is_file() || facts.len() > MAX_CATALOGUE {
        let why = format!("not a file of at most {MAX_CATALOGUE} bytes");
        return Err(std::io::Error::other(why));
    }
    std::fs::read(path)
}

/// All catalogues, read once in a command. One that cannot be reached is as it was last.
pub fn open(cx: &Context) -> Result<Arc<Shelf>, Message> {
    if let Some(known) = cx.shelf.get() {
        return Ok(Arc::clone(known));
    }
    let mut all = Vec::new();
    let mut follows = Vec::new();
    for file in own_files(cx) {
        let catalogue = read_own(&file)?;
        let base = Base::File(file);
        follows.extend(
            catalogue
                .follows
                .iter()
                .map(|follow| absolute(&base, follow)),
        );
        all.push((base, catalogue));
    }
    // Where one catalogue is named twice, the key that must have signed it counts.
    follows.sort_by_key(|follow| follow.signed_by.is_none());
    for follow in follows {
        let base = Base::of(&follow.address);
        if all.iter().any(|(known, _)| *known == base) {
            continue;
        }
        match fetch(cx, &follow) {
            Ok(fetched) => {
                must_not_have_changed(&follow, &fetched)?;
                if fetched.as_of.is_none() {
                    keep(cx, &follow, &fetched);
                }
                all.push((base, fetched.catalogue));
            }
            Err(Unusable::OutOfReach(why)) => cx.ui.say(format!(
                "note: the catalogue {} cannot be read: {why}\n",
                base.place()
            )),
            Err(Unusable::Refused(message)) => return Err(message),
        }
    }
    let shelf = Arc::new(Shelf::new(all));
    Ok(Arc::clone(cx.shelf.get_or_init(|| shelf)))
}

/// The same with paths that do not depend on the catalogue's place.
pub fn absolute(base: &Base, follow: &Follow) -> Follow {
    let from = |text: &str| match base.location(text) {
        Location::Path(path) => path.display().to_string(),
        // Keys are files here, whatever they are called.
        _ => text.to_owned(),
    };
    Follow {
        address: from(&follow.address),
        signed_by: follow.signed_by.as_deref().map(from),
    }
}

/// Reads a catalogue of somebody else; its signature must be good, if it has or must have one.
pub fn fetch(cx: &Context, follow: &Follow) -> Result<Fetched, Unusable> {
    let base = Base::of(&follow.address);
    let place = base.place();
    let before = copy_of(cx, follow);
    let waiting = Waiting::new(&cx.ui, format!("reading {place}"));
    let text = match read(&place) {
        Ok(text) => text,
        Err(why) => {
            drop(waiting);
            let (catalogue, as_of) = before.ok_or(Unusable::OutOfReach(why.clone()))?;
            let when = clock::local(as_of);
            cx.ui.say(format!(
                "note: {place} cannot be read ({why}); it is used as it was on {when}\n"
            ));
            return Ok(Fetched {
                catalogue,
                text: String::new(),
                signature: None,
                as_of: Some(as_of),
                before: None,
            });
        }
    };
    let signature = signed(&base, &text, follow).map_err(Unusable::Refused)?;
    drop(waiting);
    Ok(Fetched {
        catalogue: parsed(&place, &text).map_err(Unusable::Refused)?,
        text,
        signature,
        as_of: None,
        before: before.map(|(catalogue, _)| catalogue),
    })
}

fn signed(base: &Base, text: &str, follow: &Follow) -> Result<Option<FoundSignature>, Message> {
    let key = follow.signed_by.as_deref().map(Path::new);
    let keys = trust::keys(key)?;
    let name = base.place().name();
    let beside = |ending: &str| match base.with_ending(&format!(".{ending}")) {
        Location::Url(url) => fetch_small(&url, PATIENCE, pinewrit_trust::MAX_FILE).ok(),
        Location::Path(path) => small_file(&path).ok(),
        Location::Shelf(_) => None,
    };
    let found = trust::of_text(&name, text.as_bytes(), &beside, &keys);
    trust::must_be_good(found.as_ref(), &name, key.is_some())?;
    Ok(found)
}

/// A version that is another file than before is an alarm.
pub fn must_not_have_changed(follow: &Follow, fetched: &Fetched) -> Result<(), Message> {
    let Some(before) = &fetched.before else {
        return Ok(());
    };
    match changes(before, &fetched.catalogue).as_slice() {
        [] => Ok(()),
        changed => Err(words::shelf::changed(&follow.address, changed)),
    }
}

fn copy_path(cx: &Context, follow: &Follow) -> Option<PathBuf> {
    let digest = blake3::hash(follow.address.as_bytes()).to_hex();
    let folder = cx.folders.state_if_any()?.path().join("shelves");
    Some(folder.join(format!("{}.toml", digest.get(..16)?)))
}

/// The copy of a catalogue, and when it was kept.
fn copy_of(cx: &Context, follow: &Follow) -> Option<(Catalogue, i64)> {
    let path = copy_path(cx, follow)?;
    let text = String::from_utf8(small_file(&path).ok()?).ok()?;
    let kept = std::fs::metadata(&path).ok()?.modified().ok()?;
    let since = kept.duration_since(SystemTime::UNIX_EPOCH).ok()?;
    let catalogue = Catalogue::parse(&text).ok()?;
    Some((catalogue, i64::try_from(since.as_secs()).ok()?))
}

/// Keeps a copy. Without one, nothing but the alarm and the use without a network is missing.
pub fn keep(cx: &Context, follow: &Follow, fetched: &Fetched) {
    let (Some(path), Some(state)) = (copy_path(cx, follow), cx.folders.state_if_any()) else {
        return;
    };
    if save(&path, fetched.text.as_bytes()).is_ok() {
        give_to_owner(&state, &path);
        give_to_owner(&state, path.parent().unwrap_or(&path));
    }
}

/// Forgets the copy.
pub fn forget(cx: &Context, follow: &Follow) {
    if let Some(path) = copy_path(cx, follow) {
        let _ = std::fs::remove_file(path);
    }
}

/// What a catalogue says of the image with this name.
pub fn find(cx: &Context, text: &str) -> Result<Listed, Message> {
    let name = ImageName::parse(text).map_err(|e| words::shelf::name_error(&e))?;
    let shelf = open(cx)?;
    let found = shelf
        .find(&name)
        .map_err(|e| words::shelf::not_found(&e, shelf.catalogues.is_empty()))?;
    let full = found.image.full_name();
    let newest = shelf.versions(&name.name);
    let newest = newest.first().map(|newest| newest.image.full_name());
    cx.ui.say(words::shelf::chosen(&found, newest.as_ref()));
    Ok(Listed {
        name: full.to_string(),
        location: found.location(),
        checksum: found.image.checksum.clone(),
        must_be_signed: found.must_be_signed(),
        intake: found.image.intake.clone(),
        smallest: found.image.smallest,
    })
}
