//! Telling the kernel that a partition table has changed.

use std::fs::File;
use std::io;

use rustix::io::Errno;
use rustix::ioctl::{NoArg, opcode};

/// The kernel's answer to the request to read a partition table again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rescan {
    /// The kernel shows the new partitions.
    Done,
    /// Something uses a partition; the kernel shows the old ones until the medium is plugged in
    /// again.
    InUse,
    /// The device shows no partitions, as a plain loop device.
    NotApplicable,
}

/// Asks the kernel to read the partition table of a whole block device again.
///
/// # Errors
/// The system's answer, if it is an unusual one.
pub fn rescan_partitions(device: &File) -> io::Result<Rescan> {
    /// `BLKRRPART` of `linux/fs.h`.
    type Request = NoArg<{ opcode::none(0x12, 95) }>;
    // SAFETY: BLKRRPART takes no argument and only makes the kernel read the device; `device` is
    // an open descriptor, and other kinds of files answer ENOTTY.
    match unsafe { rustix::ioctl::ioctl(device, Request::new()) } {
        Ok(()) => Ok(Rescan::Done),
        Err(Errno::BUSY) => Ok(Rescan::InUse),
        Err(Errno::INVAL | Errno::NOTTY) => Ok(Rescan::NotApplicable),
        Err(error) => Err(error.into()),
    }
}
