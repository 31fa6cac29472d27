//! What is inside a partition, one face for all file systems: what kind it is, its files, which
//! bytes are in use, how it is made, grown and started from.
//!
//! Nothing is mounted. Everything reads and changes a [`BlockDevice`](pinewrit_disk::BlockDevice):
//! a medium, an image, or an overlay over one.

pub mod bootmode;
pub mod check;
pub mod expect;
pub mod extents;
pub mod files;
pub mod format;
pub mod grow;
pub mod system;

mod diff;
mod gather;
mod kind;
mod nearest;
mod probe;

pub use bootmode::{BiosBoot, BootModes, UefiLoader};
pub use diff::text_diff;
pub use gather::{Gathered, Site};
pub use kind::FilesystemKind;
pub use nearest::nearest;
pub use pinewrit_ext4::Timestamp;
pub use probe::{FilesystemFacts, clean_label, printable, probe};
pub use system::{KernelFacts, SystemFacts};
