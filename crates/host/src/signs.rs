//! Signs that a disk is somebody's: a member of an array or a pool, which means nothing alone and
//! much to others, or the disk of another computer.

use std::fs::File;
use std::os::unix::fs::FileExt;

use crate::{BlockName, Doubt, SystemRoots};

/// A mark of a format, where it is, and what it tells.
struct Mark {
    offset: u64,
    bytes: &'static [u8],
    doubt: Doubt,
    /// Smaller media with it are ordinary; in bytes.
    from: u64,
}

const fn mark(offset: u64, bytes: &'static [u8], doubt: Doubt) -> Mark {
    Mark {
        offset,
        bytes,
        doubt,
        from: 0,
    }
}

const RAID: Doubt = Doubt::Member("a RAID array");
const LVM: Doubt = Doubt::Member("LVM");
const ZFS: Doubt = Doubt::Member("a ZFS pool");
const ENCRYPTED: Doubt = Doubt::Foreign("an encrypted volume");
/// Sticks and cards that people carry have NTFS up to this size.
const CARRIED: u64 = 128_000_000_000;

/// Linux `md` superblocks (versions 1.1 and 1.2), LVM's label (in one of the first four sectors), the
/// first uberblock of a ZFS pool's first label in either byte order, LUKS headers, the boot sectors
/// of NTFS and of its encrypted form, and APFS containers: as their on-disk formats have them.
const MARKS: &[Mark] = &[
    mark(0, &[0xfc, 0x4e, 0x2b, 0xa9], RAID),
    mark(4096, &[0xfc, 0x4e, 0x2b, 0xa9], RAID),
    mark(0, b"LABELONE", LVM),
    mark(512, b"LABELONE", LVM),
    mark(1024, b"LABELONE", LVM),
    mark(1536, b"LABELONE", LVM),
    mark(128 << 10, &[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0], ZFS),
    mark(128 << 10, &[0, 0, 0, 0, 0, 0xba, 0xb1, 0x0c], ZFS),
    mark(0, b"LUKS\xba\xbe", ENCRYPTED),
    mark(3, b"-FVE-FS-", ENCRYPTED),
    mark(32, b"NXSB", Doubt::Foreign("an APFS container")),
    Mark {
        offset: 3,
        bytes: b"NTFS    ",
        doubt: Doubt::Foreign("an NTFS volume of a large disk"),
        from: CARRIED,
    },
];

impl SystemRoots {
    /// Whose the disk or one of its partitions seems to be. Whatever cannot be read says nothing.
    pub(crate) fn signs(&self, whole: &BlockName) -> Option<Doubt> {
        let size = self.identity(whole).size;
        let mut own = vec![whole.clone()];
        own.extend(self.partitions(whole));
        own.iter().find_map(|name| {
            let file = File::open(self.dev.join(&name.0)).ok()?;
            let marks = MARKS.iter().filter(|mark| size >= mark.from);
            marks.into_iter().find_map(|mark| {
                let mut found = vec![0; mark.bytes.len()];
                file.read_exact_at(&mut found, mark.offset).ok()?;
                (found == mark.bytes).then(|| mark.doubt.clone())
            })
        })
    }
}
