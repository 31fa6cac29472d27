//! A check that a file system holds together: counters, bitmaps, inodes and whose their blocks are.
//! It does not read folders.

use std::ops::Range;

use pinewrit_disk::BlockDevice;

use crate::blocks::{Source, VolumeError};
use crate::edit::{is_set, same_bits};
use crate::inode::{Inode, InodeNumber, Piece, is_intact};
use crate::volume::{FIRST_OF_FILES, Volume};
use crate::{GroupDescriptor, Superblock};

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
    /// A group's bitmap of inodes does not fit its descriptor.
    #[error("the inode bitmap of group {0} does not fit its descriptor")]
    InodeBitmap(u64),
    /// The groups' free blocks are not as many as the superblock says.
    #[error("the groups have {groups} free blocks, the superblock says {superblock}")]
    FreeBlocks {
        /// In all groups together.
        groups: u64,
        /// In the superblock.
        superblock: u64,
    },
    /// An inode is damaged.
    #[error("inode {number} is damaged: {what}")]
    Inode {
        /// Its number.
        number: u32,
        /// What is wrong, in words.
        what: &'static str,
    },
    /// A block belongs to two files.
    #[error("block {0} belongs to two files")]
    Shared(u64),
    /// A block of a file is told to be free.
    #[error("block {0} belongs to a file, and its bitmap says that it is free")]
    Unmarked(u64),
}

/// Pieces of files that are looked at, 32 MiB of them: more than a board's system has, and a bound for
/// maps that were made to take for ever.
const MAX_RUNS: usize = 1 << 21;

/// Checks the file system at the start of a device.
///
/// # Errors
/// [`CheckError`]: the first thing that is wrong.
pub fn check<D: BlockDevice>(device: D) -> Result<(), CheckError> {
    let volume = Volume::open(device)?;
    let sb = volume.superblock();
    let mut check = Check {
        volume: &volume,
        runs: Vec::new(),
    };
    let mut free = 0;
    for (group, descriptor) in (0..).zip(volume.groups()) {
        let descriptor = descriptor.as_ref().ok_or(CheckError::Descriptor(group))?;
        free += descriptor.free_clusters;
        check.inodes(group, descriptor)?;
    }
    check.blocks()?;
    let groups = free * sb.cluster_ratio;
    match groups == sb.free_blocks {
        true => Ok(()),
        false => Err(CheckError::FreeBlocks {
            groups,
            superblock: sb.free_blocks,
        }),
    }
}

struct Check<'v> {
    volume: &'v dyn Groups,
    /// Blocks of files: data and maps.
    runs: Vec<Range<u64>>,
}

/// A file system and its groups, whatever it lies on.
trait Groups: Source {
    fn groups(&self) -> &[Option<GroupDescriptor>];
}

impl<D: BlockDevice> Groups for Volume<D> {
    fn groups(&self) -> &[Option<GroupDescriptor>] {
        Self::groups(self)
    }
}

impl Check<'_> {
    fn sb(&self) -> &Superblock {
        self.volume.superblock()
    }

    /// The inodes of a group that are in use, as its bitmap says.
    fn inodes(&mut self, group: u64, descriptor: &GroupDescriptor) -> Result<(), CheckError> {
        if descriptor.is_inode_table_unwritten {
            return Ok(());
        }
        let sb = self.sb();
        let bitmap = self.volume.read_block(descriptor.inode_bitmap)?;
        if !descriptor.fits_inode_bitmap(sb, &bitmap) {
            return Err(CheckError::InodeBitmap(group));
        }
        let (size, per_group) = (sb.inode_size as usize, sb.inodes_per_group);
        let per_block = (sb.block_size / sb.inode_size) as u32;
        let first = group as u32 * per_group + 1;
        let end = per_group.saturating_sub(descriptor.unused_inodes);
        for block in 0..end.div_ceil(per_block) {
            let inside = block * per_block..((block + 1) * per_block).min(end);
            let mut used = inside.filter(|index| is_set(&bitmap, u64::from(*index)));
            let mut next = used.next();
            if next.is_none() {
                continue;
            }
            if self.runs.len() >= MAX_RUNS {
                return Ok(());
            }
            let bytes = self
                .volume
                .read_block(descriptor.inode_table + u64::from(block))?;
            while let Some(index) = next {
                let at = (index - block * per_block) as usize * size;
                self.inode(InodeNumber(first + index), &bytes[at..at + size])?;
                next = used.next();
            }
        }
        Ok(())
    }

    fn inode(&mut self, number: InodeNumber, raw: &[u8]) -> Result<(), CheckError> {
        let wrong = |what| CheckError::Inode {
            number: number.0,
            what,
        };
        let inode = Inode::new(raw.to_vec());
        let is_of_system = number.0 < FIRST_OF_FILES && number != InodeNumber::ROOT;
        if inode.links() == 0 {
            // Some of the system's own are never used.
            return match is_of_system {
                true => Ok(()),
                false => Err(wrong("it is in use, and has no name")),
            };
        }
        if !is_intact(self.sb(), number, raw) {
            return Err(wrong("its checksum is wrong"));
        }
        let blocks = self.sb().blocks;
        let mut is_inside = true;
        let runs = &mut self.runs;
        let walked = inode.for_each_piece(self.volume, &mut |piece| {
            let run = match piece {
                Piece::Data(run) => run.blocks(),
                Piece::Map(block) => block..block + 1,
            };
            is_inside &= run.start > 0 && run.end <= blocks;
            runs.push(run);
            !is_inside || runs.len() >= MAX_RUNS
        });
        match walked {
            Err(VolumeError::Disk(error)) => Err(VolumeError::Disk(error).into()),
            Err(_) => Err(wrong("its map of blocks cannot be")),
            Ok(_) if !is_inside || inode.xattr_block() >= blocks => {
                Err(wrong("it has blocks outside of the file system"))
            }
            Ok(_) => Ok(()),
        }
    }

    /// Every block of a file is that file's alone, and marked as used.
    fn blocks(mut self) -> Result<(), CheckError> {
        self.runs.sort_unstable_by_key(|run| run.start);
        let sb = self.sb();
        // Where blocks are given out in clusters, those of a cluster are one file's.
        if let Some(pair) = self
            .runs
            .windows(2)
            .find(|pair| pair[1].start < pair[0].end)
        {
            return Err(CheckError::Shared(pair[1].start));
        }
        for (group, descriptor) in (0..).zip(self.volume.groups()) {
            let descriptor = descriptor.as_ref().ok_or(CheckError::Descriptor(group))?;
            // Only metadata is used in it, also what is held back for more of it.
            if descriptor.is_block_bitmap_unwritten {
                continue;
            }
            let bitmap = self.volume.read_block(descriptor.block_bitmap)?;
            if !descriptor.fits_bitmap(sb, group, &bitmap) {
                return Err(CheckError::Bitmap(group));
            }
            let inside = sb.group_blocks(group);
            let first = self.runs.partition_point(|run| run.end <= inside.start);
            for run in self.runs[first..]
                .iter()
                .take_while(|run| run.start < inside.end)
            {
                let bits = run.start.max(inside.start)..run.end.min(inside.end);
                let bits = (bits.start - inside.start) / sb.cluster_ratio
                    ..(bits.end - inside.start).div_ceil(sb.cluster_ratio);
                if let Some(bit) = first_clear(&bitmap, bits) {
                    return Err(CheckError::Unmarked(inside.start + bit * sb.cluster_ratio));
                }
            }
        }
        Ok(())
    }
}

fn first_clear(bitmap: &[u8], bits: Range<u64>) -> Option<u64> {
    let mut at = bits.start;
    while at < bits.end {
        if !is_set(bitmap, at) {
            return Some(at);
        }
        at += same_bits(bitmap, at, 0xff);
    }
    None
}
