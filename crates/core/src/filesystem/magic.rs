//! File systems that are only recognised, by their marks.

use pinewrit_disk::{BlockDevice, DiskError};

use super::{FilesystemFacts, clean_label, hex_groups, read, u16le, u32le};

const SWAP: &str = "swap";

/// Offset, mark, kind.
const MARKS: &[(u64, &[u8], &str)] = &[
    (3, b"EXFAT   ", "exFAT"),
    (3, b"NTFS    ", "NTFS"),
    (0, b"hsqs", "squashfs"),
    (0, b"XFSB", "XFS"),
    (0, b"LUKS\xba\xbe", "LUKS (encrypted)"),
    (512, b"LABELONE", "LVM"),
    (1024, b"\x10\x20\xf5\xf2", "F2FS"),
    (1024, b"\xe2\xe1\xf5\xe0", "EROFS"),
    (4086, b"SWAPSPACE2", SWAP),
    (65600, b"_BHRfS_M", "Btrfs"),
];

/// Marks of members of arrays, which may lie before a file system that is not theirs any more: Linux
/// `md` superblocks of versions 1.1 and 1.2.
const MEMBERS: &[(u64, &[u8])] = &[(0, b"\xfc\x4e\x2b\xa9"), (4096, b"\xfc\x4e\x2b\xa9")];

/// Whether the start of a partition has a mark of any of these formats, or of ISO 9660.
pub(crate) fn has_other_mark(head: &[u8]) -> bool {
    let marks = MARKS.iter().map(|(offset, mark, _)| (*offset, *mark));
    let all = marks
        .chain(MEMBERS.iter().copied())
        .chain([(32769, &b"CD001"[..])]);
    all.into_iter().any(|(offset, mark)| {
        let start = offset as usize;
        head.get(start..start + mark.len()) == Some(mark)
    })
}

pub(super) fn facts(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    if let Some(facts) = iso9660(device)? {
        return Ok(Some(facts));
    }
    for (offset, mark, kind) in MARKS {
        let mut found = vec![0; mark.len()];
        match device.read_at(*offset, &mut found) {
            Ok(()) if *kind == SWAP && found == *mark => return swap(device),
            Ok(()) if found == *mark => return Ok(Some(FilesystemFacts::named(kind))),
            Ok(()) | Err(DiskError::PastEnd { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(None)
}

/// The first page of a swap area (`linux/swap.h`, `union swap_header`).
fn swap(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    let Some(page) = read::<2048>(device, 0)? else {
        return Ok(None);
    };
    let mut uuid = [0; 16];
    uuid.copy_from_slice(&page[1036..1052]);
    let pages = u64::from(u32le(&page, 1028)) + 1;
    Ok(Some(FilesystemFacts {
        id: (uuid != [0; 16]).then(|| hex_groups(&uuid)),
        label: clean_label(&page[1052..1068]),
        size: Some(pages * 4096),
        ..FilesystemFacts::named(SWAP)
    }))
}

/// ECMA-119, section 8.4: the primary volume descriptor in sector 16 of 2048 bytes.
fn iso9660(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    let Some(pvd) = read::<2048>(device, 16 * 2048)? else {
        return Ok(None);
    };
    if pvd[..6] != *b"\x01CD001" {
        return Ok(None);
    }
    let blocks = u64::from(u32le(&pvd, 80));
    let block_size = u64::from(u16le(&pvd, 128));
    let size = blocks * block_size;
    Ok(Some(FilesystemFacts {
        label: clean_label(&pvd[40..72]),
        size: Some(size),
        used: Some(size),
        free: Some(0),
        ..FilesystemFacts::named("ISO 9660")
    }))
}
