//! Copying media that cannot be read any more in every place.
//!
//! What was read is kept in a sparse file with a map beside it, so that a rescue can be interrupted, go on
//! with another reader, and take what another rescue has read. The medium appears as a device that
//! never fails: what cannot be read is zeros, and metadata comes from its copies where formats have some.

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
