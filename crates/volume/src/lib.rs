//! What is inside a partition, with one interface for all file systems: its kind, its files, which
//! bytes are in use, how it is created, grown and booted from.
//!
//! Nothing is mounted. Everything reads and changes a [`BlockDevice`](pinewrit_disk::BlockDevice):
//! a medium, an image, or an overlay over one.
//!
//! A partition is formatted, and a folder of it listed:
//!
//! ```
//! use pinewrit_disk::{ByteRange, MemoryDevice, Window};
//! use pinewrit_volume::files::{Rights, open_to_change, open_to_read};
//! use pinewrit_volume::format::{FormatKind, FormatOptions, format};
//! use pinewrit_volume::{Timestamp, probe};
//!
//! let medium = MemoryDevice::new(32 << 20);
//! let range = ByteRange { start: 1 << 20, end: 32 << 20 };
//! let partition = Window::new(&medium, range);
//! let now = Timestamp::at(1_767_225_600);
//! format(&partition, &FormatOptions::new(FormatKind::Ext4, "root", [3; 32], now))?;
//! assert!(probe(&partition)?.is_some_and(|facts| facts.kind.is_ext()));
//!
//! let mut files = open_to_change(&partition, now)?;
//! files.make_folders("/etc", Rights::root(0o755))?;
//! files.put("/etc/hostname", Rights::root(0o644), b"larkfell-03\n")?;
//! files.close()?;
//! let names = open_to_read(&partition)?.names("/etc")?;
//! assert_eq!(names, Some(vec!["hostname".to_owned()]));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod bootmode;
pub mod check;
pub mod expect;
pub mod extents;
pub mod files;
pub mod format;
pub mod grow;
pub mod resize;
pub mod system;

mod architecture;
mod diff;
mod flags;
mod gather;
mod kind;
mod nearest;
mod probe;
mod recover;

pub use architecture::Architecture;
pub use bootmode::{BiosBoot, BootModes, UefiLoader};
pub use diff::text_diff;
pub use flags::{ErrorFlags, HiddenFlags};
pub use gather::{Gathered, Site};
pub use kind::FilesystemKind;
pub use nearest::nearest;
pub use pinewrit_ext4::Timestamp;
pub use probe::{FilesystemFacts, clean_label, printable, probe};
pub use recover::{Recovered, recover, recover_all};
pub use system::{KernelFacts, SystemFacts};
