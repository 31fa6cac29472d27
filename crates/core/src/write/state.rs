//! The state of a medium while it is written.

use std::time::Duration;

use crossbeam_channel::Sender;

use super::report::{ChunkRecord, Pace, PacePoint};
use super::work::{Done, REQUEST};

/// A message from a worker.
pub(super) enum Event {
    Written {
        record: ChunkRecord,
        first: Option<Vec<u8>>,
        end: u64,
        zeros: u64,
        free_so_far: u64,
        done: Done,
        took: Duration,
    },
    Checked {
        record: ChunkRecord,
        is_equal: bool,
        repeated: u32,
        took: Duration,
    },
    /// A writing worker has finished.
    Gone,
}

/// The state of a medium so far.
#[derive(Default)]
pub(super) struct State {
    pub(super) first: Vec<u8>,
    pub(super) records: Vec<ChunkRecord>,
    /// Chunks still to be read back.
    pub(super) unchecked: Vec<ChunkRecord>,
    pub(super) differing: Vec<ChunkRecord>,
    pub(super) used: u64,
    pub(super) zeros: u64,
    pub(super) written: u64,
    pub(super) kept: u64,
    /// Bytes that need not be read back: they have just been, or come last.
    pub(super) excused: u64,
    pub(super) repeated: u32,
    pub(super) free_so_far: u64,
    pub(super) pace: Pace,
}

impl State {
    /// Records a worker's message, this many seconds after the start. What can be read back at once
    /// goes to `to_check`.
    pub(super) fn take(&mut self, event: Event, now: f64, to_check: Option<&Sender<ChunkRecord>>) {
        let point = |record: &ChunkRecord, bytes: u64, took: Duration| PacePoint {
            offset: record.used.first().map_or(0, |range| range.start),
            bytes,
            at: now,
            took: took.as_secs_f64(),
        };
        match event {
            Event::Written {
                record,
                first,
                end,
                zeros,
                free_so_far,
                done,
                took,
            } => {
                let bytes = record.used_bytes();
                self.used += bytes;
                self.zeros += zeros;
                self.written += done.written;
                self.kept += done.kept;
                self.repeated += done.repeated;
                self.free_so_far = free_so_far.max(self.free_so_far);
                if done.written > 0 {
                    self.pace.written.push(point(&record, done.written, took));
                }
                if let Some(first) = first {
                    self.first = first;
                    self.excused += bytes;
                } else if done.kept > 0 || bytes == 0 {
                    // It has just been read from the medium.
                    self.excused += bytes;
                } else {
                    // If an image does not end with a whole block, its end goes through the
                    // system's cache, and is read back once that is dropped.
                    let is_whole = end.is_multiple_of(REQUEST as u64);
                    match to_check.filter(|_| is_whole) {
                        Some(queue) => drop(queue.send(record.clone())),
                        None => self.unchecked.push(record.clone()),
                    }
                }
                self.records.push(record);
            }
            Event::Checked {
                record,
                is_equal,
                repeated,
                took,
            } => {
                self.repeated += repeated;
                let read = point(&record, record.used_bytes(), took);
                self.pace.read.push(read);
                if !is_equal {
                    self.differing.push(record);
                }
            }
            Event::Gone => {}
        }
    }
}
