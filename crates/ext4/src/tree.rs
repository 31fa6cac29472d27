//! Reading by path: folders, files, links and their attributes.

use pinewrit_ext4_layout::blocks::{ExtError, Source};
use pinewrit_ext4_layout::directory::{Entry, entries, find_name};
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::htree::{self, Branch, NODE_START, ROOT_START, Root};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, Piece, Run, Timestamp, is_intact};
use pinewrit_ext4_layout::xattr::{self, Kept, Xattr};

use std::cell::Cell;

/// The most blocks of a directory to read; 1 GiB with the usual block size.
const MAX_BLOCKS_OF_DIRECTORY: u64 = 1 << 18;
/// Bytes per read of directories.
const REQUEST: usize = 256 << 10;
/// The most links in a path, as in the kernel.
const MAX_LINKS: u32 = 40;

/// The metadata of a file, folder, link or node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Metadata {
    /// What it is.
    pub kind: FileKind,
    /// Permission bits, with set-user-id, set-group-id and sticky.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Size in bytes.
    pub size: u64,
    /// When its content was last changed.
    pub modified: Timestamp,
    /// How many names lead to it.
    pub links: u16,
    /// Major and minor number of a device.
    pub device: Option<(u32, u32)>,
}

impl Metadata {
    fn of(inode: &Inode) -> Self {
        Self {
            kind: inode.kind(),
            mode: inode.mode() & 0xfff,
            uid: inode.uid(),
            gid: inode.gid(),
            size: inode.size(),
            modified: inode.modified(),
            links: inode.links(),
            device: inode.device_number(),
        }
    }
}

/// A name to be found through an index.
struct Sought<'b> {
    /// The directory's blocks, in order.
    blocks: &'b [u64],
    name: &'b [u8],
    hash: u32,
    /// How many blocks may still be read: otherwise an index that leads to its blocks again and
    /// again would not end.
    left: Cell<usize>,
}

/// The files of a file system.
#[derive(Clone, Copy)]
pub struct Tree<'v> {
    pub(crate) source: &'v dyn Source,
}

pub(crate) fn shown(name: &[u8]) -> String {
    let text = String::from_utf8_lossy(name);
    let plain = |c: char| if c.is_control() { '\u{fffd}' } else { c };
    text.chars().map(plain).collect()
}

/// The names in a path, without empty ones and `.`.
pub(crate) fn names(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.split(|&byte| byte == b'/')
        .filter(|name| !name.is_empty() && *name != b".")
}

impl Tree<'_> {
    pub(crate) fn inode(&self, number: InodeNumber) -> Result<Inode, ExtError> {
        Ok(Inode::new(self.source.raw_inode(number)?))
    }

    /// The inode at a path. Links on the way are followed, but not one at its end.
    ///
    /// # Errors
    /// [`ExtError::NotFound`], [`ExtError::NotDirectory`], or the medium's own.
    pub fn find(&self, path: &[u8]) -> Result<InodeNumber, ExtError> {
        self.walk(path, false)
    }

    /// The inode at a path, with a link at its end followed as well.
    ///
    /// # Errors
    /// As [`Tree::find`].
    pub fn find_target(&self, path: &[u8]) -> Result<InodeNumber, ExtError> {
        self.walk(path, true)
    }

    fn walk(&self, path: &[u8], follows_last: bool) -> Result<InodeNumber, ExtError> {
        let mut links = 0;
        let mut above = Vec::new();
        let mut current = InodeNumber::ROOT;
        let mut left: Vec<Vec<u8>> = names(path).map(<[u8]>::to_vec).collect();
        left.reverse();
        while let Some(name) = left.pop() {
            if name == b".." {
                current = above.pop().unwrap_or(InodeNumber::ROOT);
                continue;
            }
            let found = self.child(current, &name)?;
            let next = found.ok_or_else(|| ExtError::NotFound(shown(path)))?;
            let is_link = self.inode(next)?.kind() == FileKind::Symlink;
            if !is_link || (left.is_empty() && !follows_last) {
                above.push(current);
                current = next;
                continue;
            }
            links += 1;
            if links > MAX_LINKS {
                return Err(ExtError::NotFound(shown(path)));
            }
            let target = self.link_target(next)?;
            if target.first() == Some(&b'/') {
                current = InodeNumber::ROOT;
                above.clear();
            }
            let more: Vec<Vec<u8>> = names(&target).map(<[u8]>::to_vec).collect();
            left.extend(more.into_iter().rev());
        }
        Ok(current)
    }

    /// The inode that a name in a folder leads to: through its index if there is one, otherwise
    /// through all of its blocks.
    fn child(&self, folder: InodeNumber, name: &[u8]) -> Result<Option<InodeNumber>, ExtError> {
        if let Some(known) = self.source.known_child(folder, name) {
            return Ok(known);
        }
        let inode = self.inode(folder)?;
        if inode.kind() != FileKind::Directory || inode.has(node::FLAG_INLINE) {
            let found = self.list(folder)?;
            let entry = found.into_iter().find(|entry| entry.name == name);
            return Ok(entry.map(|entry| entry.inode));
        }
        let blocks = self.directory_blocks(&inode)?;
        if inode.has(node::FLAG_INDEX)
            && let Some(found) = self.child_by_index(&blocks, name)?
        {
            return Ok(found);
        }
        let mut found = None;
        self.for_each_block(&blocks, &mut |block| {
            found = find_name(block, name);
            found.is_some()
        })?;
        Ok(found)
    }

    /// `None` if the index cannot be used.
    fn child_by_index(
        &self,
        blocks: &[u64],
        name: &[u8],
    ) -> Result<Option<Option<InodeNumber>>, ExtError> {
        let Some(&first) = blocks.first() else {
            return Ok(None);
        };
        let Some(root) = Root::read(self.source.superblock(), &self.source.read_block(first)?)
        else {
            return Ok(None);
        };
        let sought = Sought {
            blocks,
            name,
            hash: root.hasher.hash(name),
            left: Cell::new(blocks.len() + 1),
        };
        self.search(&sought, first, root.levels, ROOT_START)
    }

    fn search(
        &self,
        sought: &Sought<'_>,
        node: u64,
        levels: u8,
        start: usize,
    ) -> Result<Option<Option<InodeNumber>>, ExtError> {
        let block = self.source.read_block(node)?;
        let Some(all) = htree::branches(self.source.superblock(), &block, start) else {
            return Ok(None);
        };
        for branch in Branch::towards(&all, sought.hash) {
            let Some(&place) = sought.blocks.get(branch.block as usize) else {
                return Ok(None);
            };
            let Some(left) = sought.left.get().checked_sub(1) else {
                return Ok(None);
            };
            sought.left.set(left);
            let found = match levels {
                0 => Some(find_name(&self.source.read_block(place)?, sought.name)),
                _ => self.search(sought, place, levels - 1, NODE_START)?,
            };
            if found != Some(None) {
                return Ok(found);
            }
        }
        Ok(Some(None))
    }

    /// Reads blocks in order, neighbours together, until `visit` returns `true`.
    fn for_each_block(
        &self,
        blocks: &[u64],
        visit: &mut dyn FnMut(&[u8]) -> bool,
    ) -> Result<(), ExtError> {
        let sb = self.source.superblock();
        let size = sb.block_size as usize;
        let most = (REQUEST / size).max(1);
        let mut rest = blocks;
        while let Some(&first) = rest.first() {
            let in_row = (first..).zip(rest).take(most);
            let count = in_row.take_while(|(want, block)| want == *block).count();
            if first
                .checked_add(count as u64)
                .is_none_or(|end| end > sb.blocks)
            {
                return Err(ExtError::Damaged("a block number"));
            }
            let mut bytes = vec![0; count * size];
            self.source.read_bytes(first * sb.block_size, &mut bytes)?;
            if bytes.chunks_exact(size).any(&mut *visit) {
                return Ok(());
            }
            rest = &rest[count..];
        }
        Ok(())
    }

    /// The metadata of an inode.
    ///
    /// # Errors
    /// [`ExtError`].
    pub fn metadata(&self, number: InodeNumber) -> Result<Metadata, ExtError> {
        Ok(Metadata::of(&self.inode(number)?))
    }

    /// The names in a folder as in [`Tree::list`], with the metadata of each. Inodes near each
    /// other are read together.
    ///
    /// # Errors
    /// As [`Tree::list`], or one of them is damaged.
    pub fn list_with_metadata(
        &self,
        number: InodeNumber,
    ) -> Result<Vec<(Entry, Metadata)>, ExtError> {
        let entries = self.list(number)?;
        let sb = self.source.superblock();
        let size = sb.inode_size;
        let mut places = Vec::with_capacity(entries.len());
        for (index, entry) in entries.iter().enumerate() {
            places.push((self.source.inode_offset(entry.inode)?, index));
        }
        places.sort_unstable();
        let mut found: Vec<Option<Metadata>> = vec![None; entries.len()];
        let mut rest = &places[..];
        while let Some(&(start, _)) = rest.first() {
            let count = rest.partition_point(|(place, _)| place + size <= start + REQUEST as u64);
            let near = &rest[..count.max(1)];
            let end = near.last().map_or(start, |(place, _)| place + size);
            let mut bytes = vec![0; (end - start) as usize];
            self.source.read_bytes(start, &mut bytes)?;
            for &(place, index) in near {
                let at = (place - start) as usize;
                let raw = &bytes[at..at + size as usize];
                if !is_intact(sb, entries[index].inode, raw) {
                    return Err(ExtError::DamagedAt {
                        what: "an inode",
                        offset: place,
                    });
                }
                found[index] = Some(Metadata::of(&Inode::new(raw.to_vec())));
            }
            rest = &rest[near.len()..];
        }
        let all = entries.into_iter().zip(found);
        Ok(all
            .filter_map(|(entry, found)| Some((entry, found?)))
            .collect())
    }

    /// The names in a folder, without `.` and `..`, in the order of the medium.
    ///
    /// # Errors
    /// [`ExtError::NotDirectory`], or the medium's own.
    pub fn list(&self, number: InodeNumber) -> Result<Vec<Entry>, ExtError> {
        let inode = self.inode(number)?;
        if inode.kind() != FileKind::Directory {
            return Err(ExtError::NotDirectory(format!("inode {}", number.0)));
        }
        if inode.has(node::FLAG_INLINE) {
            // The number of the parent comes first.
            let mut found = entries(&inode.map()[4..]);
            for more in inline_rest(&inode)? {
                found.extend(entries(&more.value));
            }
            return Ok(found);
        }
        let mut found = Vec::new();
        self.for_each_block(&self.directory_blocks(&inode)?, &mut |block| {
            found.extend(entries(block));
            false
        })?;
        Ok(found)
    }

    /// The blocks of a directory, in order.
    pub(crate) fn directory_blocks(&self, inode: &Inode) -> Result<Vec<u64>, ExtError> {
        let mut blocks = Vec::new();
        inode.for_each_piece(self.source, &mut |piece| {
            if let Piece::Data(run) = piece {
                let room = MAX_BLOCKS_OF_DIRECTORY - blocks.len() as u64;
                blocks.extend(run.blocks().take(room as usize));
            }
            blocks.len() as u64 >= MAX_BLOCKS_OF_DIRECTORY
        })?;
        Ok(blocks)
    }

    /// The text of a symbolic link.
    ///
    /// # Errors
    /// [`ExtError`].
    pub fn link_target(&self, number: InodeNumber) -> Result<Vec<u8>, ExtError> {
        let inode = self.inode(number)?;
        let len = inode.size();
        if inode.kind() != FileKind::Symlink || len > self.source.superblock().block_size {
            return Err(ExtError::Damaged("a symbolic link"));
        }
        if inode.is_short_link() {
            return Ok(inode.map()[..len as usize].to_vec());
        }
        let mut target = vec![0; len as usize];
        self.read_at(number, 0, &mut target)?;
        Ok(target)
    }

    /// Reads from a file's content, up to its end; returns how many bytes there were.
    ///
    /// # Errors
    /// [`ExtError::Unreadable`] for encrypted files, or the medium's own.
    pub fn read_at(
        &self,
        number: InodeNumber,
        offset: u64,
        buffer: &mut [u8],
    ) -> Result<usize, ExtError> {
        Content::open(*self, number)?.read_at(offset, buffer)
    }

    /// A file's content, to be read in pieces.
    ///
    /// # Errors
    /// As [`Tree::read_at`].
    pub fn content(&self, number: InodeNumber) -> Result<Content<'_>, ExtError> {
        Content::open(*self, number)
    }

    /// All extended attributes of an inode.
    ///
    /// # Errors
    /// [`ExtError`].
    pub fn xattrs(&self, number: InodeNumber) -> Result<Vec<Xattr>, ExtError> {
        let kept = self.kept_xattrs(&self.inode(number)?)?;
        let seen = kept.iter().filter(|one| !one.is_inline_data());
        let mut seen: Vec<Xattr> = seen.filter_map(Kept::as_seen).collect();
        seen.sort();
        Ok(seen)
    }

    pub(crate) fn kept_xattrs(&self, inode: &Inode) -> Result<Vec<Kept>, ExtError> {
        let mut kept = xattr::in_inode(&inode.raw)?;
        if inode.xattr_block() != 0 {
            kept.extend(xattr::in_block(
                &self.source.read_block(inode.xattr_block())?,
            )?);
        }
        Ok(kept)
    }
}

/// The rest of the content that an inode holds itself, beyond the space of its map.
fn inline_rest(inode: &Inode) -> Result<Vec<Kept>, ExtError> {
    let mut kept = xattr::in_inode(&inode.raw)?;
    kept.retain(Kept::is_inline_data);
    Ok(kept)
}

/// The content of a file.
pub struct Content<'v> {
    tree: Tree<'v>,
    size: u64,
    runs: Vec<Run>,
    inline: Option<Vec<u8>>,
}

impl<'v> Content<'v> {
    fn open(tree: Tree<'v>, number: InodeNumber) -> Result<Self, ExtError> {
        let inode = tree.inode(number)?;
        // Encrypted, or compressed by an old tool.
        if inode.has(0x800 | 0x4) {
            return Err(ExtError::Unreadable(format!("inode {}", number.0)));
        }
        let inline = if inode.has(node::FLAG_INLINE) {
            let mut bytes = inode.map().to_vec();
            for more in inline_rest(&inode)? {
                bytes.extend(more.value);
            }
            Some(bytes)
        } else {
            None
        };
        Ok(Self {
            size: inode.size(),
            runs: inode.runs(tree.source)?,
            tree,
            inline,
        })
    }

    /// Size in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Reads from `offset` up to the end; returns how many bytes there were.
    ///
    /// # Errors
    /// The medium's own.
    pub fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<usize, ExtError> {
        let len = self.size.saturating_sub(offset).min(buffer.len() as u64) as usize;
        let buffer = &mut buffer[..len];
        buffer.fill(0);
        if let Some(bytes) = &self.inline {
            let known = bytes.get(offset as usize..).unwrap_or_default();
            let known = &known[..known.len().min(len)];
            buffer[..known.len()].copy_from_slice(known);
            return Ok(len);
        }
        let block = self.tree.source.superblock().block_size;
        let end = offset + len as u64;
        let first = self
            .runs
            .partition_point(|run| run.logical_end() * block <= offset);
        for run in &self.runs[first..] {
            let from = (run.logical * block).max(offset);
            let to = (run.logical_end() * block).min(end);
            if from >= to {
                break;
            }
            if run.is_unwritten {
                continue;
            }
            let place = run.start * block + (from - run.logical * block);
            let part = &mut buffer[(from - offset) as usize..(to - offset) as usize];
            self.tree.source.read_bytes(place, part)?;
        }
        Ok(len)
    }
}
