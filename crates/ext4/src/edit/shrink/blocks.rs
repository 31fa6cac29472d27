//! Blocks of files past the new end.

use std::collections::BTreeMap;
use std::ops::Range;

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{high, low, put32};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{node, sb};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, Run};
use pinewrit_ext4_layout::{Compatible, ExtError, ReadOnlyCompatible, Superblock};

use super::Renumbered;
use crate::edit::{EditError, Editor};

/// What has moved so far.
#[derive(Default)]
struct Moved {
    bytes: u64,
    /// Blocks of extended attributes, which several inodes may share.
    attributes: BTreeMap<u64, u64>,
}

impl<D: BlockDevice> Editor<D> {
    /// Moves the blocks of all remaining inodes that lie past the new end; returns how many bytes
    /// of content that were. Checksums in the maps of renumbered inodes follow.
    pub(super) fn move_blocks(
        &mut self,
        new: &Superblock,
        renumbered: &Renumbered,
    ) -> Result<u64, EditError> {
        let mut moved = Moved::default();
        let others: std::collections::BTreeSet<InodeNumber> =
            renumbered.values().copied().collect();
        for group in 0..new.groups() {
            for number in self.used_inodes(group)? {
                let is_other = others.contains(&number);
                if number != InodeNumber::RESIZE {
                    self.move_inode_blocks(new, number, is_other, &mut moved)?;
                }
            }
        }
        Ok(moved.bytes)
    }

    fn move_inode_blocks(
        &mut self,
        new: &Superblock,
        number: InodeNumber,
        is_renumbered: bool,
        moved: &mut Moved,
    ) -> Result<(), EditError> {
        let mut inode = self.tree().inode(number)?;
        let attributes = self.move_attributes(new, &mut inode, moved)?;
        let is_orphans = self.is_orphan_file(number, is_renumbered);
        let mut has_moved = false;
        if inode.has_map() {
            let runs = inode.runs(self)?;
            let map = self.map_blocks(&inode)?;
            let is_past = |run: &Run| run.blocks().end > new.blocks;
            let in_map = map.iter().any(|block| *block >= new.blocks);
            has_moved = runs.iter().any(is_past);
            if has_moved && number == InodeNumber(1) {
                return Err(EditError::Feature("bad blocks".to_owned()));
            }
            if has_moved || in_map || is_renumbered && !map.is_empty() {
                let mut placed = Vec::new();
                for run in &runs {
                    self.move_run(new, &inode, *run, &mut placed, moved)?;
                }
                self.put_map(number, &mut inode, &placed)?;
                has_moved = true;
            }
        }
        if has_moved || attributes {
            self.put_inode(number, &inode)?;
        }
        if has_moved && number == InodeNumber::JOURNAL {
            self.back_up_journal_map(&inode)?;
        }
        if is_orphans && (has_moved || is_renumbered) {
            self.seal_orphans(number, &inode)?;
        }
        Ok(())
    }

    /// Moves the part of a run that lies past the new end.
    fn move_run(
        &mut self,
        new: &Superblock,
        inode: &Inode,
        run: Run,
        placed: &mut Vec<Run>,
        moved: &mut Moved,
    ) -> Result<(), EditError> {
        let kept = new.blocks.saturating_sub(run.start).min(run.len);
        if kept > 0 {
            placed.push(Run { len: kept, ..run });
        }
        if kept == run.len {
            return Ok(());
        }
        let goal = placed
            .last()
            .map_or(new.first_data_block, |run| run.blocks().end);
        let mut done = kept;
        for part in self.allocate(goal, run.len - kept)? {
            let len = part.end - part.start;
            let from = run.start + done;
            if inode.kind() == FileKind::Directory {
                self.copy_metadata(from..from + len, part.start)?;
            } else if !run.is_unwritten {
                self.cache.copy_content(from..from + len, part.start)?;
            }
            placed.push(Run {
                logical: run.logical + done,
                start: part.start,
                len,
                is_unwritten: run.is_unwritten,
            });
            if !run.is_unwritten {
                moved.bytes += len * new.block_size;
            }
            done += len;
        }
        Ok(())
    }

    /// Blocks of directories are changed afterwards: they go through the cache.
    fn copy_metadata(&mut self, from: Range<u64>, to: u64) -> Result<(), EditError> {
        for (block, place) in from.zip(to..) {
            let bytes = self.read_block(block)?;
            self.cache.forget(block);
            self.cache.put(place, bytes);
        }
        Ok(())
    }

    /// Moves a block of extended attributes, once for all that share it.
    fn move_attributes(
        &mut self,
        new: &Superblock,
        inode: &mut Inode,
        moved: &mut Moved,
    ) -> Result<bool, EditError> {
        let old = inode.xattr_block();
        if old < new.blocks {
            return Ok(false);
        }
        let place = match moved.attributes.get(&old) {
            Some(known) => *known,
            None => {
                let place = self.allocate_block(new.first_data_block)?;
                let mut bytes = self.read_block(old)?;
                self.seal_xattr_block(place, &mut bytes);
                self.cache.put(place, bytes);
                moved.attributes.insert(old, place);
                place
            }
        };
        inode.set_xattr_block(place);
        Ok(true)
    }

    /// "The Super Block", `s_jnl_blocks`: the journal's map and size once more.
    fn back_up_journal_map(&mut self, inode: &Inode) -> Result<(), EditError> {
        let (map, size) = (inode.map().to_vec(), inode.size());
        let raw = self.edit_sb()?;
        let at = sb::JOURNAL_BACKUP;
        raw[at..at + map.len()].copy_from_slice(&map);
        put32(raw, at + map.len(), high(size));
        put32(raw, at + map.len() + 4, low(size));
        Ok(())
    }

    fn is_orphan_file(&mut self, number: InodeNumber, is_renumbered: bool) -> bool {
        let raw = self
            .raw_sb()
            .map(|raw| pinewrit_disk::bytes::u32le(raw, sb::ORPHAN_FILE));
        let known = if is_renumbered {
            raw.unwrap_or_default()
        } else {
            self.sb.orphan_file
        };
        self.sb.compatible.has(Compatible::ORPHAN_FILE) && known == number.0
    }

    /// "Orphan File": each block ends with a magic number and a checksum over the block's place,
    /// and over its entries.
    fn seal_orphans(&mut self, number: InodeNumber, inode: &Inode) -> Result<(), EditError> {
        if !self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            return Ok(());
        }
        let seed = self.inode_seed(number, inode);
        for run in inode.runs(self)? {
            for block in run.blocks() {
                let mut bytes = self.read_block(block)?;
                let tail = bytes.len().checked_sub(8);
                let tail = tail.ok_or(ExtError::Damaged("the list of orphans"))?;
                let sum = crc32c(crc32c(seed, &block.to_le_bytes()), &bytes[..tail]);
                put32(&mut bytes, tail + 4, sum);
                self.cache.put(block, bytes);
            }
        }
        Ok(())
    }

    /// Takes the block of a map away that reserves descriptors, if it lies past the new end.
    pub(super) fn drop_reserve_map(&mut self, new: &Superblock) -> Result<(), EditError> {
        if !self.sb.compatible.has(Compatible::RESIZE_INODE) {
            return Ok(());
        }
        let mut inode = self.tree().inode(InodeNumber::RESIZE)?;
        let slot = node::MAP + 13 * 4;
        if u64::from(pinewrit_disk::bytes::u32le(&inode.raw, slot)) >= new.blocks {
            put32(&mut inode.raw, slot, 0);
            self.put_inode(InodeNumber::RESIZE, &inode)?;
        }
        Ok(())
    }
}
