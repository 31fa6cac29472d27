//! Signs that a disk belongs to an array or a pool: it means nothing alone, and much to others.

use std::fs::File;
use std::os::unix::fs::FileExt;

use crate::{BlockName, SystemRoots};

/// Where a mark is, and whose it is. Linux `md` superblocks (versions 1.1 and 1.2) and LVM's label
/// (in one of the first four sectors), as their on-disk formats have them.
const MARKS: &[(u64, &[u8], &str)] = &[
    (0, &[0xfc, 0x4e, 0x2b, 0xa9], "a RAID array"),
    (4096, &[0xfc, 0x4e, 0x2b, 0xa9], "a RAID array"),
    (0, b"LABELONE", "LVM"),
    (512, b"LABELONE", "LVM"),
    (1024, b"LABELONE", "LVM"),
    (1536, b"LABELONE", "LVM"),
    // The first uberblock of a pool's first label, in either byte order.
    (128 << 10, &[0x0c, 0xb1, 0xba, 0x00], "a ZFS pool"),
    (
        128 << 10,
        &[0x00, 0x00, 0x00, 0x00, 0x00, 0xba, 0xb1, 0x0c],
        "a ZFS pool",
    ),
];

impl SystemRoots {
    /// What the disk or one of its partitions is a member of. Whatever cannot be read says nothing.
    pub(crate) fn membership(&self, whole: &BlockName) -> Option<&'static str> {
        let mut own = vec![whole.clone()];
        own.extend(self.partitions(whole));
        own.iter().find_map(|name| {
            let file = File::open(self.dev.join(&name.0)).ok()?;
            MARKS.iter().find_map(|(offset, mark, whose)| {
                let mut found = vec![0; mark.len()];
                file.read_exact_at(&mut found, *offset).ok()?;
                (found == *mark).then_some(*whose)
            })
        })
    }
}
