//! The jobs of Pinewrit: inspecting, writing, verifying and building media.
//!
//! Jobs are plain functions: they take their options as a struct, an [`Observer`] for events and
//! a [`Cancel`] token, and return a report that can be serialised. Nothing in here prints, asks,
//! reads the environment or knows a terminal.

pub mod build;
pub mod estimate;
pub mod inspect;
pub mod receipt;
pub mod renew;
pub mod state;
pub mod table;
pub mod unfinished;
pub mod verify;
pub mod write;

mod events;
mod patience;
mod pipeline;

pub use events::{Cancel, Observer, Progress, Silent, Stage};
