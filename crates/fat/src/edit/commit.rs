//! Writing what was changed: directories, tables, counts, and the boot sector.
//!
//! Microsoft FAT specification 1.03, "FAT32 FSInfo Sector Structure and Backup Boot Sector".

use std::ops::Range;

use pinewrit_disk::bytes::{put16, put32, u16le, u32le};
use pinewrit_disk::{BlockDevice, DiskError};

use super::{EditError, Editor};
use crate::error::FatError;
use crate::folder::Folder;
use crate::geometry::{BOOT, FatWidth, Geometry, NO_NAME, field};
use crate::store::{Folders, REQUEST, Source, Store};

/// Offsets and marks of the counts' sector.
pub(crate) mod info {
    pub(crate) const LEAD_SIGNATURE: (usize, [u8; 4]) = (0, *b"RRaA");
    pub(crate) const SIGNATURE: (usize, [u8; 4]) = (484, *b"rrAa");
    pub(crate) const FREE: usize = 488;
    pub(crate) const NEXT: usize = 492;
    pub(crate) const TRAIL_SIGNATURE: (usize, [u8; 4]) = (508, [0, 0, 0x55, 0xaa]);
}

/// The sector with the counts of free clusters; `None` if there is none, or an invalid one.
pub(crate) fn read_info<D: BlockDevice>(store: &Store<D>) -> Result<Option<[u8; BOOT]>, DiskError> {
    let Some(at) = store.geometry.info else {
        return Ok(None);
    };
    let mut raw = [0; BOOT];
    store.device.read_at(at, &mut raw)?;
    let marks = [info::LEAD_SIGNATURE, info::SIGNATURE, info::TRAIL_SIGNATURE];
    let is_good = marks.iter().all(|(at, mark)| raw[*at..*at + 4] == *mark);
    Ok(is_good.then_some(raw))
}

/// Where free clusters may be looked for.
pub(super) fn hint<D: BlockDevice>(store: &Store<D>) -> Result<Option<u32>, FatError> {
    let raw = read_info(store)?;
    let next = raw.map(|raw| u32le(&raw, info::NEXT));
    Ok(next.filter(|next| store.geometry.has(*next)))
}

/// Puts the size and the root directory's cluster into a boot sector.
fn put_size(raw: &mut [u8; BOOT], geometry: &Geometry) {
    let sectors = geometry.size / geometry.sector;
    let small = u16::try_from(sectors).ok();
    let (small, large) = match small.filter(|_| u16le(raw, field::TOT_SEC_16) != 0) {
        Some(small) => (small, 0),
        None => (0, sectors as u32),
    };
    // Some have the same number in both places.
    if u32le(raw, field::TOT_SEC_32) != sectors as u32 {
        put16(raw, field::TOT_SEC_16, small);
        put32(raw, field::TOT_SEC_32, large);
    }
    if geometry.width == FatWidth::Fat32 {
        let reserved = u32le(raw, field::ROOT_CLUS) & 0xf000_0000;
        put32(raw, field::ROOT_CLUS, reserved | geometry.root_cluster);
    }
}

/// What is written to one place.
enum Piece<'f> {
    /// A part of a directory, assembled when it is written.
    Folder(&'f Folder, Range<usize>),
    Bytes(Vec<u8>),
}

impl Piece<'_> {
    fn add_to(&self, run: &mut Vec<u8>) {
        match self {
            Self::Folder(folder, part) => folder.add_to(part, run),
            Self::Bytes(bytes) => run.extend(bytes),
        }
    }
}

/// Pieces and their offsets; neighbours are written together.
#[derive(Default)]
struct Pieces<'f>(Vec<(u64, Piece<'f>)>);

impl Pieces<'_> {
    fn write(mut self, device: &dyn BlockDevice) -> Result<(), DiskError> {
        self.0.sort_by_key(|(at, _)| *at);
        let (mut start, mut run) = (0, Vec::new());
        for (at, piece) in &self.0 {
            let goes_on = start + run.len() as u64 == *at && run.len() < REQUEST;
            if !goes_on {
                if !run.is_empty() {
                    device.write_at(start, &run)?;
                }
                run.clear();
                start = *at;
            }
            piece.add_to(&mut run);
        }
        if run.is_empty() {
            Ok(())
        } else {
            device.write_at(start, &run)
        }
    }
}

impl<D: BlockDevice> Editor<D> {
    /// Writes all changes to the device and flushes it.
    ///
    /// # Errors
    /// [`EditError::Spoiled`], or the device failed.
    pub fn commit(&mut self) -> Result<(), EditError> {
        if self.is_spoiled {
            return Err(EditError::Spoiled);
        }
        if !self.has_changed {
            return Ok(());
        }
        self.store.write_content()?;
        self.gather_label()?;
        let folders = self.store.folders();
        let mut pieces = Pieces::default();
        self.gather_folders(&folders, &mut pieces);
        self.gather_tables(&mut pieces);
        self.gather_info(&mut pieces)?;
        self.gather_boot_sectors(&mut pieces)?;
        pieces.write(&self.store.device)?;
        drop(folders);
        self.store.device.flush()?;
        self.store.settle();
        self.has_changed = false;
        Ok(())
    }

    fn gather_folders<'f>(&self, folders: &'f Folders, pieces: &mut Pieces<'f>) {
        let geometry = &self.store.geometry;
        for folder in folders.values() {
            let Some(changed) = folder.changed_sectors(geometry.sector) else {
                continue;
            };
            if folder.chain.is_empty() {
                let at = geometry.root_directory.start + changed.start as u64;
                pieces.0.push((at, Piece::Folder(folder, changed)));
                continue;
            }
            // Cut at the end of each cluster: the next one may be elsewhere.
            let size = geometry.cluster as usize;
            let mut at = changed.start;
            while at < changed.end {
                let next = ((at / size + 1) * size).min(changed.end);
                if let Some(cluster) = folder.chain.get(at / size) {
                    let offset = geometry.place(*cluster).start + (at % size) as u64;
                    pieces.0.push((offset, Piece::Folder(folder, at..next)));
                }
                at = next;
            }
        }
    }

    fn gather_tables(&self, pieces: &mut Pieces<'_>) {
        let table = self.store.table.borrow();
        for (at, bytes) in table.changes(self.store.geometry.sector) {
            for start in self.store.geometry.written_tables() {
                pieces.0.push((start + at, Piece::Bytes(bytes.to_vec())));
            }
        }
    }

    fn gather_info(&self, pieces: &mut Pieces<'_>) -> Result<(), EditError> {
        let (Some(mut raw), Some(at)) = (read_info(&self.store)?, self.store.geometry.info) else {
            return Ok(());
        };
        let before = raw;
        put32(&mut raw, info::FREE, self.free.count as u32);
        let next = self.free.hint;
        let next = if self.store.geometry.has(next) {
            next
        } else {
            2
        };
        put32(&mut raw, info::NEXT, next);
        if raw != before {
            pieces.0.push((at, Piece::Bytes(raw.to_vec())));
        }
        Ok(())
    }

    /// The label of the boot sector becomes that of the root directory, which counts.
    fn gather_label(&mut self) -> Result<(), EditError> {
        let root = self.store.folder(self.store.geometry.root_cluster)?;
        self.store.geometry.label = root.label().unwrap_or(NO_NAME);
        Ok(())
    }

    /// Identifier and label, size and root.
    fn gather_boot_sectors(&self, pieces: &mut Pieces<'_>) -> Result<(), EditError> {
        let geometry = &self.store.geometry;
        for at in [Some(0), geometry.backup].into_iter().flatten() {
            let mut raw = [0; BOOT];
            self.store.device.read_at(at, &mut raw)?;
            if Geometry::from_boot_sector(&raw).is_none() {
                continue;
            }
            let before = raw;
            let tail = geometry.tail();
            put_size(&mut raw, geometry);
            let state = &mut raw[tail + field::RESERVED1];
            *state = *state & !3 | geometry.state & 3;
            if let Some(id) = self.id {
                put32(&mut raw, tail + field::VOL_ID, id);
            }
            if raw[tail + field::BOOT_SIG] == 0x29 {
                let at = tail + field::VOL_LAB;
                raw[at..at + geometry.label.len()].copy_from_slice(&geometry.label);
            }
            if raw == before {
                continue;
            }
            pieces.0.push((at, Piece::Bytes(raw.to_vec())));
        }
        Ok(())
    }
}
