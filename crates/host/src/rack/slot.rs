//! A card in its reader: whoever takes it out takes it away from all programs that use it.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;
use std::sync::Mutex;

use pinewrit_disk::{BlockDevice, DiskError, Operation, SectorSize};
use rustix::io::Errno;

use super::file::RackFile;

/// A device that answers as long as its card is in its reader.
pub(crate) struct Slot<D> {
    inner: D,
    rack: PathBuf,
    reader: String,
    card: String,
    seen: Mutex<Seen>,
}

/// The rack file, and what was in it.
#[derive(Default)]
struct Seen {
    version: Option<Version>,
    is_gone: bool,
}

/// What differs between versions of a file: its number, and the time of its last change in seconds
/// and nanoseconds.
type Version = (u64, i64, i64);

impl<D> Slot<D> {
    /// The card that is in this reader of the rack file now.
    pub(crate) fn new(inner: D, rack: PathBuf, reader: &str, card: &str) -> Self {
        Self {
            inner,
            rack,
            reader: reader.to_owned(),
            card: card.to_owned(),
            seen: Mutex::default(),
        }
    }

    fn must_be_there(&self, operation: Operation, offset: u64) -> Result<(), DiskError> {
        let mut seen = self.seen.lock().unwrap_or_else(|e| e.into_inner());
        let facts = fs::metadata(&self.rack).ok();
        let version = facts.map(|facts| (facts.ino(), facts.mtime(), facts.mtime_nsec()));
        if version != seen.version {
            seen.version = version;
            // What has been out once is another medium when it comes back.
            seen.is_gone |= !self.is_held();
        }
        match seen.is_gone {
            true => Err(DiskError::Io {
                operation,
                offset,
                source: Errno::NODEV.into(),
            }),
            false => Ok(()),
        }
    }

    /// A file that cannot be read for the moment takes nothing away.
    fn is_held(&self) -> bool {
        let Ok((rack, _)) = RackFile::read(&self.rack) else {
            return true;
        };
        let mut readers = rack.readers.iter();
        readers.any(|one| one.name == self.reader && one.holds.as_ref() == Some(&self.card))
    }
}

impl<D: BlockDevice> BlockDevice for Slot<D> {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.must_be_there(Operation::Read, offset)?;
        self.inner.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.must_be_there(Operation::Write, offset)?;
        self.inner.write_at(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.must_be_there(Operation::Flush, 0)?;
        self.inner.flush()
    }
}
