//! Which version is newer.

use std::cmp::Ordering;

use jiff::civil::Date;
use version_compare::{Cmp, compare};

/// What an image is ordered by.
pub type Order<'a> = (&'a str, Option<Date>);

/// Compares two versions part by part, numbers as numbers: 2.9 comes before 2.10, and 2.4-rc1 and
/// 2.4~rc1 before 2.4. Of equal ones, and of those that are only words, the later date is newer.
pub fn order(a: Order<'_>, b: Order<'_>) -> Ordering {
    let has_number = |text: &str| text.contains(|sign: char| sign.is_ascii_digit());
    let by_version = if has_number(a.0) && has_number(b.0) {
        compared(a.0, b.0)
    } else {
        Ordering::Equal
    };
    by_version.then(a.1.cmp(&b.1)).then_with(|| a.0.cmp(b.0))
}

fn compared(a: &str, b: &str) -> Ordering {
    let ((a, a_before), (b, b_before)) = (split(a), split(b));
    let of = |a: &str, b: &str| match compare(a, b) {
        Ok(Cmp::Lt) => Ordering::Less,
        Ok(Cmp::Gt) => Ordering::Greater,
        _ => Ordering::Equal,
    };
    of(a, b).then_with(|| match (a_before, b_before) {
        (None, None) => Ordering::Equal,
        // What leads to a release comes before it.
        (Some(_), None) => Ordering::Less,
        (None, Some(_)) => Ordering::Greater,
        (Some(a), Some(b)) => of(a, b),
    })
}

/// A version, and what makes it one that leads to a release: `2.4`, `rc1`.
fn split(version: &str) -> (&str, Option<&str>) {
    if let Some((release, before)) = version.split_once('~') {
        return (release, Some(before));
    }
    let words = [
        "-rc", "-beta", "-alpha", "-pre", "-dev", "rc", "beta", "alpha",
    ];
    let at = words.iter().filter_map(|word| version.find(word)).min();
    match at.filter(|at| *at > 0) {
        Some(at) => (&version[..at], Some(version[at..].trim_start_matches('-'))),
        None => (version, None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2.9", "2.10")]
    #[case("2.4", "2.4.1")]
    #[case("2.4-rc1", "2.4")]
    #[case("2.4~rc1", "2.4")]
    #[case("2.4rc1", "2.4rc2")]
    #[case("2.3", "2.4-rc1")]
    #[case("2026-09-30", "2026-10-02")]
    #[case("20260930", "20261002")]
    #[case("v2.4", "v3.0")]
    #[case("12.6-2", "12.6-10")]
    #[case("1.0+b1", "1.0+b2")]
    fn an_older_and_a_newer_one(#[case] older: &str, #[case] newer: &str) {
        assert_eq!(order((older, None), (newer, None)), Ordering::Less);
        assert_eq!(order((newer, None), (older, None)), Ordering::Greater);
    }

    #[test]
    fn words_are_ordered_by_their_dates() {
        let date = |text: &str| text.parse::<Date>().ok();
        let (spring, autumn) = (
            ("zinnia", date("2026-04-01")),
            ("aster", date("2026-10-01")),
        );
        assert_eq!(order(spring, autumn), Ordering::Less);
        assert_eq!(
            order(("2.4", date("2027-01-01")), ("2.5", date("2026-01-01"))),
            Ordering::Less
        );
    }
}
