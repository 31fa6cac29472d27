//! Whether a medium is what it says: its real size and its real speed.
//!
//! ```text
//! keepsake ◀── what is there ── medium ◀── marks, each of which says where it belongs
//!     └────────────── put back ────▲ └──▶ read past every cache: lost, elsewhere, or right
//! ```
//! What is overwritten is kept in a file before, and put back at the end, or by [`recover`] when
//! the measurement was cut off.

mod capacity;
mod estimate;
mod full;
mod keepsake;
mod marks;
mod places;
mod rating;
mod sold;
mod speed;
mod verdict;

use std::io;
use std::path::PathBuf;

use keepsake::PIECE;
use pinewrit_core::{Cancel, Progress};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError};
use places::SMALLEST;

pub use capacity::{CapacityReport, capacity, capacity_cost};
pub use estimate::{Link, Part, TimeEstimate};
pub use full::{FullNote, full};
pub use keepsake::{Recovery, recover};
pub use marks::Session;
pub use rating::{Asked, Rating, RatingError, Shortfall, judge};
pub use sold::{SOLD, Sold, fitting};
pub use speed::{Anywhere, Latency, Pace, Piece, SpeedReport, SpeedWish, speed, speed_cost};
pub use verdict::{BadPlaces, Beyond, Capacity};

/// Why a medium could not be measured.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MeasureError {
    /// The medium failed as a whole.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// What was on the medium could not be kept, so it was not touched; or not be read again.
    #[error("{} failed", path.display())]
    Keepsake {
        /// The file with what was on the medium.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// It is too small to be measured.
    #[error("it has {size} bytes, and measuring needs {least}")]
    TooSmall {
        /// Its size in bytes.
        size: u64,
        /// The smallest size in bytes.
        least: u64,
    },
    /// It was not plugged in again, or another one was.
    #[error("{0}")]
    NotBack(String),
    /// It was cancelled.
    #[error("cancelled")]
    Cancelled,
}

/// A medium that is measured.
pub type Held<'d> = Box<dyn BlockDevice + 'd>;

/// What became of a medium whose power was to be cut.
pub enum Repower<'d> {
    /// Nobody cuts it.
    Kept(Held<'d>),
    /// It was without power, and is back.
    Back(Held<'d>),
}

/// Who cuts a medium's power.
pub trait Power {
    /// Cuts it and gives it back.
    ///
    /// # Errors
    /// The medium did not come back.
    fn cut<'d>(&self, device: Held<'d>) -> Result<Repower<'d>, MeasureError>;
}

/// Nobody does.
pub struct Uncut;

impl Power for Uncut {
    fn cut<'d>(&self, device: Held<'d>) -> Result<Repower<'d>, MeasureError> {
        Ok(Repower::Kept(device))
    }
}

/// What has been done, for whoever watches.
fn told(done: u64, total: u64) -> Progress {
    Progress {
        done,
        total: Some(total),
        source_done: 0,
        source_total: 0,
        waiting_seconds: 0.0,
    }
}

/// The size of a medium that is large enough to be measured, in bytes.
fn size_of(device: &dyn BlockDevice) -> Result<u64, MeasureError> {
    match device.size() {
        size if size < SMALLEST => Err(MeasureError::TooSmall {
            size,
            least: SMALLEST,
        }),
        size => Ok(size),
    }
}

/// The pieces in which a range is transferred, with their lengths in bytes.
fn pieces(range: ByteRange) -> impl Iterator<Item = (u64, usize)> {
    let starts = (range.start..range.end).step_by(PIECE);
    starts.map(move |start| (start, (range.end - start).min(PIECE as u64) as usize))
}

fn go_on(cancel: &Cancel) -> Result<(), MeasureError> {
    match cancel.is_cancelled() {
        true => Err(MeasureError::Cancelled),
        false => Ok(()),
    }
}
