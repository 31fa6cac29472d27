//! Checks of file systems of any kind.

use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_ext4::{CheckError, EditError, ExtError};
use pinewrit_fat as fat;

use crate::files::FilesError;

/// Why a file system should not be changed; `None` if there is no reason.
///
/// # Errors
/// The device could not be read.
pub fn fault(window: &dyn BlockDevice) -> Result<Option<String>, DiskError> {
    match check(window) {
        Ok(_) => Ok(None),
        Err(FilesError::Unsound(what)) => Ok(Some(what)),
        Err(error) => match error.into_disk() {
            Ok(error) => Err(error),
            Err(error) => Ok(Some(error.to_string())),
        },
    }
}

/// Checks a whole file system with the check for its kind; returns the geometry of a FAT.
///
/// # Errors
/// [`FilesError::Unsound`]: it is inconsistent. Others: it has unknown features, was not unmounted
/// cleanly, or could not be read.
pub(crate) fn check(window: &dyn BlockDevice) -> Result<Option<fat::Geometry>, FilesError> {
    let geometry = fat::Geometry::read(window)?;
    match &geometry {
        Some(_) => check_fat(window)?,
        None => check_ext(window)?,
    }
    Ok(geometry)
}

fn check_fat(window: &dyn BlockDevice) -> Result<(), FilesError> {
    match fat::check(window) {
        Ok(()) => Ok(()),
        Err(fat::CheckError::Volume(fat::FatError::Disk(error))) => Err(error.into()),
        Err(fat::CheckError::Unclean) => Err(fat::EditError::Unclean.into()),
        Err(error) => Err(FilesError::Unsound(error.to_string())),
    }
}

fn check_ext(window: &dyn BlockDevice) -> Result<(), FilesError> {
    match pinewrit_ext4::check(window) {
        Ok(()) => Ok(()),
        Err(CheckError::Volume(ExtError::Disk(error))) => Err(error.into()),
        Err(CheckError::Feature(name)) => Err(EditError::Feature(name).into()),
        Err(CheckError::NeedsReplay) => Err(EditError::NeedsReplay.into()),
        Err(error) => Err(FilesError::Unsound(error.to_string())),
    }
}
