//! The index of large folders, "Hash Tree Directories".

use std::collections::BTreeMap;

use pinewrit_disk::bytes::{put16, put32, u16le, u32le};

use crate::checksum::crc32c;
use crate::{Incompatible, ReadOnlyCompatible, Superblock};

/// Half MD4, as version 1 of the hash: that of new indexes.
pub const HALF_MD4: u8 = 1;
/// Where entries begin in the root of an index and in the nodes below.
pub const ROOT_START: usize = 32;
/// Where the entries of other nodes begin.
pub const NODE_START: usize = 8;
/// Bytes of the root's own fields, `info_length`.
const INFO_LEN: u8 = 8;

/// How names are hashed, `dx_root.info.hash_version`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Algorithm {
    Legacy,
    HalfMd4,
    Tea,
}

/// The algorithm, four words of seed from the superblock, and whether bytes above 127 count as
/// negative.
#[derive(Clone, Copy)]
pub struct Hasher {
    algorithm: Algorithm,
    seed: [u32; 4],
    is_signed: bool,
}

const USUAL_SEED: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];

impl Hasher {
    /// The one for a hash version; `None` for unknown versions.
    pub fn new(sb: &Superblock, version: u8) -> Option<Self> {
        let algorithm = match version % 3 {
            _ if version > 5 => return None,
            0 => Algorithm::Legacy,
            1 => Algorithm::HalfMd4,
            _ => Algorithm::Tea,
        };
        Some(Self {
            algorithm,
            seed: match sb.hash_seed {
                [0, 0, 0, 0] => USUAL_SEED,
                seed => seed,
            },
            is_signed: version < 3 && !sb.is_hash_unsigned,
        })
    }

    /// The hash of a name, always even.
    pub fn hash(self, name: &[u8]) -> u32 {
        let hash = match self.algorithm {
            Algorithm::Legacy => self.legacy(name),
            Algorithm::HalfMd4 => self.in_pieces(name, 32, half_md4)[1],
            Algorithm::Tea => self.in_pieces(name, 16, tea)[0],
        };
        // The largest value stands for the end.
        match hash & !1 {
            0xffff_fffe => 0xffff_fffc,
            hash => hash,
        }
    }

    fn in_pieces(
        self,
        name: &[u8],
        size: usize,
        transform: fn(&mut [u32; 4], &[u32; 8]),
    ) -> [u32; 4] {
        let mut state = self.seed;
        let mut rest = name;
        while !rest.is_empty() {
            transform(&mut state, &self.words(rest));
            rest = rest.get(size..).unwrap_or_default();
        }
        state
    }

    fn legacy(self, name: &[u8]) -> u32 {
        let (mut before, mut last) = (0x12a3_fe2d_u32, 0x37ab_e8f9_u32);
        for &byte in name {
            let mixed = last.wrapping_add(before ^ self.value(byte).wrapping_mul(7_152_373));
            let hash = match mixed & 0x8000_0000 {
                0 => mixed,
                _ => mixed.wrapping_sub(0x7fff_ffff),
            };
            (last, before) = (before, hash);
        }
        before << 1
    }

    fn value(self, byte: u8) -> u32 {
        if self.is_signed {
            byte as i8 as u32
        } else {
            u32::from(byte)
        }
    }

    /// Up to 32 bytes as eight words, padded with the length.
    fn words(self, name: &[u8]) -> [u32; 8] {
        let len = name.len() as u32;
        let pad = len | len << 8;
        let pad = pad | pad << 16;
        let mut words = [pad; 8];
        for (word, bytes) in words.iter_mut().zip(name.chunks(4)) {
            *word = bytes
                .iter()
                .fold(pad, |word, &byte| self.value(byte).wrapping_add(word << 8));
        }
        words
    }
}

/// Sixteen rounds of the Tiny Encryption Algorithm, with the first four words as its key.
fn tea(state: &mut [u32; 4], input: &[u32; 8]) {
    let [a, b, c, d, ..] = *input;
    let (mut sum, mut left, mut right) = (0u32, state[0], state[1]);
    let mix = |word: u32, sum: u32, one: u32, two: u32| {
        let (up, down) = ((word << 4).wrapping_add(one), (word >> 5).wrapping_add(two));
        up ^ word.wrapping_add(sum) ^ down
    };
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        left = left.wrapping_add(mix(right, sum, a, b));
        right = right.wrapping_add(mix(left, sum, c, d));
    }
    state[0] = state[0].wrapping_add(left);
    state[1] = state[1].wrapping_add(right);
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
            // The words change in the order a, d, c, b.
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

/// An entry of an index: names from this hash on are in, or below, this block of the folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Branch {
    /// The lowest hash that it leads to.
    pub hash: u32,
    /// A block of the directory: a node, or a leaf.
    pub block: u32,
}

impl Branch {
    /// Finds the entries that may lead to names with this hash: the last one that begins no later,
    /// and those after it whose lowest bit says that such names did not fit into one block.
    pub fn towards(all: &[Self], hash: u32) -> &[Self] {
        let behind = all.partition_point(|branch| branch.hash <= hash);
        let goes_on = |branch: &&Self| branch.hash & !1 == hash;
        let more = all[behind..].iter().take_while(goes_on).count();
        &all[behind.saturating_sub(1)..behind + more]
    }
}

/// How many entries fit after `start`, with room for a checksum.
pub fn limit(block_size: usize, start: usize, has_checksum: bool) -> usize {
    (block_size - start - if has_checksum { 8 } else { 0 }) / 8
}

/// Writes entries after `start`; the two counts take the place of the first one's hash.
pub fn put_branches(block: &mut [u8], start: usize, limit: usize, branches: &[Branch]) {
    for (index, branch) in branches.iter().enumerate() {
        put32(block, start + index * 8, branch.hash);
        put32(block, start + index * 8 + 4, branch.block);
    }
    put16(block, start, limit as u16);
    put16(block, start + 2, branches.len() as u16);
}

/// The entries after `start`; `None` if their counts are impossible or they are not in order.
pub fn branches(sb: &Superblock, block: &[u8], start: usize) -> Option<Vec<Branch>> {
    let has_sums = sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
    let most = limit(block.len(), start, has_sums);
    let (limit, count) = (
        usize::from(u16le(block, start)),
        usize::from(u16le(block, start + 2)),
    );
    if limit != most || count == 0 || count > limit {
        return None;
    }
    let mut found: Vec<Branch> = block[start..start + count * 8]
        .chunks_exact(8)
        .map(|raw| Branch {
            hash: u32le(raw, 0),
            // The upper bits are for other uses.
            block: u32le(raw, 4) & 0x0fff_ffff,
        })
        .collect();
    found[0].hash = 0;
    let is_sorted = found.windows(2).all(|pair| pair[0].hash <= pair[1].hash);
    is_sorted.then_some(found)
}

/// The checksum of a node and its place, `dx_tail`: it covers the counted entries.
pub fn node_checksum(seed: u32, block: &[u8], start: usize) -> Option<(usize, u32)> {
    let limit = usize::from(u16le(block, start));
    let count = usize::from(u16le(block, start + 2));
    let tail = start + limit * 8;
    let counted = block.get(start..start + count * 8)?;
    let reserved = block.get(tail..tail + 8)?;
    let sum = crc32c(crc32c(seed, &block[..start]), counted);
    Some((tail + 4, crc32c(crc32c(sum, &reserved[..4]), &[0; 4])))
}

/// The head of an index.
pub struct Root {
    /// How names are hashed.
    pub hasher: Hasher,
    /// Levels of nodes between the root and the blocks with names.
    pub levels: u8,
}

impl Root {
    /// Reads a folder's first block as the root of an index; `None` if it is not one.
    pub fn read(sb: &Superblock, block: &[u8]) -> Option<Self> {
        let most = if sb.incompatible.has(Incompatible::LARGEDIR) {
            2
        } else {
            1
        };
        let [version, info_len, levels, flags] = block.get(28..32)?.try_into().ok()?;
        let fits =
            u32le(block, 24) == 0 && info_len == INFO_LEN && levels <= most && flags & 1 == 0;
        let hasher = Hasher::new(sb, version)?;
        fits.then_some(Self { hasher, levels })
    }
}

/// An index as a whole. Its blocks are numbered within the folder.
pub struct Index {
    /// How names are hashed.
    pub hasher: Hasher,
    /// The root and the nodes below, and where their entries begin.
    pub nodes: BTreeMap<u32, usize>,
    /// Blocks with names, by hash.
    pub leaves: Vec<Branch>,
}

/// What is wrong with an index, in words.
pub type IndexFault = &'static str;

/// Why an index was not read.
pub enum IndexError<E> {
    /// The index is invalid.
    Fault(IndexFault),
    /// One of its blocks could not be read.
    Read(E),
}

impl Index {
    /// Reads an index of a folder with `count` blocks and checks that it leads to each of them
    /// once. `seed` is that of the folder's checksums, `read` reads one of its blocks.
    pub fn read<E>(
        sb: &Superblock,
        seed: u32,
        count: usize,
        read: &mut dyn FnMut(u32) -> Result<Vec<u8>, E>,
    ) -> Result<Self, IndexError<E>> {
        let mut read = |index| read(index).map_err(IndexError::Read);
        let first = read(0)?;
        let Some(root) = Root::read(sb, &first) else {
            return Err(IndexError::Fault("the root of its index cannot be"));
        };
        let mut index = Self {
            hasher: root.hasher,
            nodes: BTreeMap::new(),
            leaves: Vec::new(),
        };
        let start = Branch { hash: 0, block: 0 };
        let mut open = vec![start];
        for level in 0..=root.levels {
            let offset = if level == 0 { ROOT_START } else { NODE_START };
            let mut below = Vec::new();
            for node in open {
                if node.block as usize >= count || index.nodes.insert(node.block, offset).is_some()
                {
                    return Err(IndexError::Fault(
                        "its index leads to a block twice, or to none",
                    ));
                }
                let block = read(node.block)?;
                let branches = index.node(sb, seed, node, &block, offset);
                below.extend(branches.map_err(IndexError::Fault)?);
            }
            open = below;
        }
        index.leaves = open;
        index.is_whole(count).map_err(IndexError::Fault)?;
        Ok(index)
    }

    fn node(
        &self,
        sb: &Superblock,
        seed: u32,
        node: Branch,
        block: &[u8],
        offset: usize,
    ) -> Result<Vec<Branch>, IndexFault> {
        // To readers that do not know the index, a node is an empty block.
        let is_empty =
            u32le(block, 0) == 0 && usize::from(u16le(block, 4)) >= block.len().min(0xffff);
        if offset == NODE_START && !is_empty && block.len() < 1 << 16 {
            return Err("a node of its index cannot be");
        }
        let mut found = branches(sb, block, offset).ok_or("the counts of its index cannot be")?;
        if sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
            let sum = node_checksum(seed, block, offset);
            if sum.is_none_or(|(at, sum)| u32le(block, at) != sum) {
                return Err("the checksum of its index is wrong");
            }
        }
        found[0].hash = node.hash;
        if found.get(1).is_some_and(|second| second.hash < node.hash) {
            Err("its index is not in order")
        } else {
            Ok(found)
        }
    }

    fn is_whole(&self, count: usize) -> Result<(), IndexFault> {
        let mut seen = vec![false; count];
        for block in self.nodes.keys() {
            seen[*block as usize] = true;
        }
        for leaf in &self.leaves {
            match seen.get_mut(leaf.block as usize) {
                Some(seen) if !*seen => *seen = true,
                _ => return Err("its index leads to a block twice, or to none"),
            }
        }
        let is_sorted = self
            .leaves
            .windows(2)
            .all(|pair| pair[0].hash <= pair[1].hash);
        if is_sorted && seen.into_iter().all(|seen| seen) {
            Ok(())
        } else {
            Err("its index leaves blocks out, or is not in order")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SEED: [u32; 4] = [0x0403_0201, 0x0807_0605, 0x0c0b_0a09, 0x100f_0e0d];

    const LONG: &str = "a-very-long-name-that-takes-more-than-thirty-two-bytes";

    /// Values by `debugfs -R "dx_hash -h half_md4 -s SEED NAME"`, and `legacy` and `tea` likewise.
    #[rstest]
    #[case::long(LONG, Algorithm::HalfMd4, USUAL_SEED, true, 0xeb18_bb4c)]
    #[case::signed("h\u{fc}tte", Algorithm::HalfMd4, SEED, true, 0x94ef_d5e6)]
    #[case::legacy(LONG, Algorithm::Legacy, SEED, true, 0xfd15_c38a)]
    #[case::legacy_signed("h\u{fc}tte", Algorithm::Legacy, SEED, true, 0x8e43_0bd8)]
    #[case::tea(LONG, Algorithm::Tea, SEED, true, 0x8955_0abc)]
    #[case::tea_signed("h\u{fc}tte", Algorithm::Tea, SEED, true, 0xdb80_5518)]
    fn hashes_are_those_of_others(
        #[case] name: &str,
        #[case] algorithm: Algorithm,
        #[case] seed: [u32; 4],
        #[case] is_signed: bool,
        #[case] expected: u32,
    ) {
        let hasher = Hasher {
            algorithm,
            seed,
            is_signed,
        };
        assert_eq!(hasher.hash(name.as_bytes()), expected);
        let other = Hasher {
            is_signed: !is_signed,
            ..hasher
        };
        assert_eq!(other.hash(name.as_bytes()) == expected, name.is_ascii());
    }
}
