//! Shrinking a file system that is not in use: whatever lies past the new end moves to the front.
//!
//! Blocks move, files are not made anew: so everything about a file stays as it is, and only what
//! is past the new end is copied. Inodes in groups that go away get other numbers, and the names
//! that lead to them follow.

mod blocks;
mod folders;
mod inodes;
mod truncate;

use std::collections::BTreeMap;

use pinewrit_disk::BlockDevice;
use pinewrit_ext4_layout::inode::InodeNumber;
use pinewrit_ext4_layout::{Compatible, Incompatible, Superblock};

use super::{EditError, Editor, SizeError, layout};

/// What shrinking did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Shrinkage {
    /// Size before, in bytes.
    pub before: u64,
    /// Size after, in bytes: less than requested if the last group would be too short to use.
    pub after: u64,
    /// Bytes of content that moved.
    pub moved: u64,
    /// Inodes that got another number.
    pub renumbered: u32,
}

/// Inodes that moved: the old number and the new one.
type Renumbered = BTreeMap<InodeNumber, InodeNumber>;

/// Room for maps that need more extents than before: one block for so many of content, and a few.
const BLOCKS_PER_SPARE: u64 = 256;
const LEAST_SPARE: u64 = 32;

impl<D: BlockDevice> Editor<D> {
    /// The smallest size in bytes that the file system can shrink to, by what it holds. Scattered
    /// free space can make it a little larger.
    ///
    /// # Errors
    /// [`EditError::Feature`]: file systems of this kind are not shrunk here.
    pub fn smallest_size(&mut self) -> Result<u64, EditError> {
        self.can_shrink()?;
        let sb = self.sb.clone();
        let metadata: u64 = (0..sb.groups()).map(|group| own_blocks(&sb, group)).sum();
        let used = (sb.blocks - sb.first_data_block).saturating_sub(self.free_blocks());
        let content = used.saturating_sub(metadata);
        let content = content + content / BLOCKS_PER_SPARE + LEAST_SPARE;
        let inodes = u64::from(sb.inodes.saturating_sub(self.free_inodes()));
        let per_group = u64::from(sb.inodes_per_group);
        let mut metadata = 0;
        for group in 0..sb.groups() {
            let own = own_blocks(&sb, group);
            metadata += own;
            let start = sb.group_blocks(group).start;
            let wanted = (sb.first_data_block + metadata + content)
                .max(start + own + layout::LEAST_FREE)
                .min(sb.blocks);
            let has_inodes = (group + 1) * per_group >= inodes.max(u64::from(sb.first_inode));
            if has_inodes && wanted <= sb.group_blocks(group).end {
                return Ok(wanted * sb.block_size);
            }
        }
        Ok(sb.size())
    }

    /// Makes the file system as small as `size` bytes, or a little smaller.
    ///
    /// # Errors
    /// [`EditError::Size`]: it cannot hold what is in it; [`EditError::NoSpace`] or
    /// [`EditError::NoInodes`] likewise; [`EditError::Feature`]: file systems of this kind are not
    /// shrunk here. Nothing is changed then.
    pub fn shrink(&mut self, size: u64) -> Result<Shrinkage, EditError> {
        let before = self.sb.size();
        if size >= before {
            return Ok(Shrinkage {
                before,
                after: before,
                ..Shrinkage::default()
            });
        }
        let least = self.smallest_size()?;
        let new = self.shrunk_superblock(size / self.sb.block_size);
        let Some(new) = new.filter(|new| new.size() >= least) else {
            return Err(SizeError::TooSmall { size, least }.into());
        };
        self.folders.clear();
        self.paths.clear();
        let former = (self.sb.clone(), self.groups.clone());
        self.limit = Some(new.blocks);
        let done = self.step(|editor| {
            editor.move_group_metadata(&new)?;
            let renumbered = editor.move_inodes(&new)?;
            editor.release_group_metadata(&new)?;
            let moved = editor.move_blocks(&new, &renumbered)?;
            editor.renumber_names(&new, &renumbered)?;
            editor.cut_off(new)?;
            Ok(Shrinkage {
                before,
                after: editor.sb.size(),
                moved,
                renumbered: renumbered.len() as u32,
            })
        });
        self.limit = None;
        self.folders.clear();
        self.paths.clear();
        if done.is_err() {
            self.take_size(former.0);
            self.groups = former.1;
        }
        done
    }

    fn can_shrink(&self) -> Result<(), EditError> {
        let feature = |name: &str| Err(EditError::Feature(name.to_owned()));
        if self.sb.incompatible.has(Incompatible::META_BG) {
            return feature("meta_bg");
        }
        if self.sb.compatible.has(Compatible::SPARSE_SUPER2) {
            return feature("sparse_super2");
        }
        Ok(())
    }

    /// The superblock's numbers for this many blocks, less a last group that is too short; `None`
    /// if not even the first group is long enough.
    fn shrunk_superblock(&self, blocks: u64) -> Option<Superblock> {
        let old = &self.sb;
        let tables = old.descriptor_locations().len() as u64;
        let most_reserve = old.block_size / 4;
        let with_blocks = |blocks: u64| {
            let mut new = old.clone();
            new.blocks = blocks;
            let fewer = tables - new.descriptor_locations().len() as u64;
            // What follows the descriptors stays where it is.
            if old.compatible.has(Compatible::RESIZE_INODE) {
                new.reserved_descriptor_blocks =
                    (old.reserved_descriptor_blocks + fewer).min(most_reserve);
            }
            new.inodes = (new.groups() * u64::from(new.inodes_per_group)) as u32;
            new
        };
        if blocks <= old.first_data_block {
            return None;
        }
        let new = with_blocks(blocks);
        layout::useful_blocks(&new).map(with_blocks)
    }
}

/// Blocks of a group's metadata, wherever they lie, and of the copies at its start.
fn own_blocks(sb: &Superblock, group: u64) -> u64 {
    let base = sb.base_blocks(group);
    base.end - base.start + 2 + sb.inode_table_blocks()
}
