//! Which bytes are in use, found while the file system streams by: only its first sector must be
//! known at the start.

use pinewrit_disk::ByteRange;

use crate::geometry::{BOOT, Geometry};
use crate::table::{Link, PAGE};

/// Why the used ranges cannot be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum UsageDoubt {
    /// It was not unmounted, or has errors.
    Unclean,
    /// Only one of its tables is kept up to date.
    NotMirrored,
    /// It is larger than the partition.
    Size,
}

/// A piece of an allocation table that must be seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TableRead {
    copy: u64,
    /// Where in the table, in bytes.
    first: u64,
}

/// What is in use in a file system.
pub struct Usage {
    geometry: Geometry,
    /// A bit for each cluster, from the first.
    used: Vec<u8>,
    reads_left: u64,
    free: u64,
    doubt: Option<UsageDoubt>,
}

impl Usage {
    /// Starts with the boot sector of a file system in a partition of `len` bytes, and says which
    /// of its ranges to pass to [`Usage::take`]. `None` if it is not a FAT.
    pub fn begin(boot: &[u8; BOOT], len: u64) -> Option<(Self, Vec<(ByteRange, TableRead)>)> {
        let geometry = Geometry::from_boot_sector(boot)?;
        let mut usage = Self {
            geometry,
            used: Vec::new(),
            reads_left: 0,
            free: 0,
            doubt: None,
        };
        usage.doubt = usage.first_doubt(len);
        if usage.doubt.is_some() {
            return Some((usage, Vec::new()));
        }
        usage.used = vec![0; geometry.clusters.div_ceil(8) as usize];
        let mut reads = Vec::new();
        for (copy, start) in (0..).zip(geometry.written_tables()) {
            let covered = geometry.table_bytes();
            for first in (0..covered).step_by(PAGE as usize) {
                let range = ByteRange {
                    start: start + first,
                    end: start + covered.min(first + PAGE),
                };
                reads.push((range, TableRead { copy, first }));
            }
        }
        usage.reads_left = reads.len() as u64;
        Some((usage, reads))
    }

    fn first_doubt(&self, len: u64) -> Option<UsageDoubt> {
        if self.geometry.state & 3 != 0 {
            return Some(UsageDoubt::Unclean);
        }
        if self.geometry.active.is_some() {
            return Some(UsageDoubt::NotMirrored);
        }
        (self.geometry.size > len).then_some(UsageDoubt::Size)
    }

    /// Why nothing can be said, if so.
    pub fn doubt(&self) -> Option<UsageDoubt> {
        self.doubt
    }

    /// Free bytes, once that is known.
    pub fn free(&self) -> u64 {
        match self.doubt {
            Some(_) => 0,
            None => self.free,
        }
    }

    /// Takes a piece of a table that was asked for.
    pub fn take(&mut self, read: TableRead, bytes: &[u8]) {
        self.reads_left = self.reads_left.saturating_sub(1);
        let width = self.geometry.width;
        if read.first == 0 && read.copy == 0 && !width.is_sound_mark(width.entry(bytes, 1)) {
            self.doubt = Some(UsageDoubt::Unclean);
        }
        let before = width.entries_in(read.first);
        for index in 0..width.entries_in(bytes.len() as u64) {
            let cluster = (before + index) as u32;
            if !self.geometry.has(cluster) {
                continue;
            }
            // A cluster is in use if any copy of the table says so.
            if self.geometry.link(width.entry(bytes, index)) != Link::Free {
                let bit = cluster - 2;
                self.used[(bit / 8) as usize] |= 1 << (bit % 8);
            }
        }
        if self.reads_left == 0 {
            let used = self.used.iter();
            let used: u64 = used.map(|byte| u64::from(byte.count_ones())).sum();
            self.free = (self.geometry.clusters - used) * self.geometry.cluster;
        }
    }

    /// The used parts of `range`, in bytes from the start of the file system; all of it until every
    /// piece has been taken.
    pub fn used(&self, range: ByteRange) -> Vec<ByteRange> {
        if self.doubt.is_some() || self.reads_left > 0 {
            return vec![range];
        }
        let (start, size) = (self.geometry.data_start, self.geometry.cluster);
        let end = start + self.geometry.clusters * size;
        let outside = [(0, start), (end, u64::MAX)];
        let mut used: Vec<ByteRange> = outside
            .into_iter()
            .filter_map(|(start, end)| ByteRange { start, end }.intersection(range))
            .collect();
        if let Some(data) = (ByteRange { start, end }).intersection(range) {
            let first = (data.start - start) / size;
            let last = (data.end - start).div_ceil(size);
            let mut at = first;
            while at < last {
                let is_used = self.is_used(at);
                let from = at;
                while at < last && self.is_used(at) == is_used {
                    at += 1;
                }
                let run = ByteRange {
                    start: start + from * size,
                    end: start + at * size,
                };
                used.extend(run.intersection(range).filter(|_| is_used));
            }
        }
        used
    }

    fn is_used(&self, bit: u64) -> bool {
        self.used[(bit / 8) as usize] >> (bit % 8) & 1 != 0
    }
}
