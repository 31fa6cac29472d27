//! The jobs of a batch: one for each medium of each unit, claimed by stations for a while.

use serde::{Deserialize, Serialize};

use pinewrit_core::receipt::Receipt;
use schemars::JsonSchema;

use crate::store::{Row, Session, Value};
use crate::stored::record;
use crate::{Entry, Ledger, LedgerError};

/// Which job it is.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct JobKey {
    /// The unit's name.
    pub unit: String,
    /// The role of the medium in the unit; empty if it has one.
    pub role: String,
}

/// A job that the roster asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlannedJob {
    /// Which it is.
    pub key: JobKey,
    /// What is to be made, as a digest: it changes with the roster.
    pub digest: String,
    /// The smallest medium for it, in bytes.
    pub least: u64,
}

/// How far a job is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobState {
    /// Nobody makes it.
    Open,
    /// A station makes it.
    Held,
    /// It is made.
    Done,
    /// The roster does not have it any more.
    Dropped,
}

impl JobState {
    fn word(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Held => "held",
            Self::Done => "done",
            Self::Dropped => "dropped",
        }
    }

    fn of(word: &str) -> Self {
        let all = [Self::Held, Self::Done, Self::Dropped];
        let found = all.into_iter().find(|state| state.word() == word);
        found.unwrap_or(Self::Open)
    }
}

/// A job as the ledger knows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Job {
    /// Which it is.
    pub key: JobKey,
    /// How far it is.
    pub state: JobState,
    /// The station that makes or made it.
    pub station: Option<String>,
    /// The medium on which it is or was made.
    pub tag: Option<String>,
    /// How often it was begun.
    pub tries: i64,
    /// The record of the finished medium.
    pub record: Option<String>,
    /// Whether it was made from an earlier roster, with other settings or another image.
    pub is_outdated: bool,
    /// Why it failed the last time.
    pub why: Option<String>,
}

/// What a station is looking for.
#[derive(Clone, Debug, Default)]
pub struct Wanted<'w> {
    /// Only these units, if there are any.
    pub only: &'w [String],
    /// This unit before all others.
    pub next: Option<&'w str>,
    /// The medium's size, in bytes.
    pub size: u64,
    /// The medium's tag.
    pub tag: &'w str,
}

/// A job that a station may make now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Claim {
    /// The batch.
    pub batch: String,
    /// Which job it is.
    pub key: JobKey,
    /// Grows with each claim of the job: who has an older one has lost it.
    pub token: i64,
    /// How long it is valid, in seconds.
    pub lease: i64,
}

/// The claim was lost: another station makes the unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Lost;

/// What a batch found when it began or was resumed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Begun {
    /// Whether it had been begun before.
    pub is_resumed: bool,
    /// Jobs that are new in the roster since then.
    pub added: Vec<JobKey>,
    /// Finished jobs whose unit or image has changed in the roster since.
    pub outdated: Vec<JobKey>,
    /// Jobs that are no longer in the roster.
    pub dropped: Vec<JobKey>,
}

impl Ledger {
    /// Begins a batch, or brings one up to date with its roster.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn begin_batch(
        &mut self,
        batch: &str,
        planned: &[PlannedJob],
    ) -> Result<Begun, LedgerError> {
        self.change(|session| begin(session, batch, planned))
    }

    /// All jobs of a batch, in the roster's order.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn jobs(&mut self, batch: &str) -> Result<Vec<Job>, LedgerError> {
        let sql = "SELECT unit, role, state, station, tag, tries, record, made, digest, why FROM jobs \
            WHERE batch = ?1 ORDER BY place";
        self.read(|session| {
            let rows = session.query(sql, &[batch.into()])?;
            Ok(rows.into_iter().map(job).collect())
        })
    }

    /// The names of all batches, the latest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn batches(&mut self) -> Result<Vec<String>, LedgerError> {
        self.read(|session| {
            let rows = session.query("SELECT name FROM batches ORDER BY begun DESC, name", &[])?;
            Ok(rows.into_iter().filter_map(|mut row| row.text()).collect())
        })
    }

    /// Claims the next job for a medium: one that nobody has, or whose station has been silent for
    /// longer than its lease.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn claim(
        &mut self,
        batch: &str,
        station: &str,
        wanted: &Wanted<'_>,
        lease: i64,
    ) -> Result<Option<Claim>, LedgerError> {
        self.change(|session| claim(session, batch, station, wanted, lease))
    }

    /// The job that a medium of this size would get next, without claiming it.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn next_job(
        &mut self,
        batch: &str,
        wanted: &Wanted<'_>,
    ) -> Result<Option<JobKey>, LedgerError> {
        self.read(|session| {
            let now = session.now()?;
            Ok(free(session, batch, wanted, now, "")?.map(|(key, _)| key))
        })
    }

    /// Says that the station is still at it.
    ///
    /// # Errors
    /// [`LedgerError`]; inside, [`Lost`].
    pub fn renew(&mut self, claim: &Claim) -> Result<Result<(), Lost>, LedgerError> {
        self.change(|session| {
            let now = session.now()?;
            let sql = "UPDATE jobs SET lease = ?5 WHERE batch = ?1 AND unit = ?2 AND role = ?3 \
                AND token = ?4 AND state = 'held'";
            let lease = Value::Int(now + claim.lease);
            let changed = session.execute(sql, &[key_of(claim), vec![lease]].concat())?;
            Ok(if changed == 1 { Ok(()) } else { Err(Lost) })
        })
    }

    /// The job is done: recorded together with its medium.
    ///
    /// # Errors
    /// [`LedgerError`]; inside, [`Lost`]: then the medium is recorded as made, and the job is
    /// another station's.
    pub fn finish(
        &mut self,
        claim: &Claim,
        entry: &Entry,
        receipt: Option<&Receipt>,
    ) -> Result<Result<(), Lost>, LedgerError> {
        self.change(|session| {
            record(session, entry, receipt)?;
            let sql = "UPDATE jobs SET state = 'done', made = digest, why = NULL, record = ?5 \
                WHERE batch = ?1 AND unit = ?2 AND role = ?3 AND token = ?4 \
                AND (state = 'held' OR (state = 'done' AND record = ?5))";
            let id = Value::from(entry.id.as_str());
            let changed = session.execute(sql, &[key_of(claim), vec![id]].concat())?;
            Ok(if changed == 1 { Ok(()) } else { Err(Lost) })
        })
    }

    /// The job was not done: it is open again, and the failure is recorded.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn give_back(&mut self, claim: &Claim, entry: Option<&Entry>) -> Result<(), LedgerError> {
        self.change(|session| {
            if let Some(entry) = entry {
                record(session, entry, None)?;
            }
            let why = entry.and_then(|entry| entry.remark.clone());
            let sql = "UPDATE jobs SET state = 'open', station = NULL, why = ?5 \
                WHERE batch = ?1 AND unit = ?2 AND role = ?3 AND token = ?4 AND state = 'held'";
            session.execute(sql, &[key_of(claim), vec![why.into()]].concat())?;
            Ok(())
        })
    }

    /// Opens finished jobs of a unit again.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn again(&mut self, batch: &str, unit: &str) -> Result<u64, LedgerError> {
        let sql = "UPDATE jobs SET state = 'open', station = NULL, token = token + 1 \
            WHERE batch = ?1 AND unit = ?2 AND state = 'done'";
        self.change(|session| session.execute(sql, &[batch.into(), unit.into()]))
    }

    /// Remembers that a medium is bad, and why; it is known by its identity.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn condemn(
        &mut self,
        identity: &str,
        tag: Option<&str>,
        why: &str,
    ) -> Result<(), LedgerError> {
        self.change(|session| {
            let now = session.now()?;
            let sql = "INSERT INTO media (id, tag, bad_at, bad_why) VALUES (?1, ?2, ?3, ?4) \
                ON CONFLICT (id) DO UPDATE SET bad_at = ?3, bad_why = ?4";
            let values: [Value; 4] = [identity.into(), tag.into(), now.into(), why.into()];
            session.execute(sql, &values)?;
            Ok(())
        })
    }

    /// When and why a medium was found to be bad.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn condemned(&mut self, identity: &str) -> Result<Option<(i64, String)>, LedgerError> {
        let sql = "SELECT bad_at, bad_why FROM media WHERE id = ?1 AND bad_at IS NOT NULL";
        self.read(|session| {
            let row = session.query(sql, &[identity.into()])?.pop();
            Ok(row.and_then(|mut row| Some((row.int()?, row.text()?))))
        })
    }
}

fn key_of(claim: &Claim) -> Vec<Value> {
    vec![
        claim.batch.as_str().into(),
        claim.key.unit.as_str().into(),
        claim.key.role.as_str().into(),
        claim.token.into(),
    ]
}

fn job(mut row: Row) -> Job {
    let key = JobKey {
        unit: row.text().unwrap_or_default(),
        role: row.text().unwrap_or_default(),
    };
    let state = JobState::of(&row.text().unwrap_or_default());
    let (station, tag) = (row.text(), row.text());
    let (tries, record) = (row.int().unwrap_or(0), row.text());
    let (made, digest) = (row.text(), row.text());
    Job {
        key,
        state,
        station,
        tag,
        tries,
        record,
        is_outdated: state == JobState::Done && made != digest,
        why: row.text(),
    }
}

fn begin(
    session: &mut dyn Session,
    batch: &str,
    planned: &[PlannedJob],
) -> Result<Begun, LedgerError> {
    let now = session.now()?;
    let sql = "INSERT INTO batches (name, begun) VALUES (?1, ?2) ON CONFLICT (name) DO NOTHING";
    let is_new = session.execute(sql, &[batch.into(), now.into()])? == 1;
    // One station at a time compares the batch with its roster.
    session.execute(
        "UPDATE batches SET begun = begun WHERE name = ?1",
        &[batch.into()],
    )?;
    let sql = "SELECT unit, role, state, made, digest FROM jobs WHERE batch = ?1 ORDER BY place";
    let rows = session.query(sql, &[batch.into()])?.into_iter();
    let mut known: std::collections::BTreeMap<JobKey, (JobState, Option<String>, String)> = rows
        .filter_map(|mut row| {
            let (unit, role) = (row.text()?, row.text()?);
            let state = JobState::of(&row.text()?);
            let (made, digest) = (row.text(), row.text()?);
            Some((JobKey { unit, role }, (state, made, digest)))
        })
        .collect();
    let mut begun = Begun {
        is_resumed: !is_new,
        ..Begun::default()
    };
    for (job, place) in planned.iter().zip(0_i64..) {
        let least = i64::try_from(job.least).unwrap_or(i64::MAX);
        let values: Vec<Value> = vec![
            batch.into(),
            job.key.unit.as_str().into(),
            job.key.role.as_str().into(),
            place.into(),
            least.into(),
            job.digest.as_str().into(),
        ];
        match known.remove(&job.key) {
            None => {
                let sql = "INSERT INTO jobs (batch, unit, role, place, least, digest, state, token, \
                    lease, tries) VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'open', 0, 0, 0)";
                session.execute(sql, &values)?;
                begun.added.push(job.key.clone());
            }
            Some((state, made, _)) => {
                if state == JobState::Done && made.as_deref() != Some(job.digest.as_str()) {
                    begun.outdated.push(job.key.clone());
                }
                let sql = "UPDATE jobs SET place = ?4, least = ?5, digest = ?6, state = CASE state \
                    WHEN 'dropped' THEN CASE WHEN record IS NULL THEN 'open' ELSE 'done' END \
                    ELSE state END WHERE batch = ?1 AND unit = ?2 AND role = ?3";
                session.execute(sql, &values)?;
            }
        }
    }
    for (key, (state, ..)) in known {
        if state != JobState::Dropped {
            let sql = "UPDATE jobs SET state = 'dropped', token = token + 1 \
                WHERE batch = ?1 AND unit = ?2 AND role = ?3";
            let values = [
                batch.into(),
                key.unit.as_str().into(),
                key.role.as_str().into(),
            ];
            session.execute(sql, &values)?;
            begun.dropped.push(key);
        }
    }
    if is_new {
        begun.added.clear();
    }
    Ok(begun)
}

/// The first job that a medium could get, and its token.
fn free(
    session: &mut dyn Session,
    batch: &str,
    wanted: &Wanted<'_>,
    now: i64,
    lock: &str,
) -> Result<Option<(JobKey, i64)>, LedgerError> {
    let size = i64::try_from(wanted.size).unwrap_or(i64::MAX);
    let mut values: Vec<Value> = vec![batch.into(), now.into(), size.into()];
    values.push(wanted.next.unwrap_or_default().into());
    let mut only = String::new();
    if !wanted.only.is_empty() {
        let numbers = wanted.only.iter().map(|unit| {
            values.push(unit.as_str().into());
            format!("?{}", values.len())
        });
        only = format!(" AND unit IN ({})", numbers.collect::<Vec<_>>().join(", "));
    }
    let sql = format!(
        "SELECT unit, role, token FROM jobs WHERE batch = ?1 \
         AND (state = 'open' OR (state = 'held' AND lease < ?2)) AND least <= ?3{only} \
         ORDER BY CASE WHEN unit = ?4 THEN 0 ELSE 1 END, place LIMIT 1{lock}"
    );
    let row = session.query(&sql, &values)?.pop();
    Ok(row.and_then(|mut row| {
        let (unit, role) = (row.text()?, row.text()?);
        Some((JobKey { unit, role }, row.int()?))
    }))
}

fn claim(
    session: &mut dyn Session,
    batch: &str,
    station: &str,
    wanted: &Wanted<'_>,
    lease: i64,
) -> Result<Option<Claim>, LedgerError> {
    let now = session.now()?;
    let lock = session.skip_locked();
    let Some((key, token)) = free(session, batch, wanted, now, lock)? else {
        return Ok(None);
    };
    let token = token + 1;
    let sql = "INSERT INTO stations (name, seen) VALUES (?1, ?2) \
        ON CONFLICT (name) DO UPDATE SET seen = ?2";
    session.execute(sql, &[station.into(), now.into()])?;
    let sql = "UPDATE jobs SET state = 'held', token = ?4, lease = ?5, station = ?6, tag = ?7, \
        tries = tries + 1 WHERE batch = ?1 AND unit = ?2 AND role = ?3";
    let values: [Value; 7] = [
        batch.into(),
        key.unit.as_str().into(),
        key.role.as_str().into(),
        token.into(),
        (now + lease).into(),
        station.into(),
        wanted.tag.into(),
    ];
    session.execute(sql, &values)?;
    Ok(Some(Claim {
        batch: batch.to_owned(),
        key,
        token,
        lease,
    }))
}
