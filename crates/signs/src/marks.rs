//! Formats recognised by a mark at one place, with the places of their labels and identifiers.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::bytes::{has, read, text, uuid};
use crate::{Format, Role, Sign};

/// A mark, and what lies around it. All places are bytes from the start.
struct Mark {
    at: u64,
    mark: &'static [u8],
    format: Format,
    role: Role,
    label: Option<(u64, usize)>,
    id: Option<Id>,
}

/// Where an identifier is.
#[derive(Clone, Copy)]
enum Id {
    /// A UUID in bytes.
    Uuid(u64),
}

const fn mark(at: u64, mark: &'static [u8], format: Format, role: Role) -> Mark {
    Mark {
        at,
        mark,
        format,
        role,
        label: None,
        id: None,
    }
}

impl Mark {
    const fn label(self, at: u64, len: usize) -> Self {
        Self {
            label: Some((at, len)),
            ..self
        }
    }

    const fn uuid(self, at: u64) -> Self {
        Self {
            id: Some(Id::Uuid(at)),
            ..self
        }
    }
}

use Role::{Encrypted, Filesystem as Fs, Member, Swap};

/// Longer and surer marks come first.
const MARKS: &[Mark] = &[
    // Parts of something larger.
    mark(0, b"bluestore block device", Format::BlueStore, Member),
    mark(
        512,
        b"!Stra0tis\x86\xff\x02^\x41rh",
        Format::Stratis,
        Member,
    ),
    mark(0, b"dmvdo001", Format::Vdo, Member),
    mark(0, b"SnAp", Format::Snapshot, Member),
    mark(0, b"verity\0\0", Format::DmVerity, Member).uuid(16),
    mark(0, b"integrt\0", Format::DmIntegrity, Member),
    mark(0, b"DRBDdlh*", Format::DrbdProxyLog, Member),
    mark(0, b"$DRBDmgr=q", Format::DrbdControl, Member),
    mark(32, b"ORCLDISK", Format::AsmDisk, Member).label(40, 24),
    mark(0, b"UBI#", Format::Ubi, Member),
    mark(0, b"HM\x01\0", Format::Lvm1, Member),
    mark(0, b"HM\x02\0", Format::Lvm1, Member),
    mark(0, b"\xff\x4c\x4f\x4f\x50\x6d", Format::Mpool, Member),
    // Encrypted.
    mark(0, b"SKUL\xba\xbe", Format::Luks, Encrypted).uuid(168),
    // File systems.
    mark(32, b"NXSB", Format::Apfs, Fs).uuid(72),
    mark(0, b"\0\0\0ReFS\0", Format::Refs, Fs),
    mark(0, b"XFSB", Format::Xfs, Fs).label(108, 12).uuid(32),
    mark(0, b"\xfe\xed\xba\xbe", Format::XfsLog, Member).uuid(304),
    mark(1024, b"\xe2\xe1\xf5\xe0", Format::Erofs, Fs)
        .label(1088, 16)
        .uuid(1072),
    mark(0, b"hsqs", Format::Squashfs, Fs),
    mark(0, b"sqsh", Format::Squashfs, Fs),
    mark(0, b"\x45\x3d\xcd\x28", Format::Cramfs, Fs).label(48, 16),
    mark(0, b"\x28\xcd\x3d\x45", Format::Cramfs, Fs).label(48, 16),
    mark(0, b"-rom1fs-", Format::Romfs, Fs).label(16, 64),
    mark(0, b"SFOZ", Format::Zonefs, Fs),
    mark(0, b"\x31\x18\x10\x06", Format::Ubifs, Fs).uuid(108),
    mark(0, b"\xce\xfa\xad\x1b", Format::Bfs, Fs),
    mark(0x220, b"1SFB", Format::BeFs, Fs).label(0x200, 32),
    mark(0x220, b"BFS1", Format::BeFs, Fs).label(0x200, 32),
    mark(0x20, b"1SFB", Format::BeFs, Fs).label(0, 32),
    mark(0x8000, b"JFS1", Format::Jfs, Fs)
        .label(0x8000 + 152, 16)
        .uuid(0x8000 + 136),
    mark(0x1_0000, b"ReIsEr4", Format::Reiser4, Fs)
        .label(0x1_0000 + 36, 16)
        .uuid(0x1_0000 + 20),
    mark(0x1_0034, b"ReIsEr2Fs", Format::ReiserFs, Fs)
        .label(0x1_0000 + 100, 16)
        .uuid(0x1_0000 + 84),
    mark(0x1_0034, b"ReIsEr3Fs", Format::ReiserFs, Fs)
        .label(0x1_0000 + 100, 16)
        .uuid(0x1_0000 + 84),
    mark(0x1_0034, b"ReIsErFs", Format::ReiserFs, Fs),
    mark(0x2034, b"ReIsErFs", Format::ReiserFs, Fs),
    mark(0x400, b"\xf5\xfc\x01\xa5", Format::VxFs, Fs),
    mark(0x2000, b"\xa5\x01\xfc\xf5", Format::VxFs, Fs),
    mark(0x2000, b"\x49\xe8\x95\xf9", Format::Hpfs, Fs),
    mark(0x1000, b"SPB5", Format::Nss, Fs),
    mark(0x600, b"\x2b\x55\x44", Format::Xenix, Fs),
    mark(0x3f8, b"\x20\x7e\x18\xfd", Format::SystemV, Fs),
    mark(0x3f8, b"\xfd\x18\x7e\x20", Format::SystemV, Fs),
    mark(
        0x1018,
        b"\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef",
        Format::Bcachefs,
        Fs,
    )
    .label(0x1048, 32)
    .uuid(0x1038),
    mark(0x400, b"OracleCFS", Format::Ocfs, Fs),
    // A hibernating system.
    mark(0xff6, b"S1SUSPEND", Format::Suspended, Swap),
    mark(0xff6, b"S2SUSPEND", Format::Suspended, Swap),
    mark(0xff6, b"ULSUSPEND", Format::Suspended, Swap),
    mark(0xff6, b"LINHIB0001", Format::Suspended, Swap),
];

/// Marks so far from the start that they are not searched for in a stream.
const FAR: &[Mark] = &[
    mark(0x10_0000, b"\x0d\xd0\x01\xc0", Format::VmfsVolume, Member),
    mark(0x20_0000, b"\x5e\xf1\xab\x2f", Format::Vmfs, Fs)
        .label(0x20_001d, 128)
        .uuid(0x20_0009),
];

pub(crate) fn find(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    find_in(device, MARKS)
}

pub(crate) fn find_far(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    find_in(device, FAR)
}

fn find_in(device: &dyn BlockDevice, marks: &[Mark]) -> Result<Option<Sign>, DiskError> {
    for mark in marks {
        if !has(device, mark.at, mark.mark)? {
            continue;
        }
        let mut sign = Sign::new(mark.format, mark.role);
        if let Some((at, len)) = mark.label {
            let raw = read::<128>(device, at)?;
            sign.label = raw.and_then(|raw| text(&raw[..len.min(128)]));
        }
        if let Some(Id::Uuid(at)) = mark.id {
            sign.id = read::<16>(device, at)?.and_then(|raw| uuid(&raw, 0));
        }
        return Ok(Some(sign));
    }
    Ok(None)
}
