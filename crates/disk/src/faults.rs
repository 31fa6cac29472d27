//! Devices that fail in the ways that cards and readers do, for tests.

use std::io;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::io::Errno;

use crate::{BlockDevice, ByteRange, DiskError, Operation, SectorSize};

/// One way in which a medium misbehaves.
#[derive(Clone, Copy, Debug)]
pub enum Fault {
    /// Reading any byte of the range fails with an I/O error.
    ReadError(ByteRange),
    /// Writing any byte of the range fails with an I/O error.
    WriteError(ByteRange),
    /// After this many written bytes the medium is gone.
    PulledAfter(u64),
    /// This byte is stored with its lowest bit flipped.
    FlippedBit(u64),
    /// Writes to the range are acknowledged and lost.
    LostWrites(ByteRange),
    /// The medium has only this many bytes: addresses beyond wrap around to its start.
    Wraps(u64),
}

/// A device with faults in front of a working one.
pub struct FaultyDevice<D> {
    inner: D,
    faults: Vec<Fault>,
    written: AtomicU64,
}

impl<D: BlockDevice> FaultyDevice<D> {
    /// Puts `faults` in front of `inner`.
    pub fn new(inner: D, faults: Vec<Fault>) -> Self {
        Self {
            inner,
            faults,
            written: AtomicU64::new(0),
        }
    }

    /// The device behind the faults.
    pub fn inner(&self) -> &D {
        &self.inner
    }

    fn check_pulled(&self, operation: Operation, offset: u64) -> Result<(), DiskError> {
        let written = self.written.load(Ordering::SeqCst);
        let pulled = |fault: &Fault| matches!(fault, Fault::PulledAfter(n) if written > *n);
        if self.faults.iter().any(pulled) {
            return Err(error(operation, offset, Errno::NODEV));
        }
        Ok(())
    }

    /// Where a request that reaches past the real capacity ends up, and how many of its bytes lie
    /// before the next wrap; `None` if it stays within the capacity.
    fn wrapped(&self, offset: u64, len: usize) -> Option<(u64, usize)> {
        let real = self.faults.iter().find_map(|fault| match fault {
            Fault::Wraps(real) if *real > 0 => Some(*real),
            _ => None,
        })?;
        if len == 0 || offset + len as u64 <= real {
            return None;
        }
        let at = offset % real;
        let before = usize::try_from(real - at).unwrap_or(usize::MAX);
        Some((at, len.min(before)))
    }

    /// Splits `data` at the lost ranges and writes the rest.
    fn write_surviving(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let mut kept = data.to_vec();
        let whole = ByteRange {
            start: offset,
            end: offset + data.len() as u64,
        };
        for fault in &self.faults {
            match *fault {
                Fault::FlippedBit(at) if whole.contains(at) => kept[(at - offset) as usize] ^= 1,
                Fault::LostWrites(range) => {
                    if let Some(lost) = range.intersection(whole) {
                        let part = (lost.start - offset) as usize..(lost.end - offset) as usize;
                        self.inner.read_at(lost.start, &mut kept[part])?;
                    }
                }
                _ => {}
            }
        }
        self.inner.write_at(offset, &kept)
    }
}

fn error(operation: Operation, offset: u64, errno: Errno) -> DiskError {
    DiskError::Io {
        operation,
        offset,
        source: io::Error::from(errno),
    }
}

impl<D: BlockDevice> BlockDevice for FaultyDevice<D> {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.check_pulled(Operation::Read, offset)?;
        if let Some((offset, len)) = self.wrapped(offset, buffer.len()) {
            let (first, rest) = buffer.split_at_mut(len);
            self.read_at(offset, first)?;
            return self.read_at(0, rest);
        }
        let asked = ByteRange::from_len(offset, buffer.len() as u64);
        for fault in &self.faults {
            if let (Fault::ReadError(bad), Some(asked)) = (fault, asked)
                && bad.intersection(asked).is_some()
            {
                return Err(error(Operation::Read, offset, Errno::IO));
            }
        }
        self.inner.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.written.fetch_add(data.len() as u64, Ordering::SeqCst);
        self.check_pulled(Operation::Write, offset)?;
        if let Some((offset, len)) = self.wrapped(offset, data.len()) {
            let (first, rest) = data.split_at(len);
            self.write_at(offset, first)?;
            return self.write_at(0, rest);
        }
        let asked = ByteRange::from_len(offset, data.len() as u64);
        for fault in &self.faults {
            if let (Fault::WriteError(bad), Some(asked)) = (fault, asked)
                && bad.intersection(asked).is_some()
            {
                return Err(error(Operation::Write, offset, Errno::IO));
            }
        }
        self.write_surviving(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.check_pulled(Operation::Flush, 0)?;
        self.inner.flush()
    }
}
