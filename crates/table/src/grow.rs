//! Growing the last partition to the end of a medium.

use pinewrit_disk::{BlockDevice, ByteRange};

use crate::{PartitionSize, SchemeKind, TableEdit, TableError};

/// What was grown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grown {
    /// The partition's number.
    pub number: u32,
    /// Where it was, in bytes.
    pub before: ByteRange,
    /// Where it ends now, in bytes.
    pub end: u64,
}

/// Grows the last partition to the end of `device`, with the extended one around it if it is a
/// logical one, and moves a GPT's backup there. A partition that already ends there stays as it is.
///
/// # Errors
/// [`TableError`]; nothing was written then, unless the device failed.
pub fn grow_last(device: &dyn BlockDevice) -> Result<Grown, TableError> {
    let mut table = TableEdit::read(device)?;
    let sector = device.logical_sector().bytes();
    let last = table.partitions().last().ok_or(TableError::NoTable)?;
    let number = last.number;
    let before = ByteRange {
        start: last.first.0 * sector,
        end: (last.first.0 + last.sectors) * sector,
    };
    table.stretch_extended();
    table.resize(number, PartitionSize::Rest)?;
    let grown = table.partitions().last().ok_or(TableError::NoTable)?;
    let end = (grown.first.0 + grown.sectors) * sector;
    // A GPT's backup moves in any case.
    if end > before.end || table.scheme() == SchemeKind::Gpt {
        table.write(device)?;
    }
    Ok(Grown {
        number,
        before,
        end,
    })
}
