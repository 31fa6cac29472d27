//! What a job tells its caller while it works, and how the caller stops it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use schemars::JsonSchema;
use serde::Serialize;

/// A part of a job that takes time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Stage {
    /// Reading an image for its checksum, or fetching it from its server.
    Fetch,
    /// Taking the old partition table off the medium.
    Clear,
    /// Unpacking the image and writing it.
    Write,
    /// Waiting until everything written is on the medium.
    Flush,
    /// Reading back what was written, past the cache.
    Verify,
    /// Putting the first-boot settings on the medium.
    Configure,
    /// Writing the first chunk, which completes the medium.
    Finish,
    /// Comparing a medium with an image.
    Compare,
    /// Reading what a failing medium gives at once.
    Rescue,
    /// Moving a partition.
    Move,
    /// Keeping what a measurement will overwrite.
    Keep,
    /// Marking places of a medium that is measured.
    Mark,
    /// Reading the marks, past the cache.
    ReadMarks,
    /// Putting back what a measurement overwrote.
    PutBack,
    /// Measuring how fast a medium reads.
    TimeReading,
    /// Measuring how fast it writes.
    TimeWriting,
    /// Reading around the bad places of a failing medium.
    CloseIn,
}

/// The progress of a stage.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Progress {
    /// Bytes of the medium done.
    pub done: u64,
    /// Bytes of the medium to do; `None` while an image's size is unknown.
    pub total: Option<u64>,
    /// Bytes of the packed source consumed; 0 in stages that do not read it.
    pub source_done: u64,
    /// Size of the packed source in bytes; 0 if unknown.
    pub source_total: u64,
    /// How long the medium has been silent although it has work, in seconds; 0 while it works.
    pub waiting_seconds: f64,
}

impl Progress {
    /// The share done, from 0 to 1. If the unpacked size is unknown, it is the consumed share of
    /// the packed source; if that is unknown too, it stays at 0.
    pub fn fraction(&self) -> f64 {
        let (done, total) = match self.total {
            Some(total) => (self.done, total),
            None => (self.source_done, self.source_total),
        };
        if total == 0 {
            return if self.total.is_some() { 1.0 } else { 0.0 };
        }
        (done as f64 / total as f64).min(1.0)
    }
}

/// Receives what a job has to tell. Every method does nothing by default.
///
/// Calls come often, from the thread that runs the job; showing less of them is up to the caller.
pub trait Observer: Sync {
    /// A stage began; `total` in bytes if known.
    fn stage(&self, _stage: Stage, _total: Option<u64>) {}

    /// Progress in the current stage.
    fn progress(&self, _progress: Progress) {}

    /// Whether the medium may be finished, asked just before its first chunk is written.
    fn may_finish(&self) -> bool {
        true
    }

    /// No note of this job can be kept: after an interruption, there will be no record of it.
    fn not_remembered(&self, _why: &std::io::Error) {}
}

/// An observer that ignores everything.
#[derive(Clone, Copy, Debug, Default)]
pub struct Silent;

impl Observer for Silent {}

/// A request to stop, which running jobs check at every chunk.
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// A token that others may set, such as a signal handler.
    pub fn from_flag(flag: Arc<AtomicBool>) -> Self {
        Self(flag)
    }

    /// Asks jobs with this token to stop.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it was asked to stop.
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
