//! FAT12, FAT16 and FAT32 from nothing (Microsoft FAT specification 1.03).

use pinewrit_disk::{BlockDevice, ByteRange, DiskError};

use super::{FormatError, FormatOptions};

const MIB: u64 = 1 << 20;
/// Entries of the root directory of FAT12 and FAT16.
const ROOT_ENTRIES: u64 = 512;
const ENTRY: u64 = 32;
const COPIES: u64 = 2;
/// Where FAT32 keeps the copy of its boot sector, and how many sectors it keeps at least.
const BACKUP: u64 = 6;
const RESERVED_FAT32: u64 = 32;

/// A width, or the one that suits the size.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FatKind {
    /// 12 bits an entry.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
    /// FAT12 below 16 MB, FAT16 below 512 MB, FAT32 above.
    BySize,
}

impl FatKind {
    fn for_size(self, size: u64) -> Self {
        match self {
            Self::BySize if size < 16 * MIB => Self::Fat12,
            Self::BySize if size < 512 * MIB => Self::Fat16,
            Self::BySize => Self::Fat32,
            chosen => chosen,
        }
    }

    fn name(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::BySize => "FAT",
        }
    }

    /// How many clusters it must have, "FAT Type Determination". Some are left out at both ends,
    /// since readers differ by a few.
    fn clusters(self) -> std::ops::RangeInclusive<u64> {
        match self {
            Self::Fat12 => 16..=4078,
            Self::Fat16 => 4087..=65_518,
            Self::Fat32 | Self::BySize => 65_526..=0x0fff_fff0,
        }
    }

    fn table_bytes(self, entries: u64) -> u64 {
        match self {
            Self::Fat12 => (entries * 3).div_ceil(2),
            Self::Fat16 => entries * 2,
            Self::Fat32 | Self::BySize => entries * 4,
        }
    }

    /// Bytes in a cluster, as the SD specification's own formats have them (part 2, "Sectors per
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

/// Where things go; all in sectors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Layout {
    kind: FatKind,
    sector: u64,
    per_cluster: u64,
    reserved: u64,
    table: u64,
    root: u64,
    total: u64,
    clusters: u64,
}

impl Layout {
    /// Finds the largest usual clusters with which the width is right.
    pub(super) fn plan(
        kind: FatKind,
        size: u64,
        sector: u64,
        unit: Option<u32>,
    ) -> Result<Self, FormatError> {
        let kind = kind.for_size(size);
        let most = 65_536.min(sector * 128);
        if let Some(unit) = unit {
            let bytes = u64::from(unit);
            if !bytes.is_power_of_two() || bytes < sector || bytes > most {
                let why = format!("clusters have a power of two, {sector} to {most}");
                return Err(FormatError::Unit { unit, why });
            }
            let layout = Self::with_cluster(kind, size, sector, bytes);
            return layout.ok_or_else(|| too_many_or_few(kind, size));
        }
        let mut cluster = kind.usual_cluster(size).clamp(sector, most);
        // Smaller ones for more clusters; then larger ones for fewer.
        let mut tries = Vec::new();
        while cluster >= sector {
            tries.push(cluster);
            cluster /= 2;
        }
        let mut larger = tries[0] * 2;
        while larger <= most {
            tries.push(larger);
            larger *= 2;
        }
        let found = tries
            .iter()
            .find_map(|&c| Self::with_cluster(kind, size, sector, c));
        found.ok_or_else(|| too_many_or_few(kind, size))
    }

    fn with_cluster(kind: FatKind, size: u64, sector: u64, cluster: u64) -> Option<Self> {
        let total = (size / sector).min(u64::from(u32::MAX));
        let is_large = kind == FatKind::Fat32;
        let root = match is_large {
            true => 0,
            false => (ROOT_ENTRIES * ENTRY).div_ceil(sector),
        };
        let least = if is_large { RESERVED_FAT32 } else { 1 };
        // Data begins where flash likes it; there is room enough for that in front.
        let align = match size {
            _ if size >= 4096 * MIB => 4 * MIB,
            _ if size >= 256 * MIB => MIB,
            _ if size >= 16 * MIB => 64 << 10,
            _ => sector,
        };
        let align = (align.max(cluster) / sector).max(1);
        let mut layout = Self {
            kind,
            sector,
            per_cluster: cluster / sector,
            reserved: least,
            table: 1,
            root,
            total,
            clusters: 0,
        };
        // Tables grow with clusters, and clusters shrink with tables: it settles soon.
        for _ in 0..8 {
            let front = least + COPIES * layout.table + root;
            layout.reserved = least + (front.next_multiple_of(align) - front);
            let data = total.checked_sub(layout.data())?;
            layout.clusters = data / layout.per_cluster;
            let bytes = kind.table_bytes(layout.clusters + 2);
            let needed = bytes.div_ceil(sector);
            if needed <= layout.table {
                break;
            }
            layout.table = needed;
        }
        let fits = kind.table_bytes(layout.clusters + 2) <= layout.table * sector
            && kind.clusters().contains(&layout.clusters)
            && layout.reserved <= u64::from(u16::MAX)
            && (is_large || layout.table <= u64::from(u16::MAX));
        fits.then_some(layout)
    }

    /// First sector of the first cluster.
    fn data(&self) -> u64 {
        self.reserved + COPIES * self.table + self.root
    }

    fn boot_sector(&self, options: &FormatOptions) -> Vec<u8> {
        let is_large = self.kind == FatKind::Fat32;
        let mut raw = vec![0; self.sector as usize];
        let code = if is_large { 90 } else { 62 };
        raw[..3].copy_from_slice(&[0xeb, code as u8 - 2, 0x90]);
        raw[3..11].copy_from_slice(b"PINEWRIT");
        // Whoever starts this halts.
        raw[code..code + 4].copy_from_slice(&[0xfa, 0xf4, 0xeb, 0xfd]);
        let mut put = |at: usize, bytes: &[u8]| raw[at..at + bytes.len()].copy_from_slice(bytes);
        put(11, &(self.sector as u16).to_le_bytes());
        put(13, &[self.per_cluster as u8]);
        put(14, &(self.reserved as u16).to_le_bytes());
        put(16, &[COPIES as u8]);
        put(21, &[0xf8]);
        put(24, &63u16.to_le_bytes());
        put(26, &255u16.to_le_bytes());
        let hidden = u32::try_from(options.start / self.sector).unwrap_or(0);
        put(28, &hidden.to_le_bytes());
        match u16::try_from(self.total) {
            Ok(total) if !is_large => put(19, &total.to_le_bytes()),
            _ => put(32, &(self.total as u32).to_le_bytes()),
        }
        let tail = if is_large {
            put(36, &(self.table as u32).to_le_bytes());
            put(44, &2u32.to_le_bytes());
            put(48, &1u16.to_le_bytes());
            put(50, &(BACKUP as u16).to_le_bytes());
            64
        } else {
            put(17, &(ROOT_ENTRIES as u16).to_le_bytes());
            put(22, &(self.table as u16).to_le_bytes());
            36
        };
        put(tail, &[0x80, 0, 0x29]);
        put(tail + 3, &options.seed[..4]);
        put(tail + 7, &label(&options.label));
        put(tail + 18, format!("{:<8}", self.kind.name()).as_bytes());
        put(510, &[0x55, 0xaa]);
        raw
    }

    /// Free clusters and the next free one, as hints ("FSInfo").
    fn info_sector(&self) -> Vec<u8> {
        let mut raw = vec![0; self.sector as usize];
        raw[..4].copy_from_slice(b"RRaA");
        raw[484..488].copy_from_slice(b"rrAa");
        let free = (self.clusters - 1) as u32;
        raw[488..492].copy_from_slice(&free.to_le_bytes());
        raw[492..496].copy_from_slice(&3u32.to_le_bytes());
        raw[508..512].copy_from_slice(&[0, 0, 0x55, 0xaa]);
        raw
    }
}

fn too_many_or_few(kind: FatKind, size: u64) -> FormatError {
    let least = match kind {
        FatKind::Fat32 => "at least 33.8 MB (on sectors of 512 bytes), at most 2 TiB",
        FatKind::Fat16 => "from 2.2 MB to 4 GB",
        _ => "up to 256 MB",
    };
    FormatError::Size {
        kind: kind.name(),
        size,
        why: format!("{least} are possible"),
    }
}

/// A label as it is kept: in capitals, filled up with blanks.
fn label(text: &str) -> [u8; 11] {
    let mut raw = [b' '; 11];
    let text = if text.is_empty() { "NO NAME" } else { text };
    for (place, byte) in raw.iter_mut().zip(text.bytes()) {
        *place = byte.to_ascii_uppercase();
    }
    raw
}

pub(super) fn make(
    partition: &dyn BlockDevice,
    kind: FatKind,
    options: &FormatOptions,
) -> Result<(), FormatError> {
    let sector = partition.logical_sector().bytes();
    let layout = Layout::plan(kind, partition.size(), sector, options.unit)?;
    let at = |sectors: u64| sectors * sector;
    let front = layout.data()
        + if layout.root == 0 {
            layout.per_cluster
        } else {
            0
        };
    partition.zero(ByteRange {
        start: 0,
        end: at(front),
    })?;
    for copy in 0..COPIES {
        let start = at(layout.reserved + copy * layout.table);
        partition.write_at(start, first_entries(layout.kind))?;
    }
    if !options.label.is_empty() {
        let mut entry = [0; ENTRY as usize];
        entry[..11].copy_from_slice(&label(&options.label));
        entry[11] = 0x08;
        let (date, time) = dos_time(options.now.seconds);
        entry[22..24].copy_from_slice(&time.to_le_bytes());
        entry[24..26].copy_from_slice(&date.to_le_bytes());
        partition.write_at(at(layout.data() - layout.root), &entry)?;
    }
    let boot = layout.boot_sector(options);
    if layout.kind == FatKind::Fat32 {
        for place in [1, BACKUP + 1] {
            partition.write_at(at(place), &layout.info_sector())?;
        }
        partition.write_at(at(BACKUP), &boot)?;
    }
    partition.flush()?;
    // From here on it is a file system.
    Ok(write_boot(partition, &boot)?)
}

fn write_boot(partition: &dyn BlockDevice, boot: &[u8]) -> Result<(), DiskError> {
    partition.write_at(0, boot)
}

/// The two entries that stand for no cluster, and the root directory's of FAT32.
fn first_entries(kind: FatKind) -> &'static [u8] {
    match kind {
        FatKind::Fat12 => &[0xf8, 0xff, 0xff],
        FatKind::Fat16 => &[0xf8, 0xff, 0xff, 0xff],
        FatKind::Fat32 | FatKind::BySize => &[
            0xf8, 0xff, 0xff, 0x0f, 0xff, 0xff, 0xff, 0x0f, 0xff, 0xff, 0xff, 0x0f,
        ],
    }
}

/// Date and time as FAT has them, from seconds since 1970 in UTC; 1980 is the first year.
pub(crate) fn dos_time(seconds: i64) -> (u16, u16) {
    let first = 315_532_800;
    let seconds = seconds.clamp(first, 4_354_819_198);
    let (days, rest) = (seconds.div_euclid(86_400), seconds.rem_euclid(86_400));
    // Days to year, month and day: H. Hinnant, "chrono-Compatible Low-Level Date Algorithms".
    let shifted = days + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era =
        (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 {
        shifted_month + 3
    } else {
        shifted_month - 9
    };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    let date = (year - 1980) << 9 | month << 5 | day;
    let time = (rest / 3600) << 11 | (rest / 60 % 60) << 5 | (rest % 60 / 2);
    (date as u16, time as u16)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::first(0, 1980, 1, 1)]
    #[case::leap_day(1_709_210_096, 2024, 2, 29)]
    #[case::now(1_795_435_200, 2026, 11, 23)]
    fn dates_are_those_of_the_calendar(
        #[case] seconds: i64,
        #[case] year: u16,
        #[case] month: u16,
        #[case] day: u16,
    ) {
        let (date, _) = dos_time(seconds);
        assert_eq!((date >> 9) + 1980, year);
        assert_eq!((date >> 5 & 15, date & 31), (month, day));
    }

    #[rstest]
    fn clusters_are_as_many_as_the_width_says(
        #[values(FatKind::Fat12, FatKind::Fat16, FatKind::Fat32, FatKind::BySize)] kind: FatKind,
        #[values(512, 4096)] sector: u64,
    ) {
        let mut size = 300_000;
        while size < 3 << 40 {
            if let Ok(layout) = Layout::plan(kind, size, sector, None) {
                let chosen = kind.for_size(size);
                assert!(chosen.clusters().contains(&layout.clusters), "{layout:?}");
                let end = layout.data() + layout.clusters * layout.per_cluster;
                assert!(end <= size / sector, "{layout:?}");
            }
            size += size / 7;
        }
    }
}
