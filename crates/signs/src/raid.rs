//! Members of arrays and pools.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{has, read, read_block, text, text_at, u32be, u32le, u64be, uuid};
use crate::{Format, Sign};

const LINUX: Format = Format::LinuxRaid;
const LINUX_MARK: u32 = 0xa92b_4efc;

/// `struct mdp_superblock_1` of versions 1.1 and 1.2.
pub(crate) fn linux_at_start(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for place in [0, 4096] {
        if let Some(sign) = linux_new(device, place)? {
            return Ok(Some(sign));
        }
    }
    Ok(None)
}

fn linux_new(device: &dyn BlockDevice, place: u64) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<256>(device, place)? else {
        return Ok(None);
    };
    let is_one = u32le(&raw, 0) == LINUX_MARK && u32le(&raw, 4) == 1;
    Ok(is_one.then(|| Sign {
        id: uuid(&raw, 16),
        label: text_at(&raw, 32, 32),
        ..Sign::member(LINUX)
    }))
}

/// Marks of firmware RAID, by their distance from the end in sectors of 512 bytes.
const FIRMWARE: &[(u64, usize, &[u8], Format)] = &[
    (2, 0, b"Intel Raid ISM Cfg Sig. ", Format::RaidIsw),
    (1, 0, b"\xde\x11\xde\x11", Format::RaidDdf),
    (1, 0, b"$XIDE$", Format::RaidLsi),
    (2, 0, b"NVIDIA", Format::RaidNv),
    (1, 0, b"DPTM", Format::RaidDpt),
    (1, 0x60, b"\0\0\0\x2f", Format::RaidSil),
    (11, 0, b"\xf3\x16\x78\x5a", Format::RaidHpt),
    (11, 0, b"\xfd\x16\x78\x5a", Format::RaidHpt),
];

/// Where one of them puts its mark, in sectors before the end.
const PROMISE: &[u64] = &[
    63, 255, 256, 16, 399, 591, 675, 735, 911, 974, 991, 951, 3087,
];

pub(crate) fn at_end(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    let size = device.size();
    let sectors = size / 512;
    // Version 1.0: 8 KiB before the end, rounded down to 4 KiB.
    if let Some(place) = sectors.checked_sub(16)
        && let Some(sign) = linux_new(device, (place & !7) * 512)?
    {
        return Ok(Some(sign));
    }
    // Version 0.90: in the last whole 64 KiB, of which one is left free.
    if let Some(place) = (size & !0xffff).checked_sub(0x1_0000)
        && let Some(sign) = linux_old(device, place)?
    {
        return Ok(Some(sign));
    }
    for (before, within, mark, format) in FIRMWARE {
        if let Some(sector) = sectors.checked_sub(*before)
            && has(device, sector * 512 + *within as u64, mark)?
        {
            return Ok(Some(Sign::member(*format)));
        }
    }
    for before in PROMISE {
        if let Some(sector) = sectors.checked_sub(*before)
            && has(device, sector * 512, b"Promise Technology, Inc.")?
        {
            return Ok(Some(Sign::member(Format::RaidPdc)));
        }
    }
    via_or_jmicron(device, sectors)?.map_or_else(|| drbd(device, size), |sign| Ok(Some(sign)))
}

/// Short marks, with a checksum over the rest.
fn via_or_jmicron(device: &dyn BlockDevice, sectors: u64) -> Result<Option<Sign>, DiskError> {
    let Some(last) = sectors.checked_sub(1) else {
        return Ok(None);
    };
    let Some(raw) = read::<512>(device, last * 512)? else {
        return Ok(None);
    };
    let sum = raw[..50]
        .iter()
        .fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    if raw[..2] == [0x55, 0xaa] && raw[2] <= 1 && sum == raw[50] {
        return Ok(Some(Sign::member(Format::RaidVia)));
    }
    if raw[..2] == *b"JM" {
        let words = raw[..128].chunks_exact(2);
        let sum = words.fold(0_u16, |sum, pair| {
            sum.wrapping_add(u16::from_le_bytes([pair[0], pair[1]]))
        });
        if sum == 0 || sum == 1 {
            return Ok(Some(Sign::member(Format::RaidJm)));
        }
    }
    Ok(None)
}

/// `struct mdp_superblock_s` of version 0.90, in the byte order of its computer.
fn linux_old(device: &dyn BlockDevice, place: u64) -> Result<Option<Sign>, DiskError> {
    let Some(raw) = read::<128>(device, place)? else {
        return Ok(None);
    };
    let (is_little, is_big) = (u32le(&raw, 0) == LINUX_MARK, u32be(&raw, 0) == LINUX_MARK);
    if !is_little && !is_big {
        return Ok(None);
    }
    let mut id = Vec::with_capacity(16);
    for at in [20, 52, 56, 60] {
        let word = if is_little {
            u32le(&raw, at)
        } else {
            u32be(&raw, at)
        };
        // Its own tools print words, so on little-endian computers the bytes are reversed.
        id.extend(if is_little {
            word.to_le_bytes()
        } else {
            word.to_be_bytes()
        });
    }
    Ok(Some(Sign {
        id: uuid(&id, 0),
        ..Sign::member(LINUX)
    }))
}

/// `struct meta_data_on_disk`, in the last 4 KiB.
fn drbd(device: &dyn BlockDevice, size: u64) -> Result<Option<Sign>, DiskError> {
    let Some(place) = (size & !0xfff).checked_sub(4096) else {
        return Ok(None);
    };
    let marks = [0x8374_026b, 0x8374_026c, 0x8374_026d];
    let raw = read::<64>(device, place)?;
    let is_one = raw.is_some_and(|raw| marks.contains(&u32be(&raw, 60)));
    Ok(is_one.then(|| Sign::member(Format::Drbd)))
}

/// `struct cache_sb`, at 4096.
pub(crate) fn bcache(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    const MARK: [u8; 16] = [
        0xc6, 0x85, 0x73, 0xf6, 0x4e, 0x1a, 0x45, 0xca, 0x82, 0x65, 0xf5, 0x7f, 0x48, 0xba, 0x6d,
        0x81,
    ];
    let Some(raw) = read::<128>(device, 4096)? else {
        return Ok(None);
    };
    Ok((raw[24..40] == MARK).then(|| Sign {
        id: uuid(&raw, 40),
        label: text_at(&raw, 72, 32),
        ..Sign::member(Format::Bcache)
    }))
}

/// `struct label_header` in one of the first four sectors, then `struct pv_header`.
pub(crate) fn lvm(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for sector in 0..4 {
        let Some(raw) = read::<512>(device, sector * 512)? else {
            break;
        };
        if raw[..8] != *b"LABELONE" {
            continue;
        }
        let at = u32le(&raw, 20) as usize;
        let id = raw.get(at..at.saturating_add(32)).and_then(text);
        return Ok(Some(Sign {
            id: id.filter(|id| id.len() == 32).map(|id| grouped(&id)),
            ..Sign::member(Format::Lvm)
        }));
    }
    Ok(None)
}

/// As LVM prints identifiers: six, five times four, six characters.
fn grouped(id: &str) -> String {
    let cuts = [0, 6, 10, 14, 18, 22, 26, 32];
    let parts = cuts.windows(2).map(|cut| id.get(cut[0]..cut[1]));
    parts.flatten().collect::<Vec<_>>().join("-")
}

/// ZFS On-Disk Specification, chapter 1: four labels of 256 KiB, each with a list of pairs at 16 KiB
/// and uberblocks from 128 KiB.
pub(crate) fn zfs(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    const LABEL: u64 = 256 << 10;
    let end = device.size() & !(LABEL - 1);
    let mut labels = vec![0, LABEL];
    // In a stream of unknown size, only the start is examined.
    if end < 1 << 60 {
        labels.extend(
            [end.checked_sub(2 * LABEL), end.checked_sub(LABEL)]
                .into_iter()
                .flatten(),
        );
    }
    for label in labels.into_iter().take(2) {
        let marks = [0x0000_0000_00ba_b10c_u64, 0x0cb1_ba00_0000_0000];
        let mut is_one = false;
        for step in 0..128 {
            let raw = read::<8>(device, label + (128 << 10) + step * 1024)?;
            is_one = raw.is_some_and(|raw| marks.contains(&u64be(&raw, 0)));
            if is_one || raw.is_none() {
                break;
            }
        }
        if is_one {
            let pairs = read_block(device, label + (16 << 10), 64 << 10)?;
            let pairs = pairs.unwrap_or_default();
            return Ok(Some(Sign {
                label: pair(&pairs, "name", 9).and_then(|value| {
                    let len = u32be(value, 0) as usize;
                    text(value.get(4..4 + len.min(256))?)
                }),
                id: pair(&pairs, "pool_guid", 8).map(|value| u64be(value, 0).to_string()),
                ..Sign::member(Format::Zfs)
            }));
        }
    }
    Ok(None)
}

/// The value of a pair in a packed list (XDR, RFC 4506), of the outermost level.
fn pair<'a>(list: &'a [u8], name: &str, kind: u32) -> Option<&'a [u8]> {
    // Encoding, byte order, version, flags.
    let mut at = 12;
    loop {
        let head = list.get(at..)?;
        let (size, len) = (u32be(head, 0) as usize, u32be(head, 8) as usize);
        if size < 12 {
            return None;
        }
        let own = head.get(12..12_usize.checked_add(len)?)?;
        let value = 12 + len.next_multiple_of(4);
        if own == name.as_bytes() && u32be(head, value) == kind {
            return head.get(value + 8..);
        }
        at = at.checked_add(size)?;
    }
}
