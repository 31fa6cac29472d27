//! What lies where in ext2, ext3 and ext4: superblocks, group descriptors, inodes and their maps,
//! directories and their indexes, extended attributes, checksums. Each is read from bytes and put
//! into bytes; where the bytes come from and when they are written is not decided here.
//!
//! Layout: the kernel's ext4 documentation ("Data Structures and Algorithms"). All integers are
//! little-endian. No number is trusted: what is read is checked before it is used.
//!
//! The superblock of a medium:
//!
//! ```
//! use pinewrit_ext4_layout::{Superblock, SuperblockError};
//!
//! let erased = [0xff; 1024];
//! assert!(matches!(Superblock::parse(&erased), Err(SuperblockError::NotExt)));
//! ```

pub mod blocks;
pub mod checksum;
pub mod directory;
pub mod features;
pub mod fields;
pub mod group;
pub mod htree;
pub mod inode;
pub mod superblock;
pub mod xattr;

pub use blocks::{ExtError, Source};
pub use directory::Entry;
pub use features::{Compatible, Incompatible, ReadOnlyCompatible};
pub use group::GroupDescriptor;
pub use inode::{FileKind, InodeNumber, Timestamp};
pub use superblock::{Superblock, SuperblockError};
pub use xattr::Xattr;
