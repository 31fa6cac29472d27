//! Names that lead to inodes with another number.

use std::collections::{BTreeMap, BTreeSet};

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::put32;
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::directory::slots;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::htree::{Index, IndexError, node_checksum};
use pinewrit_ext4_layout::inode::{FileKind, Inode, InodeNumber, inode_seed};
use pinewrit_ext4_layout::{ExtError, ReadOnlyCompatible, Superblock};

use super::Renumbered;
use crate::edit::{EditError, Editor};

impl<D: BlockDevice> Editor<D> {
    /// Lets all names lead to the new numbers, and seals the blocks of directories that have one.
    pub(super) fn renumber_names(
        &mut self,
        new: &Superblock,
        renumbered: &Renumbered,
    ) -> Result<(), EditError> {
        if renumbered.is_empty() {
            return Ok(());
        }
        let former: BTreeMap<InodeNumber, InodeNumber> =
            renumbered.iter().map(|(old, new)| (*new, *old)).collect();
        for group in 0..new.groups() {
            for number in self.used_inodes(group)? {
                let inode = self.tree().inode(number)?;
                if inode.kind() != FileKind::Directory {
                    continue;
                }
                let former = former.get(&number).copied();
                if inode.has(node::FLAG_INLINE) {
                    self.renumber_inline(number, inode, renumbered)?;
                } else {
                    self.renumber_blocks(number, &inode, former, renumbered)?;
                }
            }
        }
        Ok(())
    }

    /// A small directory whose names have to change moves from its inode into a block.
    fn renumber_inline(
        &mut self,
        number: InodeNumber,
        inode: Inode,
        renumbered: &Renumbered,
    ) -> Result<(), EditError> {
        let above = InodeNumber(pinewrit_disk::bytes::u32le(inode.map(), 0));
        let mut leads = vec![above];
        leads.extend(self.tree().list(number)?.iter().map(|entry| entry.inode));
        if !leads.iter().any(|inode| renumbered.contains_key(inode)) {
            return Ok(());
        }
        // The kinds of entries are those of their inodes, which have other numbers by now.
        let entries = self.tree().list(number)?;
        let kinds: Vec<(InodeNumber, FileKind)> = entries
            .iter()
            .map(|entry| {
                let now = renumbered.get(&entry.inode).copied().unwrap_or(entry.inode);
                Ok((now, self.tree().inode(now)?.kind()))
            })
            .collect::<Result<_, ExtError>>()?;
        let above = renumbered.get(&above).copied().unwrap_or(above);
        let names = entries.into_iter().zip(kinds);
        let names = names.map(|(entry, (inode, kind))| (entry.name, inode, kind));
        self.folder_into_block(number, inode, above, names.collect())?;
        Ok(())
    }

    fn renumber_blocks(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        former: Option<InodeNumber>,
        renumbered: &Renumbered,
    ) -> Result<(), EditError> {
        let blocks = self.tree().directory_blocks(inode)?;
        let seed = inode_seed(&self.sb, former.unwrap_or(number), inode.generation());
        let nodes = self.index_nodes(inode, &blocks, seed)?;
        let has_sums = self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
        let own_seed = self.inode_seed(number, inode);
        for (index, &place) in (0u32..).zip(&blocks) {
            let mut block = self.read_block(place)?;
            let start = nodes.get(&index).copied();
            let mut changed = BTreeSet::new();
            // Blocks of an index hold no names, but its root holds the two dots.
            let names = if start.is_some_and(|_| index > 0) {
                0
            } else {
                usize::MAX
            };
            for slot in slots(&block).take(names) {
                if let Some(now) = renumbered.get(&InodeNumber(slot.inode)) {
                    changed.insert((slot.at, now.0));
                }
            }
            if changed.is_empty() && (former.is_none() || !has_sums) {
                continue;
            }
            for (at, now) in changed {
                put32(&mut block, at, now);
            }
            match start {
                None => self.put_folder_block(number, inode, place, block),
                Some(start) => {
                    if has_sums {
                        let sum = node_checksum(own_seed, &block, start);
                        let (at, sum) = sum.ok_or(ExtError::Damaged("the index of a directory"))?;
                        put32(&mut block, at, sum);
                    }
                    self.cache.put(place, block);
                }
            }
        }
        Ok(())
    }

    /// The blocks of a directory's index, and where their entries begin.
    fn index_nodes(
        &mut self,
        inode: &Inode,
        blocks: &[u64],
        seed: u32,
    ) -> Result<BTreeMap<u32, usize>, EditError> {
        if !inode.has(node::FLAG_INDEX) || blocks.is_empty() {
            return Ok(BTreeMap::new());
        }
        let mut read = |index: u32| self.read_block(blocks[index as usize]);
        let index = Index::read(&self.sb, seed, blocks.len(), &mut read);
        let index = index.map_err(|error| match error {
            IndexError::Fault(_) => ExtError::Damaged("the index of a directory").into(),
            IndexError::Read(error) => EditError::from(error),
        })?;
        Ok(index.nodes)
    }
}
