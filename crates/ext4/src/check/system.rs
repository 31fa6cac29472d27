//! The system's own inodes: bad blocks, room for more group descriptors, the journal.

use pinewrit_disk::bytes::u32le;
use pinewrit_ext4_journal::Head;
use pinewrit_ext4_layout::Compatible;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, most_in_block_map};

use super::inodes::wrong;
use super::map::Mapped;
use super::{Check, CheckError, read};

const BAD_BLOCKS: InodeNumber = InodeNumber(1);
const BOOT_LOADER: InodeNumber = InodeNumber(5);

type Done = Result<(), CheckError>;

impl Check<'_> {
    pub(super) fn own_inode(&mut self, number: InodeNumber, inode: &Inode) -> Done {
        // A time this long ago is the next number in a list of orphans.
        let deleted = u32le(&inode.raw, node::DELETE_TIME);
        if (1..self.sb().inodes).contains(&deleted) || inode.has(node::FLAGS_OF_DIRECTORIES) {
            return wrong(number, "its fields do not go together");
        }
        match number {
            InodeNumber::RESIZE => return self.reserve(inode),
            InodeNumber::JOURNAL => return self.journal(inode),
            BAD_BLOCKS => {}
            // Quota files, which exist with the feature for them.
            InodeNumber(3 | 4) => return Ok(()),
            BOOT_LOADER if inode.kind() != FileKind::Directory => {}
            _ if inode.mode() == 0 => {}
            _ => return wrong(number, "the system's own, it has a mode"),
        }
        self.own_file(number, inode, false).map(drop)
    }

    /// A file of the system's own: its blocks, and its count of them.
    fn own_file(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        keeps_runs: bool,
    ) -> Result<Mapped, CheckError> {
        let sb = self.sb();
        let is_inside = (sb.first_data_block.max(1)..sb.blocks).contains(&inode.xattr_block());
        let attributes = if is_inside {
            self.attributes(number, inode)?
        } else {
            0
        };
        let mapped = if inode.mode() == 0 && number != BAD_BLOCKS {
            Mapped::default()
        } else {
            self.map(number, inode, keeps_runs)?
        };
        if mapped.blocks + attributes != inode.blocks(self.sb()) {
            wrong(number, "it counts other blocks than it has")?;
        }
        let size = u64::from(u32le(&inode.raw, node::SIZE_HIGH)) << 32
            | u64::from(u32le(&inode.raw, node::SIZE));
        self.file_of_size(number, inode, size, &mapped)?;
        Ok(mapped)
    }

    /// The reserved blocks after the descriptors, which were marked together with these: a map
    /// leads to the first of each, and these to the others ("Meta Block Groups", `resize_inode`).
    /// Growing the file system rewrites them, so only the count matters.
    fn reserve(&mut self, inode: &Inode) -> Done {
        let number = InodeNumber::RESIZE;
        let sb = self.sb();
        let fault = || wrong(number, "the room for more group descriptors cannot be");
        let slot = |slot: usize| u32le(inode.map(), slot * 4);
        let is_empty = (0..15).all(|index| index == 13 || slot(index) == 0);
        let each = sb.block_size / 4;
        let (mut found, mut last) = (0, 0);
        let upper = u64::from(slot(13));
        let inside = sb.first_data_block.max(1)..sb.blocks;
        let is_file = inode.kind() == FileKind::Regular || (inode.mode() == 0 && upper == 0);
        let has_attributes = inside.contains(&inode.xattr_block());
        if !is_file || !is_empty || has_attributes || inode.has(node::FLAG_EXTENTS) {
            return fault();
        }
        if upper != 0 {
            if !sb.compatible.has(Compatible::RESIZE_INODE) || !inside.contains(&upper) {
                return fault();
            }
            if let Some(block) = self.used.take(upper..upper + 1) {
                return Err(CheckError::Shared(block));
            }
            found = 1;
            for (index, pointer) in pointers(&read(self.source, upper)?) {
                if !inside.contains(&pointer) {
                    return fault();
                }
                found += 1;
                for (below, pointer) in pointers(&read(self.source, pointer)?) {
                    if !inside.contains(&pointer) {
                        return fault();
                    }
                    found += 1;
                    last = 12 + each + index * each + below;
                }
            }
        }
        let size = inode.size().div_ceil(sb.block_size);
        let possible = last..=most_in_block_map(sb);
        if found == inode.blocks(sb) && possible.contains(&size) {
            Ok(())
        } else {
            fault()
        }
    }

    fn journal(&mut self, inode: &Inode) -> Done {
        let number = InodeNumber::JOURNAL;
        let sb = self.sb();
        let has_journal = sb.compatible.has(Compatible::HAS_JOURNAL);
        if !has_journal || sb.journal_inode != number.0 {
            // Without a journal, or with one on another device, the inode is empty.
            let is_clear = inode.links() == 0
                && sb.journal_inode == 0
                && u32le(inode.map(), 0) == 0
                && inode.blocks(sb) == 0;
            return if is_clear {
                Ok(())
            } else {
                wrong(
                    number,
                    "there is a journal that the superblock does not have",
                )
            };
        }
        let is_file = inode.links() > 0 && inode.kind() == FileKind::Regular;
        if !is_file || inode.has(node::FLAG_INLINE) {
            return Err(CheckError::Journal("it is no file"));
        }
        let mapped = self.own_file(number, inode, true)?;
        let data: u64 = mapped.runs.iter().map(|run| run.len).sum();
        let Some(first) = mapped.runs.first().filter(|_| data == mapped.end) else {
            return Err(CheckError::Journal("it has holes"));
        };
        let head = read(self.source, first.start)?;
        let size = inode.size();
        let blocks = size / sb.block_size;
        if !size.is_multiple_of(sb.block_size) || blocks > data {
            return Err(CheckError::Journal("its size is wrong"));
        }
        let head = Head::parse(&head, sb.block_size as usize, blocks)?;
        match (head.start, head.error) {
            (0, 0) => Ok(()),
            (0, _) => Err(CheckError::Journal("the system has met an error with it")),
            // The superblock should have recorded that.
            _ => Err(CheckError::NeedsReplay),
        }
    }
}

/// The block numbers in a block of a map, and their positions.
fn pointers(block: &[u8]) -> impl Iterator<Item = (u64, u64)> {
    let all = block.chunks_exact(4).map(|raw| u64::from(u32le(raw, 0)));
    (0..).zip(all).filter(|(_, pointer)| *pointer != 0)
}
