//! Writing an image to a medium: clear, write, flush, verify, configure, and the first chunk last.
//!
//! Until the last step the medium has no partition table, so nothing half done looks done.

mod readback;

use std::time::{Duration, Instant};

use pinewrit_disk::{
    AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, CommitError, DiskError, OVERLAY_BLOCK, Overlay,
};
use pinewrit_image::{Checksum, ExpectedChecksum, ImageSource, StreamError, Subject};
use serde::Serialize;

use crate::configure::{self, ConfigureError, ConfigureReport};
use crate::pipeline::{Chunk, Interrupted, SourcePosition, StreamEnd, WantedSums, stream_chunks};
use crate::settings::CheckedSettings;
use crate::{Cancel, Observer, Progress, Stage};

/// Bytes at the medium's end that are cleared before writing. The backup of a GPT takes 33
/// sectors there, of up to 4096 bytes.
const TAIL: u64 = 1 << 20;

/// What to do besides writing.
#[derive(Clone, Copy, Debug)]
pub struct WriteOptions<'a> {
    /// Read everything back and compare. On by default.
    pub verify: bool,
    /// Checksum that the packed source or the image must have.
    pub checksum: Option<&'a ExpectedChecksum>,
    /// First-boot settings to put on the medium before it is finished.
    pub settings: Option<&'a CheckedSettings>,
}

impl Default for WriteOptions<'_> {
    fn default() -> Self {
        Self {
            verify: true,
            checksum: None,
            settings: None,
        }
    }
}

/// What was written.
#[derive(Clone, Debug, Serialize)]
pub struct WriteReport {
    /// Size of the unpacked image in bytes, all of which is on the medium.
    pub image_bytes: u64,
    /// Whether everything was read back and found equal.
    pub verified: bool,
    /// The checksum that was found right.
    pub checksum: Option<ChecksumReport>,
    /// Time until everything was flushed, in seconds.
    pub write_seconds: f64,
    /// Time for reading back, in seconds.
    pub verify_seconds: f64,
    /// What the settings changed.
    pub configured: Option<ConfigureReport>,
}

/// A checksum that matched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ChecksumReport {
    /// Kind and digest: `sha256:…`.
    pub digest: String,
    /// What it is of: `packed file` or `unpacked image`.
    pub of: &'static str,
}

/// Why a medium was not written. Unless it says otherwise, the medium has no partition table.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// The image is known to be larger than the medium. The medium is unchanged.
    #[error("the image has {image} bytes, the medium {medium}")]
    TooLarge {
        /// Size of the unpacked image in bytes.
        image: u64,
        /// Size of the medium in bytes.
        medium: u64,
    },
    /// The image, whose size was not known, goes on past the medium's end.
    #[error("the image goes on past the medium's end at {medium}")]
    PastEnd {
        /// Size of the medium in bytes.
        medium: u64,
    },
    /// The medium failed while its table was taken off: it may hold what it held before.
    #[error("the medium failed before it was cleared")]
    Clear(#[source] DiskError),
    /// The source is bad.
    #[error("the source is bad")]
    Source(#[source] StreamError),
    /// Neither the packed source nor the image has the checksum that it should.
    #[error("the checksum is not {expected}")]
    Checksum {
        /// As published.
        expected: Checksum,
        /// What was computed, and of what.
        found: Vec<(Subject, Checksum)>,
    },
    /// The medium failed.
    #[error("the medium failed")]
    Disk(#[from] DiskError),
    /// What was read back is not what was written.
    #[error("{chunks} chunks read back differently, the first at byte {offset}")]
    ReadBack {
        /// Offset of the first chunk that differs.
        offset: u64,
        /// How many chunks differ.
        chunks: u64,
    },
    /// The settings could not be put on the medium.
    #[error("the settings could not be put on the medium")]
    Configure(#[source] ConfigureError),
    /// Somebody asked to stop.
    #[error("stopped")]
    Cancelled,
}

impl From<CommitError> for WriteError {
    fn from(error: CommitError) -> Self {
        match error {
            CommitError::Disk { source, .. } => Self::Disk(source),
            CommitError::ReadBack { offset, .. } => Self::ReadBack { offset, chunks: 1 },
            other => Self::Configure(other.into()),
        }
    }
}

/// Writes `source` to `medium`.
///
/// # Errors
/// [`WriteError`]. After anything but [`WriteError::TooLarge`] and [`WriteError::Clear`] the medium
/// has no partition table.
pub fn write(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    options: &WriteOptions<'_>,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<WriteReport, WriteError> {
    let size = source.unpacked_size().exact();
    if let Some(image) = size.filter(|&image| image > medium.size()) {
        return Err(WriteError::TooLarge {
            image,
            medium: medium.size(),
        });
    }
    observer.stage(Stage::Clear, None);
    clear_tables(medium).map_err(WriteError::Clear)?;
    let done = fill(source, medium, options, observer, cancel);
    if let Err(WriteError::ReadBack { .. }) = &done {
        // A medium that is smaller than it says may have put anything at its start.
        let _ = clear_tables(medium);
    }
    done
}

/// Writes everything to a medium that has been cleared.
fn fill(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    options: &WriteOptions<'_>,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<WriteReport, WriteError> {
    let started = Instant::now();
    let written = write_chunks(source, medium, options, observer, cancel)?;
    observer.stage(Stage::Flush, None);
    medium.flush()?;
    let write_seconds = started.elapsed();

    let verifying = Instant::now();
    if options.verify {
        readback::verify(
            medium,
            &written.digests,
            written.image_bytes,
            observer,
            cancel,
        )?;
    }
    let mut verify_seconds = verifying.elapsed();

    let (configured, finishing) = finish(medium, &written, options, observer)?;
    verify_seconds += finishing;
    Ok(WriteReport {
        image_bytes: written.image_bytes,
        verified: options.verify,
        checksum: written.checksum,
        write_seconds: write_seconds.as_secs_f64(),
        verify_seconds: verify_seconds.as_secs_f64(),
        configured,
    })
}

/// Takes every trace of a partition table off the medium: the first chunk, and the end, where
/// the backup of a GPT would bring the old table back.
fn clear_tables(medium: &dyn BlockDevice) -> Result<(), DiskError> {
    let size = medium.size();
    let head = ByteRange {
        start: 0,
        end: size.min(CHUNK_SIZE as u64),
    };
    let tail = ByteRange {
        start: size.saturating_sub(TAIL),
        end: size,
    };
    medium.zero(head)?;
    medium.zero(tail)?;
    medium.flush()
}

/// The image as written, except for the first chunk, which is kept here.
struct Written {
    first: Vec<u8>,
    digests: Vec<blake3::Hash>,
    image_bytes: u64,
    checksum: Option<ChecksumReport>,
}

fn write_chunks(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    options: &WriteOptions<'_>,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<Written, WriteError> {
    let total = source.unpacked_size().exact();
    observer.stage(Stage::Write, total);
    let position = SourcePosition::default();
    let mut first = Vec::new();
    let mut digests = Vec::new();
    let sums = wanted_sums(source, options.checksum);
    let take = |chunk: &Chunk| {
        if chunk.index == 0 {
            first = chunk.bytes().to_vec();
        } else {
            write_chunk(medium, chunk)?;
        }
        digests.push(chunk.digest);
        observer.progress(Progress {
            done: chunk.offset() + chunk.bytes().len() as u64,
            total,
            source_done: position.get(),
            source_total: source.packed_size().unwrap_or(0),
        });
        Ok(())
    };
    let end = stream_chunks(source, sums, &position, cancel, take).map_err(|e| match e {
        Interrupted::Source(error) => WriteError::Source(error),
        Interrupted::Taker(error) => error,
        Interrupted::Cancelled => WriteError::Cancelled,
    })?;
    let checksum = match options.checksum {
        Some(expected) => Some(check_sum(expected, &end)?),
        None => None,
    };
    if end.unpacked > medium.size() {
        return Err(past_end(medium));
    }
    Ok(Written {
        first,
        digests,
        image_bytes: end.unpacked,
        checksum,
    })
}

fn write_chunk(medium: &dyn BlockDevice, chunk: &Chunk) -> Result<(), WriteError> {
    let left = medium.size().saturating_sub(chunk.offset());
    if chunk.bytes().len() as u64 > left {
        return Err(past_end(medium));
    }
    Ok(medium.write_at(chunk.offset(), chunk.bytes())?)
}

fn past_end(medium: &dyn BlockDevice) -> WriteError {
    WriteError::PastEnd {
        medium: medium.size(),
    }
}

/// What has to be summed up: what the checksum is said to be of, or both. Without a wrapping they
/// are the same.
fn wanted_sums(source: &ImageSource, expected: Option<&ExpectedChecksum>) -> WantedSums {
    let Some(expected) = expected else {
        return WantedSums::default();
    };
    let kind = Some(expected.checksum.kind);
    let is_packed = !source.layers().is_empty();
    let may_be = |subject| expected.subject.is_none_or(|known| known == subject);
    WantedSums {
        packed: kind.filter(|_| may_be(Subject::Packed)),
        member: kind.filter(|_| expected.subject == Some(Subject::Member)),
        image: kind.filter(|_| is_packed && may_be(Subject::Unpacked)),
    }
}

fn check_sum(expected: &ExpectedChecksum, end: &StreamEnd) -> Result<ChecksumReport, WriteError> {
    let checksum = &expected.checksum;
    let found = [
        (Subject::Packed, &end.packed_sum),
        (Subject::Member, &end.member_sum),
        (Subject::Unpacked, &end.image_sum),
    ];
    let matching = found.iter().find(|(_, sum)| sum.as_ref() == Some(checksum));
    match matching {
        Some((subject, _)) => Ok(ChecksumReport {
            digest: checksum.to_string(),
            of: subject.word(),
        }),
        None => Err(WriteError::Checksum {
            expected: checksum.clone(),
            found: found
                .into_iter()
                .filter_map(|(subject, sum)| Some((subject, sum.clone()?)))
                .collect(),
        }),
    }
}

/// Puts the settings on the medium and then the first chunk, both by an overlay: the changes
/// outside the first chunk are flushed and verified before it. Returns the time that took.
fn finish(
    medium: &dyn BlockDevice,
    written: &Written,
    options: &WriteOptions<'_>,
    observer: &dyn Observer,
) -> Result<(Option<ConfigureReport>, Duration), WriteError> {
    let started = Instant::now();
    let overlay = Overlay::new(medium);
    overlay.write_at(0, &written.first)?;
    let configured = match options.settings {
        Some(settings) => {
            observer.stage(Stage::Configure, None);
            let changes = configure::apply(&overlay, settings).map_err(WriteError::Configure)?;
            Some(changes.report)
        }
        None => None,
    };
    observer.stage(Stage::Finish, None);
    let first = ByteRange {
        start: 0,
        end: written.first.len() as u64,
    };
    // The table's own block comes after the rest of the first chunk, and nothing is smaller.
    let (table, rest) = (
        ByteRange {
            start: 0,
            end: first.end.min(OVERLAY_BLOCK as u64),
        },
        ByteRange {
            start: first.end.min(OVERLAY_BLOCK as u64),
            end: first.end,
        },
    );
    let committed = overlay
        .commit(&[rest, table], None)
        .map_err(WriteError::from);
    let checked = committed.and_then(|_| match options.verify {
        true => check_first(medium, &overlay, first),
        false => Ok(()),
    });
    if let Err(error) = checked {
        // Half a first chunk must not pass for a whole one.
        clear_tables(medium).map_err(WriteError::Clear)?;
        return Err(error);
    }
    Ok((configured, started.elapsed()))
}

/// Compares the whole first chunk past the cache: the overlay has only looked at what it wrote.
fn check_first(
    medium: &dyn BlockDevice,
    overlay: &dyn BlockDevice,
    first: ByteRange,
) -> Result<(), WriteError> {
    let mut expected = vec![0; first.len() as usize];
    overlay.read_at(0, &mut expected)?;
    let mut back = AlignedBuf::new(expected.len());
    medium.forget_cache(first);
    medium.read_at(0, &mut back)?;
    if back[..] != expected[..] {
        return Err(WriteError::ReadBack {
            offset: 0,
            chunks: 1,
        });
    }
    Ok(())
}
