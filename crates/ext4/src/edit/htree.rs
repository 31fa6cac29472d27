//! The index of large folders, "Hash Tree Directories".

use crate::bytes::{put16, put32};

/// Half MD4, as version 1 of the hash.
pub(super) const HALF_MD4: u8 = 1;

/// Four words from the superblock, and whether bytes above 127 count as negative.
#[derive(Clone, Copy)]
pub(super) struct Hasher {
    pub(super) seed: [u32; 4],
    pub(super) is_signed: bool,
}

const USUAL_SEED: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];

impl Hasher {
    /// The hash of a name, always even.
    pub(super) fn hash(self, name: &[u8]) -> u32 {
        let mut state = match self.seed {
            [0, 0, 0, 0] => USUAL_SEED,
            seed => seed,
        };
        let mut rest = name;
        loop {
            half_md4(&mut state, &self.words(rest));
            rest = rest.get(32..).unwrap_or_default();
            if rest.is_empty() {
                break;
            }
        }
        // The largest value stands for the end.
        match state[1] & !1 {
            0xffff_fffe => 0xffff_fffc,
            hash => hash,
        }
    }

    /// Up to 32 bytes as eight words, filled up with the length.
    fn words(self, name: &[u8]) -> [u32; 8] {
        let len = name.len() as u32;
        let pad = len | len << 8;
        let pad = pad | pad << 16;
        let mut words = [pad; 8];
        for (word, bytes) in words.iter_mut().zip(name.chunks(4)) {
            *word = bytes.iter().fold(pad, |word, &byte| {
                let value = match self.is_signed {
                    true => byte as i8 as u32,
                    false => u32::from(byte),
                };
                value.wrapping_add(word << 8)
            });
        }
        words
    }
}

/// The three rounds of MD4 with half of the input each.
fn half_md4(state: &mut [u32; 4], input: &[u32; 8]) {
    type Mix = fn(u32, u32, u32) -> u32;
    let f: Mix = |x, y, z| z ^ (x & (y ^ z));
    let g: Mix = |x, y, z| (x & y).wrapping_add((x ^ y) & z);
    let h: Mix = |x, y, z| x ^ y ^ z;
    let rounds: [(Mix, u32, [u32; 4], [usize; 8]); 3] = [
        (f, 0, [3, 7, 11, 19], [0, 1, 2, 3, 4, 5, 6, 7]),
        (g, 0x5a82_7999, [3, 5, 9, 13], [1, 3, 5, 7, 0, 2, 4, 6]),
        (h, 0x6ed9_eba1, [3, 9, 11, 15], [3, 7, 2, 6, 1, 5, 0, 4]),
    ];
    let mut s = *state;
    for (mix, constant, shifts, order) in rounds {
        for (step, index) in order.into_iter().enumerate() {
            // The word that changes goes a, d, c, b.
            let at = (4 - step % 4) % 4;
            let mixed = mix(s[(at + 1) % 4], s[(at + 2) % 4], s[(at + 3) % 4]);
            let sum = s[at]
                .wrapping_add(mixed)
                .wrapping_add(input[index])
                .wrapping_add(constant);
            s[at] = sum.rotate_left(shifts[step % 4]);
        }
    }
    for (word, more) in state.iter_mut().zip(s) {
        *word = word.wrapping_add(more);
    }
}

/// One entry of an index: names from this hash on are in, or under, this block of the folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Branch {
    pub(super) hash: u32,
    pub(super) block: u32,
}

/// How many branches fit behind `start`, with room for a checksum.
pub(super) fn limit(block_size: usize, start: usize, has_checksum: bool) -> usize {
    (block_size - start - if has_checksum { 8 } else { 0 }) / 8
}

/// Writes branches behind `start`; the first one's hash gives its place to the two counts.
pub(super) fn put_branches(block: &mut [u8], start: usize, limit: usize, branches: &[Branch]) {
    for (index, branch) in branches.iter().enumerate() {
        put32(block, start + index * 8, branch.hash);
        put32(block, start + index * 8 + 4, branch.block);
    }
    put16(block, start, limit as u16);
    put16(block, start + 2, branches.len() as u16);
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SEED: [u32; 4] = [0x0403_0201, 0x0807_0605, 0x0c0b_0a09, 0x100f_0e0d];

    /// Values by `debugfs -R "dx_hash -h half_md4 -s SEED NAME"`.
    #[rstest]
    #[case::long("a-very-long-name-that-takes-more-than-thirty-two-bytes", [0; 4], true, 0xeb18_bb4c)]
    #[case::signed("h\u{fc}tte", SEED, true, 0x94ef_d5e6)]
    fn hashes_are_those_of_others(
        #[case] name: &str,
        #[case] seed: [u32; 4],
        #[case] is_signed: bool,
        #[case] expected: u32,
    ) {
        let hasher = Hasher { seed, is_signed };
        assert_eq!(hasher.hash(name.as_bytes()), expected);
        let other = Hasher {
            seed,
            is_signed: !is_signed,
        };
        assert_eq!(other.hash(name.as_bytes()) == expected, name.is_ascii());
    }
}
