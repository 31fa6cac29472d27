//! Image files that tests work on.

use std::fs::File;
use std::io;
use std::path::Path;

/// Makes a sparse file of this size.
///
/// # Errors
/// The system's answer.
pub fn sparse(path: &Path, size: u64) -> io::Result<()> {
    File::create(path)?.set_len(size)
}

/// Bytes without a pattern, the same ones for the same seed.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    // Word by word: tests make a lot of it.
    let mut bytes = Vec::with_capacity(len.next_multiple_of(8));
    while bytes.len() < len {
        bytes.extend_from_slice(&next().to_le_bytes());
    }
    bytes.truncate(len);
    bytes
}
