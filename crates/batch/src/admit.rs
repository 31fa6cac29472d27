//! Which media a batch may write: only those that appeared after its start or were named, that are
//! ready, and that hold nothing of anybody's.

use pinewrit_core::inspect::{Inspection, inspect_medium};
use pinewrit_core::receipt::Identifiers;
use pinewrit_disk::{BlockDevice, Window};
use pinewrit_host::{MediumFacts, Readers, Verdict};
use pinewrit_ledger::{JobKey, JobState, Ledger, LedgerError};
use pinewrit_volume::files::open_to_read;

use crate::{BatchRequest, is_only_mounted, word};

/// Folders that other systems put on a medium when they see it.
const LEFT_BEHIND: &[&str] = &["System Volume Information", "lost+found", ".Trash-1000"];

/// Why a medium is left alone.
#[derive(Clone, Debug)]
pub enum Refusal {
    /// Its verdict.
    Verdict(Verdict),
    /// It is mounted, and may not be unmounted.
    Mounted(String),
    /// It was found to be bad: when, in seconds since 1970, and why.
    Bad(i64, String),
    /// It is a unit of this batch that is done, and when it was made.
    Made(JobKey, i64),
    /// It holds something that is not this batch's.
    Holds(Box<Inspection>, Option<String>),
    /// No open job fits on it.
    NoJob,
    /// It could not be read.
    Unreadable(String),
}

/// Whether a medium may be written.
pub type Admission = Result<(), Refusal>;

/// A medium that asks for admission.
pub(crate) struct Candidate<'c> {
    pub(crate) facts: &'c MediumFacts,
    /// Whether it appeared after the start.
    pub(crate) is_new: bool,
    /// Whether its tag was typed, to overwrite what is on it.
    pub(crate) is_confirmed: bool,
}

/// Judges a medium.
pub(crate) fn admit(
    request: &BatchRequest,
    readers: &Readers,
    ledger: &mut Ledger,
    candidate: &Candidate<'_>,
) -> Result<Admission, LedgerError> {
    let facts = candidate.facts;
    if let Err(refusal) = judge(request, readers, candidate) {
        return Ok(Err(refusal));
    }
    // Readers hide their cards: what has no number of its own is not remembered.
    if facts.identity.is_own_serial
        && let Some((time, why)) = ledger.condemned(&facts.identity.key())?
    {
        return Ok(Err(Refusal::Bad(time, why)));
    }
    let opened = match readers.open_for_reading(&facts.path) {
        Ok(opened) => opened,
        Err(error) => return Ok(Err(Refusal::Unreadable(error.to_string()))),
    };
    let device = &*opened.device;
    let content = match inspect_medium(device) {
        Ok(content) => content,
        Err(error) => return Ok(Err(Refusal::Unreadable(error.to_string()))),
    };
    if is_empty(device, &content) {
        return Ok(Ok(()));
    }
    let owner = owner(request, ledger, device, facts)?;
    Ok(match owner {
        Owner::Done(key, time) => Err(Refusal::Made(key, time)),
        Owner::Earlier => Ok(()),
        _ if request.over_any || candidate.is_confirmed => Ok(()),
        Owner::Other(unit) => Err(Refusal::Holds(Box::new(content), Some(unit))),
        Owner::Unknown => Err(Refusal::Holds(Box::new(content), None)),
    })
}

/// By its verdict. What the desktop has mounted since it was plugged in is unmounted on request.
fn judge(
    request: &BatchRequest,
    readers: &Readers,
    candidate: &Candidate<'_>,
) -> Result<(), Refusal> {
    let facts = candidate.facts;
    match &facts.verdict {
        Verdict::Ready => Ok(()),
        verdict if is_only_mounted(verdict) => {
            if !request.unmount || !candidate.is_new {
                let points = facts.places.iter().flat_map(|place| &place.points);
                let points: Vec<String> = points.map(|point| point.display().to_string()).collect();
                return Err(Refusal::Mounted(points.join(", ")));
            }
            let unmounted = readers.unmount(&facts.name);
            unmounted.map_err(|error| Refusal::Mounted(error.to_string()))?;
            Ok(())
        }
        verdict => Err(Refusal::Verdict(verdict.clone())),
    }
}

/// Whose a medium is, as far as the ledger knows.
enum Owner {
    /// A job of this batch that is done.
    Done(JobKey, i64),
    /// This batch's own, and not needed any more.
    Earlier,
    /// Another unit.
    Other(String),
    Unknown,
}

fn owner(
    request: &BatchRequest,
    ledger: &mut Ledger,
    device: &dyn BlockDevice,
    facts: &MediumFacts,
) -> Result<Owner, LedgerError> {
    let Some(table) = Identifiers::of(device).table else {
        return Ok(Owner::Unknown);
    };
    let tag = word(facts.tag.as_ref());
    let mut records = ledger.with_table(&table)?;
    let key = |record: &pinewrit_ledger::Record| (record.unit.clone(), record.role.clone());
    let first = records.first().map(key);
    let is_one = records.iter().all(|record| Some(key(record)) == first);
    if !is_one {
        // Media that kept the image's identifiers are told apart by their own numbers.
        let is_own = facts.identity.is_own_serial;
        records.retain(|record| is_own && record.tag.as_deref() == Some(tag.as_str()));
    }
    let Some(record) = records.first() else {
        return Ok(Owner::Unknown);
    };
    let Some(unit) = &record.unit else {
        return Ok(Owner::Unknown);
    };
    if record.batch.as_deref() != Some(request.roster.name.as_str()) {
        return Ok(Owner::Other(unit.clone()));
    }
    let role = record.role.clone().unwrap_or_default();
    let jobs = ledger.jobs(&request.roster.name)?;
    let mut jobs = jobs.into_iter();
    let job = jobs.find(|job| job.key.unit == *unit && job.key.role == role);
    Ok(match job {
        Some(job) if job.state == JobState::Done && job.record.as_ref() == Some(&record.id) => {
            Owner::Done(job.key, record.time)
        }
        _ => Owner::Earlier,
    })
}

/// Whether there is nothing on a medium that anybody could miss: no table and no file system, or
/// one as cards are sold, without files.
fn is_empty(device: &dyn BlockDevice, content: &Inspection) -> bool {
    if content.is_unknown() {
        return true;
    }
    let has_files = |device: &dyn BlockDevice| {
        let names = open_to_read(device)
            .ok()
            .and_then(|files| files.names("/").ok().flatten());
        names.is_none_or(|names| {
            names
                .iter()
                .any(|name| !LEFT_BEHIND.contains(&name.as_str()))
        })
    };
    match (content.partitions.as_slice(), &content.filesystem) {
        ([], Some(_)) => content.scheme.is_none() && !has_files(device),
        ([], None) => content.scheme.is_some(),
        ([only], None) if only.range().end <= device.size() => {
            only.filesystem.is_some() && !has_files(&Window::new(device, only.range()))
        }
        _ => false,
    }
}
