//! What lies where in ext2, ext3 and ext4: superblocks, group descriptors, inodes and their maps,
//! directories and their indexes, extended attributes, checksums. Each is read from bytes and put
//! into bytes; where the bytes come from and when they are written is not decided here.
//!
//! Layout: the kernel's ext4 documentation ("Data Structures and Algorithms"). All integers are
//! little-endian. No number is trusted: what is read is checked before it is used.
//!
//! A name is looked for in a block of a directory, here one of 64 bytes with a single entry:
//!
//! ```
//! use pinewrit_ext4_layout::InodeNumber;
//! use pinewrit_ext4_layout::directory::{entry_len, find_name, slots};
//!
//! let mut block = [0; 64];
//! block[0] = 12; // the inode
//! block[4] = 64; // up to the block's end
//! block[6..12].copy_from_slice(b"\x04\x01wind"); // length and kind, then the name
//! assert_eq!(find_name(&block, b"wind"), Some(InodeNumber(12)));
//! assert_eq!(find_name(&block, b"snow"), None);
//! let first = slots(&block).next().ok_or("no entry")?;
//! assert_eq!((first.length, first.needs()), (64, entry_len(4)));
//! # Ok::<(), Box<dyn std::error::Error>>(())
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
mod time;
pub mod xattr;

pub use blocks::{ExtError, Source};
pub use directory::Entry;
pub use features::{Compatible, Incompatible, ReadOnlyCompatible};
pub use group::GroupDescriptor;
pub use inode::{FileKind, InodeNumber, Timestamp};
pub use superblock::{Superblock, SuperblockError};
pub use xattr::Xattr;
