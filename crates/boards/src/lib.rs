//! Whether a board starts from a medium: what kinds of boards need, and the chain from the firmware
//! to the first program.

pub mod board;
pub mod chain;
pub mod judge;
mod learn;

pub use board::{Board, BoardError};
pub use judge::{Extent, Found, Judged, JudgedWay, Met, Need, Readiness, judge};
pub use learn::learn;
