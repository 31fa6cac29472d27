//! Directories: names, where they lead, and that all are connected to the root.

use pinewrit_ext4_layout::ReadOnlyCompatible;
use pinewrit_ext4_layout::blocks::{ExtError, Source};
use pinewrit_ext4_layout::directory::{Slot, TAIL, has_right_tail, is_whole, slots};
use pinewrit_ext4_layout::htree::{Branch, Index, IndexError};
use pinewrit_ext4_layout::inode::{FileKind, InodeNumber};
use pinewrit_ext4_layout::{Incompatible, Superblock};

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher as _};

use super::inodes::wrong;
use super::{Check, CheckError, read};
use crate::tree::shown;

/// Bytes read at most with a block of a directory: others often follow it.
const WINDOW: u64 = 128 << 10;
/// How many such pieces are kept.
const WINDOWS: usize = 16;

type Done = Result<(), CheckError>;

/// A directory as its inode describes it.
pub(super) struct Directory {
    pub(super) number: InodeNumber,
    /// The seed of its checksums.
    pub(super) seed: u32,
    pub(super) has_index: bool,
    /// Its names are encrypted, so that they may hold any byte.
    pub(super) is_encrypted: bool,
    /// First block and length of its runs, without gaps.
    pub(super) runs: Vec<(u64, u64)>,
    /// Its entries, where they are in the inode and its attributes.
    pub(super) inline: Option<[Vec<u8>; 2]>,
    /// Where `..` leads.
    pub(super) up: u32,
}

impl Directory {
    fn blocks(&self) -> impl Iterator<Item = u64> {
        self.runs
            .iter()
            .flat_map(|(start, len)| *start..start + len)
    }

    fn wrong(&self, what: &'static str) -> CheckError {
        CheckError::Directory {
            number: self.number.0,
            what,
        }
    }

    fn wrong_name(&self, name: &[u8], what: &'static str) -> CheckError {
        CheckError::Name {
            number: self.number.0,
            name: shown(name),
            what,
        }
    }
}

/// Pieces of the medium that were read last.
struct Ahead<'s> {
    source: &'s dyn Source,
    windows: Vec<(u64, Vec<u8>)>,
    next: usize,
    /// Bytes that are read next: more where directories lie together, less where they do not.
    wanted: u64,
    /// First block of the last piece.
    last: u64,
}

impl Ahead<'_> {
    fn block(&mut self, block: u64) -> Result<&[u8], CheckError> {
        let sb = self.source.superblock();
        let size = sb.block_size;
        if block >= sb.blocks {
            return Err(ExtError::Damaged("a block number").into());
        }
        let holds = |(start, bytes): &(u64, Vec<u8>)| {
            (*start..start + bytes.len() as u64 / size).contains(&block)
        };
        let at = match self.windows.iter().position(holds) {
            Some(at) => at,
            None => {
                self.wanted = if block.abs_diff(self.last) <= WINDOW / size {
                    (self.wanted * 2).min(WINDOW)
                } else {
                    (self.wanted / 2).max(size)
                };
                self.last = block;
                self.load(block)?
            }
        };
        let (start, bytes) = &self.windows[at];
        let from = ((block - start) * size) as usize;
        Ok(&bytes[from..from + size as usize])
    }

    fn load(&mut self, block: u64) -> Result<usize, CheckError> {
        let sb = self.source.superblock();
        let count = (self.wanted / sb.block_size).max(1).min(sb.blocks - block);
        let mut bytes = vec![0; (count * sb.block_size) as usize];
        let offset = block * sb.block_size;
        if count == 1 {
            // A cache would read what lies around it.
            self.source.read_once(offset, &mut bytes)?;
        } else if self.source.read_bytes(offset, &mut bytes).is_err() {
            // If what follows it cannot be read, it does not matter here.
            bytes = read(self.source, block)?;
        }
        if self.windows.len() < WINDOWS {
            self.windows.push((block, bytes));
            return Ok(self.windows.len() - 1);
        }
        let at = self.next;
        self.windows[at] = (block, bytes);
        self.next = (at + 1) % WINDOWS;
        Ok(at)
    }
}

/// What was found in a directory so far.
#[derive(Default)]
struct Met {
    /// Names other than `.` and `..`, by hash, and where they are.
    names: HashMap<u64, (u64, usize)>,
    /// Entries, with unused ones.
    entries: usize,
}

impl Check<'_> {
    /// Checks all directories, and that each is inside its parent.
    pub(super) fn tree(&mut self) -> Done {
        let mut directories = std::mem::take(&mut self.directories);
        directories.sort_by_key(|one| one.runs.first().map_or(0, |(start, _)| *start));
        let mut ahead = Ahead {
            source: self.source,
            windows: Vec::new(),
            next: 0,
            wanted: WINDOW,
            last: 0,
        };
        for one in &mut directories {
            match &one.inline {
                Some(_) => self.inline_names(one)?,
                None => self.blocks_of(one, &mut ahead)?,
            }
        }
        self.connections(&directories)
    }

    fn blocks_of(&mut self, one: &mut Directory, ahead: &mut Ahead<'_>) -> Done {
        let sb = self.source.superblock();
        let has_sums = sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
        let blocks: Vec<u64> = one.blocks().collect();
        let index = if one.has_index {
            Some(index_of(sb, one, &blocks, ahead)?)
        } else {
            None
        };
        let ranges = index.as_ref().map(|index| ranges_of(&index.leaves));
        let mut met = Met::default();
        for (logical, &place) in (0u32..).zip(&blocks) {
            let block = ahead.block(place)?.to_vec();
            if !is_whole(&block) {
                return Err(one.wrong("its entries do not fill a block"));
            }
            let is_node = index
                .as_ref()
                .is_some_and(|index| index.nodes.contains_key(&logical));
            if has_sums && !is_node && !has_right_tail(&block, one.seed) {
                return Err(one.wrong("a checksum in it is wrong"));
            }
            let hashes = ranges
                .as_ref()
                .and_then(|ranges| ranges.get(&logical).copied());
            let room = block.len() - if has_sums && !is_node { TAIL } else { 0 };
            for slot in slots(&block).filter(|slot| slot.at < room) {
                let is_first = logical == 0 && met.entries < 2;
                met.entries += 1;
                if is_first {
                    self.own_name(one, &slot, &block, met.entries)?;
                    continue;
                }
                if slot.inode == 0 {
                    continue;
                }
                self.name(one, &slot, &block)?;
                let name = slot.name(&block);
                if let (Some(index), Some((from, to))) = (&index, hashes)
                    && !(from..=to).contains(&index.hasher.hash(name))
                {
                    return Err(one.wrong_name(name, "its index leads elsewhere for it"));
                }
                let key = key_of(name);
                if let Some((place, at)) = met.names.insert(key, (place, slot.at)) {
                    let other = ahead.block(place)?;
                    let same = slots(other).find(|slot| slot.at == at);
                    if same.is_some_and(|slot| slot.name(other) == name) {
                        return Err(one.wrong_name(name, "it is there twice"));
                    }
                }
            }
        }
        if met.entries < 2 {
            Err(one.wrong("it has no entries for itself and what is above"))
        } else {
            Ok(())
        }
    }

    /// `.` and `..`, which come first.
    fn own_name(&mut self, one: &mut Directory, slot: &Slot, block: &[u8], nth: usize) -> Done {
        let name: &[u8] = if nth == 1 { b"." } else { b".." };
        let is_right = slot.name(block) == name
            && self.has_right_kind(slot, block, FileKind::Directory)
            && match nth {
                1 => slot.inode == one.number.0 && slot.length == 12,
                _ => slot.inode != 0,
            };
        if !is_right {
            return Err(one.wrong("its entries for itself and what is above cannot be"));
        }
        if nth == 2 {
            one.up = slot.inode;
        }
        Ok(())
    }

    fn has_right_kind(&self, slot: &Slot, block: &[u8], kind: FileKind) -> bool {
        let expected = if self.sb().incompatible.has(Incompatible::FILETYPE) {
            kind.entry_byte()
        } else {
            0
        };
        // Names without a file type are fine.
        matches!(block[slot.at + 7], found if found == expected || found == 0)
    }

    /// One name, and what it leads to.
    fn name(&mut self, one: &Directory, slot: &Slot, block: &[u8]) -> Done {
        let name = slot.name(block);
        let is_odd = name.is_empty()
            || name == b"."
            || name == b".."
            || (!one.is_encrypted && name.iter().any(|byte| matches!(byte, 0 | b'/')));
        if is_odd {
            return Err(one.wrong_name(name, "it cannot be a name"));
        }
        let Ok(found) = self
            .seen
            .binary_search_by_key(&slot.inode, |seen| seen.number)
        else {
            return Err(one.wrong_name(name, "it leads to nothing"));
        };
        let kind = self.seen[found].kind;
        if !self.has_right_kind(slot, block, kind) {
            return Err(one.wrong_name(name, "it says another kind than what it leads to"));
        }
        if kind != FileKind::Directory {
            self.seen[found].names += 1;
            return Ok(());
        }
        let is_taken = self.seen[found].above != 0 || slot.inode == InodeNumber::ROOT.0;
        if is_taken {
            return Err(one.wrong_name(name, "it leads to a directory that has another name"));
        }
        self.seen[found].above = one.number.0;
        let here = self
            .seen
            .binary_search_by_key(&one.number.0, |seen| seen.number);
        if let Ok(here) = here {
            self.seen[here].names += 1;
        }
        Ok(())
    }

    fn inline_names(&mut self, one: &mut Directory) -> Done {
        let areas = one.inline.take().unwrap_or_default();
        let mut met: Vec<&[u8]> = Vec::new();
        for area in &areas {
            if !is_whole(area) {
                return Err(one.wrong("its entries do not fill its inode"));
            }
            for slot in slots(area).filter(|slot| slot.inode != 0) {
                self.name(one, &slot, area)?;
                met.push(slot.name(area));
            }
        }
        met.sort_unstable();
        match met.windows(2).find(|pair| pair[0] == pair[1]) {
            Some(pair) => Err(one.wrong_name(pair[0], "it is there twice")),
            None => Ok(()),
        }
    }

    /// Checks that the way up from each directory ends at the root.
    fn connections(&self, directories: &[Directory]) -> Done {
        let above = |number: u32| {
            let found = self.seen.binary_search_by_key(&number, |seen| seen.number);
            found.map_or(0, |at| self.seen[at].above)
        };
        let root = InodeNumber::ROOT.0;
        let mut known: HashMap<u32, bool> = HashMap::from([(root, true)]);
        for one in directories {
            let expected = match one.number {
                InodeNumber::ROOT => root,
                number => above(number.0),
            };
            if expected == 0 {
                return wrong(one.number, "no name leads to it");
            }
            if one.up != expected {
                return Err(one.wrong("\"..\" in it leads elsewhere than above"));
            }
            let mut way = Vec::new();
            let mut at = one.number.0;
            while at != 0 && !known.contains_key(&at) {
                known.insert(at, false);
                way.push(at);
                at = above(at);
            }
            if at == 0 || known.get(&at) == Some(&false) {
                return wrong(one.number, "it is in itself, or in what has no name");
            }
            known.extend(way.into_iter().map(|number| (number, true)));
        }
        if directories
            .iter()
            .any(|one| one.number == InodeNumber::ROOT)
        {
            Ok(())
        } else {
            wrong(InodeNumber::ROOT, "there is no root")
        }
    }
}

fn index_of(
    sb: &Superblock,
    one: &Directory,
    blocks: &[u64],
    ahead: &mut Ahead<'_>,
) -> Result<Index, CheckError> {
    let mut read = |logical: u32| match blocks.get(logical as usize) {
        Some(&place) => Ok(ahead.block(place)?.to_vec()),
        None => Err(one.wrong("its index leads to a block that is not there")),
    };
    Index::read(sb, one.seed, blocks.len(), &mut read).map_err(|error| match error {
        IndexError::Fault(what) => one.wrong(what),
        IndexError::Read(error) => error,
    })
}

/// The range of hashes that names in each block may have.
fn ranges_of(leaves: &[Branch]) -> HashMap<u32, (u32, u32)> {
    let ends = leaves.iter().skip(1).map(|next| match next.hash & 1 {
        // Names with this hash are in both blocks.
        1 => next.hash & !1,
        _ => next.hash.saturating_sub(1),
    });
    let ends = ends.chain([u32::MAX]);
    let each = leaves.iter().zip(ends);
    each.map(|(leaf, end)| (leaf.block, (leaf.hash & !1, end)))
        .collect()
}

fn key_of(name: &[u8]) -> u64 {
    let mut hasher = DefaultHasher::new();
    name.hash(&mut hasher);
    hasher.finish()
}
