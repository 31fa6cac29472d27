//! What a batch shows: its screen, its words, its lines of JSON.

mod events;
mod screen;
mod told;

pub use events::{
    BatchResult, ClockEvent, ClosingEvent, LedgerEvent, LeftAloneEvent, RosterEvent, RosterUnit,
    SpooledEvent, UnitDoneEvent, UnitFailedEvent, UnitRow, UnitStartedEvent, UnitsEvent,
    WaitingEvent,
};
pub use screen::{BenchRow, BenchScreen};
pub use told::Told;
