//! The time, which lower crates never look up themselves.

use pinewrit_core::receipt::ReceiptChange;
use pinewrit_volume::Timestamp;

/// Seconds since 1970.
pub fn seconds() -> i64 {
    jiff::Timestamp::now().as_second()
}

/// The time of changes in file systems.
pub fn timestamp() -> Timestamp {
    Timestamp::at(seconds())
}

/// RFC 3339, in whole seconds.
pub fn text() -> String {
    let now = jiff::Timestamp::from_second(seconds());
    now.map_or(String::new(), |now| now.to_string())
}

/// A change made now, for a receipt.
pub fn change(command: &str, files: Vec<String>) -> ReceiptChange {
    ReceiptChange::new(text(), command, files)
}

/// A time as people here write it: `2026-11-28 14:02`.
pub fn local(seconds: i64) -> String {
    let zone = jiff::tz::TimeZone::system();
    let time = jiff::Timestamp::from_second(seconds);
    time.map_or(String::new(), |time| {
        time.to_zoned(zone).strftime("%Y-%m-%d %H:%M").to_string()
    })
}

/// A time in RFC 3339.
pub fn rfc3339(seconds: i64) -> String {
    let time = jiff::Timestamp::from_second(seconds);
    time.map_or(String::new(), |time| time.to_string())
}
