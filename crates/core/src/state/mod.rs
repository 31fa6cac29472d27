//! The state folder: receipts of what was written, notes of what was not finished, undo files.
//!
//! It holds hashes and keys, and its content decides what is put back on a medium. So it is only
//! used if nobody but its owner can change anything in it.

mod private;
mod receipts;

use std::fs;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use private::{Acting, make_private_for};
pub use private::{Owner, UnsafePlace, make_private};
pub use receipts::{Found, Subject};

use crate::receipt::{MAX_RECEIPT, Receipt, ReceiptError};
use crate::unfinished::UnfinishedWrite;

/// A note larger than this was not written by Pinewrit, in bytes.
const MAX_NOTE: u64 = 1 << 20;
/// How many undo files are kept for one medium's name: several cards take turns in a reader.
const MAX_UNDO_FILES: u32 = 8;

/// Where Pinewrit keeps what must outlive a command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StateFolder {
    path: PathBuf,
    /// Its owner, if that is not this user.
    owner: Option<Owner>,
}

impl StateFolder {
    /// Uses a folder, which is created if it does not exist.
    ///
    /// # Errors
    /// [`UnsafePlace`]: somebody else could change its content, or it cannot be created.
    pub fn open(path: &Path) -> Result<Self, UnsafePlace> {
        Ok(Self {
            path: make_private(path)?,
            owner: None,
        })
    }

    /// Uses the folder of the user who called this program through root rights: what is put there
    /// belongs to that user.
    ///
    /// # Errors
    /// As [`StateFolder::open`].
    pub fn open_for(path: &Path, owner: Owner) -> Result<Self, UnsafePlace> {
        let _acting = Acting::as_one(Some(owner));
        Ok(Self {
            path: make_private_for(path, owner)?,
            owner: Some(owner),
        })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The user to whom everything in it belongs, if that is not this one.
    pub fn owner(&self) -> Option<Owner> {
        self.owner
    }

    /// Where receipts are.
    pub fn receipts(&self) -> PathBuf {
        self.path.join("receipts")
    }

    /// The places of undo files of a medium, by its full path.
    pub fn undo_paths(&self, medium: &Path) -> Vec<PathBuf> {
        let full = fs::canonicalize(medium).unwrap_or_else(|_| medium.to_owned());
        let safe: Vec<char> = full
            .to_string_lossy()
            .chars()
            .map(|c| if c.is_ascii_alphanumeric() { c } else { '_' })
            .collect();
        let safe: String = safe[safe.len().saturating_sub(180)..].iter().collect();
        let name = |nth| match nth {
            1 => format!("{safe}.undo"),
            nth => format!("{safe}.{nth}.undo"),
        };
        (1..=MAX_UNDO_FILES)
            .map(|nth| self.path.join(name(nth)))
            .collect()
    }

    /// Where the note of an unfinished write to this medium is kept.
    fn note_path(&self, medium: &str) -> PathBuf {
        let name = blake3::hash(medium.as_bytes()).to_hex();
        self.path
            .join("unfinished")
            .join(format!("{}.json", &name[..32]))
    }

    /// Where the note of a begun move of a partition on this medium is kept.
    pub fn move_note(&self, medium: &str) -> PathBuf {
        let name = blake3::hash(medium.as_bytes()).to_hex();
        self.path
            .join("moves")
            .join(format!("{}.json", &name[..32]))
    }

    /// Where a measurement of this medium keeps what was there; `nth` from 1, because several media
    /// may have the same name.
    pub fn kept(&self, medium: &str, nth: u32) -> PathBuf {
        self.measurement(medium, &format!("{nth}.kept"))
    }

    /// Where the note of a whole look at this medium is.
    pub fn full_note(&self, medium: &str) -> PathBuf {
        self.measurement(medium, "json")
    }

    fn measurement(&self, medium: &str, ending: &str) -> PathBuf {
        let name = blake3::hash(medium.as_bytes()).to_hex();
        self.path
            .join("measures")
            .join(format!("{}.{ending}", &name[..32]))
    }

    /// The note of an unfinished write to this medium, if there is one.
    pub fn note(&self, medium: &str) -> Option<UnfinishedWrite> {
        let mut json = Vec::new();
        let file = fs::File::open(self.note_path(medium)).ok()?;
        file.take(MAX_NOTE).read_to_end(&mut json).ok()?;
        let note: UnfinishedWrite = serde_json::from_slice(&json).ok()?;
        (note.medium == medium && note.version <= UnfinishedWrite::VERSION).then_some(note)
    }

    /// Keeps the note of a begun write.
    ///
    /// # Errors
    /// It could not be written.
    pub fn save_note(&self, note: &UnfinishedWrite) -> io::Result<()> {
        let json = serde_json::to_vec(note).map_err(io::Error::other)?;
        let _acting = Acting::as_one(self.owner);
        save(&self.note_path(&note.medium), &json)
    }

    /// The write is done.
    pub fn remove_note(&self, medium: &str) {
        let _acting = Acting::as_one(self.owner);
        // A note that stays only understates the progress.
        let _ = fs::remove_file(self.note_path(medium));
    }
}

/// Writes a file completely or not at all, readable only by its owner: under an unguessable name,
/// which is then renamed over whatever had the name before. Links are replaced, not followed.
///
/// # Errors
/// It could not be written; what was there before stays.
pub fn save(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    fs::create_dir_all(folder)?;
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    Ok(())
}

/// Reads a receipt.
///
/// # Errors
/// [`ReceiptError`].
pub fn read_receipt(path: &Path) -> Result<Receipt, ReceiptError> {
    let mut json = Vec::new();
    fs::File::open(path)?
        .take(MAX_RECEIPT)
        .read_to_end(&mut json)?;
    Receipt::from_json(&json)
}
