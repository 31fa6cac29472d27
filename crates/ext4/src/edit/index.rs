//! Creating and dropping the index of a folder.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{put32, u32le};
use pinewrit_ext4_layout::directory::{Slot, entry_len, put_length, slots};
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::htree::{
    Branch, HALF_MD4, Hasher, NODE_START, ROOT_START, limit, node_checksum, put_branches,
};
use pinewrit_ext4_layout::inode::{Inode, InodeNumber, Run};
use pinewrit_ext4_layout::{ExtError, ReadOnlyCompatible};

use super::folder::put_entry;
use super::{EditError, Editor, has_index};

/// An entry with its hash.
struct Hashed {
    hash: u32,
    inode: u32,
    kind: u8,
    name: Vec<u8>,
}

/// Blocks of entries, and the first hash of each.
type Leaves = Vec<(u32, Vec<Hashed>)>;

impl<D: BlockDevice> Editor<D> {
    /// Drops the index of a folder: its blocks are then searched one by one, which every reader
    /// does without an index.
    pub(super) fn drop_index(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
    ) -> Result<(), EditError> {
        inode.set_flag(node::FLAG_INDEX, false);
        let known = self.known_folder(number)?;
        let blocks = known.blocks.clone();
        for index in std::mem::take(&mut known.nodes) {
            let Some(&place) = blocks.get(index as usize) else {
                continue;
            };
            let block = match index {
                0 => {
                    let mut block = self.cache.block(place)?.to_vec();
                    put_length(&mut block, 12, self.entry_room() - 12);
                    block[24..].fill(0);
                    block
                }
                _ => self.empty_folder_block(),
            };
            self.put_folder_block(number, inode, place, block);
        }
        Ok(())
    }

    /// Gives an index to all folders that have grown and are large enough for one.
    pub(super) fn index_folders(&mut self) -> Result<(), EditError> {
        if !has_index(&self.sb) {
            return Ok(());
        }
        for number in std::mem::take(&mut self.grown_folders) {
            // A removed folder needs none; one without room for an index does without.
            let result = self.step(|editor| editor.index_folder(number));
            if let Err(EditError::Volume(error)) = result
                && matches!(error, ExtError::Disk(_))
            {
                return Err(error.into());
            }
        }
        Ok(())
    }

    fn index_folder(&mut self, number: InodeNumber) -> Result<(), EditError> {
        if self.tree().inode(number)?.links() == 0 {
            return Ok(());
        }
        let mut inode = self.open_folder(number)?;
        let blocks = self.known_folder(number)?.blocks.clone();
        if blocks.len() < 2 {
            return Ok(());
        }
        let above = u32le(self.cache.block(blocks[0])?, 12);
        let leaves = self.leaves_of(&blocks)?;
        let has_sums = self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
        let size = self.sb.block_size as usize;
        let in_root = limit(size, ROOT_START, has_sums);
        let in_node = limit(size, NODE_START, has_sums);
        let nodes = if leaves.len() <= in_root {
            0
        } else {
            leaves.len().div_ceil(in_node)
        };
        // Three levels need another feature; such a large folder does without.
        if nodes > in_root || leaves.is_empty() {
            return Ok(());
        }
        let places = self.resize_folder(number, &mut inode, 1 + leaves.len() + nodes)?;
        let mut branches = Vec::new();
        for ((hash, entries), (logical, &place)) in
            leaves.into_iter().zip((1u32..).zip(&places[1..]))
        {
            let block = self.leaf(&entries);
            self.put_folder_block(number, &inode, place, block);
            branches.push(Branch {
                hash,
                block: logical,
            });
        }
        if nodes > 0 {
            let first = branches.len() as u32 + 1;
            let mut upper = Vec::new();
            for (logical, part) in (first..).zip(branches.chunks(in_node)) {
                let mut block = vec![0; size];
                put_length(&mut block, 0, size);
                put_branches(&mut block, NODE_START, in_node, part);
                self.put_node(number, &inode, places[logical as usize], block, NODE_START);
                upper.push(Branch {
                    hash: part[0].hash,
                    block: logical,
                });
            }
            branches = upper;
        }
        let mut root = self.first_folder_block(number, InodeNumber(above));
        put_length(&mut root, 12, size - 12);
        root[28] = HALF_MD4;
        root[29] = 8;
        root[30] = u8::from(nodes > 0);
        put_branches(&mut root, ROOT_START, in_root, &branches);
        self.put_node(number, &inode, places[0], root, ROOT_START);
        inode.set_flag(node::FLAG_INDEX, true);
        self.put_inode(number, &inode)?;
        self.folders.remove(&number);
        Ok(())
    }

    /// Arranges all entries of a folder by hash, in blocks that are not quite full.
    fn leaves_of(&mut self, blocks: &[u64]) -> Result<Leaves, EditError> {
        let hasher = Hasher::new(&self.sb, HALF_MD4).ok_or(ExtError::Damaged("an index"))?;
        let room = self.entry_room();
        let mut all = Vec::new();
        for &place in blocks {
            let block = self.cache.block(place)?;
            for slot in slots(block) {
                let name = slot.name(block);
                if slot.inode != 0 && slot.at < room && name != b"." && name != b".." {
                    all.push(Hashed {
                        hash: hasher.hash(name),
                        inode: slot.inode,
                        kind: block[slot.at + 7],
                        name: name.to_vec(),
                    });
                }
            }
        }
        all.sort_by(|a, b| (a.hash, &a.name).cmp(&(b.hash, &b.name)));
        let mut leaves: Leaves = Vec::new();
        let mut used = 0;
        let mut last_hash = 0;
        for entry in all {
            let needed = entry_len(entry.name.len());
            // Some room is left, so that the next names do not split every block.
            if leaves.is_empty() || used + needed > room * 7 / 8 {
                // The lowest bit says that names with the same hash are in the block before.
                let from = if leaves.is_empty() {
                    0
                } else {
                    entry.hash | u32::from(entry.hash == last_hash)
                };
                leaves.push((from, Vec::new()));
                used = 0;
            }
            used += needed;
            last_hash = entry.hash;
            if let Some((_, leaf)) = leaves.last_mut() {
                leaf.push(entry);
            }
        }
        Ok(leaves)
    }

    fn leaf(&self, entries: &[Hashed]) -> Vec<u8> {
        let mut block = self.empty_folder_block();
        let mut at = 0;
        for (left, entry) in (0..entries.len()).rev().zip(entries) {
            let needed = entry_len(entry.name.len());
            let slot = Slot {
                at,
                length: if left == 0 {
                    self.entry_room() - at
                } else {
                    needed
                },
                inode: entry.inode,
                name_len: entry.name.len(),
            };
            put_entry(&mut block, slot, &entry.name, entry.kind);
            at += needed;
        }
        block
    }

    /// Writes a block of an index with its checksum.
    fn put_node(
        &mut self,
        number: InodeNumber,
        inode: &Inode,
        place: u64,
        mut block: Vec<u8>,
        start: usize,
    ) {
        if self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let seed = self.inode_seed(number, inode);
            if let Some((at, sum)) = node_checksum(seed, &block, start) {
                put32(&mut block, at, sum);
            }
        }
        self.cache.put(place, block);
    }

    /// Gives a folder this many blocks and returns where they are.
    fn resize_folder(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
        count: usize,
    ) -> Result<Vec<u64>, EditError> {
        let mut places = self.known_folder(number)?.blocks.clone();
        for spare in places.drain(count.min(places.len())..).collect::<Vec<_>>() {
            self.release(spare..spare + 1)?;
        }
        let missing = (count - places.len()) as u64;
        if missing > 0 {
            let goal = places.last().map_or(0, |last| last + 1);
            for run in self.allocate(goal, missing)? {
                places.extend(run);
            }
        }
        let runs: Vec<Run> = (0u64..)
            .zip(&places)
            .map(|(logical, &start)| Run::written(logical, start, 1))
            .collect();
        self.put_map(number, inode, &runs)?;
        inode.set_size(count as u64 * self.sb.block_size);
        Ok(places)
    }
}
