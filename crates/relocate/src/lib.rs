//! Moving a partition with its content, to either side, also by less than its length.
//!
//! Content moves in rounds, each of which is flushed and read back. A note in a file, and on the medium
//! where there is room, says how far it is, so that it can go on after a cut at any moment. While old and
//! new place share bytes, the partition is in no table: nobody mounts half of it.
//!
//! ```
//! use pinewrit_core::{Cancel, Silent};
//! use pinewrit_disk::{BlockDevice, MemoryDevice, SectorSize, UndoLog};
//! use pinewrit_relocate::Move;
//! use pinewrit_table::{NewPartition, PartitionSize, PartitionType, SchemeKind, TableEdit};
//!
//! let medium = MemoryDevice::new(16 << 20);
//! let mut ids = || [7; 16];
//! let mut table = TableEdit::create(16 << 20, SectorSize::B512, SchemeKind::Mbr, &mut ids)?;
//! let new = NewPartition::new(PartitionType::Mbr(0x83), PartitionSize::Bytes(4 << 20));
//! table.add(&new, &mut ids)?;
//! table.write(&medium)?;
//! medium.write_at(3 << 20, b"larkfell")?;
//!
//! let folder = tempfile::tempdir()?;
//! let (note, undo) = (folder.path().join("note"), UndoLog::new(folder.path().join("undo")));
//! let work = Move::prepare(&medium, &note, (1, 2 << 20))?;
//! work.carry_out(&undo, &Silent, &Cancel::default())?;
//! let mut moved = [0; 8];
//! medium.read_at(4 << 20, &mut moved)?;
//! assert_eq!(&moved, b"larkfell");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod error;
mod note;
mod rounds;

use std::path::Path;

use pinewrit_core::{Cancel, Observer};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Lba, UndoLog, Window};
use pinewrit_fat::Geometry;
use pinewrit_table::{Slot, TableEdit, TableError};
use pinewrit_volume::Gathered;
use pinewrit_volume::extents::MapTracker;
use schemars::JsonSchema;
use serde::Serialize;

pub use error::MoveError;
use note::{Desk, NOTES, Note};
use rounds::{LARGEST, Mover, SHORTEST};

/// Old content from here on that could be taken for a file system, in bytes.
const REMAINS: u64 = 128 << 10;

/// What a move is about.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MovePlan {
    /// The partition's number.
    pub partition: u32,
    /// Its first byte now.
    pub from: u64,
    /// Its first byte afterwards.
    pub to: u64,
    /// Its length in bytes.
    pub len: u64,
    /// Bytes of it that are in use.
    pub used_bytes: u64,
    /// Whether old and new place share bytes.
    pub overlaps: bool,
    /// Whether it was interrupted before, and how many bytes are done.
    pub resumed: bool,
}

/// A move that can be carried out.
pub struct Move<'m> {
    desk: Desk<'m>,
    note: Note,
    plan: MovePlan,
}

/// The partition that an interrupted move of this medium is about, and where it goes, in bytes.
///
/// # Errors
/// The medium could not be read.
pub fn interrupted(medium: &dyn BlockDevice, file: &Path) -> Result<Option<(u32, u64)>, DiskError> {
    let found = Desk { medium, file }.find()?;
    let found = found.filter(|found| found.is_noted && !is_in_place(medium, &found.note));
    Ok(found.map(|found| (found.note.slot.number, found.note.to)))
}

impl<'m> Move<'m> {
    /// Works out a move of a partition to a first byte, or goes on with the one that was interrupted. `file`
    /// is where the note is kept.
    ///
    /// # Errors
    /// [`MoveError`]; nothing is changed.
    pub fn prepare(
        medium: &'m dyn BlockDevice,
        file: &'m Path,
        (partition, to): (u32, u64),
    ) -> Result<Self, MoveError> {
        let desk = Desk { medium, file };
        let found = desk.find()?;
        let is_wanted = |note: &Note| (note.slot.number, note.to) == (partition, to);
        // An earlier one that is done has nothing to say.
        let found = found.filter(|found| {
            if is_in_place(medium, &found.note) {
                is_wanted(&found.note)
            } else {
                found.is_noted
            }
        });
        let is_resumed = found.is_some();
        let note = match found.map(|found| found.note) {
            Some(note) if is_wanted(&note) => note,
            Some(note) => {
                return Err(MoveError::Interrupted {
                    partition: note.slot.number,
                    to: note.to,
                });
            }
            None => fresh(&desk, partition, to)?,
        };
        if note.needs_spare && is_resumed && !file.exists() {
            return Err(MoveError::Elsewhere);
        }
        if !is_resumed && desk.spare().exists() {
            return Err(MoveError::InTheWay(file.to_owned()));
        }
        let used = note.used.as_ref();
        let used_bytes = used.map_or(note.len, |used| {
            used.iter().map(|one| one[1] - one[0]).sum()
        });
        let plan = MovePlan {
            partition,
            from: note.from,
            to,
            len: note.len,
            used_bytes,
            overlaps: note.overlaps(),
            resumed: is_resumed,
        };
        Ok(Self { desk, note, plan })
    }

    /// What it is about.
    pub fn plan(&self) -> &MovePlan {
        &self.plan
    }

    /// Moves the partition.
    ///
    /// # Errors
    /// [`MoveError`]. The same call goes on where it stopped.
    pub fn carry_out(
        self,
        undo: &UndoLog,
        observer: &dyn Observer,
        cancel: &Cancel,
    ) -> Result<MovePlan, MoveError> {
        let Self {
            desk,
            mut note,
            plan,
        } = self;
        let medium = desk.medium;
        if plan.resumed && is_in_place(medium, &note) {
            desk.clear();
            return Ok(plan);
        }
        if !plan.resumed {
            let taken = [note.old(), note.new_range()];
            let others = partitions(medium)?;
            note.place = desk.place(&[&taken[..], &others].concat())?;
            desk.keep(&mut note)?;
        }
        if note.overlaps() {
            take_out(medium, &note, undo)?;
        }
        let mut mover = Mover {
            desk,
            note,
            observer,
            cancel,
        };
        mover.run()?;
        let Mover { desk, note, .. } = mover;
        put_in(medium, &note, undo)?;
        desk.clear();
        Ok(plan)
    }
}

/// A move that has not begun.
fn fresh(desk: &Desk<'_>, partition: u32, to: u64) -> Result<Note, MoveError> {
    let medium = desk.medium;
    let mut table = TableEdit::read(medium)?;
    let sector = medium.logical_sector().bytes();
    let slot = slot_of(&table, partition)?;
    let start = slot.first.0 * sector;
    let old = ByteRange {
        start,
        end: start + slot.sectors * sector,
    };
    if to == start {
        return Err(MoveError::InPlace(partition));
    }
    table.relocate(partition, to)?;
    // What cannot be written in the end must not be begun.
    Gathered::whole(medium, |device| table.write(device))?;
    let mut note = Note::new(&slot, medium.size(), old, to);
    let distance = old.start.abs_diff(to);
    note.needs_spare = note.overlaps() && distance < SHORTEST;
    note.round = match distance {
        distance if note.overlaps() && !note.needs_spare => distance.min(LARGEST),
        _ => LARGEST,
    };
    let window = Window::new(medium, old);
    let tracker = MapTracker::new(Some(old.len()), medium.logical_sector());
    let used = tracker.ahead(&window);
    note.used = used.map(|used| used.iter().map(|one| [one.start, one.end]).collect());
    Ok(note)
}

fn slot_of(table: &TableEdit, number: u32) -> Result<Slot, TableError> {
    let mut all = table.partitions().iter();
    let found = all.find(|slot| slot.number == number);
    found.cloned().ok_or(TableError::NoPartition(number))
}

fn partitions(medium: &dyn BlockDevice) -> Result<Vec<ByteRange>, MoveError> {
    let sector = medium.logical_sector().bytes();
    let table = TableEdit::read(medium)?;
    let ranges = table.partitions().iter().map(|slot| ByteRange {
        start: slot.first.0 * sector,
        end: (slot.first.0 + slot.sectors) * sector,
    });
    Ok(ranges.collect())
}

/// Whether all of a move was done, and only its note is left.
fn is_in_place(medium: &dyn BlockDevice, note: &Note) -> bool {
    let wanted = slot(note, medium.logical_sector().bytes()).ok();
    let table = TableEdit::read(medium).ok();
    let is_there = |table: TableEdit| wanted.is_some_and(|slot| table.partitions().contains(&slot));
    note.done == note.rounds() && table.is_some_and(is_there)
}

/// Takes the entry of the partition out of the table, if it is still there.
fn take_out(medium: &dyn BlockDevice, note: &Note, undo: &UndoLog) -> Result<(), MoveError> {
    let sector = medium.logical_sector().bytes();
    let mut table = TableEdit::read(medium)?;
    let is_there =
        |slot: &Slot| slot.number == note.slot.number && slot.first.0 * sector == note.from;
    if note.done > 0 || !table.partitions().iter().any(is_there) {
        return Ok(());
    }
    table.remove(note.slot.number)?;
    let change = Gathered::whole(medium, |device| table.write(device))?;
    change.commit(Some(undo))?;
    Ok(())
}

/// Puts the entry in with its new place, and removes what the move left behind.
fn put_in(medium: &dyn BlockDevice, note: &Note, undo: &UndoLog) -> Result<(), MoveError> {
    let sector = medium.logical_sector().bytes();
    let (old, new) = (note.old(), note.new_range());
    let change = Gathered::whole(medium, |device| {
        let mut table = TableEdit::read(device)?;
        if table
            .partitions()
            .iter()
            .any(|slot| slot.number == note.slot.number)
        {
            table.relocate(note.slot.number, note.to)?;
        } else {
            table.put_back(slot(note, sector)?)?;
        }
        table.write(device)?;
        Geometry::set_hidden(
            &Window::new(device, new),
            (old.start / sector, new.start / sector),
        )?;
        if let Some(place) = note.place {
            device.write_at(place, &[0; NOTES as usize])?;
        }
        // The old start would be found as a file system that is not there any more.
        let end = old.end.min(old.start + REMAINS);
        let end = if new.start > old.start {
            end.min(new.start)
        } else {
            end
        };
        let start = if new.contains(old.start) {
            new.end.min(end)
        } else {
            old.start
        };
        device.write_at(start, &vec![0; (end - start) as usize])?;
        Ok::<_, TableError>(())
    })?;
    change.commit(Some(undo))?;
    Ok(())
}

fn slot(note: &Note, sector: u64) -> Result<Slot, TableError> {
    let kind = note.slot.kind();
    let kind = kind.ok_or_else(|| TableError::WrongKind("in the note".to_owned()))?;
    let (active, name, guid, attributes) = note.slot.entry();
    Ok(Slot {
        number: note.slot.number,
        kind,
        first: Lba(note.to / sector),
        sectors: note.len / sector,
        active,
        name,
        guid,
        attributes,
    })
}
