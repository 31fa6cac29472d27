//! Copying media: what a copy is made of, and saving it as an image.

mod fills;
mod save;
mod scratch;
mod sink;
mod view;

pub use save::{SaveError, SaveRequest, Saved, SavedPiece, save};
pub use view::{CopyView, Shrunk, Spare, ViewError, ViewRequest, ViewSize};
