//! A device in memory.

use std::sync::RwLock;

use crate::device::{Operation, check_range};
use crate::{BlockDevice, DiskError, SectorSize};

/// A block device whose bytes live in memory, for tests and for small work.
pub struct MemoryDevice {
    bytes: RwLock<Vec<u8>>,
    sector: SectorSize,
}

impl MemoryDevice {
    /// A zero-filled device of `size` bytes with sectors of 512 bytes.
    pub fn new(size: usize) -> Self {
        Self::from_bytes(vec![0; size])
    }

    /// A device that holds `bytes`.
    pub fn from_bytes(bytes: Vec<u8>) -> Self {
        Self {
            bytes: RwLock::new(bytes),
            sector: SectorSize::B512,
        }
    }

    /// The same device with another sector size.
    pub fn with_sector(mut self, sector: SectorSize) -> Self {
        self.sector = sector;
        self
    }

    /// A copy of everything on the device.
    pub fn to_bytes(&self) -> Vec<u8> {
        self.read().clone()
    }

    fn read(&self) -> std::sync::RwLockReadGuard<'_, Vec<u8>> {
        // A panic in another thread leaves plain bytes behind, which are still valid.
        self.bytes.read().unwrap_or_else(|e| e.into_inner())
    }
}

impl BlockDevice for MemoryDevice {
    fn size(&self) -> u64 {
        self.read().len() as u64
    }

    fn logical_sector(&self) -> SectorSize {
        self.sector
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let bytes = self.read();
        check_range(Operation::Read, offset, buffer.len(), bytes.len() as u64)?;
        buffer.copy_from_slice(&bytes[offset as usize..][..buffer.len()]);
        Ok(())
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let mut bytes = self.bytes.write().unwrap_or_else(|e| e.into_inner());
        check_range(Operation::Write, offset, data.len(), bytes.len() as u64)?;
        bytes[offset as usize..][..data.len()].copy_from_slice(data);
        Ok(())
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}
