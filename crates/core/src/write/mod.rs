//! Writing an image to media: clear, write, flush, verify, configure, and the first chunk last.
//!
//! Until the last step a medium has no partition table, so nothing half done looks done. One
//! decoding feeds all media; each has its own workers, pace, verification and failure.

mod finish;
mod job;
mod lane;
mod locate;
mod plan;
mod read_back;
mod receipts;
mod report;
mod request;
mod resume;
mod state;
mod unpack;
mod work;

use std::io::Read;
use std::sync::Arc;
use std::thread;
use std::time::Instant;

use crossbeam_channel::{Sender, bounded};
use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_firstboot::as_new::AsNew;
use pinewrit_image::{
    Checksum, ChecksumKind, ExpectedChecksum, ImageSource, StreamError, StreamFault, Subject,
};
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::Timestamp;
use pinewrit_volume::expect::expectation;
use pinewrit_volume::extents::MapTracker;

use crate::pipeline::{
    BUFFERS, Chunk, Interrupted, SourcePosition, StreamEnd, WantedSums, spawn, stream_chunks,
};
use crate::{Cancel, Observer};
pub use job::{
    Failure, JobError, Start, Surroundings, Written, WrittenMedium, WrittenMediumName, carry_out,
};
use lane::{Lane, LaneFailure, StreamOutcome};
pub use locate::{owners, whereabouts};
pub use plan::{ImageDoubt, PREVIEW, PlanError, WritePlan, try_settings, view};
pub use read_back::ReadBack;
pub use receipts::{Kept, NotKept};
pub use report::{
    ChecksumReport, ChunkRecord, Owned, OwnerKind, Pace, PacePoint, Stability, Whereabouts,
    WriteError, WriteReport,
};
pub(crate) use request::rfc3339;
pub use request::{Clock, Destination, Randomness, WriteRequest};
pub use resume::can_resume;
pub use unpack::{UnpackError, unpack};

/// What to do with all media.
#[derive(Clone, Copy, Debug)]
pub struct WriteOptions<'a> {
    /// Read everything back and compare. On by default.
    pub verify: bool,
    /// Checksum that the packed source or the image must have.
    pub checksum: Option<&'a ExpectedChecksum>,
    /// The checksum has already been verified, and is not computed again.
    pub checked: Option<&'a ChecksumReport>,
    /// Write free space of file systems as well.
    pub every_byte: bool,
    /// First tell the media that nothing on them is needed any more.
    pub clear_free: bool,
    /// Read and compare first, and write only the chunks that differ.
    pub only_changes: bool,
    /// The medium is what the image is read from, and holds it already: nothing is written before
    /// the first chunk, and everything is flushed and read back.
    pub in_place: bool,
    /// Free bytes in the image, as far as known beforehand; for the time left.
    pub expected_free: u64,
    /// How many writes of this program share its memory.
    pub at_once: usize,
    /// Write an image even if its table says that it should be longer.
    pub as_it_is: bool,
}

impl Default for WriteOptions<'_> {
    fn default() -> Self {
        Self {
            verify: true,
            checksum: None,
            checked: None,
            every_byte: false,
            clear_free: false,
            only_changes: false,
            in_place: false,
            expected_free: 0,
            at_once: 1,
            as_it_is: false,
        }
    }
}

/// A medium and what to put on it.
pub struct WriteOrder<'a> {
    /// The medium.
    pub medium: &'a dyn BlockDevice,
    /// Without what makes its system one unit.
    pub as_new: Option<&'a AsNew>,
    /// With identifiers of its own, from these random bytes.
    pub new_ids: Option<Randomness>,
    /// First-boot settings to put on it before it is finished.
    pub settings: Option<&'a CheckedSettings>,
    /// Settings that leave no login are an error.
    pub needs_way_in: bool,
    /// Grow the last partition to the end of the medium, or the file system to the end of the
    /// partition.
    pub grow: bool,
    /// Only one partition of a medium is written, through a window.
    pub is_partition: bool,
    /// When it is read back.
    pub read_back: ReadBack,
    /// The time that changes of file systems get.
    pub now: Timestamp,
    /// Receives its stages and progress.
    pub observer: &'a dyn Observer,
}

impl<'a> WriteOrder<'a> {
    /// A medium that gets the image unchanged.
    pub fn plain(medium: &'a dyn BlockDevice, observer: &'a dyn Observer) -> Self {
        Self {
            medium,
            as_new: None,
            new_ids: None,
            settings: None,
            needs_way_in: false,
            grow: false,
            is_partition: false,
            read_back: ReadBack::After,
            now: Timestamp::default(),
            observer,
        }
    }

    /// Whether the medium gets more than the image.
    fn changes_content(&self) -> bool {
        let is_set_up = self.as_new.is_some() || self.settings.is_some();
        is_set_up || self.new_ids.is_some() || self.grow
    }
}

/// Writes `source` to one medium.
///
/// # Errors
/// As [`write_all`].
pub fn write(
    source: &ImageSource,
    target: &WriteOrder<'_>,
    options: &WriteOptions<'_>,
    cancel: &Cancel,
) -> Result<WriteReport, WriteError> {
    let mut reports = write_all(source, std::slice::from_ref(target), options, cancel)?;
    reports.pop().unwrap_or(Err(WriteError::Cancelled))
}

/// Writes `source` to all media at once; returns the outcome of each, in order.
///
/// # Errors
/// [`WriteError`] if the source failed, its checksum is wrong, or the job was cancelled: then no
/// medium is finished. A failure of one medium is that medium's own result. After anything but
/// [`WriteError::TooLarge`] and [`WriteError::Clear`], an unfinished medium has no partition table.
pub fn write_all(
    source: &ImageSource,
    targets: &[WriteOrder<'_>],
    options: &WriteOptions<'_>,
    cancel: &Cancel,
) -> Result<Vec<Result<WriteReport, WriteError>>, WriteError> {
    let position = SourcePosition::default();
    let started = Instant::now();
    let (streamed, lanes) = thread::scope(|scope| {
        let mut feeds = Vec::new();
        let mut handles = Vec::new();
        for target in targets {
            let (feed, chunks) = bounded::<Arc<Chunk>>(queue_for(options.at_once));
            let (ending, outcome) = bounded::<StreamOutcome>(1);
            let lane = Lane {
                target,
                options,
                image: source.unpacked_size().exact(),
                source_size: source.packed_size().unwrap_or(0),
                position: &position,
                cancel,
                started,
            };
            handles.push(spawn(scope, "medium", move || lane.run(chunks, &outcome)));
            feeds.push((Some(feed), ending));
        }
        let streamed = stream_to(source, options, &position, targets, &mut feeds, cancel);
        for (feed, ending) in feeds {
            drop(feed);
            let outcome = match &streamed {
                Ok((end, checksum)) => StreamOutcome::Ended {
                    image_bytes: end.unpacked,
                    checksum: checksum.clone(),
                    regions: end.regions.clone(),
                },
                Err(_) => StreamOutcome::Broken,
            };
            // A failed medium no longer listens.
            let _ = ending.send(outcome);
        }
        let joined = handles.into_iter().map(|handle| {
            let panicked = |panic| std::panic::resume_unwind(panic);
            handle.join().unwrap_or_else(panicked)
        });
        (streamed, joined.collect::<Vec<_>>())
    });
    match streamed {
        // All media had already failed on their own.
        Err(Interrupted::Taker(None)) | Ok(_) => {}
        Err(Interrupted::Taker(Some(error))) => return Err(*error),
        Err(Interrupted::Source(error)) => return Err(WriteError::Source(error)),
        Err(Interrupted::Cancelled) => {
            return Err(own_failure(lanes).unwrap_or(WriteError::Cancelled));
        }
    }
    let explained = targets.iter().zip(lanes).map(|(target, done)| {
        done.map_err(|failure| explain(source, target.medium, *failure, cancel))
    });
    Ok(explained.collect())
}

/// A failure of one medium although all were told to stop: it says more.
fn own_failure(lanes: Vec<Result<WriteReport, Box<LaneFailure>>>) -> Option<WriteError> {
    let failures = lanes
        .into_iter()
        .filter_map(|lane| lane.err().map(|failure| failure.error));
    failures
        .into_iter()
        .find(|error| !matches!(error, WriteError::Cancelled))
}

/// Why the stream was abandoned: an error, or `None` if no medium takes it any more.
type Refusal = Option<Box<WriteError>>;
type Feed = (Option<Sender<Arc<Chunk>>>, Sender<StreamOutcome>);

/// Streams the source to all media that still take it.
fn stream_to(
    source: &ImageSource,
    options: &WriteOptions<'_>,
    position: &SourcePosition,
    targets: &[WriteOrder<'_>],
    feeds: &mut [Feed],
    cancel: &Cancel,
) -> Result<(StreamEnd, Option<ChecksumReport>), Interrupted<Refusal>> {
    let sector = targets.first().map(|target| target.medium.logical_sector());
    let tracker = match sector.filter(|_| !options.every_byte) {
        Some(sector) => MapTracker::new(source.unpacked_size().exact(), sector),
        None => MapTracker::every_byte(),
    };
    let wanted = options.checksum.filter(|_| options.checked.is_none());
    let sums = wanted_sums(source, wanted);
    let mut reach = 0;
    let take = |chunk: Chunk| {
        let chunk = Arc::new(chunk);
        if chunk.index == 0 && !options.as_it_is {
            let start = MemoryDevice::from_bytes(chunk.bytes().to_vec());
            reach = expectation(&start).map_or(0, |found| found.reach);
        }
        for (feed, _) in feeds.iter_mut() {
            if feed
                .as_ref()
                .is_some_and(|feed| feed.send(Arc::clone(&chunk)).is_err())
            {
                *feed = None;
            }
        }
        if feeds.iter().any(|(feed, _)| feed.is_some()) {
            Ok(())
        } else {
            Err(None)
        }
    };
    let end = stream_chunks(
        source,
        (sums, buffers_for(options.at_once)),
        tracker,
        position,
        cancel,
        take,
    )?;
    if end.unpacked < reach {
        let missing = StreamFault::Short {
            wanted: reach,
            found: end.unpacked,
        };
        return Err(Interrupted::Source(StreamError {
            layer: None,
            fault: missing,
            packed: position.get(),
            unpacked: end.unpacked,
        }));
    }
    let checksum = wanted.map(|expected| check_sum(expected, &end));
    let checksum = checksum.transpose();
    let checksum = checksum.map_err(|e| Interrupted::Taker(Some(Box::new(e))))?;
    Ok((end, checksum.or_else(|| options.checked.cloned())))
}

/// Buffers of one of several writes: all of them have twice as many as one alone.
fn buffers_for(at_once: usize) -> usize {
    (2 * BUFFERS / at_once.max(1)).clamp(4, BUFFERS)
}

/// Chunks that wait for a medium. They must be fewer than the buffers: what waits for a medium that
/// has failed is only given back when the next chunk comes.
fn queue_for(at_once: usize) -> usize {
    buffers_for(at_once) * 2 / 3
}

/// Hashes a local source before anything is written. `Ok(None)`: this decides nothing, because the
/// source is remote, or the checksum is not that of the packed file.
///
/// # Errors
/// [`WriteError::Checksum`] if it differs; [`WriteError::Source`] or [`WriteError::Cancelled`].
pub fn sum_before(
    source: &ImageSource,
    expected: &ExpectedChecksum,
    cancel: &Cancel,
) -> Result<Option<ChecksumReport>, WriteError> {
    let is_meant = expected
        .subject
        .is_none_or(|known| known == Subject::Packed);
    if source.fetch_stats().is_some() || !is_meant {
        return Ok(None);
    }
    let report = |sum: &Checksum, subject: Subject| ChecksumReport {
        digest: sum.to_string(),
        of: subject.word(),
    };
    let kind = expected.checksum.kind;
    let packed = sum_stream(&mut source.packed_reader(), kind, cancel)?;
    if packed == expected.checksum {
        return Ok(Some(report(&packed, Subject::Packed)));
    }
    let mut found = vec![(Subject::Packed, packed)];
    if expected.subject.is_none() && !source.layers().is_empty() {
        // It may be that of the unpacked image.
        let mut stream = source.stream().map_err(in_source)?;
        let image = sum_stream(&mut stream, kind, cancel)?;
        if image == expected.checksum {
            return Ok(Some(report(&image, Subject::Unpacked)));
        }
        found.push((Subject::Unpacked, image));
    }
    Err(WriteError::Checksum {
        expected: expected.checksum.clone(),
        found,
    })
}

fn in_source(error: std::io::Error) -> WriteError {
    WriteError::Source(StreamError::from_io(error))
}

fn sum_stream(
    stream: &mut dyn Read,
    kind: ChecksumKind,
    cancel: &Cancel,
) -> Result<Checksum, WriteError> {
    let mut hasher = kind.hasher();
    let mut buffer = vec![0; 1 << 20];
    loop {
        if cancel.is_cancelled() {
            return Err(WriteError::Cancelled);
        }
        match stream.read(&mut buffer).map_err(in_source)? {
            0 => return Ok(hasher.finish()),
            read => hasher.update(&buffer[..read]),
        }
    }
}

/// Determines where a medium reads back differently.
fn explain(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    failure: LaneFailure,
    cancel: &Cancel,
) -> WriteError {
    let LaneFailure { error, first, bad } = failure;
    let WriteError::ReadBack {
        mut offset,
        chunks,
        mut bytes,
        stability,
        mut place,
    } = error
    else {
        return error;
    };
    if let Some(bad) = &bad {
        // Fetching everything once more would take too long.
        let again = source.fetch_stats().is_none();
        let counted = again.then(|| locate::count_differences(source, medium, bad, cancel));
        if let Some((at, count)) = counted.flatten() {
            offset = at;
            bytes = Some(count);
        }
    }
    if !first.is_empty() {
        place = whereabouts(medium, &first, offset);
    }
    WriteError::ReadBack {
        offset,
        chunks,
        bytes,
        stability,
        place,
    }
}

fn past_end(medium: &dyn BlockDevice) -> WriteError {
    WriteError::PastEnd {
        medium: medium.size(),
    }
}

/// What to hash: what the checksum is said to cover, or both. Without a wrapping they are the same.
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
