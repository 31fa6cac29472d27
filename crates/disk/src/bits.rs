//! Bitmaps as file systems keep them: bit 0 is the lowest bit of the first byte. All functions
//! panic past the end of the map.

use std::ops::Range;

/// Whether a bit is set.
#[inline]
pub fn is_set(bitmap: &[u8], bit: u64) -> bool {
    bitmap[(bit / 8) as usize] & 1 << (bit % 8) != 0
}

/// Sets bits.
pub fn set(bitmap: &mut [u8], bits: Range<u64>) {
    for_bytes(bitmap, bits, |byte, mask| *byte |= mask);
}

/// Clears bits.
pub fn clear(bitmap: &mut [u8], bits: Range<u64>) {
    for_bytes(bitmap, bits, |byte, mask| *byte &= !mask);
}

/// Calls `change` with each byte that holds some of these bits, and a mask of them.
fn for_bytes(bitmap: &mut [u8], bits: Range<u64>, change: fn(&mut u8, u8)) {
    let mut at = bits.start;
    while at < bits.end {
        let (index, first) = ((at / 8) as usize, at % 8);
        let count = (8 - first).min(bits.end - at);
        let mask = (0xffu16 >> (8 - count) << first) as u8;
        change(&mut bitmap[index], mask);
        at += count;
    }
}

/// The first run of clear bits, of at most `most`.
pub fn free_run(bitmap: &[u8], bits: Range<u64>, most: u64) -> Option<Range<u64>> {
    let mut at = bits.start;
    while at < bits.end && is_set(bitmap, at) {
        at += same_bits(bitmap, at, 0xff);
    }
    if at >= bits.end {
        return None;
    }
    let limit = bits.end.min(at.saturating_add(most));
    let mut end = at + 1;
    while end < limit {
        if is_set(bitmap, end) {
            break;
        }
        end += same_bits(bitmap, end, 0);
    }
    Some(at..end.min(limit))
}

/// How many bits from `at` on equal it: eight bytes' worth, one byte's, or only itself.
fn same_bits(bitmap: &[u8], at: u64, byte: u8) -> u64 {
    let bytes = &bitmap[(at / 8) as usize..];
    match bytes.first_chunk::<8>() {
        _ if !at.is_multiple_of(8) => 1,
        Some(word) if *word == [byte; 8] => 64,
        _ if bytes[0] == byte => 8,
        _ => 1,
    }
}

/// The first run of `want` clear bits, or else the longest.
pub fn best_run(bitmap: &[u8], bits: Range<u64>, want: u64) -> Option<Range<u64>> {
    let mut best: Option<Range<u64>> = None;
    let mut at = bits.start;
    while let Some(run) = free_run(bitmap, at..bits.end, want) {
        at = run.end;
        let len = run.end - run.start;
        if best.as_ref().is_none_or(|best| best.end - best.start < len) {
            best = Some(run);
        }
        if len >= want {
            break;
        }
    }
    best
}
/// The first bit of `bits` that is set.
pub fn first_set(bitmap: &[u8], bits: Range<u64>) -> Option<u64> {
    let mut at = bits.start;
    while at < bits.end {
        if is_set(bitmap, at) {
            return Some(at);
        }
        at += same_bits(bitmap, at, 0);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::first_fit(3, Some(18..21))]
    #[case::short(2, Some(4..6))]
    #[case::longest(100, Some(18..64))]
    fn runs_are_found(#[case] want: u64, #[case] expected: Option<Range<u64>>) {
        let mut bitmap = vec![0xff; 8];
        clear(&mut bitmap, 4..6);
        clear(&mut bitmap, 18..64);
        assert_eq!(best_run(&bitmap, 0..64, want), expected);
        assert_eq!(best_run(&bitmap, 6..18, want), None);
    }
}
