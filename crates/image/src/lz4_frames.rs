//! The unpacked size of an lz4 file from its frame headers, without unpacking.
//!
//! LZ4 Frame Format 1.6.3. All frames are walked, because the size of the first alone would be a
//! wrong number.

use crate::packed::{PackedBytes, read};

const MAGIC: u32 = 0x184d_2204;
/// The most frames and blocks to walk: those of an image of 512 GB in the smallest blocks.
const MAX_HEADERS: u64 = 8 << 20;
const UNCOMPRESSED: u32 = 1 << 31;

/// The unpacked size in bytes, or `None` if a frame does not say it or the file is damaged.
pub(crate) fn unpacked_size(file: &dyn PackedBytes, packed_size: u64) -> Option<u64> {
    let mut at = 0;
    let mut total: u64 = 0;
    let mut left = MAX_HEADERS;
    while at < packed_size {
        left = left.checked_sub(1)?;
        let magic = u32::from_le_bytes(read(file, at)?);
        if magic != MAGIC {
            return None;
        }
        let (unpacked, end) = read_frame(file, at + 4, &mut left)?;
        total = total.checked_add(unpacked)?;
        at = end;
    }
    (at == packed_size).then_some(total)
}

/// Content size and end of the frame whose descriptor is at `at`.
fn read_frame(file: &dyn PackedBytes, at: u64, left: &mut u64) -> Option<(u64, u64)> {
    let [flags] = read(file, at)?;
    let has_block_checksum = flags & 0x10 != 0;
    let has_size = flags & 0x08 != 0;
    let has_content_checksum = flags & 0x04 != 0;
    let has_dictionary = flags & 0x01 != 0;
    if flags >> 6 != 1 || !has_size || has_dictionary {
        return None;
    }
    let unpacked = u64::from_le_bytes(read(file, at + 2)?);
    // Flags, block descriptor, content size, header checksum.
    let mut at = at + 2 + 8 + 1;
    loop {
        *left = left.checked_sub(1)?;
        let size = u32::from_le_bytes(read(file, at)?);
        at = at.checked_add(4)?;
        if size == 0 {
            let checksum = if has_content_checksum { 4 } else { 0 };
            return Some((unpacked, at.checked_add(checksum)?));
        }
        let checksum = if has_block_checksum { 4 } else { 0 };
        at = at.checked_add(u64::from(size & !UNCOMPRESSED) + checksum)?;
    }
}
