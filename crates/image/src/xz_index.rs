//! The unpacked size of an xz file from its indexes, without unpacking.
//!
//! The .xz File Format 1.2.1: stream header (section 2.1.1), index (4), footer (2.1.2), stream
//! padding (2.2). Several streams in a row are added up.

use crate::packed::{PackedBytes, read_exact};

const HEADER: u64 = 12;
const FOOTER: u64 = 12;
const MAGIC: &[u8] = b"\xfd7zXZ\0";
/// An index of a file of 100 TB in blocks of 24 MiB is smaller than this.
const MAX_INDEX: u64 = 64 << 20;
/// More padding than this, in bytes, is not worth looking through.
const MAX_PADDING: u64 = 256 << 10;

/// The unpacked size in bytes, or `None` where the indexes do not fit together: a cut or damaged
/// file, for example. Then unpacking itself will tell what is wrong.
pub(crate) fn unpacked_size(file: &dyn PackedBytes, packed_size: u64) -> Option<u64> {
    let mut end = packed_size;
    let mut total: u64 = 0;
    while end > 0 {
        end = skip_padding(file, end)?;
        let stream = read_stream(file, end)?;
        total = total.checked_add(stream.unpacked)?;
        end = stream.start;
    }
    Some(total)
}

struct StreamFacts {
    start: u64,
    unpacked: u64,
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

fn read_stream(file: &dyn PackedBytes, end: u64) -> Option<StreamFacts> {
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
    let (blocks, unpacked) = parse_index(&index)?;

    let start = index_at.checked_sub(blocks)?.checked_sub(HEADER)?;
    let mut magic = [0; MAGIC.len()];
    read_exact(file, &mut magic, start)?;
    (magic == *MAGIC).then_some(StreamFacts { start, unpacked })
}

/// Sums up an index: bytes of all blocks with their padding, and their unpacked bytes.
fn parse_index(index: &[u8]) -> Option<(u64, u64)> {
    let (body, crc) = index.split_at_checked(index.len().checked_sub(4)?)?;
    let mut crc32 = flate2::Crc::new();
    crc32.update(body);
    if crc32.sum().to_le_bytes() != *crc {
        return None;
    }
    let mut rest = body.strip_prefix(&[0])?;
    let records = take_integer(&mut rest)?;
    let (mut blocks, mut unpacked) = (0u64, 0u64);
    for _ in 0..records {
        let unpadded = take_integer(&mut rest)?;
        blocks = blocks.checked_add(unpadded.checked_next_multiple_of(4)?)?;
        unpacked = unpacked.checked_add(take_integer(&mut rest)?)?;
    }
    Some((blocks, unpacked))
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
