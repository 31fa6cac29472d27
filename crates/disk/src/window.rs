//! Views of a part of a device.

use crate::device::{Operation, check_range};
use crate::{BlockDevice, ByteRange, DiskError, SectorSize};

/// A range of a device that behaves like a device of its own, as a partition does.
pub struct Window<'a> {
    device: &'a dyn BlockDevice,
    range: ByteRange,
}

impl<'a> Window<'a> {
    /// A window over the part of `range` that lies inside `device`.
    pub fn new(device: &'a dyn BlockDevice, range: ByteRange) -> Self {
        let end = range.end.min(device.size());
        let start = range.start.min(end);
        Self {
            device,
            range: ByteRange { start, end },
        }
    }
}

impl Window<'_> {
    /// The range on the device.
    fn below(&self, range: ByteRange) -> Result<ByteRange, DiskError> {
        let len = usize::try_from(range.len()).unwrap_or(usize::MAX);
        check_range(Operation::Write, range.start, len, self.size())?;
        Ok(ByteRange {
            start: self.range.start + range.start,
            end: self.range.start + range.end,
        })
    }
}

impl BlockDevice for Window<'_> {
    fn size(&self) -> u64 {
        self.range.len()
    }

    fn logical_sector(&self) -> SectorSize {
        self.device.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        check_range(Operation::Read, offset, buffer.len(), self.size())?;
        self.device.read_at(self.range.start + offset, buffer)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        check_range(Operation::Read, offset, buffer.len(), self.size())?;
        self.device.read_once(self.range.start + offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(Operation::Write, offset, data.len(), self.size())?;
        self.device.write_at(self.range.start + offset, data)
    }

    fn write_free(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        check_range(Operation::Write, offset, data.len(), self.size())?;
        self.device.write_free(self.range.start + offset, data)
    }

    fn copy_free(&self, from: ByteRange, to: u64) -> Result<(), DiskError> {
        let len = usize::try_from(from.len()).unwrap_or(usize::MAX);
        check_range(Operation::Write, to, len, self.size())?;
        let from = self.below(from)?;
        self.device.copy_free(from, self.range.start + to)
    }

    fn zero_cheaply(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.device.zero_cheaply(self.below(range)?)
    }

    fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.device.discard(self.below(range)?)
    }

    fn forget_cache(&self, range: ByteRange) {
        if let Ok(range) = self.below(range) {
            self.device.forget_cache(range);
        }
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.device.flush()
    }
}

/// A window that owns its device.
pub struct Section {
    device: Box<dyn BlockDevice>,
    range: ByteRange,
}

impl Section {
    /// A window over the part of `range` that lies inside `device`.
    pub fn new(device: Box<dyn BlockDevice>, range: ByteRange) -> Self {
        Self { device, range }
    }

    fn window(&self) -> Window<'_> {
        Window::new(&*self.device, self.range)
    }
}

impl BlockDevice for Section {
    fn size(&self) -> u64 {
        self.window().size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.device.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.window().read_at(offset, buffer)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.window().read_once(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.window().write_at(offset, data)
    }

    fn write_free(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.window().write_free(offset, data)
    }

    fn copy_free(&self, from: ByteRange, to: u64) -> Result<(), DiskError> {
        self.window().copy_free(from, to)
    }

    fn zero_cheaply(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.window().zero_cheaply(range)
    }

    fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.window().discard(range)
    }

    fn forget_cache(&self, range: ByteRange) {
        self.window().forget_cache(range);
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.device.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::MemoryDevice;

    #[test]
    fn a_window_cannot_be_left() {
        let device = MemoryDevice::new(4096);
        let range = ByteRange {
            start: 1024,
            end: 2048,
        };
        let window = Window::new(&device, range);
        window.write_at(1000, &[7; 24]).unwrap();
        assert!(matches!(
            window.write_at(1001, &[7; 24]),
            Err(DiskError::PastEnd { size: 1024, .. })
        ));
        assert_eq!(&device.to_bytes()[2024..2048], &[7; 24]);
    }

    #[test]
    fn a_window_over_a_range_past_the_end_is_cut() {
        let device = MemoryDevice::new(100);
        let past = ByteRange {
            start: 80,
            end: u64::MAX,
        };
        assert_eq!(Window::new(&device, past).size(), 20);
        let outside = ByteRange {
            start: 500,
            end: 600,
        };
        assert_eq!(Window::new(&device, outside).size(), 0);
    }
}
