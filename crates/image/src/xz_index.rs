//! The unpacked size of an xz file from its indexes, without unpacking.
//!
//! The .xz File Format 1.2.1: stream header (section 2.1.1), index (4), footer (2.1.2), stream
//! padding (2.2). Several streams in a row are added up.

use crate::jumps::Jump;
use crate::packed::{PackedBytes, read_exact};

const HEADER: u64 = 12;
const FOOTER: u64 = 12;
const MAGIC: &[u8] = b"\xfd7zXZ\0";
/// The index of a file of 100 TB in blocks of 24 MiB is smaller than this.
const MAX_INDEX: u64 = 64 << 20;
/// The most padding to search through, in bytes.
const MAX_PADDING: u64 = 256 << 10;

/// More blocks than this are not kept: 1 TB in blocks of 1 MiB.
const MAX_JUMPS: usize = 1 << 20;

/// The totals of the indexes of all streams.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Blocks {
    /// Unpacked bytes.
    pub(crate) unpacked: u64,
    /// How many blocks there are.
    pub(crate) count: u64,
    /// Bytes of the largest, packed and unpacked together.
    pub(crate) largest: u64,
}

impl Blocks {
    fn add(&self, other: &Self) -> Option<Self> {
        Some(Self {
            unpacked: self.unpacked.checked_add(other.unpacked)?,
            count: self.count.checked_add(other.count)?,
            largest: self.largest.max(other.largest),
        })
    }
}

/// The blocks of a file, or `None` if the indexes are inconsistent, as in a truncated or damaged
/// file. Unpacking will then report the fault.
pub(crate) fn blocks(file: &dyn PackedBytes, packed_size: u64) -> Option<Blocks> {
    let mut end = packed_size;
    let mut all = Blocks::default();
    while end > 0 {
        end = skip_padding(file, end)?;
        let stream = read_stream(file, end)?;
        all = all.add(&stream.blocks)?;
        end = stream.start;
    }
    Some(all)
}

/// Where the blocks of a file with a single stream begin, and where they end.
pub(crate) fn jumps(file: &dyn PackedBytes, packed_size: u64) -> Option<(Vec<Jump>, u64)> {
    let end = skip_padding(file, packed_size)?;
    let (index, index_at) = read_index(file, end)?;
    let mut jumps = Vec::new();
    let mut next = Jump {
        packed: HEADER,
        unpacked: 0,
    };
    parse_index(&index, |padded, unpacked| {
        jumps.push(next);
        next.packed = next.packed.checked_add(padded)?;
        next.unpacked = next.unpacked.checked_add(unpacked)?;
        (jumps.len() <= MAX_JUMPS).then_some(())
    })?;
    // Anything else before it would be another stream.
    (next.packed == index_at).then_some((jumps, index_at))
}

struct StreamFacts {
    start: u64,
    blocks: Blocks,
}

/// Stream padding is zeros in groups of four bytes.
fn skip_padding(file: &dyn PackedBytes, mut end: u64) -> Option<u64> {
    for _ in 0..MAX_PADDING / 4 {
        let mut group = [0; 4];
        read_exact(file, &mut group, end.checked_sub(4)?)?;
        if group != [0; 4] {
            return Some(end);
        }
        end -= 4;
    }
    None
}

/// The index of the stream that ends at `end`, and where it begins.
fn read_index(file: &dyn PackedBytes, end: u64) -> Option<(Vec<u8>, u64)> {
    let footer_at = end.checked_sub(FOOTER)?;
    let mut footer = [0; FOOTER as usize];
    read_exact(file, &mut footer, footer_at)?;
    if footer[10..] != *b"YZ" {
        return None;
    }
    let stored = u32::from_le_bytes([footer[4], footer[5], footer[6], footer[7]]);
    let index_size = (u64::from(stored) + 1) * 4;
    let index_at = footer_at.checked_sub(index_size)?;
    if index_size > MAX_INDEX {
        return None;
    }
    let mut index = vec![0; index_size as usize];
    read_exact(file, &mut index, index_at)?;
    Some((index, index_at))
}

fn read_stream(file: &dyn PackedBytes, end: u64) -> Option<StreamFacts> {
    let (index, index_at) = read_index(file, end)?;
    let mut packed: u64 = 0;
    let mut blocks = Blocks::default();
    parse_index(&index, |padded, unpacked| {
        packed = packed.checked_add(padded)?;
        blocks = blocks.add(&Blocks {
            unpacked,
            count: 1,
            largest: padded.checked_add(unpacked)?,
        })?;
        Some(())
    })?;
    let start = index_at.checked_sub(packed)?.checked_sub(HEADER)?;
    let mut magic = [0; MAGIC.len()];
    read_exact(file, &mut magic, start)?;
    (magic == *MAGIC).then_some(StreamFacts { start, blocks })
}

/// Visits each block of an index: packed bytes with their padding, and unpacked bytes.
fn parse_index(index: &[u8], mut each: impl FnMut(u64, u64) -> Option<()>) -> Option<()> {
    let (body, crc) = index.split_at_checked(index.len().checked_sub(4)?)?;
    let mut crc32 = flate2::Crc::new();
    crc32.update(body);
    if crc32.sum().to_le_bytes() != *crc {
        return None;
    }
    let mut rest = body.strip_prefix(&[0])?;
    let records = take_integer(&mut rest)?;
    for _ in 0..records {
        let unpadded = take_integer(&mut rest)?;
        let unpacked = take_integer(&mut rest)?;
        each(unpadded.checked_next_multiple_of(4)?, unpacked)?;
    }
    Some(())
}

/// A multibyte integer, section 1.2: seven bits a byte, lowest first, at most nine bytes.
fn take_integer(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0;
    for shift in 0..9 {
        let (&byte, tail) = rest.split_first()?;
        *rest = tail;
        value |= u64::from(byte & 0x7f) << (7 * shift);
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}
