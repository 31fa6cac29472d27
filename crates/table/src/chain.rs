//! Logical partitions: the chain of extended boot records inside an extended partition.

use pinewrit_disk::{BlockDevice, DiskError, Lba};

use crate::{MBR_SIZE, Mbr, MbrEntry, Problem};

/// A limit above what any system creates; a longer chain is damaged.
const MAX_LOGICAL: usize = 128;

/// A logical partition with its first sector counted from the start of the medium.
pub(crate) struct Logical {
    pub(crate) entry: MbrEntry,
    pub(crate) first_lba: u64,
}

/// What one record of the chain says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ChainRecord {
    /// The logical partition in it, with its first sector counted from the start of the medium.
    pub logical: Option<(MbrEntry, u64)>,
    /// Sector of the next record, as recorded.
    pub next: Option<u64>,
}

impl ChainRecord {
    /// Reads the record in sector `at` of an extended partition that begins in sector `base`.
    ///
    /// Each record names one partition, relative to itself, and the next record, relative to the
    /// start of the extended partition.
    pub fn new(record: &Mbr, at: u64, base: u64) -> Self {
        let [first, second, ..] = record.entries;
        let logical = first.filter(|e| !e.partition_type().is_extended());
        let next = second.filter(|e| e.partition_type().is_extended());
        Self {
            logical: logical.map(|entry| (entry, at + u64::from(entry.first_lba))),
            next: next.map(|entry| base + u64::from(entry.first_lba)),
        }
    }
}

/// Follows the chain that starts in `extended`. Records must ascend, so a chain cannot loop.
pub(crate) fn read_logical(
    device: &dyn BlockDevice,
    extended: MbrEntry,
    problems: &mut Vec<Problem>,
) -> Result<Vec<Logical>, DiskError> {
    let base = u64::from(extended.first_lba);
    let mut found = Vec::new();
    let mut at = base;
    loop {
        let Some(record) = read_record(device, Lba(at))? else {
            problems.push(Problem::BrokenChain { lba: at });
            return Ok(found);
        };
        let record = ChainRecord::new(&record, at, base);
        if let Some((entry, first_lba)) = record.logical {
            found.push(Logical { entry, first_lba });
        }
        let Some(next) = record.next else {
            return Ok(found);
        };
        if next <= at || found.len() >= MAX_LOGICAL {
            problems.push(Problem::BrokenChain { lba: next });
            return Ok(found);
        }
        at = next;
    }
}

fn read_record(device: &dyn BlockDevice, at: Lba) -> Result<Option<Mbr>, DiskError> {
    let mut sector = [0; MBR_SIZE];
    match at.byte_offset(device.logical_sector()) {
        Some(offset) => match device.read_at(offset, &mut sector) {
            Ok(()) => Ok(Mbr::from_bytes(&sector)),
            Err(DiskError::PastEnd { .. }) => Ok(None),
            Err(error) => Err(error),
        },
        None => Ok(None),
    }
}
