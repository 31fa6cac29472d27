//! File systems that say they have errors, although no fault is found: they can be changed if that is wanted,
//! and go on saying it.

use pinewrit_disk::{BlockDevice, DiskError, Overlay, Window};
use pinewrit_ext4::{EditError, ExtError, Mark, Volume, set_errors};

use crate::check::fault;
use crate::files::{FilesystemOf, filesystems};

/// What the flag of errors means for a change.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ErrorFlags {
    /// What has it is not changed.
    #[default]
    Respected,
    /// What has it, but has no fault, is changed and keeps it.
    Ignored,
}

/// Takes the flag from all file systems of a device that are sound otherwise. The device has an overlay
/// underneath.
fn hide(device: &dyn BlockDevice) -> Result<Vec<FilesystemOf>, DiskError> {
    let mut hidden = Vec::new();
    for one in filesystems(device)? {
        let overlay = Overlay::new(Window::new(device, one.range));
        if one.facts.kind.is_ext() && has_flag(&overlay)? && set(&overlay, false)? {
            // What has a fault is refused for that.
            if fault(&overlay)?.is_none() {
                overlay.hand_down()?;
                hidden.push(one);
            }
        }
    }
    Ok(hidden)
}

fn has_flag(device: &dyn BlockDevice) -> Result<bool, DiskError> {
    match Volume::open(device) {
        Ok(volume) => Ok(Mark::of(volume.superblock()) == Mark::HasErrors),
        Err(ExtError::Disk(error)) => Err(error),
        Err(_) => Ok(false),
    }
}

/// `false`: there is no superblock any more.
fn set(device: &dyn BlockDevice, has_errors: bool) -> Result<bool, DiskError> {
    match set_errors(device, has_errors) {
        Ok(()) => Ok(true),
        Err(EditError::Volume(ExtError::Disk(error))) => Err(error),
        Err(_) => Ok(false),
    }
}

/// Flags that were taken away for a change.
pub struct HiddenFlags(Vec<FilesystemOf>);

impl HiddenFlags {
    /// Takes away what these flags allow. The device has an overlay underneath.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn of(device: &dyn BlockDevice, flags: ErrorFlags) -> Result<Self, DiskError> {
        Ok(Self(match flags {
            ErrorFlags::Respected => Vec::new(),
            ErrorFlags::Ignored => hide(device)?,
        }))
    }

    /// Gives them back. A file system may have another length now, but begins where it began.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn give_back(self, device: &dyn BlockDevice) -> Result<(), DiskError> {
        for one in self.0 {
            set(&Window::new(device, one.range), true)?;
        }
        Ok(())
    }
}
