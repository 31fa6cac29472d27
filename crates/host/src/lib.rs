//! The computer's media: what a path leads to, whether it may be written, and opening it.
//!
//! The rules for writing are in one place, [`Verdict`]; the facts come from `/sys` and `/proc`.
//! The roots of those trees are parameters ([`SystemRoots`]), so that the rules can be tested on
//! recorded trees.
//!
//! A new card file is opened, written, and gets its name:
//!
//! ```
//! use pinewrit_disk::BlockDevice;
//! use pinewrit_host::{Permits, Readers, SystemRoots};
//!
//! let folder = tempfile::tempdir()?;
//! let card = folder.path().join("card.img");
//! let readers = Readers::Computer(SystemRoots::default());
//! let target = readers.open_target(&card, Some(8 << 20), &Permits::default())?;
//! let mut medium = target.into_medium()?;
//! medium.device.write_at(0, b"larkfell")?;
//! medium.device.flush()?;
//! medium.settle()?;
//! assert_eq!(std::fs::metadata(&card)?.len(), 8 << 20);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod card;
mod changes;
mod eject;
mod elsewhere;
mod error;
mod footing;
mod identity;
mod medium;
mod mounts;
mod rack;
mod readers;
mod rescan;
mod signs;
mod survey;
mod sysfs;
mod tag;
mod unmount;
mod verdict;

pub use card::{CardMode, SdClasses};
pub use changes::Changes;
pub use eject::{EjectError, Power, Removal};
pub use error::MediumError;
pub use footing::Footing;
pub use identity::{Bus, Identity, usb_carries};
pub use medium::{Medium, MediumKind, Permits, Target, logical_sector};
pub use mounts::Mount;
pub use rack::{BoardFault, CardPlace, Rack, RackBoard, RackError};
pub use readers::Readers;
pub use rescan::{Rescan, rescan_partitions};
pub use survey::{MediumFacts, Place};
pub use sysfs::{BlockName, SystemRoots};
pub use tag::Tag;
pub use unmount::{Process, UnmountError};
pub use verdict::{Doubt, Hold, Verdict};
