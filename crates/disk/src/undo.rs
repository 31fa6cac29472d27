//! The undo file: what a commit is about to overwrite and what takes its place, kept until the new
//! bytes are flushed. With it a commit that was interrupted can be put back, or finished.
//!
//! ```text
//! "PINEUNDO"  version u32 = 2, size of the medium u64
//! entry*:     1 u8, offset u64, length u32, old bytes [length], new bytes [length]
//! end:        0 u8, BLAKE3 of everything before [32]
//! ```
//! All integers are little-endian, offsets and lengths in bytes.

use std::fs::{File, OpenOptions};
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use crate::{BlockDevice, CHUNK_SIZE, DiskError, Overlay};

const MAGIC: &[u8; 12] = b"PINEUNDO\x02\0\0\0";
const MAX_ENTRY: u32 = CHUNK_SIZE as u32;
/// The unit that a medium writes as a whole or not at all, in bytes.
const ATOM: usize = 512;

/// Former and new contents of one range.
pub(crate) struct UndoEntry {
    pub(crate) offset: u64,
    pub(crate) old: Vec<u8>,
    pub(crate) new: Vec<u8>,
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

/// How far the commit of an undo file got on a medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CommitState {
    /// There is no undo file, or one that is not whole: its commit had not begun.
    Nothing,
    /// The medium holds nothing of the commit, or bytes that are neither old nor new: the file
    /// belongs to another medium, or this one has changed since.
    Elsewhere,
    /// Everything is on the medium.
    Complete,
    /// The commit was interrupted.
    Halfway {
        /// Bytes of the commit that are on the medium.
        written: u64,
        /// Bytes of the commit that are not.
        left: u64,
    },
}

/// The place of an undo file.
#[derive(Clone, Debug)]
pub struct UndoLog {
    path: PathBuf,
}

/// Which contents of the entries should end up on the medium.
#[derive(Clone, Copy)]
enum Contents {
    Old,
    New,
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

    /// Writes the file, readable only by its owner because it may hold hashes and keys. If that
    /// fails, as on a full disk, nothing of it stays.
    pub(crate) fn write(
        &self,
        medium_size: u64,
        entries: impl Iterator<Item = Result<UndoEntry, DiskError>>,
    ) -> Result<(), UndoError> {
        let written = self.write_all(medium_size, entries);
        if written.is_err() {
            let _ = self.remove();
        }
        written
    }

    fn write_all(
        &self,
        medium_size: u64,
        entries: impl Iterator<Item = Result<UndoEntry, DiskError>>,
    ) -> Result<(), UndoError> {
        // Whatever has this name is removed, never followed or reused with another owner's rights.
        self.remove()?;
        let mut options = OpenOptions::new();
        options.write(true).create_new(true).mode(0o600);
        options.custom_flags(rustix::fs::OFlags::NOFOLLOW.bits() as i32);
        let file = options.open(&self.path).map_err(|e| self.failed(e))?;
        let mut out = HashingWriter {
            inner: BufWriter::new(&file),
            hasher: blake3::Hasher::new(),
        };
        let size = medium_size.to_le_bytes();
        out.put(MAGIC).map_err(|e| self.failed(e))?;
        out.put(&size).map_err(|e| self.failed(e))?;
        for entry in entries {
            put_entry(&mut out, &entry?).map_err(|e| self.failed(e))?;
        }
        out.finish().map_err(|e| self.failed(e))?;
        file.sync_all().map_err(|e| self.failed(e))
    }

    /// Compares the medium with the file. A sector that holds neither its old nor its new bytes
    /// means that the file belongs to another medium.
    ///
    /// # Errors
    /// The undo file or the medium could not be read.
    pub fn state<D: BlockDevice>(&self, device: &D) -> Result<CommitState, UndoError> {
        if !self.is_complete()? {
            return Ok(CommitState::Nothing);
        }
        let (mut written, mut left, mut is_foreign) = (0, 0, false);
        let size = self.for_each_entry(|entry| {
            if is_foreign {
                return Ok(());
            }
            let mut now = vec![0; entry.old.len()];
            match device.read_at(entry.offset, &mut now) {
                Ok(()) => {}
                Err(DiskError::PastEnd { .. }) => is_foreign = true,
                Err(error) => return Err(error),
            }
            let atoms = now.chunks(ATOM).zip(entry.old.chunks(ATOM));
            for ((now, old), new) in atoms.zip(entry.new.chunks(ATOM)) {
                match (now == old, now == new) {
                    (true, true) => {}
                    (true, false) => left += now.len() as u64,
                    (false, true) => written += now.len() as u64,
                    (false, false) => is_foreign = true,
                }
            }
            Ok(())
        })?;
        Ok(match (is_foreign || size != device.size(), written, left) {
            (true, ..) | (false, 0, _) => CommitState::Elsewhere,
            (false, _, 0) => CommitState::Complete,
            (false, written, left) => CommitState::Halfway { written, left },
        })
    }

    /// Puts back what the commit overwrote, flushes, and removes the file; returns how many bytes
    /// had to be written.
    ///
    /// # Errors
    /// The undo file or the medium could not be read or written; the file stays.
    pub fn roll_back<D: BlockDevice>(&self, device: &D) -> Result<u64, UndoError> {
        self.bring_about(device, Contents::Old)
    }

    /// Writes what the commit had not yet written, flushes, and removes the file; returns how many
    /// bytes had to be written.
    ///
    /// # Errors
    /// The undo file or the medium could not be read or written; the file stays.
    pub fn finish<D: BlockDevice>(&self, device: &D) -> Result<u64, UndoError> {
        self.bring_about(device, Contents::New)
    }

    /// The medium as it was before the commit; it and the file stay as they are.
    ///
    /// # Errors
    /// The undo file or the medium could not be read.
    pub fn before<'d, D: BlockDevice>(&self, device: &'d D) -> Result<Overlay<&'d D>, UndoError> {
        let before = Overlay::new(device);
        self.for_each_entry(|entry| before.write_at(entry.offset, &entry.old))?;
        Ok(before)
    }

    fn bring_about<D: BlockDevice>(&self, device: &D, wanted: Contents) -> Result<u64, UndoError> {
        let mut bytes = 0;
        self.for_each_entry(|entry| {
            let wanted = match wanted {
                Contents::Old => entry.old,
                Contents::New => entry.new,
            };
            let mut now = vec![0; wanted.len()];
            // What cannot be read may still be written.
            let is_read = device.read_at(entry.offset, &mut now).is_ok();
            if !is_read || now != wanted {
                device.write_at(entry.offset, &wanted)?;
                bytes += wanted.len() as u64;
            }
            Ok(())
        })?;
        device.flush()?;
        self.remove()?;
        Ok(bytes)
    }

    /// Removes the file; a file that is not there is fine.
    ///
    /// # Errors
    /// The system does not let it be removed.
    pub fn remove(&self) -> Result<(), UndoError> {
        match std::fs::remove_file(&self.path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(self.failed(error)),
            _ => Ok(()),
        }
    }

    /// Whether the file exists in this version and is complete, by its own digest.
    fn is_complete(&self) -> Result<bool, UndoError> {
        let file = match File::open(&self.path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(false),
            opened => opened.map_err(|e| self.failed(e))?,
        };
        let len = file.metadata().map_err(|e| self.failed(e))?.len();
        let Some(body) = len.checked_sub(32) else {
            return Ok(false);
        };
        let mut reader = BufReader::new(file);
        let mut magic = [0; MAGIC.len()];
        if body < magic.len() as u64 {
            return Ok(false);
        }
        reader.read_exact(&mut magic).map_err(|e| self.failed(e))?;
        let mut hasher = blake3::Hasher::new();
        hasher.update(&magic);
        hasher
            .update_reader((&mut reader).take(body - magic.len() as u64))
            .map_err(|e| self.failed(e))?;
        let mut expected = [0; 32];
        reader
            .read_exact(&mut expected)
            .map_err(|e| self.failed(e))?;
        Ok(magic == *MAGIC && hasher.finalize() == expected)
    }

    /// Visits all entries; returns the size of their medium in bytes.
    fn for_each_entry(
        &self,
        mut visit: impl FnMut(UndoEntry) -> Result<(), DiskError>,
    ) -> Result<u64, UndoError> {
        let file = File::open(&self.path).map_err(|e| self.failed(e))?;
        let mut reader = BufReader::new(file);
        let magic: [u8; MAGIC.len()] = take(&mut reader).map_err(|e| self.failed(e))?;
        if magic != *MAGIC {
            return Err(self.failed(io::ErrorKind::InvalidData.into()));
        }
        let size = take(&mut reader).map_err(|e| self.failed(e))?;
        while let Some(entry) = take_entry(&mut reader).map_err(|e| self.failed(e))? {
            visit(entry)?;
        }
        Ok(u64::from_le_bytes(size))
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
        .filter(|&len| len <= MAX_ENTRY && entry.new.len() == entry.old.len())
        .ok_or(io::ErrorKind::InvalidInput)?;
    out.put(&[1])?;
    out.put(&entry.offset.to_le_bytes())?;
    out.put(&len.to_le_bytes())?;
    out.put(&entry.old)?;
    out.put(&entry.new)
}

fn take_entry(reader: &mut impl Read) -> io::Result<Option<UndoEntry>> {
    if take::<1>(reader)? == [0] {
        return Ok(None);
    }
    let offset = u64::from_le_bytes(take(reader)?);
    let len = u32::from_le_bytes(take(reader)?);
    if len > MAX_ENTRY {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let (mut old, mut new) = (vec![0; len as usize], vec![0; len as usize]);
    reader.read_exact(&mut old)?;
    reader.read_exact(&mut new)?;
    Ok(Some(UndoEntry { offset, old, new }))
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
    use std::os::unix::fs::PermissionsExt;

    use super::*;
    use crate::{MemoryDevice, OVERLAY_BLOCK, Overlay};

    /// A medium after a commit that was killed in the middle of its first range, and its undo file.
    fn interrupted(dir: &Path) -> (MemoryDevice, UndoLog) {
        let medium = MemoryDevice::new(4 * OVERLAY_BLOCK);
        let undo = UndoLog::new(dir.join("undo"));
        let entry = |offset: u64, new: u8| {
            Ok(UndoEntry {
                offset,
                old: vec![0; OVERLAY_BLOCK],
                new: vec![new; OVERLAY_BLOCK],
            })
        };
        undo.write(medium.size(), [entry(0, 5), entry(8192, 6)].into_iter())
            .unwrap();
        medium.write_at(0, &[5; 3 * ATOM]).unwrap();
        (medium, undo)
    }

    #[test]
    fn an_interrupted_commit_is_put_back_or_finished() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        let halfway = CommitState::Halfway {
            written: 3 * ATOM as u64,
            left: (2 * OVERLAY_BLOCK - 3 * ATOM) as u64,
        };
        assert_eq!(undo.state(&medium).unwrap(), halfway);
        assert_eq!(undo.roll_back(&medium).unwrap(), OVERLAY_BLOCK as u64);
        assert_eq!(medium.to_bytes(), vec![0; 4 * OVERLAY_BLOCK]);
        assert_eq!(undo.state(&medium).unwrap(), CommitState::Nothing);

        let (medium, undo) = interrupted(dir.path());
        assert_eq!(undo.finish(&medium).unwrap(), 2 * OVERLAY_BLOCK as u64);
        assert_eq!(medium.to_bytes()[..OVERLAY_BLOCK], [5; OVERLAY_BLOCK]);
        assert_eq!(
            medium.to_bytes()[8192..][..OVERLAY_BLOCK],
            [6; OVERLAY_BLOCK]
        );
        assert!(!undo.path().exists());
    }

    #[test]
    fn a_commit_that_was_done_is_told_from_one_that_never_began() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        medium.write_at(0, &[5; OVERLAY_BLOCK]).unwrap();
        medium.write_at(8192, &[6; OVERLAY_BLOCK]).unwrap();
        assert_eq!(undo.state(&medium).unwrap(), CommitState::Complete);
        // Another medium with the same image holds all of the old bytes and none of the new ones.
        let other = MemoryDevice::new(4 * OVERLAY_BLOCK);
        assert_eq!(undo.state(&other).unwrap(), CommitState::Elsewhere);
        let (larger, undo) = interrupted(dir.path());
        let size = larger.size() + 512;
        let longer = MemoryDevice::new(size as usize);
        longer.write_at(0, &larger.to_bytes()).unwrap();
        assert_eq!(undo.state(&longer).unwrap(), CommitState::Elsewhere);
    }

    #[test]
    fn a_medium_changed_since_is_another_one() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        medium.write_at(8192, b"another image").unwrap();
        assert_eq!(undo.state(&medium).unwrap(), CommitState::Elsewhere);
        assert!(undo.path().exists());
    }

    #[test]
    fn an_undo_file_cut_anywhere_is_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let (medium, undo) = interrupted(dir.path());
        let whole = std::fs::read(undo.path()).unwrap();
        for len in (0..whole.len()).step_by(97) {
            std::fs::write(undo.path(), &whole[..len]).unwrap();
            assert_eq!(undo.state(&medium).unwrap(), CommitState::Nothing);
        }
    }

    #[test]
    fn nothing_stays_of_an_undo_file_that_could_not_be_written() {
        let dir = tempfile::tempdir().unwrap();
        let undo = UndoLog::new(dir.path().join("undo"));
        let entry = UndoEntry {
            offset: 0,
            old: vec![0; ATOM],
            new: vec![1; ATOM],
        };
        let entries = [Ok(entry), Err(DiskError::ReadOnly)];
        undo.write(1 << 20, entries.into_iter()).unwrap_err();
        assert!(!undo.path().exists());
    }

    #[test]
    fn an_undo_file_is_for_its_owner_only() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("undo");
        std::fs::write(&path, "an older one, which everybody could read").unwrap();
        let (_, undo) = interrupted(dir.path());
        let mode = std::fs::metadata(undo.path()).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
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
