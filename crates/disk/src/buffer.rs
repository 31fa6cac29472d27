//! Buffers whose start is aligned for direct I/O.

use std::ops::{Deref, DerefMut};

/// Alignment in bytes of buffers, offsets and lengths for direct I/O. A multiple of every sector
/// size in common use, and of the page size.
pub const BUFFER_ALIGNMENT: usize = 4096;

/// A byte buffer whose first byte is aligned to [`BUFFER_ALIGNMENT`].
pub struct AlignedBuf {
    bytes: Vec<u8>,
    start: usize,
    len: usize,
}

impl AlignedBuf {
    /// A zero-filled buffer of `len` bytes.
    pub fn new(len: usize) -> Self {
        let bytes = vec![0; len + BUFFER_ALIGNMENT];
        let start = bytes.as_ptr().align_offset(BUFFER_ALIGNMENT);
        Self { bytes, start, len }
    }
}

impl Deref for AlignedBuf {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        &self.bytes[self.start..self.start + self.len]
    }
}

impl DerefMut for AlignedBuf {
    fn deref_mut(&mut self) -> &mut [u8] {
        &mut self.bytes[self.start..self.start + self.len]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_buffer_starts_aligned() {
        for len in [1, 511, 4096, 4 << 20] {
            let buffer = AlignedBuf::new(len);
            assert_eq!(buffer.as_ptr() as usize % BUFFER_ALIGNMENT, 0);
            assert_eq!(buffer.len(), len);
        }
    }
}
