//! Changing the partition table of a medium: shown before, committed as one.

use pinewrit_disk::{
    BlockDevice, ByteRange, CommitError, DiskError, OVERLAY_BLOCK, Overlay, UndoLog, Window,
};
use pinewrit_table::{TableEdit, TableError};

use crate::inspect::{Inspection, inspect};
use pinewrit_volume::grow::FilesystemGrowth;
use pinewrit_volume::{FilesystemKind, probe};

/// A change that is ready to go on the medium.
pub struct TableChange<'a> {
    overlay: Overlay<&'a dyn BlockDevice>,
    /// What is on the medium.
    pub before: Inspection,
    /// What will be.
    pub after: Inspection,
}

impl<'a> TableChange<'a> {
    pub(crate) fn new(
        overlay: Overlay<&'a dyn BlockDevice>,
        before: Inspection,
        after: Inspection,
    ) -> Self {
        Self {
            overlay,
            before,
            after,
        }
    }
}

/// A file system that would lose its end.
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

/// Works out a change of a table, without making it. `change` gets the device.
///
/// # Errors
/// [`TableError`].
pub fn prepare<'a>(
    medium: &'a dyn BlockDevice,
    change: impl FnOnce(&dyn BlockDevice) -> Result<TableEdit, TableError>,
) -> Result<TableChange<'a>, TableError> {
    let size = medium.size();
    let before = inspect(medium, Some(size))?;
    let table = change(medium)?;
    let overlay = Overlay::new(medium);
    table.write(&overlay)?;
    let after = inspect(&overlay, Some(size))?;
    Ok(TableChange {
        overlay,
        before,
        after,
    })
}

/// Works out what takes a table and every mark of file systems, arrays and tables at both ends
/// away, and puts an empty table there.
///
/// # Errors
/// [`TableError`].
pub fn prepare_wipe<'a>(
    medium: &'a dyn BlockDevice,
    empty: &TableEdit,
) -> Result<TableChange<'a>, TableError> {
    let size = medium.size();
    let before = inspect(medium, Some(size))?;
    let overlay = Overlay::new(medium);
    let end = 1 << 20;
    let mut places = vec![(0, size.min(end)), (size.saturating_sub(end), size)];
    // What begins a partition would be found again by a table in the same places.
    for partition in &before.partitions {
        let start = partition.start.min(size);
        places.push((start, start.saturating_add(end).min(size)));
    }
    for (start, end) in places {
        overlay.zero(ByteRange { start, end })?;
    }
    empty.write(&overlay)?;
    let after = inspect(&overlay, Some(size))?;
    Ok(TableChange {
        overlay,
        before,
        after,
    })
}

impl TableChange<'_> {
    /// Lets the file system of a partition take all of the partition, as part of the change. `None` where
    /// there is none.
    ///
    /// # Errors
    /// The medium could not be read.
    pub fn grow_filesystem(&mut self, number: u32) -> Result<Option<FilesystemGrowth>, DiskError> {
        let mut partitions = self.after.partitions.iter();
        let range = partitions
            .find(|one| one.number == number)
            .map(|one| one.range());
        let Some(range) = range else {
            return Ok(None);
        };
        let grown = pinewrit_volume::grow::grow_filesystem(&Window::new(&self.overlay, range))?;
        self.after = inspect(&self.overlay, Some(self.overlay.size()))?;
        Ok(grown)
    }

    /// Whether the medium has this table already.
    ///
    /// # Errors
    /// The medium could not be read.
    pub fn is_nothing(&self) -> Result<bool, DiskError> {
        Ok(self.overlay.changed()?.is_empty())
    }

    /// File systems that reach past the end of their partition after the change, and did not before.
    ///
    /// # Errors
    /// The medium could not be read.
    pub fn cut_filesystems(&self) -> Result<Vec<CutFilesystem>, DiskError> {
        let mut cut = Vec::new();
        for partition in &self.after.partitions {
            let old = self
                .before
                .partitions
                .iter()
                .find(|p| p.start == partition.start);
            if old.is_none_or(|old| old.size <= partition.size) {
                continue;
            }
            let window = Window::new(&self.overlay, partition.range());
            // Recognised by what it had before, because some are not when they are cut.
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

    /// Puts the change on the medium, the first sector last.
    ///
    /// # Errors
    /// [`CommitError`] says whether the medium is as it was.
    pub fn commit(&self, undo: Option<&UndoLog>) -> Result<(), CommitError> {
        let first = ByteRange {
            start: 0,
            end: OVERLAY_BLOCK as u64,
        };
        self.overlay.commit(&[first], undo).map(drop)
    }
}
