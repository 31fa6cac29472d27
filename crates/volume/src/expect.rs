//! What an image says about the medium it was made for: sector size, and minimum length.

use pinewrit_disk::{BlockDevice, DiskError, SectorSize, Window};
use pinewrit_table::{PartitionTable, Scheme};

use crate::probe;

/// What an image says about its medium.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Expectation {
    /// The sector size of its table, if known.
    pub sector: Option<SectorSize>,
    /// Where its last partition or file system ends, in bytes; 0 if unknown.
    pub reach: u64,
}

/// The same bytes in other sectors.
struct InSectors<'a> {
    device: &'a dyn BlockDevice,
    sector: SectorSize,
}

impl BlockDevice for InSectors<'_> {
    fn size(&self) -> u64 {
        // Its end is yet to be found.
        u64::MAX / 2
    }

    fn logical_sector(&self) -> SectorSize {
        self.sector
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.device.read_at(offset, buffer)
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}

/// Examines the start of an image. What lies past the end of `device` is ignored.
///
/// # Errors
/// The device could not be read.
pub fn expectation(device: &dyn BlockDevice) -> Result<Expectation, DiskError> {
    let mut best: Option<(bool, usize, Expectation)> = None;
    for sector in [SectorSize::B512, SectorSize::B4096] {
        let seen = InSectors { device, sector };
        if best.is_some_and(|(is_gpt, known, _)| is_gpt || known > 0) {
            break;
        }
        let table = match PartitionTable::read(&seen) {
            Err(DiskError::PastEnd { .. }) => None,
            table => table?,
        };
        let Some(table) = table.filter(|table| !table.partitions.is_empty()) else {
            continue;
        };
        let is_gpt = matches!(table.scheme, Scheme::Gpt { .. });
        let mut known = 0;
        let mut reach = 0;
        for partition in &table.partitions {
            let found = match probe(&Window::new(&seen, partition.range)) {
                // With another sector size, anything may be there, even the end.
                Err(_) if sector != SectorSize::B512 => None,
                found => found?,
            };
            known += usize::from(found.is_some());
            let inside = found.and_then(|facts| facts.size).unwrap_or(0);
            let end = partition.range.start.saturating_add(inside);
            reach = reach.max(end).max(partition.range.end);
        }
        let found = Expectation {
            sector: (is_gpt || known > 0).then_some(sector),
            reach,
        };
        if best.is_none_or(|(gpt, count, _)| (is_gpt, known) > (gpt, count)) {
            best = Some((is_gpt, known, found));
        }
    }
    if let Some((_, _, found)) = best {
        return Ok(found);
    }
    let whole = probe(device)?;
    Ok(Expectation {
        sector: None,
        reach: whole.and_then(|facts| facts.size).unwrap_or(0),
    })
}
