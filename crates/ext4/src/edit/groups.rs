//! Changing group descriptors and bitmaps.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bits::set;
use pinewrit_disk::bytes::{put16, put32, u16le};
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::bg;
use pinewrit_ext4_layout::group::{GroupDescriptor, descriptor_checksum};
use pinewrit_ext4_layout::{ExtError, ReadOnlyCompatible, Superblock};

use super::{EditError, Editor};

/// A number of 16 bits in a descriptor, with its upper half if the descriptor has room for it.
pub(crate) fn count(raw: &[u8], field: usize) -> u32 {
    let high = if raw.len() >= 64 {
        u32::from(u16le(raw, bg::high(field)))
    } else {
        0
    };
    high << 16 | u32::from(u16le(raw, field))
}

pub(crate) fn put_count(raw: &mut [u8], field: usize, value: u32) {
    put16(raw, field, value as u16);
    if raw.len() >= 64 {
        put16(raw, bg::high(field), (value >> 16) as u16);
    }
}

pub(crate) fn put_place(raw: &mut [u8], field: usize, block: u64) {
    put32(raw, field, block as u32);
    if raw.len() >= 64 {
        put32(raw, bg::high(field), (block >> 32) as u32);
    }
}

/// Puts the checksum of a whole descriptor into it.
pub(crate) fn seal(sb: &Superblock, group: u64, raw: &mut [u8]) {
    let sum = descriptor_checksum(sb, group, raw).unwrap_or(0);
    put16(raw, bg::CHECKSUM, sum);
}

impl<D: BlockDevice> Editor<D> {
    /// Block and offset of a group's descriptor.
    fn descriptor_place(&self, group: u64) -> (u64, usize) {
        let per_block = self.sb.descriptors_per_block();
        let block = self.descriptor_blocks[(group / per_block) as usize];
        (
            block,
            ((group % per_block) * self.sb.descriptor_size) as usize,
        )
    }

    pub(crate) fn descriptor(&mut self, group: u64) -> Result<&[u8], ExtError> {
        let (block, at) = self.descriptor_place(group);
        let size = self.sb.descriptor_size as usize;
        Ok(&self.cache.block(block)?[at..at + size])
    }

    pub(crate) fn edit_descriptor(&mut self, group: u64) -> Result<&mut [u8], ExtError> {
        let (block, at) = self.descriptor_place(group);
        let size = self.sb.descriptor_size as usize;
        self.touched_groups.insert(group);
        Ok(&mut self.cache.edit(block)?[at..at + size])
    }

    /// The upper half of counts is only there in descriptors of 64 bytes.
    pub(crate) fn group_count(&mut self, group: u64, field: usize) -> Result<u32, ExtError> {
        Ok(count(self.descriptor(group)?, field))
    }

    pub(crate) fn add_group_count(
        &mut self,
        group: u64,
        field: usize,
        change: i64,
    ) -> Result<(), ExtError> {
        let raw = self.edit_descriptor(group)?;
        let now = i64::from(count(raw, field)) + change;
        let now = u32::try_from(now).map_err(|_| ExtError::Damaged("a group's count"))?;
        put_count(raw, field, now);
        Ok(())
    }

    fn clear_group_flag(&mut self, group: u64, flag: u16) -> Result<(), ExtError> {
        let raw = self.edit_descriptor(group)?;
        let flags = u16le(raw, bg::FLAGS) & !flag;
        put16(raw, bg::FLAGS, flags);
        Ok(())
    }

    fn has_group_flag(&mut self, group: u64, flag: u16) -> Result<bool, ExtError> {
        if !self.sb.has_group_flags() {
            return Ok(false);
        }
        Ok(u16le(self.descriptor(group)?, bg::FLAGS) & flag != 0)
    }

    /// The block of a group's block bitmap, which is initialised if it was never written.
    pub(crate) fn block_bitmap(&mut self, group: u64) -> Result<u64, EditError> {
        let place = self.groups[group as usize].block_bitmap;
        if !self.has_group_flag(group, bg::BLOCK_UNINIT)? {
            self.check_block_bitmap(group)?;
            return Ok(place);
        }
        let bitmap = fresh_block_bitmap(&self.sb, &self.groups, group);
        self.cache.put(place, bitmap);
        self.clear_group_flag(group, bg::BLOCK_UNINIT)?;
        self.checked_bitmaps.insert(group);
        Ok(place)
    }

    /// A bitmap is only trusted if it matches its descriptor.
    fn check_block_bitmap(&mut self, group: u64) -> Result<(), EditError> {
        if self.checked_bitmaps.contains(&group) {
            return Ok(());
        }
        // In its state when the file system was opened.
        let descriptor = self.groups[group as usize];
        let place = descriptor.block_bitmap;
        let bitmap = self.cache.block(place)?;
        if !descriptor.fits_bitmap(&self.sb, group, bitmap) {
            return Err(ExtError::DamagedAt {
                what: "a block bitmap",
                offset: place * self.sb.block_size,
            }
            .into());
        }
        self.checked_bitmaps.insert(group);
        Ok(())
    }

    /// The block of a group's inode bitmap, which is initialised if it was never written.
    pub(crate) fn inode_bitmap(&mut self, group: u64) -> Result<u64, EditError> {
        let place = self.groups[group as usize].inode_bitmap;
        if self.has_group_flag(group, bg::INODE_UNINIT)? {
            let bitmap = fresh_inode_bitmap(&self.sb);
            self.cache.put(place, bitmap);
            self.clear_group_flag(group, bg::INODE_UNINIT)?;
            self.checked_inode_bitmaps.insert(group);
            // The kernel initialises both together, and checkers expect that.
            self.block_bitmap(group)?;
        } else if self.checked_inode_bitmaps.insert(group) {
            self.check_inode_bitmap(group, place)?;
        }
        Ok(place)
    }

    fn check_inode_bitmap(&mut self, group: u64, place: u64) -> Result<(), EditError> {
        let per_group = self.sb.inodes_per_group;
        let free = self.group_count(group, bg::FREE_INODES)?;
        let stored = self.descriptor(group)?.to_vec();
        let bitmap = self.cache.block(place)?;
        let covered = &bitmap[..(per_group / 8) as usize];
        let used: u32 = covered.iter().map(|byte| byte.count_ones()).sum();
        let mut is_right = used + free == per_group;
        if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let sum = crc32c(self.sb.seed, covered);
            let mask = if stored.len() >= 64 { !0 } else { 0xffff };
            is_right &= count(&stored, bg::INODE_BITMAP_CHECKSUM) & mask == sum & mask;
        }
        if is_right {
            Ok(())
        } else {
            Err(ExtError::DamagedAt {
                what: "an inode bitmap",
                offset: place * self.sb.block_size,
            }
            .into())
        }
    }

    /// Puts checksums into all descriptors that were changed.
    pub(crate) fn seal_groups(&mut self) -> Result<(), EditError> {
        for group in std::mem::take(&mut self.touched_groups) {
            let places = self.groups[group as usize];
            let mut raw = self.descriptor(group)?.to_vec();
            if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
                let flags = u16le(&raw, bg::FLAGS);
                // A bitmap that was never written has no checksum, whatever the other one is.
                if flags & bg::BLOCK_UNINIT == 0 {
                    let clusters = (self.sb.blocks_per_group / self.sb.cluster_ratio / 8) as usize;
                    let bitmap = &self.cache.block(places.block_bitmap)?[..clusters];
                    let sum = crc32c(self.sb.seed, bitmap);
                    put_count(&mut raw, bg::BLOCK_BITMAP_CHECKSUM, sum);
                }
                if flags & bg::INODE_UNINIT == 0 {
                    let covered = (self.sb.inodes_per_group / 8) as usize;
                    let bitmap = &self.cache.block(places.inode_bitmap)?[..covered];
                    let sum = crc32c(self.sb.seed, bitmap);
                    put_count(&mut raw, bg::INODE_BITMAP_CHECKSUM, sum);
                }
            }
            seal(&self.sb, group, &mut raw);
            let (block, at) = self.descriptor_place(group);
            self.cache.edit(block)?[at..at + raw.len()].copy_from_slice(&raw);
        }
        Ok(())
    }
}

/// What is in use in a group without files: the copies of the superblock and descriptors, and any
/// group's metadata that lies in it.
pub(crate) fn fresh_block_bitmap(
    sb: &Superblock,
    groups: &[GroupDescriptor],
    group: u64,
) -> Vec<u8> {
    let mut bitmap = vec![0; sb.block_size as usize];
    let own = sb.group_blocks(group);
    let mut mark = |range: std::ops::Range<u64>| {
        let (from, to) = (range.start.max(own.start), range.end.min(own.end));
        if from < to {
            set(&mut bitmap, from - own.start..to - own.start);
        }
    };
    mark(sb.base_blocks(group));
    for other in groups {
        for place in other.metadata(sb) {
            mark(place);
        }
    }
    // "The bits behind the last block are set."
    let bits = sb.block_size * 8;
    set(&mut bitmap, own.end - own.start..bits);
    bitmap
}

/// The bitmap of a group without files.
pub(crate) fn fresh_inode_bitmap(sb: &Superblock) -> Vec<u8> {
    let mut bitmap = vec![0xff; sb.block_size as usize];
    let whole = (sb.inodes_per_group / 8) as usize;
    bitmap[..whole].fill(0);
    let rest = sb.inodes_per_group % 8;
    if rest > 0 {
        bitmap[whole] = 0xff << rest;
    }
    bitmap
}
