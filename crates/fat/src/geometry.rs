//! The boot sector: where everything in a FAT file system is.
//!
//! Microsoft FAT specification 1.03, "Boot Sector and BPB" and "FAT Type Determination".

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, SectorSize};

use pinewrit_disk::bytes::{u16le, u32le};

/// Bytes of the boot sector that hold everything, whatever the sector size.
pub(crate) const BOOT: usize = 512;
/// Clusters from which a file system is FAT16, and from which it is FAT32.
pub(crate) const LEAST_FAT16: u64 = 4085;
pub(crate) const LEAST_FAT32: u64 = 65525;
/// Clusters that 28 bits can name.
pub(crate) const MOST_CLUSTERS: u64 = 0x0fff_fff5;

/// Offsets of the fields in the boot sector, in bytes, under the names of the specification.
pub(crate) mod field {
    pub(crate) const BYTS_PER_SEC: usize = 11;
    pub(crate) const SEC_PER_CLUS: usize = 13;
    pub(crate) const RSVD_SEC_CNT: usize = 14;
    pub(crate) const NUM_FATS: usize = 16;
    pub(crate) const ROOT_ENT_CNT: usize = 17;
    pub(crate) const TOT_SEC_16: usize = 19;
    pub(crate) const MEDIA: usize = 21;
    pub(crate) const FAT_SZ_16: usize = 22;
    pub(crate) const SEC_PER_TRK: usize = 24;
    pub(crate) const NUM_HEADS: usize = 26;
    pub(crate) const HIDD_SEC: usize = 28;
    pub(crate) const TOT_SEC_32: usize = 32;
    pub(crate) const FAT_SZ_32: usize = 36;
    pub(crate) const EXT_FLAGS: usize = 40;
    pub(crate) const ROOT_CLUS: usize = 44;
    pub(crate) const FS_INFO: usize = 48;
    pub(crate) const BK_BOOT_SEC: usize = 50;
    /// `BS_DrvNum` of FAT12 and FAT16; the fields from here on are in the same order in FAT32.
    pub(crate) const TAIL_SMALL: usize = 36;
    /// `BS_DrvNum` of FAT32.
    pub(crate) const TAIL_FAT32: usize = 64;
    /// From `BS_DrvNum` on.
    pub(crate) const RESERVED1: usize = 1;
    pub(crate) const BOOT_SIG: usize = 2;
    pub(crate) const VOL_ID: usize = 3;
    pub(crate) const VOL_LAB: usize = 7;
    pub(crate) const FIL_SYS_TYPE: usize = 18;
    pub(crate) const SIGNATURE: usize = 510;
}

/// The label in a boot sector where there is none.
pub(crate) const NO_NAME: [u8; 11] = *b"NO NAME    ";

/// Width of an entry in the allocation table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FatWidth {
    /// 12 bits.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
}

impl FatWidth {
    /// Name of the kind: `FAT32`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
        }
    }

    /// Bits of an entry.
    pub fn bits(self) -> u8 {
        match self {
            Self::Fat12 => 12,
            Self::Fat16 => 16,
            Self::Fat32 => 32,
        }
    }

    /// Bytes that this many entries take.
    pub(crate) fn table_bytes(self, entries: u64) -> u64 {
        match self {
            Self::Fat12 => (entries * 3).div_ceil(2),
            Self::Fat16 => entries * 2,
            Self::Fat32 => entries * 4,
        }
    }
}

/// The layout of a FAT file system. All numbers have been checked against each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Width of the table's entries.
    pub width: FatWidth,
    /// Bytes in a sector.
    pub sector: u64,
    /// Bytes in a cluster.
    pub cluster: u64,
    /// Number of data clusters; the first is number 2.
    pub clusters: u64,
    /// Where data clusters begin, in bytes. Everything before is metadata.
    pub data_start: u64,
    /// Size of the file system in bytes.
    pub size: u64,
    /// The first allocation table.
    pub(crate) table: ByteRange,
    /// Copies of the allocation table.
    pub(crate) copies: u64,
    /// The only copy in use, where they are not mirrored (FAT32).
    pub(crate) active: Option<u64>,
    /// The root directory of FAT12 and FAT16; empty for FAT32.
    pub(crate) root_directory: ByteRange,
    /// First cluster of the root directory; 0 for FAT12 and FAT16.
    pub(crate) root_cluster: u32,
    /// Where the counts of free clusters are, in bytes (FAT32).
    pub(crate) info: Option<u64>,
    /// Where the copy of the boot sector is, in bytes (FAT32).
    pub(crate) backup: Option<u64>,
    pub(crate) volume_id: u32,
    pub(crate) label: [u8; 11],
    /// There is a label and an identifier.
    pub(crate) is_extended: bool,
    /// `BS_Reserved1`, in which systems note that a volume is mounted (bit 0) or has errors (bit 1).
    pub(crate) state: u8,
}

impl Geometry {
    /// Reads the geometry; `None` if this is not a FAT file system, or one whose numbers do not fit
    /// together or reach past the device.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, DiskError> {
        let mut boot = [0; BOOT];
        match device.read_at(0, &mut boot) {
            Err(DiskError::PastEnd { .. }) => return Ok(None),
            read => read?,
        }
        let geometry = Self::from_boot_sector(&boot);
        Ok(geometry.filter(|geometry| geometry.size <= device.size()))
    }

    /// The geometry that a boot sector describes, whatever the size of the device.
    pub fn from_boot_sector(boot: &[u8; BOOT]) -> Option<Self> {
        let byts_per_sec = u16le(boot, field::BYTS_PER_SEC);
        let sec_per_clus = boot[field::SEC_PER_CLUS];
        let rsvd_sec_cnt = u64::from(u16le(boot, field::RSVD_SEC_CNT));
        let num_fats = u64::from(boot[field::NUM_FATS]);
        let root_ent_cnt = u64::from(u16le(boot, field::ROOT_ENT_CNT));
        let media = boot[field::MEDIA];
        let is_fat32 = u16le(boot, field::FAT_SZ_16) == 0;
        let either = |small: usize, large: usize| match u16le(boot, small) {
            0 => u64::from(u32le(boot, large)),
            small => u64::from(small),
        };
        let tot_sec = either(field::TOT_SEC_16, field::TOT_SEC_32);
        let fat_sz = either(field::FAT_SZ_16, field::FAT_SZ_32);
        let is_plausible = matches!(boot[0], 0xeb | 0xe9)
            && boot[field::SIGNATURE..] == [0x55, 0xaa]
            && SectorSize::new(u32::from(byts_per_sec)).is_some_and(|s| s.bytes() <= 4096)
            && sec_per_clus.is_power_of_two()
            && num_fats > 0
            && rsvd_sec_cnt > 0
            && fat_sz > 0
            && (media == 0xf0 || media >= 0xf8)
            && is_fat32 == (root_ent_cnt == 0);
        if !is_plausible {
            return None;
        }
        let sector = u64::from(byts_per_sec);
        let root_sectors = (root_ent_cnt * 32).div_ceil(sector);
        let tables_end = rsvd_sec_cnt + num_fats * fat_sz;
        let data_sector = tables_end + root_sectors;
        let clusters = tot_sec.checked_sub(data_sector)? / u64::from(sec_per_clus);
        // Small boot partitions are often FAT32 with fewer clusters than the specification asks for.
        // Systems go by the form of the boot sector, and so do we.
        let width = match clusters {
            _ if is_fat32 => FatWidth::Fat32,
            ..LEAST_FAT16 => FatWidth::Fat12,
            LEAST_FAT16..LEAST_FAT32 => FatWidth::Fat16,
            _ => return None,
        };
        let table = ByteRange::from_len(rsvd_sec_cnt * sector, fat_sz * sector)?;
        if clusters == 0
            || clusters > MOST_CLUSTERS
            || width.table_bytes(clusters + 2) > table.len()
        {
            return None;
        }
        let tail = if is_fat32 {
            field::TAIL_FAT32
        } else {
            field::TAIL_SMALL
        };
        let is_extended = matches!(boot[tail + field::BOOT_SIG], 0x28 | 0x29);
        let mut label = NO_NAME;
        if boot[tail + field::BOOT_SIG] == 0x29 {
            let at = tail + field::VOL_LAB;
            label.copy_from_slice(&boot[at..at + 11]);
        }
        // A sector in the reserved area, as a byte offset; 0 and all ones mean that there is none.
        let reserved = |at: usize| {
            let number = u64::from(u16le(boot, at));
            (is_fat32 && (1..rsvd_sec_cnt).contains(&number)).then_some(number * sector)
        };
        let ext_flags = u16le(boot, field::EXT_FLAGS);
        Some(Self {
            width,
            sector,
            cluster: sector * u64::from(sec_per_clus),
            clusters,
            data_start: data_sector * sector,
            size: tot_sec * sector,
            table,
            copies: num_fats,
            active: (is_fat32 && ext_flags & 0x80 != 0).then_some(u64::from(ext_flags & 15)),
            root_directory: ByteRange::new(tables_end * sector, data_sector * sector)?,
            root_cluster: if is_fat32 {
                u32le(boot, field::ROOT_CLUS) & 0x0fff_ffff
            } else {
                0
            },
            info: reserved(field::FS_INFO),
            backup: reserved(field::BK_BOOT_SEC),
            volume_id: u32le(boot, tail + field::VOL_ID),
            label,
            is_extended,
            state: boot[tail + field::RESERVED1],
        })
    }

    /// Puts those of the first sectors of a FAT32 that `is_lost` back from their copy, where systems put it
    /// ("BPB_BkBootSec": no value other than 6 is recommended). `false`: there is none.
    ///
    /// # Errors
    /// The device failed.
    pub fn restore(
        device: &dyn BlockDevice,
        is_lost: &dyn Fn(ByteRange) -> bool,
    ) -> Result<bool, DiskError> {
        const COPY: u64 = 6;
        const SECTORS: u64 = 3;
        let sector = device.logical_sector().bytes();
        if device.size() < (COPY + SECTORS) * sector {
            return Ok(false);
        }
        let mut raw = vec![0; (SECTORS * sector) as usize];
        device.read_at(COPY * sector, &mut raw)?;
        let boot = raw.first_chunk().and_then(Self::from_boot_sector);
        let fits =
            |found: &Self| found.backup == Some(COPY * sector) && found.size <= device.size();
        let Some(boot) = boot.filter(fits) else {
            return Ok(false);
        };
        // "FSI_Free_Count", "FSI_Nxt_Free": the copy is as old as the file system.
        let counts = (sector + 488) as usize;
        if boot.info == Some(sector) {
            raw[counts..counts + 8].fill(0xff);
        }
        for (start, bytes) in (0..)
            .step_by(sector as usize)
            .zip(raw.chunks_exact(sector as usize))
        {
            let end = start + sector;
            if is_lost(ByteRange { start, end }) {
                device.write_at(start, bytes)?;
            }
        }
        Ok(true)
    }

    /// The volume's identifier, as `4E21-0F37`; `None` where there is none.
    pub fn id(&self) -> Option<String> {
        let (high, low) = (self.volume_id >> 16, self.volume_id & 0xffff);
        self.is_extended.then(|| format!("{high:04X}-{low:04X}"))
    }

    /// Tells a FAT file system that it begins at another sector of its medium ("BPB_HiddSec", which some boot
    /// code reads), if it knew the old one.
    ///
    /// # Errors
    /// The device failed.
    pub fn set_hidden(device: &dyn BlockDevice, (old, new): (u64, u64)) -> Result<(), DiskError> {
        let Some(geometry) = Self::read(device)? else {
            return Ok(());
        };
        let Ok(new) = u32::try_from(new) else {
            return Ok(());
        };
        for start in [Some(0), geometry.backup].into_iter().flatten() {
            let mut field = [0; 4];
            let at = start + field::HIDD_SEC as u64;
            device.read_at(at, &mut field)?;
            if u64::from(u32::from_le_bytes(field)) == old {
                device.write_at(at, &new.to_le_bytes())?;
            }
        }
        Ok(())
    }

    /// The copies of the allocation table that are kept equal, in bytes.
    pub fn tables(&self) -> Vec<ByteRange> {
        let len = self.table.len();
        let starts = self.written_tables().into_iter();
        starts
            .map(|start| ByteRange {
                start,
                end: start + len,
            })
            .collect()
    }

    /// Whether it has as many clusters as its width requires. Operating systems read others as
    /// well, some firmware does not.
    pub fn is_regular(&self) -> bool {
        self.width != FatWidth::Fat32 || self.clusters >= LEAST_FAT32
    }

    /// Offsets of the label and of what precedes it, from the start of the boot sector.
    pub(crate) fn tail(&self) -> usize {
        match self.width {
            FatWidth::Fat32 => field::TAIL_FAT32,
            _ => field::TAIL_SMALL,
        }
    }

    /// Where each copy of the table that is kept up to date starts.
    pub(crate) fn written_tables(&self) -> Vec<u64> {
        let start = |copy: u64| self.table.start + copy * self.table.len();
        match self.active {
            Some(copy) => vec![start(copy.min(self.copies - 1))],
            None => (0..self.copies).map(start).collect(),
        }
    }

    /// Where the copy that is read starts.
    pub(crate) fn table_start(&self) -> u64 {
        self.table.start + self.active.unwrap_or(0).min(self.copies - 1) * self.table.len()
    }

    /// Bytes of a table that describe clusters.
    pub(crate) fn table_bytes(&self) -> u64 {
        self.width.table_bytes(self.clusters + 2)
    }

    /// Whether a cluster with this number exists.
    pub(crate) fn has(&self, cluster: u32) -> bool {
        (2..self.clusters + 2).contains(&u64::from(cluster))
    }

    /// Where a cluster lies, in bytes.
    pub(crate) fn place(&self, cluster: u32) -> ByteRange {
        let start = self.data_start + u64::from(cluster.saturating_sub(2)) * self.cluster;
        ByteRange {
            start,
            end: start + self.cluster,
        }
    }
}
