//! Changes by path.

use std::io::Read;

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::put32;
use pinewrit_ext4_layout::ExtError;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, Run, Timestamp};
use pinewrit_ext4_layout::xattr::{Kept, Xattr};

use super::content::Zeros;
use super::{EditError, Editor};
use crate::tree::{names, shown};

/// Owner, rights and times of a file, folder, link or node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attributes {
    /// Permission bits, with set-user-id, set-group-id and sticky.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// When its content was last changed.
    pub modified: Timestamp,
    /// Extended attributes.
    pub xattrs: Vec<Xattr>,
}

impl Attributes {
    /// Attributes of something that belongs to root.
    pub fn root(mode: u16, modified: Timestamp) -> Self {
        Self {
            mode,
            uid: 0,
            gid: 0,
            modified,
            xattrs: Vec::new(),
        }
    }

    fn kept(&self) -> Result<Vec<Kept>, EditError> {
        let all = self.xattrs.iter();
        all.map(|one| Kept::of(one).ok_or_else(|| EditError::Xattr(one.name.clone())))
            .collect()
    }
}

/// Kinds of inodes without content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NodeKind {
    /// A character device with major and minor number.
    CharacterDevice(u32, u32),
    /// A block device with major and minor number.
    BlockDevice(u32, u32),
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
}

impl NodeKind {
    fn parts(self) -> (FileKind, Option<(u32, u32)>) {
        match self {
            Self::CharacterDevice(major, minor) => {
                (FileKind::CharacterDevice, Some((major, minor)))
            }
            Self::BlockDevice(major, minor) => (FileKind::BlockDevice, Some((major, minor))),
            Self::Fifo => (FileKind::Fifo, None),
            Self::Socket => (FileKind::Socket, None),
        }
    }
}

/// A path's folder and last name.
pub(super) struct Spot<'p> {
    pub(super) folder: InodeNumber,
    pub(super) name: &'p [u8],
}

/// The most bytes in a path, as in the kernel.
pub(super) const MAX_PATH: usize = 4096;
/// Folder paths that are kept in memory.
const MAX_PATHS: usize = 16384;

impl<D: BlockDevice> Editor<D> {
    pub(super) fn folder_at(&mut self, path: &[u8]) -> Result<InodeNumber, EditError> {
        if let Some(known) = self.paths.get(path) {
            return Ok(*known);
        }
        let found = match path.iter().rposition(|&byte| byte == b'/') {
            // Usually the parent is already known.
            Some(slash) if self.paths.contains_key(&path[..slash]) => {
                let above = self.paths[&path[..slash]];
                match self.child(above, &path[slash + 1..])? {
                    Some(child) if self.tree().inode(child)?.kind() == FileKind::Directory => child,
                    _ => self.tree().find_target(path)?,
                }
            }
            _ => self.tree().find_target(path)?,
        };
        if self.tree().inode(found)?.kind() != FileKind::Directory {
            return Err(ExtError::NotDirectory(shown(path)).into());
        }
        if self.paths.len() >= MAX_PATHS {
            self.paths.clear();
        }
        self.paths.insert(path.to_vec(), found);
        Ok(found)
    }

    pub(super) fn spot<'p>(&mut self, path: &'p [u8]) -> Result<Spot<'p>, EditError> {
        let Some(name) = names(path).last() else {
            return Err(EditError::IsDirectory("/".to_owned()));
        };
        if name == b".." {
            return Err(EditError::Name(shown(path)));
        }
        let mut end = path.len();
        while !path[..end].ends_with(name) {
            end -= 1;
        }
        let above = &path[..end - name.len()];
        let above = above.strip_suffix(b"/").unwrap_or(above);
        let folder = self.folder_at(above)?;
        Ok(Spot { folder, name })
    }

    pub(super) fn named(
        &mut self,
        spot: &Spot<'_>,
    ) -> Result<Option<(InodeNumber, FileKind)>, EditError> {
        let Some(number) = self.child(spot.folder, spot.name)? else {
            return Ok(None);
        };
        Ok(Some((number, self.tree().inode(number)?.kind())))
    }

    /// Makes an inode with a name; the caller has checked that the name is free.
    fn make(
        &mut self,
        spot: &Spot<'_>,
        kind: FileKind,
        attributes: &Attributes,
    ) -> Result<(InodeNumber, Inode), EditError> {
        let number = self.allocate_inode(spot.folder, kind == FileKind::Directory)?;
        let mut inode = self.new_inode(number, kind, attributes)?;
        self.put_xattrs(&mut inode, &attributes.kept()?)?;
        self.put_inode(number, &inode)?;
        self.add_name(spot.folder, spot.name, number, kind)?;
        Ok((number, inode))
    }

    /// How many names a file has; `None` if there is no file of this name.
    ///
    /// # Errors
    /// A folder above it is missing or damaged.
    pub fn names_of_file(&mut self, path: &[u8]) -> Result<Option<u16>, EditError> {
        let spot = self.spot(path)?;
        match self.named(&spot)? {
            Some((number, FileKind::Regular)) => Ok(Some(self.tree().inode(number)?.links())),
            _ => Ok(None),
        }
    }

    /// Creates a file, or gives an existing one new content and attributes, under all of its names.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something other than a file is there.
    pub fn write_file(
        &mut self,
        path: &[u8],
        attributes: &Attributes,
        size: u64,
        source: &mut dyn Read,
        zeros: Zeros,
    ) -> Result<(), EditError> {
        self.step(|editor| {
            let spot = editor.spot(path)?;
            let (number, mut inode) = match editor.named(&spot)? {
                None => editor.make(&spot, FileKind::Regular, attributes)?,
                Some((number, FileKind::Regular)) => (number, editor.inode_to_change(number)?),
                Some((_, FileKind::Directory)) => return Err(EditError::IsDirectory(shown(path))),
                Some(_) => return Err(EditError::Exists(shown(path))),
            };
            if inode.has(node::FLAG_INLINE) {
                editor.clear_inline(&mut inode)?;
            }
            let old = inode.runs(editor)?;
            let goal = editor.goal_in(editor.group_of_inode(number));
            let runs = editor.fill(goal, 0, size, source, zeros)?;
            editor.put_map(number, &mut inode, &runs)?;
            inode.set_size(size);
            editor.note_large_file(size)?;
            editor.put_attributes(number, &mut inode, attributes)?;
            editor.release_runs(&old)
        })
    }

    /// Creates a file of `size` bytes with all of its blocks, of which only the head is written.
    /// The rest keeps what the blocks held before: meant for swap, readable only by its owner.
    ///
    /// # Errors
    /// [`EditError::Exists`], [`EditError::NoSpace`], and others; nothing is changed then.
    pub fn reserve_file(
        &mut self,
        path: &[u8],
        attributes: &Attributes,
        size: u64,
        head: &[u8],
    ) -> Result<(), EditError> {
        self.step(|editor| {
            let spot = editor.spot(path)?;
            if editor.named(&spot)?.is_some() {
                return Err(EditError::Exists(shown(path)));
            }
            let (number, mut inode) = editor.make(&spot, FileKind::Regular, attributes)?;
            let block = editor.sb.block_size;
            let goal = editor.goal_in(editor.group_of_inode(number));
            let places = editor.allocate(goal, size.div_ceil(block))?;
            let mut runs = Vec::new();
            let mut logical = 0;
            for place in places {
                let len = place.end - place.start;
                runs.push(Run::written(logical, place.start, len));
                logical += len;
            }
            editor.write_head(&runs, head)?;
            editor.put_map(number, &mut inode, &runs)?;
            inode.set_size(size);
            editor.note_large_file(size)?;
            editor.put_attributes(number, &mut inode, attributes)
        })
    }

    /// Writes the first bytes of a file whose blocks are known.
    fn write_head(&mut self, runs: &[Run], head: &[u8]) -> Result<(), EditError> {
        let block = self.sb.block_size as usize;
        let places = runs.iter().flat_map(Run::blocks);
        for (place, piece) in places.zip(head.chunks(block)) {
            let mut bytes = piece.to_vec();
            bytes.resize(block, 0);
            self.cache.put_content(place * block as u64, &bytes)?;
        }
        Ok(())
    }

    /// Writes an inode with all of its attributes.
    fn put_attributes(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
        attributes: &Attributes,
    ) -> Result<(), EditError> {
        let mut kept = self.tree().kept_xattrs(inode)?;
        kept.retain(Kept::is_inline_data);
        kept.extend(attributes.kept()?);
        self.put_xattrs(inode, &kept)?;
        let kind = inode.kind();
        inode.set_mode(kind, attributes.mode);
        inode.set_owner(attributes.uid, attributes.gid);
        inode.set_modified(attributes.modified);
        let now = self.now;
        inode.set_changed(now);
        self.put_inode(number, inode)
    }

    /// Gives what is at a path exactly these attributes.
    ///
    /// # Errors
    /// [`EditError`]; nothing is changed then.
    pub fn set_attributes(
        &mut self,
        path: &[u8],
        attributes: &Attributes,
    ) -> Result<(), EditError> {
        self.step(|editor| {
            let number = editor.tree().find(path)?;
            let mut inode = editor.inode_to_change(number)?;
            editor.put_attributes(number, &mut inode, attributes)
        })
    }

    /// Adds bytes at the end of a file.
    ///
    /// # Errors
    /// [`EditError`]; nothing is changed then.
    pub fn append(&mut self, path: &[u8], bytes: &[u8]) -> Result<(), EditError> {
        self.step(|editor| {
            let (number, mut inode) = editor.file_to_change(path)?;
            editor.content_out_of_inode(number, &mut inode)?;
            let (block, size) = (editor.sb.block_size, inode.size());
            let mut runs = inode.runs(editor)?;
            let used = size.div_ceil(block);
            editor.cut(&mut runs, used)?;
            let within = size % block;
            let mut done = 0;
            if within > 0 {
                let room = (block - within) as usize;
                let part = &bytes[..bytes.len().min(room)];
                let last = used - 1;
                if !editor.edit_last_block(&mut runs, last, within as usize, part)? {
                    // The file ends in a hole, which becomes a block.
                    let head = [&vec![0; within as usize][..], part].concat();
                    editor.add_blocks(number, &mut runs, last, &head)?;
                }
                done = part.len();
            }
            editor.add_blocks(number, &mut runs, used, &bytes[done..])?;
            editor.put_map(number, &mut inode, &runs)?;
            inode.set_size(size + bytes.len() as u64);
            editor.note_large_file(inode.size())?;
            editor.put_changed(number, inode)
        })
    }

    fn add_blocks(
        &mut self,
        number: InodeNumber,
        runs: &mut Vec<Run>,
        logical: u64,
        bytes: &[u8],
    ) -> Result<(), EditError> {
        let home = self.goal_in(self.group_of_inode(number));
        let goal = runs.last().map_or(home, |run| run.blocks().end);
        let size = bytes.len() as u64;
        let mut source = bytes;
        runs.extend(self.fill(goal, logical, size, &mut source, Zeros::Written)?);
        Ok(())
    }

    fn file_to_change(&mut self, path: &[u8]) -> Result<(InodeNumber, Inode), EditError> {
        let number = self.tree().find_target(path)?;
        let inode = self.inode_to_change(number)?;
        match inode.kind() {
            FileKind::Regular => Ok((number, inode)),
            FileKind::Directory => Err(EditError::IsDirectory(shown(path))),
            _ => Err(EditError::Exists(shown(path))),
        }
    }

    /// Changes a file's size: what lies beyond is lost, what is added reads as zeros.
    ///
    /// # Errors
    /// [`EditError`]; nothing is changed then.
    pub fn truncate(&mut self, path: &[u8], size: u64) -> Result<(), EditError> {
        self.step(|editor| {
            let (number, mut inode) = editor.file_to_change(path)?;
            editor.content_out_of_inode(number, &mut inode)?;
            let block = editor.sb.block_size;
            let mut runs = inode.runs(editor)?;
            let kept = size.min(inode.size());
            editor.cut(&mut runs, kept.div_ceil(block))?;
            let within = (kept % block) as usize;
            if within > 0 {
                editor.edit_last_block(&mut runs, kept / block, within, &[])?;
            }
            editor.put_map(number, &mut inode, &runs)?;
            inode.set_size(size);
            editor.note_large_file(size)?;
            editor.put_changed(number, inode)
        })
    }

    /// Creates a folder; an existing one only gets these attributes.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something else is there.
    pub fn make_folder(&mut self, path: &[u8], attributes: &Attributes) -> Result<(), EditError> {
        if names(path).next().is_none() {
            return self.set_attributes(b"/", attributes);
        }
        self.step(|editor| {
            let spot = editor.spot(path)?;
            match editor.named(&spot)? {
                None => editor.make_new_folder(&spot, attributes),
                Some((number, FileKind::Directory)) => {
                    let mut inode = editor.inode_to_change(number)?;
                    editor.put_attributes(number, &mut inode, attributes)
                }
                Some(_) => Err(EditError::Exists(shown(path))),
            }
        })
    }

    fn make_new_folder(
        &mut self,
        spot: &Spot<'_>,
        attributes: &Attributes,
    ) -> Result<(), EditError> {
        let (number, mut inode) = self.make(spot, FileKind::Directory, attributes)?;
        let goal = self.goal_in(self.group_of_inode(number));
        let place = self.allocate_block(goal)?;
        let run = Run::written(0, place, 1);
        self.put_map(number, &mut inode, &[run])?;
        inode.set_size(self.sb.block_size);
        inode.set_links(2);
        let block = self.first_folder_block(number, spot.folder);
        self.put_folder_block(number, &inode, place, block);
        self.put_inode(number, &inode)
    }

    /// Creates all missing folders of a path.
    ///
    /// # Errors
    /// [`EditError`]; folders created before the failure stay.
    pub fn make_folders(&mut self, path: &[u8], attributes: &Attributes) -> Result<(), EditError> {
        let mut made = Vec::new();
        for name in names(path) {
            made.push(b'/');
            made.extend_from_slice(name);
            match self.folder_at(&made) {
                Err(EditError::Volume(ExtError::NotFound(_))) => {
                    self.make_folder(&made, attributes)?;
                }
                found => drop(found?),
            }
        }
        Ok(())
    }

    pub(super) fn free_spot<'p>(&mut self, path: &'p [u8]) -> Result<Spot<'p>, EditError> {
        let spot = self.spot(path)?;
        match self.named(&spot)? {
            None => Ok(spot),
            Some(_) => Err(EditError::Exists(shown(path))),
        }
    }

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something is there.
    pub fn make_symlink(
        &mut self,
        path: &[u8],
        target: &[u8],
        attributes: &Attributes,
    ) -> Result<(), EditError> {
        if target.is_empty() || target.len() as u64 >= self.sb.block_size.min(4096) {
            return Err(EditError::Name(shown(target)));
        }
        self.step(|editor| {
            let spot = editor.free_spot(path)?;
            let (number, mut inode) = editor.make(&spot, FileKind::Symlink, attributes)?;
            if target.len() < node::MAP_LEN {
                let map = &mut inode.raw[node::MAP..node::MAP + target.len()];
                map.copy_from_slice(target);
            } else {
                let goal = editor.goal_in(editor.group_of_inode(number));
                let len = target.len() as u64;
                let runs = editor.fill(goal, 0, len, &mut &*target, Zeros::Written)?;
                editor.put_map(number, &mut inode, &runs)?;
            }
            inode.set_size(target.len() as u64);
            editor.put_inode(number, &inode)
        })
    }

    /// Makes a device, a pipe or a socket.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something is there.
    pub fn make_node(
        &mut self,
        path: &[u8],
        kind: NodeKind,
        attributes: &Attributes,
    ) -> Result<(), EditError> {
        self.step(|editor| {
            let spot = editor.free_spot(path)?;
            let (kind, device) = kind.parts();
            let (number, mut inode) = editor.make(&spot, kind, attributes)?;
            if let Some((major, minor)) = device {
                // "Device Numbers": the old form holds 8 bits of each.
                let is_small = major < 256 && minor < 256;
                let old = (major & 0xff) << 8 | minor & 0xff;
                let new = minor & 0xff | (major & 0xfff) << 8 | (minor & !0xff) << 12;
                let (at, value) = if is_small { (0, old) } else { (4, new) };
                put32(&mut inode.raw, node::MAP + at, value);
            }
            editor.put_inode(number, &inode)
        })
    }

    /// Gives a file one more name.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something is there; folders have one name only.
    pub fn link(&mut self, path: &[u8], existing: &[u8]) -> Result<(), EditError> {
        self.step(|editor| {
            let from = editor.spot(existing)?;
            let Some((number, kind)) = editor.named(&from)? else {
                return Err(ExtError::NotFound(shown(existing)).into());
            };
            let mut inode = editor.inode_to_change(number)?;
            if kind == FileKind::Directory {
                return Err(EditError::IsDirectory(shown(existing)));
            }
            if inode.links() >= 65_000 {
                return Err(EditError::TooManyLinks(shown(existing)));
            }
            let spot = editor.free_spot(path)?;
            inode.set_links(inode.links() + 1);
            let now = editor.now;
            inode.set_changed(now);
            editor.put_inode(number, &inode)?;
            editor.add_name(spot.folder, spot.name, number, kind)
        })
    }
}
