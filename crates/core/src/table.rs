//! Changing the partition table of a medium: shown before, committed as one.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, FreeWrites, Window};
use pinewrit_table::{PartitionSize, TableEdit, TableError};
use pinewrit_volume::check::fault;
use pinewrit_volume::files::filesystems;
use pinewrit_volume::resize::{ResizeError, ResizeReport, resize, size_limits};
use pinewrit_volume::{
    ErrorFlags, FilesystemKind, Gathered, HiddenFlags, Timestamp, probe, recover,
};

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

/// Why a partition cannot have another size together with its file system.
#[derive(Debug, thiserror::Error)]
pub enum ResizePartitionError {
    /// The table cannot be changed.
    #[error(transparent)]
    Table(#[from] TableError),
    /// The file system cannot have this size.
    #[error(transparent)]
    Filesystem(#[from] ResizeError),
    /// The file system is damaged, or was not left clean.
    #[error("{0}")]
    Unsound(String),
}

impl From<DiskError> for ResizePartitionError {
    fn from(error: DiskError) -> Self {
        Self::Table(error.into())
    }
}

/// Works out another size of a partition together with its file system; what has to move goes to
/// unused space as `free` says.
///
/// # Errors
/// [`ResizePartitionError`].
pub fn prepare_resize<'m>(
    medium: &'m dyn BlockDevice,
    (number, size): (u32, PartitionSize),
    (free, flags): (FreeWrites, ErrorFlags),
    now: Timestamp,
) -> Result<(TableChange<'m>, ResizeReport), ResizePartitionError> {
    let whole = medium.size();
    let before = inspect(medium, Some(whole))?;
    let mut done = None;
    let mut recovered = Vec::new();
    let change = Gathered::whole_with(medium, free, |device| {
        let hidden = HiddenFlags::of(device, flags)?;
        let mut table = TableEdit::read(device)?;
        let old = range_of(&table, device, number)?;
        table.resize(number, size)?;
        let new = range_of(&table, device, number)?;
        let must_be_sound = |range: ByteRange| match fault(&Window::new(device, range))? {
            None => Ok(()),
            Some(why) => Err(ResizePartitionError::Unsound(why)),
        };
        for one in filesystems(device)?.iter().filter(|one| one.range == old) {
            let finished = recover(device, one, now).map_err(ResizeError::from)?;
            recovered.extend(finished);
        }
        must_be_sound(old)?;
        if new.len() < old.len() {
            let window = Window::new(device, old);
            let limits = size_limits(&window)?;
            let size = new.len().min(limits.now);
            done = Some(resize(&window, size, now)?);
            table.write(device)?;
        } else {
            table.write(device)?;
            let window = Window::new(device, new);
            let limits = size_limits(&window)?;
            done = Some(resize(&window, new.len().min(limits.most), now)?);
        }
        must_be_sound(new)?;
        hidden.give_back(device)?;
        let after = inspect(device, Some(whole))?;
        Ok::<_, ResizePartitionError>(TableReport { before, after })
    })?;
    let missing = || ResizePartitionError::Filesystem(ResizeError::Kind(None));
    let change = change.with_recovered(recovered);
    Ok((change, done.ok_or_else(missing)?))
}

fn range_of(
    table: &TableEdit,
    device: &dyn BlockDevice,
    number: u32,
) -> Result<ByteRange, TableError> {
    let sector = device.logical_sector().bytes();
    let mut slots = table.partitions().iter();
    let slot = slots.find(|slot| slot.number == number);
    let slot = slot.ok_or(TableError::NoPartition(number))?;
    Ok(ByteRange {
        start: slot.first.0 * sector,
        end: (slot.first.0 + slot.sectors) * sector,
    })
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
