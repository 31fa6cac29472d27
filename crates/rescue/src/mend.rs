//! Metadata that could not be read, taken from the copies that formats keep of it.

use std::sync::{Mutex, PoisonError};

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Overlay, SectorSize, Window};
use pinewrit_ext4::backups::{restore_descriptors, restore_superblock};
use pinewrit_ext4::{EditError, ExtError};
use pinewrit_fat::Geometry;
use pinewrit_table::{PartitionTable, Problem, Scheme, TableEdit, TableError};
use pinewrit_volume::probe;
use schemars::JsonSchema;
use serde::Serialize;

/// Sectors at the start of a medium that hold the first copy of a GPT of the usual size.
pub(crate) const GPT_SECTORS: u64 = 34;
/// Bytes at the start of a partition in which the first metadata of its file system lies.
const HEAD: u64 = 2048;

/// Something that was taken from its copy.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Mended {
    /// The partition's number; `None` for the table, or if there is none.
    pub partition: Option<u32>,
    /// What was lost.
    pub what: MendedPart,
}

/// Metadata of which there is a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum MendedPart {
    /// The GPT, from its other copy; the protective MBR before it is made anew.
    Table,
    /// The first sectors of a FAT32, from their copy.
    BootSector,
    /// Parts of an allocation table, from the other one.
    AllocationTable,
    /// The superblock of an ext file system, from another group.
    Superblock,
    /// Group descriptors of an ext file system, from another group.
    GroupDescriptors,
}

/// Which parts of a range could not be read.
pub(crate) type Lost<'l> = dyn Fn(ByteRange) -> Vec<ByteRange> + 'l;

/// A device that notes where it was written.
pub(crate) struct Noting<'d> {
    inner: &'d dyn BlockDevice,
    written: Mutex<Vec<ByteRange>>,
}

impl<'d> Noting<'d> {
    pub(crate) fn new(inner: &'d dyn BlockDevice) -> Self {
        Self {
            inner,
            written: Mutex::default(),
        }
    }

    /// The places, in any order.
    pub(crate) fn into_written(self) -> Vec<ByteRange> {
        self.written
            .into_inner()
            .unwrap_or_else(PoisonError::into_inner)
    }
}

impl BlockDevice for Noting<'_> {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.inner.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        let mut written = self.written.lock().unwrap_or_else(PoisonError::into_inner);
        written.extend(ByteRange::from_len(offset, data.len() as u64));
        self.inner.write_at(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.inner.flush()
    }
}

/// Puts back what is lost, where there is a copy. The device is an overlay of the medium.
///
/// # Errors
/// The device failed.
pub(crate) fn mend(device: &dyn BlockDevice, lost: &Lost<'_>) -> Result<Vec<Mended>, DiskError> {
    let mut all = Vec::new();
    if mend_table(device, lost)? {
        all.push(Mended {
            partition: None,
            what: MendedPart::Table,
        });
    }
    for (partition, range) in partitions(device)? {
        let window = Window::new(device, range);
        let inside = |part: ByteRange| {
            let part = ByteRange {
                start: range.start + part.start,
                end: range.start + part.end,
            };
            let found = lost(part).into_iter();
            let found = found.map(|one| ByteRange {
                start: one.start - range.start,
                end: one.end - range.start,
            });
            found.collect()
        };
        let parts = mend_filesystem(&window, &inside)?.into_iter();
        all.extend(parts.map(|what| Mended { partition, what }));
    }
    Ok(all)
}

/// The partitions that lie on the device; all of it if it has no table.
fn partitions(device: &dyn BlockDevice) -> Result<Vec<(Option<u32>, ByteRange)>, DiskError> {
    let whole = ByteRange {
        start: 0,
        end: device.size(),
    };
    let Some(table) = PartitionTable::read(device)? else {
        return Ok(vec![(None, whole)]);
    };
    let found = table.partitions.into_iter();
    let found = found.filter(|one| !one.range.is_empty() && one.range.end <= whole.end);
    Ok(found.map(|one| (Some(one.number), one.range)).collect())
}

/// A protective MBR, as it stands before every GPT (UEFI, "Protective MBR").
fn protective(sectors: u64) -> [u8; 512] {
    let mut record = [0; 512];
    let count = u32::try_from(sectors - 1).unwrap_or(u32::MAX);
    record[446..454].copy_from_slice(&[0, 0, 2, 0, 0xee, 0xff, 0xff, 0xff]);
    record[454..458].copy_from_slice(&1u32.to_le_bytes());
    record[458..462].copy_from_slice(&count.to_le_bytes());
    record[510..].copy_from_slice(&[0x55, 0xaa]);
    record
}

fn mend_table(device: &dyn BlockDevice, lost: &Lost<'_>) -> Result<bool, DiskError> {
    let sector = device.logical_sector().bytes();
    let end = device.size().min(GPT_SECTORS * sector);
    let head = ByteRange { start: 0, end };
    device.read_at(0, &mut vec![0; end as usize])?;
    if lost(head).is_empty() || end < GPT_SECTORS * sector {
        return Ok(false);
    }
    let trial = Overlay::new(device);
    let is_first_lost = lost(head).iter().any(|range| range.start < 512);
    if is_first_lost {
        trial.write_at(0, &protective(device.size() / sector))?;
    }
    let is_mendable = PartitionTable::read(&trial)?.is_some_and(|table| {
        let by_copy = |problem: &Problem| matches!(problem, Problem::PrimaryDamaged(_));
        let is_gpt = matches!(table.scheme, Scheme::Gpt { .. });
        is_gpt && is_first_lost || table.problems.iter().any(by_copy)
    });
    if !is_mendable {
        return Ok(false);
    }
    let table = match TableEdit::read(&trial) {
        Ok(table) => table,
        Err(TableError::Disk(error)) => return Err(error),
        Err(_) => return Ok(false),
    };
    match table.write(device) {
        Ok(()) => Ok(true),
        Err(TableError::Disk(error)) => Err(error),
        Err(_) => Ok(false),
    }
}

fn mend_filesystem(
    window: &dyn BlockDevice,
    lost: &Lost<'_>,
) -> Result<Vec<MendedPart>, DiskError> {
    let mut parts = Vec::new();
    let end = window.size().min(HEAD);
    let head = ByteRange { start: 0, end };
    window.read_at(0, &mut vec![0; end as usize])?;
    let is_unknown = probe(window)?.is_none_or(|facts| !facts.kind.has_files());
    if is_unknown && !lost(head).is_empty() {
        let is_lost = |range: ByteRange| !lost(range).is_empty();
        if Geometry::restore(window, &is_lost)? {
            parts.push(MendedPart::BootSector);
        } else if restore_superblock(window)?.is_some() {
            parts.push(MendedPart::Superblock);
        }
    }
    let kind = probe(window)?.map(|facts| facts.kind);
    if kind.is_some_and(|kind| kind.is_fat()) {
        if mend_tables(window, lost)? {
            parts.push(MendedPart::AllocationTable);
        }
    } else if kind.is_some_and(|kind| kind.is_ext()) {
        let is_lost = |range: ByteRange| !lost(range).is_empty();
        read_descriptors(window)?;
        match restore_descriptors(window, &is_lost) {
            Ok(0) => {}
            Ok(_) => parts.push(MendedPart::GroupDescriptors),
            Err(EditError::Volume(ExtError::Disk(error))) => return Err(error),
            // It is damaged in another way, too.
            Err(_) => {}
        }
    }
    Ok(parts)
}

/// What has not been tried does not count as lost.
fn read_descriptors(window: &dyn BlockDevice) -> Result<(), DiskError> {
    match pinewrit_ext4::Volume::open(window) {
        Err(ExtError::Disk(error)) => Err(error),
        _ => Ok(()),
    }
}

/// The tables of a FAT are equal, so each has what the other lacks.
fn mend_tables(window: &dyn BlockDevice, lost: &Lost<'_>) -> Result<bool, DiskError> {
    let Some(geometry) = Geometry::read(window)? else {
        return Ok(false);
    };
    let [first, second, ..] = geometry.tables()[..] else {
        return Ok(false);
    };
    let mut is_mended = false;
    for (table, other) in [(first, second), (second, first)] {
        window.read_at(table.start, &mut vec![0; table.len() as usize])?;
        for part in lost(table) {
            let copy = ByteRange {
                start: part.start - table.start + other.start,
                end: part.end - table.start + other.start,
            };
            let mut bytes = vec![0; copy.len() as usize];
            window.read_at(copy.start, &mut bytes)?;
            // Where both have holes, half of it would be worse than nothing.
            if lost(copy).is_empty() {
                window.write_at(part.start, &bytes)?;
                is_mended = true;
            }
        }
    }
    Ok(is_mended)
}
