//! A cache for reading many small things: tables, directories, maps of files.

use std::collections::VecDeque;
use std::sync::Mutex;

use crate::{AlignedBuf, BlockDevice, ByteRange, DiskError, SectorSize};

/// Bytes that are read at once: a request of a card costs more than its bytes.
const BLOCK: u64 = 64 << 10;
/// Blocks that are kept.
const KEPT: usize = 64;

/// A device that is read in larger pieces, of which the last ones used are kept. It is not for
/// devices that somebody else writes meanwhile, and passes no writes on.
pub struct ReadCache<D> {
    below: D,
    blocks: Mutex<VecDeque<(u64, AlignedBuf)>>,
}

impl<D: BlockDevice> ReadCache<D> {
    /// An empty cache.
    pub fn new(below: D) -> Self {
        Self {
            below,
            blocks: Mutex::default(),
        }
    }

    /// The device itself, past the cache.
    pub(crate) fn below(&self) -> &D {
        &self.below
    }

    /// Copies a part of one block, which is read if it is not kept.
    fn copy(&self, block: u64, within: usize, into: &mut [u8]) -> Result<(), DiskError> {
        let mut blocks = self.blocks.lock().unwrap_or_else(|e| e.into_inner());
        let kept = blocks.iter().position(|(kept, _)| *kept == block);
        let found = match kept.and_then(|index| blocks.remove(index)) {
            Some(found) => found,
            None => {
                let start = block * BLOCK;
                let len = (self.below.size() - start).min(BLOCK);
                let mut bytes = AlignedBuf::new(len as usize);
                self.below.read_at(start, &mut bytes)?;
                (block, bytes)
            }
        };
        into.copy_from_slice(&found.1[within..within + into.len()]);
        blocks.push_front(found);
        blocks.truncate(KEPT);
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
        // Large reads gain nothing, and what lies outside is for the device to refuse. Where a
        // block cannot be read as a whole, the part that is asked for may still be readable.
        if buffer.len() as u64 >= BLOCK || !is_inside {
            return self.below.read_at(offset, buffer);
        }
        let mut done = 0;
        while done < buffer.len() {
            let place = offset + done as u64;
            let within = (place % BLOCK) as usize;
            let len = (BLOCK as usize - within).min(buffer.len() - done);
            let part = &mut buffer[done..done + len];
            if self.copy(place / BLOCK, within, part).is_err() {
                self.below.read_at(place, part)?;
            }
            done += len;
        }
        Ok(())
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }

    fn forget_cache(&self, range: ByteRange) {
        let mut blocks = self.blocks.lock().unwrap_or_else(|e| e.into_inner());
        blocks.clear();
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
        fn it_reads_what_is_below(reads in prop::collection::vec((0u64..301_000, 0usize..70_000), 1..40)) {
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
