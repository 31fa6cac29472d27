//! The GUID partition table.
//!
//! ```text
//! sector 0       protective MBR
//! sector 1       header            last sector        backup header
//! sector 2 ...   entries           before it          backup entries
//! ```
//! Layout as in the UEFI specification 2.10, section 5.3. All integers are little-endian.

use pinewrit_disk::{BlockDevice, DiskError, Lba};
use uuid::Uuid;

use crate::mbr::read_u32le;

const HEADER_SIZE: usize = 92;
/// Limits how much is read because a medium says so: 1024 entries of 512 bytes.
const MAX_ENTRIES_BYTES: u64 = 512 << 10;

/// Why a header or its entries cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum GptError {
    /// There is no header.
    #[error("no GPT header")]
    Missing,
    /// The header's or the entries' checksum is wrong.
    #[error("the checksum of the GPT {part} is {found:08x}, but the header says {expected:08x}")]
    Checksum {
        /// `header` or `entries`.
        part: &'static str,
        /// Computed from the medium.
        found: u32,
        /// According to the header.
        expected: u32,
    },
    /// A field has an impossible value.
    #[error("the GPT header's field {field} holds {found}")]
    Field {
        /// The field's name in the UEFI specification.
        field: &'static str,
        /// Its value.
        found: u64,
    },
}

/// A header with a valid checksum and plausible fields.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GptHeader {
    /// Sector of this header.
    pub my_lba: Lba,
    /// Sector of the other header.
    pub alternate_lba: Lba,
    /// First and last sector that partitions may use.
    pub usable: (Lba, Lba),
    /// The disk's GUID.
    pub disk_guid: Uuid,
    entries_lba: Lba,
    entry_count: u32,
    entry_size: u32,
    entries_crc: u32,
}

/// One used entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct GptEntry {
    /// Position in the table, from 1.
    pub(crate) number: u32,
    pub(crate) type_guid: Uuid,
    pub(crate) first: Lba,
    pub(crate) last: Lba,
    /// Its own GUID.
    pub(crate) guid: Uuid,
    pub(crate) attributes: u64,
    pub(crate) name: String,
}

impl GptHeader {
    /// Parses a header that was read from sector `at`.
    ///
    /// # Errors
    /// [`GptError`] names what is wrong.
    pub fn from_bytes(bytes: &[u8], at: Lba) -> Result<Self, GptError> {
        if bytes.len() < HEADER_SIZE || !bytes.starts_with(b"EFI PART") {
            return Err(GptError::Missing);
        }
        let header_size = read_u32le(bytes, 12);
        let size = header_size as usize;
        if !(HEADER_SIZE..=bytes.len()).contains(&size) {
            return Err(field("HeaderSize", header_size));
        }
        let header_crc = read_u32le(bytes, 16);
        let mut covered = bytes[..size].to_vec();
        covered[16..20].fill(0);
        check_crc("header", &covered, header_crc)?;

        let my_lba = Lba(read_u64le(bytes, 24));
        if my_lba != at {
            return Err(field("MyLBA", my_lba.0));
        }
        let header = Self {
            my_lba,
            alternate_lba: Lba(read_u64le(bytes, 32)),
            usable: (Lba(read_u64le(bytes, 40)), Lba(read_u64le(bytes, 48))),
            disk_guid: read_guid(bytes, 56),
            entries_lba: Lba(read_u64le(bytes, 72)),
            entry_count: read_u32le(bytes, 80),
            entry_size: read_u32le(bytes, 84),
            entries_crc: read_u32le(bytes, 88),
        };
        if header.entry_size < 128 || !header.entry_size.is_power_of_two() {
            return Err(field("SizeOfPartitionEntry", header.entry_size));
        }
        if header.entries_bytes() > MAX_ENTRIES_BYTES {
            return Err(field("NumberOfPartitionEntries", header.entry_count));
        }
        Ok(header)
    }

    /// Number of entries, and bytes in each.
    pub(crate) fn entry_shape(&self) -> (u32, u32) {
        (self.entry_count, self.entry_size)
    }

    /// A header for these entries. `places`: its own sector, the other one's, and that of the
    /// entries; `shape`: as [`GptHeader::entry_shape`].
    pub(crate) fn new(
        places: (Lba, Lba, Lba),
        usable: (Lba, Lba),
        disk_guid: Uuid,
        shape: (u32, u32),
        entries: &[u8],
    ) -> Self {
        Self {
            my_lba: places.0,
            alternate_lba: places.1,
            usable,
            disk_guid,
            entries_lba: places.2,
            entry_count: shape.0,
            entry_size: shape.1,
            entries_crc: crc32fast::hash(entries),
        }
    }

    fn entries_bytes(&self) -> u64 {
        u64::from(self.entry_count) * u64::from(self.entry_size)
    }
}

/// Why a table was not read: it is invalid, or the device failed.
pub(crate) enum ReadError {
    Gpt(GptError),
    Disk(DiskError),
}

impl From<GptError> for ReadError {
    fn from(error: GptError) -> Self {
        Self::Gpt(error)
    }
}

impl From<DiskError> for ReadError {
    fn from(error: DiskError) -> Self {
        Self::Disk(error)
    }
}

/// Reads the header in sector `at` and its used entries.
pub(crate) fn read(
    device: &dyn BlockDevice,
    at: Lba,
) -> Result<(GptHeader, Vec<GptEntry>), ReadError> {
    let sector = device.logical_sector();
    let mut bytes = vec![0; sector.bytes() as usize];
    let Some(offset) = at.byte_offset(sector) else {
        return Err(GptError::Missing.into());
    };
    if !read_inside(device, offset, &mut bytes)? {
        return Err(GptError::Missing.into());
    }
    let header = GptHeader::from_bytes(&bytes, at)?;
    let mut entries = vec![0; header.entries_bytes() as usize];
    let start = header.entries_lba.byte_offset(sector).unwrap_or(u64::MAX);
    if !read_inside(device, start, &mut entries)? {
        return Err(field("PartitionEntryLBA", header.entries_lba.0).into());
    }
    check_crc("entries", &entries, header.entries_crc)?;
    let used = parse_entries(&entries, header.entry_size as usize);
    Ok((header, used))
}

/// Reads into `buffer`; `false` if it would reach past the device's end.
fn read_inside(
    device: &dyn BlockDevice,
    offset: u64,
    buffer: &mut [u8],
) -> Result<bool, DiskError> {
    match device.read_at(offset, buffer) {
        Ok(()) => Ok(true),
        Err(DiskError::PastEnd { .. }) => Ok(false),
        Err(error) => Err(error),
    }
}

fn parse_entries(bytes: &[u8], entry_size: usize) -> Vec<GptEntry> {
    let parse = |(raw, number): (&[u8], u32)| {
        let type_guid = read_guid(raw, 0);
        (!type_guid.is_nil()).then(|| GptEntry {
            number,
            type_guid,
            guid: read_guid(raw, 16),
            first: Lba(read_u64le(raw, 32)),
            last: Lba(read_u64le(raw, 40)),
            attributes: read_u64le(raw, 48),
            name: read_name(&raw[56..128]),
        })
    };
    bytes
        .chunks_exact(entry_size)
        .zip(1..)
        .filter_map(parse)
        .collect()
}

/// Writes an entry (UEFI specification 2.10, table 5.6). `guids`: its type's, and its own.
pub(crate) fn put_entry(
    raw: &mut [u8],
    guids: [Uuid; 2],
    range: (Lba, Lba),
    attributes: u64,
    name: &str,
) {
    raw[..16].copy_from_slice(&guids[0].to_bytes_le());
    raw[16..32].copy_from_slice(&guids[1].to_bytes_le());
    raw[32..40].copy_from_slice(&range.0.0.to_le_bytes());
    raw[40..48].copy_from_slice(&range.1.0.to_le_bytes());
    raw[48..56].copy_from_slice(&attributes.to_le_bytes());
    for (unit, place) in name.encode_utf16().zip(raw[56..128].chunks_exact_mut(2)) {
        place.copy_from_slice(&unit.to_le_bytes());
    }
}

/// A name of up to 36 UTF-16 units, ended by a zero unit.
fn read_name(raw: &[u8]) -> String {
    let units: Vec<u16> = raw
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
        .take_while(|&unit| unit != 0)
        .collect();
    String::from_utf16_lossy(&units)
}

fn check_crc(part: &'static str, bytes: &[u8], expected: u32) -> Result<(), GptError> {
    let found = crc32fast::hash(bytes);
    if found == expected {
        return Ok(());
    }
    Err(GptError::Checksum {
        part,
        found,
        expected,
    })
}

fn field(field: &'static str, found: impl Into<u64>) -> GptError {
    GptError::Field {
        field,
        found: found.into(),
    }
}

fn read_u64le(bytes: &[u8], offset: usize) -> u64 {
    let low = u64::from(read_u32le(bytes, offset));
    let high = u64::from(read_u32le(bytes, offset + 4));
    high << 32 | low
}

fn read_guid(bytes: &[u8], offset: usize) -> Uuid {
    let mut raw = [0; 16];
    raw.copy_from_slice(&bytes[offset..offset + 16]);
    Uuid::from_bytes_le(raw)
}

impl GptHeader {
    /// The header as written to a medium, with its checksum (UEFI specification 2.10, table 5.5).
    pub(crate) fn to_bytes(&self) -> [u8; HEADER_SIZE] {
        let mut raw = [0; HEADER_SIZE];
        raw[..8].copy_from_slice(b"EFI PART");
        raw[8..12].copy_from_slice(&0x0001_0000u32.to_le_bytes());
        raw[12..16].copy_from_slice(&(HEADER_SIZE as u32).to_le_bytes());
        let numbers = [
            (24, self.my_lba),
            (32, self.alternate_lba),
            (40, self.usable.0),
            (48, self.usable.1),
            (72, self.entries_lba),
        ];
        for (at, lba) in numbers {
            raw[at..at + 8].copy_from_slice(&lba.0.to_le_bytes());
        }
        raw[56..72].copy_from_slice(&self.disk_guid.to_bytes_le());
        let counts = [
            (80, self.entry_count),
            (84, self.entry_size),
            (88, self.entries_crc),
        ];
        for (at, count) in counts {
            raw[at..at + 4].copy_from_slice(&count.to_le_bytes());
        }
        let crc = crc32fast::hash(&raw);
        raw[16..20].copy_from_slice(&crc.to_le_bytes());
        raw
    }
}
