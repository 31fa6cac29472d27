//! Copy-on-write over a device: changes are gathered in memory and committed as one, or dropped.

mod commit;

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::sync::{Mutex, MutexGuard};

use crate::device::{Operation, check_range};
use crate::{AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, DiskError, ReadCache, SectorSize};
pub use commit::{CommitError, CommitReport};

/// Content for unused space is gathered like everything else up to this many bytes, so that small
/// changes reach the device as a whole or not at all.
const DIRECT_FROM: usize = 16 << 20;

/// Bytes that are copied at a time.
const COPY: u64 = 1 << 20;

/// Unit in bytes in which an overlay keeps changes.
pub const OVERLAY_BLOCK: usize = 4096;

/// Changes to a device that are not on it yet.
///
/// Reads see the changes, the device below does not. Dropping an overlay changes nothing.
/// The memory used is that of the changed blocks, and of a cache for what is read to make them.
pub struct Overlay<D> {
    below: ReadCache<D>,
    blocks: Mutex<BTreeMap<u64, Box<[u8]>>>,
    free: FreeWrites,
    /// The number of gathered bytes beyond which content goes straight to the device.
    direct_from: usize,
    /// What went straight to the device, with its digest.
    direct: Mutex<Vec<(ByteRange, blake3::Hash)>>,
    /// Copies that are only references, whole blocks: by their start, their end, and where the
    /// bytes are on the device below.
    copies: Mutex<BTreeMap<u64, (u64, u64)>>,
}

/// What happens to content written to unused space.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum FreeWrites {
    /// It is gathered like everything else.
    #[default]
    Gathered,
    /// Large amounts go straight to the device. What refers to them is gathered, so nothing changes
    /// on the device until the commit, which reads the content back.
    Direct,
    /// It is dropped: nothing will be committed.
    Dropped,
    /// It is gathered, but copies within the device are kept as references to what is copied: for a
    /// view that is read and never committed.
    Referenced,
}

/// How the device below is read: through its cache, or past it.
type Below<D> = fn(&ReadCache<D>, u64, &mut [u8]) -> Result<(), DiskError>;

impl<D: BlockDevice> Overlay<D> {
    /// An overlay without changes.
    pub fn new(below: D) -> Self {
        Self {
            below: ReadCache::new(below),
            blocks: Mutex::default(),
            free: FreeWrites::Gathered,
            direct_from: DIRECT_FROM,
            direct: Mutex::default(),
            copies: Mutex::default(),
        }
    }

    /// The same, for changes whose content may be large.
    #[must_use]
    pub fn with_free_writes(self, free: FreeWrites) -> Self {
        Self { free, ..self }
    }

    /// Writes whole blocks to the device below, in pieces that it takes well.
    fn write_direct(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let below = self.below.below();
        for (start, piece) in (offset..).step_by(CHUNK_SIZE).zip(data.chunks(CHUNK_SIZE)) {
            let mut aligned = AlignedBuf::new(piece.len());
            aligned.copy_from_slice(piece);
            below.write_at(start, &aligned)?;
            let end = start + piece.len() as u64;
            let range = ByteRange { start, end };
            self.below.clear();
            let mut direct = self.direct.lock().unwrap_or_else(|e| e.into_inner());
            direct.push((range, blake3::hash(piece)));
        }
        Ok(())
    }

    /// The ranges that differ from the device below, in whole blocks, in ascending order.
    ///
    /// # Errors
    /// The device below could not be read.
    pub fn changed(&self) -> Result<Vec<ByteRange>, DiskError> {
        Ok(merged(self.changed_blocks()?))
    }

    /// Reads the device below with what is changed.
    fn read(&self, offset: u64, buffer: &mut [u8], below: Below<D>) -> Result<(), DiskError> {
        check_range(Operation::Read, offset, buffer.len(), self.size())?;
        let blocks = self.lock();
        let first = offset / OVERLAY_BLOCK as u64;
        let end = (offset + buffer.len() as u64).div_ceil(OVERLAY_BLOCK as u64);
        let covered = blocks.range(first..end).count() as u64;
        if covered < end - first {
            self.read_below(offset, buffer, below)?;
        }
        drop(blocks);
        if covered > 0 {
            self.lay_over(offset, buffer);
        }
        Ok(())
    }

    /// Reads what is not changed: the device below, and references to it.
    fn read_below(&self, offset: u64, buffer: &mut [u8], below: Below<D>) -> Result<(), DiskError> {
        let copies = self.copies.lock().unwrap_or_else(|e| e.into_inner());
        let end = offset + buffer.len() as u64;
        let mut at = offset;
        while at < end {
            let known = copies.range(..=at).next_back();
            let inside = known.filter(|(_, (copy_end, _))| *copy_end > at);
            let (from, stop) = match inside {
                Some((start, (copy_end, from))) => (from + (at - start), *copy_end),
                None => {
                    let next = copies.range(at..).next().map_or(end, |(start, _)| *start);
                    (at, next)
                }
            };
            let stop = stop.min(end);
            let part = (at - offset) as usize..(stop - offset) as usize;
            below(&self.below, from, &mut buffer[part])?;
            at = stop;
        }
        Ok(())
    }

    /// Keeps a reference to whole blocks in place of a copy; `false` if what is copied has changed.
    fn refer(&self, from: ByteRange, to: u64) -> bool {
        let block = OVERLAY_BLOCK as u64;
        let mut blocks = self.lock();
        let mut copies = self.copies.lock().unwrap_or_else(|e| e.into_inner());
        let touches = |copies: &BTreeMap<u64, (u64, u64)>, range: ByteRange| {
            let before = copies.range(..range.end).next_back();
            before.is_some_and(|(_, (end, _))| *end > range.start)
        };
        let target = ByteRange {
            start: to,
            end: to + from.len(),
        };
        let source = from.start / block..from.end.div_ceil(block);
        let is_changed = blocks.range(source).next().is_some()
            || touches(&copies, from)
            || touches(&copies, target);
        if is_changed {
            return false;
        }
        let stale: Vec<u64> = blocks
            .range(target.start / block..target.end / block)
            .map(|(index, _)| *index)
            .collect();
        for index in stale {
            blocks.remove(&index);
        }
        copies.insert(target.start, (target.end, from.start));
        true
    }

    /// Lays the changes over bytes of the device that begin at `offset`.
    pub fn lay_over(&self, offset: u64, buffer: &mut [u8]) {
        let blocks = self.lock();
        let Ok(()) = for_each_block(offset, buffer.len(), |index, within, part| {
            if let Some(block) = blocks.get(&index) {
                let len = part.len();
                buffer[part].copy_from_slice(&block[within..within + len]);
            }
            Ok::<(), std::convert::Infallible>(())
        });
    }

    fn changed_blocks(&self) -> Result<Vec<ByteRange>, DiskError> {
        let blocks = self.lock();
        let all = blocks.iter().map(|(&index, block)| {
            let start = index * OVERLAY_BLOCK as u64;
            let end = start + block.len() as u64;
            ByteRange { start, end }
        });
        let mut changed = Vec::new();
        // A request to a card costs more than its bytes.
        for run in merged(all) {
            let mut old = AlignedBuf::new(run.len() as usize);
            self.below.below().read_at(run.start, &mut old)?;
            let starts = (run.start..).step_by(OVERLAY_BLOCK);
            for (start, old) in starts.zip(old.chunks(OVERLAY_BLOCK)) {
                let new = blocks.get(&(start / OVERLAY_BLOCK as u64));
                if new.is_some_and(|new| new[..] != *old) {
                    let end = start + old.len() as u64;
                    changed.push(ByteRange { start, end });
                }
            }
        }
        Ok(changed)
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<u64, Box<[u8]>>> {
        // A panic in another thread leaves whole blocks behind, which are still valid.
        self.blocks.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn block_len(&self, index: u64) -> usize {
        let left = self.size() - index * OVERLAY_BLOCK as u64;
        left.min(OVERLAY_BLOCK as u64) as usize
    }
}

/// Joins neighbouring blocks, up to the size of a chunk.
fn merged(blocks: impl IntoIterator<Item = ByteRange>) -> Vec<ByteRange> {
    let mut ranges: Vec<ByteRange> = Vec::new();
    for block in blocks {
        match ranges.last_mut() {
            Some(last) if last.end == block.start && last.len() < CHUNK_SIZE as u64 => {
                last.end = block.end;
            }
            _ => ranges.push(block),
        }
    }
    ranges
}

/// Calls `visit` with each block's index, the offset inside it, and the part of the request that
/// lies in it.
fn for_each_block<E>(
    offset: u64,
    len: usize,
    mut visit: impl FnMut(u64, usize, std::ops::Range<usize>) -> Result<(), E>,
) -> Result<(), E> {
    let mut done = 0;
    while done < len {
        let position = offset + done as u64;
        let within = (position % OVERLAY_BLOCK as u64) as usize;
        let part = (OVERLAY_BLOCK - within).min(len - done);
        visit(position / OVERLAY_BLOCK as u64, within, done..done + part)?;
        done += part;
    }
    Ok(())
}

impl<D: BlockDevice> BlockDevice for Overlay<D> {
    fn size(&self) -> u64 {
        self.below.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.below.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.read(offset, buffer, ReadCache::read_at)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.read(offset, buffer, ReadCache::read_once)
    }

    fn forget_cache(&self, range: ByteRange) {
        self.below.forget_cache(range);
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(Operation::Write, offset, data.len(), self.size())?;
        let mut blocks = self.lock();
        for_each_block(offset, data.len(), |index, within, part| {
            let block = match blocks.entry(index) {
                Entry::Occupied(known) => known.into_mut(),
                Entry::Vacant(new) => {
                    let mut block = vec![0; self.block_len(index)].into_boxed_slice();
                    if part.len() < block.len() {
                        self.read_below(
                            index * OVERLAY_BLOCK as u64,
                            &mut block,
                            ReadCache::read_at,
                        )?;
                    }
                    new.insert(block)
                }
            };
            block[within..within + part.len()].copy_from_slice(&data[part]);
            Ok(())
        })
    }

    fn write_free(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(Operation::Write, offset, data.len(), self.size())?;
        if self.free == FreeWrites::Dropped {
            return Ok(());
        }
        let block = OVERLAY_BLOCK as u64;
        let end = offset + data.len() as u64;
        let (first, last) = (offset.next_multiple_of(block), end / block * block);
        let is_small = self.lock().len() * OVERLAY_BLOCK < self.direct_from;
        let goes_direct = self.free == FreeWrites::Direct;
        let is_gathered = !goes_direct || is_small || first >= last;
        let blocks = first / block..last / block;
        // What has already been changed is read from memory, so it must be changed there.
        if is_gathered || self.lock().range(blocks).next().is_some() {
            return self.write_at(offset, data);
        }
        let (head, rest) = data.split_at((first - offset) as usize);
        let (middle, tail) = rest.split_at((last - first) as usize);
        if !head.is_empty() {
            self.write_at(offset, head)?;
        }
        self.write_direct(first, middle)?;
        if tail.is_empty() {
            Ok(())
        } else {
            self.write_at(last, tail)
        }
    }

    fn copy_free(&self, from: ByteRange, to: u64) -> Result<(), DiskError> {
        let len = usize::try_from(from.len()).unwrap_or(usize::MAX);
        check_range(Operation::Read, from.start, len, self.size())?;
        check_range(Operation::Write, to, len, self.size())?;
        let block = OVERLAY_BLOCK as u64;
        let end = to + from.len();
        let (first, last) = (to.next_multiple_of(block), end / block * block);
        let copy = |start: u64, stop: u64| {
            let mut bytes = vec![0; stop.saturating_sub(start).min(COPY) as usize];
            let mut at = start;
            while at < stop {
                let len = (stop - at).min(COPY) as usize;
                self.read_at(from.start + (at - to), &mut bytes[..len])?;
                self.write_free(at, &bytes[..len])?;
                at += len as u64;
            }
            Ok(())
        };
        if self.free != FreeWrites::Referenced || first >= last {
            return copy(to, end);
        }
        let middle = ByteRange {
            start: from.start + (first - to),
            end: from.start + (last - to),
        };
        if !self.refer(middle, first) {
            return copy(to, end);
        }
        copy(to, first)?;
        copy(last, end)
    }

    /// Does nothing: changes reach the medium by [`Overlay::commit`] only.
    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::UndoLog;
    use crate::{Fault, FaultyDevice, MemoryDevice};
    use proptest::prelude::*;

    const SIZE: usize = 3 * OVERLAY_BLOCK + 700;

    fn noise() -> Vec<u8> {
        (0..SIZE).map(|i| (i * 31 % 251) as u8).collect()
    }

    #[test]
    fn dropping_changes_nothing_and_committing_all() {
        let medium = MemoryDevice::from_bytes(noise());
        let overlay = Overlay::new(&medium);
        overlay.write_at(4000, &[1; 500]).unwrap();
        overlay.write_at(SIZE as u64 - 3, &[2; 3]).unwrap();
        assert_eq!(medium.to_bytes(), noise());
        let report = overlay.commit(&[], None).unwrap();
        assert_eq!(report.written, (2 * OVERLAY_BLOCK + 700) as u64);
        assert_eq!(&medium.to_bytes()[4000..4500], &[1; 500]);
        assert_eq!(&medium.to_bytes()[SIZE - 3..], &[2; 3]);
    }

    #[test]
    fn rewriting_equal_bytes_is_no_change() {
        let medium = MemoryDevice::from_bytes(noise());
        let overlay = Overlay::new(&medium);
        overlay.write_at(0, &noise()).unwrap();
        assert_eq!(overlay.changed().unwrap(), []);
        assert_eq!(overlay.commit(&[], None).unwrap().written, 0);
    }

    #[test]
    fn a_failed_commit_is_taken_back() {
        let dir = tempfile::tempdir().unwrap();
        let undo = UndoLog::new(dir.path().join("card.undo"));
        let bad = ByteRange {
            start: 8192,
            end: 8193,
        };
        let medium = FaultyDevice::new(
            MemoryDevice::from_bytes(noise()),
            vec![Fault::WriteError(bad)],
        );
        let overlay = Overlay::new(&medium);
        overlay.write_at(0, &[7; 10]).unwrap();
        overlay.write_at(8192, &[7; 10]).unwrap();
        // The bad block cannot be written back either, but it was never changed.
        let error = overlay.commit(&[], Some(&undo)).unwrap_err();
        assert!(matches!(
            error,
            CommitError::Disk {
                rolled_back: true,
                ..
            }
        ));
        assert_eq!(medium.inner().to_bytes(), noise());
    }

    #[test]
    fn a_write_that_is_lost_is_noticed() {
        let lost = ByteRange { start: 0, end: 100 };
        let medium = FaultyDevice::new(MemoryDevice::new(SIZE), vec![Fault::LostWrites(lost)]);
        let overlay = Overlay::new(&medium);
        overlay.write_at(50, &[7; 10]).unwrap();
        assert!(matches!(
            overlay.commit(&[], None),
            Err(CommitError::ReadBack { offset: 0, .. })
        ));
    }

    #[test]
    fn the_last_range_waits_for_the_one_before() {
        let bad = ByteRange {
            start: 4096,
            end: 4097,
        };
        let (head, rest) = (
            ByteRange {
                start: 0,
                end: 4096,
            },
            ByteRange {
                start: 4096,
                end: 8192,
            },
        );
        let medium = FaultyDevice::new(MemoryDevice::new(SIZE), vec![Fault::WriteError(bad)]);
        let overlay = Overlay::new(&medium);
        overlay.write_at(0, &[7; 8192]).unwrap();
        assert!(overlay.commit(&[rest, head], None).is_err());
        assert_eq!(medium.inner().to_bytes(), vec![0; SIZE]);
    }

    #[test]
    fn late_ranges_are_not_touched_when_the_rest_fails() {
        let bad = ByteRange {
            start: 8192,
            end: 8193,
        };
        let head = ByteRange {
            start: 0,
            end: 4096,
        };
        let medium = FaultyDevice::new(MemoryDevice::new(SIZE), vec![Fault::WriteError(bad)]);
        let overlay = Overlay::new(&medium);
        overlay.write_at(0, &[7; 10]).unwrap();
        overlay.write_at(8192, &[7; 10]).unwrap();
        assert!(overlay.commit(&[head], None).is_err());
        assert_eq!(medium.inner().to_bytes(), vec![0; SIZE]);
    }

    #[test]
    fn what_is_free_goes_to_the_device_at_once_and_the_rest_later() {
        let medium = MemoryDevice::from_bytes(noise());
        let mut overlay = Overlay::new(&medium).with_free_writes(FreeWrites::Direct);
        overlay.direct_from = 0;
        overlay.write_at(0, &[1; 10]).unwrap();
        overlay.write_free(4000, &[2; 8000]).unwrap();
        let below = medium.to_bytes();
        assert_eq!(below[..4096], noise()[..4096]);
        assert_eq!(below[4096..8192], [2; 4096]);
        assert_eq!(below[8192..], noise()[8192..]);
        let mut back = vec![0; 8000];
        overlay.read_at(4000, &mut back).unwrap();
        assert_eq!(back, [2; 8000]);
        overlay.commit(&[], None).unwrap();
        assert_eq!(&medium.to_bytes()[4000..12_000], &[2; 8000]);
    }

    #[test]
    fn free_places_that_lose_writes_are_noticed() {
        let lost = ByteRange {
            start: 4096,
            end: 4097,
        };
        let medium = FaultyDevice::new(MemoryDevice::new(SIZE), vec![Fault::LostWrites(lost)]);
        let mut overlay = Overlay::new(&medium).with_free_writes(FreeWrites::Direct);
        overlay.direct_from = 0;
        overlay.write_free(4096, &[7; 4096]).unwrap();
        overlay.write_at(0, &[7; 10]).unwrap();
        assert!(matches!(
            overlay.commit(&[], None),
            Err(CommitError::ReadBack { offset: 4096, .. })
        ));
        // What would have referred to it was not written.
        assert_eq!(medium.inner().to_bytes()[..4096], [0; 4096]);
    }

    proptest! {
        #[test]
        fn reads_equal_a_plain_array(
            writes in prop::collection::vec((0..SIZE, prop::collection::vec(any::<u8>(), 0..9000)), 0..12),
            start in 0..SIZE, len in 0..SIZE,
        ) {
            let medium = MemoryDevice::from_bytes(noise());
            let overlay = Overlay::new(&medium);
            let mut plain = noise();
            for (offset, data) in writes {
                let data = &data[..data.len().min(SIZE - offset)];
                overlay.write_at(offset as u64, data).unwrap();
                plain[offset..offset + data.len()].copy_from_slice(data);
            }
            let len = len.min(SIZE - start);
            let mut back = vec![0; len];
            overlay.read_at(start as u64, &mut back).unwrap();
            prop_assert_eq!(&back, &plain[start..start + len]);
            overlay.commit(&[], None).unwrap();
            prop_assert_eq!(medium.to_bytes(), plain);
        }
    }

    /// A step on an overlay.
    #[derive(Clone, Debug)]
    enum Step {
        Write(usize, usize, u8),
        Copy(usize, usize, usize),
        Read(usize, usize),
    }

    fn steps() -> impl Strategy<Value = Vec<Step>> {
        let (at, len) = (0..SIZE, 0..2 * OVERLAY_BLOCK);
        let step = prop_oneof![
            (at.clone(), len.clone(), any::<u8>())
                .prop_map(|(at, len, byte)| Step::Write(at, len, byte)),
            (at.clone(), len.clone(), at.clone())
                .prop_map(|(from, len, to)| Step::Copy(from, len, to)),
            (at, len).prop_map(|(at, len)| Step::Read(at, len)),
        ];
        prop::collection::vec(step, 1..30)
    }

    proptest! {
        #[test]
        fn reads_see_every_change(steps in steps(), is_view in any::<bool>()) {
            let medium = MemoryDevice::from_bytes(noise());
            let overlay = Overlay::new(&medium);
            let overlay = if is_view { overlay.with_free_writes(FreeWrites::Referenced) } else { overlay };
            let mut model = noise();
            for step in steps {
                match step {
                    Step::Write(at, len, byte) => {
                        let end = (at + len).min(SIZE);
                        overlay.write_at(at as u64, &vec![byte; end - at]).unwrap();
                        model[at..end].fill(byte);
                    }
                    Step::Copy(from, len, to) => {
                        let len = len.min(SIZE - from.max(to));
                        let range = ByteRange { start: from as u64, end: (from + len) as u64 };
                        if from.abs_diff(to) >= len {
                            overlay.copy_free(range, to as u64).unwrap();
                            model.copy_within(from..from + len, to);
                        }
                    }
                    Step::Read(at, len) => {
                        let end = (at + len).min(SIZE);
                        let (mut cached, mut once) = (vec![0; end - at], vec![0; end - at]);
                        overlay.read_at(at as u64, &mut cached).unwrap();
                        overlay.read_once(at as u64, &mut once).unwrap();
                        prop_assert!(cached == model[at..end]);
                        prop_assert!(once == model[at..end]);
                    }
                }
            }
            prop_assert_eq!(medium.to_bytes(), noise());
            let mut all = vec![0; SIZE];
            overlay.read_once(0, &mut all).unwrap();
            prop_assert!(all == model);
        }
    }
}
