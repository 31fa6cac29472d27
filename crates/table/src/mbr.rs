//! The master boot record: one sector with boot code and four entries.
//!
//! ```text
//! 0x000  boot code, 440 bytes
//! 0x1b8  disk signature, u32          0x1bc  two bytes, usually zero
//! 0x1be  four entries of 16 bytes     0x1fe  0x55 0xaa
//! ```
//! Layout as in the UEFI specification 2.10, section 5.2.1. All integers are little-endian.

use crate::PartitionType;

/// Size of a master boot record in bytes.
pub const MBR_SIZE: usize = 512;

const BOOT_CODE: usize = 440;
pub(crate) const SIGNATURE: usize = 0x1b8;
pub(crate) const ENTRIES: usize = 0x1be;
pub(crate) const ENTRY_SIZE: usize = 16;
pub(crate) const ACTIVE: u8 = 0x80;

/// One used entry of a master boot record. Addresses count sectors of the medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MbrEntry {
    /// Whether a BIOS should start from this partition.
    pub active: bool,
    /// The type byte.
    pub kind: u8,
    /// First sector. For logical partitions relative to the record that names it.
    pub first_lba: u32,
    /// Length in sectors, never 0.
    pub sectors: u32,
}

/// A master boot record, or an extended boot record, which has the same form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    /// Whether the boot code area holds anything.
    pub has_boot_code: bool,
    /// The disk signature (0 where none was set).
    pub signature: u32,
    /// The four entries; `None` where an entry has no length.
    pub entries: [Option<MbrEntry>; 4],
}

impl Mbr {
    /// Parses a sector; `None` if it is not a master boot record: the end mark is missing, or an
    /// entry's status byte is neither 0 nor 0x80, as in the boot sector of a file system.
    pub fn from_bytes(sector: &[u8; MBR_SIZE]) -> Option<Self> {
        if sector[0x1fe..] != [0x55, 0xaa] {
            return None;
        }
        let mut entries = [None; 4];
        for (index, entry) in entries.iter_mut().enumerate() {
            let raw = &sector[ENTRIES + index * ENTRY_SIZE..][..ENTRY_SIZE];
            if !matches!(raw[0], 0 | ACTIVE) {
                return None;
            }
            let sectors = read_u32le(raw, 12);
            *entry = (sectors != 0).then(|| MbrEntry {
                active: raw[0] == ACTIVE,
                kind: raw[4],
                first_lba: read_u32le(raw, 8),
                sectors,
            });
        }
        Some(Self {
            has_boot_code: sector[..BOOT_CODE].iter().any(|&byte| byte != 0),
            signature: read_u32le(sector, SIGNATURE),
            entries,
        })
    }

    /// The record as a sector without boot code.
    pub fn to_bytes(&self) -> [u8; MBR_SIZE] {
        let mut sector = [0; MBR_SIZE];
        sector[SIGNATURE..][..4].copy_from_slice(&self.signature.to_le_bytes());
        for (index, entry) in self.entries.iter().enumerate() {
            let Some(entry) = entry else { continue };
            let raw = &mut sector[ENTRIES + index * ENTRY_SIZE..][..ENTRY_SIZE];
            put_entry(raw, entry, u64::from(entry.first_lba));
        }
        sector[0x1fe..].copy_from_slice(&[0x55, 0xaa]);
        sector
    }

    /// Whether the record only protects a GPT: one of its entries has type 0xee.
    pub fn is_protective(&self) -> bool {
        self.entries.iter().flatten().any(|e| e.kind == 0xee)
    }
}

/// Writes an entry of 16 bytes. `first` is its first sector counted from the start of the medium,
/// for the obsolete CHS address.
pub(crate) fn put_entry(raw: &mut [u8], entry: &MbrEntry, first: u64) {
    raw[0] = if entry.active { ACTIVE } else { 0 };
    raw[1..4].copy_from_slice(&chs(first));
    raw[4] = entry.kind;
    let last = first + u64::from(entry.sectors.max(1)) - 1;
    raw[5..8].copy_from_slice(&chs(last));
    raw[8..12].copy_from_slice(&entry.first_lba.to_le_bytes());
    raw[12..16].copy_from_slice(&entry.sectors.to_le_bytes());
}

/// A sector's CHS address, with 255 heads and 63 sectors per track as all BIOSes assume; "past
/// cylinder 1023" if it is out of range.
fn chs(lba: u64) -> [u8; 3] {
    let (heads, sectors) = (255, 63);
    let cylinder = lba / (heads * sectors);
    if cylinder > 1023 {
        return [0xfe, 0xff, 0xff];
    }
    let head = lba / sectors % heads;
    let sector = lba % sectors + 1;
    [
        head as u8,
        sector as u8 | (cylinder >> 2) as u8 & 0xc0,
        cylinder as u8,
    ]
}

impl MbrEntry {
    /// The entry's type.
    pub fn partition_type(&self) -> PartitionType {
        PartitionType::Mbr(self.kind)
    }
}

pub(crate) fn read_u32le(bytes: &[u8], offset: usize) -> u32 {
    let mut raw = [0; 4];
    raw.copy_from_slice(&bytes[offset..offset + 4]);
    u32::from_le_bytes(raw)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn entry() -> impl Strategy<Value = Option<MbrEntry>> {
        let used = (any::<bool>(), any::<u8>(), any::<u32>(), 1..u32::MAX).prop_map(
            |(active, kind, first_lba, sectors)| MbrEntry {
                active,
                kind,
                first_lba,
                sectors,
            },
        );
        prop::option::of(used)
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(entries in prop::array::uniform4(entry()), signature in any::<u32>()) {
            let mbr = Mbr { has_boot_code: false, signature, entries };
            prop_assert_eq!(Mbr::from_bytes(&mbr.to_bytes()), Some(mbr));
        }
    }

    #[test]
    fn a_sector_without_the_end_mark_is_no_record() {
        let mut sector = Mbr {
            has_boot_code: false,
            signature: 1,
            entries: [None; 4],
        }
        .to_bytes();
        sector[0x1ff] = 0;
        assert_eq!(Mbr::from_bytes(&sector), None);
    }

    #[test]
    fn a_strange_status_byte_is_no_record() {
        let mut sector = [0; MBR_SIZE];
        sector[0x1fe..].copy_from_slice(&[0x55, 0xaa]);
        sector[ENTRIES] = 0x41;
        assert_eq!(Mbr::from_bytes(&sector), None);
    }
}
