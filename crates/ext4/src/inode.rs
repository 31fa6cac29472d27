//! Inodes and the blocks of files: extents, and the older block maps.

use std::ops::Range;

use pinewrit_disk::BlockDevice;

use crate::blocks::{Blocks, VolumeError};
use crate::bytes::{u16le, u32le};

const EXTENTS: u32 = 0x8_0000;
const INLINE_DATA: u32 = 0x1000_0000;
const EXTENT_MAGIC: u16 = 0xf30a;
/// The kernel's own limit for trees of extents.
const MAX_DEPTH: u16 = 5;

/// What a file is, by the upper bits of `i_mode`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum FileKind {
    Regular,
    Directory,
    Symlink,
    Other,
}

/// A part of an inode, "Inode Table".
#[derive(Clone, Debug)]
pub(crate) struct Inode {
    pub(crate) kind: FileKind,
    pub(crate) size: u64,
    pub(crate) links: u16,
    flags: u32,
    /// `i_block`.
    block: [u8; 60],
    /// `i_file_acl`: a block of extended attributes.
    attributes: u64,
}

impl Inode {
    /// `bytes` are at least 128.
    pub(crate) fn parse(bytes: &[u8]) -> Self {
        let mut block = [0; 60];
        block.copy_from_slice(&bytes[0x28..0x64]);
        Self {
            kind: match u16le(bytes, 0) & 0xf000 {
                0x8000 => FileKind::Regular,
                0x4000 => FileKind::Directory,
                0xa000 => FileKind::Symlink,
                _ => FileKind::Other,
            },
            size: u64::from(u32le(bytes, 0x6c)) << 32 | u64::from(u32le(bytes, 0x04)),
            links: u16le(bytes, 0x1a),
            flags: u32le(bytes, 0x20),
            block,
            attributes: u64::from(u16le(bytes, 0x76)) << 32 | u64::from(u32le(bytes, 0x68)),
        }
    }

    /// The data of a small file that lies in the inode itself; only what is in `i_block`.
    pub(crate) fn inline_data(&self) -> Option<&[u8]> {
        (self.flags & INLINE_DATA != 0).then_some(&self.block)
    }

    /// Calls `visit` with runs of blocks: those of the file's data with their place in the file,
    /// those of its map without. Ends early when `visit` returns `true`.
    pub(crate) fn for_each_run<D: BlockDevice>(
        &self,
        blocks: &Blocks<D>,
        visit: &mut dyn FnMut(Option<u64>, Range<u64>) -> bool,
    ) -> Result<bool, VolumeError> {
        if self.attributes != 0 && visit(None, self.attributes..self.attributes + 1) {
            return Ok(true);
        }
        // A short link's text, or small data, is where the map would be.
        let is_short = self.kind == FileKind::Symlink && self.size < 60;
        if self.flags & INLINE_DATA != 0 || (is_short && self.flags & EXTENTS == 0) {
            return Ok(false);
        }
        if self.flags & EXTENTS != 0 {
            return walk_extents(blocks, &self.block, MAX_DEPTH, visit);
        }
        if self.kind == FileKind::Other {
            return Ok(false);
        }
        let mut walk = BlockMap {
            blocks,
            visit,
            logical: 0,
        };
        for slot in 0..15usize {
            let block = u64::from(u32le(&self.block, slot * 4));
            let level = slot.saturating_sub(11) as u32;
            if walk.visit_pointer(block, level)? {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// "Extent Tree": a node of 12 byte entries after a head of 12 bytes.
fn walk_extents<D: BlockDevice>(
    blocks: &Blocks<D>,
    node: &[u8],
    depth_left: u16,
    visit: &mut dyn FnMut(Option<u64>, Range<u64>) -> bool,
) -> Result<bool, VolumeError> {
    let (entries, depth) = (u16le(node, 2), u16le(node, 6));
    if u16le(node, 0) != EXTENT_MAGIC
        || usize::from(entries) > node.len() / 12 - 1
        || depth > depth_left
    {
        return Err(VolumeError::Damaged("a tree of extents"));
    }
    for entry in node[12..].chunks_exact(12).take(usize::from(entries)) {
        let logical = u64::from(u32le(entry, 0));
        if depth == 0 {
            let raw = u16le(entry, 4);
            // Above 32768 the extent is reserved, and not written yet.
            let len = u64::from(if raw > 0x8000 { raw - 0x8000 } else { raw });
            let start = u64::from(u16le(entry, 6)) << 32 | u64::from(u32le(entry, 8));
            if visit(Some(logical), start..start + len) {
                return Ok(true);
            }
            continue;
        }
        let block = u64::from(u16le(entry, 8)) << 32 | u64::from(u32le(entry, 4));
        if visit(None, block..block + 1) {
            return Ok(true);
        }
        let child = blocks.read(block)?;
        // Each level is one lower, so that a loop cannot go on.
        if walk_extents(blocks, &child, depth - 1, visit)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// "Direct/Indirect Block Addressing".
struct BlockMap<'v, D> {
    blocks: &'v Blocks<D>,
    visit: &'v mut dyn FnMut(Option<u64>, Range<u64>) -> bool,
    logical: u64,
}

impl<D: BlockDevice> BlockMap<'_, D> {
    fn visit_pointer(&mut self, block: u64, level: u32) -> Result<bool, VolumeError> {
        let per_block = self.blocks.superblock.block_size / 4;
        if block == 0 {
            self.logical += per_block.pow(level);
            return Ok(false);
        }
        if level == 0 {
            self.logical += 1;
            return Ok((self.visit)(Some(self.logical - 1), block..block + 1));
        }
        if (self.visit)(None, block..block + 1) {
            return Ok(true);
        }
        let pointers = self.blocks.read(block)?;
        for pointer in pointers.chunks_exact(4) {
            if self.visit_pointer(u64::from(u32le(pointer, 0)), level - 1)? {
                return Ok(true);
            }
        }
        Ok(false)
    }
}
