//! One medium, from the claim to the record.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_boards::chain::Verdict;
use pinewrit_boards::{Board, Extent, Readiness, judge};
use pinewrit_core::receipt::Receipt;
use pinewrit_core::write::{
    Destination, Failure, JobError, PlanError, Start, Surroundings, WriteError, WritePlan,
    WriteRequest, WrittenMedium, carry_out,
};
use pinewrit_core::{Cancel, Observer, Progress, Stage};
use pinewrit_disk::{BlockDevice, ReadCache};
use pinewrit_host::{MediumError, MediumFacts, Permits, Readers};
use pinewrit_ledger::{Claim, Entry, Kind, Ledger, LedgerError, Lost, Parcel};
use pinewrit_roster::{Content, Unit, UnitMedium};

use crate::{BatchRequest, NoSpool, Slot, Sources, Watcher, word};

/// How often a ledger that cannot be reached is asked again before a medium is finished.
const ASK_AGAIN: Duration = Duration::from_secs(1);

/// What all workers share.
pub(crate) struct Shared<'b> {
    pub(crate) request: &'b BatchRequest,
    pub(crate) ledger: &'b Mutex<Ledger>,
    pub(crate) sources: &'b Sources,
    pub(crate) watcher: &'b dyn Watcher,
    pub(crate) cancel: Cancel,
}

/// One medium's work.
pub(crate) struct Job<'b> {
    pub(crate) facts: MediumFacts,
    pub(crate) claim: Claim,
    pub(crate) unit: &'b Unit,
    pub(crate) medium: &'b UnitMedium,
    pub(crate) readers: Readers,
}

/// Why a medium was not written.
#[derive(Debug)]
pub enum Trouble {
    /// It could not be opened.
    Open(MediumError),
    /// The image does not suit it.
    Plan(PlanError),
    /// Writing failed.
    Write(Failure),
    /// The unpacked image could not be used.
    Source(NoSpool),
    /// This board does not start from the finished medium.
    Board(Box<Readiness>),
    /// The finished medium does not come up in an emulator, or not as it should be.
    Trial {
        /// The medium's tag.
        tag: String,
        /// Why.
        why: String,
    },
}

/// How it ended.
pub(crate) enum Outcome {
    /// It is finished; the record is to be sent.
    Made(Box<Made>),
    /// It failed; whether the medium itself is bad, and why in words.
    Failed { is_bad: bool, why: String },
    /// The image is bad: no other medium would do better.
    BadSource(Trouble),
    /// Another station has the job.
    Lost,
    /// It was stopped.
    Stopped,
}

/// A finished medium.
pub(crate) struct Made {
    pub(crate) parcel: Parcel,
    pub(crate) took: Duration,
    pub(crate) not_ejected: Option<String>,
}

/// Keeps the job until the last moment: before the first chunk is written, it must still be ours.
struct Gate<'b> {
    inner: Box<dyn Observer + Send + 'b>,
    ledger: &'b Mutex<Ledger>,
    claim: &'b Claim,
    cancel: &'b Cancel,
    is_lost: AtomicBool,
}

impl Observer for Gate<'_> {
    fn stage(&self, stage: Stage, total: Option<u64>) {
        self.inner.stage(stage, total);
    }

    fn progress(&self, progress: Progress) {
        self.inner.progress(progress);
    }

    fn may_finish(&self) -> bool {
        loop {
            match renew(self.ledger, self.claim) {
                Ok(Ok(())) => return true,
                Ok(Err(Lost)) => {
                    self.is_lost.store(true, Ordering::Relaxed);
                    return false;
                }
                // Without the ledger, nobody knows whose job it is by now.
                Err(_) if self.cancel.is_cancelled() => return false,
                Err(_) => thread::sleep(ASK_AGAIN),
            }
        }
    }
}

pub(crate) fn renew(
    ledger: &Mutex<Ledger>,
    claim: &Claim,
) -> Result<Result<(), Lost>, LedgerError> {
    ledger
        .lock()
        .unwrap_or_else(|e| e.into_inner())
        .renew(claim)
}

/// Makes one medium.
pub(crate) fn make(shared: &Shared<'_>, job: &Job<'_>) -> Outcome {
    let slot = Slot::of(&job.facts);
    let gate = Gate {
        inner: shared.watcher.observer(&slot, &job.claim.key),
        ledger: shared.ledger,
        claim: &job.claim,
        cancel: &shared.cancel,
        is_lost: AtomicBool::new(false),
    };
    let begun = Instant::now();
    let image = job.medium.content.to_string();
    let done = write(shared, job, &gate);
    let done = done.and_then(|(medium, image)| Ok((finished(medium)?, image)));
    let board = shared.sources.get(&job.medium.content);
    let board = board.and_then(|prepared| prepared.board.as_deref());
    let done = done.and_then(|done| {
        let ((medium, _), _) = &done;
        must_start(board, &*medium.medium.device)?;
        must_come_up(shared, job, &done)?;
        Ok(done)
    });
    match done {
        Ok(((medium, receipt), image)) => {
            let receipt = match image {
                Some(image) => Receipt { image, ..receipt },
                None => receipt,
            };
            Outcome::Made(Box::new(made(shared, job, &medium, receipt, begun)))
        }
        Err(_) if gate.is_lost.load(Ordering::Relaxed) => Outcome::Lost,
        Err(Trouble::Write(Failure::Write(WriteError::Cancelled))) => Outcome::Stopped,
        Err(trouble) if is_of_source(&trouble) => Outcome::BadSource(trouble),
        Err(trouble) => Outcome::Failed {
            is_bad: is_of_medium(&trouble),
            why: shared.watcher.describe(&image, &slot.tag, &trouble),
        },
    }
}

/// Whether the board starts from the finished medium; what cannot be read will be told otherwise.
fn must_start(board: Option<&Board>, device: &dyn BlockDevice) -> Result<(), Trouble> {
    let Some(board) = board else {
        return Ok(());
    };
    match judge(
        board,
        &ReadCache::new(device),
        Extent::Medium(device.size()),
    ) {
        Ok(found) if found.verdict == Verdict::DoesNotStart => Err(Trouble::Board(Box::new(found))),
        Ok(_) => Ok(()),
        Err(error) => Err(Trouble::Write(Failure::Write(WriteError::Disk(error)))),
    }
}

/// Every so many units, one is tried.
fn must_come_up(
    shared: &Shared<'_>,
    job: &Job<'_>,
    ((medium, receipt), _): &((WrittenMedium, Receipt), Image),
) -> Result<(), Trouble> {
    let request = shared.request;
    let mut units = request.roster.units.iter();
    let place = units.position(|unit| unit.name == job.unit.name);
    let is_due = request.trial_every.zip(place);
    if !is_due.is_some_and(|(every, place)| place.is_multiple_of(every.max(1))) {
        return Ok(());
    }
    let bytes = job.readers.bytes_of(&job.facts.path);
    let tried = (&*medium.medium.device, bytes.as_path());
    let done = shared
        .watcher
        .trial(job.unit, receipt, tried, &shared.cancel);
    match done {
        Err(_) if shared.cancel.is_cancelled() => {
            Err(Trouble::Write(Failure::Write(WriteError::Cancelled)))
        }
        done => done.map_err(|why| Trouble::Trial {
            tag: Slot::of(&job.facts).tag,
            why,
        }),
    }
}

fn finished(mut medium: WrittenMedium) -> Result<(WrittenMedium, Receipt), Trouble> {
    match &mut medium.result {
        Ok(written) => {
            let receipt = written.receipt.clone();
            Ok((medium, receipt))
        }
        Err(_) => match medium.result {
            Err(failure) => Err(Trouble::Write(failure)),
            Ok(_) => Err(Trouble::Write(Failure::Write(WriteError::Cancelled))),
        },
    }
}

type Image = Option<pinewrit_core::receipt::ReceiptImage>;

fn write(
    shared: &Shared<'_>,
    job: &Job<'_>,
    gate: &Gate<'_>,
) -> Result<(WrittenMedium, Image), Trouble> {
    let request = shared.request;
    let image = shared.sources.for_medium(&job.medium.content);
    let image = image.map_err(Trouble::Source)?;
    let Some(image) = image else {
        return Err(Trouble::Source(NoSpool::Plain));
    };
    let permits = Permits {
        chosen: job.facts.tag.clone(),
        confirmed: None,
    };
    let target = job.readers.open_target(&job.facts.path, None, &permits);
    let name = word(job.facts.tag.as_ref());
    let destination = Destination {
        key: name.clone(),
        name,
        path: job.facts.path.clone(),
        facts: Some(job.facts.clone()),
        target: target.map_err(Trouble::Open)?,
        partition: None,
        whole: None,
        present: None,
        note: None,
    };
    let mut settings = job
        .unit
        .settings
        .clone()
        .filter(|_| job.medium.gets_settings);
    if let Some(settings) = &mut settings {
        settings.intake = shared.sources.intake(job.medium.intake.as_deref());
    }
    let wanted = WriteRequest {
        checksum: image.checksum,
        settings_digest: settings.as_ref().map(|_| digest_of(job.unit)),
        settings,
        grow: job.medium.grows,
        new_ids: Some(request.random),
        at_once: request.at_once,
        ..WriteRequest::new(request.tool.clone(), request.clock)
    };
    let plan = WritePlan::new(image.source, vec![destination], wanted);
    let mut plan = plan.map_err(Trouble::Plan)?;
    let surroundings = Surroundings {
        store: None,
        readers: &job.readers,
    };
    let observer: &dyn Observer = gate;
    let start = Start::default();
    let done = carry_out(&mut plan, &start, surroundings, &[observer], &shared.cancel);
    let media = done.map_err(|error| match error {
        JobError::Open(error) => Trouble::Open(error),
        JobError::Write { error, .. } => Trouble::Write(Failure::Write(error)),
    })?;
    let medium = media.into_iter().next();
    let medium = medium.ok_or(Trouble::Write(Failure::Write(WriteError::Cancelled)))?;
    Ok((medium, image.image))
}

/// The settings of a unit as text, without secrets.
pub(crate) fn digest_of(unit: &Unit) -> String {
    let lines = unit
        .values
        .iter()
        .map(|(path, value)| format!("{path}={value}\n"));
    blake3::hash(lines.collect::<String>().as_bytes())
        .to_hex()
        .to_string()
}

fn made(
    shared: &Shared<'_>,
    job: &Job<'_>,
    medium: &WrittenMedium,
    receipt: Receipt,
    begun: Instant,
) -> Made {
    let request = shared.request;
    let not_ejected = request
        .eject
        .then(|| job.readers.eject_open(&medium.medium));
    let not_ejected = not_ejected
        .and_then(Result::err)
        .map(|error| error.to_string());
    let addresses = job.unit.addresses();
    let entry = Entry {
        batch: Some(request.roster.name.clone()),
        unit: Some(job.unit.name.clone()),
        role: Some(job.medium.role.clone()).filter(|role| !role.is_empty()),
        station: Some(request.station.clone()),
        tag: receipt.medium.tag.clone(),
        addresses: addresses.iter().map(ToString::to_string).collect(),
        ..Entry::new(kind_of(&job.medium.content), (request.clock)())
    };
    Made {
        parcel: Parcel {
            entry,
            receipt: Some(receipt),
            claim: Some(job.claim.clone()),
        },
        took: begun.elapsed(),
        not_ejected,
    }
}

fn kind_of(content: &Content) -> Kind {
    match content {
        Content::Image { .. } => Kind::Write,
        Content::Layout(_) => Kind::Build,
    }
}

/// Whether the image is to blame.
fn is_of_source(trouble: &Trouble) -> bool {
    match trouble {
        Trouble::Source(_) | Trouble::Board(_) | Trouble::Trial { .. } => true,
        Trouble::Plan(error) => matches!(error, PlanError::Image(_)),
        Trouble::Write(Failure::Write(error)) => {
            matches!(error, WriteError::Source(_) | WriteError::Checksum { .. })
        }
        _ => false,
    }
}

/// Whether the medium is to blame.
fn is_of_medium(trouble: &Trouble) -> bool {
    match trouble {
        Trouble::Write(Failure::Write(error)) => matches!(
            error,
            WriteError::Disk(_)
                | WriteError::Dead(_)
                | WriteError::Clear(_)
                | WriteError::ReadBack { .. }
        ),
        _ => false,
    }
}
