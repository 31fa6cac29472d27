//! Batches: many units, several readers at once, on one station or many.
//!
//! A batch watches the readers. A medium that appears is judged, gets the next free job of the
//! ledger, is written, verified and recorded, each in a thread of its own. Images are unpacked once
//! and kept in a [`Spool`]. Nothing here prints or asks: what happens is told to a [`Watcher`].

mod admit;
mod control;
mod engine;
mod rehearse;
mod source;
mod spool;
mod work;

use std::path::{Path, PathBuf};
use std::time::Duration;

use pinewrit_core::receipt::Receipt;
use pinewrit_core::write::{Clock, Randomness};
use pinewrit_core::{Cancel, Observer};
use pinewrit_disk::BlockDevice;
use pinewrit_host::{MediumFacts, Tag, Verdict};
use pinewrit_ledger::{Begun, JobKey};
use pinewrit_roster::{Roster, Unit, UnitMedium};

pub use admit::{Admission, Refusal};
pub use control::{BatchError, BatchReport, Control, Place};
pub use engine::run;
pub use rehearse::{Fault, rehearse};
pub use source::{Prepared, Sources};
pub use spool::{NoSpool, Spool};
pub use work::Trouble;

/// What a batch is to do.
#[derive(Clone, Debug)]
pub struct BatchRequest {
    /// The units.
    pub roster: Roster,
    /// Only these units, if there are any.
    pub only: Vec<String>,
    /// This unit before all others.
    pub next: Option<String>,
    /// The most media at once.
    pub at_once: usize,
    /// Media that were there before, named by their paths.
    pub named: Vec<PathBuf>,
    /// What is on a medium may be overwritten without asking.
    pub over_any: bool,
    /// What was mounted after it was plugged in is unmounted.
    pub unmount: bool,
    /// Finished media are made safe to take out.
    pub eject: bool,
    /// Every so many units, one is tried in an emulator: the first of them, and so on.
    pub trial_every: Option<usize>,
    /// The name of this station.
    pub station: String,
    /// How long a job stays this station's without a sign of life.
    pub lease: Duration,
    /// How often the readers are looked at although nothing was announced.
    pub look_every: Duration,
    /// The program and its version, for receipts.
    pub tool: String,
    /// The time.
    pub clock: Clock,
    /// Random bytes for new identifiers.
    pub random: Randomness,
}

/// A reader with a medium in it, as messages name it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// The medium's path.
    pub path: PathBuf,
    /// Its tag.
    pub tag: String,
    /// Its size in bytes.
    pub size: u64,
}

impl Slot {
    /// Of a medium that is there.
    pub fn of(facts: &MediumFacts) -> Self {
        Self {
            path: facts.path.clone(),
            tag: word(facts.tag.as_ref()),
            size: facts.identity.size,
        }
    }
}

/// How far a batch is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// Jobs that are done.
    pub done: usize,
    /// Jobs that are being made, here and elsewhere.
    pub held: usize,
    /// Jobs that nobody makes yet.
    pub open: usize,
    /// Media that failed in this run.
    pub failed: usize,
}

/// What happened.
#[derive(Debug)]
pub enum BatchEvent<'a> {
    /// The batch begins, or goes on.
    Begun(&'a Begun),
    /// An image is unpacked, or why each medium unpacks it by itself.
    Spooled(&'a str, Result<u64, &'a NoSpool>),
    /// The next medium is waited for: for this job, or none is open.
    Waiting(Option<&'a JobKey>, Tally),
    /// A medium gets a job.
    Started(&'a Slot, &'a JobKey, &'a UnitMedium),
    /// A medium is finished.
    Done(&'a Slot, &'a JobKey, Finished<'a>),
    /// A medium failed; its job is open again.
    Failed(&'a Slot, &'a JobKey, &'a str),
    /// The job was another station's by then: the medium has no table.
    Lost(&'a Slot, &'a JobKey),
    /// The medium is finished, and the job is another station's: the unit is made twice.
    Twice(&'a Slot, &'a JobKey),
    /// A medium is left alone.
    Refused(&'a Slot, &'a Refusal),
    /// The ledger cannot be reached, or is back.
    Ledger(Result<(), &'a str>),
    /// It ends, and the ledger did not answer: so many records are kept to be sent, and those of
    /// these units could not be kept anywhere.
    Unsent(usize, &'a [String]),
    /// No new media are begun; so many run, and are finished.
    Closing(usize),
}

/// How a medium ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finished<'a> {
    /// The record's identifier.
    pub record: &'a str,
    /// How long it took.
    pub took: Duration,
    /// Why it is not safe to take out yet, if it was to be ejected.
    pub not_ejected: Option<String>,
    /// The record waits to be sent.
    pub is_unsent: bool,
}

/// Who is told what happens.
pub trait Watcher: Sync {
    /// Something happened.
    fn event(&self, event: &BatchEvent<'_>);

    /// The observer of a medium that is about to be written.
    fn observer(&self, slot: &Slot, key: &JobKey) -> Box<dyn Observer + Send + '_>;

    /// A failure in words: of this image, on this medium.
    fn describe(&self, image: &str, medium: &str, trouble: &Trouble) -> String;

    /// Tries a finished medium in an emulator: its unit, its receipt, its bytes, and the file or
    /// device that has them.
    ///
    /// # Errors
    /// It does not come up, or not as it should be: why, in words.
    fn trial(
        &self,
        _unit: &Unit,
        _receipt: &Receipt,
        _medium: (&dyn BlockDevice, &Path),
        _cancel: &Cancel,
    ) -> Result<(), String> {
        Ok(())
    }
}

/// Whether a verdict speaks only of mounts.
pub(crate) fn is_only_mounted(verdict: &Verdict) -> bool {
    match verdict {
        Verdict::Busy(holds) => holds.iter().all(pinewrit_host::Hold::is_mount),
        _ => false,
    }
}

/// A tag as text.
pub(crate) fn word(tag: Option<&Tag>) -> String {
    tag.map_or(String::new(), ToString::to_string)
}
