//! Metadata of groups and inodes past the new end.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bits::is_set;
use pinewrit_disk::bytes::put32;
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::fields::{bg, sb};
use pinewrit_ext4_layout::inode::{FileKind, InodeNumber};
use pinewrit_ext4_layout::{Compatible, Superblock};

use super::Renumbered;
use crate::edit::groups::put_place;
use crate::edit::{EditError, Editor};

impl<D: BlockDevice> Editor<D> {
    /// Moves bitmaps and inode tables of the remaining groups that lie past the new end.
    pub(super) fn move_group_metadata(&mut self, new: &Superblock) -> Result<(), EditError> {
        for group in 0..new.groups() {
            // Checked, or initialised, where they are.
            let own = self.groups[group as usize];
            let goal = new.group_blocks(group).start;
            if own.block_bitmap >= new.blocks {
                let old = self.block_bitmap(group)?;
                let place = self.move_block(old, goal)?;
                self.groups[group as usize].block_bitmap = place;
                put_place(self.edit_descriptor(group)?, bg::BLOCK_BITMAP, place);
            }
            if own.inode_bitmap >= new.blocks {
                let old = self.inode_bitmap(group)?;
                let place = self.move_block(old, goal)?;
                self.groups[group as usize].inode_bitmap = place;
                put_place(self.edit_descriptor(group)?, bg::INODE_BITMAP, place);
            }
            let len = new.inode_table_blocks();
            if own.inode_table + len > new.blocks {
                let place = self.allocate_whole(goal, len)?;
                for index in 0..len {
                    let bytes = self.read_block(own.inode_table + index)?;
                    self.cache.put(place + index, bytes);
                }
                self.release(own.inode_table..own.inode_table + len)?;
                self.groups[group as usize].inode_table = place;
                put_place(self.edit_descriptor(group)?, bg::INODE_TABLE, place);
            }
        }
        Ok(())
    }

    /// Moves one block of metadata.
    pub(super) fn move_block(&mut self, from: u64, goal: u64) -> Result<u64, EditError> {
        let place = self.allocate_block(goal)?;
        let bytes = self.read_block(from)?;
        self.cache.put(place, bytes);
        self.release(from..from + 1)?;
        Ok(place)
    }

    /// Moves inodes out of groups that go away.
    pub(super) fn move_inodes(&mut self, new: &Superblock) -> Result<Renumbered, EditError> {
        let mut renumbered = Renumbered::new();
        for group in new.groups()..self.sb.groups() {
            for number in self.used_inodes(group)? {
                if self.sb.compatible.has(Compatible::STABLE_INODES) {
                    return Err(EditError::Feature("stable_inodes".to_owned()));
                }
                let inode = self.tree().inode(number)?;
                let is_folder = inode.kind() == FileKind::Directory;
                let other = self.allocate_inode(InodeNumber(1), is_folder)?;
                self.put_inode(other, &inode)?;
                renumbered.insert(number, other);
            }
        }
        let orphans = InodeNumber(self.sb.orphan_file);
        if let Some(other) = renumbered.get(&orphans)
            && self.sb.compatible.has(Compatible::ORPHAN_FILE)
        {
            let number = other.0;
            put32(self.edit_sb()?, sb::ORPHAN_FILE, number);
        }
        Ok(renumbered)
    }

    /// The inodes of a group that are in use.
    pub(super) fn used_inodes(&mut self, group: u64) -> Result<Vec<InodeNumber>, EditError> {
        let per_group = self.sb.inodes_per_group;
        if self.group_count(group, bg::FREE_INODES)? == per_group {
            return Ok(Vec::new());
        }
        let place = self.inode_bitmap(group)?;
        let bitmap = self.cache.block(place)?;
        let first = group as u32 * per_group + 1;
        let used = (0..per_group).filter(|bit| is_set(bitmap, u64::from(*bit)));
        Ok(used.map(|bit| InodeNumber(first + bit)).collect())
    }

    /// Frees the metadata of groups that go away, as far as it lies in the remaining ones.
    pub(super) fn release_group_metadata(&mut self, new: &Superblock) -> Result<(), EditError> {
        for group in new.groups()..self.sb.groups() {
            for blocks in self.groups[group as usize].metadata(new) {
                if blocks.start < new.blocks {
                    self.release(blocks)?;
                }
            }
        }
        Ok(())
    }
}
