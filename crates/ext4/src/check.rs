//! A quick check that a file system holds together: counters, bitmaps and their checksums. It does
//! not look into inodes.

use pinewrit_disk::BlockDevice;

use crate::VolumeError;
use crate::blocks::Source;
use crate::volume::Volume;

/// What does not hold together.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// It cannot be read.
    #[error(transparent)]
    Volume(#[from] VolumeError),
    /// A group's descriptor is damaged.
    #[error("the descriptor of group {0} is damaged")]
    Descriptor(u64),
    /// A group's bitmap of blocks does not fit its descriptor.
    #[error("the block bitmap of group {0} does not fit its descriptor")]
    Bitmap(u64),
    /// The groups' free blocks are not as many as the superblock says.
    #[error("the groups have {groups} free blocks, the superblock says {superblock}")]
    FreeBlocks {
        /// In all groups together.
        groups: u64,
        /// In the superblock.
        superblock: u64,
    },
}

/// Checks the file system at the start of a device.
///
/// # Errors
/// [`CheckError`]: the first thing that is wrong.
pub fn check<D: BlockDevice>(device: D) -> Result<(), CheckError> {
    let volume = Volume::open(device)?;
    let sb = volume.superblock();
    let mut free = 0;
    for (group, descriptor) in volume.groups().iter().enumerate() {
        let group = group as u64;
        let descriptor = descriptor.as_ref().ok_or(CheckError::Descriptor(group))?;
        free += descriptor.free_clusters;
        if descriptor.is_block_bitmap_unwritten {
            continue;
        }
        let bitmap = volume.read_block(descriptor.block_bitmap)?;
        if !descriptor.fits_bitmap(sb, group, &bitmap) {
            return Err(CheckError::Bitmap(group));
        }
    }
    let groups = free * sb.cluster_ratio;
    match groups == sb.free_blocks {
        true => Ok(()),
        false => Err(CheckError::FreeBlocks {
            groups,
            superblock: sb.free_blocks,
        }),
    }
}
