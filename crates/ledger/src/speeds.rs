//! How fast media have been, measured and while they were written.

use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use crate::store::{Row, Value};
use crate::{Ledger, LedgerError};

/// The most measurements and writes of a model that are looked at.
const MOST: i64 = 200;

/// A measurement of a medium.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Speed {
    /// When, in seconds since 1970.
    pub time: i64,
    /// The medium's tag.
    pub tag: Option<String>,
    /// Its maker and model.
    pub model: Option<String>,
    /// What it claims to have, in bytes.
    pub size: u64,
    /// What it has, in bytes, if that was measured.
    pub real: Option<u64>,
    /// Reading, in bytes a second.
    pub read: Option<u64>,
    /// Writing, in bytes a second.
    pub write: Option<u64>,
}

/// Where a known speed comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SpeedSource {
    /// This medium was measured.
    Measured,
    /// This medium was written.
    Written,
    /// Media of this model were measured.
    ModelMeasured,
    /// Media of this model were written.
    ModelWritten,
}

/// What is known of a medium's speed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct KnownSpeed {
    /// Where it comes from.
    pub source: SpeedSource,
    /// When, in seconds since 1970: the last time.
    pub time: i64,
    /// Reading, in bytes a second.
    pub read: Option<u64>,
    /// Writing, in bytes a second.
    pub write: Option<u64>,
}

impl Ledger {
    /// Keeps a measurement.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn record_speed(&mut self, speed: &Speed) -> Result<(), LedgerError> {
        let id = Uuid::new_v4().to_string();
        self.change(|session| {
            let sql = "INSERT INTO speeds (id, time, tag, model, size, real_size, read_rate, write_rate) \
                VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
            let number = |value: Option<u64>| value.and_then(|value| i64::try_from(value).ok());
            let values: [Value; 8] = [
                id.as_str().into(),
                speed.time.into(),
                speed.tag.clone().into(),
                speed.model.clone().into(),
                number(Some(speed.size)).into(),
                number(speed.real).into(),
                number(speed.read).into(),
                number(speed.write).into(),
            ];
            session.execute(sql, &values)?;
            Ok(())
        })
    }

    /// What is known of the speed of a medium: itself rather than its model, measured rather than
    /// written. Of a model it is the median.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn known_speed(
        &mut self,
        tag: Option<&str>,
        model: Option<&str>,
    ) -> Result<Option<KnownSpeed>, LedgerError> {
        const MEASURED: &str = "SELECT time, read_rate, write_rate FROM speeds \
            WHERE (tag = ?1 OR model = ?1) AND read_rate IS NOT NULL ORDER BY time DESC LIMIT ?2";
        // Writing and reading back took at least a second, or says nothing.
        const WRITTEN: &str = "SELECT time, \
            CASE WHEN verify_millis > 1000 THEN written_bytes * 1000 / verify_millis END, \
            CASE WHEN write_millis > 1000 THEN written_bytes * 1000 / write_millis END FROM records \
            WHERE (tag = ?1 OR model = ?1) AND written_bytes > 0 ORDER BY time DESC LIMIT ?2";
        let tries = [
            (SpeedSource::Measured, MEASURED, tag),
            (SpeedSource::Written, WRITTEN, tag),
            (SpeedSource::ModelMeasured, MEASURED, model),
            (SpeedSource::ModelWritten, WRITTEN, model),
        ];
        self.read(|session| {
            for (source, sql, key) in tries {
                let Some(key) = key.filter(|key| !key.is_empty()) else {
                    continue;
                };
                let is_model = matches!(
                    source,
                    SpeedSource::ModelMeasured | SpeedSource::ModelWritten
                );
                let most = if is_model { MOST } else { 1 };
                let rows = session.query(sql, &[key.into(), most.into()])?;
                if let Some(known) = median(source, rows) {
                    return Ok(Some(known));
                }
            }
            Ok(None)
        })
    }
}

/// The middle of all rates; `None` if there are none.
fn median(source: SpeedSource, rows: Vec<Row>) -> Option<KnownSpeed> {
    let (mut last, mut reads, mut writes) = (None, Vec::new(), Vec::new());
    for mut row in rows {
        let time = row.int();
        last = last.max(time);
        let rate = |rate: Option<i64>| rate.and_then(|rate| u64::try_from(rate).ok());
        reads.extend(rate(row.int()));
        writes.extend(rate(row.int()));
    }
    let middle = |mut rates: Vec<u64>| {
        rates.sort_unstable();
        rates.get(rates.len() / 2).copied()
    };
    let (read, write) = (middle(reads), middle(writes));
    (read.is_some() || write.is_some()).then_some(KnownSpeed {
        source,
        time: last?,
        read,
        write,
    })
}
