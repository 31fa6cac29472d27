//! What a file system says about itself at first glance, whether or not it is usable.

use pinewrit_disk::bytes::{u16le, u32le};
use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_ext4_layout::features::{Compatible, Incompatible};
use pinewrit_ext4_layout::fields::sb as field;
use pinewrit_ext4_layout::superblock::{MAGIC, MAX_LOG_BLOCK_SIZE, Superblock, count};

/// The generation of a file system, judged by its features.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Generation {
    /// Neither journal nor extents.
    Ext2,
    /// A journal.
    Ext3,
    /// Extents, or block numbers of 64 bits.
    Ext4,
}

impl Generation {
    /// Its name: `ext4`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
        }
    }
}

/// What the superblock says. Only its mark and its block size have been checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExtFacts {
    /// Its generation.
    pub generation: Generation,
    /// `s_volume_name`, padded with zeros.
    pub label: [u8; 16],
    /// `s_uuid`.
    pub uuid: [u8; 16],
    /// Its size in bytes, unless the fields are implausible.
    pub size: Option<u64>,
    /// Free bytes, unless the fields are implausible.
    pub free: Option<u64>,
}

impl ExtFacts {
    /// Looks for a superblock on `device`. One that is too short has none.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, DiskError> {
        let mut sb = [0; Superblock::SIZE];
        match device.read_at(Superblock::OFFSET, &mut sb) {
            Err(DiskError::PastEnd { .. }) => Ok(None),
            read => Ok(read.map(|()| Self::parse(&sb))?),
        }
    }

    fn parse(sb: &[u8; Superblock::SIZE]) -> Option<Self> {
        let log_block_size = u32le(sb, field::LOG_BLOCK_SIZE);
        if u16le(sb, field::MAGIC) != MAGIC || log_block_size > MAX_LOG_BLOCK_SIZE {
            return None;
        }
        let incompatible = Incompatible::of(u32le(sb, field::INCOMPATIBLE));
        let compatible = Compatible::of(u32le(sb, field::COMPATIBLE));
        let is_wide = incompatible.has(Incompatible::BIT64);
        let count = |low, high| count(sb, is_wide, low, high);
        let blocks = count(field::BLOCKS, field::BLOCKS_HIGH);
        let free = count(field::FREE_BLOCKS, field::FREE_BLOCKS_HIGH);
        let bytes = |blocks: u64| blocks.checked_mul(1024 << log_block_size);
        let generation = if incompatible.has(Incompatible::EXTENTS) || is_wide {
            Generation::Ext4
        } else if compatible.has(Compatible::HAS_JOURNAL) {
            Generation::Ext3
        } else {
            Generation::Ext2
        };
        Some(Self {
            generation,
            label: array(&sb[field::LABEL..]),
            uuid: array(&sb[field::UUID..]),
            size: bytes(blocks),
            free: (free <= blocks).then(|| bytes(free)).flatten(),
        })
    }
}

fn array(bytes: &[u8]) -> [u8; 16] {
    let mut own = [0; 16];
    own.copy_from_slice(&bytes[..16]);
    own
}
