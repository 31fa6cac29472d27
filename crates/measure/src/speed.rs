//! How fast a medium reads and writes: one after the other, and anywhere.

use std::path::Path;
use std::time::Instant;

use pinewrit_core::{Cancel, Observer, Stage};
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange};
use schemars::JsonSchema;
use serde::Serialize;

use crate::keepsake::{Keepsake, PIECE};
use crate::marks::Session;
use crate::{MeasureError, go_on, pieces, size_of, told};

/// What is read and written one after the other, in bytes.
const SCRATCH: u64 = 64 << 20;
/// Scratch space begins at a multiple of this, as file systems do, in bytes.
const ALIGNMENT: u64 = 4 << 20;
/// Bytes of a request anywhere: the unit of the speed classes (SD Physical Layer Specification,
/// "Application Performance Class").
const SMALL: usize = 4096;
/// The most requests anywhere.
const MOST_SMALL: usize = 512;
/// Requests anywhere end after so many seconds.
const ENOUGH: f64 = 5.0;
/// Places all over the medium where reading is tried.
const SAMPLES: u64 = 32;
/// A request is slow if it takes so many times as long as half of them.
const SLOW: f64 = 4.0;
/// And so many seconds more.
const NOTICED: f64 = 0.05;
/// A cache ends where writing becomes so many times slower.
const CACHE_ENDS: f64 = 1.5;

/// Which speeds are wanted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SpeedWish {
    /// Nothing is written.
    pub read_only: bool,
}

/// One request of those one after the other.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Piece {
    /// Where, in bytes.
    pub offset: u64,
    /// How many bytes.
    pub bytes: u64,
    /// How long it took.
    pub seconds: f64,
}

/// How long requests took, in seconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Latency {
    /// Half of them took at most this.
    pub half: f64,
    /// All but one of a hundred.
    pub of_100: f64,
    /// All of them.
    pub most: f64,
}

/// The speed one after the other.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Pace {
    /// From the first byte to the last that is on the medium, in bytes a second.
    pub rate: f64,
    /// In the second half: what is left when a cache is full, in bytes a second.
    pub sustained: f64,
    /// The size of a cache that was filled first, in bytes.
    pub cache: Option<u64>,
    /// Waiting at the end until everything is on the medium, in seconds.
    pub flush: f64,
    /// How long the requests took.
    pub latency: Latency,
    /// Each request.
    pub pieces: Vec<Piece>,
}

/// The speed of small requests anywhere.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Anywhere {
    /// Requests of 4 KiB a second.
    pub per_second: f64,
    /// How many were made.
    pub requests: u64,
    /// How long they took.
    pub latency: Latency,
}

/// The speed of a medium.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct SpeedReport {
    /// Reading one after the other.
    pub read: Pace,
    /// Reading anywhere on the medium.
    pub read_anywhere: Anywhere,
    /// Writing one after the other.
    pub write: Option<Pace>,
    /// Writing anywhere in the scratch space.
    pub write_anywhere: Option<Anywhere>,
    /// Reading in places all over the medium.
    pub samples: Vec<Piece>,
    /// Requests that took much longer than the others.
    pub slow: Vec<Piece>,
    /// Where the scratch space begins and ends, in bytes.
    pub scratch: (u64, u64),
    /// Bytes that were written, with what was put back.
    pub written: u64,
}

/// Where the scratch space of a medium of `size` bytes is.
fn scratch_on(size: u64) -> ByteRange {
    let len = SCRATCH.min(size / 4 / PIECE as u64 * PIECE as u64);
    let len = len.max(PIECE as u64).min(size);
    let start = (size / 2 / ALIGNMENT * ALIGNMENT).min(size - len);
    ByteRange {
        start,
        end: start + len,
    }
}

/// What measuring the speed of a medium of `size` bytes writes at most, with what is put back, in
/// bytes.
pub fn speed_cost(size: u64) -> u64 {
    2 * scratch_on(size).len() + (MOST_SMALL * SMALL) as u64
}

/// Measures a medium's speed. What was in the scratch space is in the file `keepsake` until it is
/// there again.
///
/// # Errors
/// [`MeasureError`]. What was overwritten has been put back, unless the medium is gone.
pub fn speed(
    device: &dyn BlockDevice,
    (keepsake, session): (&Path, Session),
    wish: SpeedWish,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<SpeedReport, MeasureError> {
    let size = size_of(device)?;
    let watch = Watch {
        device,
        session,
        observer,
        cancel,
        scratch: scratch_on(size),
    };
    let mut report = watch.read()?;
    if wish.read_only {
        return Ok(report);
    }
    let mut kept = Keepsake::begin(keepsake, session, size)?;
    let written = watch.write(&mut kept, &mut report);
    observer.stage(Stage::PutBack, None);
    report.written += kept.put_back(device)?.bytes;
    kept.remove()?;
    written.map(|()| report)
}

struct Watch<'w> {
    device: &'w dyn BlockDevice,
    session: Session,
    observer: &'w dyn Observer,
    cancel: &'w Cancel,
    scratch: ByteRange,
}

impl Watch<'_> {
    fn read(&self) -> Result<SpeedReport, MeasureError> {
        let size = self.device.size();
        let forget = || {
            self.device.forget_cache(ByteRange {
                start: 0,
                end: size,
            })
        };
        let mut buffer = AlignedBuf::new(PIECE);
        self.observer
            .stage(Stage::TimeReading, Some(self.scratch.len()));
        forget();
        let mut timed = Vec::new();
        for (offset, len) in pieces(self.scratch) {
            timed.push(self.timed(offset, len, || {
                self.device.read_once(offset, &mut buffer[..len])
            })?);
            self.tell(offset + len as u64 - self.scratch.start);
        }
        let read = pace(timed, 0.0);
        let mut samples = Vec::new();
        let step = (size / SAMPLES / PIECE as u64 * PIECE as u64).max(PIECE as u64);
        for offset in (0..size.saturating_sub(PIECE as u64)).step_by(step as usize) {
            samples.push(self.timed(offset, PIECE, || self.device.read_once(offset, &mut buffer))?);
        }
        forget();
        let whole = ByteRange {
            start: 0,
            end: size,
        };
        let (times, took) = self.anywhere(whole, |offset| {
            self.device.read_once(offset, &mut buffer[..SMALL])
        })?;
        let slow = slow_of(read.pieces.iter().chain(&samples));
        Ok(SpeedReport {
            read,
            read_anywhere: counted(&times, took),
            write: None,
            write_anywhere: None,
            samples,
            slow,
            scratch: (self.scratch.start, self.scratch.end),
            written: 0,
        })
    }

    fn write(&self, kept: &mut Keepsake, report: &mut SpeedReport) -> Result<(), MeasureError> {
        self.observer.stage(Stage::Keep, None);
        let mut buffer = AlignedBuf::new(PIECE);
        for (offset, len) in pieces(self.scratch) {
            go_on(self.cancel)?;
            self.device.read_once(offset, &mut buffer[..len])?;
            kept.keep(offset, &buffer[..len])?;
        }
        kept.sync()?;
        let mut marks = AlignedBuf::new(self.scratch.len() as usize);
        self.session.mark(self.scratch.start, &mut marks);
        self.observer
            .stage(Stage::TimeWriting, Some(self.scratch.len()));
        let mut timed = Vec::new();
        for (offset, len) in pieces(self.scratch) {
            let from = (offset - self.scratch.start) as usize;
            let data = &marks[from..from + len];
            timed.push(self.timed(offset, len, || self.device.write_at(offset, data))?);
            report.written += len as u64;
            self.tell(offset + len as u64 - self.scratch.start);
        }
        let flush = self.flushed()?;
        let write = pace(timed, flush);
        let start = self.scratch.start;
        let (times, took) = self.anywhere(self.scratch, |offset| {
            let from = (offset - start) as usize;
            self.device.write_at(offset, &marks[from..from + SMALL])
        })?;
        let took = took + self.flushed()?;
        report.written += (times.len() * SMALL) as u64;
        report.write_anywhere = Some(counted(&times, took));
        report.slow.extend(slow_of(write.pieces.iter()));
        report.write = Some(write);
        Ok(())
    }

    fn flushed(&self) -> Result<f64, MeasureError> {
        let began = Instant::now();
        self.device.flush()?;
        Ok(began.elapsed().as_secs_f64())
    }

    fn timed(
        &self,
        offset: u64,
        len: usize,
        work: impl FnOnce() -> Result<(), pinewrit_disk::DiskError>,
    ) -> Result<Piece, MeasureError> {
        go_on(self.cancel)?;
        let began = Instant::now();
        work()?;
        Ok(Piece {
            offset,
            bytes: len as u64,
            seconds: began.elapsed().as_secs_f64(),
        })
    }

    /// Small requests at places that follow no order; how long each took, and all of them.
    fn anywhere(
        &self,
        range: ByteRange,
        mut work: impl FnMut(u64) -> Result<(), pinewrit_disk::DiskError>,
    ) -> Result<(Vec<f64>, f64), MeasureError> {
        let places = range.len() / SMALL as u64;
        let mut stream = blake3::Hasher::new().update(&self.session.0).finalize_xof();
        let began = Instant::now();
        let mut times = Vec::new();
        while times.len() < MOST_SMALL && began.elapsed().as_secs_f64() < ENOUGH {
            let mut random = [0; 8];
            stream.fill(&mut random);
            let place = u64::from_le_bytes(random) % places.max(1);
            let offset = range.start + place * SMALL as u64;
            let piece = self.timed(offset, SMALL, || work(offset))?;
            times.push(piece.seconds);
        }
        Ok((times, began.elapsed().as_secs_f64()))
    }

    fn tell(&self, done: u64) {
        let total = self.scratch.len();
        self.observer.progress(told(done, total));
    }
}

fn latency_of(times: &[f64]) -> Latency {
    let mut sorted = times.to_vec();
    sorted.sort_by(f64::total_cmp);
    let at = |share: f64| {
        let place = (sorted.len() as f64 * share) as usize;
        sorted
            .get(place.min(sorted.len().saturating_sub(1)))
            .copied()
    };
    Latency {
        half: at(0.5).unwrap_or_default(),
        of_100: at(0.99).unwrap_or_default(),
        most: sorted.last().copied().unwrap_or_default(),
    }
}

fn counted(times: &[f64], took: f64) -> Anywhere {
    Anywhere {
        per_second: times.len() as f64 / took.max(f64::MIN_POSITIVE),
        requests: times.len() as u64,
        latency: latency_of(times),
    }
}

fn rate_of(pieces: &[Piece], more: f64) -> f64 {
    let bytes: u64 = pieces.iter().map(|piece| piece.bytes).sum();
    let seconds: f64 = pieces.iter().map(|piece| piece.seconds).sum::<f64>() + more;
    bytes as f64 / seconds.max(f64::MIN_POSITIVE)
}

fn pace(pieces: Vec<Piece>, flush: f64) -> Pace {
    let rate = rate_of(&pieces, flush);
    let late = &pieces[pieces.len() / 2..];
    let early = &pieces[..(pieces.len() / 8).max(1)];
    let sustained = rate_of(late, flush);
    let cached = rate_of(early, 0.0);
    let cache = (cached > CACHE_ENDS * sustained).then(|| {
        // Half way between both, on the scale of times.
        let between = (cached * sustained).sqrt();
        let fast = pieces.iter();
        let fast = fast.take_while(|piece| piece.bytes as f64 / piece.seconds.max(1e-9) > between);
        fast.map(|piece| piece.bytes).sum()
    });
    let times: Vec<f64> = pieces.iter().map(|piece| piece.seconds).collect();
    Pace {
        rate,
        sustained,
        cache: cache.filter(|&bytes| bytes > 0),
        flush,
        latency: latency_of(&times),
        pieces,
    }
}

/// The requests that took much longer than half of them.
fn slow_of<'p>(pieces: impl Iterator<Item = &'p Piece> + Clone) -> Vec<Piece> {
    let times: Vec<f64> = pieces.clone().map(|piece| piece.seconds).collect();
    let usual = latency_of(&times).half;
    let is_slow = |piece: &&Piece| piece.seconds > usual * SLOW && piece.seconds > usual + NOTICED;
    pieces.filter(is_slow).copied().collect()
}
