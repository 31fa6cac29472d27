//! Directory entries, "Linear (Classic) Directories". Blocks of an index look like blocks without
//! entries, so that directories with one are read the same way.

use pinewrit_disk::bytes::{put16, u16le, u32le};

use crate::InodeNumber;
use crate::checksum::crc32c;

/// One name in a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Its inode.
    pub inode: InodeNumber,
    /// The name; in an intact file system it has no zero bytes or slashes.
    pub name: Vec<u8>,
}

/// Where an entry lies in its block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Slot {
    /// Its first byte.
    pub at: usize,
    /// Bytes to the next entry.
    pub length: usize,
    /// Number of the inode; 0 in an unused entry.
    pub inode: u32,
    /// Bytes of the name.
    pub name_len: usize,
}

impl Slot {
    /// The bytes that the entry itself needs; 0 for an unused one.
    pub fn needs(&self) -> usize {
        match self.inode {
            0 => 0,
            _ => entry_len(self.name_len),
        }
    }

    /// The name, in the block that it was found in.
    pub fn name<'b>(&self, block: &'b [u8]) -> &'b [u8] {
        &block[self.at + 8..self.at + 8 + self.name_len]
    }
}

/// "Linear Directories", `ext4_dir_entry_tail`: it looks like an entry and holds the checksum.
pub const TAIL: usize = 12;
/// File type of the entry that holds a block's checksum.
pub const TAIL_KIND: u8 = 0xde;

/// Whether a block of names ends with its checksum; `seed` is that of the directory.
pub fn has_right_tail(block: &[u8], seed: u32) -> bool {
    let Some(tail) = block.len().checked_sub(TAIL) else {
        return false;
    };
    let is_tail = u32le(block, tail) == 0
        && usize::from(u16le(block, tail + 4)) == TAIL
        && block[tail + 6] == 0
        && block[tail + 7] == TAIL_KIND;
    is_tail && crc32c(seed, &block[..tail]) == u32le(block, tail + 8)
}

/// Bytes that an entry with a name of this length needs.
pub fn entry_len(name_len: usize) -> usize {
    (8 + name_len).next_multiple_of(4)
}

/// The shortest length of a slot.
const LEAST: usize = 12;

/// Writes the length of a slot, `rec_len`. That of a whole block of 64 KiB does not fit, and is 65535.
pub fn put_length(block: &mut [u8], at: usize, length: usize) {
    put16(block, at + 4, length.min(0xffff) as u16);
}

/// The slots of a block, used and unused, up to the first damaged one.
pub fn slots(block: &[u8]) -> impl Iterator<Item = Slot> + '_ {
    let mut at = 0;
    std::iter::from_fn(move || {
        if at + 8 > block.len() {
            return None;
        }
        // In blocks of 64 KiB the length of a whole block does not fit, and is 0 or 65535.
        let length = match usize::from(u16le(block, at + 4)) {
            0 | 0xffff if block.len() == 1 << 16 => block.len() - at,
            length => length,
        };
        let slot = Slot {
            at,
            length,
            inode: u32le(block, at),
            name_len: usize::from(block[at + 6]),
        };
        let is_possible = length >= LEAST.max(8 + slot.name_len)
            && length.is_multiple_of(4)
            && at + length <= block.len();
        if !is_possible {
            at = block.len();
            return None;
        }
        at += length;
        Some(slot)
    })
}

/// Whether the slots of a block fill it to its end.
pub fn is_whole(block: &[u8]) -> bool {
    let end = slots(block).last().map_or(0, |slot| slot.at + slot.length);
    end == block.len()
}

/// The inode that a name in a block leads to.
pub fn find_name(block: &[u8], name: &[u8]) -> Option<InodeNumber> {
    let is_meant = |slot: &Slot| slot.inode != 0 && slot.name(block) == name;
    let found = slots(block).find(is_meant)?;
    let is_own = name.is_empty() || name == b"." || name == b"..";
    (!is_own).then_some(InodeNumber(found.inode))
}

/// The entries in a block of a directory, without `.` and `..`. Stops at the first damaged one.
pub fn entries(block: &[u8]) -> Vec<Entry> {
    slots(block)
        .filter(|slot| slot.inode != 0)
        .map(|slot| (slot.inode, slot.name(block)))
        .filter(|(_, name)| !name.is_empty() && *name != b"." && *name != b"..")
        .map(|(inode, name)| Entry {
            inode: InodeNumber(inode),
            name: name.to_vec(),
        })
        .collect()
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
            inode: InodeNumber(12),
            name: b"log".to_vec(),
        };
        assert_eq!(entries(&block), [expected]);
        assert_eq!(entries(&[0xff; 5]), []);
    }
}
