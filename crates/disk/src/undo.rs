//! The undo file: what a commit is about to overwrite, kept until the new bytes are flushed.
//!
//! ```text
//! "PINEUNDO"  version u32 = 1
//! entry*:     1 u8, offset u64, length u32, BLAKE3 of the new bytes [32], old bytes [length]
//! end:        0 u8, BLAKE3 of everything before [32]
//! ```
//! All integers are little-endian, offsets and lengths in bytes.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

use crate::{BlockDevice, DiskError, OVERLAY_BLOCK};

const MAGIC: &[u8; 12] = b"PINEUNDO\x01\0\0\0";
const MAX_ENTRY: u32 = OVERLAY_BLOCK as u32;

/// Former contents of one range, and the digest of what takes their place.
pub(crate) struct UndoEntry {
    pub(crate) offset: u64,
    pub(crate) old: Vec<u8>,
    pub(crate) new_digest: blake3::Hash,
}

/// Why an undo file could not be written or used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UndoError {
    /// The undo file itself failed.
    #[error("undo file {}", path.display())]
    File {
        /// Path of the undo file.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// The medium failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// What using an undo file came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UndoOutcome {
    /// There is no undo file: the last commit was completed.
    Nothing,
    /// This many bytes were put back.
    RolledBack(u64),
    /// The medium has been changed by something else since, or the file is incomplete because
    /// the commit had not begun. The medium was left alone.
    Stale,
}

/// The place of an undo file.
pub struct UndoLog {
    path: PathBuf,
}

impl UndoLog {
    /// An undo file at `path`; nothing is read or written yet.
    pub fn new(path: PathBuf) -> Self {
        Self { path }
    }

    /// Where the file is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn write(
        &self,
        entries: impl Iterator<Item = Result<UndoEntry, DiskError>>,
    ) -> Result<(), UndoError> {
        let file = File::create(&self.path).map_err(|e| self.failed(e))?;
        let mut out = HashingWriter {
            inner: BufWriter::new(&file),
            hasher: blake3::Hasher::new(),
        };
        out.put(MAGIC).map_err(|e| self.failed(e))?;
        for entry in entries {
            put_entry(&mut out, &entry?).map_err(|e| self.failed(e))?;
        }
        out.finish().map_err(|e| self.failed(e))?;
        file.sync_all().map_err(|e| self.failed(e))
    }

    /// Puts back what an interrupted commit overwrote, if every range of the medium still holds
    /// either its old or its new bytes. The undo file is removed in any case but an error.
    ///
    /// # Errors
    /// The undo file or the medium could not be read or written.
    pub fn roll_back<D: BlockDevice>(&self, device: &D) -> Result<UndoOutcome, UndoError> {
        let outcome = match File::open(&self.path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Ok(UndoOutcome::Nothing);
            }
            Err(error) => return Err(self.failed(error)),
            Ok(_) if !self.is_complete()? => UndoOutcome::Stale,
            Ok(_) => self.roll_back_complete(device)?,
        };
        self.remove()?;
        Ok(outcome)
    }

    fn roll_back_complete<D: BlockDevice>(&self, device: &D) -> Result<UndoOutcome, UndoError> {
        let mut stale = false;
        self.for_each_entry(|entry| {
            let mut now = vec![0; entry.old.len()];
            stale |= match device.read_at(entry.offset, &mut now) {
                Ok(()) => now != entry.old && blake3::hash(&now) != entry.new_digest,
                Err(DiskError::PastEnd { .. }) => true,
                Err(error) => return Err(error),
            };
            Ok(())
        })?;
        if stale {
            return Ok(UndoOutcome::Stale);
        }
        let mut bytes = 0;
        self.for_each_entry(|entry| {
            let mut now = vec![0; entry.old.len()];
            device.read_at(entry.offset, &mut now)?;
            if now != entry.old {
                device.write_at(entry.offset, &entry.old)?;
                bytes += entry.old.len() as u64;
            }
            Ok(())
        })?;
        device.flush()?;
        Ok(UndoOutcome::RolledBack(bytes))
    }

    /// Removes the file; a file that is not there is fine.
    pub(crate) fn remove(&self) -> Result<(), UndoError> {
        match std::fs::remove_file(&self.path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(self.failed(error)),
            _ => Ok(()),
        }
    }

    /// Whether the file was written to its end: its own digest holds.
    fn is_complete(&self) -> Result<bool, UndoError> {
        let file = File::open(&self.path).map_err(|e| self.failed(e))?;
        let len = file.metadata().map_err(|e| self.failed(e))?.len();
        let Some(body) = len.checked_sub(32) else {
            return Ok(false);
        };
        let mut reader = BufReader::new(file);
        let mut hasher = blake3::Hasher::new();
        hasher
            .update_reader((&mut reader).take(body))
            .map_err(|e| self.failed(e))?;
        let mut expected = [0; 32];
        reader
            .read_exact(&mut expected)
            .map_err(|e| self.failed(e))?;
        Ok(hasher.finalize() == expected)
    }

    fn for_each_entry(
        &self,
        mut visit: impl FnMut(UndoEntry) -> Result<(), DiskError>,
    ) -> Result<(), UndoError> {
        let file = File::open(&self.path).map_err(|e| self.failed(e))?;
        let mut reader = BufReader::new(file);
        let mut magic = [0; MAGIC.len()];
        reader.read_exact(&mut magic).map_err(|e| self.failed(e))?;
        if magic != *MAGIC {
            return Err(self.failed(io::ErrorKind::InvalidData.into()));
        }
        while let Some(entry) = take_entry(&mut reader).map_err(|e| self.failed(e))? {
            visit(entry)?;
        }
        Ok(())
    }

    fn failed(&self, source: io::Error) -> UndoError {
        UndoError::File {
            path: self.path.clone(),
            source,
        }
    }
}

fn put_entry<W: Write>(out: &mut HashingWriter<W>, entry: &UndoEntry) -> io::Result<()> {
    let len = u32::try_from(entry.old.len())
        .ok()
        .filter(|&len| len <= MAX_ENTRY)
        .ok_or(io::ErrorKind::InvalidInput)?;
    out.put(&[1])?;
    out.put(&entry.offset.to_le_bytes())?;
    out.put(&len.to_le_bytes())?;
    out.put(entry.new_digest.as_bytes())?;
    out.put(&entry.old)
}

fn take_entry(reader: &mut impl Read) -> io::Result<Option<UndoEntry>> {
    if take::<1>(reader)? == [0] {
        return Ok(None);
    }
    let offset = u64::from_le_bytes(take(reader)?);
    let len = u32::from_le_bytes(take(reader)?);
    let new_digest = blake3::Hash::from_bytes(take(reader)?);
    if len > MAX_ENTRY {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut old = vec![0; len as usize];
    reader.read_exact(&mut old)?;
    Ok(Some(UndoEntry {
        offset,
        old,
        new_digest,
    }))
}

fn take<const N: usize>(reader: &mut impl Read) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    reader.read_exact(&mut bytes)?;
    Ok(bytes)
}

struct HashingWriter<W> {
    inner: W,
    hasher: blake3::Hasher,
}

impl<W: Write> HashingWriter<W> {
    fn put(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.hasher.update(bytes);
        self.inner.write_all(bytes)
    }

    fn finish(mut self) -> io::Result<()> {
        self.put(&[0])?;
        let digest = self.hasher.finalize();
        self.inner.write_all(digest.as_bytes())?;
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{MemoryDevice, OVERLAY_BLOCK, Overlay};

    /// A medium after a commit that was killed before its second range, and its undo file.
    fn interrupted(dir: &Path) -> (MemoryDevice, UndoLog) {
        let medium = MemoryDevice::new(4 * OVERLAY_BLOCK);
        let undo = UndoLog::new(dir.join("undo"));
        let entry = |offset: u64, new: u8| {
            Ok(UndoEntry {
                offset,
                old: vec![0; OVERLAY_BLOCK],
                new_digest: blake3::hash(&vec![new; OVERLAY_BLOCK]),
            })
        };
        undo.write([entry(0, 5), entry(8192, 6)].into_iter())
            .unwrap();
        medium.write_at(0, &[5; OVERLAY_BLOCK]).unwrap();
        (medium, undo)
    }

    #[test]
    fn an_interrupted_commit_is_put_back() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        let outcome = undo.roll_back(&medium).unwrap();
        assert_eq!(outcome, UndoOutcome::RolledBack(OVERLAY_BLOCK as u64));
        assert_eq!(medium.to_bytes(), vec![0; 4 * OVERLAY_BLOCK]);
        assert_eq!(undo.roll_back(&medium).unwrap(), UndoOutcome::Nothing);
    }

    #[test]
    fn a_medium_changed_since_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        medium.write_at(8192, b"another image").unwrap();
        let before = medium.to_bytes();
        assert_eq!(undo.roll_back(&medium).unwrap(), UndoOutcome::Stale);
        assert_eq!(medium.to_bytes(), before);
        assert!(!undo.path().exists());
    }

    #[test]
    fn an_undo_file_cut_anywhere_is_stale() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        let whole = std::fs::read(undo.path()).unwrap();
        let before = medium.to_bytes();
        for len in (0..whole.len()).step_by(97) {
            std::fs::write(undo.path(), &whole[..len]).unwrap();
            assert_eq!(undo.roll_back(&medium).unwrap(), UndoOutcome::Stale);
            assert_eq!(medium.to_bytes(), before);
        }
    }

    #[test]
    fn overlay_removes_its_undo_file_after_the_flush() {
        let dir = tempfile::tempdir().unwrap();
        let medium = MemoryDevice::new(4 * OVERLAY_BLOCK);
        let undo = UndoLog::new(dir.path().join("undo"));
        let overlay = Overlay::new(&medium);
        overlay.write_at(0, b"new").unwrap();
        overlay.commit(&[], Some(&undo)).unwrap();
        assert!(!undo.path().exists());
    }
}
