//! Whether a board starts from a medium: what kinds of boards need, and the chain from the firmware
//! to the first program.
//!
//! ```
//! use pinewrit_boards::chain::Verdict;
//! use pinewrit_boards::{Board, Extent, judge};
//! use pinewrit_disk::MemoryDevice;
//!
//! let board = Board::parse(
//!     "name = \"Brindle B2\"\narchitecture = \"arm64\"\n[[way]]\nscheme = \"mbr\"\nloader = \"uefi\"\n",
//! )?;
//! let empty = MemoryDevice::new(32 << 20);
//! let readiness = judge(&board, &empty, Extent::Medium(32 << 20))?;
//! assert_eq!(readiness.verdict, Verdict::DoesNotStart);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod board;
pub mod chain;
pub mod judge;
mod learn;

pub use board::{Board, BoardError};
pub use judge::{Extent, Found, Judged, JudgedWay, Met, Need, Readiness, judge};
pub use learn::learn;
