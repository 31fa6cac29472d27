//! Changing inodes.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{put16, put32, u16le};
use pinewrit_ext4_layout::ReadOnlyCompatible;
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{node, sb};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, has_extra, inode_checksum};
use pinewrit_ext4_layout::xattr::{self, Kept};

use super::{Attributes, EditError, Editor};

/// Bytes of fields after the first 128 in new inodes.
const EXTRA_SIZE: u16 = 32;

impl<D: BlockDevice> Editor<D> {
    /// An inode for a new file, with no content.
    pub(crate) fn new_inode(
        &mut self,
        number: InodeNumber,
        kind: FileKind,
        attributes: &Attributes,
    ) -> Result<Inode, EditError> {
        let size = self.sb.inode_size as usize;
        let mut inode = Inode::new(vec![0; size]);
        if size > node::OLD_SIZE {
            let wanted = match u16le(self.raw_sb()?, sb::WANT_EXTRA_SIZE) {
                wanted if (4..=128).contains(&wanted) && wanted.is_multiple_of(4) => wanted,
                _ => EXTRA_SIZE,
            };
            put16(
                &mut inode.raw,
                node::EXTRA_SIZE,
                wanted.min(size as u16 - 128),
            );
        }
        inode.set_mode(kind, attributes.mode);
        inode.set_owner(attributes.uid, attributes.gid);
        inode.set_links(1);
        inode.set_modified(attributes.modified);
        let now = self.now;
        inode.set_changed(now);
        inode.set_time(
            node::ACCESS_TIME,
            node::ACCESS_TIME_EXTRA,
            attributes.modified,
        );
        if has_extra(&inode.raw, node::CREATE_TIME_EXTRA) {
            inode.set_time(node::CREATE_TIME, node::CREATE_TIME_EXTRA, now);
        }
        // It only has to differ from that of an earlier file with this number.
        let generation = crc32c(self.sb.seed ^ number.0, &now.seconds.to_le_bytes());
        put32(&mut inode.raw, node::GENERATION, generation);
        Ok(inode)
    }

    /// Writes an inode with its checksum.
    pub(crate) fn put_inode(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
    ) -> Result<(), EditError> {
        let mut raw = inode.raw.clone();
        if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let (sum, has_high) = inode_checksum(&self.sb, number, &raw);
            put16(&mut raw, node::CHECKSUM, sum as u16);
            if has_high {
                put16(&mut raw, node::CHECKSUM_HIGH, (sum >> 16) as u16);
            }
        }
        let offset = self.inode_offset(number)?;
        let size = self.sb.block_size;
        let at = (offset % size) as usize;
        let block = self.cache.edit(offset / size)?;
        block[at..at + raw.len()].copy_from_slice(&raw);
        Ok(())
    }

    /// An inode that may be changed.
    pub(crate) fn inode_to_change(&mut self, number: InodeNumber) -> Result<Inode, EditError> {
        let offset = self.inode_offset(number)?;
        let (size, len) = (self.sb.block_size, self.sb.inode_size as usize);
        let at = (offset % size) as usize;
        let inode = Inode::new(self.cache.block(offset / size)?[at..at + len].to_vec());
        if inode.has(node::FLAGS_FIXED | node::FLAGS_STRANGE) {
            Err(EditError::Fixed(format!("inode {}", number.0)))
        } else {
            Ok(inode)
        }
    }

    /// Gives an inode exactly these attributes. The caller writes it.
    pub(crate) fn put_xattrs(&mut self, inode: &mut Inode, all: &[Kept]) -> Result<(), EditError> {
        if let Some(first) = all.iter().find(|one| !one.is_inline_data()) {
            self.note_xattrs(first)?;
        }
        let had_block = inode.xattr_block() != 0;
        self.release_xattr_block(inode)?;
        let blocks = self.sectors_in_blocks(inode);
        let mut blocks = blocks.saturating_sub(u64::from(had_block));
        if !xattr::put_in_inode(&mut inode.raw, all) {
            let in_inode: Vec<Kept> = all.iter().filter(|k| k.is_inline_data()).cloned().collect();
            let others = all.iter().filter(|k| !k.is_inline_data()).cloned();
            xattr::put_in_inode(&mut inode.raw, &in_inode);
            let size = self.sb.block_size as usize;
            let name = || {
                all.last()
                    .and_then(Kept::as_seen)
                    .map_or(String::new(), |a| a.name)
            };
            let bytes = xattr::block_of(others.collect(), size);
            let mut bytes = bytes.ok_or_else(|| EditError::Xattr(name()))?;
            let goal = self.sb.group_blocks(0).start;
            let block = self.allocate_block(goal)?;
            self.seal_xattr_block(block, &mut bytes);
            self.cache.put(block, bytes);
            inode.set_xattr_block(block);
            blocks += 1;
        }
        self.put_sectors(inode, blocks);
        Ok(())
    }

    pub(crate) fn seal_xattr_block(&self, block: u64, bytes: &mut [u8]) {
        if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            put32(bytes, 16, 0);
            let sum = crc32c(crc32c(self.sb.seed, &block.to_le_bytes()), bytes);
            put32(bytes, 16, sum);
        }
    }

    /// Several inodes may share a block of attributes.
    pub(crate) fn release_xattr_block(&mut self, inode: &mut Inode) -> Result<(), EditError> {
        let block = inode.xattr_block();
        if block == 0 {
            return Ok(());
        }
        let mut bytes = self.cache.block(block)?.to_vec();
        xattr::in_block(&bytes)?;
        let users = pinewrit_disk::bytes::u32le(&bytes, 4);
        if users > 1 {
            put32(&mut bytes, 4, users - 1);
            self.seal_xattr_block(block, &mut bytes);
            self.cache.put(block, bytes);
        } else {
            self.release(block..block + 1)?;
        }
        inode.set_xattr_block(0);
        Ok(())
    }

    fn sectors_in_blocks(&self, inode: &Inode) -> u64 {
        let high = u64::from(u16le(&inode.raw, node::SECTORS_HIGH));
        let count = high << 32 | u64::from(pinewrit_disk::bytes::u32le(&inode.raw, node::SECTORS));
        if inode.has(node::FLAG_HUGE) {
            count
        } else {
            count / (self.sb.block_size / 512)
        }
    }
}
