//! The jobs of Pinewrit: inspecting, writing, verifying and configuring media.
//!
//! Jobs are plain functions: they take their options as a struct, an [`Observer`] for events and
//! a [`Cancel`] token, and return a report that can be serialised. Nothing in here prints, asks,
//! reads the environment or knows a terminal.

pub mod build;
pub mod configure;
pub mod estimate;
pub mod expect;
pub mod extents;
pub mod files;
pub mod filesystem;
pub mod format;
pub mod grow;
pub mod inspect;
pub mod intake;
pub mod partitions;
pub mod receipt;
pub mod renew;
pub mod settings;
pub mod state;
pub mod unfinished;
pub mod verify;
pub mod write;

mod bootmode;
mod diff;
mod events;
mod pipeline;
mod system;

pub use bootmode::{BiosBoot, BootModes, UefiLoader};
pub use diff::text_diff;
pub use events::{Cancel, Observer, Progress, Silent, Stage};
pub use system::{KernelFacts, SystemFacts};
