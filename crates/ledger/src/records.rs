//! Records of what was done, and what was said about them later.

use pinewrit_core::receipt::Receipt;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::compact::{ChunkMap, pack, unpack};
use crate::store::{Row, Session, Value};
use crate::words::{range, words};
use crate::{Ledger, LedgerError};

/// The most maps of chunks that one image's media are compared with.
const MAX_MAPS: i64 = 4;

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
    pub const ALL: [Self; 11] = [
        Self::Write,
        Self::Build,
        Self::Clone,
        Self::Save,
        Self::Configure,
        Self::Change,
        Self::Verify,
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
            Self::Commission => "commission",
            Self::Failure => "failure",
            Self::Eject => "eject",
            Self::Note => "note",
        }
    }

    fn of(word: &str) -> Self {
        let found = Self::ALL.into_iter().find(|kind| kind.word() == word);
        found.unwrap_or(Self::Note)
    }
}

/// Something to be recorded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
    /// The unit's addresses.
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

const COLUMNS: &str = "id, time, kind, batch, unit, role, station, tag, medium, model, size, host_name, \
    addresses, image, checksum, table_id, verified, written_bytes, write_millis, verify_millis, \
    commissioned, known_hosts";

impl Record {
    fn of(mut row: Row) -> Self {
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

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct EventRow {
    /// When, in seconds since 1970.
    pub time: i64,
    /// What.
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
    /// The record that it is about.
    pub record: Option<String>,
    /// In words.
    pub remark: Option<String>,
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
        let sql =
            format!("SELECT {COLUMNS} FROM records ORDER BY time DESC, unit DESC, id LIMIT ?1");
        self.read(|session| records(session, &sql, &[count.into()]))
    }

    /// The records that have a word with this beginning, the newest first; of several words, all.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn find(&mut self, text: &str, most: i64) -> Result<Vec<Record>, LedgerError> {
        let mut values: Vec<Value> = Vec::new();
        let mut conditions = Vec::new();
        for word in text.split_whitespace() {
            let (start, end) = range(word);
            values.extend([start.into(), end.into()]);
            let (first, second) = (values.len() - 1, values.len());
            conditions.push(format!(
                "id IN (SELECT record FROM words WHERE word >= ?{first} AND word < ?{second})"
            ));
        }
        if conditions.is_empty() {
            return Ok(Vec::new());
        }
        values.push(most.into());
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE {} ORDER BY time DESC, unit DESC, id LIMIT ?{}",
            conditions.join(" AND "),
            values.len()
        );
        self.read(|session| records(session, &sql, &values))
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
             ORDER BY time DESC, unit DESC, id"
        );
        let values: [Value; 4] = [name.into(), tag.into(), beginning.into(), end.into()];
        self.read(|session| records(session, &sql, &values))
    }

    /// The records of media with this disk signature or GUID, the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn with_table(&mut self, table_id: &str) -> Result<Vec<Record>, LedgerError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM records WHERE table_id = ?1 ORDER BY time DESC, unit DESC, id"
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
    pub fn events(&mut self, name: &str) -> Result<Vec<EventRow>, LedgerError> {
        let sql = "SELECT time, kind, batch, unit, role, station, tag, record, remark FROM events \
            WHERE unit = ?1 OR record = ?1 OR tag = ?2 ORDER BY time, stored, id";
        let values: [Value; 2] = [name.into(), name.to_uppercase().into()];
        self.read(|session| events(session, sql, &values))
    }

    /// The latest events of some kind, the newest first.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn last_events(&mut self, kind: Kind, count: i64) -> Result<Vec<EventRow>, LedgerError> {
        let sql = "SELECT time, kind, batch, unit, role, station, tag, record, remark FROM events \
            WHERE kind = ?1 ORDER BY time DESC, unit DESC, id LIMIT ?2";
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
             AND (unit IS NULL OR unit <> ?2) ORDER BY time DESC, unit DESC, id LIMIT 1"
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

fn records(
    session: &mut dyn Session,
    sql: &str,
    values: &[Value],
) -> Result<Vec<Record>, LedgerError> {
    let rows = session.query(sql, values)?;
    Ok(rows.into_iter().map(Record::of).collect())
}

fn events(
    session: &mut dyn Session,
    sql: &str,
    values: &[Value],
) -> Result<Vec<EventRow>, LedgerError> {
    let rows = session.query(sql, values)?.into_iter();
    let event = |mut row: Row| EventRow {
        time: row.int().unwrap_or(0),
        kind: Kind::of(&row.text().unwrap_or_default()),
        batch: row.text(),
        unit: row.text(),
        role: row.text(),
        station: row.text(),
        tag: row.text(),
        record: row.text(),
        remark: row.text(),
    };
    Ok(rows.map(event).collect())
}

fn receipt(session: &mut dyn Session, id: &str) -> Result<Option<Receipt>, LedgerError> {
    let sql = "SELECT receipt, content FROM records LEFT JOIN chunk_maps ON chunk_maps.id = chunk_map \
        WHERE records.id = ?1";
    let row = session.query(sql, &[id.into()])?.pop();
    let Some(mut row) = row else {
        return Ok(None);
    };
    let (packed, base) = (row.bytes(), row.bytes());
    let Some(packed) = packed else {
        return Ok(None);
    };
    let base = base.map(|bytes| ChunkMap::from_bytes(&bytes)).transpose()?;
    Ok(Some(unpack(&packed, base.unwrap_or_default())?))
}

/// Seconds since 1970 of a time in a receipt, RFC 3339.
fn seconds(time: &str) -> Option<i64> {
    let time: jiff::Timestamp = time.parse().ok()?;
    Some(time.as_second())
}

pub(crate) fn record(
    session: &mut dyn Session,
    entry: &Entry,
    receipt: Option<&Receipt>,
) -> Result<(), LedgerError> {
    let stored = session.now()?;
    let record = match receipt {
        Some(receipt) => {
            insert_record(session, entry, receipt, stored)?;
            Some(entry.id.clone())
        }
        None => entry.record.clone(),
    };
    let sql = "INSERT INTO events (id, time, stored, kind, batch, unit, role, station, tag, record, \
        remark) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11) ON CONFLICT (id) DO NOTHING";
    let tag = receipt.and_then(|receipt| receipt.medium.tag.clone());
    let values: [Value; 11] = [
        entry.id.as_str().into(),
        entry.time.into(),
        stored.into(),
        entry.kind.word().into(),
        entry.batch.clone().into(),
        entry.unit.clone().into(),
        entry.role.clone().into(),
        entry.station.clone().into(),
        entry.tag.clone().or(tag).into(),
        record.into(),
        entry.remark.clone().into(),
    ];
    session.execute(sql, &values)?;
    if let (Kind::Commission, Some(record)) = (entry.kind, &entry.record) {
        let sql = "UPDATE records SET commissioned = ?1 WHERE id = ?2";
        session.execute(sql, &[entry.time.into(), record.as_str().into()])?;
    }
    if receipt.is_none() {
        let texts = [&entry.unit, &entry.remark, &entry.tag];
        let words = words(texts.into_iter().flatten().map(String::as_str));
        if let Some(record) = &entry.record {
            insert_words(session, record, &words)?;
        }
    }
    Ok(())
}

fn insert_words(
    session: &mut dyn Session,
    record: &str,
    words: &[String],
) -> Result<(), LedgerError> {
    for many in words.chunks(100) {
        let mut values: Vec<Value> = vec![record.into()];
        let rows = many.iter().zip(2..).map(|(word, number)| {
            values.push(word.as_str().into());
            format!("(?{number}, ?1)")
        });
        let rows = rows.collect::<Vec<_>>().join(", ");
        let sql = format!("INSERT INTO words (word, record) VALUES {rows} ON CONFLICT DO NOTHING");
        session.execute(&sql, &values)?;
    }
    Ok(())
}

/// The map that is most like a receipt's: one of those with the same image, or a new one.
fn base_of(
    session: &mut dyn Session,
    receipt: &Receipt,
) -> Result<Option<(String, ChunkMap)>, LedgerError> {
    let Some(own) = ChunkMap::of(receipt) else {
        return Ok(None);
    };
    let image = format!("{} {}", receipt.image.name, receipt.image.unpacked_bytes);
    let sql = "SELECT id, content FROM chunk_maps WHERE image = ?1 ORDER BY id LIMIT ?2";
    let rows = session.query(sql, &[image.as_str().into(), MAX_MAPS.into()])?;
    let count = rows.len() as i64;
    for mut row in rows {
        let (Some(id), Some(content)) = (row.text(), row.bytes()) else {
            continue;
        };
        let map = ChunkMap::from_bytes(&content)?;
        if own.is_like(&map) {
            return Ok(Some((id, map)));
        }
    }
    if count >= MAX_MAPS {
        return Ok(None);
    }
    let content = own.to_bytes();
    let id = blake3::hash(&content).to_hex().to_string();
    let sql = "INSERT INTO chunk_maps (id, image, content) VALUES (?1, ?2, ?3) \
        ON CONFLICT (id) DO NOTHING";
    session.execute(sql, &[id.as_str().into(), image.into(), content.into()])?;
    Ok(Some((id, own)))
}

fn amend(
    session: &mut dyn Session,
    entry: &Entry,
    number: usize,
    before: &str,
    receipt: &Receipt,
) -> Result<(), LedgerError> {
    let sql = "SELECT id, unit, role, batch FROM records WHERE digest = ?1";
    let found = session.query(sql, &[before.into()])?.pop();
    let Some((mut row, id)) = found.and_then(|mut row| row.text().map(|id| (row, id))) else {
        let made = Entry {
            id: Uuid::new_v4().to_string(),
            kind: Kind::Write,
            remark: None,
            ..entry.clone()
        };
        record(session, &made, Some(receipt))?;
        let about = Entry {
            record: Some(made.id),
            ..entry.clone()
        };
        return record(session, &about, None);
    };
    let mut sealed = receipt.clone();
    sealed.seal().map_err(|_| crate::compact::Damaged)?;
    let (map, base) = base_of(session, &sealed)?.unzip();
    let packed = pack(&sealed, &base.unwrap_or_default())?;
    let settings = receipt.settings.as_ref();
    let host_name = settings.and_then(|settings| settings.host_name.clone());
    let known_hosts = settings.and_then(|settings| settings.known_hosts.clone());
    let sql = "UPDATE records SET receipt = ?2, chunk_map = ?3, digest = ?4, table_id = ?5, \
        host_name = COALESCE(?6, host_name), known_hosts = COALESCE(?7, known_hosts) WHERE id = ?1";
    let table = &receipt.identifiers.table;
    let values: [Value; 7] = [
        id.as_str().into(),
        packed.into(),
        map.into(),
        sealed.digest.as_str().into(),
        table.clone().into(),
        host_name.clone().into(),
        known_hosts.into(),
    ];
    session.execute(sql, &values)?;
    let texts = [host_name.as_deref(), table.as_deref()];
    insert_words(session, &id, &words(texts.into_iter().flatten()))?;
    let about = Entry {
        id: if number == 0 {
            entry.id.clone()
        } else {
            Uuid::new_v4().to_string()
        },
        unit: row.text(),
        role: row.text(),
        batch: row.text(),
        record: Some(id),
        ..entry.clone()
    };
    record(session, &about, None)
}

fn insert_record(
    session: &mut dyn Session,
    entry: &Entry,
    receipt: &Receipt,
    stored: i64,
) -> Result<(), LedgerError> {
    let known = "SELECT id FROM records WHERE id = ?1";
    if !session
        .query(known, &[entry.id.as_str().into()])?
        .is_empty()
    {
        return Ok(());
    }
    let mut sealed = receipt.clone();
    sealed.seal().map_err(|_| crate::compact::Damaged)?;
    let base = base_of(session, &sealed)?;
    let (map, base) = base.unzip();
    let packed = pack(&sealed, &base.unwrap_or_default())?;
    let medium = &receipt.medium;
    let settings = receipt.settings.as_ref();
    let host_name = settings.and_then(|settings| settings.host_name.clone());
    let known_hosts = settings.and_then(|settings| settings.known_hosts.clone());
    let named = [&medium.maker, &medium.model].into_iter().flatten();
    let model: Vec<&str> = named.map(String::as_str).collect();
    let addresses = entry.addresses.join(" ");
    let millis = |seconds: f64| Value::Int((seconds * 1000.0).round() as i64);
    let int = |bytes: u64| Value::Int(i64::try_from(bytes).unwrap_or(i64::MAX));
    let sql = format!(
        "INSERT INTO records ({COLUMNS}, stored, digest, chunk_map, receipt) VALUES \
         (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, \
         ?20, ?21, ?22, ?23, ?24, ?25, ?26) ON CONFLICT DO NOTHING"
    );
    let values: [Value; 26] = [
        entry.id.as_str().into(),
        entry.time.into(),
        entry.kind.word().into(),
        entry.batch.clone().into(),
        entry.unit.clone().into(),
        entry.role.clone().into(),
        entry.station.clone().into(),
        medium.tag.clone().into(),
        medium.name.as_str().into(),
        Some(model.join(" ")).filter(|text| !text.is_empty()).into(),
        int(medium.size),
        host_name.clone().into(),
        Some(addresses.clone())
            .filter(|text| !text.is_empty())
            .into(),
        receipt.image.name.as_str().into(),
        receipt.image.checksum.clone().into(),
        receipt.identifiers.table.clone().into(),
        i64::from(receipt.verified).into(),
        int(receipt.bytes.written),
        millis(receipt.write_seconds),
        millis(receipt.verify_seconds),
        Value::Null,
        known_hosts.into(),
        stored.into(),
        sealed.digest.as_str().into(),
        map.into(),
        packed.into(),
    ];
    session.execute(&sql, &values)?;
    // An address is found without its prefix too.
    let bare = entry
        .addresses
        .iter()
        .filter_map(|text| text.split('/').next());
    let mut texts: Vec<&str> = vec![&addresses, &receipt.image.name];
    texts.extend(bare);
    let optional = [
        &entry.unit,
        &entry.batch,
        &host_name,
        &medium.tag,
        &medium.serial,
        &medium.model,
        &receipt.image.checksum,
        &receipt.identifiers.table,
    ];
    texts.extend(optional.into_iter().flatten().map(String::as_str));
    texts.extend(
        receipt
            .identifiers
            .filesystems
            .iter()
            .map(|(_, id)| id.as_str()),
    );
    insert_words(session, &entry.id, &words(texts))
}
