//! The ledger of one computer: a file, shared by all its processes.

use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, ErrorCode, ToSql, TransactionBehavior, params_from_iter};

use crate::LedgerError;
use crate::schema::migrate;
use crate::store::{Row, Session, Store, Value, Work};

/// How long another process may keep the file for itself.
const PATIENCE: Duration = Duration::from_secs(20);

/// What is kept in memory of a large ledger, in KiB; negative, as SQLite wants it.
const CACHE: i64 = -32 * 1024;

/// A file of SQLite, in WAL mode.
pub struct Sqlite {
    connection: Connection,
    path: PathBuf,
}

impl Sqlite {
    /// Opens a file, which is created if it does not exist.
    ///
    /// # Errors
    /// It cannot be used, or a newer program has changed it.
    pub fn open(path: &Path) -> Result<Self, LedgerError> {
        let mut connection = Connection::open(path)?;
        connection.busy_timeout(PATIENCE)?;
        write_ahead(&connection)?;
        // A record is on the disk before a command says so.
        connection.pragma_update(None, "synchronous", "full")?;
        connection.pragma_update(None, "cache_size", CACHE)?;
        bring_up_to_date(&mut connection)?;
        Ok(Self {
            connection,
            path: path.to_owned(),
        })
    }
}

/// Switches to the write-ahead log, once for all. SQLite does not wait there for another process
/// that is just doing the same.
fn write_ahead(connection: &Connection) -> Result<(), LedgerError> {
    let begun = Instant::now();
    loop {
        let switched = connection.pragma_update(None, "journal_mode", "wal");
        let code = switched
            .as_ref()
            .err()
            .and_then(rusqlite::Error::sqlite_error_code);
        let is_busy = matches!(
            code,
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)
        );
        if !is_busy || begun.elapsed() >= PATIENCE {
            return Ok(switched?);
        }
        thread::sleep(Duration::from_millis(20));
    }
}

/// Two processes may come first at the same time: the second finds the tables there.
fn bring_up_to_date(connection: &mut Connection) -> Result<(), LedgerError> {
    let begun = Instant::now();
    loop {
        match migrate(connection) {
            Err(LedgerError::Store(_)) if begun.elapsed() < PATIENCE => {
                thread::sleep(Duration::from_millis(50));
            }
            done => return done,
        }
    }
}

impl Store for Sqlite {
    fn change(&mut self, work: &mut Work<'_>) -> Result<(), LedgerError> {
        let behavior = TransactionBehavior::Immediate;
        let transaction = self.connection.transaction_with_behavior(behavior)?;
        work(&mut Open(&transaction))?;
        Ok(transaction.commit()?)
    }

    fn read(&mut self, work: &mut Work<'_>) -> Result<(), LedgerError> {
        let transaction = self.connection.transaction()?;
        work(&mut Open(&transaction))
    }

    fn place(&self) -> String {
        self.path.display().to_string()
    }
}

struct Open<'c>(&'c Connection);

impl Session for Open<'_> {
    fn execute(&mut self, sql: &str, values: &[Value]) -> Result<u64, LedgerError> {
        let mut statement = self.0.prepare_cached(sql)?;
        Ok(statement.execute(params_from_iter(values))? as u64)
    }

    fn query(&mut self, sql: &str, values: &[Value]) -> Result<Vec<Row>, LedgerError> {
        let mut statement = self.0.prepare_cached(sql)?;
        let columns = statement.column_count();
        let mut rows = statement.query(params_from_iter(values))?;
        let mut found = Vec::new();
        while let Some(row) = rows.next()? {
            let values = (0..columns).map(|column| row.get_ref(column).map(value_of));
            found.push(Row::of(values.collect::<Result<Vec<_>, _>>()?));
        }
        Ok(found)
    }

    fn now(&mut self) -> Result<i64, LedgerError> {
        let mut rows = self.query("SELECT CAST(strftime('%s', 'now') AS INTEGER)", &[])?;
        Ok(rows.pop().and_then(|mut row| row.int()).unwrap_or(0))
    }

    /// A transaction that changes something has the file to itself.
    fn skip_locked(&self) -> &'static str {
        ""
    }
}

fn value_of(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Integer(value) => Value::Int(value),
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
        ValueRef::Null | ValueRef::Real(_) => Value::Null,
    }
}

impl ToSql for Value {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Self::Null => ValueRef::Null,
            Self::Int(value) => ValueRef::Integer(*value),
            Self::Text(text) => ValueRef::Text(text.as_bytes()),
            Self::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}
