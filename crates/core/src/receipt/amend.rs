//! Changes to a medium with a receipt: they are recorded in it, as long as what they change still
//! matched the receipt.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard};

use pinewrit_disk::{BlockDevice, ByteRange, CHUNK_SIZE, DiskError, Ranges, SectorSize, Window};

use super::{Identifiers, Receipt, ReceiptChange, ReceiptError, digest_of, is_as_recorded};
use crate::state::{Found, StateFolder};
use crate::write::ChunkRecord;

const CHUNK: u64 = CHUNK_SIZE as u64;

/// The ranges written in a chunk, and whether it matched the receipt before.
#[derive(Default)]
struct Touch {
    written: Vec<ByteRange>,
    is_sound: bool,
}

/// A receipt of the medium, or of one of its partitions, and what is written in its range.
struct Book {
    path: PathBuf,
    receipt: Receipt,
    records: BTreeMap<u64, ChunkRecord>,
    /// The range on the medium that it covers.
    place: ByteRange,
    touched: BTreeMap<u64, Touch>,
}

impl Book {
    fn open(found: Found) -> Option<Self> {
        let records = found.receipt.records()?.into_iter();
        let medium = &found.receipt.medium;
        let start = medium.partition.map_or(0, |partition| partition.start);
        Some(Self {
            place: ByteRange::from_len(start, medium.size)?,
            records: records.map(|record| (record.index, record)).collect(),
            path: found.path,
            receipt: found.receipt,
            touched: BTreeMap::new(),
        })
    }

    /// Records what is about to be written.
    fn about_to_write(&mut self, device: &dyn BlockDevice, range: ByteRange) {
        let Some(range) = range.intersection(self.place) else {
            return;
        };
        let start = self.place.start;
        let own = ByteRange {
            start: range.start - start,
            end: range.end - start,
        };
        for index in own.start / CHUNK..own.end.div_ceil(CHUNK) {
            let record = self.records.get(&index);
            let touch = self.touched.entry(index).or_insert_with(|| Touch {
                written: Vec::new(),
                is_sound: record.is_none_or(|record| is_as_recorded(device, start, record)),
            });
            let chunk = ByteRange {
                start: index * CHUNK,
                end: (index + 1) * CHUNK,
            };
            touch.written.extend(own.intersection(chunk));
            if touch.written.len() > 64 {
                let all = std::mem::take(&mut touch.written);
                touch.written = Ranges::joined(all, 0).into_vec();
            }
        }
    }

    /// Updates the receipt with what the medium holds now. `false`: nothing was written in its
    /// range, or nothing there matched it, so it describes something else.
    fn amend(
        &mut self,
        device: &dyn BlockDevice,
        change: &ReceiptChange,
    ) -> Result<bool, DiskError> {
        let touched = std::mem::take(&mut self.touched);
        let known = || {
            touched
                .iter()
                .filter(|(index, _)| self.records.contains_key(index))
        };
        let is_about_it = match known().count() {
            0 => !touched.is_empty(),
            _ => known().any(|(_, touch)| touch.is_sound),
        };
        if !is_about_it {
            return Ok(false);
        }
        for (index, touch) in touched.into_iter().filter(|(_, touch)| touch.is_sound) {
            let mut used = touch.written;
            if let Some(record) = self.records.get(&index) {
                used.extend(&record.used);
            }
            let used = Ranges::joined(used, 0).into_vec();
            let digest = digest_of(device, self.place.start, &used)?;
            let record = ChunkRecord {
                index,
                used,
                digest,
            };
            self.records.insert(index, record);
        }
        self.receipt.identifiers = Identifiers::of(&Window::new(device, self.place));
        if let Some(settings) = &change.settings {
            self.receipt.settings = Some((**settings).clone());
        }
        self.receipt.changes.push(change.clone());
        self.receipt.set_chunks(self.records.values());
        Ok(true)
    }
}

/// Receipts of a medium and of its partitions, and what is written in their ranges.
#[derive(Default)]
pub struct Books(Vec<Book>);

impl Books {
    /// Opens the receipts found for a medium.
    pub fn open(found: Vec<Found>) -> Self {
        Self(found.into_iter().filter_map(Book::open).collect())
    }

    /// Records what is about to be written, or has been, given the medium as it was `before`.
    pub fn note(&mut self, before: &dyn BlockDevice, range: ByteRange) {
        for book in &mut self.0 {
            book.about_to_write(before, range);
        }
    }

    /// Amends the receipts by a change that is now on the medium; returns them, each with its digest
    /// of before.
    ///
    /// # Errors
    /// The medium could not be read, or a receipt could not be written. The change is on the medium
    /// nevertheless.
    pub fn amend(
        &mut self,
        device: &dyn BlockDevice,
        state: &StateFolder,
        change: &ReceiptChange,
    ) -> Result<Vec<(String, Receipt)>, ReceiptError> {
        let mut amended = Vec::new();
        for book in &mut self.0 {
            let is_amended = book.amend(device, change);
            if is_amended.map_err(|e| ReceiptError::Medium(e.to_string()))? {
                book.path = state.replace_receipt(&book.path, &book.receipt)?;
                let before = book.receipt.digest.clone();
                book.receipt.seal()?;
                amended.push((before, book.receipt.clone()));
            }
        }
        Ok(amended)
    }
}

/// A medium with receipts: writes to it are recorded, for [`AmendedMedium::amend`].
pub struct AmendedMedium {
    inner: Box<dyn BlockDevice>,
    books: Mutex<Books>,
}

impl AmendedMedium {
    /// A medium and its receipts.
    pub fn new(inner: Box<dyn BlockDevice>, books: Books) -> Self {
        Self {
            inner,
            books: Mutex::new(books),
        }
    }

    fn books(&self) -> MutexGuard<'_, Books> {
        self.books.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn about_to_write(&self, start: u64, len: u64) {
        if let Some(range) = ByteRange::from_len(start, len) {
            self.books().note(&*self.inner, range);
        }
    }

    /// Amends the receipts by what has been written since the medium was opened, or since the last
    /// call.
    ///
    /// # Errors
    /// As [`Books::amend`].
    pub fn amend(
        &self,
        state: &StateFolder,
        change: &ReceiptChange,
    ) -> Result<Vec<(String, Receipt)>, ReceiptError> {
        self.books().amend(&*self.inner, state, change)
    }
}

impl BlockDevice for AmendedMedium {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.inner.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.about_to_write(offset, data.len() as u64);
        self.inner.write_at(offset, data)
    }

    fn zero_cheaply(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.about_to_write(range.start, range.len());
        self.inner.zero_cheaply(range)
    }

    fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.about_to_write(range.start, range.len());
        self.inner.discard(range)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.inner.flush()
    }

    fn forget_cache(&self, range: ByteRange) {
        self.inner.forget_cache(range);
    }
}

impl Receipt {
    /// The receipt of a whole medium without one partition, which is about to be rewritten and gets
    /// its own receipt. The rest of a chunk must still match the receipt; if not, the chunk's
    /// record stays unchanged, and will differ.
    ///
    /// # Errors
    /// The medium could not be read.
    pub fn without(&self, device: &dyn BlockDevice, range: ByteRange) -> Result<Self, DiskError> {
        let mut kept = Vec::new();
        for record in self.records().unwrap_or_default() {
            let outside = outside(&record.used, range);
            if outside == record.used {
                kept.push(record);
            } else if outside.is_empty() {
                // The other receipt covers all of it.
            } else if is_as_recorded(device, 0, &record) {
                let digest = digest_of(device, 0, &outside)?;
                kept.push(ChunkRecord {
                    index: record.index,
                    used: outside,
                    digest,
                });
            } else {
                kept.push(record);
            }
        }
        let mut receipt = self.clone();
        receipt.set_chunks(kept.iter());
        Ok(receipt)
    }
}

/// The parts of ranges that lie outside another one.
fn outside(ranges: &[ByteRange], cut: ByteRange) -> Vec<ByteRange> {
    let parts = ranges.iter().flat_map(|range| {
        [
            ByteRange::new(range.start, range.end.min(cut.start)),
            ByteRange::new(range.start.max(cut.end), range.end),
        ]
    });
    parts.flatten().filter(|part| !part.is_empty()).collect()
}
