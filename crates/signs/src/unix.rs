//! File systems of Unix and its kin whose marks are short, move, or need a check.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{read, text_at, u16be, u16le, u32be, u32le, u64le, uuid, wide_le};
use crate::{Format, Role, Sign};

/// `struct btrfs_super_block`, at 64 KiB.
pub(crate) fn btrfs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<1024>(device, 0x1_0000)? else {
        return Ok(None);
    };
    Ok((raw[64..72] == *b"_BHRfS_M").then(|| Sign {
        id: uuid(&raw, 32),
        label: text_at(&raw, 299, 256),
        size: Some(u64le(&raw, 112)),
        ..Sign::filesystem(Format::Btrfs)
    }))
}

/// `struct f2fs_super_block`, at 1024.
pub(crate) fn f2fs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<1148>(device, 1024)? else {
        return Ok(None);
    };
    Ok((raw[..4] == *b"\x10\x20\xf5\xf2").then(|| Sign {
        id: uuid(&raw, 108),
        label: wide_le(&raw[124..]),
        ..Sign::filesystem(Format::F2fs)
    }))
}

/// `struct nilfs_super_block`, at 1024. Its mark is short, so its checksum must match.
pub(crate) fn nilfs2(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<1024>(device, 1024)? else {
        return Ok(None);
    };
    let len = usize::from(u16le(&raw, 8));
    if u16le(&raw, 6) != 0x3434 || !(256..=1024).contains(&len) {
        return Ok(None);
    }
    let mut sum = raw;
    sum[16..20].fill(0);
    // The kernel's crc32_le(), which inverts nothing.
    let mut hasher = crc32fast::Hasher::new_with_initial(!u32le(&raw, 12));
    hasher.update(&sum[..len]);
    Ok((!hasher.finalize() == u32le(&raw, 16)).then(|| Sign {
        id: uuid(&raw, 152),
        label: text_at(&raw, 168, 80),
        ..Sign::filesystem(Format::Nilfs2)
    }))
}

/// `struct minix_super_block` and `minix3_super_block`, at 1024. The mark is short, so its other
/// fields must make sense.
pub(crate) fn minix(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<64>(device, 1024)? else {
        return Ok(None);
    };
    let old = [u16le(&raw, 16), u16be(&raw, 16)];
    let new = [u16le(&raw, 24), u16be(&raw, 24)];
    let is_old = |mark: &u16| matches!(mark, 0x137f | 0x138f | 0x2468 | 0x2478);
    let small = |at: usize, is_big: bool| {
        if is_big {
            u16be(&raw, at)
        } else {
            u16le(&raw, at)
        }
    };
    if let Some(is_big) = old.iter().position(is_old).map(|index| index == 1) {
        let (inodes, zones) = (small(0, is_big), small(2, is_big));
        let (inode_map, zone_map) = (small(4, is_big), small(6, is_big));
        let (first, shift) = (small(8, is_big), small(10, is_big));
        let many = zones != 0 || u32le(&raw, 20) != 0;
        let fits = u32::from(inodes) < u32::from(inode_map) * 8192;
        let plausible = inodes > 0 && many && zone_map > 0 && first > 4 && shift == 0 && fits;
        return Ok(plausible.then(|| Sign::filesystem(Format::Minix)));
    }
    if let Some(is_big) = new.iter().position(|mark| *mark == 0x4d5a).map(|i| i == 1) {
        let inodes = if is_big {
            u32be(&raw, 0)
        } else {
            u32le(&raw, 0)
        };
        let (inode_map, zone_map) = (small(6, is_big), small(8, is_big));
        let block = small(28, is_big);
        let plausible = inodes > 0
            && inode_map > 0
            && zone_map > 0
            && matches!(block, 1024 | 2048 | 4096 | 8192);
        return Ok(plausible.then(|| Sign::filesystem(Format::Minix)));
    }
    Ok(None)
}

/// `struct fs` of UFS: the mark is at 1372 of the superblock, which is at one of four places.
pub(crate) fn ufs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for start in [0, 8 << 10, 64 << 10, 256 << 10] {
        let Some(raw) = read::<1376>(device, start)? else {
            continue;
        };
        let marks = [u32le(&raw, 1372), u32be(&raw, 1372)];
        let is_second = |mark: &u32| *mark == 0x1954_0119;
        let is_known = |mark: &u32| matches!(mark, 0x0001_1954 | 0x0009_5014 | 0x0019_5612);
        if !marks.iter().any(|mark| is_second(mark) || is_known(mark)) {
            continue;
        }
        let id = if u32le(&raw, 1372) == marks[0] {
            (u32le(&raw, 144), u32le(&raw, 148))
        } else {
            (u32be(&raw, 144), u32be(&raw, 148))
        };
        let has_label = marks.iter().any(is_second);
        return Ok(Some(Sign {
            id: (id != (0, 0)).then(|| format!("{:08x}{:08x}", id.0, id.1)),
            label: has_label.then(|| text_at(&raw, 680, 32)).flatten(),
            ..Sign::filesystem(Format::Ufs)
        }));
    }
    Ok(None)
}

/// `struct ocfs2_dinode` with `struct ocfs2_super_block`, in block 2 of 512 to 4096 bytes.
pub(crate) fn ocfs2(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for start in [1024, 2048, 4096, 8192] {
        let Some(raw) = read::<512>(device, start)? else {
            continue;
        };
        if raw[..6] == *b"OCFSV2" {
            return Ok(Some(Sign {
                label: text_at(&raw, 272, 64),
                id: uuid(&raw, 336),
                ..Sign::filesystem(Format::Ocfs2)
            }));
        }
    }
    Ok(None)
}

/// `struct gfs2_sb`, at 64 KiB; all of it is big-endian.
pub(crate) fn gfs2(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<512>(device, 0x1_0000)? else {
        return Ok(None);
    };
    if u32be(&raw, 0) != 0x0116_1970 {
        return Ok(None);
    }
    let format = match u32be(&raw, 24) {
        1309 => Format::Gfs,
        _ => Format::Gfs2,
    };
    Ok(Some(Sign {
        label: text_at(&raw, 160, 64),
        id: uuid(&raw, 256),
        ..Sign::filesystem(format)
    }))
}

/// `union swap_header` of `linux/swap.h`: the mark is at the end of a page of 4 to 64 KiB.
pub(crate) fn swap(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for page in [4096, 8192, 16384, 32768, 65536] {
        let Some(mark) = read::<10>(device, page - 10)? else {
            break;
        };
        if mark == *b"SWAP-SPACE" {
            return Ok(Some(Sign::new(Format::Swap, Role::Swap)));
        }
        if mark != *b"SWAPSPACE2" {
            continue;
        }
        let Some(head) = read::<128>(device, 1024)? else {
            break;
        };
        // The version is 1, in the byte order of the computer that made it.
        let pages = match u32be(&head, 0) {
            1 => u32be(&head, 4),
            _ => u32le(&head, 4),
        };
        return Ok(Some(Sign {
            id: uuid(&head, 12),
            label: text_at(&head, 28, 16),
            size: Some((u64::from(pages) + 1) * page),
            ..Sign::new(Format::Swap, Role::Swap)
        }));
    }
    Ok(None)
}

/// LUKS1 On-Disk Format 1.2.3 and LUKS2 On-Disk Format 1.1: the UUID is text, in the same place.
pub(crate) fn luks(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<512>(device, 0)? else {
        return Ok(None);
    };
    if raw[..6] != *b"LUKS\xba\xbe" {
        return Ok(None);
    }
    let label = match u16be(&raw, 6) {
        2 => text_at(&raw, 24, 48),
        _ => None,
    };
    Ok(Some(Sign {
        label,
        id: text_at(&raw, 168, 40),
        ..Sign::new(Format::Luks, Role::Encrypted)
    }))
}
