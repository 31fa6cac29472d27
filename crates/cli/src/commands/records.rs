//! The state folder: receipts of what was written, and notes of what was not finished.

use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use pinewrit_core::receipt::{Identifiers, MAX_RECEIPT, Receipt, ReceiptError};
use pinewrit_core::unfinished::UnfinishedWrite;

/// Receipts that are looked at when one is searched for.
const MAX_LOOKED_AT: usize = 10_000;
const ENDING: &str = ".receipt.json";

static CHOSEN: OnceLock<PathBuf> = OnceLock::new();

/// Keeps everything in this folder from now on, and not in the user's own.
pub(super) fn keep_in(folder: PathBuf) {
    // The first choice stays.
    let _ = CHOSEN.set(folder);
}

/// The XDG state folder, or a temporary one for users without a home.
pub(super) fn state_folder() -> PathBuf {
    if let Some(chosen) = CHOSEN.get() {
        return chosen.clone();
    }
    let absolute = |path: PathBuf| path.is_absolute().then_some(path);
    let variable = |name: &str| std::env::var_os(name).map(PathBuf::from).and_then(absolute);
    variable("XDG_STATE_HOME")
        .or_else(|| variable("HOME").map(|home| home.join(".local/state")))
        .unwrap_or_else(std::env::temp_dir)
        .join("pinewrit")
}

/// The time now, RFC 3339, in whole seconds.
pub(super) fn now() -> String {
    let now = seconds();
    jiff::Timestamp::from_second(now).map_or(String::new(), |now| now.to_string())
}

/// Writes a file as a whole or not at all.
pub(super) fn save(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    fs::create_dir_all(folder)?;
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    io::Write::write_all(&mut file, bytes)?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    Ok(())
}

/// Letters and digits of a text, for the name of a file.
fn plain(text: &str) -> String {
    let kept = text
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || *c == '-');
    kept.take(60).collect()
}

/// Where a receipt is kept: by what is on the medium, by its tag, and by its time.
pub(super) fn receipt_path(receipt: &Receipt) -> PathBuf {
    let key = key(&receipt.identifiers);
    let tag = receipt.medium.tag.as_deref().unwrap_or("file");
    let time = plain(&receipt.finished);
    state_folder()
        .join("receipts")
        .join(format!("{key}_{}_{time}{ENDING}", plain(tag)))
}

fn key(identifiers: &Identifiers) -> String {
    let first = identifiers.filesystems.first().map(|(_, id)| id);
    let id = identifiers.table.as_ref().or(first);
    id.map_or("none".to_owned(), |id| plain(id))
}

/// Reads a receipt.
pub(super) fn read_receipt(path: &Path) -> Result<Receipt, ReceiptError> {
    let mut json = Vec::new();
    fs::File::open(path)?
        .take(MAX_RECEIPT)
        .read_to_end(&mut json)?;
    Receipt::from_json(&json)
}

/// The latest receipt for a medium: by the identifiers on it, else by its tag.
pub(super) fn find_receipt(
    identifiers: &Identifiers,
    tag: Option<&str>,
) -> Option<(PathBuf, Receipt)> {
    let entries = fs::read_dir(state_folder().join("receipts")).ok()?;
    let names = entries
        .flatten()
        .map(|entry| entry.path())
        .take(MAX_LOOKED_AT);
    let mut candidates: Vec<(bool, String, PathBuf)> = names
        .filter_map(|path| {
            let name = path.file_name()?.to_str()?.strip_suffix(ENDING)?.to_owned();
            let mut parts = name.split('_');
            let (id, own_tag, time) = (parts.next()?, parts.next()?, parts.next()?);
            let by_id = !identifiers.is_empty() && id == key(identifiers);
            let by_tag = tag.is_some_and(|tag| plain(tag) == own_tag);
            (by_id || by_tag).then(|| (by_id, time.to_owned(), path.clone()))
        })
        .collect();
    // Those with the right identifiers first, the latest first.
    candidates.sort();
    candidates.into_iter().rev().find_map(|(_, _, path)| {
        let receipt = read_receipt(&path).ok()?;
        Some((path, receipt))
    })
}

/// Where the note of an unfinished write to this medium is kept.
fn note_path(medium: &str) -> PathBuf {
    let name = blake3::hash(medium.as_bytes()).to_hex();
    state_folder()
        .join("unfinished")
        .join(format!("{}.json", &name[..32]))
}

/// The note of an unfinished write to this medium, if there is one.
pub(super) fn find_note(medium: &str) -> Option<UnfinishedWrite> {
    let json = fs::read(note_path(medium)).ok()?;
    let note: UnfinishedWrite = serde_json::from_slice(&json).ok()?;
    (note.medium == medium && note.version <= UnfinishedWrite::VERSION).then_some(note)
}

/// Keeps the note of a write that was begun.
pub(super) fn save_note(note: &UnfinishedWrite) -> io::Result<()> {
    let json = serde_json::to_vec(note).map_err(io::Error::other)?;
    save(&note_path(&note.medium), &json)
}

/// The write is done.
pub(super) fn remove_note(medium: &str) {
    // One that stays only says less than is true.
    let _ = fs::remove_file(note_path(medium));
}

/// Seconds since 1970.
pub(crate) fn seconds() -> i64 {
    jiff::Timestamp::now().as_second()
}
