//! Sets of byte ranges: joined, cut to size, rounded.

use crate::ByteRange;

/// Ascending ranges that neither touch nor overlap.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ranges(Vec<ByteRange>);

impl Ranges {
    /// From ranges in any order, merging those that are less than `gap` bytes apart.
    pub fn joined(mut ranges: Vec<ByteRange>, gap: u64) -> Self {
        ranges.retain(|range| !range.is_empty());
        ranges.sort_unstable();
        let mut joined: Vec<ByteRange> = Vec::with_capacity(ranges.len());
        for range in ranges {
            match joined.last_mut() {
                Some(last) if range.start <= last.end.saturating_add(gap) => {
                    last.end = last.end.max(range.end);
                }
                _ => joined.push(range),
            }
        }
        Self(joined)
    }

    /// The ranges, ascending.
    pub fn into_vec(self) -> Vec<ByteRange> {
        self.0
    }

    /// The parts of `whole` that are in none of them.
    pub fn gaps(&self, whole: ByteRange) -> Vec<ByteRange> {
        let mut gaps = Vec::new();
        let mut at = whole.start;
        for range in &self.0 {
            if range.start > at {
                gaps.push(ByteRange {
                    start: at,
                    end: range.start.min(whole.end),
                });
            }
            at = at.max(range.end);
        }
        if at < whole.end {
            gaps.push(ByteRange {
                start: at,
                end: whole.end,
            });
        }
        gaps.retain(|gap| gap.start < gap.end);
        gaps
    }
}

/// The range with both ends moved outwards to multiples of `grain`, but not out of `limits`.
pub fn rounded_out(range: ByteRange, grain: u64, limits: ByteRange) -> ByteRange {
    let start = range.start - range.start % grain;
    let end = range.end.div_ceil(grain).saturating_mul(grain);
    ByteRange {
        start: start.max(limits.start),
        end: end.min(limits.end),
    }
}

/// Runs of set bits in `bits`, among the first `count`, as ranges of bit numbers.
pub fn runs_of_ones(bits: &[u8], range: std::ops::Range<u64>) -> Vec<std::ops::Range<u64>> {
    let mut runs: Vec<std::ops::Range<u64>> = Vec::new();
    let mut at = range.start;
    while at < range.end {
        let byte = bits[(at / 8) as usize];
        // Bytes whose bits are all equal are the usual case.
        if at.is_multiple_of(8) && at + 8 <= range.end && (byte == 0 || byte == 0xff) {
            if byte == 0xff {
                add(&mut runs, at..at + 8);
            }
            at += 8;
            continue;
        }
        if byte >> (at % 8) & 1 == 1 {
            add(&mut runs, at..at + 1);
        }
        at += 1;
    }
    runs
}

fn add(runs: &mut Vec<std::ops::Range<u64>>, run: std::ops::Range<u64>) {
    match runs.last_mut() {
        Some(last) if last.end == run.start => last.end = run.end,
        _ => runs.push(run),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange { start, end }
    }

    #[test]
    fn near_ranges_are_joined_and_gaps_are_what_is_left() {
        let ranges = vec![range(20, 30), range(0, 5), range(8, 12), range(7, 7)];
        let joined = Ranges::joined(ranges, 3);
        assert_eq!(joined.gaps(range(0, 40)), [range(12, 20), range(30, 40)]);
        assert_eq!(joined.into_vec(), [range(0, 12), range(20, 30)]);
    }

    proptest! {
        #[test]
        fn runs_hold_exactly_the_set_bits(bits: [u8; 9], from in 0u64..20, len in 0u64..52) {
            let to = from + len;
            let runs = runs_of_ones(&bits, from..to);
            for bit in 0..72u64 {
                let is_set = bits[(bit / 8) as usize] >> (bit % 8) & 1 == 1;
                let expected = is_set && (from..to).contains(&bit);
                prop_assert_eq!(runs.iter().any(|run| run.contains(&bit)), expected);
            }
        }
    }
}
