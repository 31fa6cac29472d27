//! Receipts in few bytes: nothing is lost, and nothing that is damaged is taken for one.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_core::receipt::{Receipt, ReceiptImage, ReceiptMedium};
use pinewrit_core::write::{ChunkRecord, Pace, PacePoint, WriteReport};
use pinewrit_disk::ByteRange;
use pinewrit_ledger::compact::{ChunkMap, pack, unpack};
use proptest::collection::vec;
use proptest::prelude::*;

/// Chunks with ranges anywhere, also where none should be.
fn chunks() -> impl Strategy<Value = Vec<ChunkRecord>> {
    let ranges = vec((0..u64::MAX / 2, 0..1_u64 << 40), 0..4);
    vec((1..500_u64, ranges, any::<u64>()), 1..40).prop_map(|all| {
        let mut index = 0;
        let chunk = |(step, ranges, seed): (u64, Vec<(u64, u64)>, u64)| {
            index += step;
            ChunkRecord {
                index,
                used: ranges
                    .into_iter()
                    .map(|(start, len)| ByteRange::new(start, start + len).unwrap())
                    .collect(),
                digest: blake3::hash(&seed.to_le_bytes()),
            }
        };
        let mut all: Vec<ChunkRecord> = all.into_iter().map(chunk).collect();
        all[0].used = vec![ByteRange::new(0, 512).unwrap()];
        all
    })
}

/// Times as clocks give them, and any others that have a form in JSON.
fn times() -> impl Strategy<Value = f64> {
    prop_oneof![
        (0..10_000_000_u64).prop_map(|steps| steps as f64 / 1e4),
        (0.0..1e9_f64),
        Just(0.0),
        Just(-1.5),
    ]
}

fn pace() -> impl Strategy<Value = Vec<PacePoint>> {
    let point = (any::<u64>(), any::<u64>(), times(), times());
    let point = point.prop_map(|(offset, bytes, at, took)| PacePoint {
        offset,
        bytes,
        at,
        took,
    });
    vec(point, 0..30)
}

fn receipt(chunks: Vec<ChunkRecord>, written: Vec<PacePoint>, read: Vec<PacePoint>) -> Receipt {
    let report = WriteReport {
        chunks,
        pace: Pace::default(),
        ..WriteReport::default()
    };
    let medium = ReceiptMedium {
        size: 8_000_000_000,
        ..ReceiptMedium::default()
    };
    let mut receipt = Receipt::new("test".to_owned(), &report, medium, ReceiptImage::default());
    // As receipts of earlier versions are: with times of any length.
    receipt.pace_written = written;
    receipt.pace_read = read;
    receipt.seal().unwrap();
    receipt
}

proptest! {
    #[test]
    fn what_is_packed_comes_back(
        own in chunks(), other in chunks(), written in pace(), read in pace()
    ) {
        let receipt = receipt(own.clone(), written, read);
        let base = ChunkMap::of(&self::receipt(other, Vec::new(), Vec::new())).unwrap();
        for base in [ChunkMap::default(), base, ChunkMap::of(&receipt).unwrap()] {
            let packed = pack(&receipt, &base).unwrap();
            prop_assert_eq!(&unpack(&packed, base).unwrap(), &receipt);
        }
        let map = ChunkMap::of(&receipt).unwrap();
        prop_assert_eq!(ChunkMap::from_bytes(&map.to_bytes()).unwrap(), map);
    }

    #[test]
    fn arbitrary_bytes_are_no_receipt_and_cost_nothing(bytes in vec(any::<u8>(), 0..300)) {
        let _ = unpack(&bytes, ChunkMap::default());
        let _ = ChunkMap::from_bytes(&bytes);
    }

    #[test]
    fn damaged_bytes_are_damage_or_another_receipt(
        own in chunks(), written in pace(), place in any::<prop::sample::Index>(), bit in 0..8_u8
    ) {
        let receipt = receipt(own, written, Vec::new());
        let mut packed = pack(&receipt, &ChunkMap::default()).unwrap();
        let place = place.index(packed.len());
        packed[place] ^= 1 << bit;
        if let Ok(other) = unpack(&packed, ChunkMap::default()) {
            // Its digest is that of what it says.
            prop_assert!(other.digest != receipt.digest || other == receipt);
        }
        for cut in [0, packed.len() / 3, packed.len().saturating_sub(1)] {
            let _ = unpack(&packed[..cut], ChunkMap::default());
        }
    }
}

#[test]
fn a_card_like_another_takes_little() {
    let chunk = |index: u64, seed: u64| ChunkRecord {
        index,
        used: vec![ByteRange::new(index << 22, (index + 1) << 22).unwrap()],
        digest: blake3::hash(&seed.to_le_bytes()),
    };
    let first = receipt(
        (0..1024).map(|index| chunk(index, index)).collect(),
        Vec::new(),
        Vec::new(),
    );
    let own = |index: u64| {
        if index.is_multiple_of(200) {
            index + 5000
        } else {
            index
        }
    };
    let second = receipt(
        (0..1024).map(|index| chunk(index, own(index))).collect(),
        Vec::new(),
        Vec::new(),
    );
    let base = ChunkMap::of(&first).unwrap();
    assert!(ChunkMap::of(&second).unwrap().is_like(&base));
    let packed = pack(&second, &base).unwrap();
    assert!(packed.len() < 1000, "{} bytes", packed.len());
    assert!(pack(&second, &ChunkMap::default()).unwrap().len() > 1024 * 32);
    let strange = receipt(
        (0..1024).map(|index| chunk(index, index + 9000)).collect(),
        Vec::new(),
        Vec::new(),
    );
    assert!(!ChunkMap::of(&strange).unwrap().is_like(&base));
}
