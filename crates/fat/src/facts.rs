//! What a file system says about itself at first glance, whether or not it is usable.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::{FatError, FatWidth, Geometry, Volume};

/// What the boot sector, the root directory and the allocation table say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FatFacts {
    /// Its width.
    pub width: FatWidth,
    /// Whether it has as many clusters as its width should: some firmware does not read a FAT32 with
    /// fewer.
    pub is_regular: bool,
    /// Its label.
    pub label: Option<String>,
    /// Its identifier, as `5EED-0001`.
    pub id: Option<String>,
    /// Its size in bytes.
    pub size: u64,
    /// Free bytes, where the allocation table can be read.
    pub free: Option<u64>,
}

impl FatFacts {
    /// Looks for a FAT on `device`.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, DiskError> {
        let Some(geometry) = Geometry::read(device)? else {
            return Ok(None);
        };
        let volume = match Volume::open(device) {
            Err(FatError::Disk(error)) => return Err(error),
            volume => volume.ok(),
        };
        let free = match volume.as_ref().map(Volume::count_free) {
            // A part of an image is enough: nothing else is needed.
            None | Some(Err(FatError::Disk(DiskError::PastEnd { .. }))) => None,
            Some(Err(FatError::Disk(error))) => return Err(error),
            Some(free) => free.ok(),
        };
        Ok(Some(Self {
            width: geometry.width,
            is_regular: geometry.is_regular(),
            label: volume.as_ref().and_then(Volume::label),
            id: geometry.id(),
            size: geometry.size,
            free,
        }))
    }
}
