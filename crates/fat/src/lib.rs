//! FAT12, FAT16 and FAT32, without mounting: read, check, make, change.
//!
//! Layout: Microsoft Extensible Firmware Initiative FAT32 File System Specification 1.03. All
//! integers are little-endian. Nothing on a medium is trusted: every number is checked before it is
//! used.
//!
//! ```text
//! boot sector · (FAT32: counts, copy of the boot sector) · allocation table · its copies ·
//! (FAT12, FAT16: root directory) · clusters, the first of them number 2
//! ```
//!
//! A FAT is created, gets a file, and is checked and listed:
//!
//! ```
//! use pinewrit_disk::MemoryDevice;
//! use pinewrit_fat::{Editor, MakeKind, MakeOptions, MakePlan, Placement, Stamp};
//!
//! let size = 8 << 20;
//! let device = MemoryDevice::new(size);
//! let options = MakeOptions {
//!     label: "BOOT".to_owned(),
//!     id: [0x5e, 0xed, 0x00, 0x01],
//!     start: 0,
//!     made: Stamp::default(),
//! };
//! MakePlan::of(MakeKind::BySize, size as u64, 512, None)?.make(&device, &options)?;
//!
//! let mut editor = Editor::open(&device)?;
//! let now = 1_767_225_600;
//! editor.write_file("/boot.conf", 6, &mut &b"hut=3\n"[..], now, Placement::Usual)?;
//! editor.commit()?;
//!
//! pinewrit_fat::check(&device)?;
//! let tree = editor.tree();
//! assert_eq!(tree.list(&tree.root())?[0].name, "boot.conf");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod check;
mod directory;
mod edit;
mod error;
mod facts;
mod folder;
mod geometry;
mod make;
mod name;
mod owner;
mod store;
mod table;
mod time;
mod tree;
mod usage;

pub use check::{CheckError, check};
pub use edit::{EditError, Editor, FatSettled, Placement, Resized, settle};
pub use error::FatError;
pub use facts::FatFacts;
pub use geometry::{FatWidth, Geometry};
pub use make::{MakeError, MakeKind, MakeOptions, MakePlan, check_label};
pub use name::{NameError, check_name, check_path, folded};
pub use owner::{Owner, owners};
pub use time::Stamp;
pub use tree::{Node, Tree, Volume};
pub use usage::{TableRead, Usage, UsageDoubt};
