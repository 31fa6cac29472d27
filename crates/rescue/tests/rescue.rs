//! Media with bad places of any kind: every readable sector is kept, and no other is called read.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::sync::Arc;
use std::time::Duration;

use pinewrit_core::Silent;
use pinewrit_disk::{BlockDevice, ByteRange, Fault, FaultyDevice, MemoryDevice};
use pinewrit_judges::noise;
use pinewrit_rescue::{KeptError, Limits, Means, Rescue, map_path};
use proptest::prelude::*;

const SIZE: usize = 3 << 20;
const WHOLE: ByteRange = ByteRange {
    start: 0,
    end: SIZE as u64,
};
const LIMITS: Limits = Limits {
    pass: Duration::from_secs(600),
};

fn medium(bytes: &[u8], bad: &[ByteRange]) -> Arc<dyn BlockDevice> {
    let faults = bad.iter().map(|range| Fault::ReadError(*range)).collect();
    Arc::new(FaultyDevice::new(
        MemoryDevice::from_bytes(bytes.to_vec()),
        faults,
    ))
}

fn places() -> impl Strategy<Value = Vec<ByteRange>> {
    let one = (0..SIZE as u64, 1..200_000_u64).prop_map(|(start, len)| ByteRange {
        start,
        end: (start + len).min(SIZE as u64),
    });
    prop::collection::vec(one, 0..8)
}

fn is_bad(sector: usize, bad: &[ByteRange]) -> bool {
    let range = ByteRange {
        start: sector as u64 * 512,
        end: sector as u64 * 512 + 512,
    };
    bad.iter().any(|one| one.intersection(range).is_some())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// By one reader, then by another that fails elsewhere.
    #[test]
    fn what_can_be_read_is_read(first in places(), second in places(), wanted in places()) {
        let bytes = noise(SIZE, 3);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("card.rescue");
        let mut wanted: Vec<ByteRange> = wanted;
        wanted.sort();
        wanted.dedup_by(|next, last| next.start < last.end);
        let mut all = vec![WHOLE];
        for (asked, bad) in [(&wanted, &first), (&vec![WHOLE], &first), (&vec![WHOLE], &second)] {
            all = asked.clone();
            let rescue = Rescue::open(medium(&bytes, bad), &path, "a card", Means::default());
            rescue.unwrap().gather(asked, &LIMITS, &Silent).unwrap();
        }
        let rescue = Rescue::open(medium(&bytes, &[WHOLE]), &path, "a card", Means::default());
        let unread = rescue.unwrap().unread(&all);
        let kept = fs::read(&path).unwrap();
        for sector in 0..SIZE / 512 {
            let here = sector * 512..sector * 512 + 512;
            let is_lost = is_bad(sector, &first) && is_bad(sector, &second);
            prop_assert_eq!(is_bad(sector, &unread), is_lost, "sector {}", sector);
            let expected = if is_lost { &[0; 512][..] } else { &bytes[here.clone()] };
            prop_assert!(kept[here] == *expected, "sector {}", sector);
        }
    }

    /// A map may come from anybody.
    #[test]
    fn any_map_is_read_or_refused(text in "[ -~\n]{0,200}", at in 0..400_usize) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("card.rescue");
        let open = || Rescue::open(medium(&noise(SIZE, 3), &[]), &path, "a card", Means::default());
        drop(open().unwrap());
        let mut map = fs::read_to_string(map_path(&path)).unwrap();
        let at = at.min(map.len());
        map.replace_range(at..(at + text.len()).min(map.len()), &text);
        fs::write(map_path(&path), map).unwrap();
        let _ = open();
    }
}

/// What only the first reader could read says nothing about whether the second one still answers.
#[test]
fn a_second_reader_that_fails_where_the_first_did_not_is_not_gone() {
    let bytes = noise(SIZE, 3);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("card.rescue");
    let first = ByteRange {
        start: 8192,
        end: SIZE as u64,
    };
    let second = ByteRange {
        start: 0,
        end: 1 << 20,
    };
    for bad in [first, second] {
        let rescue = Rescue::open(medium(&bytes, &[bad]), &path, "a card", Means::default());
        rescue.unwrap().gather(&[WHOLE], &LIMITS, &Silent).unwrap();
    }
    let rescue = Rescue::open(medium(&bytes, &[WHOLE]), &path, "a card", Means::default());
    let lost = ByteRange {
        start: 8192,
        end: 1 << 20,
    };
    assert_eq!(rescue.unwrap().unread(&[WHOLE]), [lost]);
}

#[test]
fn two_at_once_do_not_mix() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("card.rescue");
    let open = || {
        Rescue::open(
            medium(&noise(SIZE, 3), &[]),
            &path,
            "a card",
            Means::default(),
        )
    };
    let first = open().unwrap();
    assert!(matches!(open(), Err(KeptError::InUse(_))));
    drop(first);
    open().unwrap();
}
