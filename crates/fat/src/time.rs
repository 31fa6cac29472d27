//! Dates and times of directory entries.
//!
//! Microsoft FAT specification 1.03, "Date and Time Formats": local time, without a zone, in steps
//! of two seconds, from 1980 to 2107.

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;

/// The first and the last time that can be stored, in seconds since 1970.
const FIRST: i64 = 315_532_800;
const LAST: i64 = 4_354_819_199;

/// When something was made or changed, as a directory entry keeps it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Stamp {
    pub(crate) date: u16,
    pub(crate) time: u16,
    /// Hundredths of a second, 0 to 199; kept for the time of creation only.
    pub(crate) hundredths: u8,
}

impl Stamp {
    /// The stamp of a time in seconds since 1970 in a zone. Times out of range become the nearest
    /// possible one.
    pub fn at(seconds: i64, zone: &TimeZone) -> Self {
        let kept = Timestamp::from_second(seconds.clamp(FIRST, LAST)).unwrap_or_default();
        let civil = zone.to_datetime(kept);
        let year = i32::from(civil.year()) - 1980;
        if year < 0 {
            return Self::pack(0, 1, 1, 0);
        }
        let (hour, minute) = (i32::from(civil.hour()), i32::from(civil.minute()));
        let second = i32::from(civil.second());
        let (month, day) = (i32::from(civil.month()), i32::from(civil.day()));
        let time = hour << 11 | minute << 5 | (second / 2);
        Self {
            hundredths: (second % 2 * 100) as u8,
            ..Self::pack(year.min(127), month, day, time)
        }
    }

    fn pack(year: i32, month: i32, day: i32, time: i32) -> Self {
        Self {
            date: (year << 9 | month << 5 | day) as u16,
            time: time as u16,
            hundredths: 0,
        }
    }

    /// Seconds since 1970, taking the stamp as local time in this zone; `None` if it is not a valid
    /// time.
    pub fn seconds(self, zone: &TimeZone) -> Option<i64> {
        let year = i16::try_from(1980 + (self.date >> 9)).ok()?;
        let part = |value: u16| i8::try_from(value).ok();
        let date = Date::new(year, part(self.date >> 5 & 15)?, part(self.date & 31)?).ok()?;
        let (hour, minute) = (part(self.time >> 11)?, part(self.time >> 5 & 63)?);
        let time = Time::new(hour, minute, part((self.time & 31) * 2)?, 0).ok()?;
        let zoned = zone.to_zoned(DateTime::from_parts(date, time)).ok()?;
        Some(zoned.timestamp().as_second())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::before_the_first(0, 1980, 1, 1)]
    #[case::leap_day(1_709_210_096, 2024, 2, 29)]
    #[case::now(1_795_435_200, 2026, 11, 23)]
    #[case::after_the_last(i64::MAX, 2107, 12, 31)]
    fn dates_are_those_of_the_calendar(
        #[case] seconds: i64,
        #[case] year: u16,
        #[case] month: u16,
        #[case] day: u16,
    ) {
        let stamp = Stamp::at(seconds, &TimeZone::UTC);
        assert_eq!((stamp.date >> 9) + 1980, year);
        assert_eq!((stamp.date >> 5 & 15, stamp.date & 31), (month, day));
    }

    #[test]
    fn zones_are_kept_apart() {
        let east = TimeZone::fixed(jiff::tz::offset(2));
        let stamp = Stamp::at(1_790_000_000, &east);
        assert_eq!(stamp.seconds(&east), Some(1_790_000_000));
        assert_eq!(stamp.seconds(&TimeZone::UTC), Some(1_790_007_200));
        assert_eq!(Stamp::default().seconds(&TimeZone::UTC), None);
    }
}
