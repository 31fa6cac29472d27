//! The ledger: which unit got which medium with what on it, and what became of it.
//!
//! Records are kept in SQLite on one computer, or in PostgreSQL for several stations; both through
//! one trait, [`Store`], with the same statements. Jobs of a batch are claimed here, with leases by
//! the database's own clock, so that no two stations make the same unit.
//!
//! ```
//! use pinewrit_ledger::{Entry, Kind, Ledger};
//!
//! let folder = tempfile::tempdir()?;
//! let mut ledger = Ledger::open_file(&folder.path().join("ledger.sqlite"))?;
//! let entry = Entry {
//!     unit: Some("larkfell-07".to_owned()),
//!     ..Entry::new(Kind::Note, 1_795_862_400)
//! };
//! ledger.record(&entry, None)?;
//! assert_eq!(ledger.events("larkfell-07")?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod compact;
mod jobs;
mod outbox;
mod postgres;
mod records;
mod schema;
mod speeds;
mod sqlite;
mod store;
mod stored;
mod words;

use std::fmt;
use std::path::Path;
use std::time::Duration;

pub use jobs::{Begun, Claim, Job, JobKey, JobState, Lost, PlannedJob, Wanted};
pub use outbox::{Outbox, Parcel};
pub use postgres::Postgres;
pub use records::{Conflict, Entry, Kind, Record};
pub use speeds::{KnownSpeed, Speed, SpeedSource};
pub use sqlite::Sqlite;
pub use store::{Row, Session, Store, Value, Work};

/// Why the ledger cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LedgerError {
    /// A newer program has changed the store.
    #[error("the ledger has version {newest}; this Pinewrit knows up to {known}")]
    Newer {
        /// The store's version.
        newest: i64,
        /// The newest that this program knows.
        known: i64,
    },
    /// The address of a server is not one.
    #[error("this is not the address of a ledger: {0}")]
    Address(String),
    /// The database failed or cannot be reached.
    #[error("the ledger cannot be used")]
    Store(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// The server does not answer.
    #[error("the server has not answered for {} s", .0.as_secs())]
    Silent(Duration),
    /// What is stored is not what was stored.
    #[error(transparent)]
    Damaged(#[from] compact::Damaged),
}

impl From<rusqlite::Error> for LedgerError {
    fn from(error: rusqlite::Error) -> Self {
        Self::Store(Box::new(error))
    }
}

impl From<tokio_postgres::Error> for LedgerError {
    fn from(error: tokio_postgres::Error) -> Self {
        Self::Store(Box::new(error))
    }
}

/// The records of a workshop.
pub struct Ledger {
    store: Box<dyn Store>,
}

impl fmt::Debug for Ledger {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Ledger({})", self.store.place())
    }
}

impl Ledger {
    /// Opens the ledger in a file, which is created if it does not exist.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_file(path: &Path) -> Result<Self, LedgerError> {
        Ok(Self::over(Box::new(Sqlite::open(path)?)))
    }

    /// Opens the ledger on a server: `postgres://user@host/database`.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_server(address: &str) -> Result<Self, LedgerError> {
        Ok(Self::over(Box::new(Postgres::open(address)?)))
    }

    /// The ledger in a store.
    pub fn over(store: Box<dyn Store>) -> Self {
        Self { store }
    }

    /// What it is and where, without passwords.
    pub fn place(&self) -> String {
        self.store.place()
    }

    /// The time by the ledger's own clock, which leases run by, in seconds since 1970.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn now(&mut self) -> Result<i64, LedgerError> {
        self.read(|session| session.now())
    }

    /// Runs a transaction that changes something, and returns what it found.
    pub(crate) fn change<T>(
        &mut self,
        mut work: impl FnMut(&mut dyn Session) -> Result<T, LedgerError>,
    ) -> Result<T, LedgerError> {
        let mut found = None;
        self.store.change(&mut |session| {
            found = Some(work(session)?);
            Ok(())
        })?;
        found.ok_or_else(nothing)
    }

    /// Runs queries that see one state.
    pub(crate) fn read<T>(
        &mut self,
        mut work: impl FnMut(&mut dyn Session) -> Result<T, LedgerError>,
    ) -> Result<T, LedgerError> {
        let mut found = None;
        self.store.read(&mut |session| {
            found = Some(work(session)?);
            Ok(())
        })?;
        found.ok_or_else(nothing)
    }
}

fn nothing() -> LedgerError {
    LedgerError::Store("the transaction was not run".into())
}
