//! Group descriptors and block bitmaps, "Block Group Descriptors" and "Block and Inode Bitmaps".

use pinewrit_disk::bytes::{u16le, u32le, wide};

use crate::checksum::{crc16, crc32c};
use crate::fields::bg;
use crate::{Incompatible, ReadOnlyCompatible, Superblock};

/// Where a group's metadata is. All places have been checked to be inside the file system;
/// a new descriptor has none yet.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct GroupDescriptor {
    /// Block of the block bitmap.
    pub block_bitmap: u64,
    /// Block of the inode bitmap.
    pub inode_bitmap: u64,
    /// First block of the inode table.
    pub inode_table: u64,
    /// Free clusters, according to the descriptor.
    pub free_clusters: u64,
    /// The block bitmap was never written: only metadata is used in the group.
    pub is_block_bitmap_unwritten: bool,
    /// The inode table was never written.
    pub is_inode_table_unwritten: bool,
    /// The content of the inode table does not matter: it was never written, and is zeroed before
    /// its first use.
    pub is_inode_table_free: bool,
    /// Free inodes, according to the descriptor.
    pub free_inodes: u32,
    /// Directories, according to the descriptor.
    pub directories: u32,
    /// Inodes at the end of the table that were never used.
    pub unused_inodes: u32,
    /// `bg_flags` as stored.
    pub flags: u16,
    bitmap_checksum: u32,
    inode_bitmap_checksum: u32,
}

impl GroupDescriptor {
    /// Reads the descriptor of `group`; `None` if its checksum or a place in it is wrong.
    pub fn parse(superblock: &Superblock, group: u64, bytes: &[u8]) -> Option<Self> {
        let size = superblock.descriptor_size as usize;
        let bytes = bytes.get(..size)?;
        if !is_intact(superblock, group, bytes) {
            return None;
        }
        let is_wide = superblock.incompatible.has(Incompatible::BIT64) && size >= 64;
        let place = |field: usize| {
            if is_wide {
                wide(bytes, field, bg::high(field))
            } else {
                u64::from(u32le(bytes, field))
            }
        };
        let count = |field: usize| {
            let high = if is_wide {
                u16le(bytes, bg::high(field))
            } else {
                0
            };
            u64::from(high) << 16 | u64::from(u16le(bytes, field))
        };
        let flags = u16le(bytes, bg::FLAGS);
        // These flags have a meaning only if descriptors have checksums.
        let has_flags = superblock.has_group_flags();
        let descriptor = Self {
            block_bitmap: place(bg::BLOCK_BITMAP),
            inode_bitmap: place(bg::INODE_BITMAP),
            inode_table: place(bg::INODE_TABLE),
            free_clusters: count(bg::FREE_BLOCKS),
            is_block_bitmap_unwritten: has_flags && flags & bg::BLOCK_UNINIT != 0,
            is_inode_table_unwritten: has_flags && flags & bg::INODE_UNINIT != 0,
            is_inode_table_free: has_flags
                && flags & (bg::INODE_UNINIT | bg::INODE_ZEROED) == bg::INODE_UNINIT,
            free_inodes: count(bg::FREE_INODES) as u32,
            directories: count(bg::DIRECTORIES) as u32,
            unused_inodes: if has_flags {
                count(bg::UNUSED_INODES) as u32
            } else {
                0
            },
            flags,
            bitmap_checksum: count(bg::BLOCK_BITMAP_CHECKSUM) as u32,
            inode_bitmap_checksum: count(bg::INODE_BITMAP_CHECKSUM) as u32,
        };
        let table_blocks = superblock.inode_table_blocks();
        let inside = |first: u64, len: u64| {
            let end = first.checked_add(len);
            first > superblock.first_data_block && end.is_some_and(|end| end <= superblock.blocks)
        };
        let fits = inside(descriptor.block_bitmap, 1)
            && inside(descriptor.inode_bitmap, 1)
            && inside(descriptor.inode_table, table_blocks);
        fits.then_some(descriptor)
    }

    /// The blocks of this group's metadata, wherever they lie.
    pub fn metadata(&self, superblock: &Superblock) -> [std::ops::Range<u64>; 3] {
        let table_end = self.inode_table + superblock.inode_table_blocks();
        [
            self.block_bitmap..self.block_bitmap + 1,
            self.inode_bitmap..self.inode_bitmap + 1,
            self.inode_table..table_end,
        ]
    }

    /// Whether a block bitmap belongs to this group: its checksum, if there is one, and its number
    /// of free clusters match the descriptor.
    pub fn fits_bitmap(&self, superblock: &Superblock, group: u64, bitmap: &[u8]) -> bool {
        let clusters = superblock.group_clusters(group);
        let covered = (superblock.blocks_per_group / superblock.cluster_ratio / 8) as usize;
        let Some(covered) = bitmap.get(..covered) else {
            return false;
        };
        has_sum(superblock, covered, self.bitmap_checksum)
            && count_free(covered, clusters) == self.free_clusters
    }

    /// The same for an inode bitmap.
    pub fn fits_inode_bitmap(&self, superblock: &Superblock, bitmap: &[u8]) -> bool {
        let inodes = superblock.inodes_per_group;
        let Some(covered) = bitmap.get(..(inodes / 8) as usize) else {
            return false;
        };
        has_sum(superblock, covered, self.inode_bitmap_checksum)
            && count_free(covered, u64::from(inodes)) == u64::from(self.free_inodes)
    }
}

impl Superblock {
    /// Whether flags of groups have a meaning: only if their descriptors have checksums.
    pub fn has_group_flags(&self) -> bool {
        self.read_only.has(ReadOnlyCompatible::GDT_CSUM)
            || self.read_only.has(ReadOnlyCompatible::METADATA_CSUM)
    }

    /// Blocks that a group's inode table takes.
    pub fn inode_table_blocks(&self) -> u64 {
        (u64::from(self.inodes_per_group) * self.inode_size).div_ceil(self.block_size)
    }

    /// Allocation clusters in a group.
    pub fn group_clusters(&self, group: u64) -> u64 {
        let blocks = self.group_blocks(group);
        (blocks.end - blocks.start).div_ceil(self.cluster_ratio)
    }
}

/// Whether a bitmap has this checksum; small descriptors hold only its lower half.
fn has_sum(superblock: &Superblock, covered: &[u8], sum: u32) -> bool {
    let mask = if superblock.descriptor_size >= 64 {
        u32::MAX
    } else {
        0xffff
    };
    !superblock.read_only.has(ReadOnlyCompatible::METADATA_CSUM)
        || crc32c(superblock.seed, covered) & mask == sum & mask
}

fn count_free(bitmap: &[u8], clusters: u64) -> u64 {
    let whole = (clusters / 8) as usize;
    let used: u64 = bitmap[..whole]
        .iter()
        .map(|byte| u64::from(byte.count_ones()))
        .sum();
    let rest = clusters % 8;
    let last = match rest {
        0 => 0,
        rest => u64::from((bitmap[whole] & ((1 << rest) - 1)).count_ones()),
    };
    clusters - used - last
}

fn is_intact(superblock: &Superblock, group: u64, bytes: &[u8]) -> bool {
    let sum = descriptor_checksum(superblock, group, bytes);
    sum.is_none_or(|sum| sum == u16le(bytes, bg::CHECKSUM))
}

/// "Block Group Descriptors", `bg_checksum`: the checksum computed for a descriptor; `None` if the
/// file system has none.
pub fn descriptor_checksum(superblock: &Superblock, group: u64, raw: &[u8]) -> Option<u16> {
    let number = (group as u32).to_le_bytes();
    let (before, after) = (&raw[..bg::CHECKSUM], &raw[bg::CHECKSUM + 2..]);
    if superblock.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
        let parts = [&number[..], before, &[0; 2], after];
        let sum = parts
            .iter()
            .fold(superblock.seed, |crc, part| crc32c(crc, part));
        return Some(sum as u16);
    }
    superblock
        .read_only
        .has(ReadOnlyCompatible::GDT_CSUM)
        .then(|| {
            let after = if superblock.incompatible.has(Incompatible::BIT64) {
                after
            } else {
                &[]
            };
            let parts = [&superblock.uuid[..], &number[..], before, after];
            parts.iter().fold(!0, |crc, part| crc16(crc, part))
        })
}
