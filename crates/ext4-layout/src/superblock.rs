//! The superblock: where everything else is.

use pinewrit_disk::bytes::{u16le, u32le, wide};

use crate::ExtError;
use crate::checksum::crc32c;
use crate::features::{Compatible, Incompatible, ReadOnlyCompatible};
use crate::fields::sb as field;

/// Why a superblock cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SuperblockError {
    /// There is no superblock.
    #[error("no ext2, ext3 or ext4 file system")]
    Missing,
    /// Its checksum is wrong.
    #[error("the checksum of the superblock is wrong")]
    Checksum,
    /// A field has an impossible value.
    #[error("the superblock's field {field} holds {found}")]
    Field {
        /// The field's name in the kernel's documentation.
        field: &'static str,
        /// Its value.
        found: u64,
    },
}

/// A superblock whose numbers fit together.
#[derive(Clone, Debug)]
pub struct Superblock {
    /// Bytes in a block.
    pub block_size: u64,
    /// Number of blocks.
    pub blocks: u64,
    /// Free blocks, as recorded; never more than exist.
    pub free_blocks: u64,
    /// Block in which group 0 begins.
    pub first_data_block: u64,
    /// Blocks in a group.
    pub blocks_per_group: u64,
    /// Blocks in an allocation cluster; 1 without bigalloc.
    pub cluster_ratio: u64,
    /// Inodes in a group.
    pub inodes_per_group: u32,
    /// Number of inodes.
    pub inodes: u32,
    /// Bytes in an inode.
    pub inode_size: u64,
    /// Bytes in a group descriptor.
    pub descriptor_size: u64,
    /// Features that may be ignored.
    pub compatible: Compatible,
    /// Features that must be understood.
    pub incompatible: Incompatible,
    /// Features that must be understood for writing.
    pub read_only: ReadOnlyCompatible,
    /// `s_state`: bit 0 unmounted cleanly, bit 1 errors were found.
    pub state: u16,
    /// The file system's UUID.
    pub uuid: [u8; 16],
    /// Blocks reserved for more descriptors.
    pub reserved_descriptor_blocks: u64,
    /// The first inode that a file may have; those before are the system's own.
    pub first_inode: u32,
    /// Whether there are feature flags; the oldest file systems have none.
    pub is_dynamic: bool,
    /// Whether clusters agree with the feature for them; older file systems have fragments there.
    pub has_right_clusters: bool,
    /// Whether it has feature flags although its revision is older than those.
    pub has_stray_features: bool,
    /// `s_desc_size` and `s_checksum_type` as stored.
    pub raw_descriptor_size: u16,
    /// Which checksums; 1 is CRC-32C.
    pub checksum_kind: u8,
    /// Blocks that only the administrator may use.
    pub reserved_blocks: u64,
    /// Inode of the journal; 0 for none in this file system.
    pub journal_inode: u32,
    /// The first inode to be removed at the next mount.
    pub last_orphan: u32,
    /// The inode of the orphan file, if there is one.
    pub orphan_file: u32,
    /// The seed of name hashes.
    pub hash_seed: [u32; 4],
    /// Whether bytes of names count as unsigned, unless the hash version says so itself.
    pub is_hash_unsigned: bool,
    /// The first block of descriptors that lies in the groups which it describes.
    pub first_meta_bg: u64,
    /// The groups with copies of the superblock, if only two have one.
    pub backup_groups: [u64; 2],
    /// What all checksums begin with.
    pub seed: u32,
}

const SUPERBLOCK_SIZE: usize = 1024;
/// `s_magic`.
pub const MAGIC: u16 = 0xef53;
/// `s_log_block_size`: blocks of 64 KiB.
pub const MAX_LOG_BLOCK_SIZE: u32 = 6;

/// "Special inodes": the first one free for files, unless the superblock names another.
const FIRST_INODE: u32 = 11;

/// More groups than any medium for a board has: 128 TiB with the usual size.
const MAX_GROUPS: u64 = 1 << 20;

fn wrong(field: &'static str, found: impl Into<u64>) -> SuperblockError {
    SuperblockError::Field {
        field,
        found: found.into(),
    }
}

/// A count of blocks, whose upper half only exists in file systems with 64-bit block numbers.
pub fn count(sb: &[u8], is_wide: bool, low: usize, high: usize) -> u64 {
    if is_wide {
        wide(sb, low, high)
    } else {
        u64::from(u32le(sb, low))
    }
}

impl Superblock {
    /// Offset of the superblock in bytes from the file system's start.
    pub const OFFSET: u64 = 1024;
    /// Its size in bytes.
    pub const SIZE: usize = SUPERBLOCK_SIZE;

    /// Reads and checks a superblock.
    ///
    /// # Errors
    /// [`SuperblockError`] names what is wrong.
    pub fn parse(sb: &[u8; SUPERBLOCK_SIZE]) -> Result<Self, SuperblockError> {
        if u16le(sb, field::MAGIC) != MAGIC {
            return Err(SuperblockError::Missing);
        }
        let log_block_size = u32le(sb, field::LOG_BLOCK_SIZE);
        if log_block_size > MAX_LOG_BLOCK_SIZE {
            return Err(wrong("s_log_block_size", log_block_size));
        }
        let block_size = 1024u64 << log_block_size;
        let revision = u32le(sb, field::REVISION);
        if revision > 1 {
            return Err(wrong("s_rev_level", revision));
        }
        let is_dynamic = revision > 0;
        let flags = |offset| if is_dynamic { u32le(sb, offset) } else { 0 };
        let incompatible = Incompatible::of(flags(field::INCOMPATIBLE));
        let read_only = ReadOnlyCompatible::of(flags(field::READ_ONLY));
        if read_only.has(ReadOnlyCompatible::METADATA_CSUM)
            && crc32c(!0, &sb[..field::CHECKSUM]) != u32le(sb, field::CHECKSUM)
        {
            return Err(SuperblockError::Checksum);
        }
        let is_wide = incompatible.has(Incompatible::BIT64);
        let count = |low, high| count(sb, is_wide, low, high);
        let mut uuid = [0; 16];
        uuid.copy_from_slice(&sb[field::UUID..field::LABEL]);
        let superblock = Self {
            block_size,
            blocks: count(field::BLOCKS, field::BLOCKS_HIGH),
            // Kernels and checkers add up the groups' counts instead, so a wrong number here is not
            // damage.
            free_blocks: count(field::FREE_BLOCKS, field::FREE_BLOCKS_HIGH)
                .min(count(field::BLOCKS, field::BLOCKS_HIGH)),
            first_data_block: u64::from(u32le(sb, field::FIRST_DATA_BLOCK)),
            blocks_per_group: u64::from(u32le(sb, field::BLOCKS_PER_GROUP)),
            cluster_ratio: cluster_ratio(sb, log_block_size, read_only)?,
            inodes_per_group: u32le(sb, field::INODES_PER_GROUP),
            inodes: u32le(sb, field::INODES),
            inode_size: if is_dynamic {
                u64::from(u16le(sb, field::INODE_SIZE))
            } else {
                128
            },
            descriptor_size: if is_wide {
                u64::from(u16le(sb, field::DESCRIPTOR_SIZE))
            } else {
                32
            },
            compatible: Compatible::of(flags(field::COMPATIBLE)),
            incompatible,
            read_only,
            state: u16le(sb, field::STATE),
            uuid,
            reserved_descriptor_blocks: u64::from(u16le(sb, field::RESERVED_DESCRIPTORS)),
            first_inode: if is_dynamic {
                u32le(sb, field::FIRST_INODE)
            } else {
                FIRST_INODE
            },
            is_dynamic,
            has_right_clusters: has_right_clusters(sb, read_only),
            has_stray_features: !is_dynamic
                && [field::COMPATIBLE, field::INCOMPATIBLE, field::READ_ONLY]
                    .into_iter()
                    .any(|at| u32le(sb, at) != 0),
            raw_descriptor_size: u16le(sb, field::DESCRIPTOR_SIZE),
            checksum_kind: sb[field::CHECKSUM_KIND],
            reserved_blocks: count(field::RESERVED_BLOCKS, field::RESERVED_BLOCKS_HIGH),
            journal_inode: u32le(sb, field::JOURNAL_INODE),
            last_orphan: u32le(sb, field::LAST_ORPHAN),
            orphan_file: u32le(sb, field::ORPHAN_FILE),
            hash_seed: [0, 4, 8, 12].map(|at| u32le(sb, field::HASH_SEED + at)),
            is_hash_unsigned: u32le(sb, field::FLAGS) & 2 != 0,
            first_meta_bg: u64::from(u32le(sb, field::FIRST_META_BG)),
            backup_groups: [0, 4].map(|at| u64::from(u32le(sb, field::BACKUP_GROUPS + at))),
            seed: if incompatible.has(Incompatible::CSUM_SEED) {
                u32le(sb, field::CHECKSUM_SEED)
            } else {
                crc32c(!0, &uuid)
            },
        };
        superblock.check()?;
        Ok(superblock)
    }

    fn check(&self) -> Result<(), SuperblockError> {
        let bits = self.block_size * 8;
        let clusters = self.blocks_per_group / self.cluster_ratio;
        if clusters == 0
            || clusters > bits
            || !clusters.is_multiple_of(8)
            || !self.blocks_per_group.is_multiple_of(self.cluster_ratio)
        {
            return Err(wrong("s_blocks_per_group", self.blocks_per_group));
        }
        let expected_first = u64::from(self.block_size == 1024 && self.cluster_ratio == 1);
        if self.first_data_block != expected_first {
            return Err(wrong("s_first_data_block", self.first_data_block));
        }
        let fits = self.blocks.checked_mul(self.block_size).is_some();
        if !fits || self.blocks <= self.first_data_block || self.groups() > MAX_GROUPS {
            return Err(wrong("s_blocks_count", self.blocks));
        }
        let per_group = u64::from(self.inodes_per_group);
        if per_group == 0 || per_group > bits || !per_group.is_multiple_of(8) {
            return Err(wrong("s_inodes_per_group", self.inodes_per_group));
        }
        if u64::from(self.inodes) != per_group * self.groups() {
            return Err(wrong("s_inodes_count", self.inodes));
        }
        if self.first_inode < FIRST_INODE || self.first_inode > self.inodes {
            return Err(wrong("s_first_ino", self.first_inode));
        }
        let inode = self.inode_size;
        if !inode.is_power_of_two() || inode < 128 || inode > self.block_size {
            return Err(wrong("s_inode_size", inode));
        }
        let descriptor = self.descriptor_size;
        if !descriptor.is_power_of_two() || descriptor < 32 || descriptor > self.block_size {
            return Err(wrong("s_desc_size", descriptor));
        }
        if self.reserved_descriptor_blocks > self.block_size / 4 {
            return Err(wrong(
                "s_reserved_gdt_blocks",
                self.reserved_descriptor_blocks,
            ));
        }
        Ok(())
    }

    /// Number of groups.
    pub fn groups(&self) -> u64 {
        (self.blocks - self.first_data_block).div_ceil(self.blocks_per_group)
    }

    /// Size of the file system in bytes.
    pub fn size(&self) -> u64 {
        self.blocks * self.block_size
    }

    /// Checks that the file system lies inside a device of `room` bytes.
    pub fn check_room(&self, room: u64) -> Result<(), ExtError> {
        if self.size() <= room {
            Ok(())
        } else {
            Err(ExtError::TooLarge {
                size: self.size(),
                room,
            })
        }
    }

    /// The blocks of a group; the last one may be short.
    pub fn group_blocks(&self, group: u64) -> std::ops::Range<u64> {
        let start = self.first_data_block + group * self.blocks_per_group;
        start..(start + self.blocks_per_group).min(self.blocks)
    }

    /// The group that a block lies in; `None` before group 0 and past the end.
    pub fn group_of(&self, block: u64) -> Option<u64> {
        let inside = (self.first_data_block..self.blocks).contains(&block);
        inside.then(|| (block - self.first_data_block) / self.blocks_per_group)
    }

    /// Whether a group holds a copy of the superblock, "Super Block Backups".
    pub fn has_superblock(&self, group: u64) -> bool {
        let is_power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power *= base;
            }
            power == group
        };
        if self.compatible.has(Compatible::SPARSE_SUPER2) {
            return group == 0 || self.backup_groups.contains(&group);
        }
        !self.read_only.has(ReadOnlyCompatible::SPARSE_SUPER)
            || group <= 1
            || [3, 5, 7].into_iter().any(is_power_of)
    }

    /// Group descriptors in a block.
    pub fn descriptors_per_block(&self) -> u64 {
        self.block_size / self.descriptor_size
    }

    fn descriptor_blocks(&self) -> u64 {
        self.groups().div_ceil(self.descriptors_per_block())
    }

    /// Blocks of descriptors after each superblock.
    fn joint_descriptor_blocks(&self) -> u64 {
        if self.incompatible.has(Incompatible::META_BG) {
            self.first_meta_bg.min(self.descriptor_blocks())
        } else {
            self.descriptor_blocks()
        }
    }

    /// Blocks at the start of a group that hold the superblock and descriptors, or are reserved for
    /// more of them.
    pub fn base_blocks(&self, group: u64) -> std::ops::Range<u64> {
        let start = self.group_blocks(group).start;
        let before = self.blocks_before_superblock(group);
        let super_blocks = u64::from(self.has_superblock(group));
        let joint = self.joint_descriptor_blocks();
        let in_meta_block = group / self.descriptors_per_block();
        let is_joint = in_meta_block < joint || !self.incompatible.has(Incompatible::META_BG);
        let descriptors = match is_joint {
            true if super_blocks == 1 => joint + self.reserved_descriptor_blocks,
            true => 0,
            // In the first, the second and the last group of its own block of descriptors.
            false => {
                let place = group % self.descriptors_per_block();
                let ends = [0, 1, self.descriptors_per_block() - 1];
                u64::from(ends.contains(&place))
            }
        };
        start..start + before + super_blocks + descriptors
    }

    /// The block with the first superblock, which is at byte 1024.
    pub fn superblock_block(&self) -> u64 {
        u64::from(self.block_size == 1024)
    }

    /// With bigalloc and blocks of 1 KiB, group 0 begins with block 0 although the superblock is
    /// in block 1.
    fn blocks_before_superblock(&self, group: u64) -> u64 {
        match group {
            0 => self.superblock_block() - self.first_data_block,
            _ => 0,
        }
    }

    /// Where the blocks of descriptors are, in their order.
    pub fn descriptor_locations(&self) -> Vec<u64> {
        let joint = self.joint_descriptor_blocks();
        let first = self.superblock_block() + 1;
        let spread = (joint..self.descriptor_blocks()).map(|index| {
            let group = index * self.descriptors_per_block();
            self.group_blocks(group).start
                + self.blocks_before_superblock(group)
                + u64::from(self.has_superblock(group))
        });
        (first..first + joint).chain(spread).collect()
    }
}

fn has_right_clusters(sb: &[u8; SUPERBLOCK_SIZE], read_only: ReadOnlyCompatible) -> bool {
    let is_same = u32le(sb, field::LOG_BLOCK_SIZE) == u32le(sb, field::LOG_CLUSTER_SIZE)
        && u32le(sb, field::BLOCKS_PER_GROUP) == u32le(sb, field::CLUSTERS_PER_GROUP);
    is_same || read_only.has(ReadOnlyCompatible::BIGALLOC)
}

/// "Bigalloc": clusters are only larger than blocks with that feature.
fn cluster_ratio(
    sb: &[u8; SUPERBLOCK_SIZE],
    log_block_size: u32,
    read_only: ReadOnlyCompatible,
) -> Result<u64, SuperblockError> {
    let log_cluster_size = u32le(sb, field::LOG_CLUSTER_SIZE);
    if !read_only.has(ReadOnlyCompatible::BIGALLOC) {
        return Ok(1);
    }
    match log_cluster_size.checked_sub(log_block_size) {
        Some(shift) if shift <= 20 => Ok(1 << shift),
        _ => Err(wrong("s_log_cluster_size", log_cluster_size)),
    }
}
