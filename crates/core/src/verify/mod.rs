//! Comparing a medium with what should be on it: an image, or the records of an earlier write.
//!
//! Both go through the same workers, two at a time, past the system's cache. The expected content
//! comes in chunks: for an image byte by byte, for a record as a digest.

mod comparison;
mod workers;

use std::sync::Arc;

use pinewrit_disk::{BlockDevice, ByteRange, DiskError};
use pinewrit_image::{ImageSource, StreamError};
use pinewrit_volume::extents::MapTracker;

use crate::pipeline::{BUFFERS, Chunk, Interrupted, SourcePosition, WantedSums, stream_chunks};
use crate::write::ChunkRecord;
use crate::{Cancel, Observer, Progress, Stage};
pub(crate) use comparison::Found;
pub use comparison::{Comparison, Difference};
use workers::{Expected, with_workers};

/// Why a comparison could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VerifyError {
    /// The expected content is larger than the medium.
    #[error("the medium has only {medium} bytes")]
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
    /// It was cancelled.
    #[error("stopped")]
    Cancelled,
}

/// Compares the first bytes of `medium` with the image in `source`: the used ones, or with
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
    if total.is_some_and(|total| total > medium.size()) {
        return Err(too_large(medium));
    }
    begin(medium, observer, total);
    let tracker = if every_byte {
        MapTracker::every_byte()
    } else {
        // What is free may differ, however little it is: a saved image has zeros there.
        MapTracker::new(total, medium.logical_sector()).exact()
    };
    let position = SourcePosition::default();
    let progress = |done| Progress {
        done,
        total,
        source_done: position.get(),
        source_total: source.packed_size().unwrap_or(0),
        waiting_seconds: 0.0,
    };
    let observed = |done| observer.progress(progress(done));
    let mut compared = 0;
    let (end, differing) = with_workers(medium, cancel, &observed, |queue| {
        let take = |chunk: Chunk| {
            compared += chunk.used.iter().map(|range| range.len()).sum::<u64>();
            let chunk = Expected::Content(Arc::new(chunk));
            // If a worker has failed, nothing takes it any more.
            queue.send(chunk).map_err(drop)
        };
        stream_chunks(
            source,
            (WantedSums::default(), BUFFERS),
            tracker,
            &position,
            cancel,
            take,
        )
    })?;
    let end = end.map_err(|error| match error {
        Interrupted::Source(error) => VerifyError::Source(error),
        Interrupted::Taker(()) | Interrupted::Cancelled => VerifyError::Cancelled,
    })?;
    let mut comparison = Comparison::of(differing);
    comparison.compared = compared;
    comparison.free = end.unpacked.saturating_sub(comparison.compared);
    Ok(comparison)
}

/// Compares a medium with its record; returns the chunks that differ, in order.
///
/// # Errors
/// [`VerifyError`], except those about a source.
pub fn verify_records(
    medium: &dyn BlockDevice,
    records: Vec<ChunkRecord>,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<Vec<ChunkRecord>, VerifyError> {
    let ends = records.iter().filter_map(|record| record.used.last());
    if ends.map(|range| range.end).max().unwrap_or(0) > medium.size() {
        return Err(too_large(medium));
    }
    let total = records.iter().map(ChunkRecord::used_bytes).sum();
    begin(medium, observer, Some(total));
    let observed = |done| {
        observer.progress(Progress {
            done,
            total: Some(total),
            source_done: 0,
            source_total: 0,
            waiting_seconds: 0.0,
        });
    };
    let ((), differing) = with_workers(medium, cancel, &observed, |queue| {
        for record in records {
            if queue.send(Expected::Digest(record)).is_err() {
                break;
            }
        }
    })?;
    let mut records: Vec<ChunkRecord> =
        differing.into_iter().filter_map(|one| one.record).collect();
    records.sort_by_key(|record| record.index);
    Ok(records)
}

fn begin(medium: &dyn BlockDevice, observer: &dyn Observer, total: Option<u64>) {
    observer.stage(Stage::Compare, total);
    medium.forget_cache(ByteRange {
        start: 0,
        end: medium.size(),
    });
}

fn too_large(medium: &dyn BlockDevice) -> VerifyError {
    VerifyError::TooLarge {
        medium: medium.size(),
    }
}
