//! Media as they are sold: what is printed on them, and what they have.
//!
//! A gigabyte on a label is 10^9 bytes, less what the controller keeps for itself; how much that is
//! differs from maker to maker. An image fits on any medium of a size if it fits on the smallest.

use schemars::JsonSchema;
use serde::Serialize;

const MIB: u64 = 1 << 20;

/// A size that is sold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Sold {
    /// What is printed, in bytes.
    pub label: u64,
    /// What the smallest have, in bytes.
    pub smallest: u64,
    /// What the largest have, in bytes.
    pub largest: u64,
}

const fn sold(gigabytes: u64, smallest: u64, largest: u64) -> Sold {
    Sold {
        label: gigabytes * 1_000_000_000,
        smallest: smallest * MIB,
        largest: largest * MIB,
    }
}

/// The sizes, ascending; real ones in MiB, with some room for those that nobody has seen yet.
pub const SOLD: &[Sold] = &[
    sold(1, 940, 976),
    sold(2, 1_836, 1_940),
    sold(4, 3_680, 3_860),
    sold(8, 7_200, 7_720),
    sold(16, 14_400, 15_300),
    sold(32, 28_900, 30_600),
    sold(64, 58_200, 61_200),
    sold(128, 117_000, 122_400),
    sold(256, 234_500, 244_300),
    sold(512, 469_500, 488_500),
    sold(1000, 938_000, 977_000),
];

/// The smallest size that is sold on which `bytes` fit whatever the maker, and one on which they fit
/// only with some makers.
pub fn fitting(bytes: u64) -> (Option<Sold>, Option<Sold>) {
    let always = SOLD.iter().find(|one| one.smallest >= bytes).copied();
    let sometimes = SOLD.iter().find(|one| one.largest >= bytes).copied();
    (always, sometimes.filter(|one| Some(*one) != always))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_between_smallest_and_largest_fits_sometimes() {
        let label = |one: Option<Sold>| one.map(|one| one.label / 1_000_000_000);
        let fits = |bytes| {
            let (always, sometimes) = fitting(bytes);
            (label(always), label(sometimes))
        };
        assert_eq!(fits(7_000 * MIB), (Some(8), None));
        assert_eq!(fits(7_500 * MIB), (Some(16), Some(8)));
        assert_eq!(fits(u64::MAX), (None, None));
        assert!(SOLD.is_sorted_by(|a, b| a.largest < b.smallest));
        assert!(
            SOLD.iter()
                .all(|one| one.smallest < one.largest && one.largest * 20 > one.label * 19)
        );
    }
}
