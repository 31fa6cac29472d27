//! Journals made block by block, in all forms, whole and damaged.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::convert::Infallible;

use pinewrit_ext4_journal::{Features, Head, JournalError, Replay, ReplayError};
use proptest::prelude::*;
use rstest::rstest;

const SIZE: usize = 1024;
const BLOCKS: u32 = 1024;
const MAGIC: u32 = 0xc03b_3998;

fn put(block: &mut [u8], at: usize, value: u32) {
    block[at..at + 4].copy_from_slice(&value.to_be_bytes());
}

/// CRC-32C as ext4 uses it.
fn sum(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// A journal that is being filled.
struct Journal {
    features: Features,
    blocks: Vec<Vec<u8>>,
    place: u32,
    sequence: u32,
}

impl Journal {
    /// The log begins at `start`, with transaction 7.
    fn new(features: Features, start: u32) -> Self {
        let mut blocks = vec![vec![0; SIZE]; BLOCKS as usize];
        let head = &mut blocks[0];
        head[..1024].copy_from_slice(Head::empty(SIZE, BLOCKS).to_bytes());
        put(head, 24, 7);
        put(head, 28, start);
        put(head, 40, features.bits());
        head[48..64].fill(0x5a);
        head[80] = 4;
        let own = sum(!0, &head[..1024]);
        put(head, 252, own);
        Self {
            features,
            blocks,
            place: start,
            sequence: 7,
        }
    }

    fn seed(&self) -> u32 {
        sum(!0, &[0x5a; 16])
    }

    fn has_sums(&self) -> bool {
        let sums = Features::SUMS_V2 | Features::SUMS_V3;
        self.features.intersects(sums)
    }

    fn add(&mut self, block: Vec<u8>) {
        self.blocks[self.place as usize] = block;
        self.place = self.place % (BLOCKS - 1) + 1;
    }

    fn begun(&self, kind: u32) -> Vec<u8> {
        let mut block = vec![0; SIZE];
        put(&mut block, 0, MAGIC);
        put(&mut block, 4, kind);
        put(&mut block, 8, self.sequence);
        block
    }

    fn sealed(&self, mut block: Vec<u8>, at: usize) -> Vec<u8> {
        if self.has_sums() {
            let own = sum(self.seed(), &block);
            put(&mut block, at, own);
        }
        block
    }

    /// A descriptor and its blocks: each is filled with one byte.
    fn write(&mut self, blocks: &[(u64, u8)]) {
        let mut descriptor = self.begun(1);
        let is_wide = self.features.contains(Features::WIDE);
        let is_third = self.features.contains(Features::SUMS_V3);
        let mut at = 12;
        for (index, (block, byte)) in blocks.iter().enumerate() {
            let data = vec![*byte; SIZE];
            let own = sum(sum(self.seed(), &self.sequence.to_be_bytes()), &data);
            let own = if self.has_sums() { own } else { 0 };
            let same_uuid = if index > 0 { 2 } else { 0 };
            let last = if index + 1 == blocks.len() { 8 } else { 0 };
            put(&mut descriptor, at, *block as u32);
            if is_third {
                put(&mut descriptor, at + 4, same_uuid | last);
                put(&mut descriptor, at + 12, own);
            } else {
                put(&mut descriptor, at + 4, own << 16 | same_uuid | last);
            }
            if is_wide {
                put(&mut descriptor, at + 8, (block >> 32) as u32);
            }
            let narrow = 8 + usize::from(self.has_sums()) * 2 + usize::from(is_wide) * 4;
            at += if is_third { 16 } else { narrow };
            at += if index == 0 { 16 } else { 0 };
        }
        let descriptor = self.sealed(descriptor, SIZE - 4);
        self.add(descriptor);
        for (_, byte) in blocks {
            self.add(vec![*byte; SIZE]);
        }
    }

    fn revoke(&mut self, blocks: &[u64]) {
        let mut list = self.begun(5);
        let is_wide = self.features.contains(Features::WIDE);
        let len = if is_wide { 8 } else { 4 };
        put(&mut list, 12, (16 + blocks.len() * len) as u32);
        for (index, block) in blocks.iter().enumerate() {
            let at = 16 + index * len;
            if is_wide {
                put(&mut list, at, (block >> 32) as u32);
            }
            put(&mut list, at + len - 4, *block as u32);
        }
        let list = self.sealed(list, SIZE - 4);
        self.add(list);
    }

    fn commit(&mut self) {
        let mut block = self.begun(2);
        // The time, in seconds.
        put(&mut block, 52, self.sequence);
        let block = self.sealed(block, 16);
        self.add(block);
        self.sequence += 1;
    }

    fn find(&self) -> Result<Replay, JournalError> {
        let count = self.blocks.len() as u64;
        let head = Head::parse(&self.blocks[0], SIZE, count)?;
        let mut read = |place: u32, block: &mut [u8]| {
            block.copy_from_slice(&self.blocks[place as usize]);
            Ok::<(), Infallible>(())
        };
        Replay::find(&head, &mut read).map_err(|error| match error {
            ReplayError::Journal(error) => error,
            ReplayError::Read(never) => match never {},
        })
    }

    /// The transactions, and the first byte of each block that is written.
    fn written(&self) -> (u32, BTreeMap<u64, u8>) {
        let replay = self.find().unwrap();
        let blocks = replay.blocks.iter().map(|(block, saved)| {
            let mut bytes = self.blocks[saved.place as usize].clone();
            saved.restore(&mut bytes);
            (*block, bytes[0])
        });
        (replay.transactions, blocks.collect())
    }
}

#[rstest]
fn the_last_content_counts_in_every_form(
    #[values(Features::empty(), Features::SUMS_V2, Features::SUMS_V3)] sums: Features,
    #[values(Features::empty(), Features::WIDE)] width: Features,
    // The second one wraps around the end.
    #[values(1, 1019)] start: u32,
) {
    let far = if width.is_empty() { 9000 } else { 5 << 32 };
    let mut journal = Journal::new(sums | width | Features::REVOKE, start);
    journal.write(&[(100, 1), (200, 1), (far, 1)]);
    journal.commit();
    journal.write(&[(100, 2)]);
    journal.revoke(&[far]);
    journal.commit();
    // Not committed.
    journal.write(&[(200, 3)]);
    let expected = BTreeMap::from([(100, 2), (200, 1)]);
    assert_eq!(journal.written(), (2, expected));
}

#[test]
fn a_block_that_is_written_after_it_was_revoked_counts() {
    let mut journal = Journal::new(Features::REVOKE, 1);
    journal.write(&[(100, 1)]);
    journal.revoke(&[100, 200]);
    journal.commit();
    journal.write(&[(200, 2)]);
    journal.commit();
    assert_eq!(journal.written(), (2, BTreeMap::from([(200, 2)])));
}

#[test]
fn a_block_that_looks_like_the_journals_own_is_restored() {
    let mut journal = Journal::new(Features::empty(), 1);
    journal.write(&[(100, 0)]);
    // The flags of its only tag.
    journal.blocks[1][19] |= 1;
    journal.commit();
    let replay = journal.find().unwrap();
    let mut block = vec![0; SIZE];
    replay.blocks[&100].restore(&mut block);
    assert_eq!(block[..5], [0xc0, 0x3b, 0x39, 0x98, 0]);
}

#[rstest]
#[case::descriptor(1, 20)]
#[case::data(2, 500)]
#[case::revoked(3, 17)]
fn a_damaged_block_of_a_committed_transaction_is_refused(#[case] place: usize, #[case] at: usize) {
    let mut journal = Journal::new(Features::SUMS_V3 | Features::REVOKE, 1);
    journal.write(&[(100, 1)]);
    journal.revoke(&[300]);
    journal.commit();
    journal.blocks[place][at] ^= 1;
    let error = journal.find().unwrap_err();
    let is_damage = matches!(error, JournalError::Damaged { sequence: 7, .. });
    assert!(is_damage, "{error}");
}

#[test]
fn a_damaged_commit_ends_it() {
    let mut journal = Journal::new(Features::SUMS_V3, 1);
    journal.write(&[(100, 1)]);
    journal.commit();
    journal.write(&[(200, 2)]);
    journal.commit();
    journal.blocks[6][60] ^= 1;
    assert_eq!(journal.written(), (1, BTreeMap::from([(100, 1)])));
}

#[test]
fn fast_commits_are_refused_by_name() {
    let mut journal = Journal::new(Features::FAST_COMMIT, 1);
    journal.write(&[(100, 1)]);
    journal.commit();
    // Too short to keep room for them.
    assert_eq!(journal.written().0, 1);
    let blocks = 2048;
    journal.blocks.resize(blocks, vec![0; SIZE]);
    put(&mut journal.blocks[0], 16, blocks as u32);
    assert_eq!(journal.written().0, 1);
    let first = &mut journal.blocks[blocks - 256 + 1];
    first[..2].copy_from_slice(&9u16.to_le_bytes());
    first[8..12].copy_from_slice(&8u32.to_le_bytes());
    assert_eq!(journal.find(), Err(JournalError::FastCommits));
}

#[test]
fn an_emptied_journal_has_nothing_to_give() {
    let mut journal = Journal::new(Features::SUMS_V3, 1);
    journal.write(&[(100, 1)]);
    journal.commit();
    let head = Head::parse(&journal.blocks[0], SIZE, u64::from(BLOCKS)).unwrap();
    journal.blocks[0] = head.emptied(9).to_block();
    assert_eq!(journal.written(), (0, BTreeMap::new()));
}

proptest! {
    /// Any damage ends the search, at the latest after one lap, with an answer.
    #[test]
    fn damage_is_answered(
        form in 0u32..16,
        flips in prop::collection::vec((0usize..13, 0usize..SIZE, any::<u8>()), 1..8),
    ) {
        let features = Features::from_bits_truncate(form) | Features::REVOKE;
        let mut journal = Journal::new(features, 1);
        for round in 0..3 {
            journal.write(&[(100 + round, 1), (200, round as u8)]);
            journal.revoke(&[100]);
            journal.commit();
        }
        for (block, at, byte) in flips {
            journal.blocks[block][at] = byte;
        }
        if let Ok(replay) = journal.find() {
            prop_assert!(replay.transactions <= BLOCKS);
        }
    }
}
