//! What a FAT file system tells of itself.

use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_fat::{Geometry, Volume, VolumeError};

use super::{FilesystemFacts, clean_label};

/// The kind of those that have fewer clusters than FAT32 should: some firmware does not read them.
pub(super) const SMALL_FAT32: &str = "FAT32 (few clusters)";

pub(super) fn facts(
    device: &dyn BlockDevice,
    geometry: &Geometry,
) -> Result<FilesystemFacts, DiskError> {
    let volume = match Volume::open(device) {
        Err(VolumeError::Disk(error)) => return Err(error),
        volume => volume.ok(),
    };
    let free = match volume.as_ref().map(Volume::count_free) {
        // Only a part of an image is looked at: the rest is known without it.
        None | Some(Err(VolumeError::Disk(DiskError::PastEnd { .. }))) => None,
        Some(Err(VolumeError::Disk(error))) => return Err(error),
        Some(free) => free.ok(),
    };
    let label = volume.as_ref().and_then(Volume::label);
    Ok(FilesystemFacts {
        kind: match geometry.is_regular() {
            true => geometry.width.word(),
            false => SMALL_FAT32,
        },
        label: label.and_then(|label| clean_label(label.as_bytes())),
        id: geometry.id(),
        size: Some(geometry.size),
        used: free.map(|free| geometry.size.saturating_sub(free)),
        free,
    })
}
