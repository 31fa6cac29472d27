//! Changing a partition table: read whole, changed in memory, written whole.

mod change;
mod convert;
mod write;

use std::ops::Range;

use pinewrit_disk::{BlockDevice, DiskError, Lba, SectorSize};
use uuid::Uuid;

use crate::gpt::{self, GptEntry, ReadError};
use crate::{MBR_SIZE, Mbr, MbrEntry, PartitionTable, PartitionType, Problem, Scheme, chain};
pub use change::{NewPartition, PartitionSize};

/// Partitions begin at multiples of this many bytes, which suits the erase blocks of flash.
pub const ALIGNMENT: u64 = 1 << 20;
/// Bytes that the entries of a new GPT take: 128 of 128 bytes.
const ENTRIES_BYTES: u64 = 128 * 128;
/// Characters in a partition's name, in UTF-16 units (UEFI specification 2.10, table 5.6).
pub const MAX_NAME: usize = 36;

/// The two kinds of tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SchemeKind {
    /// Master boot record.
    Mbr,
    /// GUID partition table.
    Gpt,
}

impl SchemeKind {
    /// The kind with its article: `an MBR`, `a GPT`.
    pub fn with_article(self) -> &'static str {
        match self {
            Self::Mbr => "an MBR",
            Self::Gpt => "a GPT",
        }
    }

    /// The usual abbreviation.
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
        }
    }
}

/// Why a table was not changed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TableError {
    /// There is no table.
    #[error("there is no partition table")]
    NoTable,
    /// The table has errors that a change would make worse.
    #[error("the partition table has problems: {}", listed(.0))]
    Problems(Vec<Problem>),
    /// There is no partition with this number.
    #[error("there is no partition {0}")]
    NoPartition(u32),
    /// All entries are used.
    #[error("all {entries} entries of the {scheme} are used")]
    Full {
        /// `MBR` or `GPT`.
        scheme: &'static str,
        /// How many there are.
        entries: u32,
    },
    /// No gap is large enough.
    #[error("no room for {needed} bytes; the largest gap has {largest}")]
    NoRoom {
        /// Bytes that are needed, or 0 for any.
        needed: u64,
        /// Bytes in the largest gap, after alignment.
        largest: u64,
    },
    /// A place is already used, or outside the area for partitions.
    #[error("bytes {start} to {end} are not free for a partition")]
    Taken {
        /// First byte.
        start: u64,
        /// One past the last byte.
        end: u64,
    },
    /// A start is not a multiple of the sector size.
    #[error("byte {start} is not a multiple of the sector size, {sector}")]
    Misaligned {
        /// The byte.
        start: u64,
        /// Bytes in a sector.
        sector: u64,
    },
    /// Beyond what 32 bits can count.
    #[error("an MBR cannot reach beyond {limit} bytes")]
    BeyondMbr {
        /// The limit in bytes.
        limit: u64,
    },
    /// A type is of the other scheme.
    #[error("the type {0} is not for this kind of table")]
    WrongKind(String),
    /// A name is too long.
    #[error("the name has {found} characters; at most {most} are possible")]
    Name {
        /// UTF-16 units in it.
        found: usize,
        /// UTF-16 units that are possible.
        most: usize,
    },
    /// Only the other kind of table has this.
    #[error("{scheme} tables have no {what}")]
    NotInScheme {
        /// `MBR` or `GPT`.
        scheme: &'static str,
        /// What it does not have.
        what: &'static str,
    },
    /// A medium is too small for a table.
    #[error("the medium has {size} bytes, too few for a partition table")]
    TooSmall {
        /// Its size in bytes.
        size: u64,
    },
    /// A logical partition is bound to the record before it.
    #[error("partition {0} is a logical one, which cannot be moved")]
    Logical(u32),
    /// What prevents another kind of table.
    #[error("the table cannot be changed: {}", .0.join("; "))]
    InTheWay(Vec<String>),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

fn listed(problems: &[Problem]) -> String {
    let all: Vec<String> = problems.iter().map(ToString::to_string).collect();
    all.join("; ")
}

/// A partition of a table that is being changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// Its number as operating systems count.
    pub number: u32,
    /// What it is for.
    pub kind: PartitionType,
    /// First sector.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: u64,
    /// Active: a BIOS starts from it.
    pub active: bool,
    /// Its name; empty in an MBR.
    pub name: String,
    /// Its own GUID; nil in an MBR.
    pub guid: Uuid,
    /// Attributes of a GPT entry, without the one that `active` stands for.
    pub attributes: u64,
}

impl Slot {
    fn end(&self) -> u64 {
        self.first.0 + self.sectors
    }

    fn is_logical(&self) -> bool {
        matches!(self.kind, PartitionType::Mbr(_)) && self.number > 4
    }
}

/// The extended partition that holds the logical ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Extended {
    /// Its place among the four entries, from 1.
    number: u32,
    kind: u8,
    first: u64,
    sectors: u64,
}

/// A table in memory.
#[derive(Clone, Debug)]
pub struct TableEdit {
    scheme: SchemeKind,
    sector: SectorSize,
    /// Sectors of the medium.
    sectors: u64,
    signature: u32,
    disk_guid: Uuid,
    slots: Vec<Slot>,
    extended: Option<Extended>,
    /// The first sector as it was: its boot code stays.
    record: [u8; MBR_SIZE],
    /// Entries of a hybrid MBR beside the protective one.
    hybrid: Vec<(usize, MbrEntry)>,
    entry_count: u32,
    entry_size: u32,
    /// Where a GPT's backup header was.
    old_backup: Option<Lba>,
    /// There was a GPT, of which an MBR must leave nothing behind.
    had_gpt: bool,
}

/// Random numbers for new identifiers.
pub type Ids<'i> = &'i mut dyn FnMut() -> [u8; 16];

impl TableEdit {
    /// An empty table for a medium of `size` bytes, which is not read.
    ///
    /// # Errors
    /// [`TableError::TooSmall`].
    pub fn create(
        size: u64,
        sector: SectorSize,
        scheme: SchemeKind,
        ids: Ids<'_>,
    ) -> Result<Self, TableError> {
        let sectors = size / sector.bytes();
        let mut edit = Self {
            scheme,
            sector,
            sectors,
            signature: 0,
            disk_guid: Uuid::nil(),
            slots: Vec::new(),
            extended: None,
            record: [0; MBR_SIZE],
            hybrid: Vec::new(),
            entry_count: 128,
            entry_size: 128,
            old_backup: None,
            had_gpt: false,
        };
        edit.renew(ids);
        let usable = edit.usable();
        if usable.start < usable.end {
            Ok(edit)
        } else {
            Err(TableError::TooSmall { size })
        }
    }

    /// An empty table that replaces the old one of a medium: no remains of a GPT are left beside an
    /// MBR.
    ///
    /// # Errors
    /// [`TableError::TooSmall`], or that the device failed.
    pub fn replace(
        device: &dyn BlockDevice,
        scheme: SchemeKind,
        ids: Ids<'_>,
    ) -> Result<Self, TableError> {
        let sector = device.logical_sector();
        let mut edit = Self::create(device.size(), sector, scheme, ids)?;
        for at in [1, edit.sectors - 1] {
            let mut mark = [0; 8];
            device.read_at(at * sector.bytes(), &mut mark)?;
            edit.had_gpt |= mark == *b"EFI PART";
        }
        Ok(edit)
    }

    /// Reads the table of a medium. The backup of a GPT is used where the first copy is damaged.
    ///
    /// # Errors
    /// [`TableError::NoTable`], or [`TableError::Problems`] where it must not be changed.
    pub fn read(device: &dyn BlockDevice) -> Result<Self, TableError> {
        let table = PartitionTable::read(device)?.ok_or(TableError::NoTable)?;
        let may_stay = |problem: &Problem| {
            matches!(
                problem,
                Problem::BackupNotAtEnd { .. } | Problem::PrimaryDamaged(_)
            )
        };
        if !table.problems.iter().all(may_stay) {
            let problems = table.problems.into_iter().filter(|p| !may_stay(p));
            return Err(TableError::Problems(problems.collect()));
        }
        let mut record = [0; MBR_SIZE];
        device.read_at(0, &mut record)?;
        let mbr = Mbr::from_bytes(&record).ok_or(TableError::NoTable)?;
        let sector = device.logical_sector();
        let mut edit = Self {
            scheme: SchemeKind::Mbr,
            sector,
            sectors: device.size() / sector.bytes(),
            signature: mbr.signature,
            disk_guid: Uuid::nil(),
            slots: Vec::new(),
            extended: None,
            record,
            hybrid: Vec::new(),
            entry_count: 4,
            entry_size: 16,
            old_backup: None,
            had_gpt: false,
        };
        match table.scheme {
            Scheme::Mbr { .. } => edit.read_mbr(device, &mbr)?,
            Scheme::Gpt { .. } => edit.read_gpt(device, &mbr)?,
        }
        edit.sort();
        Ok(edit)
    }

    fn read_mbr(&mut self, device: &dyn BlockDevice, mbr: &Mbr) -> Result<(), TableError> {
        for (number, entry) in (1u32..).zip(mbr.entries) {
            let Some(entry) = entry else { continue };
            if !entry.partition_type().is_extended() {
                self.slots
                    .push(slot_of(number, u64::from(entry.first_lba), entry));
                continue;
            }
            if self.extended.is_some() {
                let what = "more than one extended partition".to_owned();
                return Err(TableError::InTheWay(vec![what]));
            }
            self.extended = Some(Extended {
                number,
                kind: entry.kind,
                first: u64::from(entry.first_lba),
                sectors: u64::from(entry.sectors),
            });
            let mut problems = Vec::new();
            let logical = chain::read_logical(device, entry, &mut problems)?;
            if !problems.is_empty() {
                return Err(TableError::Problems(problems));
            }
            for (number, logical) in (5u32..).zip(logical) {
                self.slots
                    .push(slot_of(number, logical.first_lba, logical.entry));
            }
        }
        Ok(())
    }

    fn read_gpt(&mut self, device: &dyn BlockDevice, mbr: &Mbr) -> Result<(), TableError> {
        let last = Lba(self.sectors.saturating_sub(1));
        let found = match gpt::read(device, Lba(1)) {
            Err(ReadError::Gpt(_)) => gpt::read(device, last),
            found => found,
        };
        let (header, entries) = found.map_err(|error| match error {
            ReadError::Gpt(error) => TableError::Problems(vec![Problem::GptLost(error)]),
            ReadError::Disk(error) => TableError::Disk(error),
        })?;
        self.scheme = SchemeKind::Gpt;
        self.had_gpt = true;
        self.disk_guid = header.disk_guid;
        (self.entry_count, self.entry_size) = header.entry_shape();
        let other = header.my_lba.max(header.alternate_lba);
        self.old_backup = Some(other);
        self.slots = entries.into_iter().map(slot_of_gpt).collect();
        let hybrid = (0..4).zip(mbr.entries);
        self.hybrid = hybrid
            .filter_map(|(index, entry)| Some((index, entry?)))
            .filter(|(_, entry)| entry.kind != 0xee)
            .collect();
        Ok(())
    }

    fn sort(&mut self) {
        self.slots.sort_by_key(|slot| slot.first);
    }

    /// MBR or GPT.
    pub fn scheme(&self) -> SchemeKind {
        self.scheme
    }

    /// The partitions in the order of the medium.
    pub fn partitions(&self) -> &[Slot] {
        &self.slots
    }

    /// The disk signature of an MBR.
    pub fn signature(&self) -> u32 {
        self.signature
    }

    /// The disk GUID of a GPT.
    pub fn disk_guid(&self) -> Uuid {
        self.disk_guid
    }

    /// The disk's identifier as it is written: the signature's eight digits, or the GUID.
    pub fn disk_id(&self) -> String {
        match self.scheme {
            SchemeKind::Mbr => format!("{:08x}", self.signature),
            SchemeKind::Gpt => self.disk_guid.to_string(),
        }
    }

    /// The `PARTUUID=` of a partition: its GUID, or the disk signature and its number (Linux,
    /// `Documentation/admin-guide/kernel-parameters`, `root=`).
    pub fn partuuid(&self, number: u32) -> String {
        let mut slots = self.slots.iter();
        let slot = slots.find(|slot| slot.number == number);
        match (self.scheme, slot) {
            (SchemeKind::Gpt, Some(slot)) => slot.guid.to_string(),
            _ => format!("{:08x}-{number:02x}", self.signature),
        }
    }

    /// The smallest medium in bytes that holds all partitions where they are.
    pub fn least_size(&self) -> u64 {
        let end = self.slots.iter().map(Slot::end).max().unwrap_or(0);
        let behind = match self.scheme {
            SchemeKind::Mbr => 0,
            SchemeKind::Gpt => 1 + self.entry_sectors(),
        };
        (end + behind) * self.sector.bytes()
    }

    /// Fits the table to a medium of `size` bytes: the extended partition ends with its last
    /// logical one where it would reach past the end.
    ///
    /// # Errors
    /// [`TableError::Taken`]: a partition reaches past the end; nothing is changed then.
    pub fn fit_to(&mut self, size: u64) -> Result<(), TableError> {
        let bytes = self.sector.bytes();
        if let Some(last) = self.slots.iter().max_by_key(|slot| slot.end())
            && self.least_size() > size
        {
            let (start, end) = (last.first.0 * bytes, last.end() * bytes);
            return Err(TableError::Taken { start, end });
        }
        self.sectors = size / bytes;
        let logical = self.slots.iter().filter(|slot| slot.is_logical());
        let last = logical.map(Slot::end).max();
        if let Some(extended) = &mut self.extended
            && extended.first + extended.sectors > self.sectors
        {
            let end = last.unwrap_or(extended.first + 1);
            extended.sectors = end - extended.first;
        }
        self.old_backup = self.old_backup.filter(|old| old.0 < self.sectors);
        Ok(())
    }

    /// Gives the medium, and in a GPT all partitions, new identifiers.
    pub fn renew(&mut self, ids: Ids<'_>) {
        match self.scheme {
            SchemeKind::Mbr => {
                let [a, b, c, d, ..] = ids();
                // 0 would mean that there is none.
                self.signature = u32::from_le_bytes([a, b, c, d]).max(1);
            }
            SchemeKind::Gpt => {
                self.disk_guid = random_guid(ids());
                for slot in &mut self.slots {
                    slot.guid = random_guid(ids());
                }
            }
        }
    }

    fn entry_sectors(&self) -> u64 {
        let bytes = match self.scheme {
            SchemeKind::Gpt => u64::from(self.entry_count) * u64::from(self.entry_size),
            SchemeKind::Mbr => ENTRIES_BYTES,
        };
        bytes.div_ceil(self.sector.bytes())
    }

    /// Sectors that partitions may use.
    pub fn usable(&self) -> Range<u64> {
        match self.scheme {
            // The rest of an MBR's last countable sectors is out of reach.
            SchemeKind::Mbr => 1..self.sectors.min(1 << 32),
            SchemeKind::Gpt => {
                let own = self.entry_sectors();
                2 + own..self.sectors.saturating_sub(own + 1)
            }
        }
    }

    /// Sectors that no partition uses, including those in the extended one.
    pub fn gaps(&self) -> Vec<Range<u64>> {
        let outer: Vec<Range<u64>> = match self.extended {
            None => self.ranges(|_| true),
            Some(extended) => {
                let own = extended.first..extended.first + extended.sectors;
                let mut all = self.ranges(|slot| !slot.is_logical());
                all.push(own);
                all
            }
        };
        let mut gaps = free_between(self.usable(), outer);
        gaps.extend(self.logical_gaps());
        gaps.sort_by_key(|gap| gap.start);
        gaps
    }

    fn ranges(&self, of: impl Fn(&Slot) -> bool) -> Vec<Range<u64>> {
        let chosen = self.slots.iter().filter(|slot| of(slot));
        chosen.map(|slot| slot.first.0..slot.end()).collect()
    }

    fn logical_gaps(&self) -> Vec<Range<u64>> {
        let Some(extended) = self.extended else {
            return Vec::new();
        };
        let inner = extended.first..extended.first + extended.sectors;
        free_between(inner, self.ranges(Slot::is_logical))
    }

    fn slot(&mut self, number: u32) -> Result<&mut Slot, TableError> {
        let found = self.slots.iter_mut().find(|slot| slot.number == number);
        found.ok_or(TableError::NoPartition(number))
    }
}

fn free_between(outer: Range<u64>, mut taken: Vec<Range<u64>>) -> Vec<Range<u64>> {
    taken.sort_by_key(|range| range.start);
    let mut free = Vec::new();
    let mut at = outer.start;
    for range in taken {
        if range.start > at {
            free.push(at..range.start.min(outer.end));
        }
        at = at.max(range.end);
    }
    if at < outer.end {
        free.push(at..outer.end);
    }
    free
}

fn slot_of(number: u32, first: u64, entry: MbrEntry) -> Slot {
    Slot {
        number,
        kind: entry.partition_type(),
        first: Lba(first),
        sectors: u64::from(entry.sectors),
        active: entry.active,
        name: String::new(),
        guid: Uuid::nil(),
        attributes: 0,
    }
}

fn slot_of_gpt(entry: GptEntry) -> Slot {
    let active = crate::table::LEGACY_BIOS_BOOTABLE;
    Slot {
        number: entry.number,
        kind: PartitionType::Gpt(entry.type_guid),
        first: entry.first,
        sectors: entry.last.0 - entry.first.0 + 1,
        active: entry.attributes & active != 0,
        name: entry.name,
        guid: entry.guid,
        attributes: entry.attributes & !active,
    }
}

/// Version 4, RFC 9562.
pub(crate) fn random_guid(bytes: [u8; 16]) -> Uuid {
    uuid::Builder::from_random_bytes(bytes).into_uuid()
}
