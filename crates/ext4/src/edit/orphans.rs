//! Orphans: files that were still open when their last name was removed, and files that were being cut
//! off. "Orphan File" and `s_last_orphan` of the kernel's ext4 documentation.

use std::collections::HashSet;

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{put32, u32le};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{node, sb};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber};
use pinewrit_ext4_layout::{Compatible, ExtError, ReadOnlyCompatible};

use super::{EditError, Editor};
use crate::settle::Settled;

/// What each block of the orphan file ends with, before its checksum.
const MAGIC: u32 = 0x0b10_ca04;
/// Length of both.
const TAIL: usize = 8;
const DAMAGED: ExtError = ExtError::Damaged("the list of orphans");

impl<D: BlockDevice> Editor<D> {
    /// Finishes all orphans.
    ///
    /// # Errors
    /// The list is damaged, or leads to what cannot be an orphan.
    pub(crate) fn finish_orphans(&mut self, settled: &mut Settled) -> Result<(), EditError> {
        // The counts of what is free are written in any case.
        self.edit_sb()?;
        self.finish_list(settled)?;
        if self.sb.read_only.has(ReadOnlyCompatible::ORPHAN_PRESENT) {
            if self.sb.compatible.has(Compatible::ORPHAN_FILE) {
                self.finish_file(settled)?;
            }
            let flags = self.sb.read_only - ReadOnlyCompatible::ORPHAN_PRESENT;
            put32(self.edit_sb()?, sb::READ_ONLY, flags.bits());
            self.sb.read_only = flags;
        }
        Ok(())
    }

    /// The older form: each orphan's time of deletion is the number of the next.
    fn finish_list(&mut self, settled: &mut Settled) -> Result<(), EditError> {
        let mut seen = HashSet::new();
        let mut number = self.sb.last_orphan;
        while number != 0 {
            if !seen.insert(number) {
                return Err(DAMAGED.into());
            }
            let inode = self.orphan(InodeNumber(number))?;
            let next = u32le(&inode.raw, node::DELETE_TIME);
            self.finish_one(InodeNumber(number), inode, settled)?;
            number = next;
        }
        if self.sb.last_orphan != 0 {
            put32(self.edit_sb()?, sb::LAST_ORPHAN, 0);
            self.sb.last_orphan = 0;
        }
        Ok(())
    }

    fn finish_file(&mut self, settled: &mut Settled) -> Result<(), EditError> {
        let list = InodeNumber(self.sb.orphan_file);
        let inode = self.tree().inode(list)?;
        for run in inode.runs(self)? {
            for block in run.blocks() {
                let mut bytes = self.read_block(block)?;
                let tail = bytes.len().checked_sub(TAIL).ok_or(DAMAGED)?;
                let sum = self.orphan_sum(list, &inode, block, &bytes[..tail]);
                let is_right = u32le(&bytes, tail) == MAGIC
                    && sum.is_none_or(|sum| sum == u32le(&bytes, tail + 4));
                if !is_right {
                    return Err(DAMAGED.into());
                }
                for at in (0..tail).step_by(4) {
                    let number = u32le(&bytes, at);
                    if number != 0 {
                        let orphan = self.orphan(InodeNumber(number))?;
                        self.finish_one(InodeNumber(number), orphan, settled)?;
                    }
                }
                bytes[..tail].fill(0);
                if let Some(sum) = self.orphan_sum(list, &inode, block, &bytes[..tail]) {
                    put32(&mut bytes, tail + 4, sum);
                }
                self.put_block(block, bytes);
            }
        }
        Ok(())
    }

    /// The checksum of a block of the orphan file, if it has one.
    fn orphan_sum(
        &self,
        list: InodeNumber,
        inode: &Inode,
        block: u64,
        entries: &[u8],
    ) -> Option<u32> {
        let has_sums = self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
        let seed = self.inode_seed(list, inode);
        has_sums.then(|| crc32c(crc32c(seed, &block.to_le_bytes()), entries))
    }

    /// An inode that can be an orphan.
    fn orphan(&mut self, number: InodeNumber) -> Result<Inode, EditError> {
        let is_possible = number.0 >= self.sb.first_inode && number.0 <= self.sb.inodes;
        if !is_possible || !self.is_inode_used(number)? {
            return Err(DAMAGED.into());
        }
        Ok(self.tree().inode(number)?)
    }

    fn finish_one(
        &mut self,
        number: InodeNumber,
        mut inode: Inode,
        settled: &mut Settled,
    ) -> Result<(), EditError> {
        let kind = inode.kind();
        if inode.links() == 0 {
            self.drop_inode(number, inode, kind == FileKind::Directory)?;
            settled.removed += 1;
            return Ok(());
        }
        // It is cut off behind its end, which was set before.
        if kind == FileKind::Regular && !inode.has(node::FLAG_INLINE) {
            let block = self.sb.block_size;
            let mut runs = inode.runs(self)?;
            let size = inode.size();
            self.cut(&mut runs, size.div_ceil(block))?;
            let within = (size % block) as usize;
            if within > 0 {
                self.edit_last_block(&mut runs, size / block, within, &[])?;
            }
            self.put_map(number, &mut inode, &runs)?;
        }
        put32(&mut inode.raw, node::DELETE_TIME, 0);
        self.put_inode(number, &inode)?;
        settled.cut += 1;
        Ok(())
    }
}
