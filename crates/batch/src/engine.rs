//! The batch itself: readers are watched, media admitted, jobs claimed, made and recorded.

use std::collections::{BTreeSet, HashMap};
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, MutexGuard};
use std::thread::Scope;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, unbounded};
use pinewrit_core::write::WriteError;
use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::error_chain;
use pinewrit_host::{Changes, MediumFacts, Readers};
use pinewrit_ledger::{
    Claim, Entry, JobKey, JobState, Kind, Ledger, LedgerError, Lost, Outbox, Parcel, Wanted,
};

use crate::admit::{Candidate, admit};
use crate::control::{BatchError, BatchReport, Control, Place, planned};
use crate::work::{Job, Outcome, Shared, Trouble, make, renew};
use crate::{
    BatchEvent, BatchRequest, Finished, NoSpool, Refusal, Slot, Spool, Tally, Watcher, word,
};

/// How often a ledger that cannot be reached is asked again, and the jobs of others are counted.
const COUNT_EVERY: Duration = Duration::from_secs(2);

/// What is known of a medium in a reader.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Seen {
    /// It was there before, or it is done with.
    Left,
    /// It waits for a job or an answer.
    Waits,
    /// It is being written.
    Runs,
}

/// Runs a batch until all units are done, or it is closed.
///
/// # Errors
/// [`BatchError`].
pub fn run(
    request: &BatchRequest,
    place: &Place<'_>,
    watcher: &dyn Watcher,
    control: &Control,
) -> Result<BatchReport, BatchError> {
    let planned = planned(request);
    let begun = lock(place.ledger).begin_batch(&request.roster.name, &planned)?;
    watcher.event(&BatchEvent::Begun(&begun));
    let shared = Shared {
        request,
        ledger: place.ledger,
        sources: place.sources,
        watcher,
        cancel: control.cancel.clone(),
    };
    let (told, outcomes) = unbounded();
    let claims = Mutex::new(Vec::new());
    let is_over = AtomicBool::new(false);
    let bad_image = Mutex::new(None);
    let spooling = Cancel::default();
    std::thread::scope(|scope| {
        if planned.len() > 1 {
            spool_all(scope, place, watcher, (&spooling, &bad_image));
        }
        scope.spawn(|| keep_alive(&shared, &claims, &is_over));
        let mut batch = Batch {
            shared: &shared,
            place,
            control,
            claims: &claims,
            readers: place.readers.clone(),
            seen: HashMap::new(),
            running: 0,
            failed: 0,
            unsent: Vec::new(),
            told,
            outcomes,
            waiting: None,
            is_reached: true,
            ending: None,
            bad_image: &bad_image,
        };
        let ended = batch.work(scope);
        is_over.store(true, Ordering::Relaxed);
        spooling.cancel();
        ended
    })
}

fn lock(ledger: &Mutex<Ledger>) -> MutexGuard<'_, Ledger> {
    ledger.lock().unwrap_or_else(|e| e.into_inner())
}

/// Unpacks each image once; meanwhile, each medium unpacks it by itself.
fn spool_all<'s>(
    scope: &'s Scope<'s, '_>,
    place: &'s Place<'_>,
    watcher: &'s dyn Watcher,
    (cancel, bad_image): (&'s Cancel, &'s Mutex<Option<(String, Trouble)>>),
) {
    let Some(folder) = place.spool else {
        return;
    };
    scope.spawn(move || {
        for (content, prepared) in place.sources.all() {
            let made = Spool::make(
                &prepared.source,
                prepared.checksum.as_ref(),
                prepared.expected_free,
                folder,
                &Silent,
                cancel,
            );
            let name = content.to_string();
            match made {
                Ok(spool) => {
                    let event = BatchEvent::Spooled(&name, Ok(spool.used_bytes()));
                    watcher.event(&event);
                    place.sources.keep(content, spool);
                }
                Err(NoSpool::Image(WriteError::Cancelled)) => return,
                Err(why @ NoSpool::Image(_)) => {
                    let mut bad = bad_image.lock().unwrap_or_else(|e| e.into_inner());
                    bad.get_or_insert((name, Trouble::Source(why)));
                }
                Err(why) => watcher.event(&BatchEvent::Spooled(&name, Err(&why))),
            }
        }
    });
}

/// Tells the ledger that this station is still at its jobs.
fn keep_alive(shared: &Shared<'_>, claims: &Mutex<Vec<Claim>>, is_over: &AtomicBool) {
    let every = shared.request.lease / 4;
    let mut last = Instant::now();
    while !is_over.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100).min(every));
        if last.elapsed() < every {
            continue;
        }
        last = Instant::now();
        let held = claims.lock().unwrap_or_else(|e| e.into_inner()).clone();
        for claim in held {
            // Who has lost a job notices before the medium is finished.
            let _ = renew(shared.ledger, &claim);
        }
    }
}

struct Batch<'b> {
    shared: &'b Shared<'b>,
    place: &'b Place<'b>,
    control: &'b Control,
    claims: &'b Mutex<Vec<Claim>>,
    readers: Readers,
    seen: HashMap<String, Seen>,
    running: usize,
    failed: usize,
    unsent: Vec<Parcel>,
    told: Sender<(MediumFacts, Claim, Outcome)>,
    outcomes: Receiver<(MediumFacts, Claim, Outcome)>,
    /// What was last said about the next medium.
    waiting: Option<(Option<JobKey>, Tally)>,
    is_reached: bool,
    /// Why it ends early: media in work are finished first.
    ending: Option<BatchError>,
    /// Found to be bad while it was unpacked for all.
    bad_image: &'b Mutex<Option<(String, Trouble)>>,
}

/// What tells one insertion from another.
fn key_of(facts: &MediumFacts) -> String {
    let size = facts.identity.size;
    format!("{} {} {size}", facts.name, word(facts.tag.as_ref()))
}

impl<'b> Batch<'b> {
    fn work<'s>(&mut self, scope: &'s Scope<'s, '_>) -> Result<BatchReport, BatchError>
    where
        'b: 's,
    {
        let mut changes = Changes::of(&self.readers);
        for facts in self.readers.media().map_err(BatchError::Media)? {
            let is_named = self.shared.request.named.contains(&facts.path);
            let seen = if is_named { Seen::Waits } else { Seen::Left };
            self.seen.insert(key_of(&facts), seen);
        }
        let mut was_closing = false;
        let mut counted: Option<Instant> = None;
        loop {
            let mut news = self.reap();
            let mut bad = self.bad_image.lock().unwrap_or_else(|e| e.into_inner());
            if let Some((image, trouble)) = bad.take() {
                self.ending
                    .get_or_insert(BatchError::Source(image, trouble));
            }
            drop(bad);
            if !self.control.is_closing() && self.ending.is_none() {
                match self.look(scope) {
                    Ok(changed) => news |= changed,
                    Err(error) => self.ending = Some(BatchError::Media(error)),
                }
            }
            let is_closing = self.control.is_closing() || self.ending.is_some();
            if is_closing && !was_closing {
                was_closing = true;
                let closing = BatchEvent::Closing(self.running);
                self.shared.watcher.event(&closing);
            }
            if news || counted.is_none_or(|last| last.elapsed() >= COUNT_EVERY) {
                counted = Some(Instant::now());
                self.send();
                if let Some(report) = self.count(is_closing) {
                    return self.end(report);
                }
            }
            if self.running > 0 && is_closing {
                std::thread::sleep(Duration::from_millis(20));
            } else {
                changes.wait(self.shared.request.look_every);
            }
            self.readers.refresh();
        }
    }

    fn end(&mut self, report: BatchReport) -> Result<BatchReport, BatchError> {
        let outbox = self
            .place
            .state
            .map(|state| Outbox::in_folder(state.path()));
        let is_kept = |parcel: &Parcel| {
            let kept = outbox.as_ref().map(|outbox| outbox.keep(parcel));
            kept.is_some_and(|kept| kept.is_ok())
        };
        let (kept, lost): (Vec<Parcel>, Vec<Parcel>) = self.unsent.drain(..).partition(is_kept);
        if kept.len() + lost.len() > 0 {
            let lost: Vec<String> = lost.into_iter().filter_map(|one| one.entry.unit).collect();
            let unsent = BatchEvent::Unsent(kept.len(), &lost);
            self.shared.watcher.event(&unsent);
        }
        match self.ending.take() {
            Some(why) => Err(why),
            None => Ok(report),
        }
    }

    /// Looks at all readers; whether anything changed.
    fn look<'s>(&mut self, scope: &'s Scope<'s, '_>) -> io::Result<bool>
    where
        'b: 's,
    {
        let media = self.readers.media()?;
        let here: BTreeSet<String> = media.iter().map(key_of).collect();
        let before = self.seen.len();
        // What was pulled out is new when it comes back.
        self.seen
            .retain(|key, seen| *seen == Seen::Runs || here.contains(key));
        let mut news = self.seen.len() != before;
        for facts in media.iter().filter(|facts| facts.identity.size > 0) {
            if self.running >= self.shared.request.at_once {
                break;
            }
            let key = key_of(facts);
            let tag = word(facts.tag.as_ref());
            let is_new = !self.seen.contains_key(&key);
            let is_confirmed = self.control.take_confirmed(&tag);
            let waits = self.seen.get(&key) == Some(&Seen::Waits);
            let was_left = self.seen.get(&key) == Some(&Seen::Left);
            if !(is_new || waits || is_confirmed && was_left) {
                continue;
            }
            news = true;
            let candidate = Candidate {
                facts,
                is_new: is_new || waits && !self.shared.request.named.contains(&facts.path),
                is_confirmed,
            };
            let seen = match self.begin(scope, &candidate, is_new) {
                Ok(seen) => seen,
                Err(error) => {
                    self.tell_ledger(Err(&error));
                    Seen::Waits
                }
            };
            self.seen.insert(key, seen);
        }
        Ok(news)
    }

    /// Admits a medium, claims a job for it and starts the work.
    fn begin<'s>(
        &mut self,
        scope: &'s Scope<'s, '_>,
        candidate: &Candidate<'_>,
        is_first: bool,
    ) -> Result<Seen, LedgerError>
    where
        'b: 's,
    {
        let shared = self.shared;
        let request = shared.request;
        let facts = candidate.facts;
        let slot = Slot::of(facts);
        let admitted = admit(request, &self.readers, &mut lock(shared.ledger), candidate)?;
        if let Err(refusal) = admitted {
            shared.watcher.event(&BatchEvent::Refused(&slot, &refusal));
            return Ok(Seen::Left);
        }
        let wanted = Wanted {
            only: &request.only,
            next: request.next.as_deref(),
            size: facts.identity.size,
            tag: &slot.tag,
        };
        let lease = i64::try_from(request.lease.as_secs()).unwrap_or(i64::MAX);
        let (batch, station) = (&request.roster.name, &request.station);
        let claim = lock(shared.ledger).claim(batch, station, &wanted, lease)?;
        let Some(claim) = claim else {
            if is_first {
                shared
                    .watcher
                    .event(&BatchEvent::Refused(&slot, &Refusal::NoJob));
            }
            return Ok(Seen::Waits);
        };
        let unit = request.roster.unit(&claim.key.unit);
        let medium = unit.and_then(|unit| unit.medium(&claim.key.role));
        let (Some(unit), Some(medium)) = (unit, medium) else {
            // Another station has a newer roster.
            lock(shared.ledger).give_back(&claim, None)?;
            return Ok(Seen::Waits);
        };
        shared
            .watcher
            .event(&BatchEvent::Started(&slot, &claim.key, medium));
        self.claims().push(claim.clone());
        self.running += 1;
        let job = Job {
            facts: facts.clone(),
            claim,
            unit,
            medium,
            readers: self.readers.clone(),
        };
        let told = self.told.clone();
        scope.spawn(move || {
            let outcome = make(shared, &job);
            // The batch waits for all of its media.
            let _ = told.send((job.facts.clone(), job.claim.clone(), outcome));
        });
        Ok(Seen::Runs)
    }

    fn claims(&self) -> MutexGuard<'b, Vec<Claim>> {
        self.claims.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Takes what has ended; whether anything has.
    fn reap(&mut self) -> bool {
        let mut any = false;
        while let Ok((facts, claim, outcome)) = self.outcomes.try_recv() {
            any = true;
            self.running -= 1;
            self.seen.insert(key_of(&facts), Seen::Left);
            self.take(&facts, &claim, outcome);
            self.claims()
                .retain(|held| held.key != claim.key || held.token != claim.token);
        }
        any
    }

    fn take(&mut self, facts: &MediumFacts, claim: &Claim, outcome: Outcome) {
        let (shared, slot) = (self.shared, Slot::of(facts));
        match outcome {
            Outcome::Made(made) => {
                let parcel = made.parcel;
                if let (Some(state), Some(receipt)) = (self.place.state, &parcel.receipt) {
                    // The ledger has it too.
                    let _ = state.save_receipt(receipt);
                }
                let sent = parcel.send(&mut lock(shared.ledger));
                let record = parcel.entry.id.clone();
                let finished = Finished {
                    record: &record,
                    took: made.took,
                    not_ejected: made.not_ejected,
                    is_unsent: sent.is_err(),
                };
                match sent {
                    Ok(Ok(())) => {}
                    Ok(Err(Lost)) => {
                        let twice = BatchEvent::Twice(&slot, &claim.key);
                        return shared.watcher.event(&twice);
                    }
                    Err(error) => {
                        self.tell_ledger(Err(&error));
                        self.unsent.push(parcel);
                    }
                }
                shared
                    .watcher
                    .event(&BatchEvent::Done(&slot, &claim.key, finished));
            }
            Outcome::Failed { is_bad, why } => {
                self.failed += 1;
                self.fail(facts, claim, is_bad, &why);
                shared
                    .watcher
                    .event(&BatchEvent::Failed(&slot, &claim.key, &why));
            }
            Outcome::BadSource(trouble) => {
                self.give_back(claim, None);
                let unit = shared.request.roster.unit(&claim.key.unit);
                let medium = unit.and_then(|unit| unit.medium(&claim.key.role));
                let image = medium.map_or(String::new(), |medium| medium.content.to_string());
                self.ending
                    .get_or_insert(BatchError::Source(image, trouble));
            }
            Outcome::Lost => shared.watcher.event(&BatchEvent::Lost(&slot, &claim.key)),
            Outcome::Stopped => self.give_back(claim, None),
        }
    }

    /// The job is open again; a bad medium is remembered, unless it was just pulled out.
    fn fail(&mut self, facts: &MediumFacts, claim: &Claim, is_bad: bool, why: &str) {
        let request = self.shared.request;
        let entry = Entry {
            batch: Some(claim.batch.clone()),
            unit: Some(claim.key.unit.clone()),
            role: Some(claim.key.role.clone()).filter(|role| !role.is_empty()),
            station: Some(request.station.clone()),
            tag: Some(word(facts.tag.as_ref())),
            remark: Some(why.to_owned()),
            ..Entry::new(Kind::Failure, (request.clock)())
        };
        self.give_back(claim, Some(&entry));
        self.readers.refresh();
        let media = self.readers.media().unwrap_or_default();
        let is_here = media.iter().any(|other| key_of(other) == key_of(facts));
        if is_bad && is_here && facts.identity.is_own_serial {
            let tag = word(facts.tag.as_ref());
            let identity = facts.identity.key();
            if let Err(error) = lock(self.shared.ledger).condemn(&identity, Some(&tag), why) {
                self.tell_ledger(Err(&error));
            }
        }
    }

    fn give_back(&mut self, claim: &Claim, entry: Option<&Entry>) {
        // Otherwise its lease runs out.
        let given = lock(self.shared.ledger).give_back(claim, entry);
        if let Err(error) = given {
            self.tell_ledger(Err(&error));
        }
    }

    /// Sends what waits.
    fn send(&mut self) {
        while let Some(parcel) = self.unsent.first() {
            let sent = parcel.send(&mut lock(self.shared.ledger));
            match sent {
                Ok(_) => {
                    self.unsent.remove(0);
                }
                Err(_) => return,
            }
        }
    }

    fn tell_ledger(&mut self, reached: Result<(), &LedgerError>) {
        if reached.is_ok() != self.is_reached {
            self.is_reached = reached.is_ok();
            let why = reached.map_err(|error| error_chain(error));
            let why = why.as_ref().map(|_| ()).map_err(String::as_str);
            self.shared.watcher.event(&BatchEvent::Ledger(why));
        }
    }

    /// Counts the jobs and tells which is next; the report, if there is nothing left to do.
    fn count(&mut self, is_closing: bool) -> Option<BatchReport> {
        let request = self.shared.request;
        let jobs = lock(self.shared.ledger).jobs(&request.roster.name);
        let jobs = match jobs {
            Ok(jobs) => {
                self.tell_ledger(Ok(()));
                jobs
            }
            Err(error) => {
                self.tell_ledger(Err(&error));
                let is_over = is_closing && self.running == 0;
                return is_over.then(|| BatchReport {
                    was_closed: true,
                    ..BatchReport::default()
                });
            }
        };
        let is_meant = |key: &JobKey| request.only.is_empty() || request.only.contains(&key.unit);
        let jobs: Vec<_> = jobs.into_iter().filter(|job| is_meant(&job.key)).collect();
        let of = |state: JobState| jobs.iter().filter(|job| job.state == state).count();
        let tally = Tally {
            done: of(JobState::Done),
            held: of(JobState::Held),
            open: of(JobState::Open),
            failed: self.failed,
        };
        let is_done = tally.held + tally.open == 0 && self.unsent.is_empty();
        if self.running == 0 && (is_done || is_closing) {
            return Some(BatchReport {
                tally,
                was_closed: !is_done,
            });
        }
        let first = |wish: Option<&str>| {
            let mut open = jobs.iter().filter(|job| job.state == JobState::Open);
            open.find(|job| wish.is_none_or(|wish| job.key.unit == wish))
        };
        let next = first(request.next.as_deref()).or_else(|| first(None));
        let now = (next.map(|job| job.key.clone()), tally);
        if self.waiting.as_ref() != Some(&now) && !is_closing {
            self.shared
                .watcher
                .event(&BatchEvent::Waiting(now.0.as_ref(), tally));
            self.waiting = Some(now);
        }
        None
    }
}
