//! HFS and HFS+.

use md5::{Digest, Md5};
use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{read, text, u16be, u32be, uuid, wide_be};
use crate::{Format, Sign};

const HEADER: u64 = 1024;

/// Inside Macintosh: Files, "Master Directory Blocks".
pub(crate) fn hfs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<512>(device, HEADER)? else {
        return Ok(None);
    };
    // The size of a block is a multiple of a sector.
    if raw[..2] != *b"BD" || u32be(&raw, 20) == 0 || !u32be(&raw, 20).is_multiple_of(512) {
        return Ok(None);
    }
    let len = usize::from(raw[36]).min(27);
    Ok(Some(Sign {
        label: text(&raw[37..37 + len]),
        id: identifier(&raw[116..124]),
        ..Sign::filesystem(Format::Hfs)
    }))
}

/// TN1150, "Volume Header"; also where an HFS volume is wrapped around it ("HFS Wrapper").
pub(crate) fn hfs_plus(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let Some(mut raw) = read::<512>(device, HEADER)? else {
        return Ok(None);
    };
    let mut start = 0;
    if raw[..2] == *b"BD" && [b"H+", b"HX"].iter().any(|mark| raw[124..126] == **mark) {
        let first = u64::from(u16be(&raw, 28)) * 512;
        let block = u64::from(u32be(&raw, 20));
        start = first.saturating_add(u64::from(u16be(&raw, 126)) * block);
        match read::<512>(device, start.saturating_add(HEADER))? {
            Some(inner) => raw = inner,
            None => return Ok(None),
        }
    }
    let version = u16be(&raw, 2);
    let is_plus = raw[..2] == *b"H+" && version == 4 || raw[..2] == *b"HX" && version == 5;
    if !is_plus {
        return Ok(None);
    }
    let block = u64::from(u32be(&raw, 40));
    Ok(Some(Sign {
        label: plus_label(device, start, &raw, block)?,
        id: identifier(&raw[104..112]),
        size: block.checked_mul(u64::from(u32be(&raw, 44))),
        ..Sign::filesystem(Format::HfsPlus)
    }))
}

/// The name of the root folder: the key of the first record in the first leaf of the catalog, whose
/// parent is number 1 (TN1150, "Catalog File").
fn plus_label(
    device: &dyn BlockDevice,
    start: u64,
    header: &[u8; 512],
    block: u64,
) -> Result<Option<String>, DiskError> {
    let extent = u64::from(u32be(header, 272 + 16));
    let catalog = start.saturating_add(extent.saturating_mul(block));
    let Some(head) = read::<64>(device, catalog)? else {
        return Ok(None);
    };
    let (leaf, node) = (
        u64::from(u32be(&head, 14 + 10)),
        u64::from(u16be(&head, 14 + 18)),
    );
    let place = catalog.saturating_add(leaf.saturating_mul(node));
    let Some(record) = read::<540>(device, place)? else {
        return Ok(None);
    };
    if leaf == 0 || node < 512 || u32be(&record, 16) != 1 {
        return Ok(None);
    }
    let len = 2 * usize::from(u16be(&record, 20)).min(255);
    Ok(wide_be(&record[22..22 + len]))
}

/// The volume's eight bytes make a UUID by their digest, in a name space of their own.
fn identifier(raw: &[u8]) -> Option<String> {
    const SPACE: [u8; 16] = [
        0xb3, 0xe2, 0x0f, 0x39, 0xf2, 0x92, 0x11, 0xd6, 0x97, 0xa4, 0x00, 0x30, 0x65, 0x43, 0xec,
        0xac,
    ];
    if raw.iter().all(|&byte| byte == 0) {
        return None;
    }
    let mut digest: [u8; 16] = Md5::new()
        .chain_update(SPACE)
        .chain_update(raw)
        .finalize()
        .into();
    // RFC 9562, section 5.3: version 3.
    digest[6] = 0x30 | digest[6] & 0x0f;
    digest[8] = 0x80 | digest[8] & 0x3f;
    uuid(&digest, 0)
}
