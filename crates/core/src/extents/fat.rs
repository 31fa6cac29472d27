//! What is in use in a FAT file system, from its allocation tables.

use pinewrit_disk::ByteRange;

use super::ranges::runs_of_ones;
use super::{Doubt, Request, Token};
use crate::filesystem::{FatGeometry, FatWidth};

/// Tables are looked at in pieces of this many bytes, which hold whole entries of every width.
const PIECE: u64 = 96 << 10;
/// More clusters than FAT32 can have.
const MAX_CLUSTERS: u64 = 1 << 28;

pub(super) struct FatScan {
    geometry: FatGeometry,
    /// A bit for each cluster, from the first.
    used: Vec<u8>,
    pieces_left: u64,
    free: u64,
    pub(super) doubt: Option<Doubt>,
}

impl FatScan {
    /// A scan of the file system with this boot sector, in a partition of `len` bytes. `None` if
    /// it is no such file system.
    pub(super) fn begin(sector: &[u8; 512], len: u64) -> Option<(Self, Vec<Request>)> {
        let geometry = FatGeometry::from_bytes(sector)?;
        let mut scan = Self {
            geometry,
            used: Vec::new(),
            pieces_left: 0,
            free: 0,
            doubt: None,
        };
        scan.doubt = scan.doubt_of(sector, len);
        if scan.doubt.is_some() {
            return Some((scan, Vec::new()));
        }
        scan.used = vec![0; geometry.clusters.div_ceil(8) as usize];
        let table = geometry.table.len();
        let copies = (geometry.tables_end() - geometry.table.start) / table;
        let mut requests = Vec::new();
        for copy in 0..copies {
            let start = geometry.table.start + copy * table;
            let covered = geometry.width.table_bytes(geometry.clusters + 2);
            for first in (0..covered).step_by(PIECE as usize) {
                let end = covered.min(first + PIECE);
                let range = ByteRange {
                    start: start + first,
                    end: start + end,
                };
                requests.push((range, Token::Table { copy, first }));
            }
        }
        scan.pieces_left = requests.len() as u64;
        Some((scan, requests))
    }

    fn doubt_of(&self, sector: &[u8; 512], len: u64) -> Option<Doubt> {
        let is_wide = self.geometry.width == FatWidth::Fat32;
        // The dirty flag that some systems set while it is mounted, and the one for errors.
        let flags = sector[if is_wide { 0x41 } else { 0x25 }];
        if flags & 3 != 0 {
            return Some(Doubt::Unclean("it was not unmounted, or has errors"));
        }
        // BPB_ExtFlags: only one of the tables is kept up to date.
        if is_wide && sector[40] & 0x80 != 0 {
            return Some(Doubt::Unknown("its tables, which are not mirrored,"));
        }
        if self.geometry.size > len || self.geometry.clusters > MAX_CLUSTERS {
            return Some(Doubt::Damaged("its size"));
        }
        None
    }

    /// Its free bytes, once that is known.
    pub(super) fn free(&self) -> u64 {
        match self.doubt {
            Some(_) => 0,
            None => self.free,
        }
    }

    pub(super) fn take(&mut self, token: Token, bytes: &[u8]) {
        let Token::Table { copy, first } = token else {
            return;
        };
        self.pieces_left -= 1;
        if first == 0 && copy == 0 {
            self.look_at_marks(bytes);
        }
        let width = self.geometry.width;
        let before = width.entries_in(first);
        for index in 0..width.entries_in(bytes.len() as u64) {
            let entry = before + index;
            let cluster = entry.wrapping_sub(2);
            if entry < 2 || cluster >= self.geometry.clusters {
                continue;
            }
            // A cluster that any of the copies has in use is in use.
            if width.entry(bytes, index) != 0 {
                self.used[(cluster / 8) as usize] |= 1 << (cluster % 8);
            }
        }
        if self.pieces_left == 0 {
            let used = self.used.iter();
            let used: u64 = used.map(|byte| u64::from(byte.count_ones())).sum();
            self.free = (self.geometry.clusters - used) * self.geometry.cluster;
        }
    }

    /// The first two entries are no clusters: Microsoft FAT specification 1.03, "FAT Data
    /// Structure": the medium's kind, and flags for "unmounted" and "no errors".
    fn look_at_marks(&mut self, bytes: &[u8]) {
        let (unmounted, sound) = match self.geometry.width {
            FatWidth::Fat12 => return,
            FatWidth::Fat16 => (0x8000, 0x4000),
            FatWidth::Fat32 => (0x0800_0000, 0x0400_0000),
        };
        let mark = self.geometry.width.entry(bytes, 1);
        if mark & (unmounted | sound) != unmounted | sound {
            self.doubt = Some(Doubt::Unclean("it was not unmounted, or has errors"));
        }
    }

    /// What is in use of `range`, in bytes from the file system's start.
    pub(super) fn used(&self, range: ByteRange) -> Vec<ByteRange> {
        if self.doubt.is_some() || self.pieces_left > 0 {
            return vec![range];
        }
        let (start, size) = (self.geometry.data_start, self.geometry.cluster);
        let end = start + self.geometry.clusters * size;
        let mut used = Vec::new();
        used.extend(
            ByteRange {
                start: 0,
                end: start,
            }
            .intersection(range),
        );
        used.extend(
            ByteRange {
                start: end,
                end: u64::MAX,
            }
            .intersection(range),
        );
        if let Some(data) = (ByteRange { start, end }).intersection(range) {
            let clusters = (data.start - start) / size..(data.end - start).div_ceil(size);
            for run in runs_of_ones(&self.used, clusters) {
                let run = ByteRange {
                    start: start + run.start * size,
                    end: start + run.end * size,
                };
                used.extend(run.intersection(range));
            }
        }
        used
    }
}
