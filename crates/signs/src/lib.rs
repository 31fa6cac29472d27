//! Recognising what a device or a partition holds by the marks that formats leave: file systems,
//! members of arrays and pools, encrypted volumes, and partition tables of other computers.
//!
//! Nothing is opened or understood beyond a label and an identifier. FAT and ext2, ext3 and ext4 are
//! not among them; they have crates and modules of their own. Sources are the formats' published
//! descriptions and the kernel's headers; each entry names its structure.
//!
//! ```
//! use pinewrit_disk::{BlockDevice, MemoryDevice};
//! use pinewrit_signs::{Format, Role};
//!
//! let device = MemoryDevice::new(1 << 20);
//! device.write_at(0, b"XFSB")?;
//! let sign = pinewrit_signs::at_start(&device)?;
//! assert!(sign.is_some_and(|sign| (sign.format, sign.role) == (Format::Xfs, Role::Filesystem)));
//! # Ok::<(), pinewrit_disk::DiskError>(())
//! ```

mod apple;
mod bytes;
mod format;
mod marks;
mod microsoft;
mod optical;
mod raid;
mod tables;
mod unix;

use pinewrit_disk::{BlockDevice, DiskError};

pub use format::Format;
pub use tables::foreign_table;

/// What something recognised is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Role {
    /// It holds files by itself.
    Filesystem,
    /// It is memory that was swapped out.
    Swap,
    /// It is a part of something larger, and useless alone.
    Member,
    /// It is encrypted.
    Encrypted,
}

/// Something that was recognised.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sign {
    /// Its format.
    pub format: Format,
    /// What it is for.
    pub role: Role,
    /// Its label, without control characters.
    pub label: Option<String>,
    /// Its identifier in the form that its own tools use.
    pub id: Option<String>,
    /// Bytes that it spans, if it says so.
    pub size: Option<u64>,
}

impl Sign {
    fn new(format: Format, role: Role) -> Self {
        Self {
            format,
            role,
            label: None,
            id: None,
            size: None,
        }
    }

    fn filesystem(format: Format) -> Self {
        Self::new(format, Role::Filesystem)
    }

    fn member(format: Format) -> Self {
        Self::new(format, Role::Member)
    }
}

type Reader = fn(&dyn BlockDevice) -> Result<Option<Sign>, DiskError>;

/// Formats that need more than a mark at one place. Members come first: their content may begin
/// with the mark of a file system.
const READERS: &[Reader] = &[
    raid::linux_at_start,
    raid::bcache,
    raid::lvm,
    raid::zfs,
    microsoft::bitlocker,
    microsoft::exfat,
    microsoft::ntfs,
    optical::udf,
    optical::iso9660,
    apple::hfs_plus,
    apple::hfs,
    unix::btrfs,
    unix::f2fs,
    unix::nilfs2,
    unix::minix,
    unix::ufs,
    unix::ocfs2,
    unix::gfs2,
    unix::swap,
    unix::luks,
];

/// The first format recognised at the start of a device.
///
/// # Errors
/// The device could not be read. One that is too short for something does not hold it.
pub fn at_start(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    for reader in READERS {
        if let Some(sign) = bytes::whole(reader(device))? {
            return Ok(Some(sign));
        }
    }
    marks::find(device)
}

/// Formats recognised at the end of a device, and far from its start: members of arrays with marks
/// there, whatever the device begins with.
///
/// # Errors
/// As [`at_start`].
pub fn at_end(device: &dyn BlockDevice) -> Result<Option<Sign>, DiskError> {
    match raid::at_end(device)? {
        Some(sign) => Ok(Some(sign)),
        None => marks::find_far(device),
    }
}

/// Whether the start of a partition, of which `head` is known, has a mark of anything in here.
pub fn head_has_mark(head: &[u8]) -> bool {
    let device = pinewrit_disk::MemoryDevice::from_bytes(head.to_vec());
    !matches!(at_start(&device), Ok(None))
}
