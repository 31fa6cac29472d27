//! The lines of `--json` of a batch.

use crate::{Event, MediumName};
use pinewrit_ledger::{Job, JobState, Record};
use schemars::JsonSchema;
use serde::Serialize;

/// A unit of a checked roster.
#[derive(Serialize, JsonSchema)]
pub struct RosterUnit<'a> {
    /// Its name.
    pub unit: &'a str,
    /// Its host name.
    pub host_name: Option<&'a str>,
    /// Its fixed addresses.
    pub addresses: Vec<String>,
    /// Its media: role and content of each.
    pub media: Vec<(String, String)>,
    /// The settings in which units differ: path and value.
    pub differs: Vec<(&'a str, Option<&'a str>)>,
}

/// A roster without mistakes.
#[derive(Serialize, JsonSchema)]
pub struct RosterEvent<'a> {
    /// The command.
    pub command: &'static str,
    /// The batch's name.
    pub batch: &'a str,
    /// All units.
    pub units: Vec<RosterUnit<'a>>,
}

impl Event for RosterEvent<'_> {
    const EVENT: &'static str = "roster";
}

/// What the next medium is for.
#[derive(Serialize, JsonSchema)]
pub struct WaitingEvent<'a> {
    /// The unit; null if none is open.
    pub unit: Option<&'a str>,
    /// The role of the medium in it.
    pub role: Option<&'a str>,
    /// Media that are done, being made, open, and that failed in this run.
    pub done: usize,
    /// See `done`.
    pub held: usize,
    /// See `done`.
    pub open: usize,
    /// See `done`.
    pub failed: usize,
}

impl Event for WaitingEvent<'_> {
    const EVENT: &'static str = "waiting";
}

/// This computer's clock and that of the ledger's server differ.
#[derive(Serialize, JsonSchema)]
pub struct ClockEvent {
    /// How far this computer's clock is ahead, in seconds; negative if it is behind.
    pub wrong_by_seconds: i64,
}

impl Event for ClockEvent {
    const EVENT: &'static str = "clock";
}

/// An image was unpacked for all media, or why it was not.
#[derive(Serialize, JsonSchema)]
pub struct SpooledEvent<'a> {
    /// The image.
    pub image: &'a str,
    /// Bytes that it takes; null if each medium unpacks it by itself.
    pub bytes: Option<u64>,
    /// Why.
    pub why: Option<String>,
}

impl Event for SpooledEvent<'_> {
    const EVENT: &'static str = "spooled";
}

/// A medium begins to become a unit's.
#[derive(Serialize, JsonSchema)]
pub struct UnitStartedEvent<'a> {
    /// The medium.
    #[serde(flatten)]
    pub medium: MediumName,
    /// The unit.
    pub unit: &'a str,
    /// The role of the medium in it; empty if it has one.
    pub role: &'a str,
}

impl Event for UnitStartedEvent<'_> {
    const EVENT: &'static str = "unit-started";
}

/// A unit's medium is finished.
#[derive(Serialize, JsonSchema)]
pub struct UnitDoneEvent<'a> {
    /// The medium.
    #[serde(flatten)]
    pub medium: MediumName,
    /// The unit.
    pub unit: &'a str,
    /// The role of the medium in it; empty if it has one.
    pub role: &'a str,
    /// Its record in the ledger.
    pub record: &'a str,
    /// How long it took.
    pub seconds: f64,
    /// Why it is not safe to take out yet.
    pub not_ejected: Option<&'a str>,
    /// Whether the record waits to be sent to the ledger.
    pub unsent: bool,
}

impl Event for UnitDoneEvent<'_> {
    const EVENT: &'static str = "unit-done";
}

/// A unit's medium was not finished; the unit is open again.
#[derive(Serialize, JsonSchema)]
pub struct UnitFailedEvent<'a> {
    /// The medium.
    #[serde(flatten)]
    pub medium: MediumName,
    /// The unit.
    pub unit: &'a str,
    /// The role of the medium in it; empty if it has one.
    pub role: &'a str,
    /// Why.
    pub why: &'a str,
}

impl Event for UnitFailedEvent<'_> {
    const EVENT: &'static str = "unit-failed";
}

/// A medium is not written.
#[derive(Serialize, JsonSchema)]
pub struct LeftAloneEvent {
    /// The medium.
    #[serde(flatten)]
    pub medium: MediumName,
    /// `verdict`, `mounted`, `bad`, `made`, `holds`, `no-job` or `unreadable`.
    pub because: &'static str,
    /// In words.
    pub why: String,
    /// The unit that it is, if it is one.
    pub unit: Option<String>,
}

impl Event for LeftAloneEvent {
    const EVENT: &'static str = "left-alone";
}

/// The ledger cannot be reached, or is back.
#[derive(Serialize, JsonSchema)]
pub struct LedgerEvent<'a> {
    /// Whether it can be reached.
    pub reached: bool,
    /// Why not.
    pub why: Option<&'a str>,
}

impl Event for LedgerEvent<'_> {
    const EVENT: &'static str = "ledger";
}

/// No new media are begun.
#[derive(Serialize, JsonSchema)]
pub struct ClosingEvent {
    /// Media that are still being written.
    pub running: usize,
}

impl Event for ClosingEvent {
    const EVENT: &'static str = "closing";
}

/// What has changed in the roster since the batch was begun.
#[derive(Serialize, JsonSchema)]
pub struct UnitsEvent {
    /// Units that are new.
    pub added: Vec<String>,
    /// Units that are done, and would be made differently now.
    pub outdated: Vec<String>,
    /// Units that are not in it any more.
    pub dropped: Vec<String>,
}

impl Event for UnitsEvent {
    const EVENT: &'static str = "units";
}

/// A unit's medium at the end of a batch.
#[derive(Serialize, JsonSchema)]
pub struct UnitRow<'a> {
    /// The unit.
    unit: &'a str,
    /// The role of the medium in it; empty if it has one.
    role: &'a str,
    /// How far it is.
    state: JobState,
    /// Whether the roster has changed since it was made.
    outdated: bool,
    /// How often it was begun.
    tries: i64,
    /// Why it failed the last time.
    why: Option<&'a str>,
    /// Its record.
    record: Option<&'a Record>,
}

/// How a batch ended.
#[derive(Serialize, JsonSchema)]
pub struct BatchResult<'a> {
    /// `batch`, or `ledger list` with `--batch`.
    command: &'static str,
    /// The batch's name.
    batch: &'a str,
    /// Its units, in the roster's order.
    units: Vec<UnitRow<'a>>,
    /// Media that failed in this run.
    failed: usize,
    /// Whether it was stopped before all was done.
    closed: bool,
}

impl<'a> BatchResult<'a> {
    /// The units of a batch with their records, as the result of `batch`.
    pub fn new(
        batch: &'a str,
        all: &'a [(Job, Option<Record>)],
        failed: usize,
        closed: bool,
    ) -> Self {
        let row = |(job, record): &'a (Job, Option<Record>)| UnitRow {
            unit: &job.key.unit,
            role: &job.key.role,
            state: job.state,
            outdated: job.is_outdated,
            tries: job.tries,
            why: job.why.as_deref(),
            record: record.as_ref(),
        };
        Self {
            command: "batch",
            batch,
            units: all.iter().map(row).collect(),
            failed,
            closed,
        }
    }

    /// As the result of another command.
    pub fn of_command(self, command: &'static str) -> Self {
        Self { command, ..self }
    }
}

impl Event for BatchResult<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["batch", "ledger list"];
}
