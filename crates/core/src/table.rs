//! Changing the partition table of a medium: shown before, committed as one.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_table::{TableEdit, TableError};
use pinewrit_volume::grow::FilesystemGrowth;
use pinewrit_volume::{FilesystemKind, Gathered, Timestamp, probe};

use crate::inspect::{Inspection, inspect};

/// The effect of a table change on a medium.
#[derive(Clone, Debug)]
pub struct TableReport {
    /// The current table.
    pub before: Inspection,
    /// The future table.
    pub after: Inspection,
}

/// A worked-out change of a table.
pub type TableChange<'m> = Gathered<'m, TableReport>;

/// A file system that would be cut off.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CutFilesystem {
    /// The partition's number.
    pub partition: u32,
    /// Its kind.
    pub kind: FilesystemKind,
    /// Bytes that it needs.
    pub needed: u64,
    /// Bytes that the partition would have.
    pub size: u64,
}

/// Works out a change of a table, without committing it. `change` gets the device.
///
/// # Errors
/// [`TableError`].
pub fn prepare<'m>(
    medium: &'m dyn BlockDevice,
    change: impl FnOnce(&dyn BlockDevice) -> Result<TableEdit, TableError>,
) -> Result<TableChange<'m>, TableError> {
    gather(medium, |device, _| change(device)?.write(device))
}

/// Works out the removal of a table and of every mark of file systems, arrays and tables at both
/// ends, and puts an empty table there.
///
/// # Errors
/// [`TableError`].
pub fn prepare_wipe<'m>(
    medium: &'m dyn BlockDevice,
    empty: &TableEdit,
) -> Result<TableChange<'m>, TableError> {
    let (size, end) = (medium.size(), 1 << 20);
    gather(medium, |device, before| {
        let mut places = vec![(0, size.min(end)), (size.saturating_sub(end), size)];
        // Otherwise a new table with the same places would find the old content again.
        for partition in &before.partitions {
            let start = partition.start.min(size);
            places.push((start, start.saturating_add(end).min(size)));
        }
        for (start, end) in places {
            device.zero(ByteRange { start, end })?;
        }
        empty.write(device)
    })
}

fn gather<'m>(
    medium: &'m dyn BlockDevice,
    change: impl FnOnce(&dyn BlockDevice, &Inspection) -> Result<(), TableError>,
) -> Result<TableChange<'m>, TableError> {
    let size = medium.size();
    let before = inspect(medium, Some(size))?;
    Gathered::whole(medium, |device| {
        change(device, &before)?;
        let after = inspect(device, Some(size))?;
        Ok(TableReport { before, after })
    })
}

/// Grows the file system of a partition to the partition's size, as part of the change. `None` if
/// there is none.
///
/// # Errors
/// The medium could not be read.
pub fn grow_filesystem(
    change: &mut TableChange<'_>,
    number: u32,
    now: Timestamp,
) -> Result<Option<FilesystemGrowth>, DiskError> {
    let (device, report) = change.parts();
    let mut partitions = report.after.partitions.iter();
    let range = partitions
        .find(|one| one.number == number)
        .map(|one| one.range());
    let Some(range) = range else {
        return Ok(None);
    };
    let grown = pinewrit_volume::grow::grow_filesystem(&Window::new(device, range), now)?;
    report.after = inspect(device, Some(device.size()))?;
    Ok(grown)
}

/// File systems that the change would cut off.
///
/// # Errors
/// The medium could not be read.
pub fn cut_filesystems(change: &TableChange<'_>) -> Result<Vec<CutFilesystem>, DiskError> {
    let report = change.report();
    let mut cut = Vec::new();
    for partition in &report.after.partitions {
        let old = report
            .before
            .partitions
            .iter()
            .find(|p| p.start == partition.start);
        if old.is_none_or(|old| old.size <= partition.size) {
            continue;
        }
        let window = Window::new(change.device(), partition.range());
        // Recognised from its former range, because some are not when they are cut.
        let facts = match probe(&window)? {
            Some(facts) => Some(facts),
            None => old.and_then(|old| old.filesystem.clone()),
        };
        let needed = facts.as_ref().and_then(|facts| facts.size).unwrap_or(0);
        if let Some(facts) = facts.filter(|_| needed > partition.size) {
            cut.push(CutFilesystem {
                partition: partition.number,
                kind: facts.kind,
                needed,
                size: partition.size,
            });
        }
    }
    Ok(cut)
}
