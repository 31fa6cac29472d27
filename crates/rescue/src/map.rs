//! The map of a rescue: which bytes of the medium have been read, and which could not be.

use std::collections::BTreeMap;

use pinewrit_disk::ByteRange;

/// What is known about a place. One without a state has not been tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum State {
    /// It has been read, and is kept.
    Read,
    /// A request that touched it failed; parts of it may be readable.
    Failed,
    /// Every single sector of it failed.
    Missing,
}

/// The state of every byte of a medium.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct RescueMap {
    /// Ends and states by starts; neighbours of the same state are one run.
    runs: BTreeMap<u64, (u64, State)>,
}

impl RescueMap {
    /// Gives a range a state; `None` for one that has not been tried.
    pub(crate) fn set(&mut self, range: ByteRange, state: Option<State>) {
        if range.is_empty() {
            return;
        }
        let mut whole = range;
        for (run, old) in self.touching(range) {
            self.runs.remove(&run.start);
            if Some(old) == state {
                whole.start = whole.start.min(run.start);
                whole.end = whole.end.max(run.end);
                continue;
            }
            if run.start < range.start {
                let end = run.end.min(range.start);
                self.runs.insert(run.start, (end, old));
            }
            if run.end > range.end {
                let start = run.start.max(range.end);
                self.runs.insert(start, (run.end, old));
            }
        }
        if let Some(state) = state {
            self.runs.insert(whole.start, (whole.end, state));
        }
    }

    /// Runs that overlap a range or touch its ends.
    fn touching(&self, range: ByteRange) -> Vec<(ByteRange, State)> {
        let before = self.runs.range(..=range.end).rev();
        let runs = before.map(|(&start, &(end, state))| (ByteRange { start, end }, state));
        runs.take_while(|(run, _)| run.end >= range.start).collect()
    }

    /// A range in pieces of one state each, in ascending order.
    pub(crate) fn pieces(&self, range: ByteRange) -> Vec<(ByteRange, Option<State>)> {
        let mut pieces = Vec::new();
        let mut at = range.start;
        let mut runs = self.touching(range);
        runs.reverse();
        for (run, state) in runs {
            let Some(part) = run.intersection(range) else {
                continue;
            };
            if at < part.start {
                let gap = ByteRange {
                    start: at,
                    end: part.start,
                };
                pieces.push((gap, None));
            }
            pieces.push((part, Some(state)));
            at = part.end;
        }
        if at < range.end {
            let rest = ByteRange {
                start: at,
                end: range.end,
            };
            pieces.push((rest, None));
        }
        pieces
    }

    /// The parts of ascending ranges that have a state.
    pub(crate) fn in_state(&self, ranges: &[ByteRange], wanted: Option<State>) -> Vec<ByteRange> {
        let pieces = ranges.iter().flat_map(|range| self.pieces(*range));
        let found = pieces.filter(|(_, state)| *state == wanted);
        found.map(|(range, _)| range).collect()
    }

    /// The parts of ascending ranges that have not been read.
    pub(crate) fn unread(&self, ranges: &[ByteRange]) -> Vec<ByteRange> {
        let mut unread: Vec<ByteRange> = Vec::new();
        for (range, state) in ranges.iter().flat_map(|range| self.pieces(*range)) {
            match unread.last_mut() {
                _ if state == Some(State::Read) => {}
                Some(last) if last.end == range.start => last.end = range.end,
                _ => unread.push(range),
            }
        }
        unread
    }

    /// All runs with this state.
    pub(crate) fn all(&self, wanted: State) -> impl Iterator<Item = ByteRange> {
        let runs = self.runs.iter();
        runs.filter(move |(_, (_, state))| *state == wanted)
            .map(|(&start, &(end, _))| ByteRange { start, end })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SIZE: usize = 64;

    fn state() -> impl Strategy<Value = Option<State>> {
        prop::sample::select(vec![
            None,
            Some(State::Read),
            Some(State::Failed),
            Some(State::Missing),
        ])
    }

    proptest! {
        #[test]
        fn it_is_an_array_of_states(
            changes in prop::collection::vec((0..SIZE as u64, 0..20u64, state()), 0..20),
            (from, len) in (0..SIZE as u64, 0..40u64),
        ) {
            let mut map = RescueMap::default();
            let mut plain = [None; SIZE];
            for (start, len, state) in changes {
                let end = (start + len).min(SIZE as u64);
                map.set(ByteRange { start, end }, state);
                plain[start as usize..end as usize].fill(state);
            }
            let range = ByteRange { start: from, end: (from + len).min(SIZE as u64) };
            let mut at = range.start;
            for (piece, state) in map.pieces(range) {
                prop_assert_eq!(piece.start, at);
                prop_assert!((piece.start..piece.end).all(|byte| plain[byte as usize] == state));
                at = piece.end;
            }
            prop_assert_eq!(at, range.end.max(range.start));
            let unread: u64 = map.unread(&[range]).iter().map(|one| one.len()).sum();
            let bytes = &plain[range.start as usize..range.end as usize];
            let plainly = bytes.iter().filter(|state| **state != Some(State::Read)).count();
            prop_assert_eq!(unread, plainly as u64);
            // Neighbours of one state are one run.
            let runs: Vec<_> = map.runs.iter().collect();
            for pair in runs.windows(2) {
                prop_assert!(pair[0].1.0 < *pair[1].0 || pair[0].1.1 != pair[1].1.1);
            }
        }
    }
}
