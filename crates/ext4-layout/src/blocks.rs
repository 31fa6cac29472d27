//! The blocks of a file system on a device, and what can go wrong with them.

use pinewrit_disk::DiskError;

use crate::inode::is_intact;
use crate::{InodeNumber, Superblock, SuperblockError};

/// Why a file system cannot be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ExtError {
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// The superblock cannot be used.
    #[error(transparent)]
    Superblock(#[from] SuperblockError),
    /// A structure on the medium is invalid.
    #[error("{0} is damaged")]
    Damaged(&'static str),
    /// A structure on the medium is invalid.
    #[error("{what} at byte {offset} of the file system is damaged")]
    DamagedAt {
        /// The structure, in words.
        what: &'static str,
        /// Its offset in bytes from the file system's start.
        offset: u64,
    },
    /// The file system reaches past the end of its device.
    #[error("the file system has {size} bytes, its partition only {room}")]
    TooLarge {
        /// Its size in bytes.
        size: u64,
        /// The size of the partition or device.
        room: u64,
    },
    /// Nothing has this name.
    #[error("{0} does not exist")]
    NotFound(String),
    /// A part of a path, or what should be listed, is not a folder.
    #[error("{0} is not a directory")]
    NotDirectory(String),
    /// The content cannot be read here.
    #[error("{0} is encrypted or kept in a way that is not read here")]
    Unreadable(String),
}

/// Where blocks and inodes are read from: a medium, or one with changes over it.
pub trait Source {
    /// Sizes and places of everything.
    fn superblock(&self) -> &Superblock;

    /// Reads bytes of the file system.
    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError>;

    /// The same for what lies alone and is not needed again.
    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError> {
        self.read_bytes(offset, buffer)
    }

    /// First block of a group's inode table.
    fn inode_table(&self, group: u32) -> Option<u64>;

    /// The inode that a name in a folder leads to, if that folder is in memory.
    fn known_child(&self, _folder: InodeNumber, _name: &[u8]) -> Option<Option<InodeNumber>> {
        None
    }

    /// Reads a block.
    fn read_block(&self, block: u64) -> Result<Vec<u8>, ExtError> {
        let sb = self.superblock();
        if block >= sb.blocks {
            return Err(ExtError::Damaged("a block number"));
        }
        let mut bytes = vec![0; sb.block_size as usize];
        self.read_bytes(block * sb.block_size, &mut bytes)?;
        Ok(bytes)
    }

    /// Offset in bytes of an inode.
    fn inode_offset(&self, number: InodeNumber) -> Result<u64, ExtError> {
        let sb = self.superblock();
        let wrong = ExtError::Damaged("an inode number");
        let Some(index) = number.0.checked_sub(1).filter(|index| *index < sb.inodes) else {
            return Err(wrong);
        };
        let table = self.inode_table(index / sb.inodes_per_group).ok_or(wrong)?;
        let within = u64::from(index % sb.inodes_per_group) * sb.inode_size;
        Ok(table * sb.block_size + within)
    }

    /// An inode as stored in the table, if its checksum is right.
    fn raw_inode(&self, number: InodeNumber) -> Result<Vec<u8>, ExtError> {
        let mut raw = vec![0; self.superblock().inode_size as usize];
        let offset = self.inode_offset(number)?;
        self.read_bytes(offset, &mut raw)?;
        if is_intact(self.superblock(), number, &raw) {
            Ok(raw)
        } else {
            Err(ExtError::DamagedAt {
                what: "an inode",
                offset,
            })
        }
    }
}
