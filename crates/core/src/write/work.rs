//! Writing and reading back one chunk, in pieces that can be interrupted.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, Ranges};

use super::past_end;
use super::report::{ChunkRecord, WriteError};
use crate::Cancel;
use crate::patience;
use crate::pipeline::Chunk;

/// Bytes of one request: large enough for full speed, small enough to stop soon.
pub(super) const REQUEST: usize = 1 << 20;

/// The outcome for a chunk.
#[derive(Debug, Default)]
pub(super) struct Done {
    pub(super) written: u64,
    /// Bytes that were already on the medium.
    pub(super) kept: u64,
    pub(super) repeated: u32,
}

/// What the workers of a medium share.
pub(super) struct Bench<'a> {
    pub(super) medium: &'a dyn BlockDevice,
    pub(super) only_changes: bool,
    pub(super) in_place: bool,
    pub(super) cancel: &'a Cancel,
    /// One of them failed.
    pub(super) stop: AtomicBool,
    /// The medium cannot zero cheaply.
    pub(super) no_cheap_zeros: AtomicBool,
    /// Used bytes done, request by request.
    pub(super) written: AtomicU64,
    /// Bytes read back, request by request.
    pub(super) checked: AtomicU64,
}

impl Bench<'_> {
    fn go_on(&self) -> Result<(), WriteError> {
        if self.cancel.is_cancelled() || self.stop.load(Ordering::Relaxed) {
            Err(WriteError::Cancelled)
        } else {
            Ok(())
        }
    }

    /// Writes the used ranges of a chunk.
    pub(super) fn write(&self, chunk: &Chunk, buffer: &mut AlignedBuf) -> Result<Done, WriteError> {
        let end = chunk.used.last().map_or(0, |range| range.end);
        if end > self.medium.size() {
            return Err(past_end(self.medium));
        }
        let mut done = Done::default();
        if self.in_place {
            let bytes: u64 = chunk.used.iter().map(|range| range.len()).sum();
            self.written.fetch_add(bytes, Ordering::Relaxed);
            return Ok(done);
        }
        if self.only_changes && self.holds(chunk, buffer)? {
            done.kept = chunk.used.iter().map(|range| range.len()).sum();
            self.written.fetch_add(done.kept, Ordering::Relaxed);
            return Ok(done);
        }
        let zeros = if self.no_cheap_zeros.load(Ordering::Relaxed) {
            &[][..]
        } else {
            &chunk.zeros[..]
        };
        for &zero in zeros {
            self.go_on()?;
            if !self.medium.zero_cheaply(zero)? {
                self.no_cheap_zeros.store(true, Ordering::Relaxed);
                break;
            }
        }
        let zeroed = if self.no_cheap_zeros.load(Ordering::Relaxed) {
            Ranges::default()
        } else {
            Ranges::joined(zeros.to_vec(), 0)
        };
        for &range in &chunk.used {
            done.written += range.len();
            let mut sent = 0;
            for part in zeroed.gaps(range) {
                sent += part.len();
                done.repeated += self.write_range(chunk, part)?;
            }
            self.written
                .fetch_add(range.len() - sent, Ordering::Relaxed);
        }
        Ok(done)
    }

    fn write_range(&self, chunk: &Chunk, range: ByteRange) -> Result<u32, WriteError> {
        let mut repeated = 0;
        for (place, piece) in (range.start..)
            .step_by(REQUEST)
            .zip(chunk.slice(range).chunks(REQUEST))
        {
            self.go_on()?;
            repeated += patience::write(self.medium, place, piece)?;
            self.written
                .fetch_add(piece.len() as u64, Ordering::Relaxed);
        }
        Ok(repeated)
    }

    /// Whether the medium already holds the used ranges of the chunk. What cannot be read is
    /// written.
    fn holds(&self, chunk: &Chunk, buffer: &mut AlignedBuf) -> Result<bool, WriteError> {
        for &range in &chunk.used {
            let expected = chunk.slice(range).chunks(REQUEST);
            for (place, piece) in (range.start..).step_by(REQUEST).zip(expected) {
                self.go_on()?;
                let found = &mut buffer[..piece.len()];
                if self.medium.read_at(place, found).is_err() || found != piece {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// The digest of the medium's content in these ranges, and how many requests were repeated.
    pub(super) fn digest(
        &self,
        used: &[ByteRange],
        buffer: &mut AlignedBuf,
    ) -> Result<(blake3::Hash, u32), WriteError> {
        let mut hasher = blake3::Hasher::new();
        let mut repeated = 0;
        for &range in used {
            let mut place = range.start;
            while place < range.end {
                self.go_on()?;
                let len = (range.end - place).min(REQUEST as u64) as usize;
                repeated += patience::read(self.medium, place, &mut buffer[..len])?;
                hasher.update(&buffer[..len]);
                self.checked.fetch_add(len as u64, Ordering::Relaxed);
                place += len as u64;
            }
        }
        Ok((hasher.finalize(), repeated))
    }

    /// Whether a chunk reads back as written.
    pub(super) fn read_back(
        &self,
        record: &ChunkRecord,
        buffer: &mut AlignedBuf,
    ) -> Result<(bool, u32), WriteError> {
        let (digest, repeated) = self.digest(&record.used, buffer)?;
        Ok((digest == record.digest, repeated))
    }
}
