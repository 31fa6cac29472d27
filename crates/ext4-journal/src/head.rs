//! The journal's superblock.

use crate::{JournalError, MAGIC, big, crc32c, crc32c_without};

/// Length of the superblock in bytes; the rest of its block is unused.
const LEN: usize = 1024;
/// The second form of the superblock, which has features.
const WITH_FEATURES: u32 = 4;
/// The first form.
const WITHOUT_FEATURES: u32 = 3;
/// Fewer blocks are no journal: `JBD2_MIN_JOURNAL_BLOCKS`.
const LEAST_BLOCKS: u32 = 1024;
/// Blocks for fast commits, where none are named: `JBD2_DEFAULT_FAST_COMMIT_BLOCKS`.
const USUAL_FAST_BLOCKS: u32 = 256;

/// Offsets in the superblock.
mod at {
    pub(super) const KIND: usize = 4;
    pub(super) const BLOCK_SIZE: usize = 12;
    pub(super) const LEN: usize = 16;
    pub(super) const FIRST: usize = 20;
    pub(super) const SEQUENCE: usize = 24;
    pub(super) const START: usize = 28;
    pub(super) const ERROR: usize = 32;
    pub(super) const COMPATIBLE: usize = 36;
    pub(super) const INCOMPATIBLE: usize = 40;
    pub(super) const READ_ONLY: usize = 44;
    pub(super) const UUID: usize = 48;
    pub(super) const USERS: usize = 64;
    pub(super) const SUM_KIND: usize = 80;
    pub(super) const FAST_BLOCKS: usize = 84;
    pub(super) const SUM: usize = 252;
}

bitflags::bitflags! {
    /// What a journal has: those that have to be known to replay it.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct Features: u32 {
        /// Blocks are revoked.
        const REVOKE = 0x1;
        /// Block numbers have 64 bits.
        const WIDE = 0x2;
        /// A commit block does not wait for the blocks before it.
        const ASYNC_COMMIT = 0x4;
        /// Each block has a checksum, of which 16 bits are kept for data.
        const SUMS_V2 = 0x8;
        /// Each block has a checksum, of which all bits are kept.
        const SUMS_V3 = 0x10;
        /// There is a part for fast commits.
        const FAST_COMMIT = 0x20;
    }
}

/// The journal's superblock.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    /// Bytes of a block.
    pub block_size: usize,
    /// Number of blocks, with the superblock and what is kept for fast commits.
    pub blocks: u32,
    /// First block of the log.
    pub first: u32,
    /// Block where the oldest transaction begins; 0 if nothing is to be replayed.
    pub start: u32,
    /// Number of that transaction.
    pub sequence: u32,
    /// An error that the system has met; 0 for none.
    pub error: u32,
    /// What the journal has.
    pub features: Features,
    /// Each commit block has a checksum of its transaction.
    pub has_commit_sums: bool,
    /// Blocks for fast commits, at the end.
    fast_blocks: u32,
    /// The whole superblock, as it was read.
    raw: Vec<u8>,
}

impl Head {
    /// The superblock of an empty journal.
    pub fn empty(block_size: usize, blocks: u32) -> Self {
        let mut raw = vec![0; LEN];
        let fields = [
            (0, MAGIC),
            (at::KIND, WITH_FEATURES),
            (at::BLOCK_SIZE, block_size as u32),
            (at::LEN, blocks),
            (at::FIRST, 1),
            (at::SEQUENCE, 1),
            (at::USERS, 1),
        ];
        for (place, value) in fields {
            put(&mut raw, place, value);
        }
        Self {
            block_size,
            blocks,
            first: 1,
            start: 0,
            sequence: 1,
            error: 0,
            features: Features::empty(),
            has_commit_sums: false,
            fast_blocks: 0,
            raw,
        }
    }

    /// Reads it from the journal's first block. `blocks` is how many the journal's file has.
    ///
    /// # Errors
    /// [`JournalError::Head`]: it cannot be. [`JournalError::Unknown`]: what it has is not known.
    pub fn parse(block: &[u8], block_size: usize, blocks: u64) -> Result<Self, JournalError> {
        let raw = block.get(..LEN).ok_or(JournalError::Head)?;
        let kind = big(raw, at::KIND);
        let (len, first) = (big(raw, at::LEN), big(raw, at::FIRST));
        let is_possible = big(raw, 0) == MAGIC
            && (kind == WITH_FEATURES || kind == WITHOUT_FEATURES)
            && big(raw, at::BLOCK_SIZE) as usize == block_size
            && u64::from(len) <= blocks
            && len >= LEAST_BLOCKS
            && first > 0
            && first < len
            // One that several file systems share is on a device of its own.
            && (kind == WITHOUT_FEATURES || big(raw, at::USERS) <= 1);
        if !is_possible {
            return Err(JournalError::Head);
        }
        let feature = |place| {
            if kind == WITH_FEATURES {
                big(raw, place)
            } else {
                0
            }
        };
        let (compatible, bits) = (feature(at::COMPATIBLE), feature(at::INCOMPATIBLE));
        let unknown = bits & !Features::all().bits();
        if unknown != 0 || feature(at::READ_ONLY) != 0 {
            return Err(JournalError::Unknown(unknown | feature(at::READ_ONLY)));
        }
        let features = Features::from_bits_truncate(bits);
        let head = Self {
            block_size,
            blocks: len,
            first,
            start: big(raw, at::START),
            sequence: big(raw, at::SEQUENCE),
            error: big(raw, at::ERROR),
            features,
            has_commit_sums: compatible & 1 != 0,
            fast_blocks: match big(raw, at::FAST_BLOCKS) {
                _ if !features.contains(Features::FAST_COMMIT) => 0,
                0 => USUAL_FAST_BLOCKS,
                many => many,
            },
            raw: raw.to_vec(),
        };
        head.check()
    }

    fn check(self) -> Result<Self, JournalError> {
        let both = Features::SUMS_V2 | Features::SUMS_V3;
        let is_summed = self.has_block_sums();
        // CRC-32C is the only kind that was ever used.
        let is_twice = self.features.contains(both) || is_summed && self.has_commit_sums;
        let is_right = !is_twice
            && (!is_summed
                || self.raw[at::SUM_KIND] == 4
                    && crc32c_without(!0, &self.raw, at::SUM) == big(&self.raw, at::SUM));
        let is_inside = self.start == 0 || (self.first..self.end()).contains(&self.start);
        if is_right && is_inside && self.first < self.end() {
            Ok(self)
        } else {
            Err(JournalError::Head)
        }
    }

    /// Whether each block of the log has a checksum.
    pub fn has_block_sums(&self) -> bool {
        self.features
            .intersects(Features::SUMS_V2 | Features::SUMS_V3)
    }

    /// What the checksums of all blocks begin with.
    pub(crate) fn seed(&self) -> u32 {
        crc32c(!0, &self.raw[at::UUID..at::UUID + 16])
    }

    /// The block behind the log, where what is kept for fast commits begins.
    pub fn end(&self) -> u32 {
        let end = self.blocks.saturating_sub(self.fast_blocks);
        // A journal that would be too small for both has none of the other kind.
        if end < LEAST_BLOCKS { self.blocks } else { end }
    }

    /// The first block with fast commits, if the journal keeps room for them.
    pub(crate) fn first_fast(&self) -> Option<u32> {
        let place = self.end().checked_add(1)?;
        (self.fast_blocks > 0 && place < self.blocks).then_some(place)
    }

    /// The same journal when everything up to the transaction before `sequence` is in its place.
    #[must_use]
    pub fn emptied(&self, sequence: u32) -> Self {
        let mut head = self.clone();
        head.start = 0;
        head.sequence = sequence;
        put(&mut head.raw, at::START, 0);
        put(&mut head.raw, at::SEQUENCE, sequence);
        if head.has_block_sums() {
            let sum = crc32c_without(!0, &head.raw, at::SUM);
            put(&mut head.raw, at::SUM, sum);
        }
        head
    }

    /// Its bytes, for the journal's first block.
    pub fn to_bytes(&self) -> &[u8] {
        &self.raw
    }

    /// The journal's first block.
    pub fn to_block(&self) -> Vec<u8> {
        let mut block = self.raw.clone();
        block.resize(self.block_size.max(LEN), 0);
        block
    }
}

fn put(raw: &mut [u8], place: usize, value: u32) {
    raw[place..place + 4].copy_from_slice(&value.to_be_bytes());
}
