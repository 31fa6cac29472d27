//! What an image says of the medium that it was made for: sectors, and how long it has to be.

use pinewrit_disk::{BlockDevice, DiskError, SectorSize, Window};
use pinewrit_table::{PartitionTable, Scheme};

use crate::probe;

/// What an image says of its medium.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Expectation {
    /// The sectors in which its table counts, where that can be told.
    pub sector: Option<SectorSize>,
    /// The bytes that its partitions and file systems reach to; 0 where nothing says so.
    pub reach: u64,
}

/// The same bytes in other sectors.
struct InSectors<'a> {
    device: &'a dyn BlockDevice,
    sector: SectorSize,
}

impl BlockDevice for InSectors<'_> {
    fn size(&self) -> u64 {
        // Where it ends is what is to be found out.
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

/// Reads what the start of an image says. What lies past the end of `device` says nothing.
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
                // Where other sectors would put it, anything may be, also the end.
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
