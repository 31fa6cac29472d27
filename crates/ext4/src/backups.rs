//! Copies of the superblock and of group descriptors, for file systems whose first ones are lost.

use pinewrit_disk::bytes::{put16, u16le};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError};
use pinewrit_ext4_layout::fields::{bg, sb};
use pinewrit_ext4_layout::group::descriptor_checksum;
use pinewrit_ext4_layout::{Incompatible, Superblock};

use crate::edit::EditError;
use crate::settle::seal;
use crate::volume::read_superblock;

/// Block sizes in bytes of file systems that the kernel can mount on every machine.
const BLOCK_SIZES: [u64; 3] = [1024, 2048, 4096];
/// Groups that have a copy in nearly every file system, "Super Block Backups".
const USUAL_GROUPS: [u64; 5] = [1, 3, 5, 7, 9];

/// Puts the superblock back from its first good copy; returns the group that had it. `None`: there is no
/// copy where one usually is.
///
/// # Errors
/// The device failed.
pub fn restore_superblock(device: &dyn BlockDevice) -> Result<Option<u64>, DiskError> {
    for block_size in BLOCK_SIZES {
        for group in USUAL_GROUPS {
            let first = u64::from(block_size == 1024);
            // As many blocks as a bitmap of one block has bits.
            let offset = (first + group * block_size * 8) * block_size;
            if offset + Superblock::SIZE as u64 > device.size() {
                break;
            }
            let mut raw = [0; Superblock::SIZE];
            device.read_at(offset, &mut raw)?;
            let Ok(superblock) = Superblock::parse(&raw) else {
                continue;
            };
            let is_copy = superblock.block_size == block_size
                && u64::from(u16le(&raw, sb::GROUP_NUMBER)) == group
                && superblock.size() <= device.size();
            if is_copy {
                put16(&mut raw, sb::GROUP_NUMBER, 0);
                seal(&superblock, &mut raw);
                device.write_at(Superblock::OFFSET, &raw)?;
                return Ok(Some(group));
            }
        }
    }
    Ok(None)
}

/// Puts back blocks of group descriptors that `is_lost`, from their first copy that is not; returns how
/// many. A copy is as old as the file system's last change of size, so nothing in it that says what is
/// unused is believed.
///
/// # Errors
/// The device failed, or its superblock is damaged.
pub fn restore_descriptors(
    device: &dyn BlockDevice,
    is_lost: &dyn Fn(ByteRange) -> bool,
) -> Result<u64, EditError> {
    let superblock = read_superblock(device)?;
    let size = superblock.block_size;
    let range = |block: u64| ByteRange {
        start: block * size,
        end: (block + 1) * size,
    };
    // Those that are spread over the file system have copies elsewhere.
    if superblock.incompatible.has(Incompatible::META_BG) {
        return Ok(0);
    }
    let mut restored = 0;
    for (index, block) in (0..).zip(superblock.descriptor_locations()) {
        if !is_lost(range(block)) {
            continue;
        }
        let copies = (1..superblock.groups()).filter(|group| superblock.has_superblock(*group));
        let copies = copies.map(|group| superblock.group_blocks(group).start + 1 + index);
        let mut good = copies.filter(|copy| *copy < superblock.blocks && !is_lost(range(*copy)));
        let Some(copy) = good.next() else { continue };
        let mut raw = vec![0; size as usize];
        device.read_at(copy * size, &mut raw)?;
        distrust(
            &superblock,
            index * superblock.descriptors_per_block(),
            &mut raw,
        );
        device.write_at(block * size, &raw)?;
        restored += 1;
    }
    Ok(restored)
}

/// Takes back what a block of descriptors says about unused parts of its groups.
fn distrust(superblock: &Superblock, first: u64, block: &mut [u8]) {
    if !superblock.has_group_flags() {
        return;
    }
    let groups = first..superblock.groups();
    let all = block.chunks_exact_mut(superblock.descriptor_size as usize);
    for (group, raw) in groups.zip(all) {
        let flags = u16le(raw, bg::FLAGS) & !(bg::BLOCK_UNINIT | bg::INODE_UNINIT);
        put16(raw, bg::FLAGS, flags);
        put16(raw, bg::UNUSED_INODES, 0);
        if raw.len() > bg::high(bg::UNUSED_INODES) + 1 {
            put16(raw, bg::high(bg::UNUSED_INODES), 0);
        }
        if let Some(sum) = descriptor_checksum(superblock, group, raw) {
            put16(raw, bg::CHECKSUM, sum);
        }
    }
}
