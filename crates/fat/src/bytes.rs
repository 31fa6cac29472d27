//! Little-endian numbers at named offsets.

pub(crate) fn u16le(bytes: &[u8], offset: usize) -> u16 {
    u16::from_le_bytes([bytes[offset], bytes[offset + 1]])
}

pub(crate) fn u32le(bytes: &[u8], offset: usize) -> u32 {
    u32::from(u16le(bytes, offset)) | u32::from(u16le(bytes, offset + 2)) << 16
}

pub(crate) fn put16(bytes: &mut [u8], offset: usize, value: u16) {
    bytes[offset..offset + 2].copy_from_slice(&value.to_le_bytes());
}

pub(crate) fn put32(bytes: &mut [u8], offset: usize, value: u32) {
    bytes[offset..offset + 4].copy_from_slice(&value.to_le_bytes());
}
