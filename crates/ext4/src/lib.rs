//! ext2, ext3 and ext4, without mounting: read, check, make, change, grow.
//!
//! Layout: the kernel's ext4 documentation ("Data Structures and Algorithms"). All integers are
//! little-endian. Nothing on a medium is trusted: every number is checked before it is used.
//!
//! A file system is created, gets a file, and is checked:
//!
//! ```
//! use pinewrit_disk::MemoryDevice;
//! use pinewrit_ext4::{Attributes, MakeOptions, Timestamp, Volume, Zeros};
//!
//! let device = MemoryDevice::new(16 << 20);
//! let now = Timestamp::at(1_767_225_600);
//! let options = MakeOptions {
//!     label: "root".to_owned(),
//!     uuid: [7; 16],
//!     hash_seed: [8; 16],
//!     block_size: None,
//!     inodes: None,
//!     has_checksums: true,
//!     has_journal: true,
//!     now,
//! };
//! let mut editor = pinewrit_ext4::make(&device, &options)?;
//! editor.make_folder(b"/etc", &Attributes::root(0o755, now))?;
//! let name = &mut &b"larkfell-03\n"[..];
//! let rights = Attributes::root(0o644, now);
//! editor.write_file(b"/etc/hostname", &rights, 12, name, Zeros::Written)?;
//! editor.commit()?;
//!
//! pinewrit_ext4::check(&device)?;
//! let volume = Volume::open(&device)?;
//! let tree = volume.tree();
//! let file = tree.find(b"/etc/hostname")?;
//! assert_eq!(tree.metadata(file)?.size, 12);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod backups;
mod check;
mod edit;
mod facts;
mod grow;
mod identity;
mod make;
mod settle;
mod tree;
mod volume;

pub use check::{CheckError, check};
pub use edit::{Attributes, EditError, Editor, NodeKind, Shrinkage, SizeError, Zeros};
pub use facts::{ExtFacts, Generation};
pub use grow::Growth;
pub use make::{MakeOptions, make};
pub use pinewrit_ext4_journal::JournalError;
pub use pinewrit_ext4_layout::{
    Compatible, Entry, ExtError, FileKind, GroupDescriptor, Incompatible, InodeNumber,
    ReadOnlyCompatible, Superblock, SuperblockError, Timestamp, Xattr,
};
pub use settle::{Mark, Settled, is_unsettled, mark_clean, set_errors, settle};
pub use tree::{Content, Metadata, Tree};
pub use volume::{Owner, Volume};
