//! The commands that change one medium in place, and look into it: its table, its file systems, its
//! files.

mod check;
mod events;
mod files;
mod format;
mod table;

pub use check::{CheckedEvent, run as check};
pub use events::{CheckEvent, ExpectedEvent, FileEvent, ListEvent, ReadEvent};
pub use files::{ChangeEvent, run as files};
pub use format::{FormatEvent, run as format};
pub use table::{MoveEvent, RenewEvent, TableEvent, run as table};
