//! Writing the map of a file: a tree of extents, or the older block map.

use std::ops::Range;

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{high, low, put16, put32};
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{EXTENT_MAGIC, Inode, InodeNumber, Piece, Run};
use pinewrit_ext4_layout::{Incompatible, ReadOnlyCompatible};

use super::{EditError, Editor};

/// The most blocks in an extent: 15 bits; the next bit marks it as unwritten.
const MAX_WRITTEN: u64 = 0x8000;
const MAX_UNWRITTEN: u64 = 0x7fff;
/// Extents in an inode.
const IN_INODE: usize = 4;

/// Joins neighbouring runs, and splits those that are too long for an extent.
fn extents_of(runs: &[Run]) -> Vec<Run> {
    let mut joined: Vec<Run> = Vec::new();
    for run in runs {
        match joined.last_mut() {
            Some(last)
                if last.logical_end() == run.logical
                    && last.blocks().end == run.start
                    && last.is_unwritten == run.is_unwritten =>
            {
                last.len += run.len;
            }
            _ => joined.push(*run),
        }
    }
    let mut extents = Vec::new();
    for run in joined {
        let most = if run.is_unwritten {
            MAX_UNWRITTEN
        } else {
            MAX_WRITTEN
        };
        let mut done = 0;
        while done < run.len {
            let len = (run.len - done).min(most);
            extents.push(Run {
                logical: run.logical + done,
                start: run.start + done,
                len,
                is_unwritten: run.is_unwritten,
            });
            done += len;
        }
    }
    extents
}

fn put_head(area: &mut [u8], entries: usize, depth: u16) {
    put16(area, 0, EXTENT_MAGIC);
    put16(area, 2, entries as u16);
    put16(area, 4, (area.len() / 12 - 1) as u16);
    put16(area, 6, depth);
}

fn put_leaf(area: &mut [u8], extents: &[Run]) {
    put_head(area, extents.len(), 0);
    for (entry, run) in area[12..].chunks_exact_mut(12).zip(extents) {
        put32(entry, 0, run.logical as u32);
        let len = run.len as u16;
        put16(entry, 4, if run.is_unwritten { len + 0x8000 } else { len });
        put16(entry, 6, high(run.start) as u16);
        put32(entry, 8, low(run.start));
    }
}

/// `children`: first block of the file under each, and the child's own block.
fn put_index(area: &mut [u8], children: &[(u64, u64)], depth: u16) {
    put_head(area, children.len(), depth);
    for (entry, (logical, block)) in area[12..].chunks_exact_mut(12).zip(children) {
        put32(entry, 0, *logical as u32);
        put32(entry, 4, low(*block));
        put16(entry, 8, high(*block) as u16);
    }
}

impl<D: BlockDevice> Editor<D> {
    /// The blocks of a file's map itself.
    pub(crate) fn map_blocks(&self, inode: &Inode) -> Result<Vec<u64>, EditError> {
        let mut blocks = Vec::new();
        inode.for_each_piece(self, &mut |piece| {
            if let Piece::Map(block) = piece {
                blocks.push(block);
            }
            false
        })?;
        Ok(blocks)
    }

    /// Gives a file a map with these runs; the blocks of the old map are reused or freed. The
    /// caller writes the inode.
    pub(crate) fn put_map(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
        runs: &[Run],
    ) -> Result<(), EditError> {
        let old = self.map_blocks(inode)?;
        for block in old {
            self.release(block..block + 1)?;
        }
        inode.raw[node::MAP..node::MAP + node::MAP_LEN].fill(0);
        let by_extents = self.sb.incompatible.has(Incompatible::EXTENTS);
        // A file without a map may get the better kind.
        if by_extents {
            inode.set_flag(node::FLAG_EXTENTS, true);
        }
        let map_blocks = if inode.has(node::FLAG_EXTENTS) {
            self.put_extents(number, inode, runs)?
        } else {
            self.put_block_map(number, inode, runs)?
        };
        let data: u64 = runs.iter().map(|run| run.len).sum();
        let attributes = u64::from(inode.xattr_block() != 0);
        self.put_sectors(inode, data + map_blocks + attributes);
        Ok(())
    }

    /// `i_blocks` counts sectors of 512 bytes, or blocks in huge files.
    pub(crate) fn put_sectors(&self, inode: &mut Inode, blocks: u64) {
        let sectors = blocks * (self.sb.block_size / 512);
        let is_huge = sectors >> 32 != 0;
        inode.set_flag(node::FLAG_HUGE, false);
        let count = match is_huge && self.sb.read_only.has(ReadOnlyCompatible::HUGE_FILE) {
            true if sectors >> 48 != 0 => {
                inode.set_flag(node::FLAG_HUGE, true);
                blocks
            }
            _ => sectors,
        };
        put32(&mut inode.raw, node::SECTORS, low(count));
        put16(&mut inode.raw, node::SECTORS_HIGH, high(count) as u16);
    }

    fn put_extents(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
        runs: &[Run],
    ) -> Result<u64, EditError> {
        let extents = extents_of(runs);
        if extents
            .last()
            .is_some_and(|last| last.logical_end() > 1 << 32)
        {
            return Err(EditError::TooLarge(format!("inode {}", number.0)));
        }
        let area = node::MAP..node::MAP + node::MAP_LEN;
        if extents.len() <= IN_INODE {
            put_leaf(&mut inode.raw[area], &extents);
            return Ok(0);
        }
        let room = (self.sb.block_size as usize - 12) / 12;
        let goal = extents.first().map_or(0, |run| run.start);
        let mut taken = 0;
        let mut level = Vec::new();
        for part in extents.chunks(room) {
            let block = self.allocate_block(goal)?;
            let mut bytes = vec![0; self.sb.block_size as usize];
            put_leaf(&mut bytes, part);
            self.put_tree_block(number, inode, block, bytes);
            level.push((part[0].logical, block));
            taken += 1;
        }
        let mut depth = 1;
        while level.len() > IN_INODE {
            let mut upper = Vec::new();
            for part in level.chunks(room) {
                let block = self.allocate_block(goal)?;
                let mut bytes = vec![0; self.sb.block_size as usize];
                put_index(&mut bytes, part, depth);
                self.put_tree_block(number, inode, block, bytes);
                upper.push((part[0].0, block));
                taken += 1;
            }
            level = upper;
            depth += 1;
        }
        put_index(&mut inode.raw[area], &level, depth);
        Ok(taken)
    }

    /// "Extent Tree", `ext4_extent_tail`: the checksum follows the room for entries.
    fn put_tree_block(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        block: u64,
        mut bytes: Vec<u8>,
    ) {
        if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let tail = 12 + (bytes.len() / 12 - 1) * 12;
            let sum = crc32c(self.inode_seed(number, inode), &bytes[..tail]);
            put32(&mut bytes, tail, sum);
        }
        self.cache.put(block, bytes);
    }

    fn put_block_map(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
        runs: &[Run],
    ) -> Result<u64, EditError> {
        let per_block = self.sb.block_size / 4;
        let blocks = runs.iter().flat_map(|run| {
            let pairs = run.logical..run.logical_end();
            pairs.zip(run.blocks())
        });
        let pairs: Vec<(u64, u64)> = blocks.collect();
        let too_large = || EditError::TooLarge(format!("inode {}", number.0));
        if pairs.last().is_some_and(|(_, block)| *block >> 32 != 0) {
            return Err(too_large());
        }
        let mut taken = 0;
        let mut first = 0;
        for slot in 0..15usize {
            let level = slot.saturating_sub(11) as u32;
            let covered = first..first + per_block.pow(level);
            first = covered.end;
            let pointer = self.put_pointer(&pairs, covered, level, &mut taken)?;
            put32(&mut inode.raw, node::MAP + slot * 4, pointer);
        }
        match pairs.last() {
            Some((logical, _)) if *logical >= first => Err(too_large()),
            _ => Ok(taken),
        }
    }

    /// The number that leads to the file's blocks in `covered`: 0 for none.
    fn put_pointer(
        &mut self,
        pairs: &[(u64, u64)],
        covered: Range<u64>,
        level: u32,
        taken: &mut u64,
    ) -> Result<u32, EditError> {
        let start = pairs.partition_point(|(logical, _)| *logical < covered.start);
        let end = pairs.partition_point(|(logical, _)| *logical < covered.end);
        let inside = &pairs[start..end];
        let Some((_, goal)) = inside.first() else {
            return Ok(0);
        };
        if level == 0 {
            return Ok(*goal as u32);
        }
        let block = self.allocate_block(*goal)?;
        *taken += 1;
        let each = (covered.end - covered.start) / (self.sb.block_size / 4);
        let mut bytes = vec![0; self.sb.block_size as usize];
        for (index, entry) in (0u64..).zip(bytes.chunks_exact_mut(4)) {
            let first = covered.start + index * each;
            let pointer = self.put_pointer(inside, first..first + each, level - 1, taken)?;
            put32(entry, 0, pointer);
        }
        self.cache.put(block, bytes);
        Ok(block as u32)
    }
}
