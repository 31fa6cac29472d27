//! A device that is larger than another, with zeros behind it.

use crate::{BlockDevice, DiskError, SectorSize};

/// A read-only view of a device as if it were larger: zeros follow its end.
pub struct Padded<'a> {
    device: &'a dyn BlockDevice,
    size: u64,
}

impl<'a> Padded<'a> {
    /// A view of `size` bytes, or of the whole device if that is larger.
    pub fn new(device: &'a dyn BlockDevice, size: u64) -> Self {
        let size = size.max(device.size());
        Self { device, size }
    }
}

impl BlockDevice for Padded<'_> {
    fn size(&self) -> u64 {
        self.size
    }

    fn logical_sector(&self) -> SectorSize {
        self.device.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let inside = self.device.size().saturating_sub(offset);
        let inside = buffer
            .len()
            .min(usize::try_from(inside).unwrap_or(usize::MAX));
        let (part, rest) = buffer.split_at_mut(inside);
        rest.fill(0);
        if part.is_empty() {
            Ok(())
        } else {
            self.device.read_at(offset, part)
        }
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}
