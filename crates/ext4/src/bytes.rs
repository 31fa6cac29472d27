//! Little-endian numbers at named offsets.

pub(crate) fn u16le(bytes: &[u8], offset: usize) -> u16 {
    let mut raw = [0; 2];
    raw.copy_from_slice(&bytes[offset..offset + 2]);
    u16::from_le_bytes(raw)
}

pub(crate) fn u32le(bytes: &[u8], offset: usize) -> u32 {
    let mut raw = [0; 4];
    raw.copy_from_slice(&bytes[offset..offset + 4]);
    u32::from_le_bytes(raw)
}

/// A number whose halves are in two places.
pub(crate) fn wide(bytes: &[u8], low: usize, high: usize) -> u64 {
    u64::from(u32le(bytes, high)) << 32 | u64::from(u32le(bytes, low))
}
