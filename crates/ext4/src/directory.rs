//! Directory entries, "Linear (Classic) Directories". Blocks of an index look like blocks without
//! entries, so that directories with one are read the same way.

use crate::bytes::{u16le, u32le};

/// One name in a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Entry {
    pub(crate) inode: u32,
    pub(crate) name: Vec<u8>,
}

/// The entries in a block of a directory, without `.` and `..`. Stops at the first damaged one.
pub(crate) fn entries(block: &[u8]) -> Vec<Entry> {
    let mut found = Vec::new();
    let mut at = 0;
    while at + 8 <= block.len() {
        let inode = u32le(block, at);
        let length = usize::from(u16le(block, at + 4));
        // In blocks of 64 KiB the length of a whole block does not fit, and is 0 or 65535.
        let length = match length {
            0 | 0xffff if block.len() == 1 << 16 => block.len() - at,
            length => length,
        };
        let name_len = usize::from(block[at + 6]);
        if length < 8 + name_len || at + length > block.len() {
            break;
        }
        let name = &block[at + 8..at + 8 + name_len];
        if inode != 0 && !name.is_empty() && name != b"." && name != b".." {
            found.push(Entry {
                inode,
                name: name.to_vec(),
            });
        }
        at += length;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn damaged_entries_end_the_list() {
        let mut block = vec![0; 64];
        block[..4].copy_from_slice(&12u32.to_le_bytes());
        block[4..6].copy_from_slice(&16u16.to_le_bytes());
        block[6] = 3;
        block[8..11].copy_from_slice(b"log");
        block[16..20].copy_from_slice(&13u32.to_le_bytes());
        block[20..22].copy_from_slice(&400u16.to_le_bytes());
        block[22] = 4;
        let expected = Entry {
            inode: 12,
            name: b"log".to_vec(),
        };
        assert_eq!(entries(&block), [expected]);
        assert_eq!(entries(&[0xff; 5]), []);
    }
}
