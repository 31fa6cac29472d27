//! One medium's way through a write: its own workers, pace, verification and failure.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};
use pinewrit_disk::{AlignedBuf, ByteRange, CHUNK_SIZE, is_zero};
use pinewrit_volume::extents::RegionFacts;

use super::finish::{clear_head, clear_tables, finish};
use super::report::{ChecksumReport, ChunkRecord, WriteError, WriteReport};
use super::state::{Event, State};
use super::work::{Bench, Done, REQUEST};
use super::{ReadBack, WriteOptions, WriteOrder};
use crate::patience;
use crate::pipeline::{Chunk, SourcePosition, spawn};
use crate::{Cancel, Progress, Stage};

/// Requests in flight on a medium, each of up to 1 MiB.
const WORKERS: usize = 2;
/// How often to check whether the medium pauses.
const TICK: Duration = Duration::from_millis(100);
/// Silence for this long counts as a pause.
const PAUSE: Duration = Duration::from_millis(700);

/// This many unexpected bytes are not flipped bits any more.
const MISPLACED: u64 = 512;

/// How the stream of chunks ended.
pub(super) enum StreamOutcome {
    /// The whole image has arrived.
    Ended {
        image_bytes: u64,
        checksum: Option<ChecksumReport>,
        regions: Vec<RegionFacts>,
    },
    /// It broke off; the reason is reported elsewhere.
    Broken,
}

/// Why a medium was not written, with the data needed to say where.
pub(super) struct LaneFailure {
    pub(super) error: WriteError,
    /// The first chunk of the image.
    pub(super) first: Vec<u8>,
    /// The first chunk that reads back differently.
    pub(super) bad: Option<ChunkRecord>,
}

pub(super) struct Lane<'a> {
    pub(super) target: &'a WriteOrder<'a>,
    pub(super) options: &'a WriteOptions<'a>,
    /// Size of the image in bytes, if it is known.
    pub(super) image: Option<u64>,
    pub(super) source_size: u64,
    pub(super) position: &'a SourcePosition,
    pub(super) cancel: &'a Cancel,
    pub(super) started: Instant,
}

impl Lane<'_> {
    pub(super) fn run(
        &self,
        chunks: Receiver<Arc<Chunk>>,
        outcome: &Receiver<StreamOutcome>,
    ) -> Result<WriteReport, Box<LaneFailure>> {
        let mut state = State::default();
        let written = self.write_and_check(chunks, outcome, &mut state);
        written.map_err(|error| {
            let medium = self.target.medium;
            if let WriteError::ReadBack { .. } | WriteError::Wraps = error {
                // A medium smaller than it claims may have put anything at its start.
                let _ = clear_tables(medium);
            }
            let error = match error {
                WriteError::Disk(error) if patience::is_dead(medium) => WriteError::Dead(error),
                error => error,
            };
            Box::new(LaneFailure {
                error,
                first: state.first,
                bad: state.differing.into_iter().next(),
            })
        })
    }

    fn write_and_check(
        &self,
        chunks: Receiver<Arc<Chunk>>,
        outcome: &Receiver<StreamOutcome>,
        state: &mut State,
    ) -> Result<WriteReport, WriteError> {
        let medium = self.target.medium;
        if let Some(image) = self.image.filter(|&image| image > medium.size()) {
            let medium = medium.size();
            return Err(WriteError::TooLarge { image, medium });
        }
        if !self.options.in_place {
            self.clear()?;
        }
        let bench = self.bench();
        self.target.observer.stage(Stage::Write, self.total(state));
        self.write(&bench, &chunks, state)?;
        // The stream must not wait for this medium.
        drop(chunks);
        let StreamOutcome::Ended {
            image_bytes,
            checksum,
            regions,
        } = outcome.recv().unwrap_or(StreamOutcome::Broken)
        else {
            return Err(WriteError::Cancelled);
        };
        if image_bytes > medium.size() {
            return Err(super::past_end(medium));
        }
        if self.options.in_place {
            // It is known by now, and comes last here as well.
            clear_head(medium).map_err(WriteError::Clear)?;
        }
        self.target.observer.stage(Stage::Flush, None);
        medium.flush()?;
        let write_seconds = self.started.elapsed();

        let verifying = Instant::now();
        if self.options.verify {
            medium.forget_cache(ByteRange {
                start: 0,
                end: medium.size(),
            });
            self.target.observer.stage(Stage::Verify, Some(state.used));
            self.check(&bench, state)?;
            self.judge(&bench, state)?;
            self.head_must_be_blank()?;
        }
        state.records.sort_by_key(|record| record.index);
        let finished = finish(self.target, self.options.verify, &bench, state)?;
        Ok(WriteReport {
            image_bytes,
            used_bytes: state.used,
            zero_bytes: state.zeros,
            free_bytes: image_bytes.saturating_sub(state.used),
            written_bytes: state.written,
            kept_bytes: state.kept,
            verified: self.options.verify,
            checksum,
            write_seconds: write_seconds.as_secs_f64(),
            verify_seconds: verifying.elapsed().as_secs_f64(),
            repeated: state.repeated,
            as_new: finished.as_new,
            recovered: finished.recovered,
            renewed: finished.renewed,
            configured: finished.configured,
            grown: finished.grown,
            not_grown: finished.not_grown,
            regions,
            chunks: std::mem::take(&mut state.records),
            pace: std::mem::take(&mut state.pace),
        })
    }

    fn bench(&self) -> Bench<'_> {
        Bench {
            medium: self.target.medium,
            only_changes: self.options.only_changes,
            in_place: self.options.in_place,
            cancel: self.cancel,
            stop: AtomicBool::new(false),
            no_cheap_zeros: AtomicBool::new(false),
            written: AtomicU64::new(0),
            checked: AtomicU64::new(0),
        }
    }

    /// Nothing old on the medium may be taken for the new image.
    fn clear(&self) -> Result<(), WriteError> {
        let medium = self.target.medium;
        self.target.observer.stage(Stage::Clear, None);
        clear_tables(medium).map_err(WriteError::Clear)?;
        if self.options.clear_free {
            self.discard_all()?;
            // Discarded ranges may read as anything.
            clear_tables(medium).map_err(WriteError::Clear)?;
        }
        Ok(())
    }

    /// Tells the medium that nothing on it is needed any more.
    fn discard_all(&self) -> Result<(), WriteError> {
        const STEP: u64 = 1 << 30;
        let size = self.target.medium.size();
        for start in (0..size).step_by(STEP as usize) {
            if self.cancel.is_cancelled() {
                return Err(WriteError::Cancelled);
            }
            let end = size.min(start + STEP);
            if !self.target.medium.discard(ByteRange { start, end })? {
                break;
            }
        }
        Ok(())
    }

    /// Bytes that will be in use, as far as known.
    fn total(&self, state: &State) -> Option<u64> {
        let free = self.options.expected_free.max(state.free_so_far);
        self.image
            .map(|image| image.saturating_sub(free).max(state.used))
    }

    /// Lets the workers write what arrives, and read it back behind the writing if requested.
    fn write(
        &self,
        bench: &Bench<'_>,
        chunks: &Receiver<Arc<Chunk>>,
        state: &mut State,
    ) -> Result<(), WriteError> {
        let is_behind = self.options.verify && self.target.read_back == ReadBack::Behind;
        let busy = &AtomicU32::new(0);
        thread::scope(|scope| {
            let (events, told) = unbounded();
            for _ in 0..WORKERS {
                let events = events.clone();
                spawn(scope, "write", move || {
                    write_all(bench, chunks, &events, busy)
                });
            }
            let to_check = is_behind.then(|| checkers(scope, bench, &events, busy));
            drop(events);
            Listening {
                lane: self,
                bench,
                state,
                to_check,
                writers: WORKERS,
                is_writing: true,
            }
            .until_all_are_done(&told, busy)
        })
    }

    /// Lets the workers read back what is left.
    fn check(&self, bench: &Bench<'_>, state: &mut State) -> Result<(), WriteError> {
        let busy = &AtomicU32::new(0);
        thread::scope(|scope| {
            let (events, told) = unbounded();
            let to_check = checkers(scope, bench, &events, busy);
            drop(events);
            for record in state.unchecked.drain(..) {
                // A failed worker reports that itself.
                let _ = to_check.send(record);
            }
            drop(to_check);
            Listening {
                lane: self,
                bench,
                state,
                to_check: None,
                writers: 0,
                is_writing: false,
            }
            .until_all_are_done(&told, busy)
        })
    }

    /// The start was cleared, and nothing has been written there since. If something is there,
    /// addresses wrap around, and the first chunk would destroy what belongs elsewhere.
    fn head_must_be_blank(&self) -> Result<(), WriteError> {
        let mut head = AlignedBuf::new(CHUNK_SIZE);
        let medium = self.target.medium;
        let len = medium.size().min(CHUNK_SIZE as u64) as usize;
        medium.read_at(0, &mut head[..len])?;
        if is_zero(&head[..len]) {
            return Ok(());
        }
        let first = head.iter().position(|byte| *byte != 0).unwrap_or(0) as u64;
        match head[..len].iter().filter(|byte| **byte != 0).count() as u64 {
            few @ ..MISPLACED => Err(WriteError::differs(first, 1, Some(few))),
            _ => Err(WriteError::Wraps),
        }
    }

    /// How to report chunks that read back differently.
    fn judge(&self, bench: &Bench<'_>, state: &mut State) -> Result<(), WriteError> {
        use super::report::Stability;
        state.differing.sort_by_key(|record| record.index);
        let Some(first) = state.differing.first() else {
            return Ok(());
        };
        let mut buffer = AlignedBuf::new(REQUEST);
        let mut digests = Vec::new();
        for _ in 0..2 {
            for range in &first.used {
                bench.medium.forget_cache(*range);
            }
            digests.push(bench.digest(&first.used, &mut buffer)?.0);
        }
        let is_stable = digests[0] == digests[1] && digests[0] != first.digest;
        Err(WriteError::ReadBack {
            offset: first.used.first().map_or(0, |range| range.start),
            chunks: state.differing.len() as u64,
            bytes: None,
            stability: if is_stable {
                Stability::Wrong
            } else {
                Stability::Unstable
            },
            place: super::report::Whereabouts::default(),
        })
    }
}

/// Starts workers that read back what comes through the channel.
fn checkers<'scope>(
    scope: &'scope thread::Scope<'scope, '_>,
    bench: &'scope Bench<'scope>,
    events: &Sender<Result<Event, WriteError>>,
    busy: &'scope AtomicU32,
) -> Sender<ChunkRecord> {
    let (to_check, check) = unbounded::<ChunkRecord>();
    for _ in 0..WORKERS {
        let (check, events) = (check.clone(), events.clone());
        spawn(scope, "check", move || {
            check_all(bench, &check, &events, busy)
        });
    }
    to_check
}

/// Listening to the workers of a medium.
struct Listening<'l, 'a> {
    lane: &'l Lane<'a>,
    bench: &'l Bench<'l>,
    state: &'l mut State,
    /// The queue for chunks to be read back at once; closed when there are no more.
    to_check: Option<Sender<ChunkRecord>>,
    /// Workers that are still writing.
    writers: usize,
    is_writing: bool,
}

impl Listening<'_, '_> {
    fn until_all_are_done(
        mut self,
        told: &Receiver<Result<Event, WriteError>>,
        busy: &AtomicU32,
    ) -> Result<(), WriteError> {
        let (mut moved, mut heard) = (0, Instant::now());
        let mut failure = None;
        loop {
            match told.recv_timeout(TICK) {
                Ok(Ok(event)) => self.take(event),
                // The others only stopped because of the first.
                Ok(Err(error)) => drop(failure.get_or_insert(error)),
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return failure.map_or(Ok(()), Err),
            }
            let now = self.bench.written.load(Ordering::Relaxed)
                + self.bench.checked.load(Ordering::Relaxed);
            if now != moved {
                (moved, heard) = (now, Instant::now());
            }
            let is_busy = busy.load(Ordering::Relaxed) > 0;
            let silence = heard.elapsed();
            self.tell(if is_busy && silence >= PAUSE {
                silence
            } else {
                Duration::ZERO
            });
        }
    }

    fn take(&mut self, event: Event) {
        if let Event::Gone = event {
            self.writers -= 1;
            if self.writers == 0 {
                self.to_check = None;
            }
            return;
        }
        let now = self.lane.started.elapsed().as_secs_f64();
        self.state.take(event, now, self.to_check.as_ref());
    }

    fn tell(&self, waiting: Duration) {
        let lane = self.lane;
        let (done, total, source_done, source_total) = if self.is_writing {
            let written = self.bench.written.load(Ordering::Relaxed);
            let total = lane.total(self.state);
            (written, total, lane.position.get(), lane.source_size)
        } else {
            let checked = self.bench.checked.load(Ordering::Relaxed);
            (self.state.excused + checked, Some(self.state.used), 0, 0)
        };
        lane.target.observer.progress(Progress {
            done,
            total,
            source_done,
            source_total,
            waiting_seconds: waiting.as_secs_f64(),
        });
    }
}

fn write_all(
    bench: &Bench<'_>,
    chunks: &Receiver<Arc<Chunk>>,
    events: &Sender<Result<Event, WriteError>>,
    busy: &AtomicU32,
) {
    let mut buffer = AlignedBuf::new(REQUEST);
    while let Some(chunk) = next(bench, chunks) {
        let began = Instant::now();
        busy.fetch_add(1, Ordering::Relaxed);
        // The first one comes last.
        let is_first = chunk.index == 0;
        let done = if is_first {
            let bytes = chunk.used.iter().map(|range| range.len()).sum();
            bench.written.fetch_add(bytes, Ordering::Relaxed);
            Ok(Done::default())
        } else {
            bench.write(&chunk, &mut buffer)
        };
        busy.fetch_sub(1, Ordering::Relaxed);
        let event = done.map(|done| Event::Written {
            record: ChunkRecord {
                index: chunk.index,
                used: chunk.used.clone(),
                digest: chunk.digest,
            },
            first: is_first.then(|| chunk.bytes().to_vec()),
            end: chunk.offset() + chunk.bytes().len() as u64,
            zeros: chunk.zeros.iter().map(|range| range.len()).sum(),
            free_so_far: chunk.free_so_far,
            done,
            took: began.elapsed(),
        });
        if !tell(bench, events, event) {
            break;
        }
    }
    let _ = events.send(Ok(Event::Gone));
}

fn check_all(
    bench: &Bench<'_>,
    records: &Receiver<ChunkRecord>,
    events: &Sender<Result<Event, WriteError>>,
    busy: &AtomicU32,
) {
    let mut buffer = AlignedBuf::new(REQUEST);
    while let Some(record) = next(bench, records) {
        let began = Instant::now();
        busy.fetch_add(1, Ordering::Relaxed);
        let checked = bench.read_back(&record, &mut buffer);
        busy.fetch_sub(1, Ordering::Relaxed);
        let event = checked.map(|(is_equal, repeated)| Event::Checked {
            record,
            is_equal,
            repeated,
            took: began.elapsed(),
        });
        if !tell(bench, events, event) {
            return;
        }
    }
}

/// The next piece of work; `None` if there is no more, or the job should stop.
fn next<T>(bench: &Bench<'_>, queue: &Receiver<T>) -> Option<T> {
    loop {
        if bench.stop.load(Ordering::Relaxed) {
            return None;
        }
        match queue.recv_timeout(TICK) {
            Ok(work) => return Some(work),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return None,
        }
    }
}

/// Reports what was done; `false` after a failure, when all others stop as well.
fn tell(
    bench: &Bench<'_>,
    events: &Sender<Result<Event, WriteError>>,
    event: Result<Event, WriteError>,
) -> bool {
    let failed = event.is_err();
    let is_heard = events.send(event).is_ok();
    // Only now: what the others say when they stop must not come first.
    if failed {
        bench.stop.store(true, Ordering::Relaxed);
    }
    is_heard && !failed
}
