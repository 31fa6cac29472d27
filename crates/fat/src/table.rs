//! The allocation table: what follows each cluster.
//!
//! Microsoft FAT specification 1.03, "FAT Data Structure".

use std::collections::BTreeMap;
use std::ops::Range;

use pinewrit_disk::bytes::{put16, put32, u16le, u32le};
use pinewrit_disk::{BlockDevice, DiskError};

use crate::geometry::{FatWidth, Geometry};

/// Bytes of a table that are read together: whole entries of every width, and whole sectors.
pub(crate) const PAGE: u64 = 96 << 10;
/// Bytes per request when a whole table is read: a request to a card costs more than its bytes.
pub(crate) const SWEEP: u64 = 42 * PAGE;
/// The most unchanged pages kept at a time.
const MOST_PAGES: usize = 256;

/// What a table says about a cluster.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Link {
    Free,
    /// Another one follows.
    Next(u32),
    /// It is the last of its chain.
    End,
    /// It cannot be used.
    Bad,
    /// A number without a meaning.
    Wrong,
}

impl FatWidth {
    fn mask(self) -> u32 {
        match self {
            Self::Fat12 => 0x0fff,
            Self::Fat16 => 0xffff,
            Self::Fat32 => 0x0fff_ffff,
        }
    }

    /// Ends a chain.
    pub(crate) fn end_mark(self) -> u32 {
        self.mask()
    }

    /// How many whole entries fit in this many bytes of a table.
    pub(crate) fn entries_in(self, bytes: u64) -> u64 {
        match self {
            Self::Fat12 => bytes * 2 / 3,
            Self::Fat16 => bytes / 2,
            Self::Fat32 => bytes / 4,
        }
    }

    /// An entry in a piece of a table; `index` is below [`FatWidth::entries_in`] of its length.
    pub(crate) fn entry(self, piece: &[u8], index: u64) -> u32 {
        let index = index as usize;
        match self {
            Self::Fat12 => {
                let pair = u32::from(u16le(piece, index * 3 / 2));
                if index % 2 == 1 {
                    pair >> 4
                } else {
                    pair & 0x0fff
                }
            }
            Self::Fat16 => u32::from(u16le(piece, index * 2)),
            Self::Fat32 => u32le(piece, index * 4) & 0x0fff_ffff,
        }
    }

    /// Changes an entry; returns which bytes of the piece that touched.
    fn set_entry(self, piece: &mut [u8], index: u64, value: u32) -> Range<usize> {
        let index = index as usize;
        match self {
            Self::Fat12 => {
                let at = index * 3 / 2;
                let pair = u16le(piece, at);
                let value = value as u16;
                let pair = match index % 2 {
                    1 => pair & 0x000f | value << 4,
                    _ => pair & 0xf000 | value & 0x0fff,
                };
                put16(piece, at, pair);
                at..at + 2
            }
            Self::Fat16 => {
                put16(piece, index * 2, value as u16);
                index * 2..index * 2 + 2
            }
            Self::Fat32 => {
                // The upper four bits are reserved, and stay as they are.
                let reserved = u32le(piece, index * 4) & 0xf000_0000;
                put32(piece, index * 4, reserved | value & 0x0fff_ffff);
                index * 4..index * 4 + 4
            }
        }
    }

    /// Flags of the second entry: cleanly unmounted, and no errors. FAT12 has none.
    fn sound_flags(self) -> u32 {
        match self {
            Self::Fat12 => 0,
            Self::Fat16 => 0xc000,
            Self::Fat32 => 0x0c00_0000,
        }
    }

    /// The second entry with both flags set.
    pub(crate) fn sound_mark(self, second: u32) -> u32 {
        second | self.sound_flags()
    }

    /// Whether the second entry says that the volume was unmounted cleanly and has no errors.
    pub(crate) fn is_sound_mark(self, second: u32) -> bool {
        second & self.sound_flags() == self.sound_flags()
    }
}

impl Geometry {
    /// What an entry of the table means.
    pub(crate) fn link(&self, raw: u32) -> Link {
        let mask = self.width.mask();
        match raw {
            0 => Link::Free,
            _ if self.has(raw) => Link::Next(raw),
            _ if raw == mask - 8 => Link::Bad,
            _ if raw >= mask - 7 => Link::End,
            _ => Link::Wrong,
        }
    }
}

/// Calls `visit` with the entry of each cluster of the table that starts at `start`, and with its
/// offset.
pub(crate) fn for_each_entry(
    device: &dyn BlockDevice,
    geometry: &Geometry,
    start: u64,
    visit: &mut dyn FnMut(u32, u32),
) -> Result<(), DiskError> {
    let (width, end) = (geometry.width, geometry.table_bytes());
    let mut piece = vec![0; end.min(SWEEP) as usize];
    let mut at = 0;
    while at < end {
        let len = (end - at).min(piece.len() as u64);
        let piece = &mut piece[..len as usize];
        device.read_at(start + at, piece)?;
        let first = width.entries_in(at);
        for index in 0..width.entries_in(len) {
            let cluster = (first + index) as u32;
            if geometry.has(cluster) {
                visit(cluster, width.entry(piece, index));
            }
        }
        at += len;
    }
    Ok(())
}

/// Counts the free clusters.
pub(crate) fn count_free(device: &dyn BlockDevice, geometry: &Geometry) -> Result<u64, DiskError> {
    let mut free = 0;
    for_each_entry(device, geometry, geometry.table_start(), &mut |_, raw| {
        free += u64::from(raw == 0);
    })?;
    Ok(free)
}

struct Page {
    bytes: Vec<u8>,
    /// Bytes that were changed.
    changed: Range<usize>,
}

/// The table in memory, a page at a time.
#[derive(Default)]
pub(crate) struct Table {
    pages: BTreeMap<u64, Page>,
}

impl Table {
    fn page(
        &mut self,
        device: &dyn BlockDevice,
        geometry: &Geometry,
        cluster: u32,
    ) -> Result<(&mut Page, u64), DiskError> {
        let in_page = geometry.width.entries_in(PAGE);
        let number = u64::from(cluster) / in_page;
        if !self.pages.contains_key(&number) && self.pages.len() >= MOST_PAGES {
            self.pages.retain(|_, page| !page.changed.is_empty());
        }
        let page = match self.pages.entry(number) {
            std::collections::btree_map::Entry::Occupied(there) => there.into_mut(),
            std::collections::btree_map::Entry::Vacant(room) => {
                let at = number * PAGE;
                let len = PAGE.min(geometry.table.len().saturating_sub(at));
                let mut bytes = vec![0; len as usize];
                device.read_at(geometry.table_start() + at, &mut bytes)?;
                room.insert(Page {
                    bytes,
                    changed: 0..0,
                })
            }
        };
        Ok((page, u64::from(cluster) % in_page))
    }

    /// The raw entry of a cluster; `cluster` is an existing one, or 0 or 1.
    pub(crate) fn get(
        &mut self,
        device: &dyn BlockDevice,
        geometry: &Geometry,
        cluster: u32,
    ) -> Result<u32, DiskError> {
        let (page, index) = self.page(device, geometry, cluster)?;
        Ok(geometry.width.entry(&page.bytes, index))
    }

    pub(crate) fn set(
        &mut self,
        device: &dyn BlockDevice,
        geometry: &Geometry,
        cluster: u32,
        value: u32,
    ) -> Result<(), DiskError> {
        let (page, index) = self.page(device, geometry, cluster)?;
        let touched = geometry.width.set_entry(&mut page.bytes, index, value);
        page.changed = if page.changed.is_empty() {
            touched
        } else {
            page.changed.start.min(touched.start)..page.changed.end.max(touched.end)
        };
        Ok(())
    }

    /// What has to be written, as whole sectors: where in a table, and the bytes.
    pub(crate) fn changes(&self, sector: u64) -> impl Iterator<Item = (u64, &[u8])> {
        let changed = self.pages.iter();
        changed
            .filter(|(_, page)| !page.changed.is_empty())
            .map(move |(number, page)| {
                let sector = sector as usize;
                let start = page.changed.start / sector * sector;
                let end = page.changed.end.next_multiple_of(sector);
                let bytes = &page.bytes[start..end.min(page.bytes.len())];
                (number * PAGE + start as u64, bytes)
            })
    }

    /// All changes are on the device.
    pub(crate) fn settle(&mut self) {
        for page in self.pages.values_mut() {
            page.changed = 0..0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn entries_do_not_touch_their_neighbours(
        #[values(FatWidth::Fat12, FatWidth::Fat16, FatWidth::Fat32)] width: FatWidth,
    ) {
        let mut piece = vec![0; 48];
        let count = width.entries_in(48);
        for index in 0..count {
            width.set_entry(&mut piece, index, index as u32 + 0x123);
        }
        width.set_entry(&mut piece, 5, width.end_mark());
        for index in (0..count).filter(|index| *index != 5) {
            assert_eq!(width.entry(&piece, index), index as u32 + 0x123);
        }
        assert_eq!(width.entry(&piece, 5), width.end_mark());
    }

    #[test]
    fn reserved_bits_of_fat32_stay() {
        let mut piece = vec![0xff; 8];
        FatWidth::Fat32.set_entry(&mut piece, 1, 7);
        assert_eq!(u32le(&piece, 4), 0xf000_0007);
        assert_eq!(FatWidth::Fat32.entry(&piece, 1), 7);
    }
}
