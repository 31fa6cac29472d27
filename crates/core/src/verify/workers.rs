//! The workers of a comparison: each reads the used ranges of a chunk, and compares them.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread;

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, DiskError, Ranges};

use super::comparison::Found;
use super::{VerifyError, too_large};
use crate::pipeline::{Chunk, spawn};
use crate::write::ChunkRecord;
use crate::{Cancel, patience};

/// Requests in flight.
const WORKERS: usize = 2;
/// Chunks in the queue for a worker.
const QUEUE: usize = 4;
/// Shorter gaps between used ranges are read as well.
const SMALL_GAP: u64 = 64 << 10;
/// Bytes of one request.
const REQUEST: usize = 1 << 20;

/// What a chunk should hold.
pub(super) enum Expected {
    /// These bytes.
    Content(Arc<Chunk>),
    /// Bytes with the recorded digest.
    Digest(ChunkRecord),
}

impl Expected {
    /// What is read: as the record has it, or with gaps that are not worth a request of their own.
    fn wanted(&self) -> Ranges {
        match self {
            Self::Content(chunk) => Ranges::joined(chunk.used.clone(), SMALL_GAP),
            Self::Digest(record) => Ranges::joined(record.used.clone(), 0),
        }
    }
}

/// A chunk with different content.
pub(super) struct Differing {
    pub(super) index: u64,
    /// Where it differs, if known.
    pub(super) found: Found,
    /// The record, for those that came with a digest.
    pub(super) record: Option<ChunkRecord>,
}

struct Bench<'a> {
    medium: &'a dyn BlockDevice,
    cancel: &'a Cancel,
    has_failed: AtomicBool,
    done: AtomicU64,
    observed: &'a (dyn Fn(u64) + Sync),
}

/// Lets workers compare what `feed` puts into the queue; returns its result, and the chunks that
/// differ, in any order. `observed` is told the bytes compared.
pub(super) fn with_workers<T>(
    medium: &dyn BlockDevice,
    cancel: &Cancel,
    observed: &(dyn Fn(u64) + Sync),
    feed: impl FnOnce(Sender<Expected>) -> T,
) -> Result<(T, Vec<Differing>), VerifyError> {
    let bench = &Bench {
        medium,
        cancel,
        has_failed: AtomicBool::new(false),
        done: AtomicU64::new(0),
        observed,
    };
    let (queue, work) = bounded(QUEUE);
    let (told, results) = unbounded();
    let fed = thread::scope(|scope| {
        for _ in 0..WORKERS {
            let (work, told) = (work.clone(), told.clone());
            spawn(scope, "compare", move || bench.run(&work, &told));
        }
        drop((work, told));
        feed(queue)
    });
    let differing: Result<Vec<Differing>, VerifyError> = results.into_iter().collect();
    Ok((fed, differing?))
}

impl Bench<'_> {
    fn run(&self, work: &Receiver<Expected>, told: &Sender<Result<Differing, VerifyError>>) {
        let mut buffer = AlignedBuf::new(REQUEST);
        for expected in work {
            if self.has_failed.load(Ordering::Relaxed) {
                return;
            }
            let result = match self.compare(expected, &mut buffer) {
                Ok(None) => continue,
                Ok(Some(differing)) => Ok(differing),
                Err(error) => {
                    self.has_failed.store(true, Ordering::Relaxed);
                    Err(error)
                }
            };
            let is_end = result.is_err();
            if told.send(result).is_err() || is_end {
                return;
            }
        }
    }

    fn compare(
        &self,
        expected: Expected,
        buffer: &mut AlignedBuf,
    ) -> Result<Option<Differing>, VerifyError> {
        let mut found = Found::default();
        let mut hasher = blake3::Hasher::new();
        for range in expected.wanted().into_vec() {
            let mut at = range.start;
            while at < range.end {
                let piece = ByteRange {
                    start: at,
                    end: range.end.min(at + REQUEST as u64),
                };
                let bytes = self.read(piece, buffer)?;
                match &expected {
                    Expected::Content(chunk) => {
                        for part in chunk
                            .used
                            .iter()
                            .filter_map(|used| used.intersection(piece))
                        {
                            let here = (part.start - at) as usize..(part.end - at) as usize;
                            found.add(part.start, chunk.slice(part), &bytes[here]);
                        }
                    }
                    Expected::Digest(_) => drop(hasher.update(bytes)),
                }
                at = piece.end;
            }
        }
        (self.observed)(self.done_with(&expected));
        Ok(match expected {
            Expected::Content(chunk) => found.span.is_some().then_some(Differing {
                index: chunk.index,
                found,
                record: None,
            }),
            Expected::Digest(record) => (hasher.finalize() != record.digest).then_some(Differing {
                index: record.index,
                found,
                record: Some(record),
            }),
        })
    }

    /// Bytes done: for an image everything up to here, for records the used bytes.
    fn done_with(&self, expected: &Expected) -> u64 {
        match expected {
            Expected::Content(chunk) => {
                let end = chunk.offset() + chunk.bytes().len() as u64;
                self.done.fetch_max(end, Ordering::Relaxed).max(end)
            }
            Expected::Digest(record) => {
                let bytes = record.used_bytes();
                self.done.fetch_add(bytes, Ordering::Relaxed) + bytes
            }
        }
    }

    fn read<'b>(
        &self,
        piece: ByteRange,
        buffer: &'b mut AlignedBuf,
    ) -> Result<&'b [u8], VerifyError> {
        if self.cancel.is_cancelled() {
            return Err(VerifyError::Cancelled);
        }
        let bytes = &mut buffer[..piece.len() as usize];
        match patience::read(self.medium, piece.start, bytes) {
            Err(DiskError::PastEnd { .. }) => return Err(too_large(self.medium)),
            read => drop(read?),
        }
        Ok(bytes)
    }
}
