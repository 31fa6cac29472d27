//! A directory in memory: its entries, an index of its names, and its free entries.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;

use crate::directory::{END, ENTRY, ERASED, Entry, Item, Items, MAX_ENTRIES, put_cluster};
use crate::geometry::FatWidth;
use crate::name::{self, Short, folded};

/// A group of entries that belong together: the first, and how many.
type Place = (usize, usize);

/// A directory. Only the part before its end is kept: the rest is zero.
pub(crate) struct Folder {
    width: FatWidth,
    /// Its clusters; empty for the root directory of FAT12 and FAT16.
    pub(crate) chain: Vec<u32>,
    /// How many entries its clusters hold.
    pub(crate) room: usize,
    bytes: Vec<u8>,
    names: HashMap<String, Place>,
    shorts: HashMap<Short, Place>,
    /// The last number given to a name with this short form.
    tails: HashMap<Short, u32>,
    gaps: Gaps,
    label: Option<usize>,
    /// Bytes that have to be written.
    pub(crate) changed: Range<usize>,
}

/// Erased entries, in runs.
#[derive(Default)]
struct Gaps {
    by_start: BTreeMap<usize, usize>,
    by_len: BTreeSet<(usize, usize)>,
}

impl Gaps {
    fn insert(&mut self, start: usize, len: usize) {
        let (mut start, mut len) = (start, len);
        if let Some(after) = self.by_start.get(&(start + len)).copied() {
            self.remove(start + len, after);
            len += after;
        }
        let before = self.by_start.range(..start).next_back();
        if let Some((&first, &before)) = before.filter(|(first, len)| *first + *len == start) {
            self.remove(first, before);
            start = first;
            len += before;
        }
        self.by_start.insert(start, len);
        self.by_len.insert((len, start));
    }

    fn remove(&mut self, start: usize, len: usize) {
        self.by_start.remove(&start);
        self.by_len.remove(&(len, start));
    }

    /// Takes the smallest run of at least `wanted` entries.
    fn take(&mut self, wanted: usize) -> Option<usize> {
        let (len, start) = self.by_len.range((wanted, 0)..).next().copied()?;
        self.remove(start, len);
        if len > wanted {
            self.insert(start + wanted, len - wanted);
        }
        Some(start)
    }

    fn total(&self) -> usize {
        self.by_start.values().sum()
    }
}

impl Folder {
    /// A directory of these bytes, which fill its clusters.
    pub(crate) fn read(width: FatWidth, chain: Vec<u32>, mut bytes: Vec<u8>) -> Self {
        let room = bytes.len() / ENTRY;
        let is_end = |entry: &[u8]| entry[0] == END;
        let used = bytes.chunks_exact(ENTRY).position(is_end).unwrap_or(room);
        bytes.truncate(used * ENTRY);
        bytes.shrink_to_fit();
        let mut folder = Self {
            width,
            chain,
            room,
            bytes,
            names: HashMap::new(),
            shorts: HashMap::new(),
            tails: HashMap::new(),
            gaps: Gaps::default(),
            label: None,
            changed: 0..0,
        };
        folder.index();
        folder
    }

    /// A new directory in one cluster of this many entries.
    pub(crate) fn new(width: FatWidth, cluster: u32, room: usize, dots: [[u8; ENTRY]; 2]) -> Self {
        let mut folder = Self::read(width, vec![cluster], dots.concat());
        folder.room = room;
        folder.changed = 0..room * ENTRY;
        folder
    }

    fn index(&mut self) {
        self.names.clear();
        self.shorts.clear();
        self.gaps = Gaps::default();
        self.label = None;
        for item in Items::of(&self.bytes, self.width) {
            match item {
                Item::Entry(entry) if entry.is_dots() => {}
                Item::Entry(entry) => {
                    let place = (entry.at, entry.slots);
                    self.names.entry(folded(&entry.name)).or_insert(place);
                    self.shorts.entry(entry.short).or_insert(place);
                }
                Item::Label(at, _) => {
                    self.label.get_or_insert(at);
                }
                Item::Erased(at) => self.gaps.insert(at, 1),
                Item::Orphan(_) => {}
            }
        }
    }

    /// Roughly how many bytes of memory it takes.
    pub(crate) fn weight(&self) -> usize {
        Self::weight_of(self.bytes.len() / ENTRY) + 512
    }

    /// Roughly how many bytes of memory this many entries take, with their indexes.
    pub(crate) fn weight_of(entries: usize) -> usize {
        entries * ENTRY * 4
    }

    /// What is in it, in its order, without `.` and `..`.
    pub(crate) fn entries(&self) -> impl Iterator<Item = Entry> {
        Items::of(&self.bytes, self.width).filter_map(|item| match item {
            Item::Entry(entry) if !entry.is_dots() => Some(entry),
            _ => None,
        })
    }

    /// The label that it holds, as bytes.
    pub(crate) fn label(&self) -> Option<[u8; 11]> {
        let at = self.label? * ENTRY;
        let mut raw = [0; 11];
        raw.copy_from_slice(&self.bytes[at..at + 11]);
        Some(raw)
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.shorts.is_empty()
    }

    /// The entry with this name, in any case, or with this short name.
    pub(crate) fn find(&self, name: &str) -> Option<Entry> {
        let by_short = || {
            let basis = name::basis(name);
            let is_short = !basis.is_lossy;
            self.shorts.get(&basis.short).filter(|_| is_short)
        };
        let (at, slots) = *self.names.get(&folded(name)).or_else(by_short)?;
        self.entry_at(at, slots)
    }

    pub(crate) fn entry_at(&self, at: usize, slots: usize) -> Option<Entry> {
        let bytes = self.bytes.get(at * ENTRY..(at + slots) * ENTRY)?;
        match Items::of(bytes, self.width).next()? {
            Item::Entry(entry) => Some(Entry { at, ..entry }),
            _ => None,
        }
    }

    /// A short name that nothing else in it has.
    pub(crate) fn free_short(&mut self, name: &str) -> Short {
        let basis = name::basis(name);
        if !basis.is_lossy && !self.shorts.contains_key(&basis.short) {
            return basis.short;
        }
        let mut number = self.tails.get(&basis.short).copied().unwrap_or(0);
        loop {
            number += 1;
            let short = name::with_tail(&basis.short, number);
            if !self.shorts.contains_key(&short) {
                self.tails.insert(basis.short, number);
                return short;
            }
        }
    }

    /// By how many entries its clusters would have to grow for this many more; `None` if it cannot.
    pub(crate) fn missing(&self, slots: usize) -> Option<usize> {
        let used = self.bytes.len() / ENTRY;
        let in_gap = self.gaps.by_len.range((slots, 0)..).next().is_some();
        let fits = in_gap || used - self.gaps.total() + slots <= self.room;
        let missing = if fits { 0 } else { used + slots - self.room };
        (self.room + missing <= MAX_ENTRIES).then_some(missing)
    }

    /// One more cluster, of this many entries.
    pub(crate) fn grow(&mut self, cluster: u32, entries: usize) {
        self.chain.push(cluster);
        self.touch(self.room * ENTRY..(self.room + entries) * ENTRY);
        self.room += entries;
    }

    /// Puts entries in, for which there is room; the last of them is the short one.
    pub(crate) fn insert(&mut self, name: &str, entries: &[[u8; ENTRY]]) {
        let slots = entries.len();
        let at = match self.gaps.take(slots) {
            Some(at) => at,
            None => {
                if self.bytes.len() / ENTRY + slots > self.room {
                    self.compact();
                }
                let at = self.bytes.len() / ENTRY;
                self.bytes.resize((at + slots) * ENTRY, 0);
                at
            }
        };
        self.put(at, entries);
        let mut short = [0; 11];
        if let Some(last) = entries.last() {
            short.copy_from_slice(&last[..11]);
        }
        self.names.insert(folded(name), (at, slots));
        self.shorts.insert(short, (at, slots));
    }

    fn put(&mut self, at: usize, entries: &[[u8; ENTRY]]) {
        let start = at * ENTRY;
        let bytes = entries.as_flattened();
        self.bytes[start..start + bytes.len()].copy_from_slice(bytes);
        self.touch(start..start + bytes.len());
    }

    fn touch(&mut self, bytes: Range<usize>) {
        self.changed = if self.changed.is_empty() {
            bytes
        } else {
            self.changed.start.min(bytes.start)..self.changed.end.max(bytes.end)
        };
    }

    /// Moves all entries together, so that no erased ones are left.
    fn compact(&mut self) {
        let is_kept = |entry: &&[u8]| entry[0] != ERASED;
        let kept: Vec<u8> = self
            .bytes
            .chunks_exact(ENTRY)
            .filter(is_kept)
            .flatten()
            .copied()
            .collect();
        self.touch(0..self.bytes.len());
        self.bytes = kept;
        self.index();
    }

    /// The short entry of something in it, to be changed.
    pub(crate) fn short_entry(&mut self, entry: &Entry) -> &mut [u8] {
        let at = (entry.at + entry.slots - 1) * ENTRY;
        self.touch(at..at + ENTRY);
        &mut self.bytes[at..at + ENTRY]
    }

    /// Sets another folder as the parent: `..` is the second entry ("Directory Creation").
    pub(crate) fn set_parent(&mut self, cluster: u32) {
        let dots = ENTRY..2 * ENTRY;
        if self
            .bytes
            .get(dots.clone())
            .is_some_and(|raw| raw.starts_with(b".."))
        {
            self.touch(dots.clone());
            put_cluster(&mut self.bytes[dots], cluster);
        }
    }

    /// Sets its own cluster: `.` is the first entry ("Directory Creation").
    pub(crate) fn set_own(&mut self, cluster: u32) {
        let dot = 0..ENTRY;
        let raw = self.bytes.get(dot.clone());
        if raw.is_some_and(|raw| raw.starts_with(b". ")) {
            self.touch(dot.clone());
            put_cluster(&mut self.bytes[dot], cluster);
        }
    }

    /// Puts it into other clusters, as many as it has.
    pub(crate) fn move_to(&mut self, chain: Vec<u32>) {
        self.chain = chain;
        self.touch(0..self.room * ENTRY);
    }

    /// Takes an entry out.
    pub(crate) fn remove(&mut self, entry: &Entry) {
        self.names.remove(&folded(&entry.name));
        self.shorts.remove(&entry.short);
        let (start, end) = (entry.at * ENTRY, (entry.at + entry.slots) * ENTRY);
        self.touch(start..end);
        for at in entry.at..entry.at + entry.slots {
            self.bytes[at * ENTRY] = ERASED;
        }
        self.gaps.insert(entry.at, entry.slots);
        // Erased entries at its end need not be read any more.
        if end == self.bytes.len() {
            let last = self.gaps.by_start.last_key_value();
            if let Some((&at, &len)) = last {
                self.gaps.remove(at, len);
                self.touch(at * ENTRY..end);
                self.bytes.truncate(at * ENTRY);
            }
        }
    }

    /// Makes something in it the first entry; the others move behind it.
    pub(crate) fn move_to_front(&mut self, entry: &Entry) {
        let end = (entry.at + entry.slots) * ENTRY;
        self.bytes[..end].rotate_right(entry.slots * ENTRY);
        self.touch(0..end);
        self.index();
    }

    /// Bytes of its clusters that have to be written, whole sectors.
    pub(crate) fn changed_sectors(&self, sector: u64) -> Option<Range<usize>> {
        let sector = sector as usize;
        let changed = &self.changed;
        let whole = changed.start / sector * sector..changed.end.next_multiple_of(sector);
        (!changed.is_empty()).then_some(whole)
    }

    /// Appends a part of what its clusters hold.
    pub(crate) fn add_to(&self, part: &Range<usize>, run: &mut Vec<u8>) {
        let end = run.len() + part.len();
        let used = self.bytes.len();
        run.extend(&self.bytes[part.start.min(used)..part.end.min(used)]);
        run.resize(end, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gaps_join_and_are_taken_by_size() {
        let mut gaps = Gaps::default();
        gaps.insert(10, 2);
        gaps.insert(20, 5);
        gaps.insert(12, 1);
        assert_eq!(gaps.take(3), Some(10));
        assert_eq!(gaps.take(4), Some(20));
        assert_eq!(gaps.take(2), None);
        assert_eq!(gaps.total(), 1);
        gaps.insert(22, 2);
        gaps.insert(25, 1);
        assert_eq!(gaps.take(4), Some(22));
    }
}
