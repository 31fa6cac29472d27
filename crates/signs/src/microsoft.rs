//! exFAT, NTFS and its encrypted form.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{has, read, read_block, u16le, u32le, u64le, wide_le};
use crate::{Format, Role, Sign};

pub(crate) fn bitlocker(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let found = has(device, 3, b"-FVE-FS-")? || has(device, 3, b"MSWIN4.1")? && fve(device)?;
    Ok(found.then(|| Sign::new(Format::BitLocker, Role::Encrypted)))
}

/// The identifier of encrypted removable volumes, in their boot sector.
fn fve(device: &dyn BlockDevice) -> Result<bool, DiskError> {
    const ID: &[u8] = b"\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01";
    has(device, 424, ID)
}

/// exFAT File System Specification 1.00, section 3.1 (boot sector) and 7.3 (volume label).
pub(crate) fn exfat(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(boot) = read::<512>(device, 0)? else {
        return Ok(None);
    };
    if boot[3..11] != *b"EXFAT   " {
        return Ok(None);
    }
    let serial = u32le(&boot, 100);
    let sector_shift = u32::from(boot[108]);
    let mut sign = Sign {
        id: Some(format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff)),
        ..Sign::filesystem(Format::ExFat)
    };
    if !(9..=12).contains(&sector_shift) || boot[109] > 16 {
        return Ok(Some(sign));
    }
    sign.size = u64le(&boot, 72).checked_shl(sector_shift);
    let cluster_shift = sector_shift + u32::from(boot[109]);
    let heap = u64::from(u32le(&boot, 88)) << sector_shift;
    let root = u64::from(u32le(&boot, 96).saturating_sub(2)) << cluster_shift;
    // The label is the first entry of the root folder, or near it.
    let entries = read_block(
        device,
        heap.saturating_add(root),
        1 << cluster_shift.min(16),
    )?;
    let entries = entries.unwrap_or_default();
    let label = entries.chunks_exact(32).take_while(|entry| entry[0] != 0);
    let label = label.filter(|entry| entry[0] == 0x83 && entry[1] <= 11);
    sign.label = label
        .map(|entry| wide_le(&entry[2..2 + 2 * usize::from(entry[1])]))
        .next()
        .flatten();
    Ok(Some(sign))
}

/// NTFS: the boot sector, and the attribute `$VOLUME_NAME` (0x60) of the file record 3.
pub(crate) fn ntfs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(boot) = read::<512>(device, 0)? else {
        return Ok(None);
    };
    if boot[3..11] != *b"NTFS    " {
        return Ok(None);
    }
    let sector = u64::from(u16le(&boot, 11));
    let sign = Sign {
        id: Some(format!("{:016X}", u64le(&boot, 72))),
        size: u64le(&boot, 40).checked_mul(sector),
        ..Sign::filesystem(Format::Ntfs)
    };
    let label = ntfs_label(device, &boot, sector)?;
    Ok(Some(Sign { label, ..sign }))
}

fn ntfs_label(
    device: &dyn BlockDevice,
    boot: &[u8; 512],
    sector: u64,
) -> Result<Option<String>, DiskError> {
    // Counts above 128 are powers of two: 256 - n means 2^n.
    let shifted = |raw: u8| 1_u64.checked_shl(256 - u32::from(raw)).unwrap_or(0);
    let cluster = match boot[13] {
        raw @ 129.. => shifted(raw).saturating_mul(sector),
        raw => u64::from(raw) * sector,
    };
    let record = match boot[64] {
        raw @ 128.. => shifted(raw),
        raw => u64::from(raw).saturating_mul(cluster),
    };
    if !(512..=65536).contains(&record) || cluster == 0 || sector < 256 {
        return Ok(None);
    }
    let table = u64le(boot, 48).saturating_mul(cluster);
    let place = table.saturating_add(3 * record);
    let Some(mut raw) = read_block(device, place, record)? else {
        return Ok(None);
    };
    if raw[..4] != *b"FILE" {
        return Ok(None);
    }
    // The last two bytes of each 512 are stored elsewhere.
    let fixups = usize::from(u16le(&raw, 4));
    for index in 1..usize::from(u16le(&raw, 6)) {
        let kept = raw
            .get(fixups + 2 * index..)
            .and_then(|rest| rest.first_chunk::<2>());
        let kept = kept.copied();
        if let (Some(kept), Some(place)) = (kept, raw.get_mut(512 * index - 2..512 * index)) {
            place.copy_from_slice(&kept);
        }
    }
    let mut at = usize::from(u16le(&raw, 20));
    // An attribute has at least its head of 16 bytes.
    while let Some(attribute) = raw.get(at..).filter(|rest| rest.len() >= 24) {
        let (kind, len) = (u32le(attribute, 0), u32le(attribute, 4) as usize);
        if kind == 0x60 && attribute[8] == 0 {
            let (size, start) = (
                u32le(attribute, 16) as usize,
                usize::from(u16le(attribute, 20)),
            );
            let name = attribute.get(start..start.saturating_add(size));
            return Ok(name.and_then(wide_le));
        }
        if kind == u32::MAX || len < 16 {
            break;
        }
        at += len;
    }
    Ok(None)
}
