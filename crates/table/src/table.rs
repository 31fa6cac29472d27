//! The partition table of a medium, whatever its scheme.

use std::fmt;

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Lba, SectorSize};
use uuid::Uuid;

use crate::SchemeKind;
use crate::gpt::{self, GptEntry, GptError, GptHeader, ReadError};
use crate::{MBR_SIZE, Mbr, PartitionType, chain};

/// Which of a GPT's two copies was used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableCopy {
    /// The one at the start of the medium.
    Primary,
    /// The one at its end, because the primary one is damaged.
    Backup,
}

/// The kind of a partition table, with its identifier.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scheme {
    /// Master boot record.
    Mbr {
        /// Disk signature.
        signature: u32,
    },
    /// GUID partition table.
    Gpt {
        /// Disk GUID.
        disk_guid: Uuid,
        /// The copy that was read.
        copy: TableCopy,
    },
}

impl Scheme {
    /// Which it is.
    pub fn kind(&self) -> SchemeKind {
        match self {
            Self::Mbr { .. } => SchemeKind::Mbr,
            Self::Gpt { .. } => SchemeKind::Gpt,
        }
    }

    /// The name that Linux gives a partition (`Documentation/admin-guide/kernel-parameters`,
    /// `root=PARTUUID=`): its GUID, or the disk signature and its number.
    pub fn partuuid(&self, partition: &Partition) -> Option<String> {
        match self {
            Self::Mbr { signature } => Some(format!("{signature:08x}-{:02x}", partition.number)),
            Self::Gpt { .. } => partition.guid.map(|guid| guid.to_string()),
        }
    }
}

/// One partition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// Number as operating systems count: MBR primaries 1 to 4, logical ones from 5; the entry's
    /// position for GPT.
    pub number: u32,
    /// Its type, as recorded in the table.
    pub kind: PartitionType,
    /// Where it lies, in bytes. May reach past the medium's end; see [`Problem::PastEnd`].
    pub range: ByteRange,
    /// Active: a BIOS starts from it.
    pub active: bool,
    /// Name in the table (GPT only), as recorded.
    pub name: Option<String>,
    /// Its own GUID (GPT only).
    pub guid: Option<Uuid>,
}

/// Something wrong in a table.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Problem {
    /// A partition reaches past the end of the medium.
    PastEnd {
        /// The partition's number.
        number: u32,
        /// Its end in bytes.
        end: u64,
    },
    /// Two partitions share bytes.
    Overlap {
        /// The numbers of both.
        numbers: (u32, u32),
    },
    /// An entry ends before it starts, or its numbers do not fit in 64 bits.
    Impossible {
        /// The partition's number.
        number: u32,
    },
    /// The chain of logical partitions is broken.
    BrokenChain {
        /// Sector where the next record should be.
        lba: u64,
    },
    /// The GPT at the start of the medium cannot be used; the one at the end was.
    PrimaryDamaged(GptError),
    /// The backup of the GPT is not in the last sector, as on a card larger than its image.
    BackupNotAtEnd {
        /// Sector of the backup header.
        lba: u64,
    },
    /// Only a protective MBR: both copies of the GPT are unusable.
    GptLost(GptError),
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::PastEnd { number, end } => {
                write!(f, "partition {number} ends at byte {end}, past the end")
            }
            Self::Overlap { numbers: (a, b) } => write!(f, "partitions {a} and {b} overlap"),
            Self::Impossible { number } => {
                write!(f, "partition {number} has an impossible start or end")
            }
            Self::BrokenChain { lba } => {
                write!(f, "the chain of logical partitions breaks at sector {lba}")
            }
            Self::PrimaryDamaged(why) => {
                write!(f, "the first GPT is damaged ({why}); its backup was used")
            }
            Self::BackupNotAtEnd { lba } => {
                write!(
                    f,
                    "the GPT's backup is at sector {lba}, not at the medium's end"
                )
            }
            Self::GptLost(why) => write!(f, "a GPT was here, but no copy is usable: {why}"),
        }
    }
}

/// A medium's partition table as found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartitionTable {
    /// Scheme and identifier.
    pub scheme: Scheme,
    /// Partitions in the order of their numbers. Extended partitions are left out; the logical
    /// ones inside stand for them.
    pub partitions: Vec<Partition>,
    /// What is wrong with the table.
    pub problems: Vec<Problem>,
    /// Whether the first sector holds boot code for a BIOS.
    pub has_boot_code: bool,
}

impl PartitionTable {
    /// Reads the table of a medium; `None` if it has none.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, DiskError> {
        let mut sector = [0; MBR_SIZE];
        if device.size() < MBR_SIZE as u64 {
            return Ok(None);
        }
        device.read_at(0, &mut sector)?;
        let mbr = Mbr::from_bytes(&sector).filter(|_| !is_fat_boot_sector(&sector));
        let table = match mbr {
            Some(mbr) if mbr.is_protective() => Some(read_gpt(device, &mbr)?),
            Some(mbr) if mbr.entries.iter().any(Option::is_some) || is_empty_table(&mbr) => {
                Some(read_mbr(device, &mbr)?)
            }
            _ => None,
        };
        Ok(table.map(|table| table.with_range_problems(device.size())))
    }

    /// The partition that holds the byte at `offset`.
    pub fn partition_at(&self, offset: u64) -> Option<&Partition> {
        self.partitions.iter().find(|p| p.range.contains(offset))
    }

    fn with_range_problems(mut self, size: u64) -> Self {
        for (index, partition) in self.partitions.iter().enumerate() {
            if partition.range.end > size {
                self.problems.push(Problem::PastEnd {
                    number: partition.number,
                    end: partition.range.end,
                });
            }
            for other in &self.partitions[..index] {
                if other.range.intersection(partition.range).is_some() {
                    self.problems.push(Problem::Overlap {
                        numbers: (other.number, partition.number),
                    });
                }
            }
        }
        self
    }
}

/// Whether a record without entries is nevertheless a table: a newly created one. Other boot
/// sectors have code where a table has none.
fn is_empty_table(mbr: &Mbr) -> bool {
    !mbr.has_boot_code && mbr.signature != 0
}

/// Whether a first sector is a FAT file system's own, on a medium without a table: it starts with
/// a jump and its block of parameters is plausible (Microsoft FAT specification 1.03, "BPB").
fn is_fat_boot_sector(sector: &[u8; MBR_SIZE]) -> bool {
    let jump = matches!(sector[0], 0xeb | 0xe9);
    let bytes_per_sector = u16::from_le_bytes([sector[11], sector[12]]);
    let fats = sector[16];
    let media = sector[21];
    jump && SectorSize::new(u32::from(bytes_per_sector)).is_some()
        && sector[13].is_power_of_two()
        && (1..=2).contains(&fats)
        && media >= 0xf0
}

fn read_mbr(device: &dyn BlockDevice, mbr: &Mbr) -> Result<PartitionTable, DiskError> {
    let sector = device.logical_sector();
    let mut partitions = Vec::new();
    let mut problems = Vec::new();
    let mut logical = Vec::new();
    for (entry, number) in mbr.entries.iter().zip(1..) {
        let Some(entry) = entry else { continue };
        if entry.partition_type().is_extended() {
            logical.extend(chain::read_logical(device, *entry, &mut problems)?);
            continue;
        }
        let first = u64::from(entry.first_lba);
        push(
            &mut partitions,
            &mut problems,
            Partition {
                number,
                kind: entry.partition_type(),
                range: NOWHERE,
                active: entry.active,
                name: None,
                guid: None,
            },
            sector_range(first, u64::from(entry.sectors), sector),
        );
    }
    for (logical, number) in logical.iter().zip(5..) {
        push(
            &mut partitions,
            &mut problems,
            Partition {
                number,
                kind: logical.entry.partition_type(),
                range: NOWHERE,
                active: logical.entry.active,
                name: None,
                guid: None,
            },
            sector_range(logical.first_lba, u64::from(logical.entry.sectors), sector),
        );
    }
    Ok(PartitionTable {
        scheme: Scheme::Mbr {
            signature: mbr.signature,
        },
        partitions,
        problems,
        has_boot_code: mbr.has_boot_code,
    })
}

const NOWHERE: ByteRange = ByteRange { start: 0, end: 0 };

fn sector_range(first: u64, sectors: u64, sector: SectorSize) -> Option<ByteRange> {
    let start = Lba(first).byte_offset(sector)?;
    ByteRange::from_len(start, sectors.checked_mul(sector.bytes())?)
}

fn push(
    partitions: &mut Vec<Partition>,
    problems: &mut Vec<Problem>,
    partition: Partition,
    range: Option<ByteRange>,
) {
    let number = partition.number;
    match range {
        Some(range) => partitions.push(Partition { range, ..partition }),
        None => problems.push(Problem::Impossible { number }),
    }
}

fn read_gpt(device: &dyn BlockDevice, mbr: &Mbr) -> Result<PartitionTable, DiskError> {
    let sector = device.logical_sector();
    let last = Lba((device.size() / sector.bytes()).saturating_sub(1));
    let mut problems = Vec::new();
    let (header, entries, copy) = match gpt::read(device, Lba(1)) {
        Ok((header, entries)) => {
            if header.alternate_lba != last {
                problems.push(Problem::BackupNotAtEnd {
                    lba: header.alternate_lba.0,
                });
            }
            (header, entries, TableCopy::Primary)
        }
        Err(ReadError::Disk(error)) => return Err(error),
        Err(ReadError::Gpt(primary)) => match gpt::read(device, last) {
            Ok((header, entries)) => {
                problems.push(Problem::PrimaryDamaged(primary));
                (header, entries, TableCopy::Backup)
            }
            Err(ReadError::Disk(error)) => return Err(error),
            Err(ReadError::Gpt(_)) => return Ok(lost_gpt(mbr, primary)),
        },
    };
    Ok(gpt_table(mbr, &header, entries, copy, problems, sector))
}

fn gpt_table(
    mbr: &Mbr,
    header: &GptHeader,
    entries: Vec<GptEntry>,
    copy: TableCopy,
    mut problems: Vec<Problem>,
    sector: SectorSize,
) -> PartitionTable {
    let mut partitions = Vec::new();
    for entry in entries {
        let sectors = entry
            .last
            .0
            .checked_sub(entry.first.0)
            .and_then(|n| n.checked_add(1));
        push(
            &mut partitions,
            &mut problems,
            Partition {
                number: entry.number,
                kind: PartitionType::Gpt(entry.type_guid),
                range: NOWHERE,
                active: entry.attributes & LEGACY_BIOS_BOOTABLE != 0,
                name: (!entry.name.is_empty()).then_some(entry.name),
                guid: Some(entry.guid),
            },
            sectors.and_then(|sectors| sector_range(entry.first.0, sectors, sector)),
        );
    }
    PartitionTable {
        scheme: Scheme::Gpt {
            disk_guid: header.disk_guid,
            copy,
        },
        partitions,
        problems,
        has_boot_code: mbr.has_boot_code,
    }
}

/// Attribute bit 2 of a GPT entry, UEFI specification 2.10, table 5.8.
pub(crate) const LEGACY_BIOS_BOOTABLE: u64 = 1 << 2;

fn lost_gpt(mbr: &Mbr, why: GptError) -> PartitionTable {
    PartitionTable {
        scheme: Scheme::Gpt {
            disk_guid: Uuid::nil(),
            copy: TableCopy::Primary,
        },
        partitions: Vec::new(),
        problems: vec![Problem::GptLost(why)],
        has_boot_code: mbr.has_boot_code,
    }
}
