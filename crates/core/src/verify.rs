//! Comparing a medium with an image, byte by byte.

use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, DiskError};
use pinewrit_image::{ImageSource, StreamError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::pipeline::{Chunk, Interrupted, SourcePosition, WantedSums, stream_chunks};
use crate::{Cancel, Observer, Progress, Stage};
use pinewrit_volume::extents::MapTracker;

/// What a comparison came to.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Comparison {
    /// Bytes of the image that were compared: all that are in use.
    pub compared: u64,
    /// Bytes that no file system uses, and that were not compared.
    pub free: u64,
    /// Chunks in which something differs.
    pub differing_chunks: u64,
    /// Bytes that differ.
    pub differing_bytes: u64,
    /// Runs of differing chunks: from the first to the last differing byte of each.
    pub differences: Vec<Difference>,
    /// Where something differs, in pieces of 512 bytes; if there are too many, whole runs.
    #[serde(skip)]
    pub spots: Vec<ByteRange>,
}

/// A run of neighbouring chunks that differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// First differing byte.
    pub start: u64,
    /// One past the last differing byte.
    pub end: u64,
    /// How many chunks it touches.
    pub chunks: u64,
}

/// Runs of differences that are kept; more are only counted.
const MAX_DIFFERENCES: usize = 1000;
/// Pieces that are kept.
const MAX_SPOTS: usize = 500_000;
/// Bytes of a piece: what belongs to two files is never in one.
const PIECE: usize = 512;

impl Comparison {
    /// Whether the medium holds exactly the image.
    pub fn is_equal(&self) -> bool {
        self.differing_chunks == 0
    }

    fn add(&mut self, chunk: u64, start: u64, end: u64, found: &Found) {
        self.differing_chunks += 1;
        self.differing_bytes += found.bytes;
        if self.spots.len() + found.spots.len() > MAX_SPOTS {
            self.spots.push(ByteRange { start, end })
        } else {
            self.spots.extend(&found.spots)
        }
        if let Some(last) = self.differences.last_mut()
            && last.end.div_ceil(CHUNK_SIZE as u64) == chunk
        {
            last.end = end;
            last.chunks += 1;
        } else if self.differences.len() < MAX_DIFFERENCES {
            self.differences.push(Difference {
                start,
                end,
                chunks: 1,
            });
        }
    }
}

/// Why a comparison could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VerifyError {
    /// The image is larger than the medium, so it cannot be on it.
    #[error("the image is larger than the medium with its {medium} bytes")]
    TooLarge {
        /// Size of the medium in bytes.
        medium: u64,
    },
    /// The source is bad.
    #[error("the source is bad")]
    Source(#[source] StreamError),
    /// The medium could not be read.
    #[error("the medium could not be read")]
    Disk(#[from] DiskError),
    /// Somebody asked to stop.
    #[error("stopped")]
    Cancelled,
}

/// Compares the first bytes of `medium` with the image in `source`: those that are in use, or with
/// `every_byte` all of them.
///
/// # Errors
/// [`VerifyError`]. Differences are no error; they are in the [`Comparison`].
pub fn verify(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    every_byte: bool,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<Comparison, VerifyError> {
    let total = source.unpacked_size().exact();
    let too_large = || VerifyError::TooLarge {
        medium: medium.size(),
    };
    if total.is_some_and(|total| total > medium.size()) {
        return Err(too_large());
    }
    observer.stage(Stage::Compare, total);
    medium.forget_cache(ByteRange {
        start: 0,
        end: medium.size(),
    });
    let mut comparison = Comparison::default();
    let mut back = AlignedBuf::new(CHUNK_SIZE);
    let position = SourcePosition::default();
    let take = |chunk: Chunk| {
        let mut found = Found::default();
        for &range in &chunk.used {
            let back = &mut back[..range.len() as usize];
            medium
                .read_at(range.start, back)
                .map_err(|error| match error {
                    DiskError::PastEnd { .. } => too_large(),
                    error => error.into(),
                })?;
            found.add(range.start, chunk.slice(range), back);
            comparison.compared += range.len();
        }
        if let Some((start, end)) = found.span {
            comparison.add(chunk.index, start, end, &found);
        }
        let done = chunk.offset() + chunk.bytes().len() as u64;
        observer.progress(Progress {
            done,
            total,
            source_done: position.get(),
            source_total: source.packed_size().unwrap_or(0),
            waiting_seconds: 0.0,
        });
        Ok(())
    };
    let tracker = if every_byte {
        MapTracker::every_byte()
    } else {
        MapTracker::new(total, medium.logical_sector())
    };
    let sums = WantedSums::default();
    let end = stream_chunks(source, sums, tracker, &position, cancel, take);
    let end = end.map_err(|e| match e {
        Interrupted::Source(error) => VerifyError::Source(error),
        Interrupted::Taker(error) => error,
        Interrupted::Cancelled => VerifyError::Cancelled,
    })?;
    comparison.free = end.unpacked.saturating_sub(comparison.compared);
    Ok(comparison)
}

/// Differing bytes of a chunk.
#[derive(Default)]
pub(crate) struct Found {
    /// From the first to behind the last of them.
    pub(crate) span: Option<(u64, u64)>,
    pub(crate) bytes: u64,
    /// The pieces that differ, in order.
    spots: Vec<ByteRange>,
}

impl Found {
    /// Compares what should be at `offset` with what is there.
    pub(crate) fn add(&mut self, offset: u64, expected: &[u8], found: &[u8]) {
        if expected == found {
            return;
        }
        let differs = |(a, b): (&u8, &u8)| a != b;
        let mut pairs = expected.iter().zip(found);
        let first = offset + pairs.clone().position(differs).unwrap_or(0) as u64;
        let last = offset + pairs.clone().rposition(differs).unwrap_or(0) as u64;
        self.bytes += pairs.by_ref().filter(|(a, b)| a != b).count() as u64;
        let pieces = expected.chunks(PIECE).zip(found.chunks(PIECE));
        for (index, (expected, found)) in pieces.enumerate() {
            let start = offset + (index * PIECE) as u64;
            let end = start + expected.len() as u64;
            match self.spots.last_mut() {
                _ if expected == found => {}
                Some(last) if last.end == start => last.end = end,
                _ => self.spots.push(ByteRange { start, end }),
            }
        }
        self.span = Some((self.span.map_or(first, |(start, _)| start), last + 1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn neighbouring_chunks_make_one_difference() {
        let chunk = CHUNK_SIZE as u64;
        let mut comparison = Comparison::default();
        let found = |bytes| Found {
            bytes,
            ..Found::default()
        };
        comparison.add(3, 3 * chunk + 5, 4 * chunk, &found(10));
        comparison.add(4, 4 * chunk, 4 * chunk + 1, &found(1));
        comparison.add(6, 6 * chunk + 1, 6 * chunk + 2, &found(1));
        let runs: Vec<_> = comparison.differences.iter().map(|d| d.chunks).collect();
        assert_eq!(runs, [2, 1]);
        assert_eq!(comparison.differing_bytes, 12);
        assert!(!comparison.is_equal());
    }
}
