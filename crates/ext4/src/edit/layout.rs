//! Where the metadata of new groups goes.

use pinewrit_ext4_layout::Superblock;
use pinewrit_ext4_layout::group::GroupDescriptor;

use std::ops::Range;

/// Groups whose metadata lies together: 16, as `s_log_groups_per_flex` 4 says.
pub(crate) const LOG_FLEX: u8 = 4;

/// Blocks that a group must have beyond its own metadata to be worthwhile.
pub(crate) const LEAST_FREE: u64 = 50;

/// Takes blocks one after the other, skipping the copies of the superblock.
struct Cursor<'s> {
    sb: &'s Superblock,
    at: u64,
}

impl Cursor<'_> {
    fn take(&mut self, len: u64) -> Option<u64> {
        loop {
            let wanted = self.at..self.at + len;
            if wanted.end > self.sb.blocks {
                return None;
            }
            let first = self.sb.group_of(wanted.start)?;
            let last = self.sb.group_of(wanted.end - 1)?;
            let in_the_way = (first..=last)
                .map(|group| self.sb.base_blocks(group))
                .find(|base| base.start < wanted.end && base.end > wanted.start);
            match in_the_way {
                Some(base) => self.at = base.end,
                None => {
                    self.at = wanted.end;
                    return Some(wanted.start);
                }
            }
        }
    }
}

/// Blocks that a group needs for itself if its metadata lies in it.
fn own_need(sb: &Superblock, group: u64) -> u64 {
    let base = sb.base_blocks(group);
    base.end - base.start + 2 + sb.inode_table_blocks()
}

/// The number of blocks without a last group that is too short to be useful; `None` if not even the
/// first group is long enough.
pub(crate) fn useful_blocks(sb: &Superblock) -> Option<u64> {
    let last = sb.groups() - 1;
    let blocks = sb.group_blocks(last);
    match blocks.end - blocks.start < own_need(sb, last) + LEAST_FREE {
        true if last == 0 => None,
        true => Some(blocks.start),
        false => Some(sb.blocks),
    }
}

/// Places the metadata of groups: together if the file system allows it, otherwise each in its own
/// group.
pub(crate) fn place(
    sb: &Superblock,
    groups: Range<u64>,
    is_flexible: bool,
) -> Option<Vec<GroupDescriptor>> {
    let mut all = Vec::new();
    let mut first = groups.start;
    while first < groups.end {
        let size = 1u64 << LOG_FLEX;
        let end = (first / size + 1) * size;
        let set = first..end.min(groups.end);
        let together = if is_flexible {
            place_together(sb, set.clone())
        } else {
            None
        };
        let placed = together.or_else(|| place_apart(sb, set.clone()))?;
        all.extend(placed);
        first = set.end;
    }
    Some(all)
}

fn place_together(sb: &Superblock, groups: Range<u64>) -> Option<Vec<GroupDescriptor>> {
    let mut cursor = Cursor {
        sb,
        at: sb.group_blocks(groups.start).start,
    };
    let mut placed: Vec<GroupDescriptor> =
        groups.clone().map(|_| GroupDescriptor::default()).collect();
    for group in &mut placed {
        group.block_bitmap = cursor.take(1)?;
    }
    for group in &mut placed {
        group.inode_bitmap = cursor.take(1)?;
    }
    for group in &mut placed {
        group.inode_table = cursor.take(sb.inode_table_blocks())?;
    }
    // Metadata of other groups must not end up in groups that are placed on their own.
    (cursor.at <= sb.group_blocks(groups.end - 1).end).then_some(placed)
}

fn place_apart(sb: &Superblock, groups: Range<u64>) -> Option<Vec<GroupDescriptor>> {
    let mut placed = Vec::new();
    for group in groups {
        let own = sb.group_blocks(group);
        let mut cursor = Cursor { sb, at: own.start };
        let mut found = GroupDescriptor::default();
        found.block_bitmap = cursor.take(1)?;
        found.inode_bitmap = cursor.take(1)?;
        found.inode_table = cursor.take(sb.inode_table_blocks())?;
        if cursor.at > own.end {
            return None;
        }
        placed.push(found);
    }
    Some(placed)
}

/// What is in use in a group without files.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Usage {
    /// Blocks of metadata in it.
    pub(crate) used: u64,
    /// It holds metadata of other groups, which a reader cannot know without a bitmap.
    pub(crate) has_guests: bool,
}

/// What is in use in each group, by the metadata of `placed`, which are the groups from `first`.
pub(crate) fn usage(sb: &Superblock, first: u64, placed: &[GroupDescriptor]) -> Vec<Usage> {
    let mut all: Vec<Usage> = (first..sb.groups())
        .map(|group| {
            let base = sb.base_blocks(group);
            Usage {
                used: base.end - base.start,
                has_guests: false,
            }
        })
        .collect();
    for (group, descriptor) in (first..).zip(placed) {
        for place in descriptor.metadata(sb) {
            let mut at = place.start;
            while let Some(host) = sb.group_of(at).filter(|_| at < place.end) {
                let end = sb.group_blocks(host).end.min(place.end);
                if let Some(usage) = host
                    .checked_sub(first)
                    .and_then(|i| all.get_mut(i as usize))
                {
                    usage.used += end - at;
                    usage.has_guests |= host != group;
                }
                at = end;
            }
        }
    }
    all
}
