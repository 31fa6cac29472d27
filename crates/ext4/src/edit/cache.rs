//! A cache of metadata blocks: read once, changed here, written at the end, rolled back if a step
//! fails.

use std::collections::BTreeMap;

use pinewrit_disk::bytes::copy_shared;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Spans};
use pinewrit_ext4_layout::blocks::ExtError;

/// The most bytes combined into one request.
const REQUEST: usize = 1 << 20;

struct Slot {
    bytes: Box<[u8]>,
    is_changed: bool,
}

/// The content of a block before a step began; `None`: not in memory.
type Before = Option<(Box<[u8]>, bool)>;

pub(super) struct Cache<D> {
    device: D,
    block_size: usize,
    blocks: u64,
    slots: BTreeMap<u64, Slot>,
    step: Option<BTreeMap<u64, Before>>,
    /// File content that is written to the device together, and its offset.
    content: (u64, Vec<u8>),
    /// Whether its blocks were in use when the work began.
    content_was_freed: bool,
    /// Blocks that were in use then and are now free.
    freed: Spans,
}

impl<D: BlockDevice> Cache<D> {
    pub(super) fn new(device: D, block_size: u64, blocks: u64) -> Self {
        Self {
            device,
            block_size: block_size as usize,
            blocks,
            slots: BTreeMap::new(),
            step: None,
            content: (0, Vec::new()),
            content_was_freed: false,
            freed: Spans::default(),
        }
    }

    pub(super) fn device(&self) -> &D {
        &self.device
    }

    pub(super) fn into_device(self) -> D {
        self.device
    }

    /// Sets the number of blocks of the file system, and drops those behind them.
    pub(super) fn set_blocks(&mut self, blocks: u64) {
        self.blocks = blocks;
        let behind: Vec<u64> = self
            .slots
            .range(blocks..)
            .map(|(block, _)| *block)
            .collect();
        for block in behind {
            self.forget(block);
        }
    }

    /// Copies the content of a file to blocks that were free.
    pub(super) fn copy_content(
        &mut self,
        from: std::ops::Range<u64>,
        to: u64,
    ) -> Result<(), ExtError> {
        let size = self.block_size as u64;
        self.write_content()?;
        let (mut start, end, mut place) = (from.start * size, from.end * size, to * size);
        let is_changed = |slot: &Slot| slot.is_changed;
        let has_changed = self
            .slots
            .range(from.clone())
            .any(|(_, slot)| is_changed(slot));
        if !has_changed && !self.was_freed(place, (end - start) as usize) {
            let from = ByteRange { start, end };
            return Ok(self.device.copy_free(from, place)?);
        }
        while start < end {
            let mut bytes = vec![0; (end - start).min(REQUEST as u64) as usize];
            self.read_at(start, &mut bytes)?;
            self.device.write_at(place, &bytes)?;
            start += bytes.len() as u64;
            place += bytes.len() as u64;
        }
        Ok(())
    }

    fn load(&mut self, block: u64) -> Result<&mut Slot, ExtError> {
        if block >= self.blocks {
            return Err(ExtError::Damaged("a block number"));
        }
        if !self.slots.contains_key(&block) {
            let mut bytes = vec![0; self.block_size].into_boxed_slice();
            let offset = block * self.block_size as u64;
            self.device.read_at(offset, &mut bytes)?;
            let (start, content) = &self.content;
            copy_shared(*start, content, offset, &mut bytes);
            let slot = Slot {
                bytes,
                is_changed: false,
            };
            self.slots.insert(block, slot);
        }
        // It was inserted just now, if it was not there before.
        self.slots
            .get_mut(&block)
            .ok_or(ExtError::Damaged("a block number"))
    }

    /// Reads blocks into memory ahead of use, neighbours together.
    pub(super) fn fetch(&mut self, blocks: &[u64]) -> Result<(), ExtError> {
        let most = REQUEST / self.block_size;
        let mut rest = blocks;
        while let Some(&first) = rest.first() {
            let in_row = (first..).zip(rest).take(most);
            let count = in_row.take_while(|(want, block)| want == *block).count();
            let end = first
                .checked_add(count as u64)
                .filter(|end| *end <= self.blocks);
            if end.is_none() {
                return Err(ExtError::Damaged("a block number"));
            }
            let mut bytes = vec![0; count * self.block_size];
            self.read_at(first * self.block_size as u64, &mut bytes)?;
            for (block, bytes) in (first..).zip(bytes.chunks_exact(self.block_size)) {
                self.slots.entry(block).or_insert_with(|| Slot {
                    bytes: bytes.into(),
                    is_changed: false,
                });
            }
            rest = &rest[count..];
        }
        Ok(())
    }

    /// A block in its current state, kept in memory.
    pub(super) fn block(&mut self, block: u64) -> Result<&[u8], ExtError> {
        Ok(&self.load(block)?.bytes)
    }

    fn remember(&mut self, block: u64) {
        let slot = self.slots.get(&block);
        let before = slot.map(|slot| (slot.bytes.clone(), slot.is_changed));
        if let Some(step) = &mut self.step {
            step.entry(block).or_insert(before);
        }
    }

    /// A block to be changed.
    pub(super) fn edit(&mut self, block: u64) -> Result<&mut [u8], ExtError> {
        self.load(block)?;
        self.remember(block);
        let slot = self.load(block)?;
        slot.is_changed = true;
        Ok(&mut slot.bytes)
    }

    /// A block to be corrected in memory: it is only written if it is also changed.
    pub(super) fn amend(&mut self, block: u64) -> Result<&mut [u8], ExtError> {
        Ok(&mut self.load(block)?.bytes)
    }

    /// Replaces the content of a block.
    pub(super) fn put(&mut self, block: u64, bytes: Vec<u8>) {
        self.remember(block);
        let slot = Slot {
            bytes: bytes.into_boxed_slice(),
            is_changed: true,
        };
        self.slots.insert(block, slot);
    }

    /// Drops a block that is no longer metadata.
    pub(super) fn forget(&mut self, block: u64) {
        if self.slots.contains_key(&block) {
            self.remember(block);
            self.slots.remove(&block);
        }
    }

    /// Begins a step that can be rolled back.
    pub(super) fn begin(&mut self) {
        self.step = Some(BTreeMap::new());
    }

    /// Ends a step and keeps its changes.
    pub(super) fn keep(&mut self) {
        self.step = None;
    }

    /// Ends a step and rolls it back.
    pub(super) fn take_back(&mut self) {
        for (block, before) in self.step.take().unwrap_or_default() {
            match before {
                Some((bytes, is_changed)) => {
                    self.slots.insert(block, Slot { bytes, is_changed });
                }
                None => {
                    self.slots.remove(&block);
                }
            }
        }
    }

    /// Reads bytes with all changes, without keeping more in memory.
    pub(super) fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError> {
        let size = self.block_size as u64;
        let end = offset + buffer.len() as u64;
        let blocks = offset / size..end.div_ceil(size);
        let known = self.slots.range(blocks.clone());
        let is_covered = known.count() as u64 == blocks.end.saturating_sub(blocks.start);
        if !is_covered {
            self.device.read_at(offset, buffer)?;
            let (start, bytes) = &self.content;
            copy_shared(*start, bytes, offset, buffer);
        }
        for (block, slot) in self.slots.range(blocks) {
            copy_shared(block * size, &slot.bytes, offset, buffer);
        }
        Ok(())
    }

    /// Marks blocks that were in use when the work began: their content on the device must stay
    /// until everything is written.
    pub(super) fn note_freed(&mut self, blocks: std::ops::Range<u64>) {
        self.freed.add(blocks);
    }

    fn was_freed(&self, offset: u64, len: usize) -> bool {
        let size = self.block_size as u64;
        self.freed
            .meets(offset / size..(offset + len as u64).div_ceil(size))
    }

    /// Queues content of a file for blocks that were free.
    pub(super) fn put_content(&mut self, offset: u64, bytes: &[u8]) -> Result<(), DiskError> {
        let (start, pending) = &self.content;
        let was_freed = self.was_freed(offset, bytes.len());
        let goes_on = start + pending.len() as u64 == offset
            && pending.len() < REQUEST
            && was_freed == self.content_was_freed;
        if !goes_on {
            self.write_content()?;
            self.content.0 = offset;
            self.content_was_freed = was_freed;
        }
        self.content.1.extend_from_slice(bytes);
        Ok(())
    }

    fn write_content(&mut self) -> Result<(), DiskError> {
        let (start, bytes) = &mut self.content;
        if self.content_was_freed {
            self.device.write_at(*start, bytes)?
        } else {
            self.device.write_free(*start, bytes)?
        }
        bytes.clear();
        Ok(())
    }

    /// Whether any block has to be written.
    pub(super) fn is_changed(&self) -> bool {
        !self.content.1.is_empty() || self.slots.values().any(|slot| slot.is_changed)
    }

    /// Writes all changed blocks to the device, neighbours together.
    pub(super) fn write_back(&mut self) -> Result<(), DiskError> {
        self.write_content()?;
        let mut pending: Vec<u8> = Vec::new();
        let mut start = 0;
        for (&block, slot) in &mut self.slots {
            if !slot.is_changed {
                continue;
            }
            let offset = block * self.block_size as u64;
            let goes_on = start + pending.len() as u64 == offset && pending.len() < REQUEST;
            if !goes_on {
                self.device.write_at(start, &pending)?;
                pending.clear();
                start = offset;
            }
            pending.extend_from_slice(&slot.bytes);
        }
        self.device.write_at(start, &pending)?;
        for slot in self.slots.values_mut() {
            slot.is_changed = false;
        }
        Ok(())
    }
}
