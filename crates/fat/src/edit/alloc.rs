//! Which clusters are free, and which of them a file gets.

use std::ops::Range;

use pinewrit_disk::{BlockDevice, DiskError};

use crate::geometry::Geometry;
use crate::table::for_each_entry;

/// How the clusters of a file may be placed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Placement {
    /// Contiguous where there is room, otherwise in pieces.
    #[default]
    Usual,
    /// In one piece.
    Contiguous,
}

/// How many runs are searched for one that is long enough, before settling for pieces.
const MOST_RUNS: usize = 512;

/// The free clusters, a bit each.
pub(super) struct FreeMap {
    words: Vec<u64>,
    /// One behind the last cluster.
    end: u32,
    pub(super) count: u64,
    /// Where the search begins.
    pub(super) hint: u32,
}

impl FreeMap {
    pub(super) fn read(device: &dyn BlockDevice, geometry: &Geometry) -> Result<Self, DiskError> {
        let end = (geometry.clusters + 2) as u32;
        let mut map = Self {
            words: vec![0; (end as usize).div_ceil(64)],
            end,
            count: 0,
            hint: 2,
        };
        for_each_entry(
            device,
            geometry,
            geometry.table_start(),
            &mut |cluster, raw| {
                if raw == 0 {
                    map.set_free(cluster..cluster + 1);
                }
            },
        )?;
        Ok(map)
    }

    /// Ends the map with another cluster. What is new is free; what is cut off is nobody's.
    pub(super) fn end_at(&mut self, end: u32) {
        let former = self.end;
        for cluster in end..former {
            if self.is_free(cluster) {
                self.set_used(&(cluster..cluster + 1));
            }
        }
        self.words.resize((end as usize).div_ceil(64), 0);
        self.end = end;
        self.hint = self.hint.clamp(2, end);
        if former < end {
            self.set_free(former..end);
        }
    }

    fn is_free(&self, cluster: u32) -> bool {
        self.words[cluster as usize / 64] >> (cluster % 64) & 1 != 0
    }

    pub(super) fn set_free(&mut self, run: Range<u32>) {
        self.count += u64::from(run.end - run.start);
        for cluster in run {
            self.words[cluster as usize / 64] |= 1 << (cluster % 64);
        }
    }

    fn set_used(&mut self, run: &Range<u32>) {
        self.count -= u64::from(run.end - run.start);
        for cluster in run.clone() {
            self.words[cluster as usize / 64] &= !(1 << (cluster % 64));
        }
    }

    /// The first free cluster from `from` on, up to `end`.
    fn next_free(&self, from: u32, end: u32) -> Option<u32> {
        let mut index = from as usize / 64;
        let mut word = self.words.get(index)? & (u64::MAX << (from % 64));
        while word == 0 {
            index += 1;
            word = *self
                .words
                .get(index)
                .filter(|_| (index as u32) * 64 < end)?;
        }
        let found = index as u32 * 64 + word.trailing_zeros();
        (found < end).then_some(found)
    }

    /// The run of free clusters that begins with `first`, of at most `most`.
    fn run(&self, first: u32, most: u64) -> Range<u32> {
        let limit = u64::from(self.end).min(u64::from(first).saturating_add(most)) as u32;
        let mut end = first;
        while end < limit && self.is_free(end) {
            let word = self.words[end as usize / 64];
            // Whole words at a time.
            end = if end.is_multiple_of(64) && word == u64::MAX && end + 64 <= limit {
                end + 64
            } else {
                end + 1
            };
        }
        first..end
    }

    /// Runs of free clusters, from the hint on and then from the start.
    fn runs(&self, most: u64) -> impl Iterator<Item = Range<u32>> {
        let hint = self.hint.clamp(2, self.end);
        let part = move |from: u32, end: u32| {
            let mut at = from;
            std::iter::from_fn(move || {
                let first = self.next_free(at, end)?;
                let run = self.run(first, most);
                at = run.end;
                Some(run)
            })
        };
        part(hint, self.end).chain(part(2, hint))
    }

    /// Takes this many clusters; `None` if there are too few, or they are not contiguous as
    /// required.
    pub(super) fn take(&mut self, wanted: u64, placement: Placement) -> Option<Vec<Range<u32>>> {
        if wanted > self.count {
            return None;
        }
        let looked_at = match placement {
            Placement::Usual => MOST_RUNS,
            Placement::Contiguous => usize::MAX,
        };
        let is_enough = |run: &Range<u32>| u64::from(run.end - run.start) >= wanted;
        let whole = self.runs(wanted).take(looked_at).find(is_enough);
        let runs = match (whole, placement) {
            (Some(run), _) => vec![run],
            (None, Placement::Contiguous) => return None,
            (None, Placement::Usual) => self.pieces(wanted),
        };
        for run in &runs {
            self.set_used(run);
        }
        self.hint = runs.last().map_or(self.hint, |run| run.end);
        Some(runs)
    }

    fn pieces(&self, wanted: u64) -> Vec<Range<u32>> {
        let mut left = wanted;
        let mut pieces = Vec::new();
        for run in self.runs(wanted) {
            // A run that begins before the hint, where the search began, may reach past it.
            let end = if run.start < self.hint {
                run.end.min(self.hint)
            } else {
                run.end
            };
            let len = u64::from(end - run.start).min(left) as u32;
            pieces.push(run.start..run.start + len);
            left -= u64::from(len);
            if left == 0 {
                break;
            }
        }
        pieces
    }

    /// Clusters of the longest run.
    pub(super) fn longest(&self) -> u64 {
        let lens = self
            .runs(u64::MAX)
            .map(|run| u64::from(run.end - run.start));
        lens.max().unwrap_or(0)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
mod tests {
    use super::*;

    fn map(end: u32, used: &[u32]) -> FreeMap {
        let mut map = FreeMap {
            words: vec![0; (end as usize).div_ceil(64)],
            end,
            count: 0,
            hint: 2,
        };
        for cluster in (2..end).filter(|cluster| !used.contains(cluster)) {
            map.set_free(cluster..cluster + 1);
        }
        map
    }

    #[test]
    fn clusters_lie_together_where_they_can() {
        let mut map = map(300, &[5, 100]);
        for (wanted, run) in [(3, 2..5), (150, 101..251)] {
            let taken = map.take(wanted, Placement::Usual).unwrap();
            assert!(taken == [run], "{taken:?}");
        }
        assert_eq!(map.take(95, Placement::Contiguous), None);
        assert_eq!(map.longest(), 94);
        let pieces = map.take(143, Placement::Usual).unwrap();
        assert_eq!(pieces, vec![251..300, 6..100]);
        assert_eq!((map.count, map.take(1, Placement::Usual)), (0, None));
    }

    #[test]
    fn a_run_over_the_hint_is_not_taken_twice() {
        let mut map = map(100, &[]);
        map.hint = 50;
        let taken = map.take(98, Placement::Usual).unwrap();
        let mut clusters: Vec<u32> = taken.into_iter().flatten().collect();
        clusters.sort_unstable();
        clusters.dedup();
        assert_eq!(clusters.len(), 98);
    }
}
