//! Growing the last partition of a written image to the end of its medium.

use pinewrit_disk::{BlockDevice, Window};
pub use pinewrit_table::GrowError;
use serde::Serialize;

use crate::filesystem;

/// What was grown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct GrowReport {
    /// The partition's number.
    pub partition: u32,
    /// Its size before, in bytes.
    pub before: u64,
    /// Its size now, in bytes.
    pub size: u64,
    /// The file system in it, which keeps its size until the system itself grows it.
    pub filesystem: Option<&'static str>,
}

/// Grows the last partition on `device` to its end.
///
/// # Errors
/// [`GrowError`]; nothing was changed unless the device failed.
pub fn grow(device: &dyn BlockDevice) -> Result<GrowReport, GrowError> {
    let grown = pinewrit_table::grow_last(device)?;
    let range = grown.partition.range;
    let filesystem = filesystem::probe(&Window::new(device, range))?;
    Ok(GrowReport {
        partition: grown.partition.number,
        before: range.len(),
        size: grown.end - range.start,
        filesystem: filesystem.map(|found| found.kind),
    })
}
