//! Names in folders.

use std::collections::{BTreeSet, HashMap};

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{put16, put32, u32le};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::directory::{
    Slot, TAIL, TAIL_KIND, entry_len, has_right_tail, is_whole, put_length, slots,
};
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::htree::{Index, IndexError};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, Run};
use pinewrit_ext4_layout::{ExtError, Incompatible, ReadOnlyCompatible};

use super::{EditError, Editor};
use crate::tree::shown;

/// Folders that are kept in memory.
const MAX_FOLDERS: usize = 4096;
/// The most names a folder's count can express; beyond that it stays at 1.
const MAX_LINKS: u16 = 65_000;

/// What is known of a folder.
pub(super) struct Folder {
    /// Where each name leads, and which block of the folder it is in.
    pub(super) names: HashMap<Vec<u8>, (InodeNumber, usize)>,
    pub(super) blocks: Vec<u64>,
    /// The blocks of its index, including the root; none if it has no index.
    pub(super) nodes: BTreeSet<u32>,
    /// Blocks before this one have no room.
    room_from: usize,
}

/// Writes an entry into a slot.
pub(crate) fn put_entry(block: &mut [u8], slot: Slot, name: &[u8], kind: u8) {
    put32(block, slot.at, slot.inode);
    put_length(block, slot.at, slot.length);
    block[slot.at + 6] = name.len() as u8;
    block[slot.at + 7] = kind;
    block[slot.at + 8..slot.at + 8 + name.len()].copy_from_slice(name);
}

impl<D: BlockDevice> Editor<D> {
    fn has_tails(&self) -> bool {
        self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM)
    }

    /// Bytes for entries in a block of a folder.
    pub(crate) fn entry_room(&self) -> usize {
        self.sb.block_size as usize - if self.has_tails() { TAIL } else { 0 }
    }

    pub(crate) fn kind_byte(&self, kind: FileKind) -> u8 {
        if self.sb.incompatible.has(Incompatible::FILETYPE) {
            kind.entry_byte()
        } else {
            0
        }
    }

    /// A block of a folder without entries.
    pub(crate) fn empty_folder_block(&self) -> Vec<u8> {
        let mut block = vec![0; self.sb.block_size as usize];
        let room = self.entry_room();
        put_length(&mut block, 0, room);
        block
    }

    /// Writes a block of a folder that has entries, with its checksum.
    pub(crate) fn put_folder_block(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        place: u64,
        mut block: Vec<u8>,
    ) {
        if self.has_tails() {
            let tail = block.len() - TAIL;
            block[tail..].fill(0);
            put16(&mut block, tail + 4, TAIL as u16);
            block[tail + 7] = TAIL_KIND;
            let sum = crc32c(self.inode_seed(number, inode), &block[..tail]);
            put32(&mut block, tail + 8, sum);
        }
        self.cache.put(place, block);
    }

    /// Reads a folder into memory, with its content in blocks.
    pub(crate) fn open_folder(&mut self, number: InodeNumber) -> Result<Inode, EditError> {
        let mut inode = self.inode_to_change(number)?;
        if inode.kind() != FileKind::Directory {
            return Err(ExtError::NotDirectory(format!("inode {}", number.0)).into());
        }
        if inode.has(node::FLAG_INLINE) {
            inode = self.folder_out_of_inode(number, inode)?;
        }
        if self.folders.contains_key(&number) {
            return Ok(inode);
        }
        if self.folders.len() >= MAX_FOLDERS {
            self.folders.clear();
        }
        let folder = self.read_folder(number, &inode)?;
        self.folders.insert(number, folder);
        Ok(inode)
    }

    fn read_folder(&mut self, number: InodeNumber, inode: &Inode) -> Result<Folder, EditError> {
        let blocks = self.tree().directory_blocks(inode)?;
        let damaged = |index: usize| {
            let place = blocks.get(index).copied().unwrap_or_default();
            let offset = place * self.sb.block_size;
            ExtError::DamagedAt {
                what: "a directory",
                offset,
            }
        };
        self.cache.fetch(&blocks)?;
        let seed = self.inode_seed(number, inode);
        let mut nodes = BTreeSet::new();
        if inode.has(node::FLAG_INDEX) {
            let mut read = |index: u32| self.read_block(blocks[index as usize]);
            let count = blocks.len();
            if count == 0 {
                return Err(damaged(0).into());
            }
            let index = Index::read(&self.sb, seed, count, &mut read);
            let index = index.map_err(|error| match error {
                IndexError::Fault(_) => damaged(0).into(),
                IndexError::Read(error) => EditError::from(error),
            })?;
            nodes.extend(index.nodes.into_keys());
        }
        let mut names = HashMap::new();
        for (index, &place) in blocks.iter().enumerate() {
            let block = self.read_block(place)?;
            let is_sound = if u32::try_from(index).is_ok_and(|index| nodes.contains(&index)) {
                is_whole(&block)
            } else {
                is_whole(&block) && (!self.has_tails() || has_right_tail(&block, seed))
            };
            if !is_sound {
                return Err(damaged(index).into());
            }
            for entry in pinewrit_ext4_layout::directory::entries(&block) {
                names.insert(entry.name, (entry.inode, index));
            }
        }
        Ok(Folder {
            names,
            blocks,
            nodes,
            room_from: 0,
        })
    }

    pub(super) fn known_folder(&mut self, number: InodeNumber) -> Result<&mut Folder, EditError> {
        let folder = self.folders.get_mut(&number);
        Ok(folder.ok_or(ExtError::Damaged("a folder"))?)
    }

    /// The inode that a name leads to.
    pub(crate) fn child(
        &mut self,
        folder: InodeNumber,
        name: &[u8],
    ) -> Result<Option<InodeNumber>, EditError> {
        self.open_folder(folder)?;
        let known = self.known_folder(folder)?;
        Ok(known.names.get(name).map(|(inode, _)| *inode))
    }

    /// Puts a name into a folder.
    pub(crate) fn add_name(
        &mut self,
        folder: InodeNumber,
        name: &[u8],
        child: InodeNumber,
        kind: FileKind,
    ) -> Result<(), EditError> {
        let is_bad = name.is_empty()
            || name.len() > 255
            || name == b"."
            || name == b".."
            || name.contains(&b'/')
            || name.contains(&0);
        if is_bad {
            return Err(EditError::Name(shown(name)));
        }
        let mut inode = self.open_folder(folder)?;
        if self.known_folder(folder)?.names.contains_key(name) {
            return Err(EditError::Exists(shown(name)));
        }
        if inode.has(node::FLAG_INDEX) {
            self.drop_index(folder, &mut inode)?;
        }
        let kind_byte = self.kind_byte(kind);
        let index = match self.fit_name(folder, &inode, name, child, kind_byte)? {
            Some(index) => index,
            None => self.extend_folder(folder, &mut inode, name, child, kind_byte)?,
        };
        let known = self.known_folder(folder)?;
        known.names.insert(name.to_vec(), (child, index));
        self.grown_folders.insert(folder);
        if kind == FileKind::Directory {
            self.count_folder(&mut inode, folder)?;
        }
        self.put_changed(folder, inode)
    }

    fn count_folder(&self, inode: &mut Inode, folder: InodeNumber) -> Result<(), EditError> {
        let has_overflow = self.sb.read_only.has(ReadOnlyCompatible::DIR_NLINK);
        match inode.links() {
            // Too many to be counted.
            1 => {}
            links if links < MAX_LINKS => inode.set_links(links + 1),
            _ if has_overflow => inode.set_links(1),
            _ => return Err(EditError::TooManyLinks(format!("inode {}", folder.0))),
        }
        Ok(())
    }

    pub(crate) fn put_changed(
        &mut self,
        number: InodeNumber,
        mut inode: Inode,
    ) -> Result<(), EditError> {
        let now = self.now;
        inode.set_modified(now);
        inode.set_changed(now);
        self.put_inode(number, &inode)
    }

    /// Puts a name where there is room for it; `None` if there is none.
    fn fit_name(
        &mut self,
        folder: InodeNumber,
        inode: &Inode,
        name: &[u8],
        child: InodeNumber,
        kind: u8,
    ) -> Result<Option<usize>, EditError> {
        let room = self.entry_room();
        let known = self.known_folder(folder)?;
        let (blocks, first) = (known.blocks.clone(), known.room_from);
        for (index, place) in blocks.into_iter().enumerate().skip(first) {
            let block = self.cache.block(place)?;
            let fits = |slot: &Slot| slot.length - slot.needs() >= entry_len(name.len());
            // The checksum at the end looks like an unused slot.
            let found = slots(block).find(|slot| slot.at < room && fits(slot));
            let Some(slot) = found else {
                continue;
            };
            let mut block = block.to_vec();
            let needs = slot.needs();
            if needs > 0 {
                put_length(&mut block, slot.at, needs);
            }
            let new = Slot {
                at: slot.at + needs,
                length: slot.length - needs,
                inode: child.0,
                name_len: name.len(),
            };
            put_entry(&mut block, new, name, kind);
            self.put_folder_block(folder, inode, place, block);
            self.known_folder(folder)?.room_from = index;
            return Ok(Some(index));
        }
        Ok(None)
    }

    /// Adds a block to a folder, with this name in it.
    fn extend_folder(
        &mut self,
        folder: InodeNumber,
        inode: &mut Inode,
        name: &[u8],
        child: InodeNumber,
        kind: u8,
    ) -> Result<usize, EditError> {
        let mut runs = inode.runs(self)?;
        let goal = runs.last().map_or(0, |run| run.blocks().end);
        let place = self.allocate_block(goal)?;
        let index = self.known_folder(folder)?.blocks.len();
        runs.push(Run::written(index as u64, place, 1));
        self.put_map(folder, inode, &runs)?;
        inode.set_size((index as u64 + 1) * self.sb.block_size);
        let mut block = self.empty_folder_block();
        let slot = Slot {
            at: 0,
            length: self.entry_room(),
            inode: child.0,
            name_len: name.len(),
        };
        put_entry(&mut block, slot, name, kind);
        self.put_folder_block(folder, inode, place, block);
        let known = self.known_folder(folder)?;
        known.blocks.push(place);
        known.room_from = index;
        Ok(index)
    }

    /// Takes a name out of a folder.
    pub(crate) fn remove_name(
        &mut self,
        folder: InodeNumber,
        name: &[u8],
        is_folder: bool,
    ) -> Result<(), EditError> {
        let mut inode = self.open_folder(folder)?;
        let known = self.known_folder(folder)?;
        let Some((_, index)) = known.names.remove(name) else {
            return Err(ExtError::NotFound(shown(name)).into());
        };
        known.room_from = known.room_from.min(index);
        let place = known.blocks[index];
        let mut block = self.cache.block(place)?.to_vec();
        let mut before: Option<Slot> = None;
        let all: Vec<Slot> = slots(&block).collect();
        for slot in all {
            if slot.inode != 0 && slot.name(&block) == name {
                match before {
                    Some(before) => {
                        let length = before.length + slot.length;
                        put_length(&mut block, before.at, length);
                    }
                    None => put32(&mut block, slot.at, 0),
                }
                break;
            }
            before = Some(slot);
        }
        self.put_folder_block(folder, &inode, place, block);
        if is_folder && inode.links() > 2 {
            inode.set_links(inode.links() - 1);
        }
        self.put_changed(folder, inode)
    }

    /// The place of a folder's entry for its parent, and its block.
    fn dots(&mut self, folder: InodeNumber) -> Result<(u64, Slot), EditError> {
        self.open_folder(folder)?;
        let known = self.known_folder(folder)?;
        let place = known.blocks.first().copied();
        let place = place.ok_or(ExtError::Damaged("a directory"))?;
        let block = self.cache.block(place)?;
        let slot = slots(block).find(|slot| slot.inode != 0 && slot.name(block) == b"..");
        Ok((place, slot.ok_or(ExtError::Damaged("a directory"))?))
    }

    /// The parent of a folder; the root is its own parent.
    pub(super) fn parent_of(&mut self, folder: InodeNumber) -> Result<InodeNumber, EditError> {
        Ok(InodeNumber(self.dots(folder)?.1.inode))
    }

    /// Sets another folder as the parent.
    pub(super) fn put_parent(
        &mut self,
        folder: InodeNumber,
        above: InodeNumber,
    ) -> Result<(), EditError> {
        let mut inode = self.open_folder(folder)?;
        if inode.has(node::FLAG_INDEX) {
            self.drop_index(folder, &mut inode)?;
            self.grown_folders.insert(folder);
        }
        let (place, slot) = self.dots(folder)?;
        let mut block = self.cache.block(place)?.to_vec();
        put32(&mut block, slot.at, above.0);
        self.put_folder_block(folder, &inode, place, block);
        self.put_inode(folder, &inode)
    }

    /// The first block of a new folder.
    pub(crate) fn first_folder_block(&self, own: InodeNumber, above: InodeNumber) -> Vec<u8> {
        let mut block = vec![0; self.sb.block_size as usize];
        let kind = self.kind_byte(FileKind::Directory);
        let dot = Slot {
            at: 0,
            length: 12,
            inode: own.0,
            name_len: 1,
        };
        put_entry(&mut block, dot, b".", kind);
        let dots = Slot {
            at: 12,
            length: self.entry_room() - 12,
            inode: above.0,
            name_len: 2,
        };
        put_entry(&mut block, dots, b"..", kind);
        block
    }

    /// Moves the names of a small folder from its inode into a block.
    fn folder_out_of_inode(
        &mut self,
        number: InodeNumber,
        inode: Inode,
    ) -> Result<Inode, EditError> {
        let above = InodeNumber(u32le(inode.map(), 0));
        let entries = self.tree().list(number)?;
        let mut names = Vec::new();
        for entry in entries {
            let kind = self.tree().inode(entry.inode)?.kind();
            names.push((entry.name, entry.inode, kind));
        }
        self.folder_into_block(number, inode, above, names)
    }

    /// Gives a small folder a block with these names.
    pub(super) fn folder_into_block(
        &mut self,
        number: InodeNumber,
        mut inode: Inode,
        above: InodeNumber,
        entries: Vec<(Vec<u8>, InodeNumber, FileKind)>,
    ) -> Result<Inode, EditError> {
        let mut block = self.first_folder_block(number, above);
        let mut at = 24;
        let mut length = self.entry_room() - 24;
        // `..` ends where the names begin.
        put_length(&mut block, 12, 12);
        for (left, (name, child, kind)) in (0..entries.len()).rev().zip(&entries) {
            let needed = entry_len(name.len());
            if needed > length {
                return Err(ExtError::Damaged("a folder").into());
            }
            let slot = Slot {
                at,
                length: if left == 0 { length } else { needed },
                inode: child.0,
                name_len: name.len(),
            };
            put_entry(&mut block, slot, name, self.kind_byte(*kind));
            at += needed;
            length -= needed;
        }
        if entries.is_empty() {
            let room = self.entry_room() - 12;
            put_length(&mut block, 12, room);
        }
        self.clear_inline(&mut inode)?;
        let goal = self.goal_in(self.group_of_inode(number));
        let place = self.allocate_block(goal)?;
        let run = Run::written(0, place, 1);
        self.put_map(number, &mut inode, &[run])?;
        inode.set_size(self.sb.block_size);
        self.put_folder_block(number, &inode, place, block);
        self.put_inode(number, &inode)?;
        self.folders.remove(&number);
        Ok(inode)
    }
}
