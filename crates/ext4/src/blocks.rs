//! The blocks of a file system on a device.

use pinewrit_disk::{BlockDevice, DiskError};

use crate::{Superblock, SuperblockError};

/// Why a file system cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VolumeError {
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// The superblock cannot be used.
    #[error(transparent)]
    Superblock(#[from] SuperblockError),
    /// Something on the medium cannot be.
    #[error("{0} is damaged")]
    Damaged(&'static str),
}

/// A device and how it is divided.
pub(crate) struct Blocks<D> {
    pub(crate) device: D,
    pub(crate) superblock: Superblock,
}

impl<D: BlockDevice> Blocks<D> {
    /// Reads a block.
    pub(crate) fn read(&self, block: u64) -> Result<Vec<u8>, VolumeError> {
        if block >= self.superblock.blocks {
            return Err(VolumeError::Damaged("a block number"));
        }
        let size = self.superblock.block_size;
        let mut bytes = vec![0; size as usize];
        self.device.read_at(block * size, &mut bytes)?;
        Ok(bytes)
    }
}
