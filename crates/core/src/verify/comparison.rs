//! The result of a comparison with an image.

use pinewrit_disk::{ByteRange, CHUNK_SIZE};
use schemars::JsonSchema;
use serde::Serialize;

use super::workers::Differing;

/// The result of a comparison.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Comparison {
    /// Bytes of the image that were compared: all used ones.
    pub compared: u64,
    /// Bytes that no file system uses, and that were not compared.
    pub free: u64,
    /// Chunks in which something differs.
    pub differing_chunks: u64,
    /// Bytes that differ.
    pub differing_bytes: u64,
    /// Runs of differing chunks: from the first to the last differing byte of each.
    pub differences: Vec<Difference>,
    /// The differences in pieces of 512 bytes; if there are too many, whole runs.
    #[serde(skip)]
    pub spots: Vec<ByteRange>,
}

/// A run of neighbouring chunks that differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Difference {
    /// First differing byte.
    pub start: u64,
    /// One past the last differing byte.
    pub end: u64,
    /// How many chunks it touches.
    pub chunks: u64,
}

/// The most runs to record; more are only counted.
const MAX_DIFFERENCES: usize = 1000;
/// The most pieces to record.
const MAX_SPOTS: usize = 500_000;
/// Bytes of a piece: it never belongs to two files.
const PIECE: usize = 512;

impl Comparison {
    /// Whether the medium holds exactly the image.
    pub fn is_equal(&self) -> bool {
        self.differing_chunks == 0
    }

    /// Combines what workers found, in any order.
    pub(super) fn of(mut differing: Vec<Differing>) -> Self {
        differing.sort_by_key(|one| one.index);
        let mut comparison = Self::default();
        for one in &differing {
            if let Some((start, end)) = one.found.span {
                comparison.add(one.index, start, end, &one.found);
            }
        }
        comparison
    }

    fn add(&mut self, chunk: u64, start: u64, end: u64, found: &Found) {
        self.differing_chunks += 1;
        self.differing_bytes += found.bytes;
        if self.spots.len() + found.spots.len() > MAX_SPOTS {
            self.spots.push(ByteRange { start, end })
        } else {
            self.spots.extend(&found.spots)
        }
        if let Some(last) = self.differences.last_mut()
            && last.end.div_ceil(CHUNK_SIZE as u64) == chunk
        {
            last.end = end;
            last.chunks += 1;
        } else if self.differences.len() < MAX_DIFFERENCES {
            self.differences.push(Difference {
                start,
                end,
                chunks: 1,
            });
        }
    }
}

/// Differing bytes of a chunk.
#[derive(Default)]
pub(crate) struct Found {
    /// From the first to behind the last of them.
    pub(crate) span: Option<(u64, u64)>,
    pub(crate) bytes: u64,
    /// The pieces that differ, in order.
    spots: Vec<ByteRange>,
}

impl Found {
    /// Compares the expected bytes at `offset` with the actual ones.
    pub(crate) fn add(&mut self, offset: u64, expected: &[u8], found: &[u8]) {
        if expected == found {
            return;
        }
        let differs = |(a, b): (&u8, &u8)| a != b;
        let mut pairs = expected.iter().zip(found);
        let first = offset + pairs.clone().position(differs).unwrap_or(0) as u64;
        let last = offset + pairs.clone().rposition(differs).unwrap_or(0) as u64;
        self.bytes += pairs.by_ref().filter(|(a, b)| a != b).count() as u64;
        let pieces = expected.chunks(PIECE).zip(found.chunks(PIECE));
        for (index, (expected, found)) in pieces.enumerate() {
            let start = offset + (index * PIECE) as u64;
            let end = start + expected.len() as u64;
            match self.spots.last_mut() {
                _ if expected == found => {}
                Some(last) if last.end == start => last.end = end,
                _ => self.spots.push(ByteRange { start, end }),
            }
        }
        self.span = Some((self.span.map_or(first, |(start, _)| start), last + 1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn neighbouring_chunks_make_one_difference() {
        let chunk = CHUNK_SIZE as u64;
        let mut comparison = Comparison::default();
        let found = |bytes| Found {
            bytes,
            ..Found::default()
        };
        comparison.add(3, 3 * chunk + 5, 4 * chunk, &found(10));
        comparison.add(4, 4 * chunk, 4 * chunk + 1, &found(1));
        comparison.add(6, 6 * chunk + 1, 6 * chunk + 2, &found(1));
        let runs: Vec<_> = comparison.differences.iter().map(|d| d.chunks).collect();
        assert_eq!(runs, [2, 1]);
        assert_eq!(comparison.differing_bytes, 12);
        assert!(!comparison.is_equal());
    }
}
