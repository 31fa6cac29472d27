//! A cache for reading many small things: tables, directories, maps of files.

use std::collections::{BTreeMap, HashMap};
use std::ops::Range;
use std::sync::{Mutex, MutexGuard};

use crate::{AlignedBuf, BlockDevice, ByteRange, DiskError, SectorSize};

/// Bytes per read: a request to a card costs more than its bytes.
const BLOCK: u64 = 64 << 10;
/// Number of cached blocks, 64 MiB: enough for a card's metadata, which is checked before and after
/// a change.
const KEPT: usize = 1024;

/// A device that is read in larger pieces, of which the most recently used are kept. It refuses
/// writes, and must not be used for devices that something else writes to.
pub struct ReadCache<D> {
    below: D,
    kept: Mutex<Kept>,
}

/// Blocks by their number, and the order in which they were used.
#[derive(Default)]
struct Kept {
    blocks: HashMap<u64, (u64, AlignedBuf)>,
    order: BTreeMap<u64, u64>,
    next: u64,
}

impl Kept {
    /// Moves a block to the front and evicts the oldest ones.
    fn put(&mut self, block: u64, bytes: AlignedBuf) {
        self.next += 1;
        if let Some((before, _)) = self.blocks.insert(block, (self.next, bytes)) {
            self.order.remove(&before);
        }
        self.order.insert(self.next, block);
        while self.blocks.len() > KEPT
            && let Some((_, oldest)) = self.order.pop_first()
        {
            self.blocks.remove(&oldest);
        }
    }

    /// Copies a part of a block; `false` if it is not kept.
    fn copy(&mut self, block: u64, within: usize, into: &mut [u8]) -> bool {
        let Some((stamp, bytes)) = self.blocks.get_mut(&block) else {
            return false;
        };
        into.copy_from_slice(&bytes[within..within + into.len()]);
        self.next += 1;
        self.order.remove(stamp);
        self.order.insert(self.next, block);
        *stamp = self.next;
        true
    }
}

/// The parts of blocks that a request covers: the block, where it begins in it, and in the request.
fn parts(offset: u64, len: usize) -> impl Iterator<Item = (u64, usize, Range<usize>)> {
    let mut done = 0;
    std::iter::from_fn(move || {
        let place = offset + done as u64;
        let within = (place % BLOCK) as usize;
        let part = done..len.min(done + BLOCK as usize - within);
        done = part.end;
        (!part.is_empty()).then_some((place / BLOCK, within, part))
    })
}

impl<D: BlockDevice> ReadCache<D> {
    /// An empty cache.
    pub fn new(below: D) -> Self {
        Self {
            below,
            kept: Mutex::default(),
        }
    }

    /// The device itself, past the cache.
    pub(crate) fn below(&self) -> &D {
        &self.below
    }

    /// Drops the whole cache, because something was written behind its back.
    pub(crate) fn clear(&self) {
        *self.lock() = Kept::default();
    }

    fn lock(&self) -> MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Reads the blocks that a request touches in one go, and caches them.
    fn load(&self, kept: &mut Kept, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let start = offset / BLOCK * BLOCK;
        let end = (offset + buffer.len() as u64).next_multiple_of(BLOCK);
        let mut bytes = AlignedBuf::new((end.min(self.below.size()) - start) as usize);
        self.below.read_at(start, &mut bytes)?;
        let from = (offset - start) as usize;
        buffer.copy_from_slice(&bytes[from..from + buffer.len()]);
        for (block, part) in (start / BLOCK..).zip(bytes.chunks(BLOCK as usize)) {
            let mut one = AlignedBuf::new(part.len());
            one.copy_from_slice(part);
            kept.put(block, one);
        }
        Ok(())
    }
}

impl<D: BlockDevice> BlockDevice for ReadCache<D> {
    fn size(&self) -> u64 {
        self.below.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.below.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let end = offset.checked_add(buffer.len() as u64);
        let is_inside = end.is_some_and(|end| end <= self.size());
        // The device itself answers requests that lie outside it or are too large to cache.
        if !is_inside || buffer.len() as u64 > BLOCK * KEPT as u64 / 4 {
            return self.below.read_at(offset, buffer);
        }
        let mut kept = self.lock();
        let has_all = parts(offset, buffer.len())
            .all(|(block, within, part)| kept.copy(block, within, &mut buffer[part]));
        // Even if the whole blocks cannot be read, the requested part may still be readable.
        if has_all || self.load(&mut kept, offset, buffer).is_ok() {
            Ok(())
        } else {
            self.below.read_at(offset, buffer)
        }
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.below.read_once(offset, buffer)
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }

    fn forget_cache(&self, range: ByteRange) {
        *self.lock() = Kept::default();
        self.below.forget_cache(range);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Fault, FaultyDevice, MemoryDevice};
    use proptest::prelude::*;

    fn noise() -> Vec<u8> {
        (0..300_000u32)
            .map(|i| (i.wrapping_mul(i) >> 7) as u8)
            .collect()
    }

    proptest! {
        #[test]
        fn it_reads_what_is_below(reads in prop::collection::vec((0u64..301_000, 0usize..200_000), 1..40)) {
            let below = MemoryDevice::from_bytes(noise());
            let cache = ReadCache::new(&below);
            for (offset, len) in reads {
                let (mut cached, mut plain) = (vec![0; len], vec![0; len]);
                let expected = below.read_at(offset, &mut plain).is_ok();
                prop_assert_eq!(cache.read_at(offset, &mut cached).is_ok(), expected);
                prop_assert!(!expected || cached == plain);
            }
        }
    }

    #[test]
    fn a_bad_sector_hides_only_itself() {
        let bad = ByteRange {
            start: 1000,
            end: 1512,
        };
        let below = FaultyDevice::new(
            MemoryDevice::from_bytes(noise()),
            vec![Fault::ReadError(bad)],
        );
        let cache = ReadCache::new(&below);
        let mut bytes = [0; 100];
        cache.read_at(0, &mut bytes).unwrap();
        assert_eq!(bytes[..], noise()[..100]);
        assert!(cache.read_at(1000, &mut bytes).is_err());
    }
}
