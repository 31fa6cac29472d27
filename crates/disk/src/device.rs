//! The one interface through which media are read and written.

use std::io;
use std::sync::Arc;

use crate::{AlignedBuf, ByteRange, SectorSize};

/// The operation during which a device failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Reading bytes.
    Read,
    /// Writing bytes, or zeroing them.
    Write,
    /// Waiting until written bytes are on the medium.
    Flush,
}

impl Operation {
    /// The operation as a noun in a sentence.
    pub fn word(self) -> &'static str {
        match self {
            Self::Read => "reading",
            Self::Write => "writing",
            Self::Flush => "flushing",
        }
    }
}

/// Why a device could not do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum DiskError {
    /// The request reaches past the end of the device.
    #[error(
        "{} {len} bytes at offset {offset} reaches past the end at {size}",
        operation.word()
    )]
    PastEnd {
        /// The operation.
        operation: Operation,
        /// Offset of the first byte asked for.
        offset: u64,
        /// Length of the request in bytes.
        len: u64,
        /// Size of the device in bytes.
        size: u64,
    },
    /// The device was opened for reading only.
    #[error("the device is open for reading only")]
    ReadOnly,
    /// The system refused or failed.
    #[error("{} at offset {offset} failed", operation.word())]
    Io {
        /// What was being done.
        operation: Operation,
        /// Offset of the request in bytes.
        offset: u64,
        /// The system's own answer.
        source: io::Error,
    },
}

impl DiskError {
    /// The system's answer in this error, if it came from the system.
    pub fn io(&self) -> Option<&io::Error> {
        match self {
            Self::Io { source, .. } => Some(source),
            _ => None,
        }
    }
}

impl From<DiskError> for io::Error {
    fn from(error: DiskError) -> Self {
        io::Error::other(error)
    }
}

/// A medium, a card file, a part of one, or something that behaves like one.
///
/// Offsets and lengths are in bytes and need no alignment. Requests are all or nothing: a short
/// read is an error.
pub trait BlockDevice: Send + Sync {
    /// Size in bytes.
    fn size(&self) -> u64;

    /// Logical sector size: the unit in which partition tables count.
    fn logical_sector(&self) -> SectorSize;

    /// Fills `buffer` from `offset`.
    ///
    /// # Errors
    /// [`DiskError::PastEnd`], or [`DiskError::Io`].
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError>;

    /// The same for what is not needed again: caches keep nothing of it.
    ///
    /// # Errors
    /// As [`BlockDevice::read_at`].
    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.read_at(offset, buffer)
    }

    /// Writes `data` at `offset`. It may stay in a cache until [`BlockDevice::flush`].
    ///
    /// # Errors
    /// [`DiskError::PastEnd`], [`DiskError::ReadOnly`], or [`DiskError::Io`].
    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError>;

    /// Writes to unused space: the former bytes are of no interest, and whatever will refer to the
    /// new ones is written later.
    ///
    /// # Errors
    /// As [`BlockDevice::write_at`].
    fn write_free(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.write_at(offset, data)
    }

    /// Copies bytes to unused space, as [`BlockDevice::write_free`] would write them.
    ///
    /// # Errors
    /// As [`BlockDevice::write_at`], or the bytes could not be read.
    fn copy_free(&self, from: ByteRange, to: u64) -> Result<(), DiskError> {
        let mut buffer = AlignedBuf::new((1 << 20).min(from.len()) as usize);
        let mut done = 0;
        while done < from.len() {
            let len = (from.len() - done).min(buffer.len() as u64) as usize;
            self.read_at(from.start + done, &mut buffer[..len])?;
            self.write_free(to + done, &buffer[..len])?;
            done += len as u64;
        }
        Ok(())
    }

    /// Makes every byte of `range` read as zero.
    ///
    /// # Errors
    /// As [`BlockDevice::write_at`].
    fn zero(&self, range: ByteRange) -> Result<(), DiskError> {
        if self.zero_cheaply(range)? {
            Ok(())
        } else {
            write_zeros(self, range)
        }
    }

    /// Makes every byte of `range` read as zero without transferring zeros, where the device
    /// guarantees that. `false`: it does not, and nothing was changed.
    ///
    /// # Errors
    /// As [`BlockDevice::write_at`].
    fn zero_cheaply(&self, _range: ByteRange) -> Result<bool, DiskError> {
        Ok(false)
    }

    /// Tells the device that the bytes of `range` are no longer needed. What they read as
    /// afterwards is undefined. `false`: the device does not take such hints.
    ///
    /// # Errors
    /// As [`BlockDevice::write_at`].
    fn discard(&self, _range: ByteRange) -> Result<bool, DiskError> {
        Ok(false)
    }

    /// Returns when everything written so far is on the medium.
    ///
    /// # Errors
    /// [`DiskError::Io`]: some of what was written may be lost.
    fn flush(&self) -> Result<(), DiskError>;

    /// Makes the next reads of `range` come from the medium, not from a cache of the system.
    /// Only what was flushed before can be dropped from the cache.
    fn forget_cache(&self, _range: ByteRange) {}
}

/// Checks that a request lies inside a device of `size` bytes.
pub(crate) fn check_range(
    operation: Operation,
    offset: u64,
    len: usize,
    size: u64,
) -> Result<(), DiskError> {
    let len = len as u64;
    match offset.checked_add(len) {
        Some(end) if end <= size => Ok(()),
        _ => Err(DiskError::PastEnd {
            operation,
            offset,
            len,
            size,
        }),
    }
}

/// Zeroes `range` by writing zeros, for devices that have nothing cheaper.
pub(crate) fn write_zeros<D: BlockDevice + ?Sized>(
    device: &D,
    range: ByteRange,
) -> Result<(), DiskError> {
    let zeros = AlignedBuf::new((1 << 20).min(range.len()) as usize);
    let mut offset = range.start;
    while offset < range.end {
        let len = (range.end - offset).min(zeros.len() as u64);
        device.write_at(offset, &zeros[..len as usize])?;
        offset += len;
    }
    Ok(())
}

/// Whether all bytes are zero.
pub fn is_zero(bytes: &[u8]) -> bool {
    // Sixteen bytes at a time, which the compiler turns into vector instructions.
    let (head, body) = bytes.split_at(bytes.len() % 16);
    head.iter().all(|&byte| byte == 0)
        && body
            .chunks_exact(16)
            .all(|word| word.iter().fold(0, |sum, byte| sum | byte) == 0)
}

macro_rules! forward_to_inner {
    ($($holder:ty),*) => {$(
        impl<D: BlockDevice + ?Sized> BlockDevice for $holder {
            fn size(&self) -> u64 {
                (**self).size()
            }
            fn logical_sector(&self) -> SectorSize {
                (**self).logical_sector()
            }
            fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
                (**self).read_at(offset, buffer)
            }
            fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
                (**self).read_once(offset, buffer)
            }
            fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
                (**self).write_at(offset, data)
            }
            fn write_free(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
                (**self).write_free(offset, data)
            }
            fn copy_free(&self, from: ByteRange, to: u64) -> Result<(), DiskError> {
                (**self).copy_free(from, to)
            }
            fn zero(&self, range: ByteRange) -> Result<(), DiskError> {
                (**self).zero(range)
            }
            fn zero_cheaply(&self, range: ByteRange) -> Result<bool, DiskError> {
                (**self).zero_cheaply(range)
            }
            fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
                (**self).discard(range)
            }
            fn flush(&self) -> Result<(), DiskError> {
                (**self).flush()
            }
            fn forget_cache(&self, range: ByteRange) {
                (**self).forget_cache(range);
            }
        }
    )*};
}

forward_to_inner!(&D, Box<D>, Arc<D>);
