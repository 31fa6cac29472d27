//! The maps of files: whether each is valid, and which blocks it leads to.

use std::ops::Range;

use pinewrit_disk::bytes::{u16le, u32le};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{EXTENT_MAGIC, Inode, InodeNumber, MAX_DEPTH, Run, inode_seed};
use pinewrit_ext4_layout::{ReadOnlyCompatible, Superblock};

use super::used::Used;
use super::{CheckError, read};

/// What a map leads to.
#[derive(Default)]
pub(super) struct Mapped {
    /// Blocks of data and of the map itself.
    pub(super) blocks: u64,
    /// One past the last mapped block of the file.
    pub(super) end: u64,
    /// The last block of the file that is written.
    pub(super) last_written: Option<u64>,
    pub(super) has_unwritten: bool,
    /// All runs, if they are wanted.
    pub(super) runs: Vec<Run>,
}

/// A walk through the map of one file.
pub(super) struct Walk<'w> {
    pub(super) source: &'w dyn Source,
    pub(super) used: &'w mut Used,
    pub(super) number: InodeNumber,
    pub(super) keeps_runs: bool,
    pub(super) found: Mapped,
}

type Done = Result<(), CheckError>;

impl Walk<'_> {
    fn sb(&self) -> &Superblock {
        self.source.superblock()
    }

    fn wrong(&self, what: &'static str) -> Done {
        Err(CheckError::Inode {
            number: self.number.0,
            what,
        })
    }

    /// Follows the whole map.
    pub(super) fn run(mut self, inode: &Inode) -> Result<Mapped, CheckError> {
        if inode.has(node::FLAG_EXTENTS) {
            let depth = u16le(inode.map(), 6);
            if depth > MAX_DEPTH && u16le(inode.map(), 2) > 0 {
                self.wrong("its tree of extents cannot be")?;
            }
            let seed = inode_seed(self.sb(), self.number, inode.generation());
            self.extents(inode.map(), depth, 0..1 << 32, seed)?;
        } else {
            for slot in 0..15usize {
                let pointer = u32le(inode.map(), slot * 4);
                let level = slot.saturating_sub(11) as u32;
                self.pointer(u64::from(pointer), level, first_of(self.sb(), slot))?;
            }
        }
        Ok(self.found)
    }

    /// Marks blocks as those of this file.
    fn take(&mut self, blocks: Range<u64>) -> Done {
        let sb = self.sb();
        if blocks.start < sb.first_data_block.max(1) || blocks.end > sb.blocks {
            return self.wrong("it has blocks outside of the file system");
        }
        self.found.blocks += blocks.end - blocks.start;
        match self.used.take(blocks) {
            Some(block) => Err(CheckError::Shared(block)),
            None => Ok(()),
        }
    }

    fn data(&mut self, run: Run) -> Done {
        self.take(run.blocks())?;
        self.found.end = run.logical_end();
        if run.is_unwritten {
            self.found.has_unwritten = true
        } else {
            self.found.last_written = Some(run.logical_end() - 1)
        }
        if self.keeps_runs {
            self.found.runs.push(run);
        }
        Ok(())
    }

    /// "Extent Tree": checks a node that covers these blocks of the file.
    fn extents(&mut self, tree: &[u8], depth: u16, inside: Range<u64>, seed: u32) -> Done {
        let room = tree.len() / 12 - 1;
        let (entries, most) = (usize::from(u16le(tree, 2)), usize::from(u16le(tree, 4)));
        let is_possible = u16le(tree, 0) == EXTENT_MAGIC
            && entries <= most
            && (room.saturating_sub(2)..=room).contains(&most)
            // A file that lost all of its blocks may keep levels without any.
            && (entries > 0 || tree.len() == node::MAP_LEN);
        if !is_possible {
            return self.wrong("its tree of extents cannot be");
        }
        let all: Vec<&[u8]> = tree[12..].chunks_exact(12).take(entries).collect();
        let mut from = inside.start;
        for (index, entry) in all.iter().enumerate() {
            let logical = u64::from(u32le(entry, 0));
            let end = match all.get(index + 1) {
                Some(next) => u64::from(u32le(next, 0)),
                None => inside.end,
            };
            if logical < from || end <= logical {
                return self.wrong("its extents are not in order");
            }
            from = match depth {
                0 => self.extent(entry, end)?,
                _ => {
                    self.branch(entry, depth - 1, logical..end, seed)?;
                    end
                }
            };
        }
        Ok(())
    }

    /// Returns the end of an extent, in blocks of the file.
    fn extent(&mut self, entry: &[u8], end: u64) -> Result<u64, CheckError> {
        let run = Run::parse(entry);
        if run.len == 0 || run.logical_end() > end {
            self.wrong("it has an extent that cannot be")?;
        }
        self.data(run)?;
        Ok(run.logical_end())
    }

    fn branch(&mut self, entry: &[u8], depth: u16, inside: Range<u64>, seed: u32) -> Done {
        let block = u64::from(u16le(entry, 8)) << 32 | u64::from(u32le(entry, 4));
        self.take(block..block + 1)?;
        let child = read(self.source, block)?;
        // The first entry of a node agrees with the node above.
        if u16le(&child, 2) > 0 && u64::from(u32le(&child, 12)) != inside.start {
            return self.wrong("the levels of its tree of extents differ");
        }
        if self.sb().read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let tail = 12 + usize::from(u16le(&child, 4)) * 12;
            let is_right =
                tail + 4 <= child.len() && crc32c(seed, &child[..tail]) == u32le(&child, tail);
            if !is_right {
                return self.wrong("the checksum of its tree of extents is wrong");
            }
        }
        self.extents(&child, depth, inside, seed)
    }

    /// "Direct/Indirect Block Addressing": checks what one number leads to, from block `logical` of
    /// the file on.
    fn pointer(&mut self, block: u64, level: u32, logical: u64) -> Done {
        if block == 0 {
            return Ok(());
        }
        if level == 0 {
            return self.data(Run::written(logical, block, 1));
        }
        self.take(block..block + 1)?;
        let each = (self.sb().block_size / 4).pow(level - 1);
        let bytes = read(self.source, block)?;
        for (index, pointer) in (0u64..).zip(bytes.chunks_exact(4)) {
            let pointer = u64::from(u32le(pointer, 0));
            self.pointer(pointer, level - 1, logical + index * each)?;
        }
        Ok(())
    }
}

/// The first block of the file that one of the 15 numbers in its inode leads to.
fn first_of(sb: &Superblock, slot: usize) -> u64 {
    let per_block = sb.block_size / 4;
    match slot {
        0..=12 => slot as u64,
        13 => 12 + per_block,
        _ => 12 + per_block + per_block * per_block,
    }
}
