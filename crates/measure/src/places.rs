//! Where marks are put: in one piece at the start, and at regular distances up to the end.
//!
//! A medium that has `R` bytes and wraps puts what belongs at `x` ≥ `R` on `x - R`. The distances
//! are as long as the piece at the start, so that whatever `R` is, one of the places lies less than
//! that piece past it, and shows a mark of that piece, which says exactly how far away it belongs.

use pinewrit_disk::ByteRange;

/// Bytes of a place.
pub(crate) const PLACE: u64 = 4096;
/// Bytes that are written in the time of one request anywhere: 20 MB/s, 10 ms.
const BYTES_PER_REQUEST: u64 = 200_000;
/// The smallest medium that can be measured, in bytes.
pub(crate) const SMALLEST: u64 = 1 << 20;

/// The places on a medium of a certain size.
pub(crate) struct Places {
    /// The piece at the start.
    pub(crate) dense: ByteRange,
    /// Starts of the others in bytes, ascending, outside that piece.
    pub(crate) sparse: Vec<u64>,
}

impl Places {
    /// Balances the time that the piece takes against that of the other places.
    pub(crate) fn on(size: u64) -> Self {
        let ideal = size.saturating_mul(BYTES_PER_REQUEST).isqrt();
        let power = 1 << ideal.max(PLACE).ilog2();
        let half = size / 2 / PLACE * PLACE;
        let dense = power.min(half).max(PLACE);
        let last = size.saturating_sub(PLACE) / 512 * 512;
        let step = usize::try_from(dense).unwrap_or(usize::MAX);
        let mut sparse: Vec<u64> = (dense..last).step_by(step).collect();
        if sparse.last().is_none_or(|&place| place + PLACE <= last) {
            sparse.push(last);
        } else if let Some(place) = sparse.last_mut() {
            *place = last;
        }
        Self {
            dense: ByteRange {
                start: 0,
                end: dense,
            },
            sparse,
        }
    }

    /// Bytes that are marked.
    pub(crate) fn bytes(&self) -> u64 {
        self.dense.len() + self.sparse.len() as u64 * PLACE
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::small(SMALLEST)]
    #[case::odd(15_931_539_456)]
    #[case::of_64_gb(64_000_000_000)]
    #[case::of_2_tb(2_000_000_000_000)]
    fn one_place_lies_close_behind_any_wrap(#[case] size: u64) {
        let places = Places::on(size);
        for step in 1..1000 {
            let real = size / 1000 * step / 512 * 512;
            if real < places.dense.end {
                continue;
            }
            let mut sparse = places.sparse.iter();
            let close = sparse.any(|&place| place >= real && place - real < places.dense.end);
            let cut = places
                .sparse
                .iter()
                .any(|&place| place < real && place + PLACE > real);
            assert!(close || cut, "{real} of {size}");
        }
        assert!(places.sparse.iter().all(|&place| place + PLACE <= size));
        assert!(places.sparse.is_sorted_by(|a, b| a + PLACE <= *b));
    }

    #[test]
    fn a_card_of_64_gb_takes_less_than_200_mb_with_what_is_put_back() {
        assert!(2 * Places::on(64_000_000_000).bytes() < 150_000_000);
    }
}
