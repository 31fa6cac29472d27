//! Places whose owners are to be found, all in one pass.

use crate::ByteRange;

/// Ranges of a device whose users are to be found.
#[derive(Clone, Debug)]
pub struct Sought {
    /// Ascending, without overlaps.
    ranges: Vec<ByteRange>,
    is_found: Vec<bool>,
}

impl Sought {
    /// Looks for these ranges.
    pub fn new(mut ranges: Vec<ByteRange>) -> Self {
        ranges.retain(|range| !range.is_empty());
        ranges.sort();
        let mut joined: Vec<ByteRange> = Vec::with_capacity(ranges.len());
        for range in ranges {
            match joined.last_mut() {
                Some(last) if range.start < last.end => last.end = last.end.max(range.end),
                _ => joined.push(range),
            }
        }
        Self {
            is_found: vec![false; joined.len()],
            ranges: joined,
        }
    }

    /// The first wanted byte in a range whose owner is now known. The wanted ranges that it touches
    /// count as found.
    pub fn take(&mut self, owned: ByteRange) -> Option<u64> {
        let from = self
            .ranges
            .partition_point(|range| range.end <= owned.start);
        let touched = self.ranges.iter().skip(from);
        let count = touched.take_while(|range| range.start < owned.end).count();
        if count == 0 || owned.is_empty() {
            return None;
        }
        self.is_found[from..from + count].fill(true);
        Some(self.ranges[from].start.max(owned.start))
    }

    /// The ranges for which no owner was found.
    pub fn left(&self) -> impl Iterator<Item = ByteRange> {
        let all = self.ranges.iter().zip(&self.is_found);
        all.filter(|(_, is_found)| !**is_found)
            .map(|(range, _)| *range)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange { start, end }
    }

    #[test]
    fn owners_take_what_they_touch() {
        let mut sought = Sought::new(vec![
            range(50, 60),
            range(0, 10),
            range(5, 20),
            range(70, 70),
        ]);
        assert_eq!(sought.take(range(20, 50)), None);
        assert_eq!(sought.take(range(15, 55)), Some(15));
        assert_eq!(sought.left().count(), 0);
        let mut sought = Sought::new(vec![range(0, 10), range(50, 60)]);
        assert_eq!(sought.take(range(40, 51)), Some(50));
        assert_eq!(sought.left().collect::<Vec<_>>(), [range(0, 10)]);
    }
}
