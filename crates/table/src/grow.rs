//! Growing the last partition to the end of a medium, in MBR and GPT.

use pinewrit_disk::{BlockDevice, DiskError, Lba};

use crate::gpt::{GptEdit, GptError};
use crate::{MBR_SIZE, Mbr, Partition, PartitionTable, Scheme};

/// Partitions end at multiples of this many bytes, as they begin.
const ALIGNMENT: u64 = 1 << 20;
/// Where the entries of an MBR begin, and their size.
const ENTRIES: usize = 0x1be;
const ENTRY_SIZE: usize = 16;

/// Why the last partition was not grown.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum GrowError {
    /// There is no partition.
    #[error("there is no partition to grow")]
    NoPartition,
    /// It lies in an extended partition.
    #[error("the last partition, number {0}, is a logical one")]
    Logical(u32),
    /// The table is damaged.
    #[error("the partition table is damaged")]
    Damaged(#[source] GptError),
    /// Partitions overlap or end nowhere.
    #[error("the partition table has problems: {0}")]
    Problems(String),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// What was grown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grown {
    /// The partition as it was.
    pub partition: Partition,
    /// Where it ends now, in bytes.
    pub end: u64,
}

/// Grows the last partition to the end of `device`, and moves a GPT's backup there. A partition
/// that already ends there, or would become smaller, stays as it is.
///
/// # Errors
/// [`GrowError`]; nothing was written then, unless the device failed.
pub fn grow_last(device: &dyn BlockDevice) -> Result<Grown, GrowError> {
    let table = PartitionTable::read(device)?.ok_or(GrowError::NoPartition)?;
    let problem = table
        .problems
        .iter()
        .find(|problem| !matches!(problem, crate::Problem::BackupNotAtEnd { .. }));
    if let Some(problem) = problem {
        return Err(GrowError::Problems(problem.to_string()));
    }
    let last = table
        .partitions
        .iter()
        .max_by_key(|partition| partition.range.end);
    let partition = last.ok_or(GrowError::NoPartition)?.clone();
    let end = match table.scheme {
        Scheme::Mbr { .. } => grow_mbr(device, &partition)?,
        Scheme::Gpt { .. } => grow_gpt(device, &partition)?,
    };
    Ok(Grown { partition, end })
}

/// The last aligned end up to `limit`, but not before where the partition ends now.
fn aligned_end(partition: &Partition, limit: u64) -> u64 {
    (limit - limit % ALIGNMENT).max(partition.range.end)
}

fn grow_mbr(device: &dyn BlockDevice, partition: &Partition) -> Result<u64, GrowError> {
    let sector = device.logical_sector().bytes();
    let mut record = [0; MBR_SIZE];
    device.read_at(0, &mut record)?;
    let index = partition.number as usize - 1;
    let known = Mbr::from_bytes(&record).and_then(|mbr| mbr.entries.get(index).copied().flatten());
    if known.is_none() {
        return Err(GrowError::Logical(partition.number));
    }
    let end = aligned_end(partition, device.size());
    // An entry counts sectors with 32 bits.
    let sectors = ((end - partition.range.start) / sector).min(u64::from(u32::MAX));
    let at = ENTRIES + index * ENTRY_SIZE + 12;
    record[at..at + 4].copy_from_slice(&(sectors as u32).to_le_bytes());
    device.write_at(0, &record)?;
    Ok(partition.range.start + sectors * sector)
}

fn grow_gpt(device: &dyn BlockDevice, partition: &Partition) -> Result<u64, GrowError> {
    let sector = device.logical_sector();
    let last = Lba((device.size() / sector.bytes()).saturating_sub(1));
    let mut edit = GptEdit::begin(device)?.map_err(GrowError::Damaged)?;
    let usable = edit.stretch(last, sector);
    let end = aligned_end(partition, (usable.0 + 1) * sector.bytes());
    edit.set_end(partition.number, Lba(end / sector.bytes() - 1));
    edit.write(device)?;
    stretch_protective(device, last)?;
    Ok(end)
}

/// Makes the entry of a protective MBR span the medium (UEFI specification 2.10, table 5.4).
fn stretch_protective(device: &dyn BlockDevice, last: Lba) -> Result<(), DiskError> {
    let mut record = [0; MBR_SIZE];
    device.read_at(0, &mut record)?;
    let entries = (0..4).map(|index| ENTRIES + index * ENTRY_SIZE);
    let protective = entries.into_iter().find(|at| record[at + 4] == 0xee);
    if let Some(at) = protective {
        let sectors = u32::try_from(last.0).unwrap_or(u32::MAX);
        record[at + 12..at + 16].copy_from_slice(&sectors.to_le_bytes());
        device.write_at(0, &record)?;
    }
    Ok(())
}
