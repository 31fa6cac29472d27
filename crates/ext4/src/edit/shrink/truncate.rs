//! The end of shrinking: fewer groups, and the counts of what remains.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bits::{is_set, set};
use pinewrit_disk::bytes::{high, low, put32};
use pinewrit_ext4_layout::fields::{bg, sb};
use pinewrit_ext4_layout::{Incompatible, Superblock};

use crate::edit::groups::put_count;
use crate::edit::{EditError, Editor};

impl<D: BlockDevice> Editor<D> {
    /// Ends the file system with the last of `new`'s blocks; nothing in use lies behind it.
    pub(super) fn cut_off(&mut self, new: Superblock) -> Result<(), EditError> {
        self.drop_reserve_map(&new)?;
        self.release_descriptor_room(&new)?;
        let last = new.groups() - 1;
        let own = new.group_blocks(last);
        let place = self.block_bitmap(last)?;
        let bitmap = self.cache.edit(place)?;
        // "The bits behind the last block are set."
        set(bitmap, own.end - own.start..new.block_size * 8);
        let free = (0..own.end - own.start).filter(|bit| !is_set(bitmap, *bit));
        let free = free.count() as u32;
        put_count(self.edit_descriptor(last)?, bg::FREE_BLOCKS, free);
        for group in new.groups()..self.sb.groups() {
            self.edit_descriptor(group)?.fill(0);
        }
        self.take_superblock(new)?;
        self.count_again()?;
        self.put_reserve()?;
        self.put_copies()
    }

    /// Where fewer blocks are kept for descriptors, the others become free.
    fn release_descriptor_room(&mut self, new: &Superblock) -> Result<(), EditError> {
        for group in 0..new.groups() {
            let (before, after) = (self.sb.base_blocks(group), new.base_blocks(group));
            if after.end < before.end {
                self.release(after.end..before.end)?;
            }
        }
        Ok(())
    }

    /// The superblock counts what the groups do.
    fn count_again(&mut self) -> Result<(), EditError> {
        let (mut blocks, mut inodes) = (0, 0);
        for group in 0..self.sb.groups() {
            blocks += u64::from(self.group_count(group, bg::FREE_BLOCKS)?);
            inodes += self.group_count(group, bg::FREE_INODES)?;
        }
        let is_wide = self.sb.incompatible.has(Incompatible::BIT64);
        let raw = self.edit_sb()?;
        put32(raw, sb::FREE_BLOCKS, low(blocks));
        if is_wide {
            put32(raw, sb::FREE_BLOCKS_HIGH, high(blocks));
        }
        put32(raw, sb::FREE_INODES, inodes);
        Ok(())
    }
}
