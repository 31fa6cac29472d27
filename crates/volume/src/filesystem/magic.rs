//! File systems that are only recognised, by their marks.

use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_signs::Sign;

use super::FilesystemFacts;

/// Whether the start of a partition has a mark of any other format than FAT and ext.
pub fn has_other_mark(head: &[u8]) -> bool {
    pinewrit_signs::head_has_mark(head)
}

pub(super) fn facts(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    Ok(pinewrit_signs::at_start(device)?.map(FilesystemFacts::from))
}

impl From<Sign> for FilesystemFacts {
    fn from(sign: Sign) -> Self {
        // What cannot be changed is full.
        let is_full = matches!(sign.kind, "ISO 9660" | "squashfs");
        Self {
            label: sign.label,
            id: sign.id,
            size: sign.size,
            used: sign.size.filter(|_| is_full),
            free: is_full.then_some(0),
            ..Self::named(sign.kind)
        }
    }
}
