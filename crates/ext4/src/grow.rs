//! Growing a file system that is not in use.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{high, low, put16, put32, u32le, wide};
use pinewrit_ext4_layout::fields::{bg, sb};
use pinewrit_ext4_layout::{Compatible, ExtError, Incompatible, Superblock};

use crate::edit::{EditError, Editor, SizeError, layout};

/// What growing did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Growth {
    /// Size before, in bytes.
    pub before: u64,
    /// Size after, in bytes: less than requested if the last group would be too short to use.
    pub after: u64,
}

impl<D: BlockDevice> Editor<D> {
    /// The largest size in bytes that the file system can grow to, limited by the room reserved for
    /// group descriptors.
    pub fn largest_size(&self) -> u64 {
        let sb = self.superblock();
        let tables = sb.descriptor_locations().len() as u64;
        let reserve = if sb.compatible.has(Compatible::RESIZE_INODE) {
            sb.reserved_descriptor_blocks
        } else {
            0
        };
        let groups = (tables + reserve) * sb.descriptors_per_block();
        let blocks = sb.first_data_block + groups.saturating_mul(sb.blocks_per_group);
        let most = if sb.incompatible.has(Incompatible::BIT64) {
            u64::MAX / sb.block_size
        } else {
            u64::from(u32::MAX)
        };
        blocks.min(most).saturating_mul(sb.block_size)
    }

    /// Makes the file system as large as `size` bytes, or a little less.
    ///
    /// # Errors
    /// [`EditError::Size`], or that file systems of this kind are not grown here; nothing is
    /// changed then.
    pub fn grow(&mut self, size: u64) -> Result<Growth, EditError> {
        let before = self.superblock().size();
        if size < before {
            return Err(SizeError::Shrinking { size, now: before }.into());
        }
        if self.superblock().incompatible.has(Incompatible::META_BG) {
            return Err(EditError::Feature("meta_bg".to_owned()));
        }
        let most = self.largest_size();
        if size > most {
            return Err(SizeError::BeyondReserve { size, most }.into());
        }
        let target = self.grown_superblock(size / self.superblock().block_size)?;
        let after = target.size();
        if after > before {
            self.step(|editor| editor.grow_to(target))?;
        }
        Ok(Growth { before, after })
    }

    /// The superblock's numbers for this many blocks, less a last group that is too short.
    fn grown_superblock(&self, blocks: u64) -> Result<Superblock, EditError> {
        let old = self.superblock();
        let tables = old.descriptor_locations().len() as u64;
        let with_blocks = |blocks: u64| {
            let mut new = old.clone();
            new.blocks = blocks;
            let more = (new.descriptor_locations().len() as u64).saturating_sub(tables);
            new.reserved_descriptor_blocks = old.reserved_descriptor_blocks.saturating_sub(more);
            let inodes = new.groups().checked_mul(u64::from(new.inodes_per_group));
            new.inodes = inodes.and_then(|inodes| u32::try_from(inodes).ok())?;
            Some(new)
        };
        let too_large = SizeError::TooLarge {
            size: blocks * old.block_size,
        };
        let mut new = with_blocks(blocks).ok_or(too_large.clone())?;
        if new.groups() > old.groups() {
            let useful = layout::useful_blocks(&new).unwrap_or(old.blocks);
            new = with_blocks(useful.max(old.blocks)).ok_or(too_large)?;
        }
        Ok(new)
    }

    fn grow_to(&mut self, new: Superblock) -> Result<(), EditError> {
        let old = self.superblock().clone();
        let last = old.groups() - 1;
        let (short, long) = (old.group_blocks(last), new.group_blocks(last));
        // Bits past the new end are set in the last bitmap.
        let bitmap = if long.end > short.end {
            Some(self.block_bitmap(last)?)
        } else {
            None
        };
        self.take_superblock(new.clone())?;
        if let Some(place) = bitmap {
            let more = long.end - short.end;
            let bits = short.end - short.start..long.end - short.start;
            self.free_bits(place, bits)?;
            self.add_group_count(last, bg::FREE_BLOCKS, more as i64)?;
            self.add_free_blocks(more as i64)?;
        }
        self.add_groups(old.groups()..new.groups())?;
        self.put_reserve()?;
        self.put_copies()
    }

    /// Applies these numbers to the file system.
    pub(crate) fn take_superblock(&mut self, new: Superblock) -> Result<(), EditError> {
        let old = self.superblock().clone();
        self.take_size(new.clone());
        let is_wide = new.incompatible.has(Incompatible::BIT64);
        let raw = self.edit_sb()?;
        let reserved = if is_wide {
            wide(raw, sb::RESERVED_BLOCKS, sb::RESERVED_BLOCKS_HIGH)
        } else {
            u64::from(u32le(raw, sb::RESERVED_BLOCKS))
        };
        // The same reserved share as before.
        let share = u128::from(reserved) * u128::from(new.blocks) / u128::from(old.blocks);
        let share = u64::try_from(share).map_err(|_| ExtError::Damaged("the superblock"))?;
        put32(raw, sb::BLOCKS, low(new.blocks));
        put32(raw, sb::RESERVED_BLOCKS, low(share));
        if is_wide {
            put32(raw, sb::BLOCKS_HIGH, high(new.blocks));
            put32(raw, sb::RESERVED_BLOCKS_HIGH, high(share));
        }
        put32(raw, sb::INODES, new.inodes);
        let reserve = new.reserved_descriptor_blocks as u16;
        put16(raw, sb::RESERVED_DESCRIPTORS, reserve);
        // 0: to be counted when it is mounted.
        put32(raw, sb::OVERHEAD, 0);
        Ok(())
    }
}
