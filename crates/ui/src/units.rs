//! Sizes, rates and times in words, and sizes as people type them.

use std::time::Duration;

/// Decimal units, as on the package of a card.
const UNITS: [&str; 6] = ["B", "kB", "MB", "GB", "TB", "PB"];

/// A size in decimal units with about four digits: `7.82 GB`, `208.7 MB`, `512 B`.
pub fn size(bytes: u64) -> String {
    let mut value = bytes as f64;
    let mut unit = 0;
    // 999.95 would be shown as 1000.0.
    while value >= 999.95 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    match unit {
        0 => format!("{bytes} B"),
        _ if value >= 99.995 => format!("{value:.1} {}", UNITS[unit]),
        _ => format!("{value:.2} {}", UNITS[unit]),
    }
}

/// A number in groups of three digits: `15 931 539 456`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

/// A count with its noun: `1 byte`, `12 345 bytes`.
pub fn counted(number: u64, noun: &str) -> String {
    let ending = if number == 1 { "" } else { "s" };
    format!("{} {noun}{ending}", grouped(number))
}

/// A size with its exact bytes: `7.82 GB  (7 818 182 656 bytes)`.
pub fn exact(bytes: u64) -> String {
    format!("{:>9}  ({} bytes)", size(bytes), grouped(bytes))
}

/// A rate: `98.3 MB/s`.
pub fn rate(bytes: u64, time: Duration) -> String {
    let seconds = time.as_secs_f64().max(0.001);
    format!("{}/s", size((bytes as f64 / seconds) as u64))
}

/// A time in the two largest units: `3 s`, `2 min 05 s`, `1 h 12 min`. Tenths below ten seconds.
pub fn time(time: Duration) -> String {
    let seconds = time.as_secs();
    match seconds {
        0..10 => format!("{:.1} s", time.as_secs_f64()),
        10..60 => format!("{seconds} s"),
        60..3600 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        _ => format!("{} h {:02} min", seconds / 3600, seconds / 60 % 60),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "0 B")]
    #[case(999, "999 B")]
    #[case(1000, "1.00 kB")]
    #[case(7_818_182_656, "7.82 GB")]
    #[case(208_666_624, "208.7 MB")]
    #[case(99_999_999, "100.0 MB")]
    #[case(999_999_999, "1.00 GB")]
    fn sizes(#[case] bytes: u64, #[case] text: &str) {
        assert_eq!(size(bytes), text);
    }

    #[rstest]
    #[case(500, "0.5 s")]
    #[case(12_400, "12 s")]
    #[case(125_000, "2 min 05 s")]
    #[case(4_320_000, "1 h 12 min")]
    fn times(#[case] millis: u64, #[case] text: &str) {
        assert_eq!(time(Duration::from_millis(millis)), text);
    }

    #[test]
    fn digits_are_grouped_from_the_right() {
        assert_eq!(grouped(15_931_539_456), "15 931 539 456");
        assert_eq!(grouped(123), "123");
    }
}
