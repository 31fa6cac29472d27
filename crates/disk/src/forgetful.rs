//! A device that says "written" too early, for tests and racks.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard};

use crate::bytes::copy_shared;
use crate::{BlockDevice, DiskError, SectorSize};

/// A medium with a cache of its own that no flush empties: what was written last is on it as long
/// as it has power.
pub struct Forgetful<D: BlockDevice> {
    inner: D,
    /// How much it keeps back, in bytes.
    cache: usize,
    pending: Mutex<Pending>,
}

/// Writes that are not on the medium yet, the oldest first.
#[derive(Default)]
struct Pending {
    writes: VecDeque<(u64, Vec<u8>)>,
    bytes: usize,
}

impl<D: BlockDevice> Forgetful<D> {
    /// Keeps back `cache` bytes; they are written when it is dropped, if `inner` still takes them.
    pub fn new(inner: D, cache: usize) -> Self {
        Self {
            inner,
            cache,
            pending: Mutex::default(),
        }
    }

    fn pending(&self) -> MutexGuard<'_, Pending> {
        self.pending.lock().unwrap_or_else(|e| e.into_inner())
    }
}

impl Pending {
    fn pop(&mut self) -> Option<(u64, Vec<u8>)> {
        let write = self.writes.pop_front()?;
        self.bytes -= write.1.len();
        Some(write)
    }
}

impl<D: BlockDevice> BlockDevice for Forgetful<D> {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let pending = self.pending();
        self.inner.read_at(offset, buffer)?;
        for (start, bytes) in &pending.writes {
            copy_shared(*start, bytes, offset, buffer);
        }
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let mut pending = self.pending();
        pending.writes.push_back((offset, data.to_vec()));
        pending.bytes += data.len();
        while pending.bytes > self.cache {
            let Some((start, bytes)) = pending.pop() else {
                break;
            };
            self.inner.write_at(start, &bytes)?;
        }
        Ok(())
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.inner.flush()
    }
}

impl<D: BlockDevice> Drop for Forgetful<D> {
    fn drop(&mut self) {
        let mut pending = self.pending();
        while let Some((start, bytes)) = pending.pop() {
            // Nobody is left to be told.
            let _ = self.inner.write_at(start, &bytes);
        }
    }
}
