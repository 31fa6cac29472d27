//! ext2, ext3 and ext4, read without mounting: superblock, group descriptors, bitmaps, and which
//! file a block belongs to.
//!
//! Layout: the kernel's ext4 documentation ("Data Structures and Algorithms"). All integers are
//! little-endian. Nothing on a medium is trusted: every number is checked before it is used.

mod blocks;
mod bytes;
mod checksum;
mod directory;
mod features;
mod group;
mod inode;
mod superblock;
mod volume;

pub use blocks::VolumeError;
pub use features::{Compatible, Incompatible, ReadOnlyCompatible};
pub use group::GroupDescriptor;
pub use superblock::{Superblock, SuperblockError};
pub use volume::{Owner, Volume};
