//! The unpacked size of a zstd file from its frame headers, without unpacking.
//!
//! RFC 8878, sections 3.1.1 (frames and blocks) and 3.1.2 (skippable frames). All frames are
//! walked, because the size of the first alone would be a wrong number.

use crate::jumps::Jump;
use crate::packed::{PackedBytes, read};

const MAGIC: u32 = 0xfd2f_b528;
/// The most frames and blocks to walk: those of an image of 1 TB in the usual blocks of 128 KiB.
const MAX_HEADERS: u64 = 8 << 20;

/// More frames than this are not kept: 1 TB in frames of 1 MiB.
const MAX_JUMPS: usize = 1 << 20;

/// The unpacked size in bytes, or `None` if a frame does not say it or the file is damaged.
pub(crate) fn unpacked_size(file: &dyn PackedBytes, packed_size: u64) -> Option<u64> {
    walk(file, packed_size, |_| Some(()))
}

/// Where the frames with content begin.
pub(crate) fn jumps(file: &dyn PackedBytes, packed_size: u64) -> Option<Vec<Jump>> {
    let mut jumps: Vec<Jump> = Vec::new();
    walk(file, packed_size, |jump| {
        if jumps
            .last()
            .is_some_and(|last| last.unpacked == jump.unpacked)
        {
            jumps.pop();
        }
        jumps.push(jump);
        (jumps.len() <= MAX_JUMPS).then_some(())
    })?;
    Some(jumps)
}

/// Visits each frame that holds a part of the image; returns the image's size.
fn walk(
    file: &dyn PackedBytes,
    packed_size: u64,
    mut each: impl FnMut(Jump) -> Option<()>,
) -> Option<u64> {
    let mut at = 0;
    let mut total: u64 = 0;
    let mut left = MAX_HEADERS;
    while at < packed_size {
        left = left.checked_sub(1)?;
        let magic = u32::from_le_bytes(read(file, at)?);
        if magic & !0xf == 0x184d_2a50 {
            let len = u32::from_le_bytes(read(file, at.checked_add(4)?)?);
            at = at.checked_add(8)?.checked_add(u64::from(len))?;
        } else if magic == MAGIC {
            let frame = read_frame(file, at + 4, &mut left)?;
            each(Jump {
                packed: at,
                unpacked: total,
            })?;
            total = total.checked_add(frame.unpacked)?;
            at = frame.end;
        } else {
            return None;
        }
    }
    (at == packed_size).then_some(total)
}

/// The unpacked size of the first frame, if it is recorded. There may be more.
pub(crate) fn first_size(file: &dyn PackedBytes) -> Option<u64> {
    let magic = u32::from_le_bytes(read(file, 0)?);
    let header = (magic == MAGIC).then(|| read_header(file, 4))??;
    Some(header.unpacked)
}

struct HeaderFacts {
    unpacked: u64,
    has_checksum: bool,
    end: u64,
}

struct FrameFacts {
    unpacked: u64,
    end: u64,
}

fn read_frame(file: &dyn PackedBytes, header_at: u64, left: &mut u64) -> Option<FrameFacts> {
    let header = read_header(file, header_at)?;
    let end = skip_blocks(file, header.end, left)?;
    let checksum_bytes = if header.has_checksum { 4 } else { 0 };
    Some(FrameFacts {
        unpacked: header.unpacked,
        end: end.checked_add(checksum_bytes)?,
    })
}

fn read_header(file: &dyn PackedBytes, header_at: u64) -> Option<HeaderFacts> {
    let [descriptor] = read(file, header_at)?;
    let single_segment = descriptor & 0x20 != 0;
    let has_checksum = descriptor & 0x04 != 0;
    let dictionary_bytes = [0, 1, 2, 4][usize::from(descriptor & 3)];
    let window_bytes = u64::from(!single_segment);
    let size_at = header_at + 1 + window_bytes + dictionary_bytes;
    let (unpacked, size_bytes) = match (descriptor >> 6, single_segment) {
        (0, false) => return None,
        (0, true) => (u64::from(read::<1>(file, size_at)?[0]), 1),
        (1, _) => {
            let stored = u16::from_le_bytes(read(file, size_at)?);
            (u64::from(stored) + 256, 2)
        }
        (2, _) => (u64::from(u32::from_le_bytes(read(file, size_at)?)), 4),
        _ => (u64::from_le_bytes(read(file, size_at)?), 8),
    };
    Some(HeaderFacts {
        unpacked,
        has_checksum,
        end: size_at + size_bytes,
    })
}

/// Walks the blocks of a frame; returns where the last one ends.
fn skip_blocks(file: &dyn PackedBytes, mut at: u64, left: &mut u64) -> Option<u64> {
    loop {
        *left = left.checked_sub(1)?;
        let [a, b, c] = read(file, at)?;
        let header = u32::from_le_bytes([a, b, c, 0]);
        let size = match (header >> 1) & 3 {
            1 => 1,
            3 => return None,
            _ => u64::from(header >> 3),
        };
        at = at.checked_add(3)?.checked_add(size)?;
        if header & 1 != 0 {
            return Some(at);
        }
    }
}
