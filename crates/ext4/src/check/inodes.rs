//! Inodes: each on its own, and its blocks.

use std::ops::Range;

use pinewrit_disk::bits::is_set;
use pinewrit_disk::bytes::{u16le, u32le};
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{bg, node};
use pinewrit_ext4_layout::inode::{
    FileKind, Inode, InodeNumber, inode_seed, is_intact, most_in_block_map,
};
use pinewrit_ext4_layout::xattr;
use pinewrit_ext4_layout::{
    Compatible, GroupDescriptor, Incompatible, ReadOnlyCompatible, Superblock,
};

use super::folders::Directory;
use super::map::{Mapped, Walk};
use super::{Check, CheckError, Seen, read, read_blocks};
use crate::tree::Tree;

/// Bytes of inode tables that are read at once.
const REQUEST: u64 = 1 << 20;
/// A directory with more folders than this need not count them.
const MAX_LINKS: u32 = 65_000;

type Done = Result<(), CheckError>;

impl Check<'_> {
    /// All inodes of a group.
    pub(super) fn group_inodes(&mut self, group: u64, descriptor: &GroupDescriptor) -> Done {
        let sb = self.sb();
        let per_group = sb.inodes_per_group;
        if !sb.has_group_flags() && descriptor.flags & (bg::BLOCK_UNINIT | bg::INODE_UNINIT) != 0 {
            let what = "it is said to be unwritten, and no checksum says so";
            return Err(CheckError::Group { group, what });
        }
        if descriptor.is_inode_table_unwritten {
            let is_right = descriptor.free_inodes == per_group && descriptor.directories == 0;
            return if is_right {
                Ok(())
            } else {
                Err(CheckError::InodeBitmap(group))
            };
        }
        let bitmap = read(self.source, descriptor.inode_bitmap)?;
        let covered = (per_group / 8) as usize;
        let is_right = descriptor.fits_inode_bitmap(sb, &bitmap)
            && bitmap[covered..].iter().all(|byte| *byte == 0xff);
        if !is_right {
            return Err(CheckError::InodeBitmap(group));
        }
        let end = per_group.saturating_sub(descriptor.unused_inodes);
        if (end..per_group).any(|index| is_set(&bitmap, u64::from(index))) {
            let what = "inodes are in use that count as never used";
            return Err(CheckError::Group { group, what });
        }
        let directories = self.directories.len();
        let per_block = (sb.block_size / sb.inode_size) as u32;
        let most = (REQUEST / sb.block_size).max(1) as u32;
        // Including those marked as free: content in them is damage.
        let blocks = end.div_ceil(per_block);
        for block in (0..blocks).step_by(most as usize) {
            let count = most.min(blocks - block);
            let first = descriptor.inode_table + u64::from(block);
            let bytes = read_blocks(self.source, first..first + u64::from(count))?;
            let inside = block * per_block..((block + count) * per_block).min(end);
            self.table_part(group, inside, &bitmap, &bytes)?;
        }
        let found = self.directories.len() - directories;
        if found as u64 == u64::from(descriptor.directories) {
            Ok(())
        } else {
            Err(CheckError::Group {
                group,
                what: "it counts other directories than it has",
            })
        }
    }

    /// The inodes at these places of a group's table.
    fn table_part(&mut self, group: u64, inside: Range<u32>, bitmap: &[u8], bytes: &[u8]) -> Done {
        let size = self.sb().inode_size as usize;
        let first = group as u32 * self.sb().inodes_per_group + 1;
        for (index, raw) in inside.zip(bytes.chunks_exact(size)) {
            let number = InodeNumber(first + index);
            if is_set(bitmap, u64::from(index)) {
                self.inode(number, Inode::new(raw.to_vec()))?;
                continue;
            }
            if number.0 < self.sb().first_inode {
                return wrong(number, "it is the system's own, and counts as free");
            }
            let (links, mode) = (u16le(raw, node::LINKS), u16le(raw, node::MODE));
            if links > 0 || (mode != 0 && u32le(raw, node::DELETE_TIME) == 0) {
                return wrong(number, "it counts as free, and is in use");
            }
        }
        Ok(())
    }

    fn inode(&mut self, number: InodeNumber, inode: Inode) -> Done {
        let sb = self.sb();
        let is_own = number.0 < sb.first_inode && number != InodeNumber::ROOT;
        if inode.links() == 0 && !is_own {
            return wrong(number, "it is in use, and has no name");
        }
        if !is_intact(sb, number, &inode.raw) {
            return wrong(number, "its checksum is wrong");
        }
        if is_own {
            return self.own_inode(number, &inode);
        }
        let kind = inode.kind();
        if let Some(what) = field_fault(sb, &inode, kind) {
            return wrong(number, what);
        }
        if number == InodeNumber::ROOT && kind != FileKind::Directory {
            return wrong(number, "the root is no directory");
        }
        self.seen.push(Seen {
            number: number.0,
            kind,
            links: inode.links(),
            has_index: inode.has(node::FLAG_INDEX),
            names: 0,
            above: 0,
        });
        let attributes = self.attributes(number, &inode)?;
        if inode.has(node::FLAG_ENCRYPT) && !self.has_encryption(&inode)? {
            return wrong(number, "it is said to be encrypted, and nothing says how");
        }
        if inode.has(node::FLAG_INLINE) {
            return self.inline(number, inode, attributes);
        }
        let keeps_runs = matches!(kind, FileKind::Directory | FileKind::Symlink);
        let mapped = if inode.has_map() {
            self.map(number, &inode, keeps_runs)?
        } else {
            Mapped::default()
        };
        if mapped.blocks + attributes != inode.blocks(sb) {
            return wrong(number, "it counts other blocks than it has");
        }
        match kind {
            FileKind::Directory => self.directory(number, &inode, mapped),
            FileKind::Symlink => self.link(number, &inode, &mapped),
            FileKind::Regular => self.file_of_size(number, &inode, inode.size(), &mapped),
            // Devices, pipes and sockets have no content.
            _ if inode.size() != 0 => wrong(number, "it has a size, and no content"),
            _ => Ok(()),
        }
    }

    pub(super) fn map(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        keeps_runs: bool,
    ) -> Result<Mapped, CheckError> {
        let walk = Walk {
            source: self.source,
            used: &mut self.used,
            number,
            keeps_runs,
            found: Mapped::default(),
        };
        walk.run(inode)
    }

    /// A file with content, `size` bytes of it.
    pub(super) fn file_of_size(
        &self,
        number: InodeNumber,
        inode: &Inode,
        size: u64,
        mapped: &Mapped,
    ) -> Done {
        let sb = self.sb();
        // Blocks reserved beyond the end are unwritten, except one that was just being added.
        let is_beyond = mapped
            .last_written
            .is_some_and(|last| size < last.saturating_mul(sb.block_size));
        if is_beyond && !inode.has(node::FLAG_VERITY) {
            return wrong(number, "it has blocks behind its end");
        }
        let blocks = size.div_ceil(sb.block_size);
        let most = if inode.has(node::FLAG_EXTENTS) {
            1 << 32
        } else {
            most_in_block_map(sb)
        };
        if blocks > most {
            wrong(number, "it is larger than its map can be")
        } else {
            Ok(())
        }
    }

    fn link(&self, number: InodeNumber, inode: &Inode, mapped: &Mapped) -> Done {
        let len = inode.size();
        if inode.has(node::FLAG_ENCRYPT) {
            return Ok(());
        }
        let text = if inode.is_short_link() {
            inode.map().to_vec()
        } else {
            match mapped.runs[..] {
                [run] if run.logical == 0 && run.len == 1 && len < self.sb().block_size => {
                    read(self.source, run.start)?
                }
                _ => return wrong(number, "it is a link that cannot be"),
            }
        };
        let end = text.iter().position(|byte| *byte == 0);
        if end == Some(len as usize) && len > 0 {
            Ok(())
        } else {
            wrong(number, "it is a link that cannot be")
        }
    }

    fn directory(&mut self, number: InodeNumber, inode: &Inode, mapped: Mapped) -> Done {
        let sb = self.sb();
        let data: u64 = mapped.runs.iter().map(|run| run.len).sum();
        if mapped.has_unwritten || data != mapped.end || data == 0 {
            return wrong(number, "it is a directory with holes");
        }
        if inode.size() != mapped.end * sb.block_size {
            return wrong(
                number,
                "it is a directory of another size than its blocks have",
            );
        }
        if inode.has(node::FLAG_INDEX) && !sb.compatible.has(Compatible::DIR_INDEX) {
            return wrong(number, "it has an index, and the file system has none");
        }
        self.directories.push(Directory {
            number,
            seed: inode_seed(sb, number, inode.generation()),
            has_index: inode.has(node::FLAG_INDEX),
            is_encrypted: inode.has(node::FLAG_ENCRYPT),
            runs: mapped.runs.iter().map(|run| (run.start, run.len)).collect(),
            inline: None,
            up: 0,
        });
        Ok(())
    }

    /// A file or directory whose content is in the inode.
    fn inline(&mut self, number: InodeNumber, inode: Inode, attributes: u64) -> Done {
        let sb = self.sb();
        let kind = inode.kind();
        let can = sb.incompatible.has(Incompatible::INLINE_DATA)
            && !inode.has(node::FLAG_EXTENTS | node::FLAG_INDEX)
            && matches!(
                kind,
                FileKind::Regular | FileKind::Directory | FileKind::Symlink
            );
        let kept = xattr::in_inode(&inode.raw).unwrap_or_default();
        let rest = kept.into_iter().find(xattr::Kept::is_inline_data);
        let Some(rest) = rest.filter(|_| can) else {
            return wrong(number, "its content is said to be in it, and is not");
        };
        let room = (node::MAP_LEN + rest.value.len()) as u64;
        let size = inode.size();
        let fits = match kind {
            FileKind::Directory => size == room,
            _ => size <= room && (rest.value.is_empty() || size == room),
        };
        if !fits || inode.blocks(sb) != attributes {
            return wrong(number, "the size of its content in it cannot be");
        }
        if kind == FileKind::Directory {
            self.directories.push(Directory {
                number,
                seed: 0,
                has_index: false,
                is_encrypted: inode.has(node::FLAG_ENCRYPT),
                runs: Vec::new(),
                up: u32le(inode.map(), 0),
                inline: Some([inode.map()[4..].to_vec(), rest.value]),
            });
        }
        Ok(())
    }

    /// Extended attributes; returns how many blocks they take.
    pub(super) fn attributes(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
    ) -> Result<u64, CheckError> {
        let sb = self.sb();
        if let Err(what) = xattr::check_inode(&inode.raw) {
            wrong(number, what)?;
        }
        let block = inode.xattr_block();
        if block == 0 {
            return Ok(0);
        }
        if !sb.compatible.has(Compatible::EXT_ATTR) {
            wrong(
                number,
                "it has extended attributes, and the file system has none",
            )?;
        }
        if block < sb.first_data_block.max(1) || block >= sb.blocks {
            wrong(number, "it has blocks outside of the file system")?;
        }
        if let Some((_, found)) = self.shared_attributes.get_mut(&block) {
            *found += 1;
            return Ok(1);
        }
        if let Some(block) = self.used.take(block..block + 1) {
            return Err(CheckError::Shared(block));
        }
        let mut bytes = read(self.source, block)?;
        if let Err(what) = xattr::check_block(&bytes) {
            wrong(number, what)?;
        }
        self.shared_attributes.insert(block, (u32le(&bytes, 4), 1));
        if self.sb().read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let stored = u32le(&bytes, 16);
            bytes[16..20].fill(0);
            let sum = crc32c(crc32c(self.sb().seed, &block.to_le_bytes()), &bytes);
            if sum != stored {
                wrong(number, "the checksum of its extended attributes is wrong")?;
            }
        }
        Ok(1)
    }

    fn has_encryption(&self, inode: &Inode) -> Result<bool, CheckError> {
        let kept = Tree {
            source: self.source,
        }
        .kept_xattrs(inode)?;
        Ok(kept.iter().any(xattr::Kept::is_encryption))
    }

    /// Names that lead to each inode, and what they count themselves.
    pub(super) fn links(&self) -> Done {
        for seen in &self.seen {
            let number = InodeNumber(seen.number);
            let counted = match seen.kind {
                FileKind::Directory if seen.names + 2 > MAX_LINKS => 1,
                FileKind::Directory => seen.names + 2,
                _ if seen.names == 0 && self.is_nameless(seen.number) => continue,
                _ if seen.names == 0 => return wrong(number, "no name leads to it"),
                _ => seen.names,
            };
            let is_overflow = seen.has_index && seen.links == 1;
            if u32::from(seen.links) != counted && !is_overflow {
                return wrong(number, "it counts other names than lead to it");
            }
        }
        let differs = |(_, (counted, found)): &(&u64, &(u32, u32))| counted != found;
        match self.shared_attributes.iter().find(differs) {
            Some((block, _)) => Err(CheckError::Attributes(*block)),
            None => Ok(()),
        }
    }

    /// The list of orphans is a file without a name.
    fn is_nameless(&self, number: u32) -> bool {
        self.sb().compatible.has(Compatible::ORPHAN_FILE) && number == self.sb().orphan_file
    }
}

pub(super) fn wrong(number: InodeNumber, what: &'static str) -> Done {
    Err(CheckError::Inode {
        number: number.0,
        what,
    })
}

/// What is wrong with an inode by its fields alone.
fn field_fault(sb: &Superblock, inode: &Inode, kind: FileKind) -> Option<&'static str> {
    let raw = &inode.raw;
    if kind == FileKind::Unknown {
        return Some("its mode says none of the kinds there are");
    }
    if u32le(raw, node::DELETE_TIME) != 0 {
        return Some("it is in use, and was deleted");
    }
    let is_directory = kind == FileKind::Directory;
    let has_large = sb.incompatible.has(Incompatible::LARGEDIR);
    let is_odd = u32le(raw, node::FRAGMENT) != 0
        || (is_directory && !has_large && u32le(raw, node::SIZE_HIGH) != 0)
        || (!sb.incompatible.has(Incompatible::BIT64) && u16le(raw, node::XATTR_BLOCK_HIGH) != 0)
        || (!sb.read_only.has(ReadOnlyCompatible::HUGE_FILE)
            && u16le(raw, node::SECTORS_HIGH) != 0)
        || (inode.has(node::FLAG_INDEX) && !is_directory)
        || (inode.has(node::FLAG_EXTENTS) && !sb.incompatible.has(Incompatible::EXTENTS))
        || (inode.has(node::FLAG_MAGIC) && !sb.compatible.has(Compatible::IMAGIC_INODES))
        || (inode.has(node::FLAG_CASEFOLD) && !sb.incompatible.has(Incompatible::CASEFOLD));
    if is_odd {
        return Some("its fields do not go together");
    }
    let is_file = matches!(
        kind,
        FileKind::Regular | FileKind::Directory | FileKind::Symlink
    );
    let is_short = kind == FileKind::Symlink && inode.size() < node::MAP_LEN as u64;
    let has_tree = inode.has(node::FLAG_EXTENTS) && (!is_file || is_short);
    let has_high = !matches!(kind, FileKind::Regular | FileKind::Directory)
        && u32le(raw, node::SIZE_HIGH) != 0;
    if has_tree || has_high || (!is_file && inode.has(node::FLAG_IMMUTABLE)) {
        return Some("its flags are not for what it is");
    }
    let extra = if raw.len() > node::OLD_SIZE {
        usize::from(u16le(raw, node::EXTRA_SIZE))
    } else {
        0
    };
    let fits = extra == 0 || (extra >= 4 && extra.is_multiple_of(4) && extra <= raw.len() - 128);
    (!fits).then_some("its additional fields have a length that cannot be")
}
