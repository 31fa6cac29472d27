//! ext2, ext3 and ext4, read without mounting: superblock, group descriptors, bitmaps, and which
//! file a block belongs to.
//!
//! Layout: the kernel's ext4 documentation ("Data Structures and Algorithms"). All integers are
//! little-endian. Nothing on a medium is trusted: every number is checked before it is used.

mod blocks;
mod bytes;
mod check;
mod checksum;
mod directory;
mod edit;
mod facts;
mod features;
mod fields;
mod group;
mod grow;
mod htree;
mod identity;
mod inode;
mod make;
mod superblock;
mod tree;
mod volume;
mod xattr;

pub use blocks::ExtError;
pub use check::{CheckError, check};
pub use directory::Entry;
pub use edit::{Attributes, EditError, Editor, NodeKind, SizeError, Zeros};
pub use facts::{ExtFacts, Generation};
pub use features::{Compatible, Incompatible, ReadOnlyCompatible};
pub use group::GroupDescriptor;
pub use grow::Growth;
pub use inode::{FileKind, InodeNumber, Timestamp};
pub use make::{MakeOptions, make};
pub use superblock::{Superblock, SuperblockError};
pub use tree::{Content, Metadata, Tree};
pub use volume::{Owner, Volume};
pub use xattr::Xattr;
