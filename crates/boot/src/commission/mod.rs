//! A running board, compared with what was put on its medium.

mod network;
mod points;
mod probe;
mod seen;
mod system;

pub use points::{Met, Point, Topic, Wanted, compare};
pub use probe::{FIRST_LINE, WAIT, questions, script};
pub(crate) use seen::MOST;
pub use seen::Seen;
