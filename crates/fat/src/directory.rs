//! Directory entries: short ones, and the parts of long names in front of them.
//!
//! Microsoft FAT specification 1.03, "FAT Directory Structure" and "FAT Long Directory Entries".

use pinewrit_disk::bytes::{put16, put32, u16le, u32le};

use crate::geometry::FatWidth;
use crate::name::{self, Short};
use crate::time::Stamp;

/// Bytes in an entry.
pub(crate) const ENTRY: usize = 32;
/// The most entries in a directory, so that its size stays below 2 MiB.
pub(crate) const MAX_ENTRIES: usize = 65536;
/// First bytes: nothing from here on, and erased.
pub(crate) const END: u8 = 0;
pub(crate) const ERASED: u8 = 0xe5;
/// Set in the number of a long name's last part, which comes first.
const LAST_PART: u8 = 0x40;
/// Offsets of a part's UTF-16 units, in bytes.
const UNIT_PLACES: [std::ops::Range<usize>; 3] = [1..11, 14..26, 28..32];

/// `DIR_Attr`.
pub(crate) mod attribute {
    pub(crate) const VOLUME: u8 = 0x08;
    pub(crate) const DIRECTORY: u8 = 0x10;
    pub(crate) const ARCHIVE: u8 = 0x20;
    /// The attribute of parts of long names.
    pub(crate) const LONG: u8 = 0x0f;
    pub(crate) const LONG_MASK: u8 = 0x3f;
}

/// Offsets in a short entry, in bytes.
mod field {
    pub(super) const ATTRIBUTES: usize = 11;
    pub(super) const CASE: usize = 12;
    pub(super) const CREATED_HUNDREDTHS: usize = 13;
    pub(super) const CREATED_TIME: usize = 14;
    pub(super) const CREATED_DATE: usize = 16;
    pub(super) const ACCESSED_DATE: usize = 18;
    pub(super) const CLUSTER_HIGH: usize = 20;
    pub(super) const TIME: usize = 22;
    pub(super) const DATE: usize = 24;
    pub(super) const CLUSTER_LOW: usize = 26;
    pub(super) const SIZE: usize = 28;
    /// In parts of a long name.
    pub(super) const TYPE: usize = 12;
    pub(super) const CHECKSUM: usize = 13;
}

/// A file or folder in a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Entry {
    /// Characters that a name cannot have are replaced.
    pub(crate) name: String,
    pub(crate) is_folder: bool,
    /// In bytes; of folders always 0.
    pub(crate) size: u32,
    pub(crate) modified: Stamp,
    pub(crate) short: Short,
    /// First cluster; 0 for empty files, and for the root in `..`.
    pub(crate) cluster: u32,
    /// All of its entries, those of the long name first.
    pub(crate) at: usize,
    pub(crate) slots: usize,
    pub(crate) long: Long,
}

/// Whether an entry has a long name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Long {
    /// It has none.
    Missing,
    /// It has a valid one.
    Good,
    /// It has one that is not a valid name.
    Bad,
}

impl Entry {
    /// `.` and `..`.
    pub(crate) fn is_dots(&self) -> bool {
        self.short[0] == b'.'
    }
}

/// An entry of a directory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Item {
    Entry(Entry),
    /// The volume label at this entry, and whether the entry holds nothing else.
    Label(usize, bool),
    /// Parts of a long name that belong to no entry.
    Orphan(usize),
    Erased(usize),
}

/// Reads a directory, up to its end.
pub(crate) struct Items<'b> {
    bytes: &'b [u8],
    width: FatWidth,
    at: usize,
    /// Consumed together with the previous one.
    next: Option<Item>,
}

impl<'b> Items<'b> {
    pub(crate) fn of(bytes: &'b [u8], width: FatWidth) -> Self {
        Self {
            bytes,
            width,
            at: 0,
            next: None,
        }
    }

    fn raw(&self, index: usize) -> Option<&'b [u8]> {
        let raw = self.bytes.get(index * ENTRY..(index + 1) * ENTRY)?;
        (raw[0] != END).then_some(raw)
    }
}

impl Iterator for Items<'_> {
    type Item = Item;

    fn next(&mut self) -> Option<Item> {
        if let Some(next) = self.next.take() {
            return Some(next);
        }
        let first = self.at;
        let mut parts = LongName::default();
        loop {
            let Some(raw) = self.raw(self.at) else {
                return (self.at > first).then_some(Item::Orphan(first));
            };
            let is_part = raw[field::ATTRIBUTES] & attribute::LONG_MASK == attribute::LONG;
            if is_part && raw[0] != ERASED {
                if !parts.take(raw) {
                    // A part that does not continue the previous ones may begin another name.
                    self.at = self.at.max(first + 1);
                    return Some(Item::Orphan(first));
                }
                self.at += 1;
                continue;
            }
            let index = self.at;
            self.at += 1;
            let item = match raw[0] {
                ERASED => Item::Erased(index),
                _ if raw[field::ATTRIBUTES] & attribute::VOLUME != 0 => {
                    Item::Label(index, is_label(raw, self.width))
                }
                _ => Item::Entry(entry(raw, index, &parts, self.width)),
            };
            let takes_parts = matches!(&item, Item::Entry(entry) if entry.slots > 1);
            if index == first || takes_parts {
                return Some(item);
            }
            self.next = Some(item);
            return Some(Item::Orphan(first));
        }
    }
}

/// The parts of a long name found so far.
#[derive(Default)]
struct LongName {
    /// Units from the end of the name backwards, each part in its own order.
    parts: Vec<[u16; 13]>,
    /// Number of the part that comes next; 0 when all are there.
    wanted: u8,
    checksum: u8,
    /// Fields that must be zero are not.
    is_odd: bool,
}

/// Whether a label is valid and its entry holds nothing else.
fn is_label(raw: &[u8], width: FatWidth) -> bool {
    let is_bad = |byte: &u8| *byte < 0x20 || b"\"*+,./:;<=>?[\\]|".contains(byte);
    raw[field::ATTRIBUTES] & attribute::DIRECTORY == 0
        && cluster(raw, width) == 0
        && u32le(raw, field::SIZE) == 0
        && !raw[..11].iter().any(is_bad)
}

/// First cluster; its upper half has a meaning in FAT32 only.
fn cluster(raw: &[u8], width: FatWidth) -> u32 {
    let high = match width {
        FatWidth::Fat32 => u32::from(u16le(raw, field::CLUSTER_HIGH)),
        _ => 0,
    };
    high << 16 | u32::from(u16le(raw, field::CLUSTER_LOW))
}

impl LongName {
    /// Takes the next part; `false` if it is a different one.
    fn take(&mut self, raw: &[u8]) -> bool {
        let number = raw[0] & !LAST_PART;
        let checksum = raw[field::CHECKSUM];
        if self.parts.is_empty() {
            let is_first = raw[0] & LAST_PART != 0 && (1..=20).contains(&number);
            if !is_first {
                return false;
            }
            self.wanted = number;
            self.checksum = checksum;
        }
        if self.wanted == 0 || raw[0] & LAST_PART != 0 && !self.parts.is_empty() {
            return false;
        }
        if number != self.wanted || checksum != self.checksum {
            return false;
        }
        self.wanted -= 1;
        self.is_odd |= raw[field::TYPE] != 0 || u16le(raw, field::CLUSTER_LOW) != 0;
        let mut part = [0; 13];
        let units = UNIT_PLACES
            .into_iter()
            .flat_map(|place| raw[place].chunks_exact(2));
        for (to, from) in part.iter_mut().zip(units) {
            *to = u16le(from, 0);
        }
        self.parts.push(part);
        true
    }

    /// The name of an entry, if this long name belongs to it.
    fn of(&self, short: &Short) -> Option<Vec<u16>> {
        let is_its = self.wanted == 0 && self.checksum == name::checksum(short);
        if self.parts.is_empty() || !is_its {
            return None;
        }
        let mut units: Vec<u16> = self.parts.iter().rev().flatten().copied().collect();
        let end = units.iter().position(|&unit| unit == 0);
        units.truncate(end.unwrap_or(units.len()));
        Some(units)
    }
}

fn entry(raw: &[u8], index: usize, parts: &LongName, width: FatWidth) -> Entry {
    let mut short = [0; 11];
    short.copy_from_slice(&raw[..11]);
    let units = parts.of(&short);
    let long = units.as_deref().and_then(name::long_text);
    let slots = match long {
        Some(_) => parts.parts.len() + 1,
        None => 1,
    };
    Entry {
        long: match (&long, &units) {
            (Some(_), Some(units)) if name::is_long_name(units) && !parts.is_odd => Long::Good,
            (Some(_), _) => Long::Bad,
            (None, _) => Long::Missing,
        },
        is_folder: raw[field::ATTRIBUTES] & attribute::DIRECTORY != 0,
        name: long.unwrap_or_else(|| name::short_text(&short, raw[field::CASE])),
        size: u32le(raw, field::SIZE),
        modified: Stamp {
            date: u16le(raw, field::DATE),
            time: u16le(raw, field::TIME),
            hundredths: 0,
        },
        cluster: cluster(raw, width),
        short,
        at: index + 1 - slots,
        slots,
    }
}

/// A short entry to be written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct New {
    pub(crate) short: Short,
    pub(crate) attributes: u8,
    pub(crate) cluster: u32,
    pub(crate) size: u32,
    pub(crate) stamp: Stamp,
}

impl New {
    /// Its bytes.
    pub(crate) fn bytes(&self) -> [u8; ENTRY] {
        let mut raw = [0; ENTRY];
        raw[..11].copy_from_slice(&self.short);
        raw[field::ATTRIBUTES] = self.attributes;
        // A label has only one time.
        if self.attributes & attribute::VOLUME == 0 {
            raw[field::CREATED_HUNDREDTHS] = self.stamp.hundredths;
            put16(&mut raw, field::CREATED_TIME, self.stamp.time);
            put16(&mut raw, field::CREATED_DATE, self.stamp.date);
        }
        refresh(&mut raw, self.cluster, self.size, self.stamp);
        raw
    }
}

/// Gives an entry another short name, in capitals.
pub(crate) fn put_short(raw: &mut [u8; ENTRY], short: &Short) {
    raw[..11].copy_from_slice(short);
    raw[field::CASE] = 0;
}

/// Gives an entry another first cluster.
pub(crate) fn put_cluster(raw: &mut [u8], cluster: u32) {
    put16(raw, field::CLUSTER_HIGH, (cluster >> 16) as u16);
    put16(raw, field::CLUSTER_LOW, cluster as u16);
}

/// Points an entry at other content.
pub(crate) fn refresh(raw: &mut [u8], cluster: u32, size: u32, stamp: Stamp) {
    match raw[field::ATTRIBUTES] {
        kind if kind & attribute::VOLUME != 0 => {}
        kind => {
            put16(raw, field::ACCESSED_DATE, stamp.date);
            if kind & attribute::DIRECTORY == 0 {
                raw[field::ATTRIBUTES] = kind | attribute::ARCHIVE;
            }
        }
    }
    put16(raw, field::TIME, stamp.time);
    put16(raw, field::DATE, stamp.date);
    put_cluster(raw, cluster);
    put32(raw, field::SIZE, size);
}

/// The entries of a long name, in the order in which they stand before the short one.
pub(crate) fn long_entries(name: &str, short: &Short) -> Vec<[u8; ENTRY]> {
    let parts = name::long_parts(name);
    let count = parts.len() as u8;
    let checksum = name::checksum(short);
    let entry = |(part, number): (&[u16; 13], u8)| {
        let mut raw = [0; ENTRY];
        raw[0] = number | if number == count { LAST_PART } else { 0 };
        raw[field::ATTRIBUTES] = attribute::LONG;
        raw[field::CHECKSUM] = checksum;
        let places = UNIT_PLACES
            .into_iter()
            .flat_map(|place| place.step_by(2))
            .zip(part);
        for (at, unit) in places {
            put16(&mut raw, at, *unit);
        }
        raw
    };
    parts.iter().zip(1..=count).rev().map(entry).collect()
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
mod tests {
    use super::*;
    use rstest::rstest;

    fn written(name: &str) -> Vec<u8> {
        let short = name::with_tail(&name::basis(name).short, 1);
        let new = New {
            short,
            attributes: attribute::ARCHIVE,
            cluster: 0x0012_3456,
            size: 77,
            stamp: Stamp::default(),
        };
        let mut bytes = long_entries(name, &short).concat();
        bytes.extend(new.bytes());
        bytes
    }

    #[rstest]
    #[case("a")]
    #[case("thirteen.long")]
    #[case("fourteen.longs")]
    #[case("日本語 \u{1f3d4} hut")]
    #[case(&"x".repeat(255))]
    fn long_names_are_read_as_they_were_written(#[case] name: &str) {
        let bytes = written(name);
        let found: Vec<Item> = Items::of(&bytes, FatWidth::Fat32).collect();
        let [Item::Entry(entry)] = &found[..] else {
            panic!("{found:?}");
        };
        assert_eq!(entry.name, name);
        assert_eq!((entry.cluster, entry.size), (0x0012_3456, 77));
        assert_eq!((entry.at, entry.slots), (0, bytes.len() / ENTRY));
    }

    #[test]
    fn parts_without_their_entry_are_orphans() {
        let whole = written("a name of three parts, at least");
        let own = whole.len() / ENTRY - 1;
        // Another short name: the checksum is wrong.
        let mut other = whole.clone();
        other[own * ENTRY] = b'Q';
        let items: Vec<Item> = Items::of(&other, FatWidth::Fat32).collect();
        assert_eq!(items[0], Item::Orphan(0));
        assert!(matches!(&items[1], Item::Entry(entry) if entry.slots == 1 && entry.at == own));
        assert_eq!(items.len(), 2);
        // A part is missing.
        let cut = [&whole[..ENTRY], &whole[2 * ENTRY..]].concat();
        let orphans =
            Items::of(&cut, FatWidth::Fat32).filter(|item| matches!(item, Item::Orphan(_)));
        assert!(orphans.count() > 0);
        // The end comes too early.
        let items: Vec<Item> = Items::of(&whole[..ENTRY], FatWidth::Fat32).collect();
        assert_eq!(items, [Item::Orphan(0)]);
    }
}
