//! A set of numbers, kept as ranges.

use std::collections::BTreeMap;
use std::ops::Range;

/// Block or cluster numbers; neighbours are kept as one range.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Spans(BTreeMap<u64, u64>);

impl Spans {
    /// Adds all numbers of a range.
    pub fn add(&mut self, range: Range<u64>) {
        if range.is_empty() {
            return;
        }
        let (mut start, mut end) = (range.start, range.end);
        if let Some((&first, &last)) = self.0.range(..=start).next_back()
            && last >= start
        {
            start = first;
            end = end.max(last);
        }
        while let Some((&first, &last)) = self.0.range(start..=end).next() {
            self.0.remove(&first);
            end = end.max(last);
        }
        self.0.insert(start, end);
    }

    /// Whether any number of a range is in it.
    pub fn meets(&self, range: Range<u64>) -> bool {
        let before = self.0.range(..range.end).next_back();
        !range.is_empty() && before.is_some_and(|(_, end)| *end > range.start)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn it_is_a_set(added in prop::collection::vec((0..60u64, 0..20u64), 0..12), start in 0..80u64, len in 0..20u64) {
            let mut spans = Spans::default();
            let mut plain = BTreeSet::new();
            for (start, len) in added {
                spans.add(start..start + len);
                plain.extend(start..start + len);
            }
            let meets = (start..start + len).any(|number| plain.contains(&number));
            prop_assert_eq!(spans.meets(start..start + len), meets);
        }
    }
}
