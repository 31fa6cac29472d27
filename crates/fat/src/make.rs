//! Creating a file system.
//!
//! Microsoft FAT specification 1.03, "FAT Volume Initialization" and "FAT Type Determination".

use pinewrit_disk::bytes::{put16, put32};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError};

use crate::directory::{ENTRY, New, attribute};
use crate::edit::info;
use crate::geometry::{FatWidth, NO_NAME, field};
use crate::time::Stamp;

const MIB: u64 = 1 << 20;
/// Entries of the root directory of FAT12 and FAT16.
const ROOT_ENTRIES: u64 = 512;
const COPIES: u64 = 2;
/// Where FAT32 keeps the copy of its boot sector, and how many sectors it keeps at least.
const BACKUP: u64 = 6;
const RESERVED_FAT32: u64 = 32;
/// First cluster of the root directory of FAT32.
const ROOT_CLUSTER: u32 = 2;
/// `BPB_Media` and the first entry of a table: a fixed medium.
const MEDIA: u8 = 0xf8;

/// A width, or the one that suits the size.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MakeKind {
    /// 12 bits an entry.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
    /// FAT12 below 16 MiB, FAT16 below 512 MiB, FAT32 above.
    BySize,
}

impl MakeKind {
    /// The width for this many bytes.
    pub fn for_size(self, size: u64) -> FatWidth {
        match self {
            Self::Fat12 => FatWidth::Fat12,
            Self::Fat16 => FatWidth::Fat16,
            Self::Fat32 => FatWidth::Fat32,
            Self::BySize if size < 16 * MIB => FatWidth::Fat12,
            Self::BySize if size < 512 * MIB => FatWidth::Fat16,
            Self::BySize => FatWidth::Fat32,
        }
    }
}

impl FatWidth {
    /// How many clusters a new file system may have. Both ends keep a distance from the limits,
    /// since implementations differ by a few.
    fn new_clusters(self) -> std::ops::RangeInclusive<u64> {
        match self {
            Self::Fat12 => 16..=4078,
            Self::Fat16 => 4087..=65_518,
            Self::Fat32 => 65_526..=0x0fff_fff0,
        }
    }

    /// Bytes in a cluster, as in the SD specification's own formats (part 2, "Sectors per
    /// Cluster").
    fn usual_cluster(self, size: u64) -> u64 {
        match size {
            _ if self == Self::Fat12 && size <= 8 * MIB => 8 << 10,
            _ if size <= 1024 * MIB => 16 << 10,
            _ if size <= 32 * 1024 * MIB => 32 << 10,
            _ => 64 << 10,
        }
    }
}

/// Why a file system cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum MakeError {
    /// The partition is too small or too large for this kind.
    #[error("{kind} cannot have {size} bytes: {why}")]
    Size {
        /// The kind's name.
        kind: &'static str,
        /// The partition's size in bytes.
        size: u64,
        /// What is possible.
        why: &'static str,
    },
    /// A cluster size is not possible.
    #[error("{unit} bytes is not a valid size: {why}")]
    Unit {
        /// The size in bytes.
        unit: u32,
        /// What is possible.
        why: String,
    },
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// What a file system should be like.
#[derive(Clone, Debug)]
pub struct MakeOptions {
    /// Its label, which [`check_label`] accepts; empty for none.
    pub label: String,
    /// Its identifier.
    pub id: [u8; 4],
    /// First byte of the partition on the medium, which some loaders need.
    pub start: u64,
    /// Time of the label.
    pub made: Stamp,
}

/// Checks whether a label of at most 11 characters can be stored.
///
/// # Errors
/// The character.
pub fn check_label(label: &str) -> Result<(), char> {
    let is_bad = |c: &char| c.is_control() || !c.is_ascii() || "\"*+,./:;<=>?[\\]|".contains(*c);
    label.chars().find(is_bad).map_or(Ok(()), Err)
}

/// Where things go; all in sectors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MakePlan {
    width: FatWidth,
    sector: u64,
    per_cluster: u64,
    reserved: u64,
    table: u64,
    root: u64,
    total: u64,
    clusters: u64,
}

impl MakePlan {
    /// Finds the usual cluster size that suits the width, for `size` bytes in sectors of `sector`
    /// bytes. `unit` is the cluster size in bytes, if one is requested.
    ///
    /// # Errors
    /// [`MakeError`].
    pub fn of(
        kind: MakeKind,
        size: u64,
        sector: u64,
        unit: Option<u32>,
    ) -> Result<Self, MakeError> {
        let width = kind.for_size(size);
        let most = 65_536.min(sector * 128);
        if let Some(unit) = unit {
            let bytes = u64::from(unit);
            if !bytes.is_power_of_two() || bytes < sector || bytes > most {
                let why = format!("clusters have a power of two, {sector} to {most}");
                return Err(MakeError::Unit { unit, why });
            }
            let plan = Self::with_cluster(width, size, sector, bytes);
            return plan.ok_or_else(|| too_many_or_few(width, size));
        }
        let usual = width.usual_cluster(size).clamp(sector, most);
        // Smaller ones for more clusters; then larger ones for fewer.
        let halves =
            std::iter::successors(Some(usual), |c| Some(c / 2)).take_while(|c| *c >= sector);
        let doubles =
            std::iter::successors(Some(usual * 2), |c| Some(c * 2)).take_while(|c| *c <= most);
        let found = halves
            .chain(doubles)
            .find_map(|cluster| Self::with_cluster(width, size, sector, cluster));
        found.ok_or_else(|| too_many_or_few(width, size))
    }

    fn with_cluster(width: FatWidth, size: u64, sector: u64, cluster: u64) -> Option<Self> {
        let total = (size / sector).min(u64::from(u32::MAX));
        let is_large = width == FatWidth::Fat32;
        let root = if is_large {
            0
        } else {
            (ROOT_ENTRIES * ENTRY as u64).div_ceil(sector)
        };
        let least = if is_large { RESERVED_FAT32 } else { 1 };
        // Data is aligned for flash memory; there is enough room before it.
        let align = match size {
            _ if size >= 4096 * MIB => 4 * MIB,
            _ if size >= 256 * MIB => MIB,
            _ if size >= 16 * MIB => 64 << 10,
            _ => sector,
        };
        let align = (align.max(cluster) / sector).max(1);
        let mut plan = Self {
            width,
            sector,
            per_cluster: cluster / sector,
            reserved: least,
            table: 1,
            root,
            total,
            clusters: 0,
        };
        // Tables grow with the number of clusters, which in turn shrinks with the tables: this soon
        // converges.
        for _ in 0..8 {
            let front = least + COPIES * plan.table + root;
            plan.reserved = least + (front.next_multiple_of(align) - front);
            plan.clusters = total.checked_sub(plan.data())? / plan.per_cluster;
            let needed = width.table_bytes(plan.clusters + 2).div_ceil(sector);
            if needed <= plan.table {
                break;
            }
            plan.table = needed;
        }
        let fits = width.table_bytes(plan.clusters + 2) <= plan.table * sector
            && width.new_clusters().contains(&plan.clusters)
            && plan.reserved <= u64::from(u16::MAX)
            && (is_large || plan.table <= u64::from(u16::MAX));
        fits.then_some(plan)
    }

    /// Width of the table's entries.
    pub fn width(&self) -> FatWidth {
        self.width
    }

    /// First sector of the first cluster.
    fn data(&self) -> u64 {
        self.reserved + COPIES * self.table + self.root
    }

    fn boot_sector(&self, options: &MakeOptions) -> Vec<u8> {
        let is_large = self.width == FatWidth::Fat32;
        let mut raw = vec![0; self.sector as usize];
        let code = if is_large { 90 } else { 62 };
        raw[..3].copy_from_slice(&[0xeb, code as u8 - 2, 0x90]);
        raw[3..11].copy_from_slice(b"PINEWRIT");
        // Booting from this halts.
        raw[code..code + 4].copy_from_slice(&[0xfa, 0xf4, 0xeb, 0xfd]);
        put16(&mut raw, field::BYTS_PER_SEC, self.sector as u16);
        raw[field::SEC_PER_CLUS] = self.per_cluster as u8;
        put16(&mut raw, field::RSVD_SEC_CNT, self.reserved as u16);
        raw[field::NUM_FATS] = COPIES as u8;
        raw[field::MEDIA] = MEDIA;
        put16(&mut raw, field::SEC_PER_TRK, 63);
        put16(&mut raw, field::NUM_HEADS, 255);
        let hidden = u32::try_from(options.start / self.sector).unwrap_or(0);
        put32(&mut raw, field::HIDD_SEC, hidden);
        match u16::try_from(self.total) {
            Ok(total) if !is_large => put16(&mut raw, field::TOT_SEC_16, total),
            _ => put32(&mut raw, field::TOT_SEC_32, self.total as u32),
        }
        let tail = if is_large {
            put32(&mut raw, field::FAT_SZ_32, self.table as u32);
            put32(&mut raw, field::ROOT_CLUS, ROOT_CLUSTER);
            put16(&mut raw, field::FS_INFO, 1);
            put16(&mut raw, field::BK_BOOT_SEC, BACKUP as u16);
            field::TAIL_FAT32
        } else {
            put16(&mut raw, field::ROOT_ENT_CNT, ROOT_ENTRIES as u16);
            put16(&mut raw, field::FAT_SZ_16, self.table as u16);
            field::TAIL_SMALL
        };
        raw[tail..tail + 3].copy_from_slice(&[0x80, 0, 0x29]);
        raw[tail + field::VOL_ID..][..4].copy_from_slice(&options.id);
        raw[tail + field::VOL_LAB..][..11].copy_from_slice(&label(&options.label));
        let kind = format!("{:<8}", self.width.word());
        raw[tail + field::FIL_SYS_TYPE..][..8].copy_from_slice(kind.as_bytes());
        raw[field::SIGNATURE..field::SIGNATURE + 2].copy_from_slice(&[0x55, 0xaa]);
        raw
    }

    /// Free clusters and the next free one, as hints.
    fn info_sector(&self) -> Vec<u8> {
        let mut raw = vec![0; self.sector as usize];
        for (at, mark) in [info::LEAD_SIGNATURE, info::SIGNATURE, info::TRAIL_SIGNATURE] {
            raw[at..at + 4].copy_from_slice(&mark);
        }
        put32(&mut raw, info::FREE, (self.clusters - 1) as u32);
        put32(&mut raw, info::NEXT, ROOT_CLUSTER + 1);
        raw
    }

    /// Makes the file system at the start of `device`, the boot sector last.
    ///
    /// # Errors
    /// The device failed.
    pub fn make(&self, device: &dyn BlockDevice, options: &MakeOptions) -> Result<(), DiskError> {
        let at = |sectors: u64| sectors * self.sector;
        let is_large = self.width == FatWidth::Fat32;
        let root_cluster = if is_large { self.per_cluster } else { 0 };
        device.zero(ByteRange {
            start: 0,
            end: at(self.data() + root_cluster),
        })?;
        for copy in 0..COPIES {
            let start = at(self.reserved + copy * self.table);
            device.write_at(start, first_entries(self.width))?;
        }
        if !options.label.is_empty() {
            let entry = New {
                short: label(&options.label),
                attributes: attribute::VOLUME,
                cluster: 0,
                size: 0,
                stamp: options.made,
            };
            device.write_at(at(self.data() - self.root), &entry.bytes())?;
        }
        let boot = self.boot_sector(options);
        if is_large {
            for place in [1, BACKUP + 1] {
                device.write_at(at(place), &self.info_sector())?;
            }
            device.write_at(at(BACKUP), &boot)?;
        }
        device.flush()?;
        // Only now is it a file system.
        device.write_at(0, &boot)
    }
}

fn too_many_or_few(width: FatWidth, size: u64) -> MakeError {
    let why = match width {
        FatWidth::Fat32 => "at least 33.8 MB (on sectors of 512 bytes), at most 2 TiB are possible",
        FatWidth::Fat16 => "from 2.2 MB to 4 GB are possible",
        FatWidth::Fat12 => "up to 256 MB are possible",
    };
    MakeError::Size {
        kind: width.word(),
        size,
        why,
    }
}

/// A label as it is stored: in capitals, padded with spaces.
fn label(text: &str) -> [u8; 11] {
    if text.is_empty() {
        return NO_NAME;
    }
    let mut raw = [b' '; 11];
    for (place, byte) in raw.iter_mut().zip(text.bytes()) {
        *place = byte.to_ascii_uppercase();
    }
    raw
}

/// The two entries that stand for no cluster, and the root directory's of FAT32.
fn first_entries(width: FatWidth) -> &'static [u8] {
    match width {
        FatWidth::Fat12 => &[MEDIA, 0xff, 0xff],
        FatWidth::Fat16 => &[MEDIA, 0xff, 0xff, 0xff],
        FatWidth::Fat32 => &[
            MEDIA, 0xff, 0xff, 0x0f, 0xff, 0xff, 0xff, 0x0f, 0xff, 0xff, 0xff, 0x0f,
        ],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn clusters_are_as_many_as_the_width_says(
        #[values(MakeKind::Fat12, MakeKind::Fat16, MakeKind::Fat32, MakeKind::BySize)]
        kind: MakeKind,
        #[values(512, 4096)] sector: u64,
    ) {
        let mut size = 300_000;
        while size < 3 << 40 {
            if let Ok(plan) = MakePlan::of(kind, size, sector, None) {
                assert!(
                    plan.width.new_clusters().contains(&plan.clusters),
                    "{plan:?}"
                );
                let end = plan.data() + plan.clusters * plan.per_cluster;
                assert!(end <= size / sector, "{plan:?}");
            }
            size += size / 7;
        }
    }
}
