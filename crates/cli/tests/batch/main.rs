//! Batches on a rack, with somebody who moves the cards.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(
    clippy::print_stdout,
    reason = "a long run says what it did in the test's own output"
)]

#[path = "../common/mod.rs"]
mod common;
mod evening;
mod faults;
mod long;
mod printed;
mod rosters;
mod stations;
mod workshop;
