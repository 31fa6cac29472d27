//! Inodes of the system's own: bad blocks, room for more group descriptors, the journal.

use super::inodes::wrong;
use super::{Check, CheckError, read};
use crate::Compatible;
use crate::bytes::u32le;
use crate::checksum::crc32c;
use crate::fields::node;
use crate::inode::{FileKind, Inode, InodeNumber};

const BAD_BLOCKS: InodeNumber = InodeNumber(1);
const BOOT_LOADER: InodeNumber = InodeNumber(5);
/// "Journal (jbd2)": its magic number, and the types of superblocks.
const JOURNAL_MAGIC: u32 = 0xc03b_3998;
const JOURNAL_SUPERBLOCKS: [u32; 2] = [3, 4];
/// Fewer blocks no journal has.
const LEAST_JOURNAL: u32 = 1024;
/// Features by which a journal has checksums, versions 2 and 3.
const JOURNAL_SUMS: u32 = 0x8 | 0x10;

type Done = Result<(), CheckError>;

impl Check<'_> {
    pub(super) fn own_inode(&mut self, number: InodeNumber, inode: &Inode) -> Done {
        match number {
            InodeNumber::RESIZE => return self.reserve(inode),
            InodeNumber::JOURNAL => return self.journal(inode),
            BAD_BLOCKS => {}
            _ if inode.links() == 0 => return Ok(()),
            BOOT_LOADER if inode.kind() != FileKind::Directory => {}
            _ if inode.mode() == 0 => {}
            _ => return wrong(number, "the system's own, it has a mode"),
        }
        let mapped = self.map(number, inode, false)?;
        match mapped.blocks == inode.blocks(self.sb()) {
            true => Ok(()),
            false => wrong(number, "it counts other blocks than it has"),
        }
    }

    /// The blocks behind the descriptors, which were marked with these: a map leads to the first of
    /// each, and these to the others ("Meta Block Groups", `resize_inode`).
    fn reserve(&mut self, inode: &Inode) -> Done {
        let number = InodeNumber::RESIZE;
        let fault = "the room for more group descriptors cannot be";
        let slot = |slot: usize| u32le(inode.map(), slot * 4);
        let is_empty = (0..15)
            .filter(|index| *index != 13)
            .all(|index| slot(index) == 0);
        if !self.sb().compatible.has(Compatible::RESIZE_INODE) {
            let is_clear = inode.links() == 0 && is_empty && slot(13) == 0;
            return match is_clear {
                true => Ok(()),
                false => wrong(number, fault),
            };
        }
        let upper = u64::from(slot(13));
        let (first, end) = (self.sb().first_data_block.max(1), self.sb().blocks);
        let is_file = inode.links() > 0 && inode.kind() == FileKind::Regular;
        if !is_file || !is_empty || !(first..end).contains(&upper) {
            return wrong(number, fault);
        }
        if let Some(block) = self.used.take(upper..upper + 1) {
            return Err(CheckError::Shared(block));
        }
        let sb = self.sb();
        let upper = read(self.source, upper)?;
        let pointers = sb.block_size / 4;
        let tables = sb.descriptor_locations().len() as u64;
        let copies: Vec<u64> = (1..sb.groups())
            .filter(|group| sb.has_superblock(*group))
            .collect();
        for index in 0..sb.reserved_descriptor_blocks {
            let block = sb.superblock_block() + 1 + tables + index;
            let at = ((tables + index) % pointers) as usize * 4;
            if u64::from(u32le(&upper, at)) != block || block >= sb.blocks {
                return wrong(number, fault);
            }
            let lower = read(self.source, block)?;
            let fits = copies
                .iter()
                .zip(lower.chunks_exact(4))
                .all(|(group, found)| {
                    u64::from(u32le(found, 0)) == block + group * sb.blocks_per_group
                });
            if !fits {
                return wrong(number, fault);
            }
        }
        Ok(())
    }

    fn journal(&mut self, inode: &Inode) -> Done {
        let number = InodeNumber::JOURNAL;
        let sb = self.sb();
        let has_journal = sb.compatible.has(Compatible::HAS_JOURNAL);
        if !has_journal || sb.journal_inode != number.0 {
            // With none, or one on another device, nothing is in it.
            let is_clear = inode.links() == 0 && sb.journal_inode == 0;
            return match is_clear {
                true => Ok(()),
                false => wrong(
                    number,
                    "there is a journal that the superblock does not have",
                ),
            };
        }
        if inode.links() == 0 || inode.kind() != FileKind::Regular || inode.has(node::FLAG_INLINE) {
            return wrong(number, "it is no journal");
        }
        let mapped = self.map(number, inode, true)?;
        let sb = self.sb();
        if mapped.blocks != inode.blocks(sb) {
            return wrong(number, "it counts other blocks than it has");
        }
        let data: u64 = mapped.runs.iter().map(|run| run.len).sum();
        let Some(first) = mapped.runs.first().filter(|_| data == mapped.end) else {
            return wrong(number, "the journal has holes");
        };
        let head = read(self.source, first.start)?;
        let fits = is_journal_head(&head, sb.block_size, data.min(inode.size() / sb.block_size));
        // Where there is something to replay, the superblock says so.
        match fits && big(&head, 28) == 0 {
            true => Ok(()),
            false => wrong(number, "the head of the journal cannot be"),
        }
    }
}

/// The journal's integers are big-endian.
fn big(bytes: &[u8], at: usize) -> u32 {
    bytes[at..]
        .first_chunk()
        .map_or(0, |raw| u32::from_be_bytes(*raw))
}

fn is_journal_head(head: &[u8], block_size: u64, blocks: u64) -> bool {
    let (kind, len, first) = (big(head, 4), big(head, 16), big(head, 20));
    let is_possible = big(head, 0) == JOURNAL_MAGIC
        && JOURNAL_SUPERBLOCKS.contains(&kind)
        && u64::from(big(head, 12)) == block_size
        && u64::from(len) <= blocks
        && len >= LEAST_JOURNAL
        && first > 0
        && first < len
        // An error that the kernel has met.
        && big(head, 32) == 0;
    let has_sums = kind == 4 && big(head, 40) & JOURNAL_SUMS != 0;
    if !is_possible || !has_sums {
        return is_possible;
    }
    let sum = crc32c(crc32c(!0, &head[..252]), &[0; 4]);
    crc32c(sum, &head[256..1024]) == big(head, 252)
}
