//! From single chunks to curves: speed by place and time.

use pinewrit_core::receipt::Receipt;
use pinewrit_core::write::PacePoint;

/// A slow chunk takes this many times as long as the usual one, and at least this many seconds.
const SLOW: f64 = 5.0;
const SLOW_SECONDS: f64 = 0.5;

/// A slow place on the medium.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct SlowSpot {
    pub(crate) offset: u64,
    /// `writing` or `reading back`.
    pub(crate) what: &'static str,
    /// In seconds.
    pub(crate) took: f64,
    pub(crate) usual: f64,
}

/// The slowest chunks, the worst first.
pub(crate) fn slow_spots(receipt: &Receipt) -> Vec<SlowSpot> {
    let mut spots = slow_of(&receipt.pace_written, "writing");
    spots.extend(slow_of(&receipt.pace_read, "reading back"));
    spots.sort_by(|a, b| b.took.total_cmp(&a.took));
    spots
}

fn slow_of(points: &[PacePoint], what: &'static str) -> Vec<SlowSpot> {
    let mut times: Vec<f64> = points.iter().map(|point| point.took).collect();
    times.sort_by(f64::total_cmp);
    let Some(&usual) = times.get(times.len() / 2) else {
        return Vec::new();
    };
    let is_slow = |point: &&PacePoint| point.took >= SLOW_SECONDS && point.took >= usual * SLOW;
    points
        .iter()
        .filter(is_slow)
        .map(|point| SlowSpot {
            offset: point.offset,
            what,
            took: point.took,
            usual,
        })
        .collect()
}

/// A curve: positions (bytes or seconds) and rates in MB/s.
pub(crate) type Curve = Vec<(f64, f64)>;

/// Time steps for computing rates; several times the number of chunks in flight.
const STEPS: usize = 2000;
/// The fewest chunks over which a rate is averaged.
const CHUNKS: usize = 6;

/// Bytes per second over time. With several requests in flight, each chunk's bytes are spread over
/// the time it took.
struct Rates {
    step: f64,
    bytes: Vec<f64>,
}

impl Rates {
    fn of(points: &[PacePoint], end: f64) -> Self {
        let step = (end / STEPS as f64).max(1e-6);
        let mut bytes = vec![0.0; STEPS];
        for point in points {
            let took = point.took.max(step);
            for (index, share) in shares((point.at - took).max(0.0), point.at, step) {
                bytes[index] += point.bytes as f64 * share;
            }
        }
        Self { step, bytes }
    }

    /// The mean rate from one moment to another, in MB/s.
    fn mean(&self, from: f64, to: f64) -> f64 {
        let (mut bytes, mut seconds) = (0.0, 0.0);
        let whole = (to - from).max(self.step);
        for (index, share) in shares(from, from + whole, self.step) {
            let own = share * whole;
            bytes += self.bytes[index] * own / self.step;
            seconds += own;
        }
        bytes / seconds.max(1e-9) / 1e6
    }
}

/// The steps that a span touches, with the share of the span in each.
fn shares(from: f64, to: f64, step: f64) -> impl Iterator<Item = (usize, f64)> {
    let whole = (to - from).max(1e-9);
    let first = (from / step) as usize;
    let last = ((to / step) as usize).min(STEPS - 1);
    (first.min(last)..=last).map(move |index| {
        let (begin, end) = (index as f64 * step, (index + 1) as f64 * step);
        (index, (end.min(to) - begin.max(from)).max(0.0) / whole)
    })
}

/// Rates along the medium.
pub(crate) fn over_offset(points: &[PacePoint]) -> Curve {
    let end = points.iter().map(|point| point.at).fold(0.1, f64::max);
    let rates = Rates::of(points, end);
    let mut sorted = points.to_vec();
    sorted.sort_by_key(|point| point.offset);
    let mean = |group: &[PacePoint]| {
        let sum: f64 = group
            .iter()
            .map(|point| rates.mean(point.at - point.took, point.at))
            .sum();
        let middle = group[group.len() / 2].offset as f64;
        (middle, sum / group.len() as f64)
    };
    // As many points as can be distinguished.
    let group = CHUNKS.min(sorted.len() / 4).max(1).max(sorted.len() / 300);
    sorted.chunks(group).map(mean).collect()
}

/// Rates in `bins` equal parts of the time up to `end` seconds.
pub(crate) fn over_time(points: &[PacePoint], end: f64, bins: usize) -> Curve {
    let begun = points
        .iter()
        .map(|point| point.at - point.took)
        .fold(end, f64::min);
    let last = points.iter().map(|point| point.at).fold(0.0, f64::max);
    let rates = Rates::of(points, end);
    let width = end / bins as f64;
    (0..bins)
        .map(|bin| (bin as f64 * width, (bin + 1) as f64 * width))
        .filter(|(from, to)| *to > begun && *from < last)
        .map(|(from, to)| ((from + to) / 2.0, rates.mean(from.max(begun), to.min(last))))
        .collect()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

    use super::*;

    fn point(offset: u64, at: f64, took: f64) -> PacePoint {
        PacePoint {
            offset,
            bytes: 4_000_000,
            at,
            took,
        }
    }

    #[test]
    fn rates_and_slow_spots() {
        // Two in flight, each 0.2 s: 40 MB/s; the last one is slow.
        let mut points: Vec<_> = (0..40)
            .map(|i| point(i * 4_000_000, (i + 2) as f64 * 0.1, 0.2))
            .collect();
        points.push(point(160_000_000, 8.2, 4.0));
        let curve = over_offset(&points);
        assert!((curve[2].1 - 40.0).abs() < 1.0, "{curve:?}");
        // The slow one is averaged with its neighbours.
        assert!(curve.last().unwrap().1 < 35.0, "{curve:?}");
        let times = over_time(&points, 8.2, 8);
        assert!((times[1].1 - 40.0).abs() < 1.0, "{times:?}");
        assert!((times[6].1 - 1.0).abs() < 0.2, "{times:?}");
        let spots = slow_of(&points, "writing");
        assert_eq!(spots.len(), 1);
        assert_eq!((spots[0].offset, spots[0].took), (160_000_000, 4.0));
        assert!(slow_of(&[], "writing").is_empty());
        assert!(over_offset(&[]).is_empty() && over_time(&[], 1.0, 4).is_empty());
    }
}
