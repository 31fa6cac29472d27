//! Copying media that cannot be read any more in every place.
//!
//! What was read is kept in a sparse file with a map beside it, so that a rescue can be interrupted, go on
//! with another reader, and take what another rescue has read. The medium appears as a device that
//! never fails: what cannot be read is zeros, and metadata comes from its copies where formats have some.
//!
//! A sector of a medium is bad; all others are read:
//!
//! ```
//! use std::sync::Arc;
//! use std::time::Duration;
//!
//! use pinewrit_core::Silent;
//! use pinewrit_disk::{BlockDevice, ByteRange, Fault, FaultyDevice, MemoryDevice};
//! use pinewrit_rescue::{Limits, Means, Rescue};
//!
//! let bad = ByteRange { start: 5120, end: 5632 };
//! let medium = MemoryDevice::from_bytes(vec![7; 1 << 20]);
//! let medium = FaultyDevice::new(medium, vec![Fault::ReadError(bad)]);
//!
//! let folder = tempfile::tempdir()?;
//! let kept = folder.path().join("card.rescue");
//! let rescue = Rescue::open(Arc::new(medium), &kept, "a card", Means::default())?;
//! let whole = ByteRange { start: 0, end: 1 << 20 };
//! let limits = Limits { pass: Duration::from_secs(60) };
//! rescue.gather(&[whole], &limits, &Silent)?;
//! assert_eq!(rescue.unread(&[whole]), [bad]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod device;
mod kept;
mod map;
mod mend;
mod passes;
mod view;

pub use device::{Means, Reopen, Rescue, Watcher};
pub use kept::{KeptError, map_path};
pub use mend::{Mended, MendedPart};
pub use passes::{Limits, RescueError};
pub use view::{Hit, HitKind, RescueReport, RescueViewError, rescued_view};
