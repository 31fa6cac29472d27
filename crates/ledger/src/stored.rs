//! Records in the tables: how they are read, and what is written for each.

use pinewrit_core::receipt::Receipt;
use uuid::Uuid;

use crate::LedgerError;
use crate::compact::{ChunkMap, pack, unpack};
use crate::records::{COLUMNS, Entry, Kind, Record};
use crate::store::{Row, Session, Value};
use crate::words::words;

/// The most maps of chunks that one image's media are compared with.
const MAX_MAPS: i64 = 4;

pub(crate) fn records(
    session: &mut dyn Session,
    sql: &str,
    values: &[Value],
) -> Result<Vec<Record>, LedgerError> {
    let rows = session.query(sql, values)?;
    Ok(rows.into_iter().map(Record::of).collect())
}

pub(crate) fn events(
    session: &mut dyn Session,
    sql: &str,
    values: &[Value],
) -> Result<Vec<Entry>, LedgerError> {
    let rows = session.query(sql, values)?.into_iter();
    let event = |mut row: Row| Entry {
        id: row.text().unwrap_or_default(),
        time: row.int().unwrap_or(0),
        kind: Kind::of(&row.text().unwrap_or_default()),
        batch: row.text(),
        unit: row.text(),
        role: row.text(),
        station: row.text(),
        tag: row.text(),
        addresses: Vec::new(),
        record: row.text(),
        remark: row.text(),
    };
    Ok(rows.map(event).collect())
}

pub(crate) fn receipt(session: &mut dyn Session, id: &str) -> Result<Option<Receipt>, LedgerError> {
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
pub(crate) fn seconds(time: &str) -> Option<i64> {
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

/// How many words are in a range, up to as many as matter.
pub(crate) fn count_words(session: &mut dyn Session, range: &[Value]) -> Result<i64, LedgerError> {
    let sql = "SELECT COUNT(*) FROM (SELECT record FROM words WHERE word >= ?1 AND word < ?2 \
        LIMIT 1000) AS found";
    let mut rows = session.query(sql, range)?;
    Ok(rows.pop().and_then(|mut row| row.int()).unwrap_or(0))
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

pub(crate) fn amend(
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
        &receipt.image.listed,
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
