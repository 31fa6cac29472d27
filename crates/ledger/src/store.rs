//! What the ledger needs of a database: statements in transactions, in the SQL that both know.

use crate::LedgerError;

/// A value in a row or a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// None.
    Null,
    /// A whole number.
    Int(i64),
    /// A text.
    Text(String),
    /// Bytes.
    Bytes(Vec<u8>),
}

impl From<i64> for Value {
    fn from(value: i64) -> Self {
        Self::Int(value)
    }
}

impl From<&str> for Value {
    fn from(value: &str) -> Self {
        Self::Text(value.to_owned())
    }
}

impl From<String> for Value {
    fn from(value: String) -> Self {
        Self::Text(value)
    }
}

impl From<Vec<u8>> for Value {
    fn from(value: Vec<u8>) -> Self {
        Self::Bytes(value)
    }
}

impl<T: Into<Self>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Into::into)
    }
}

/// A row of an answer. Columns are taken from left to right.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Row(std::collections::VecDeque<Value>);

impl Row {
    /// A row of these values.
    pub fn of(values: impl IntoIterator<Item = Value>) -> Self {
        Self(values.into_iter().collect())
    }

    /// The next column, if it is a number.
    pub fn int(&mut self) -> Option<i64> {
        match self.0.pop_front() {
            Some(Value::Int(value)) => Some(value),
            _ => None,
        }
    }

    /// The next column, if it is a text.
    pub fn text(&mut self) -> Option<String> {
        match self.0.pop_front() {
            Some(Value::Text(value)) => Some(value),
            _ => None,
        }
    }

    /// The next column, if it is bytes.
    pub fn bytes(&mut self) -> Option<Vec<u8>> {
        match self.0.pop_front() {
            Some(Value::Bytes(value)) => Some(value),
            _ => None,
        }
    }
}

/// A transaction that is open.
pub trait Session {
    /// Runs a statement with `?1`, `?2` … in it; returns how many rows it changed.
    ///
    /// # Errors
    /// The database refused it, or cannot be reached.
    fn execute(&mut self, sql: &str, values: &[Value]) -> Result<u64, LedgerError>;

    /// Runs a query.
    ///
    /// # Errors
    /// As [`Session::execute`].
    fn query(&mut self, sql: &str, values: &[Value]) -> Result<Vec<Row>, LedgerError>;

    /// The database's time in seconds since 1970: stations' clocks differ.
    ///
    /// # Errors
    /// As [`Session::execute`].
    fn now(&mut self) -> Result<i64, LedgerError>;

    /// What makes a query pass over rows that another transaction works on, and lock those it
    /// returns.
    fn skip_locked(&self) -> &'static str;
}

/// What a transaction does. It may be run again from the start if the connection broke, so it must
/// not depend on having run once.
pub type Work<'w> = dyn FnMut(&mut dyn Session) -> Result<(), LedgerError> + 'w;

/// A database of records.
pub trait Store: Send {
    /// Runs a transaction that changes something: all of it or nothing.
    ///
    /// # Errors
    /// The first error of `work`; or the database cannot be reached.
    fn change(&mut self, work: &mut Work<'_>) -> Result<(), LedgerError>;

    /// Runs queries that see one state.
    ///
    /// # Errors
    /// As [`Store::change`].
    fn read(&mut self, work: &mut Work<'_>) -> Result<(), LedgerError>;

    /// What it is and where, without passwords.
    fn place(&self) -> String;
}
