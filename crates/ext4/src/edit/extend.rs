//! New groups: their descriptors, the room for more of them, and all copies.

use std::ops::Range;

use pinewrit_disk::bytes::{put16, put32, u32le};
use pinewrit_disk::{BlockDevice, ByteRange};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{bg, node, sb};
use pinewrit_ext4_layout::inode::{FileKind, InodeNumber};
use pinewrit_ext4_layout::{Compatible, ExtError, Incompatible, ReadOnlyCompatible, Superblock};

use super::groups::{fresh_block_bitmap, fresh_inode_bitmap, put_count, put_place};
use super::layout::{place, usage};
use super::{EditError, Editor};

impl<D: BlockDevice> Editor<D> {
    /// Creates these groups, which the superblock already counts, and adds their free blocks and
    /// inodes to its counts.
    pub(crate) fn add_groups(&mut self, groups: Range<u64>) -> Result<(), EditError> {
        let is_flexible = self.sb.incompatible.has(Incompatible::FLEX_BG);
        let placed = place(&self.sb, groups.clone(), is_flexible)
            .ok_or(ExtError::Damaged("the size of groups"))?;
        let usages = usage(&self.sb, groups.start, &placed);
        self.groups.extend(&placed);
        let last = self.sb.groups() - 1;
        for ((group, descriptor), usage) in groups.zip(&placed).zip(usages) {
            let blocks = self.sb.group_blocks(group);
            let free = (blocks.end - blocks.start).checked_sub(usage.used);
            let free = free.ok_or(ExtError::Damaged("the size of groups"))?;
            let per_group = self.sb.inodes_per_group;
            let may_wait = self.sb.has_group_flags();
            let is_plain = may_wait && !usage.has_guests && group != 0 && group != last;
            let flags = match (may_wait, is_plain) {
                (false, _) => 0,
                (true, false) => bg::INODE_UNINIT,
                (true, true) => bg::INODE_UNINIT | bg::BLOCK_UNINIT,
            };
            let raw = self.edit_descriptor(group)?;
            raw.fill(0);
            put_place(raw, bg::BLOCK_BITMAP, descriptor.block_bitmap);
            put_place(raw, bg::INODE_BITMAP, descriptor.inode_bitmap);
            put_place(raw, bg::INODE_TABLE, descriptor.inode_table);
            put_count(raw, bg::FREE_BLOCKS, free as u32);
            put_count(raw, bg::FREE_INODES, per_group);
            put16(raw, bg::FLAGS, flags);
            if may_wait {
                put_count(raw, bg::UNUSED_INODES, per_group);
            }
            self.checked_bitmaps.insert(group);
            self.checked_inode_bitmaps.insert(group);
            if !is_plain {
                let bitmap = fresh_block_bitmap(&self.sb, &self.groups, group);
                self.cache.put(descriptor.block_bitmap, bitmap);
            }
            if !may_wait {
                let bitmap = fresh_inode_bitmap(&self.sb);
                self.cache.put(descriptor.inode_bitmap, bitmap);
                self.zero_table(descriptor.inode_table)?;
            }
            self.add_free_blocks(free as i64)?;
            self.add_sb(sb::FREE_INODES, i64::from(per_group))?;
        }
        Ok(())
    }

    /// Without flags, the whole inode table counts.
    fn zero_table(&mut self, table: u64) -> Result<(), EditError> {
        let size = self.sb.block_size;
        let end = table + self.sb.inode_table_blocks();
        self.cache.device().zero(ByteRange {
            start: table * size,
            end: end * size,
        })?;
        Ok(())
    }

    /// Creates the inode that reserves blocks for more descriptors: its map leads to the blocks
    /// after the first descriptors, and these to the blocks at the same place in the groups with
    /// copies ("Meta Block Groups", `resize_inode`).
    pub(crate) fn put_reserve(&mut self) -> Result<(), EditError> {
        if !self.sb.compatible.has(Compatible::RESIZE_INODE) {
            return Ok(());
        }
        let now = self.now;
        let mut inode = self.tree().inode(InodeNumber::RESIZE)?;
        let is_new = inode.links() == 0 && inode.map().iter().all(|byte| *byte == 0);
        if is_new {
            let attributes = super::Attributes::root(0o600, now);
            inode = self.new_inode(InodeNumber::RESIZE, FileKind::Regular, &attributes)?;
        }
        inode.set_links(1);
        let slot = node::MAP + 13 * 4;
        let table = match u32le(&inode.raw, slot) {
            0 => {
                let after = self.groups.first().map_or(0, |group| group.inode_table);
                self.allocate_block(after)?
            }
            known => u64::from(known),
        };
        let size = self.sb.block_size as usize;
        let pointers = size as u64 / 4;
        let used = self.descriptor_blocks.len() as u64;
        let first = self.sb_place.0 + 1 + used;
        let copies: Vec<u64> = (1..self.sb.groups())
            .filter(|group| self.sb.has_superblock(*group))
            .collect();
        if copies.len() as u64 > pointers || self.sb.reserved_descriptor_blocks > pointers {
            return Err(ExtError::Damaged("the room for more group descriptors").into());
        }
        let mut count = 1;
        let mut upper = vec![0; size];
        for index in 0..self.sb.reserved_descriptor_blocks {
            let block = first + index;
            let at = ((used + index) % pointers) as usize * 4;
            put32(&mut upper, at, block as u32);
            let mut lower = vec![0; size];
            for (slot, group) in copies.iter().enumerate() {
                let copy = block + group * self.sb.blocks_per_group;
                put32(&mut lower, slot * 4, copy as u32);
            }
            self.cache.put(block, lower);
            count += 1 + copies.len() as u64;
        }
        self.cache.put(table, upper);
        put32(&mut inode.raw, slot, table as u32);
        // The most blocks that such a map can lead to.
        inode.set_size((pointers * pointers + pointers + 12) * size as u64);
        self.put_sectors(&mut inode, count);
        self.put_inode(InodeNumber::RESIZE, &inode)
    }

    /// Puts the superblock and the descriptors into all groups that have copies of them.
    pub(crate) fn put_copies(&mut self) -> Result<(), EditError> {
        self.seal_groups()?;
        let size = self.sb.block_size as usize;
        let tables = self.descriptor_blocks.clone();
        let raw = self.raw_sb()?.to_vec();
        let joint = !self.sb.incompatible.has(Incompatible::META_BG);
        for group in 1..self.sb.groups() {
            if !self.sb.has_superblock(group) {
                continue;
            }
            let start = self.sb.group_blocks(group).start;
            let mut copy = vec![0; size];
            copy[..Superblock::SIZE].copy_from_slice(&raw);
            put16(&mut copy, sb::GROUP_NUMBER, group as u16);
            if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
                let sum = crc32c(!0, &copy[..sb::CHECKSUM]);
                put32(&mut copy, sb::CHECKSUM, sum);
            }
            self.cache.put(start, copy);
            for (index, table) in (1u64..).zip(&tables).filter(|_| joint) {
                let bytes = self.read_block(*table)?;
                self.cache.put(start + index, bytes);
            }
        }
        Ok(())
    }
}
