//! The computer's media: what a path leads to, whether it may be written, and opening it.
//!
//! The rules for writing are in one place, [`Verdict`]; the facts come from `/sys` and `/proc`.
//! The roots of those trees are parameters ([`SystemRoots`]), so that the rules can be tested on
//! recorded trees.

mod error;
mod medium;
mod mounts;
mod rescan;
mod sysfs;
mod verdict;

pub use error::MediumError;
pub use medium::{Medium, MediumKind, Target, logical_sector};
pub use mounts::Mount;
pub use rescan::{Rescan, rescan_partitions};
pub use sysfs::{BlockName, SystemRoots};
pub use verdict::{Hold, Verdict};
