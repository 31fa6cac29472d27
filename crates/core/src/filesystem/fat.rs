//! FAT12, FAT16 and FAT32: the geometry, and how much is used.
//!
//! Layout and the rule for the width: Microsoft FAT specification 1.03, "Boot Sector and BPB" and
//! "FAT Type Determination". Little-endian.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, SectorSize};

use super::{FatVolume, FilesystemFacts, clean_label, read, u16le, u32le};

/// Width of an entry of the allocation table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FatWidth {
    /// 12 bits.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
}

/// Where things are in a FAT file system. All fields have been checked against each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FatGeometry {
    /// Width of the table's entries.
    pub width: FatWidth,
    /// Bytes in a sector.
    pub sector: u64,
    /// Bytes in a cluster.
    pub cluster: u64,
    /// Number of data clusters; the first is number 2.
    pub clusters: u64,
    /// The first allocation table.
    pub table: ByteRange,
    /// Where data clusters begin, in bytes. Everything before is metadata.
    pub data_start: u64,
    /// Size of the file system in bytes.
    pub size: u64,
    /// The root directory of FAT12 and FAT16; empty for FAT32.
    pub(super) root_directory: ByteRange,
    /// First cluster of the root directory (FAT32 only).
    pub(super) root_cluster: u32,
    volume_id: u32,
    label: [u8; 11],
}

impl FatGeometry {
    /// Reads the geometry; `None` if this is no FAT file system, or one whose numbers do not fit
    /// together or reach past the device.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, DiskError> {
        let geometry = read::<512>(device, 0)?.and_then(|sector| Self::from_bytes(&sector));
        Ok(geometry.filter(|geometry| geometry.size <= device.size()))
    }

    pub(crate) fn from_bytes(sector: &[u8; 512]) -> Option<Self> {
        let bytes_per_sec = u16le(sector, 11);
        let sec_per_clus = sector[13];
        let rsvd_sec_cnt = u64::from(u16le(sector, 14));
        let num_fats = u64::from(sector[16]);
        let root_ent_cnt = u64::from(u16le(sector, 17));
        let media = sector[21];
        let tot_sec = match u16le(sector, 19) {
            0 => u64::from(u32le(sector, 32)),
            small => u64::from(small),
        };
        let is_fat32 = u16le(sector, 22) == 0;
        let fat_sz = match u16le(sector, 22) {
            0 => u64::from(u32le(sector, 36)),
            small => u64::from(small),
        };
        let plausible = matches!(sector[0], 0xeb | 0xe9)
            && sector[510..] == [0x55, 0xaa]
            && SectorSize::new(u32::from(bytes_per_sec)).is_some_and(|s| s.bytes() <= 4096)
            && sec_per_clus.is_power_of_two()
            && (1..=2).contains(&num_fats)
            && rsvd_sec_cnt > 0
            && fat_sz > 0
            && (media == 0xf0 || media >= 0xf8)
            && is_fat32 == (root_ent_cnt == 0);
        if !plausible {
            return None;
        }

        let sector_bytes = u64::from(bytes_per_sec);
        let root_sectors = (root_ent_cnt * 32).div_ceil(sector_bytes);
        let data_sector = rsvd_sec_cnt + num_fats * fat_sz + root_sectors;
        let clusters = tot_sec.checked_sub(data_sector)? / u64::from(sec_per_clus);
        // Small boot partitions are often FAT32 with fewer clusters than the specification asks
        // for; systems go by the form of the boot sector, and so do we.
        let width = match clusters {
            _ if is_fat32 => FatWidth::Fat32,
            0..4085 => FatWidth::Fat12,
            4085..65525 => FatWidth::Fat16,
            _ => FatWidth::Fat32,
        };
        let table = ByteRange::from_len(rsvd_sec_cnt * sector_bytes, fat_sz * sector_bytes)?;
        let fits = width.table_bytes(clusters + 2) <= table.len();
        if !fits || clusters == 0 || is_fat32 != (width == FatWidth::Fat32) {
            return None;
        }
        let (id_at, label_at) = if is_fat32 { (67, 71) } else { (39, 43) };
        let mut label = [0; 11];
        label.copy_from_slice(&sector[label_at..label_at + 11]);
        Some(Self {
            width,
            sector: sector_bytes,
            cluster: sector_bytes * u64::from(sec_per_clus),
            clusters,
            table,
            data_start: data_sector * sector_bytes,
            size: tot_sec * sector_bytes,
            root_directory: ByteRange::new(
                (data_sector - root_sectors) * sector_bytes,
                data_sector * sector_bytes,
            )?,
            root_cluster: if is_fat32 { u32le(sector, 44) } else { 0 },
            volume_id: u32le(sector, id_at),
            label,
        })
    }

    /// Where the root directory begins, in bytes.
    pub(crate) fn root_start(&self) -> u64 {
        match self.width {
            FatWidth::Fat32 => {
                let before = u64::from(self.root_cluster.saturating_sub(2));
                self.data_start + before * self.cluster
            }
            _ => self.root_directory.start,
        }
    }

    /// Whether the root directory's chain of clusters ends, inside the file system.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn root_is_sound(&self, device: &dyn BlockDevice) -> Result<bool, DiskError> {
        Ok(self.width != FatWidth::Fat32 || self.chain(device, self.root_cluster)?.is_some())
    }

    /// The clusters of a directory that begins with `first`; `None` if the chain leaves the file
    /// system or is longer than a directory can be.
    pub(super) fn chain(
        &self,
        device: &dyn BlockDevice,
        first: u32,
    ) -> Result<Option<Vec<u32>>, DiskError> {
        let mut clusters = vec![first];
        let mut cluster = first;
        // 65536 entries of 32 bytes are the most there can be.
        for _ in 0..=(65536 * 32 / self.cluster) {
            if !(2..self.clusters + 2).contains(&u64::from(cluster)) {
                return Ok(None);
            }
            cluster = self.next_cluster(device, u64::from(cluster))?;
            if cluster >= self.width.end_mark() {
                return Ok(Some(clusters));
            }
            clusters.push(cluster);
        }
        Ok(None)
    }

    pub(super) fn next_cluster(
        &self,
        device: &dyn BlockDevice,
        cluster: u64,
    ) -> Result<u32, DiskError> {
        let mut entry = [0; 4];
        let len = match self.width {
            FatWidth::Fat32 => 4,
            _ => 2,
        };
        let at = match self.width {
            FatWidth::Fat12 => cluster + cluster / 2,
            FatWidth::Fat16 => cluster * 2,
            FatWidth::Fat32 => cluster * 4,
        };
        device.read_at(self.table.start + at, &mut entry[..len])?;
        let raw = u32::from_le_bytes(entry);
        Ok(match self.width {
            FatWidth::Fat12 if cluster % 2 == 1 => raw >> 4,
            FatWidth::Fat12 => raw & 0x0fff,
            FatWidth::Fat16 => raw,
            FatWidth::Fat32 => raw & 0x0fff_ffff,
        })
    }

    /// Whether it has as many clusters as its width asks for. Systems read others as well, but the
    /// code that changes files does not.
    pub(crate) fn is_regular(&self) -> bool {
        self.width != FatWidth::Fat32 || self.clusters >= 65525
    }

    /// Where the copies of the allocation table end.
    pub(crate) fn tables_end(&self) -> u64 {
        self.root_directory.start
    }

    /// Offset of a data cluster, in bytes.
    pub(super) fn cluster_offset(&self, cluster: u32) -> u64 {
        self.data_start + u64::from(cluster.saturating_sub(2)) * self.cluster
    }
}

impl FatWidth {
    /// Name of the kind.
    pub fn word(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
        }
    }

    /// How many whole entries are in so many bytes of a table.
    pub(crate) fn entries_in(self, bytes: u64) -> u64 {
        match self {
            Self::Fat12 => bytes * 2 / 3,
            Self::Fat16 => bytes / 2,
            Self::Fat32 => bytes / 4,
        }
    }

    /// An entry of a piece of a table; `index` is below [`FatWidth::entries_in`] of its length.
    pub(crate) fn entry(self, piece: &[u8], index: u64) -> u32 {
        let index = index as usize;
        match self {
            Self::Fat12 => {
                let pair = u32::from(u16le(piece, index * 3 / 2));
                if index % 2 == 1 {
                    pair >> 4
                } else {
                    pair & 0x0fff
                }
            }
            Self::Fat16 => u32::from(u16le(piece, index * 2)),
            Self::Fat32 => u32le(piece, index * 4) & 0x0fff_ffff,
        }
    }

    /// Entries from here on end a chain.
    pub(super) fn end_mark(self) -> u32 {
        match self {
            Self::Fat12 => 0xff8,
            Self::Fat16 => 0xfff8,
            Self::Fat32 => 0x0fff_fff8,
        }
    }

    pub(crate) fn table_bytes(self, entries: u64) -> u64 {
        match self {
            Self::Fat12 => (entries * 3).div_ceil(2),
            Self::Fat16 => entries * 2,
            Self::Fat32 => entries * 4,
        }
    }
}

/// The kind of those that cannot take files from here.
pub(super) const SMALL_FAT32: &str = "FAT32 (few clusters)";

pub(super) fn facts(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
) -> Result<FilesystemFacts, DiskError> {
    let free = match count_free(device, geometry) {
        // Only a part of an image is looked at: the rest is known without it.
        Err(DiskError::PastEnd { .. }) => None,
        free => Some(free? * geometry.cluster),
    };
    // The label is an entry of the root folder. That in the boot sector stays when it is erased, and only
    // counts where the folder cannot be read.
    let in_root = FatVolume::open(device, geometry)
        .ok()
        .and_then(|volume| volume.label());
    let in_boot_sector = || clean_label(oem_text(&geometry.label).as_bytes());
    let label = in_root.unwrap_or_else(in_boot_sector);
    Ok(FilesystemFacts {
        kind: match geometry.is_regular() {
            true => geometry.width.word(),
            false => SMALL_FAT32,
        },
        label: label.filter(|label| label != "NO NAME"),
        id: Some(format!(
            "{:04X}-{:04X}",
            geometry.volume_id >> 16,
            geometry.volume_id & 0xffff
        )),
        size: Some(geometry.size),
        used: free.map(|free| geometry.size.saturating_sub(free)),
        free,
    })
}

/// Code page 850, in which most systems write labels, from 0x80 on.
const PAGE_850: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜø£Ø×ƒáíóúñÑªº¿®¬½¼¡«»░▒▓│┤ÁÂÀ©╣║╗╝¢¥┐└┴┬├─┼ãÃ╚╔╩╦╠═╬¤\
                        ðÐÊËÈıÍÎÏ┘┌█▄¦Ì▀ÓßÔÒõÕµþÞÚÛÙýÝ¯´\u{ad}±‗¾¶§÷¸°¨·¹³²■\u{a0}";

/// A name in the letters of a system: UTF-8 where it is that, else code page 850. A first byte of 5 stands
/// for 0xE5, which marks what was erased (Microsoft FAT specification 1.03, "FAT Directory Structure").
pub(super) fn oem_text(raw: &[u8]) -> String {
    let mut raw = raw.to_vec();
    if raw.first() == Some(&5) {
        raw[0] = 0xe5;
    }
    if let Ok(text) = std::str::from_utf8(&raw) {
        return text.to_owned();
    }
    let letter = |byte: &u8| match byte.checked_sub(0x80) {
        None => char::from(*byte),
        Some(high) => PAGE_850
            .chars()
            .nth(usize::from(high))
            .unwrap_or('\u{fffd}'),
    };
    raw.iter().map(letter).collect()
}

/// Counts the free clusters in the first allocation table.
fn count_free(device: &dyn BlockDevice, geometry: &FatGeometry) -> Result<u64, DiskError> {
    let entries = geometry.clusters + 2;
    let end = geometry.table.start + geometry.width.table_bytes(entries);
    let mut free = 0;
    // Pieces of a multiple of 12 bytes hold whole entries of every width.
    let mut piece = vec![0; 96 * 1024 * 12];
    let (mut offset, mut left) = (geometry.table.start, entries);
    while offset < end {
        let len = (end - offset).min(piece.len() as u64) as usize;
        device.read_at(offset, &mut piece[..len])?;
        let (zeros, seen) = count_zero_entries(&piece[..len], geometry.width, left);
        free += zeros;
        left -= seen;
        offset += len as u64;
    }
    Ok(free)
}

/// Counts entries that are zero, among the first `limit` of a piece; returns also how many there
/// were.
fn count_zero_entries(piece: &[u8], width: FatWidth, limit: u64) -> (u64, u64) {
    let seen = width.entries_in(piece.len() as u64).min(limit);
    let zeros = (0..seen).filter(|&index| width.entry(piece, index) == 0);
    (zeros.count() as u64, seen)
}
