//! Fixed numbers of bytes at given offsets of a file.

use std::fs::File;
use std::os::unix::fs::FileExt;

/// `N` bytes of a file at `at`; `None` where it ends before, or cannot be read.
pub(crate) fn read<const N: usize>(file: &File, at: u64) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    file.read_exact_at(&mut bytes, at).ok()?;
    Some(bytes)
}
