//! The jobs of Pinewrit: inspecting, writing, copying and verifying media.
//!
//! Jobs are plain functions: they take their options as a struct, an [`Observer`] for events and
//! a [`Cancel`] token, and return a report that can be serialised. Nothing in here prints, asks,
//! reads the environment or knows a terminal.
//!
//! A write is planned and carried out:
//!
//! ```
//! use pinewrit_core::write::{
//!     Destination, Start, Surroundings, WritePlan, WriteRequest, carry_out,
//! };
//! use pinewrit_core::{Cancel, Silent};
//! use pinewrit_host::{Permits, Readers, SystemRoots};
//! use pinewrit_image::ImageSource;
//!
//! let folder = tempfile::tempdir()?;
//! let (image, card) = (folder.path().join("os.img"), folder.path().join("card.img"));
//! std::fs::write(&image, vec![0xff; 2 << 20])?;
//!
//! let readers = Readers::Computer(SystemRoots::default());
//! let target = readers.open_target(&card, Some(8 << 20), &Permits::default())?;
//! let destination = Destination {
//!     name: "card.img".to_owned(),
//!     key: card.display().to_string(),
//!     path: card.clone(),
//!     facts: None,
//!     target,
//!     partition: None,
//!     whole: None,
//!     present: None,
//!     note: None,
//! };
//! let request = WriteRequest { as_it_is: true, ..WriteRequest::new("example", || 0) };
//! let mut plan = WritePlan::new(ImageSource::open(&image)?, vec![destination], request)?;
//! plan.rehearse()?;
//!
//! let surroundings = Surroundings { store: None, readers: &readers };
//! let (start, cancel) = (Start::default(), Cancel::default());
//! let done = carry_out(&mut plan, &start, surroundings, &[&Silent], &cancel).ok();
//! let first = done.and_then(|media| media.into_iter().next()).ok_or("one medium")?;
//! assert!(first.result?.report.verified);
//! assert_eq!(std::fs::read(&card)?[..4], [0xff; 4]);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod check;
pub mod copy;
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
