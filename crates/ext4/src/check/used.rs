//! The blocks of a file system found to be in use.

use std::ops::Range;

use pinewrit_disk::bits::{first_set, set};
use pinewrit_ext4_layout::Superblock;

/// A bitmap for each group, created when the first of its blocks is found.
pub(super) struct Used {
    groups: Vec<Option<Box<[u8]>>>,
    first: u64,
    per_group: u64,
}

impl Used {
    pub(super) fn new(sb: &Superblock) -> Self {
        Self {
            groups: vec![None; sb.groups() as usize],
            first: sb.first_data_block,
            per_group: sb.blocks_per_group,
        }
    }

    /// Marks blocks, which lie inside the file system. Returns the first that was already marked.
    pub(super) fn take(&mut self, blocks: Range<u64>) -> Option<u64> {
        let mut at = blocks.start.max(self.first);
        while at < blocks.end {
            let group = (at - self.first) / self.per_group;
            let start = self.first + group * self.per_group;
            let end = (start + self.per_group).min(blocks.end);
            let slot = self.groups.get_mut(group as usize)?;
            let bitmap = slot.get_or_insert_with(|| vec![0; self.per_group as usize / 8].into());
            let bits = at - start..end - start;
            if let Some(bit) = first_set(bitmap, bits.clone()) {
                return Some(start + bit);
            }
            set(bitmap, bits);
            at = end;
        }
        None
    }

    /// How many blocks of a group are in use.
    pub(super) fn count(&self, group: u64) -> u64 {
        let bitmap = self.group(group).unwrap_or_default();
        bitmap.iter().map(|byte| u64::from(byte.count_ones())).sum()
    }

    /// The bitmap of a group, without what follows its last block; `None` if nothing is used.
    pub(super) fn group(&self, group: u64) -> Option<&[u8]> {
        self.groups.get(group as usize)?.as_deref()
    }
}
