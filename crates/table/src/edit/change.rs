//! Single changes of a table.

use std::ops::Range;

use pinewrit_disk::Lba;

use super::{
    ALIGNMENT, Extended, Ids, MAX_NAME, SchemeKind, Slot, TableEdit, TableError, random_guid,
};
use crate::PartitionType;

/// Extended partition, addressed by sector numbers.
const EXTENDED: u8 = 0x0f;
/// A limit above what any system creates.
const MAX_LOGICAL: u32 = 124;

/// How large a partition should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartitionSize {
    /// This many bytes, rounded up to whole sectors.
    Bytes(u64),
    /// The whole gap that it is put in.
    Rest,
}

/// A partition to be added.
#[derive(Clone, Debug)]
pub struct NewPartition {
    /// What it is for.
    pub kind: PartitionType,
    /// Its size.
    pub size: PartitionSize,
    /// Its first byte; the first gap that is large enough if `None`.
    pub start: Option<u64>,
    /// Alignment of its start in bytes, unless the start is given.
    pub alignment: u64,
    /// Its name, for a GPT.
    pub name: String,
    /// Whether it lies in the extended partition of an MBR.
    pub is_logical: bool,
}

impl NewPartition {
    /// One of the usual alignment, without a name.
    pub fn new(kind: PartitionType, size: PartitionSize) -> Self {
        Self {
            kind,
            size,
            start: None,
            alignment: ALIGNMENT,
            name: String::new(),
            is_logical: false,
        }
    }
}

impl TableEdit {
    /// Adds a partition and returns its number.
    ///
    /// # Errors
    /// [`TableError`]; nothing is changed then.
    pub fn add(&mut self, new: &NewPartition, ids: Ids<'_>) -> Result<u32, TableError> {
        self.check_kind(new.kind)?;
        self.check_name(&new.name)?;
        if new.is_logical {
            return self.add_logical(new);
        }
        let number = self.free_number()?;
        let gaps = match self.extended {
            Some(_) => self.outer_gaps(),
            None => self.gaps(),
        };
        let place = self.place(gaps, new, 0)?;
        let guid = match self.scheme {
            SchemeKind::Mbr => uuid::Uuid::nil(),
            SchemeKind::Gpt => random_guid(ids()),
        };
        self.slots.push(Slot {
            number,
            kind: new.kind,
            first: Lba(place.start),
            sectors: place.end - place.start,
            active: false,
            name: new.name.clone(),
            guid,
            attributes: 0,
        });
        self.sort();
        Ok(number)
    }

    fn outer_gaps(&self) -> Vec<Range<u64>> {
        let inner = self.logical_gaps();
        let mut gaps = self.gaps();
        gaps.retain(|gap| !inner.contains(gap));
        gaps
    }

    fn check_kind(&self, kind: PartitionType) -> Result<(), TableError> {
        let is_right = match kind {
            PartitionType::Mbr(code) => {
                self.scheme == SchemeKind::Mbr && code != 0 && !kind.is_extended()
            }
            PartitionType::Gpt(guid) => self.scheme == SchemeKind::Gpt && !guid.is_nil(),
        };
        if is_right {
            Ok(())
        } else {
            Err(TableError::WrongKind(kind.to_string()))
        }
    }

    fn check_name(&self, name: &str) -> Result<(), TableError> {
        let found = name.encode_utf16().count();
        if found > MAX_NAME {
            let most = MAX_NAME;
            return Err(TableError::Name { found, most });
        }
        match self.scheme {
            SchemeKind::Mbr if found > 0 => Err(TableError::NotInScheme {
                scheme: "MBR",
                what: "names of partitions",
            }),
            _ => Ok(()),
        }
    }

    fn free_number(&self) -> Result<u32, TableError> {
        let entries = match self.scheme {
            SchemeKind::Mbr => 4,
            SchemeKind::Gpt => self.entry_count,
        };
        let extended = self.extended.map(|extended| extended.number);
        let is_used = |number: &u32| {
            Some(*number) == extended || self.slots.iter().any(|slot| slot.number == *number)
        };
        let free = (1..=entries).find(|number| !is_used(number));
        free.ok_or(TableError::Full {
            scheme: self.scheme.word(),
            entries,
        })
    }

    /// Finds a place; `before` are sectors that must be free in front of it.
    fn place(
        &self,
        gaps: Vec<Range<u64>>,
        new: &NewPartition,
        before: u64,
    ) -> Result<Range<u64>, TableError> {
        let sector = self.sector.bytes();
        let wanted = match new.size {
            PartitionSize::Bytes(bytes) => Some(bytes.div_ceil(sector).max(1)),
            PartitionSize::Rest => None,
        };
        if let Some(start) = new.start {
            return self.place_at(&gaps, start, wanted, before);
        }
        let step = (new.alignment / sector).max(1);
        let aligned = |gap: &Range<u64>| {
            let start = (gap.start + before).next_multiple_of(step);
            // The end is aligned like the start, if there is room.
            let end = match gap.end - gap.end % step {
                end if end > start => end,
                _ => gap.end,
            };
            start..end.max(start)
        };
        let all: Vec<Range<u64>> = gaps.iter().map(aligned).collect();
        let room = |gap: &Range<u64>| gap.end - gap.start;
        let found = match wanted {
            Some(sectors) => all
                .iter()
                .zip(&gaps)
                .find(|(place, gap)| gap.end.saturating_sub(place.start) >= sectors)
                .map(|(place, _)| place.start..place.start + sectors),
            None => all.iter().max_by_key(|gap| room(gap)).cloned(),
        };
        let largest = all.iter().map(room).max().unwrap_or(0);
        found
            .filter(|place| room(place) > 0)
            .ok_or(TableError::NoRoom {
                needed: wanted.unwrap_or(0) * sector,
                largest: largest * sector,
            })
    }

    fn place_at(
        &self,
        gaps: &[Range<u64>],
        start: u64,
        wanted: Option<u64>,
        before: u64,
    ) -> Result<Range<u64>, TableError> {
        let sector = self.sector.bytes();
        if !start.is_multiple_of(sector) {
            return Err(TableError::Misaligned { start, sector });
        }
        let first = start / sector;
        let around = gaps
            .iter()
            .find(|gap| gap.start + before <= first && first < gap.end);
        let end = around.map(|gap| wanted.map_or(gap.end, |wanted| first.saturating_add(wanted)));
        match (around, end) {
            (Some(gap), Some(end)) if end <= gap.end => Ok(first..end),
            _ => Err(TableError::Taken {
                start,
                end: wanted.map_or(start, |wanted| {
                    start.saturating_add(wanted.saturating_mul(sector))
                }),
            }),
        }
    }

    fn add_logical(&mut self, new: &NewPartition) -> Result<u32, TableError> {
        if self.scheme == SchemeKind::Gpt {
            return Err(TableError::NotInScheme {
                scheme: "GPT",
                what: "logical partitions",
            });
        }
        let count = self.slots.iter().filter(|slot| slot.is_logical()).count() as u32;
        if count >= MAX_LOGICAL {
            let entries = MAX_LOGICAL;
            return Err(TableError::Full {
                scheme: "MBR",
                entries,
            });
        }
        let mut trial = self.clone();
        if trial.extended.is_none() {
            trial.add_extended()?;
        }
        // Its own boot record stands before it.
        let place = trial.place(trial.logical_gaps(), new, 1)?;
        trial.slots.push(Slot {
            number: u32::MAX,
            kind: new.kind,
            first: Lba(place.start),
            sectors: place.end - place.start,
            active: false,
            name: String::new(),
            guid: uuid::Uuid::nil(),
            attributes: 0,
        });
        trial.sort();
        trial.number_logical();
        let own = trial.slots.iter().find(|slot| slot.first.0 == place.start);
        let number = own.map_or(0, |slot| slot.number);
        *self = trial;
        Ok(number)
    }

    /// Logical partitions are numbered in their order.
    fn number_logical(&mut self) {
        let logical = self.slots.iter_mut().filter(|slot| slot.is_logical());
        for (number, slot) in (5..).zip(logical) {
            slot.number = number;
        }
    }

    fn add_extended(&mut self) -> Result<(), TableError> {
        let number = self.free_number()?;
        let new = NewPartition::new(PartitionType::Mbr(EXTENDED), PartitionSize::Rest);
        let place = self.place(self.gaps(), &new, 0)?;
        self.extended = Some(Extended {
            number,
            kind: EXTENDED,
            first: place.start,
            sectors: place.end - place.start,
        });
        Ok(())
    }

    /// Removes a partition; the extended one is removed with its last logical one. Later logical
    /// partitions are renumbered.
    ///
    /// # Errors
    /// [`TableError::NoPartition`].
    pub fn remove(&mut self, number: u32) -> Result<(), TableError> {
        let removed = self.slot(number)?.clone();
        self.slots.retain(|slot| slot.number != number);
        if removed.is_logical() {
            self.number_logical();
            if !self.slots.iter().any(Slot::is_logical) {
                self.extended = None;
            }
        }
        Ok(())
    }

    /// Gives a partition another end.
    ///
    /// # Errors
    /// [`TableError::NoRoom`] where the next partition begins before; nothing is changed then.
    pub fn resize(&mut self, number: u32, size: PartitionSize) -> Result<(), TableError> {
        let slot = self.slot(number)?.clone();
        let gaps = match slot.is_logical() {
            true => self.logical_gaps(),
            false if self.extended.is_some() => self.outer_gaps(),
            false => self.gaps(),
        };
        let behind = gaps.iter().find(|gap| gap.start == slot.end());
        let limit = behind.map_or(slot.end(), |gap| gap.end);
        let sector = self.sector.bytes();
        let step = (ALIGNMENT / sector).max(1);
        let end = match size {
            PartitionSize::Rest => (limit - limit % step).max(slot.end()),
            PartitionSize::Bytes(bytes) => {
                slot.first.0.saturating_add(bytes.div_ceil(sector).max(1))
            }
        };
        if end > limit {
            return Err(TableError::NoRoom {
                needed: (end - slot.first.0).saturating_mul(sector),
                largest: (limit - slot.first.0) * sector,
            });
        }
        self.slot(number)?.sectors = end - slot.first.0;
        Ok(())
    }

    /// Gives a partition another start, in bytes; it keeps its length. What is in it stays where it is.
    ///
    /// # Errors
    /// [`TableError::Taken`], [`TableError::Misaligned`], [`TableError::Logical`]; nothing is changed then.
    pub fn relocate(&mut self, number: u32, start: u64) -> Result<(), TableError> {
        let slot = self.slot(number)?.clone();
        let mut trial = self.clone();
        trial.slots.retain(|other| other.number != number);
        let moved = Slot {
            first: Lba(start / self.sector.bytes()),
            ..slot
        };
        if !start.is_multiple_of(self.sector.bytes()) {
            let sector = self.sector.bytes();
            return Err(TableError::Misaligned { start, sector });
        }
        trial.put_back(moved)?;
        *self = trial;
        Ok(())
    }

    /// Puts in a partition as it is.
    ///
    /// # Errors
    /// [`TableError::Taken`], [`TableError::Logical`], [`TableError::WrongKind`]; nothing is changed then.
    pub fn put_back(&mut self, slot: Slot) -> Result<(), TableError> {
        if slot.is_logical() {
            return Err(TableError::Logical(slot.number));
        }
        self.check_kind(slot.kind)?;
        let gaps = match self.extended {
            Some(_) => self.outer_gaps(),
            None => self.gaps(),
        };
        let end = slot.first.0.saturating_add(slot.sectors);
        let is_free = |gap: &Range<u64>| gap.start <= slot.first.0 && end <= gap.end;
        let is_taken = self.slots.iter().any(|other| other.number == slot.number);
        if is_taken || !gaps.iter().any(is_free) {
            let sector = self.sector.bytes();
            return Err(TableError::Taken {
                start: slot.first.0.saturating_mul(sector),
                end: end.saturating_mul(sector),
            });
        }
        self.slots.push(slot);
        self.sort();
        Ok(())
    }

    /// Lets the extended partition take the gap behind it.
    pub(crate) fn stretch_extended(&mut self) {
        let gaps = self.outer_gaps();
        let step = (ALIGNMENT / self.sector.bytes()).max(1);
        if let Some(extended) = &mut self.extended {
            let end = extended.first + extended.sectors;
            if let Some(gap) = gaps.iter().find(|gap| gap.start == end) {
                extended.sectors = (gap.end - gap.end % step).max(end) - extended.first;
            }
        }
    }

    /// Changes a partition's type.
    ///
    /// # Errors
    /// [`TableError::WrongKind`] where the type is not for this scheme.
    pub fn set_kind(&mut self, number: u32, kind: PartitionType) -> Result<(), TableError> {
        self.check_kind(kind)?;
        self.slot(number)?.kind = kind;
        Ok(())
    }

    /// Gives a partition another name.
    ///
    /// # Errors
    /// [`TableError::Name`], or [`TableError::NotInScheme`] for an MBR.
    pub fn set_name(&mut self, number: u32, name: &str) -> Result<(), TableError> {
        self.check_name(name)?;
        if self.scheme == SchemeKind::Mbr {
            let (scheme, what) = ("MBR", "names of partitions");
            return Err(TableError::NotInScheme { scheme, what });
        }
        self.slot(number)?.name = name.to_owned();
        Ok(())
    }

    /// Marks one partition as active for a BIOS, and no other. `None` clears the mark.
    ///
    /// # Errors
    /// [`TableError::NoPartition`].
    pub fn activate(&mut self, number: Option<u32>) -> Result<(), TableError> {
        if let Some(number) = number {
            self.slot(number)?;
        }
        for slot in &mut self.slots {
            slot.active = Some(slot.number) == number;
        }
        Ok(())
    }
}
