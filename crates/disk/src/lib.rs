//! Block devices as plain values: the lowest floor of Pinewrit.
//!
//! Everything above reads and writes media through [`BlockDevice`]. A device is a flat array of
//! bytes; all offsets and lengths are in bytes, counted from the start of the device, unless a
//! type says otherwise ([`Lba`]).
//!
//! ```
//! use pinewrit_disk::{BlockDevice, MemoryDevice, Overlay};
//!
//! let medium = MemoryDevice::new(1 << 20);
//! let overlay = Overlay::new(&medium);
//! overlay.write_at(512, b"not yet on the medium")?;
//! assert_eq!(overlay.changed()?.len(), 1);
//! drop(overlay); // nothing was written
//! # Ok::<(), pinewrit_disk::DiskError>(())
//! ```

pub mod bits;
mod buffer;
pub mod bytes;
mod causes;
mod device;
mod faults;
mod file;
mod forgetful;
mod memory;
mod overlay;
mod padded;
mod ranges;
mod read_cache;
mod size_text;
mod sought;
mod spans;
mod undo;
mod units;
mod window;

pub use buffer::{AlignedBuf, BUFFER_ALIGNMENT};
pub use causes::error_chain;
pub use device::{BlockDevice, DiskError, Operation, is_zero};
pub use faults::{Fault, FaultyDevice};
pub use file::{CacheUse, FileDevice, open_plain};
pub use forgetful::Forgetful;
pub use memory::MemoryDevice;
pub use overlay::{CommitError, CommitReport, FreeWrites, OVERLAY_BLOCK, Overlay};
pub use padded::Padded;
pub use ranges::{Ranges, rounded_out, runs_of_ones};
pub use read_cache::ReadCache;
pub use size_text::parse_size;
pub use sought::Sought;
pub use spans::Spans;
pub use undo::{CommitState, UndoError, UndoLog};
pub use units::{ByteRange, CHUNK_SIZE, Lba, SectorSize};
pub use window::{Section, Window};
