//! Little-endian numbers at named offsets, and copies between overlapping buffers. Reading past the
//! end panics: callers hold a whole sector or block.

/// The 16 bits at `offset`.
#[inline]
pub fn u16le(bytes: &[u8], offset: usize) -> u16 {
    let mut raw = [0; 2];
    raw.copy_from_slice(&bytes[offset..offset + 2]);
    u16::from_le_bytes(raw)
}

/// The 32 bits at `offset`.
#[inline]
pub fn u32le(bytes: &[u8], offset: usize) -> u32 {
    let mut raw = [0; 4];
    raw.copy_from_slice(&bytes[offset..offset + 4]);
    u32::from_le_bytes(raw)
}

/// A number whose halves are in two places.
#[inline]
pub fn wide(bytes: &[u8], low: usize, high: usize) -> u64 {
    u64::from(u32le(bytes, high)) << 32 | u64::from(u32le(bytes, low))
}

/// Puts 16 bits at `offset`.
#[inline]
pub fn put16(bytes: &mut [u8], offset: usize, value: u16) {
    bytes[offset..offset + 2].copy_from_slice(&value.to_le_bytes());
}

/// Puts 32 bits at `offset`.
#[inline]
pub fn put32(bytes: &mut [u8], offset: usize, value: u32) {
    bytes[offset..offset + 4].copy_from_slice(&value.to_le_bytes());
}

/// The lower half of a number that is kept in two places.
#[inline]
pub fn low(value: u64) -> u32 {
    value as u32
}

/// The upper half.
#[inline]
pub fn high(value: u64) -> u32 {
    (value >> 32) as u32
}

/// Copies the overlap of `bytes`, which lie at `start`, and a buffer that holds what lies at
/// `offset`.
pub fn copy_shared(start: u64, bytes: &[u8], offset: u64, buffer: &mut [u8]) {
    let end = (start + bytes.len() as u64).min(offset + buffer.len() as u64);
    let from = start.max(offset);
    if from < end {
        let part = &bytes[(from - start) as usize..(end - start) as usize];
        buffer[(from - offset) as usize..(end - offset) as usize].copy_from_slice(part);
    }
}
