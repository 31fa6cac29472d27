//! Extent maps: which bytes of an image are in use, worked out while the image streams by.
//!
//! The partition table is in the first chunk; the metadata of ext2, ext3, ext4 and FAT lies before
//! the data that it describes. So one pass is enough, and metadata that comes too late is simply
//! not used. Anything not understood counts as in use: gaps between partitions, unknown, encrypted
//! and unclean file systems, overlapping partitions, damage of any kind.

mod ext;
mod wants;

use std::fmt;

use pinewrit_disk::{
    BlockDevice, ByteRange, CHUNK_SIZE, DiskError, Lba, Operation, Ranges, SectorSize, rounded_out,
};
use pinewrit_ext4::{Superblock, SuperblockError};
use pinewrit_fat::{TableRead, Usage, UsageDoubt};
use pinewrit_table::{ChainRecord, MBR_SIZE, Mbr, PartitionTable, Problem, Scheme};
use schemars::JsonSchema;
use serde::Serialize;

use ext::ExtScan;
use wants::Wants;

/// Unit of the map in bytes: writes begin and end at multiples of it, as direct transfers require.
pub const GRAIN: u64 = 4096;
/// Free space between two pieces in use that is not worth a request of its own, in bytes.
const SMALL_GAP: u64 = 64 << 10;
/// Bytes at the start of a partition that identify its file system, and show remains of another.
const HEAD: u64 = 68 << 10;
/// A limit above what any system creates.
const MAX_LOGICAL: u32 = 128;

/// Why every byte of a partition counts as in use although its file system is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Doubt {
    /// It was not left clean.
    Unclean(&'static str),
    /// This is not understood.
    Unknown(&'static str),
    /// This is inconsistent.
    Damaged(&'static str),
    /// It shares bytes with another partition.
    Overlap,
    /// It reaches past the image's end.
    PastEnd,
    /// An ISO 9660 file system occupies the same bytes.
    Iso,
}

impl fmt::Display for Doubt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unclean(what) => f.write_str(what),
            Self::Unknown(what) => write!(f, "{what} is not understood"),
            Self::Damaged(what) => write!(f, "{what} is damaged"),
            Self::Overlap => f.write_str("it overlaps another partition"),
            Self::PastEnd => f.write_str("it reaches past the end of the image"),
            Self::Iso => f.write_str("an ISO 9660 file system overlaps it"),
        }
    }
}

/// What the map knows about a partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RegionFacts {
    /// Its number; `None` for a file system without a table.
    pub partition: Option<u32>,
    /// Its file system, if its free space can be determined.
    pub filesystem: Option<&'static str>,
    /// Why every byte of it counts as in use.
    pub doubt: Option<String>,
}

/// A part of the stream that a scan needs.
type Request = (ByteRange, Token);

/// What a wanted part is.
#[derive(Clone, Copy, Debug)]
enum Token {
    /// The first bytes of a partition.
    Head,
    /// An extended boot record.
    Chain { at: u64, base: u64 },
    /// A block of group descriptors.
    Descriptors(usize),
    /// The block bitmap of a group.
    Bitmap(u64),
    /// A piece of an allocation table.
    Table(TableRead),
}

enum Scan {
    Ext(Box<ExtScan>),
    Fat(Box<Usage>),
}

/// A partition, or the whole image if there is no table.
struct Region {
    number: Option<u32>,
    range: ByteRange,
    scan: Option<Scan>,
    doubt: Option<Doubt>,
}

/// Builds the map of a stream of bytes as it passes.
pub struct MapTracker {
    size: Option<u64>,
    sector: SectorSize,
    regions: Vec<Region>,
    wants: Wants<(usize, Token)>,
    every_byte: bool,
    /// Free space shorter than this between two pieces in use counts as in use, in bytes.
    gap: u64,
    logical: u32,
}

impl MapTracker {
    /// For an image of `size` bytes, if that is known, on a medium with sectors of this size.
    pub fn new(size: Option<u64>, sector: SectorSize) -> Self {
        Self {
            size,
            sector,
            regions: Vec::new(),
            wants: Wants::new(),
            every_byte: false,
            gap: SMALL_GAP,
            logical: 0,
        }
    }

    /// A tracker for which every byte is in use.
    pub fn every_byte() -> Self {
        Self {
            every_byte: true,
            ..Self::new(None, SectorSize::B512)
        }
    }

    /// Tells all free space, even where it is too short to be worth a request of its own.
    #[must_use]
    pub fn exact(self) -> Self {
        Self { gap: 0, ..self }
    }

    /// Takes the next bytes of the image, the first time a whole chunk or the whole image. Returns
    /// which of them are in use, in multiples of [`GRAIN`].
    pub fn pass(&mut self, offset: u64, bytes: &[u8]) -> Vec<ByteRange> {
        let here = ByteRange {
            start: offset,
            end: offset + bytes.len() as u64,
        };
        if self.every_byte {
            return vec![here];
        }
        if offset == 0 {
            self.begin(bytes);
        }
        while let Some(((region, token), part)) = self.wants.take(offset, bytes) {
            self.deliver(region, token, part);
        }
        let used = self.used(here);
        self.wants.pass(here.end);
        used
    }

    /// How many bytes of a random-access image are not in use, as its whole stream would show. Only
    /// metadata is read.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn survey(
        device: &dyn BlockDevice,
        size: u64,
        sector: SectorSize,
    ) -> Result<u64, DiskError> {
        let used = Self::new(Some(size), sector).used_ranges(device, size)?;
        Ok(size - used.into_iter().map(ByteRange::len).sum::<u64>().min(size))
    }

    /// Which bytes of a random-access image are in use, as its whole stream would show, in
    /// ascending order. Only metadata is read.
    fn used_ranges(self, device: &dyn BlockDevice, size: u64) -> Result<Vec<ByteRange>, DiskError> {
        let chunk = CHUNK_SIZE as u64;
        let mut tracker = self;
        let mut buffer = vec![0; CHUNK_SIZE];
        let mut used: Vec<ByteRange> = Vec::new();
        let mut offset = 0;
        while offset < size {
            let here = ByteRange {
                start: offset,
                end: size.min(offset + chunk),
            };
            let len = here.len() as usize;
            if offset == 0 {
                device.read_at(0, &mut buffer[..len])?;
                tracker.begin(&buffer[..len]);
            }
            let mut read: Vec<ByteRange> = Vec::new();
            loop {
                for range in tracker.wants.needed(here) {
                    if offset > 0 && !read.contains(&range) {
                        let (from, to) = (range.start - offset, range.end - offset);
                        let part = &mut buffer[from as usize..to as usize];
                        device.read_at(range.start, part)?;
                        read.push(range);
                    }
                }
                let Some(((region, token), part)) = tracker.wants.take(offset, &buffer[..len])
                else {
                    break;
                };
                tracker.deliver(region, token, part);
            }
            used.extend(tracker.used(here));
            tracker.wants.pass(here.end);
            offset += chunk;
        }
        Ok(used)
    }

    /// What is in use of a random-access image that is about to pass; `None` if every byte counts,
    /// or what is in use cannot be read beforehand.
    pub fn ahead(&self, device: &dyn BlockDevice) -> Option<Vec<ByteRange>> {
        let size = self.size.filter(|_| !self.every_byte)?;
        let own = Self {
            gap: self.gap,
            ..Self::new(Some(size), self.sector)
        };
        own.used_ranges(device, size).ok()
    }

    /// Free bytes in the file systems seen so far, according to themselves.
    pub fn free(&self) -> u64 {
        let free = self.regions.iter().map(|region| match &region.scan {
            Some(Scan::Ext(scan)) => scan.free(),
            Some(Scan::Fat(scan)) => scan.free(),
            None => 0,
        });
        free.sum()
    }

    /// The findings about each partition.
    pub fn facts(&self) -> Vec<RegionFacts> {
        let facts = |region: &Region| {
            let (filesystem, doubt) = match &region.scan {
                Some(Scan::Ext(scan)) => (Some("ext"), scan.doubt),
                Some(Scan::Fat(scan)) => (Some("FAT"), scan.doubt().map(fat_doubt)),
                None => (None, None),
            };
            RegionFacts {
                partition: region.number,
                filesystem,
                doubt: region.doubt.or(doubt).map(|doubt| doubt.to_string()),
            }
        };
        self.regions.iter().map(facts).collect()
    }

    fn begin(&mut self, head: &[u8]) {
        let device = Head {
            bytes: head,
            size: self.size,
            sector: self.sector,
        };
        // An image may have been made for media with another sector size.
        let sectors = [self.sector, SectorSize::B512, SectorSize::B4096];
        let tables = sectors.into_iter().filter_map(|sector| {
            let table = PartitionTable::read(&Head { sector, ..device }).ok()??;
            Some((sector, table))
        });
        let mut tables: Vec<_> = tables.collect();
        tables.sort_by_key(|(_, table)| {
            table
                .problems
                .iter()
                .any(|p| matches!(p, Problem::GptLost(_)))
        });
        let is_iso = head.get(32769..32774) == Some(b"CD001".as_slice());
        let Some((sector, table)) = tables.into_iter().next() else {
            let end = self.size.unwrap_or(u64::MAX / 2);
            self.add(None, ByteRange { start: 0, end });
            return;
        };
        // The numbers in an MBR mean different places with another sector size, and nothing in it
        // says which. A GPT is only found with the right sector size.
        let is_ambiguous =
            matches!(table.scheme, Scheme::Mbr { .. }) && self.sector != SectorSize::B512;
        self.sector = sector;
        // Logical partitions are found as their records pass.
        for partition in table
            .partitions
            .iter()
            .filter(|p| !is_logical(&table, p.number))
        {
            self.add(Some(partition.number), partition.range);
        }
        let mut record = [0; MBR_SIZE];
        record.copy_from_slice(&head[..MBR_SIZE]);
        let extended = Mbr::from_bytes(&record)
            .into_iter()
            .flat_map(|mbr| mbr.entries.into_iter().flatten())
            .find(|entry| entry.partition_type().is_extended());
        if let Some(entry) = extended {
            let at = u64::from(entry.first_lba);
            self.want_record(at, at);
        }
        let doubt = match (is_iso, is_ambiguous) {
            (true, _) => Some(Doubt::Iso),
            (_, true) => Some(Doubt::Unknown("which sectors its table counts")),
            _ => None,
        };
        for region in &mut self.regions {
            region.doubt = region.doubt.or(doubt);
        }
    }

    fn want_record(&mut self, at: u64, base: u64) {
        let start = Lba(at).byte_offset(self.sector);
        let range = start.and_then(|start| ByteRange::from_len(start, MBR_SIZE as u64));
        if let Some(range) = range {
            self.wants
                .add(range, (usize::MAX, Token::Chain { at, base }));
        }
    }

    /// A partition that was found.
    fn add(&mut self, number: Option<u32>, range: ByteRange) {
        let mut doubt = None;
        for other in &mut self.regions {
            if other.range.intersection(range).is_some() {
                doubt = Some(Doubt::Overlap);
                other.doubt = Some(Doubt::Overlap);
            }
        }
        if self.size.is_some_and(|size| range.end > size) {
            doubt = Some(Doubt::PastEnd);
        }
        let index = self.regions.len();
        let head = ByteRange {
            start: range.start,
            end: range.start.saturating_add(HEAD).min(range.end),
        };
        // What has already begun to pass is no longer described.
        if range.start < self.wants.place() {
            doubt = Some(Doubt::Damaged("its place in the table"));
        }
        self.wants.add(head, (index, Token::Head));
        self.regions.push(Region {
            number,
            range,
            scan: None,
            doubt,
        });
    }

    fn deliver(&mut self, index: usize, token: Token, bytes: Vec<u8>) {
        if let Token::Chain { at, base } = token {
            return self.follow_chain(at, base, &bytes);
        }
        let Some(region) = self.regions.get_mut(index) else {
            return;
        };
        let requests = match (&mut region.scan, token) {
            (scan @ None, Token::Head) => {
                let (found, requests) = recognise(&bytes, region.range.len());
                match found {
                    Ok(found) => *scan = found,
                    Err(doubt) => region.doubt = Some(doubt),
                }
                requests
            }
            (Some(Scan::Ext(scan)), token) => scan.take(token, bytes),
            (Some(Scan::Fat(usage)), Token::Table(read)) => {
                usage.take(read, &bytes);
                Vec::new()
            }
            _ => Vec::new(),
        };
        let start = region.range.start;
        for (range, token) in requests {
            let range = ByteRange {
                start: start + range.start,
                end: start + range.end,
            };
            self.wants.add(range, (index, token));
        }
    }

    fn follow_chain(&mut self, at: u64, base: u64, bytes: &[u8]) {
        let mut sector = [0; MBR_SIZE];
        sector.copy_from_slice(&bytes[..MBR_SIZE]);
        let Some(record) = Mbr::from_bytes(&sector).map(|mbr| ChainRecord::new(&mbr, at, base))
        else {
            return;
        };
        if let Some((entry, first)) = record.logical {
            let start = Lba(first).byte_offset(self.sector);
            let len = u64::from(entry.sectors) * self.sector.bytes();
            if let Some(range) = start.and_then(|start| ByteRange::from_len(start, len)) {
                self.add(Some(5 + self.logical), range);
                self.logical += 1;
            }
        }
        if let Some(next) = record
            .next
            .filter(|next| *next > at && self.logical < MAX_LOGICAL)
        {
            self.want_record(next, base);
        }
    }

    fn used(&mut self, here: ByteRange) -> Vec<ByteRange> {
        let mut used = Vec::new();
        let mut described = Vec::new();
        for region in &mut self.regions {
            let Some(part) = region.range.intersection(here) else {
                continue;
            };
            let (None, Some(scan)) = (region.doubt, &mut region.scan) else {
                continue;
            };
            let start = region.range.start;
            let inside = ByteRange {
                start: part.start - start,
                end: part.end - start,
            };
            let ranges = match scan {
                Scan::Ext(scan) => scan.used(inside),
                Scan::Fat(scan) => scan.used(inside),
            };
            described.push(part);
            used.extend(ranges.into_iter().map(|range| {
                let moved = ByteRange {
                    start: start + range.start,
                    end: start + range.end,
                };
                rounded_out(moved, GRAIN, here)
            }));
        }
        // Whatever no file system describes is in use.
        let described = Ranges::joined(described, 0);
        used.extend(
            described
                .gaps(here)
                .into_iter()
                .map(|gap| rounded_out(gap, GRAIN, here)),
        );
        Ranges::joined(used, self.gap).into_vec()
    }
}

fn is_logical(table: &PartitionTable, number: u32) -> bool {
    matches!(table.scheme, Scheme::Mbr { .. }) && number > 4
}

fn recognise(head: &[u8], len: u64) -> (Result<Option<Scan>, Doubt>, Vec<Request>) {
    let (scan, requests) = match recognise_any(head, len) {
        Ok(Some((scan, requests))) => (scan, requests),
        Ok(None) => return (Ok(None), Vec::new()),
        Err(doubt) => return (Err(doubt), Vec::new()),
    };
    // A file system created over another may have left parts of it.
    if pinewrit_signs::head_has_mark(head) {
        return (
            Err(Doubt::Unknown("a mark of another format on it")),
            Vec::new(),
        );
    }
    (Ok(Some(scan)), requests)
}

fn fat_doubt(doubt: UsageDoubt) -> Doubt {
    match doubt {
        UsageDoubt::NotMirrored => Doubt::Unknown("its tables, which are not mirrored,"),
        UsageDoubt::Size => Doubt::Damaged("its size"),
        _ => Doubt::Unclean("it was not unmounted, or has errors"),
    }
}

fn recognise_any(head: &[u8], len: u64) -> Result<Option<(Scan, Vec<Request>)>, Doubt> {
    if let Some(sector) = head.first_chunk::<512>()
        && let Some((usage, reads)) = Usage::begin(sector, len)
    {
        let reads = reads.into_iter();
        let requests = reads.map(|(range, read)| (range, Token::Table(read)));
        return Ok(Some((Scan::Fat(Box::new(usage)), requests.collect())));
    }
    let superblock = head.get(Superblock::OFFSET as usize..);
    let Some(raw) = superblock.and_then(|raw| raw.first_chunk::<{ Superblock::SIZE }>()) else {
        return Ok(None);
    };
    match Superblock::parse(raw) {
        Ok(superblock) => {
            let (scan, requests) = ExtScan::begin(superblock, len);
            Ok(Some((Scan::Ext(Box::new(scan)), requests)))
        }
        Err(SuperblockError::Missing) => Ok(None),
        Err(_) => Err(Doubt::Damaged("its superblock")),
    }
}

/// The first chunk of an image as a device that ends where the stream has got to.
#[derive(Clone, Copy)]
struct Head<'a> {
    bytes: &'a [u8],
    size: Option<u64>,
    sector: SectorSize,
}

impl BlockDevice for Head<'_> {
    fn size(&self) -> u64 {
        self.size.unwrap_or(u64::MAX / 2)
    }

    fn logical_sector(&self) -> SectorSize {
        self.sector
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let start = usize::try_from(offset).ok();
        let rest = start.and_then(|start| self.bytes.get(start..));
        match rest.and_then(|rest| rest.get(..buffer.len())) {
            Some(found) => {
                buffer.copy_from_slice(found);
                Ok(())
            }
            None => Err(DiskError::PastEnd {
                operation: Operation::Read,
                offset,
                len: buffer.len() as u64,
                size: self.bytes.len() as u64,
            }),
        }
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}
