//! ext2, ext3 and ext4: what the superblock tells.
//!
//! Layout: the kernel's ext4 documentation, "The Super Block". Little-endian, at byte 1024.

use pinewrit_disk::{BlockDevice, DiskError};

use super::{FilesystemFacts, clean_label, hex_groups, read, u16le, u32le};

const HAS_JOURNAL: u32 = 0x4;
const EXTENTS: u32 = 0x40;
const BIT64: u32 = 0x80;

pub(super) fn facts(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    let Some(sb) = read::<1024>(device, 1024)? else {
        return Ok(None);
    };
    let s_magic = u16le(&sb, 0x38);
    let s_log_block_size = u32le(&sb, 0x18);
    if s_magic != 0xef53 || s_log_block_size > 6 {
        return Ok(None);
    }
    let s_feature_compat = u32le(&sb, 0x5c);
    let s_feature_incompat = u32le(&sb, 0x60);
    let wide = s_feature_incompat & BIT64 != 0;
    let count = |low: usize, high: usize| {
        let high = if wide { u32le(&sb, high) } else { 0 };
        u64::from(high) << 32 | u64::from(u32le(&sb, low))
    };
    let s_blocks_count = count(0x04, 0x150);
    let s_free_blocks_count = count(0x0c, 0x158);
    let bytes = |blocks: u64| blocks.checked_mul(1024 << s_log_block_size);

    let kind = if s_feature_incompat & EXTENTS != 0 || wide {
        "ext4"
    } else if s_feature_compat & HAS_JOURNAL != 0 {
        "ext3"
    } else {
        "ext2"
    };
    let mut uuid = [0; 16];
    uuid.copy_from_slice(&sb[0x68..0x78]);
    Ok(Some(FilesystemFacts {
        kind,
        label: clean_label(&sb[0x78..0x88]),
        id: Some(hex_groups(&uuid)),
        size: bytes(s_blocks_count),
        used: s_blocks_count
            .checked_sub(s_free_blocks_count)
            .and_then(bytes),
        free: (s_free_blocks_count <= s_blocks_count)
            .then(|| bytes(s_free_blocks_count))
            .flatten(),
    }))
}
