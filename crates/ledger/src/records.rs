//! Records of what was done, and what was said about them later.

use std::collections::{BTreeMap, HashMap};

use pinewrit_core::receipt::Receipt;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::store::{Row, Value};
use crate::stored::{amend, count_words, events, receipt, record, records, seconds};
use crate::words::range;
use crate::{Ledger, LedgerError};

/// So many records are read at once.
const AT_ONCE: i64 = 1000;
/// A word that so many records have is looked for among the latest ones.
const MANY: i64 = 1000;

/// What was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// An image was written.
    Write,
    /// A medium was built from a layout.
    Build,
    /// A medium was cloned.
    Clone,
    /// A medium was saved as an image.
    Save,
    /// Settings were put on a medium.
    Configure,
    /// Something else on a medium was changed.
    Change,
    /// A medium was compared with its receipt.
    Verify,
    /// A medium's real size and speed were measured.
    Measure,
    /// A medium was started in an emulator.
    Trial,
    /// A running board was compared with its settings.
    Commission,
    /// A medium was not finished, or is bad.
    Failure,
    /// A medium was ejected.
    Eject,
    /// Somebody's remark.
    Note,
}

impl Kind {
    /// All of them.
    pub const ALL: [Self; 13] = [
        Self::Write,
        Self::Build,
        Self::Clone,
        Self::Save,
        Self::Configure,
        Self::Change,
        Self::Verify,
        Self::Measure,
        Self::Trial,
        Self::Commission,
        Self::Failure,
        Self::Eject,
        Self::Note,
    ];

    /// The word for it, in the store and in JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Build => "build",
            Self::Clone => "clone",
            Self::Save => "save",
            Self::Configure => "configure",
            Self::Change => "change",
            Self::Verify => "verify",
            Self::Measure => "measure",
            Self::Trial => "trial",
            Self::Commission => "commission",
            Self::Failure => "failure",
            Self::Eject => "eject",
            Self::Note => "note",
        }
    }

    pub(crate) fn of(word: &str) -> Self {
        let found = Self::ALL.into_iter().find(|kind| kind.word() == word);
        found.unwrap_or(Self::Note)
    }
}

/// Something that happened, to be recorded or as it was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Entry {
    /// Its identifier; recording it twice is recording it once.
    pub id: String,
    /// When it happened, by the station's clock, in seconds since 1970.
    pub time: i64,
    /// What was done.
    pub kind: Kind,
    /// The batch.
    pub batch: Option<String>,
    /// The unit's name.
    pub unit: Option<String>,
    /// The role of the medium in the unit.
    pub role: Option<String>,
    /// The station.
    pub station: Option<String>,
    /// The medium's tag.
    pub tag: Option<String>,
    /// The unit's addresses; they are kept with its record.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<String>,
    /// The record that this is about.
    pub record: Option<String>,
    /// In words: why it failed, or a note.
    pub remark: Option<String>,
}

impl Entry {
    /// An entry about nothing yet.
    pub fn new(kind: Kind, time: i64) -> Self {
        Self {
            id: Uuid::new_v4().to_string(),
            time,
            kind,
            batch: None,
            unit: None,
            role: None,
            station: None,
            tag: None,
            addresses: Vec::new(),
            record: None,
            remark: None,
        }
    }
}

/// A medium that was made, as lists show it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Record {
    /// Its identifier.
    pub id: String,
    /// When it was finished, in seconds since 1970.
    pub time: i64,
    /// `write`, `build`, `clone` …
    pub kind: String,
    /// The batch.
    pub batch: Option<String>,
    /// The unit's name.
    pub unit: Option<String>,
    /// The role of the medium in the unit.
    pub role: Option<String>,
    /// The station.
    pub station: Option<String>,
    /// The medium's tag.
    pub tag: Option<String>,
    /// Its name: the device's path, or the card file's.
    pub medium: Option<String>,
    /// Its maker and model.
    pub model: Option<String>,
    /// Its size in bytes.
    pub size: Option<i64>,
    /// The host name.
    pub host_name: Option<String>,
    /// The addresses, separated by spaces.
    pub addresses: Option<String>,
    /// The image's name.
    pub image: Option<String>,
    /// The image's checksum.
    pub checksum: Option<String>,
    /// The disk's signature or GUID.
    pub table_id: Option<String>,
    /// Whether everything was read back and found equal.
    pub verified: bool,
    /// Bytes written.
    pub written_bytes: Option<i64>,
    /// How long writing took, in milliseconds.
    pub write_millis: Option<i64>,
    /// How long reading back took, in milliseconds.
    pub verify_millis: Option<i64>,
    /// When the running board was compared with its settings.
    pub commissioned: Option<i64>,
    /// The line for a client's `known_hosts`.
    pub known_hosts: Option<String>,
}

pub(crate) const COLUMNS: &str = "id, time, kind, batch, unit, role, station, tag, medium, model, size, host_name, \
    addresses, image, checksum, table_id, verified, written_bytes, write_millis, verify_millis, \
    commissioned, known_hosts";

impl Record {
    pub(crate) fn of(mut row: Row) -> Self {
        Self {
            id: row.text().unwrap_or_default(),
            time: row.int().unwrap_or(0),
            kind: row.text().unwrap_or_default(),
            batch: row.text(),
            unit: row.text(),
            role: row.text(),
            station: row.text(),
            tag: row.text(),
            medium: row.text(),
            model: row.text(),
            size: row.int(),
            host_name: row.text(),
            addresses: row.text(),
            image: row.text(),
            checksum: row.text(),
            table_id: row.text(),
            verified: row.int() == Some(1),
            written_bytes: row.int(),
            write_millis: row.int(),
            verify_millis: row.int(),
            commissioned: row.int(),
            known_hosts: row.text(),
        }
    }
}

/// A host name or address that another unit has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conflict {
    /// The unit that wants it.
    pub unit: String,
    /// The name or address.
    pub word: String,
    /// The latest record with it.
    pub record: Record,
}

impl Ledger {
    /// Records what was done; a finished medium with its receipt. Recording the same entry again
    /// changes nothing.
    ///
    /// # Errors
    /// [`LedgerError`]: nothing was recorded.
    pub fn record(&mut self, entry: &Entry, receipt: Option<&Receipt>) -> Result<(), LedgerError> {
        self.change(|session| record(session, entry, receipt))
    }

    /// Records what was found out about the medium with this receipt; nothing, if it is not here.
    ///
    /// # Errors
    /// [`LedgerError`]: nothing was recorded.
    pub fn record_about(&mut self, digest: &str, entry: &Entry) -> Result<(), LedgerError> {
        let sql = "SELECT id, unit, role, batch, tag FROM records WHERE digest = ?1";
        self.change(|session| {
            let found = session.query(sql, &[digest.into()])?.pop();
            let Some(mut row) = found else {
                return Ok(());
            };
            let about = Entry {
                record: row.text(),
                unit: row.text(),
                role: row.text(),
                batch: row.text(),
                tag: row.text(),
                ..entry.clone()
            };
            record(session, &about, None)
        })
    }

    /// Records a change of media: the receipts as they are now, each with its digest of before. A
    /// receipt that is not here is taken in.
    ///
    /// # Errors
    /// [`LedgerError`]: nothing was recorded.
    pub fn amend(
        &mut self,
        entry: &Entry,
        receipts: &[(String, Receipt)],
    ) -> Result<(), LedgerError> {
        self.change(|session| {
            for (number, (before, receipt)) in receipts.iter().enumerate() {
                amend(session, entry, number, before, receipt)?;
            }
            Ok(())
        })
    }

    /// Takes in receipts that are not here yet; returns how many there were.
    ///
    /// # Errors
    /// [`LedgerError`]: none was taken.
    pub fn take_in(&mut self, receipts: &[Receipt]) -> Result<usize, LedgerError> {
        self.change(|session| {
            let mut taken = 0;
            for receipt in receipts {
                let known = "SELECT id FROM records WHERE digest = ?1";
                let digest = Value::from(receipt.digest.as_str());
                if session.query(known, &[digest])?.is_empty() {
                    let entry = Entry {
                        tag: receipt.medium.tag.clone(),
                        ..Entry::new(Kind::Write, seconds(&receipt.finished).unwrap_or(0))
                    };
                    record(session, &entry, Some(receipt))?;
                    taken += 1;
                }
            }
            Ok(taken)
        })
    }

    /// The latest records, the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn last(&mut self, count: i64) -> Result<Vec<Record>, LedgerError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM records ORDER BY time DESC, unit DESC, id DESC LIMIT ?1"
        );
        self.read(|session| records(session, &sql, &[count.into()]))
    }

    /// The records that have a word with this beginning, the newest first; of several words, all.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn find(&mut self, text: &str, most: i64) -> Result<Vec<Record>, LedgerError> {
        let words: Vec<(String, String)> = text.split_whitespace().map(range).collect();
        if words.is_empty() {
            return Ok(Vec::new());
        }
        self.read(|session| {
            let mut values: Vec<Value> = Vec::new();
            let mut conditions = Vec::new();
            for (start, end) in &words {
                let own: [Value; 2] = [start.as_str().into(), end.as_str().into()];
                let is_rare = count_words(session, &own)? < MANY;
                values.extend(own);
                let (first, second) = (values.len() - 1, values.len());
                let is_meant = format!("word >= ?{first} AND word < ?{second}");
                // What many records have is soon found among the latest.
                conditions.push(if is_rare {
                    format!("id IN (SELECT record FROM words WHERE {is_meant})")
                } else {
                    format!(
                        // Not EXISTS: planners turn that into a join from the words.
                        "(SELECT 1 FROM words WHERE record = records.id AND {is_meant} LIMIT 1) = 1"
                    )
                });
            }
            values.push(most.into());
            let sql = format!(
                "SELECT {COLUMNS} FROM records WHERE {} ORDER BY time DESC, unit DESC, id DESC \
                 LIMIT ?{}",
                conditions.join(" AND "),
                values.len()
            );
            records(session, &sql, &values)
        })
    }

    /// The records of a unit, a tag, or with an identifier or its beginning; the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn of(&mut self, name: &str) -> Result<Vec<Record>, LedgerError> {
        let is_id = name.len() >= 8 && name.chars().all(|c| c.is_ascii_hexdigit() || c == '-');
        let beginning = if is_id {
            name.to_lowercase()
        } else {
            "-".to_owned()
        };
        let end = format!("{beginning}g");
        let tag = name.to_uppercase();
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE unit = ?1 OR tag = ?2 OR (id >= ?3 AND id < ?4) \
             ORDER BY time DESC, unit DESC, id DESC"
        );
        let values: [Value; 4] = [name.into(), tag.into(), beginning.into(), end.into()];
        self.read(|session| records(session, &sql, &values))
    }

    /// The records of media with this host name, the newest first, but no more than `most`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn of_host(&mut self, name: &str, most: i64) -> Result<Vec<Record>, LedgerError> {
        let mut found = self.find(name, most)?;
        found.retain(|record| record.host_name.as_deref() == Some(name));
        Ok(found)
    }

    /// The records of media with this disk signature or GUID, the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn with_table(&mut self, table_id: &str) -> Result<Vec<Record>, LedgerError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE table_id = ?1 ORDER BY time DESC, unit DESC, id DESC"
        );
        self.read(|session| records(session, &sql, &[table_id.into()]))
    }

    /// All records, the oldest first, `many` at a time.
    ///
    /// # Errors
    /// [`LedgerError`]; what `take` returns ends it.
    pub fn each<E: From<LedgerError>>(
        &mut self,
        many: i64,
        mut take: impl FnMut(&mut Self, Vec<Record>) -> Result<(), E>,
    ) -> Result<(), E> {
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE time > ?1 OR (time = ?1 AND id > ?2) \
             ORDER BY time, id LIMIT ?3"
        );
        let (mut time, mut id) = (i64::MIN, String::new());
        loop {
            let values: [Value; 3] = [time.into(), id.as_str().into(), many.into()];
            let found = self.read(|session| records(session, &sql, &values))?;
            let Some(last) = found.last() else {
                return Ok(());
            };
            (time, id) = (last.time, last.id.clone());
            take(self, found)?;
        }
    }

    /// What each unit, and each medium without one, has now: its latest record, the oldest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn current(&mut self) -> Result<Vec<Record>, LedgerError> {
        let mut all: BTreeMap<(i64, String), Record> = BTreeMap::new();
        let mut latest: HashMap<String, (i64, String)> = HashMap::new();
        self.each(AT_ONCE, |_, records| {
            for record in records {
                let place = (record.time, record.id.clone());
                let named = record.unit.as_ref().or(record.host_name.as_ref());
                let role = record.role.as_deref().unwrap_or_default();
                let unit = named.map(|name| format!("unit {name} {role}"));
                let tag = record.tag.as_ref().map(|tag| format!("tag {tag}"));
                for key in unit.into_iter().chain(tag) {
                    // A unit has one medium for each role, and a medium is in one unit.
                    if let Some(before) = latest.insert(key, place.clone()) {
                        all.remove(&before);
                    }
                }
                all.insert(place, record);
            }
            Ok::<_, LedgerError>(())
        })?;
        Ok(all.into_values().collect())
    }

    /// The receipt of a record; `None` if it has none.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn receipt(&mut self, id: &str) -> Result<Option<Receipt>, LedgerError> {
        self.read(|session| receipt(session, id))
    }

    /// What happened to a unit, a tag or a record, the oldest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn events(&mut self, name: &str) -> Result<Vec<Entry>, LedgerError> {
        let sql = "SELECT id, time, kind, batch, unit, role, station, tag, record, remark FROM events \
            WHERE unit = ?1 OR record = ?1 OR tag = ?2 ORDER BY time, stored, id";
        let values: [Value; 2] = [name.into(), name.to_uppercase().into()];
        self.read(|session| events(session, sql, &values))
    }

    /// The latest events of some kind, the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn last_events(&mut self, kind: Kind, count: i64) -> Result<Vec<Entry>, LedgerError> {
        let sql = "SELECT id, time, kind, batch, unit, role, station, tag, record, remark FROM events \
            WHERE kind = ?1 ORDER BY time DESC, unit DESC, id DESC LIMIT ?2";
        let values: [Value; 2] = [kind.word().into(), count.into()];
        self.read(|session| events(session, sql, &values))
    }

    /// Which of these host names and addresses of units other units already have. What belongs to the
    /// same unit is no conflict.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn owners(&mut self, wanted: &[(String, String)]) -> Result<Vec<Conflict>, LedgerError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE id IN (SELECT record FROM words WHERE word = ?1) \
             AND (unit IS NULL OR unit <> ?2) ORDER BY time DESC, unit DESC, id DESC LIMIT 1"
        );
        self.read(|session| {
            let mut found = Vec::new();
            for (unit, word) in wanted {
                let values: [Value; 2] = [word.to_lowercase().into(), unit.as_str().into()];
                let rows = records(session, &sql, &values)?;
                found.extend(rows.into_iter().map(|record| Conflict {
                    unit: unit.clone(),
                    word: word.clone(),
                    record,
                }));
            }
            Ok(found)
        })
    }

    /// How many records there are.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn count(&mut self) -> Result<i64, LedgerError> {
        self.read(|session| {
            let mut rows = session.query("SELECT COUNT(*) FROM records", &[])?;
            Ok(rows.pop().and_then(|mut row| row.int()).unwrap_or(0))
        })
    }
}
