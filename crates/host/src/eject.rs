//! Making a medium safe to take out: flushed, not mounted, powered down.

use std::fs::{self, File};
use std::io;
use std::path::PathBuf;

use pinewrit_disk::{BlockDevice, DiskError};
use rustix::ioctl::NoArg;

use crate::{BlockName, Bus, Medium, MediumError, MediumKind, SystemRoots};

/// What has to happen before a medium may be taken out, beyond flushing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Removal {
    /// A slot without power of its own, or nothing that can be taken out.
    Plain,
    /// A reader or a stick is asked to release its medium.
    LetGo,
    /// A disk is removed from the system, which parks and stops it. The file that does it.
    Remove(PathBuf),
    /// It is built into the computer.
    BuiltIn,
}

/// How an ejected medium was left.
#[derive(Debug)]
pub enum Power {
    /// It needed nothing.
    NotNeeded,
    /// It is powered down.
    Off,
    /// It refused. Everything is flushed, so only its lamp stays on.
    Refused(io::Error),
}

/// Why a medium must not be taken out.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EjectError {
    /// The last writes may not be on it.
    #[error("the medium failed")]
    Disk(#[from] DiskError),
    /// It cannot be opened for ejecting, or the computer runs from it.
    #[error(transparent)]
    Medium(#[from] MediumError),
    /// It is built into the computer.
    #[error("it is built into the computer")]
    BuiltIn,
    /// A disk keeps running.
    #[error("it could not be powered down")]
    Running(#[source] io::Error),
    /// The simulated card could not be taken out of its reader.
    #[error("the rack could not be changed")]
    Rack(#[source] io::Error),
}

impl SystemRoots {
    /// What has to happen before a whole device may be taken out.
    pub fn removal(&self, whole: &BlockName) -> Removal {
        let identity = self.identity(whole);
        let delete = self
            .sys
            .join("class/block")
            .join(&whole.0)
            .join("device/delete");
        match identity.bus {
            Bus::Sd | Bus::Loop => Removal::Plain,
            // On a port outside the case.
            Bus::Nvme if identity.is_removable => Removal::Plain,
            Bus::Emmc | Bus::Nvme | Bus::Virtual | Bus::Other => Removal::BuiltIn,
            Bus::Usb(_) | Bus::Sata | Bus::Scsi if identity.is_removable => Removal::LetGo,
            Bus::Usb(_) => Removal::Remove(delete),
            Bus::Sata | Bus::Scsi => Removal::BuiltIn,
        }
    }

    /// Flushes a medium that nothing else uses, and powers it down. It stays open exclusively until
    /// then, so that no desktop mounts it in between.
    pub(crate) fn eject(&self, medium: &Medium) -> Result<Power, EjectError> {
        let name = self.whole_at(&medium.path);
        let removal = match (medium.kind, name) {
            (MediumKind::BlockDevice, Some(name)) => self.removal(&name),
            _ => Removal::Plain,
        };
        if removal == Removal::BuiltIn {
            return Err(EjectError::BuiltIn);
        }
        medium.device.flush()?;
        match removal {
            Removal::Plain | Removal::BuiltIn => Ok(Power::NotNeeded),
            Removal::LetGo => Ok(match let_go(&medium.opened) {
                Ok(()) => Power::Off,
                Err(error) => Power::Refused(error),
            }),
            Removal::Remove(file) => {
                fs::write(file, "1").map_err(EjectError::Running)?;
                Ok(Power::Off)
            }
        }
    }
}

/// Unlocks a drive's door, stops it and releases the medium (SCSI: PREVENT ALLOW MEDIUM REMOVAL,
/// then START STOP UNIT with LOEJ), through the requests that the kernel has for that.
fn let_go(device: &File) -> io::Result<()> {
    /// `SCSI_IOCTL_DOORUNLOCK` of `scsi/scsi_ioctl.h`.
    type Unlock = NoArg<0x5381>;
    /// `CDROMEJECT` of `linux/cdrom.h`, which all SCSI disks take.
    type Eject = NoArg<0x5309>;
    // SAFETY: both requests take no argument and touch no memory of this process; `device` is an
    // open descriptor, and devices that do not know them answer ENOTTY.
    unsafe {
        // A drive whose door was never locked may refuse this.
        let _ = rustix::ioctl::ioctl(device, Unlock::new());
        rustix::ioctl::ioctl(device, Eject::new())?;
    }
    Ok(())
}
