//! Work on several cores whose results come out in order, as one stream.
//!
//! ```text
//! split ──jobs──▶ workers
//!   └──places in the order──▶ reader
//! ```
//! The splitting thread cuts the input where the format allows it. All queues are bounded; when
//! the reader goes away, all threads end.

use std::io::{self, Read};
use std::num::NonZero;
use std::thread;

use crossbeam_channel::{Receiver, Sender, bounded};

/// More threads than this need more memory than is allowed.
const MAX_THREADS: usize = 8;

/// The result of a job.
pub(crate) struct Piece {
    /// The unpacked bytes.
    pub(crate) bytes: Vec<u8>,
    /// These already include the next job's result, which is skipped.
    pub(crate) covers_next: bool,
}

impl From<Vec<u8>> for Piece {
    fn from(bytes: Vec<u8>) -> Self {
        Self {
            bytes,
            covers_next: false,
        }
    }
}

type Outcome = io::Result<Piece>;
type Job = Box<dyn FnOnce() -> Outcome + Send>;

/// Whether results are still wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    Yes,
    No,
}

/// The queue for jobs from the splitting thread.
pub(crate) struct Dispatch {
    jobs: Sender<(Job, Sender<Outcome>)>,
    order: Sender<Receiver<Outcome>>,
}

impl Dispatch {
    /// Queues `job` for the next free worker.
    pub(crate) fn job(&self, job: impl FnOnce() -> Outcome + Send + 'static) -> Wanted {
        let (sender, receiver) = bounded(1);
        let placed = self.order.send(receiver).is_ok();
        if placed && self.jobs.send((Box::new(job), sender)).is_ok() {
            Wanted::Yes
        } else {
            Wanted::No
        }
    }

    /// Queues a finished result.
    pub(crate) fn ready(&self, outcome: Outcome) -> Wanted {
        let (sender, receiver) = bounded(1);
        // There is room for one result.
        let _ = sender.send(outcome);
        if self.order.send(receiver).is_ok() {
            Wanted::Yes
        } else {
            Wanted::No
        }
    }
}

/// The number of worker threads, and of results that may wait, which bounds memory.
pub(crate) fn in_flight() -> (usize, usize) {
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    let threads = cores.min(MAX_THREADS);
    (threads, threads + 2)
}

/// The results as one stream.
pub(crate) struct Ordered {
    order: Receiver<Receiver<Outcome>>,
    current: Vec<u8>,
    used: usize,
    pass_over: bool,
}

impl Ordered {
    /// Runs `split` in its own thread, and the jobs that it queues on all cores.
    pub(crate) fn start(
        split: impl FnOnce(&Dispatch) -> io::Result<()> + Send + 'static,
    ) -> io::Result<Self> {
        let (threads, results) = in_flight();
        let (jobs, waiting) = bounded::<(Job, Sender<Outcome>)>(0);
        let (order, ordered) = bounded(results);
        for _ in 0..threads {
            let waiting = waiting.clone();
            thread::Builder::new()
                .name("unpack".into())
                .spawn(move || {
                    for (job, result) in waiting {
                        // It may no longer be wanted.
                        let _ = result.send(job());
                    }
                })?;
        }
        let dispatch = Dispatch { jobs, order };
        thread::Builder::new().name("split".into()).spawn(move || {
            if let Err(error) = split(&dispatch) {
                dispatch.ready(Err(error));
            }
        })?;
        Ok(Self {
            order: ordered,
            current: Vec::new(),
            used: 0,
            pass_over: false,
        })
    }
}

impl Read for Ordered {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.used == self.current.len() {
            let Ok(result) = self.order.recv() else {
                return Ok(0);
            };
            let outcome = result
                .recv()
                .map_err(|_| io::Error::other("a worker failed"))?;
            if std::mem::take(&mut self.pass_over) {
                continue;
            }
            let piece = outcome?;
            self.pass_over = piece.covers_next;
            self.current = piece.bytes;
            self.used = 0;
        }
        let rest = &self.current[self.used..];
        let len = rest.len().min(buffer.len());
        buffer[..len].copy_from_slice(&rest[..len]);
        self.used += len;
        Ok(len)
    }
}
