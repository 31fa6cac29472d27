//! A partition for a new file system: gathered in memory, except long runs of zeros, and read back
//! at the end.

use std::sync::Mutex;

use pinewrit_disk::{
    AlignedBuf, BlockDevice, ByteRange, CommitError, DiskError, Overlay, SectorSize, Window,
};

use super::FormatError;

/// Bytes per read when reading back.
const PIECE: u64 = 1 << 20;

/// A partition that is being formatted. Zeros go straight to the device, everything else is
/// gathered.
pub(super) struct Fresh<'p> {
    partition: &'p Window<'p>,
    gathered: Overlay<&'p Window<'p>>,
    zeroed: Mutex<Vec<ByteRange>>,
}

impl<'p> Fresh<'p> {
    pub(super) fn new(partition: &'p Window<'p>) -> Self {
        Self {
            partition,
            gathered: Overlay::new(partition),
            zeroed: Mutex::default(),
        }
    }

    /// Writes everything to the device, the first bytes last, and reads it back, including zeros.
    pub(super) fn finish(&self, head: u64) -> Result<(), FormatError> {
        let first = ByteRange {
            start: 0,
            end: head.min(self.size()),
        };
        match self.gathered.commit(&[first], None) {
            Ok(_) => {}
            Err(CommitError::Disk { source, .. }) => return Err(source.into()),
            Err(CommitError::ReadBack { offset, .. }) => {
                return Err(FormatError::ReadBack { offset });
            }
            // No undo file is kept for what is lost anyway.
            Err(_) => return Err(FormatError::Unrecognised),
        }
        let zeroed = self.zeroed.lock().unwrap_or_else(|e| e.into_inner());
        zeroed.iter().try_for_each(|range| self.read_back(*range))
    }

    fn read_back(&self, range: ByteRange) -> Result<(), FormatError> {
        self.partition.forget_cache(range);
        let mut start = range.start;
        while start < range.end {
            let len = PIECE.min(range.end - start) as usize;
            let mut expected = vec![0; len];
            self.gathered.lay_over(start, &mut expected);
            let mut found = AlignedBuf::new(len);
            self.partition.read_at(start, &mut found)?;
            if let Some(at) = found.iter().zip(&expected).position(|(a, b)| a != b) {
                let offset = start + at as u64;
                return Err(FormatError::ReadBack { offset });
            }
            start += len as u64;
        }
        Ok(())
    }
}

impl BlockDevice for Fresh<'_> {
    fn size(&self) -> u64 {
        self.partition.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.partition.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.gathered.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.gathered.write_at(offset, data)
    }

    fn zero(&self, range: ByteRange) -> Result<(), DiskError> {
        self.partition.zero(range)?;
        self.gathered.forget_cache(range);
        let mut zeroed = self.zeroed.lock().unwrap_or_else(|e| e.into_inner());
        zeroed.push(range);
        Ok(())
    }

    fn forget_cache(&self, range: ByteRange) {
        self.gathered.forget_cache(range);
    }

    /// What was zeroed; the rest reaches the device with [`Fresh::finish`].
    fn flush(&self) -> Result<(), DiskError> {
        self.partition.flush()
    }
}
