//! Cards that are what they say, and cards that are not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs::File;
use std::path::{Path, PathBuf};

use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::{
    BlockDevice, ByteRange, CacheUse, DiskError, Fault, FaultyDevice, FileDevice, Forgetful,
    MemoryDevice, SectorSize,
};
use pinewrit_measure::{
    Beyond, Capacity, CapacityReport, FullNote, Held, MeasureError, Power, Recovery, Repower,
    Session, SpeedWish, Uncut, capacity, capacity_cost, full, recover, speed,
};
use proptest::prelude::*;
use rstest::rstest;

const SESSION: Session = Session([5; 16]);
const MIB: u64 = 1 << 20;

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn kept(&self) -> PathBuf {
        self.0.path().join("kept")
    }

    /// A card file that takes no room, with something at its start.
    fn card(&self, size: u64) -> FileDevice {
        let path = self.0.path().join("card.img");
        let mut options = File::options();
        let file = options.read(true).write(true).create(true).truncate(true);
        let file = file.open(path).unwrap();
        file.set_len(size).unwrap();
        let card = FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached);
        card.write_at(0, &pattern(3 * MIB as usize)).unwrap();
        card
    }
}

fn pattern(len: usize) -> Vec<u8> {
    (0..len).map(|place| (place / 7 % 251) as u8).collect()
}

fn look(device: &dyn BlockDevice, kept: &Path) -> Result<CapacityReport, MeasureError> {
    capacity(
        Box::new(device),
        (kept, SESSION),
        (&Silent, &Uncut),
        &Cancel::default(),
    )
}

fn past(real: u64) -> ByteRange {
    ByteRange {
        start: real,
        end: u64::MAX / 2,
    }
}

#[rstest]
#[case(8 * MIB)]
#[case(100 * MIB)]
#[case(64_000_000_000)]
fn an_honest_card_is_real_and_as_it_was(#[case] size: u64) {
    let folder = Folder::new();
    let card = folder.card(size);
    let report = look(&card, &folder.kept()).unwrap();
    assert_eq!(report.capacity, Capacity::Real);
    assert!(report.written <= 200_000_000, "{}", report.written);
    let mut start = vec![0; 3 * MIB as usize];
    card.read_at(0, &mut start).unwrap();
    assert!(start == pattern(start.len()));
    assert!(!folder.kept().exists());
}

#[rstest]
#[case::power_of_two(32 << 30)]
#[case::another(1 << 30)]
#[case::small(16 << 20)]
#[case::odd(7_948_206_080)]
#[case::of_sectors(512 * 9_999_991)]
#[case::almost(63_999_999_488)]
fn a_card_that_wraps_is_found(#[case] real: u64) {
    let folder = Folder::new();
    let card = FaultyDevice::new(folder.card(64_000_000_000), vec![Fault::Wraps(real)]);
    let report = look(&card, &folder.kept()).unwrap();
    let beyond = Beyond::Wraps;
    let expected = Capacity::Smaller {
        real,
        proven: real,
        beyond,
    };
    assert_eq!(report.capacity, expected);
    assert!(report.written <= 200_000_000, "{}", report.written);
    let mut start = vec![0; 3 * MIB as usize];
    card.read_at(0, &mut start).unwrap();
    assert!(start == pattern(start.len()));
}

#[rstest]
#[case::loses(false, 7_948_206_080)]
#[case::loses_the_end(false, 63_999_000_064)]
#[case::fails(true, 31_914_983_424)]
#[case::fails_early(true, 16 << 20)]
fn a_card_that_ends_early_is_found(#[case] fails: bool, #[case] real: u64) {
    let folder = Folder::new();
    let faults = match fails {
        true => vec![Fault::ReadError(past(real)), Fault::WriteError(past(real))],
        false => vec![Fault::LostWrites(past(real))],
    };
    let card = FaultyDevice::new(folder.card(64_000_000_000), faults);
    let report = look(&card, &folder.kept()).unwrap();
    let Capacity::Smaller {
        real: found,
        proven,
        beyond,
    } = report.capacity
    else {
        panic!("{report:?}");
    };
    let expected = if fails { Beyond::Fails } else { Beyond::Loses };
    assert_eq!(beyond, expected);
    // Requests of 4 KiB fail as a whole.
    assert!(found.abs_diff(real) < 4096 + 512, "{found} {real}");
    assert!(proven <= real);
    assert!(report.written <= 200_000_000, "{}", report.written);
}

/// A cache that answers for what is lost is smaller than what is written after it.
#[test]
fn a_cache_does_not_hide_a_lost_end() {
    let folder = Folder::new();
    let real = 7_948_206_080;
    let card = FaultyDevice::new(
        folder.card(64_000_000_000),
        vec![Fault::LostWrites(past(real))],
    );
    let card = Forgetful::new(card, 32 << 20);
    let report = look(&card, &folder.kept()).unwrap();
    let Capacity::Smaller { proven, .. } = report.capacity else {
        panic!("{report:?}");
    };
    assert!(proven <= real, "{proven}");
}

/// Somebody takes the card out and puts it back.
struct Puller<'p> {
    card: &'p dyn Fn() -> Box<dyn BlockDevice>,
}

impl Power for Puller<'_> {
    fn cut<'d>(&self, device: Held<'d>) -> Result<Repower<'d>, MeasureError> {
        // Unpowered, it must not write what it has kept.
        std::mem::forget(device);
        Ok(Repower::Back((self.card)()))
    }
}

#[test]
fn a_card_that_forgets_is_found_when_its_power_is_cut() {
    let folder = Folder::new();
    let path = folder.0.path().join("card.img");
    let open = |card: &Path| {
        let file = File::options().read(true).write(true).open(card).unwrap();
        FileDevice::new(file, 1 << 30, SectorSize::B512, CacheUse::Cached)
    };
    drop(folder.card(1 << 30));
    let before = std::fs::read(&path).unwrap();
    let first = Forgetful::new(open(&path), 3 << 20);
    let puller = Puller {
        card: &|| Box::new(Forgetful::new(open(&path), 3 << 20)),
    };
    let cancel = Cancel::default();
    let report = capacity(
        Box::new(first),
        (&folder.kept(), SESSION),
        (&Silent, &puller),
        &cancel,
    )
    .unwrap();
    assert_eq!(report.capacity, Capacity::Forgets { bytes: 3 << 20 });
    assert!(report.repowered);
    assert!(std::fs::read(&path).unwrap() == before);
}

#[test]
fn a_bad_place_in_the_middle_is_no_end() {
    let folder = Folder::new();
    let bad = ByteRange {
        start: 5 * MIB,
        end: 5 * MIB + 4096,
    };
    for fault in [Fault::LostWrites(bad), Fault::ReadError(bad)] {
        let card = FaultyDevice::new(folder.card(64_000_000_000), vec![fault]);
        let report = look(&card, &folder.kept()).unwrap();
        let Capacity::Bad(places) = report.capacity else {
            panic!("{report:?}");
        };
        assert_eq!((places.first, places.count), (5 * MIB, 1));
    }
}

#[test]
fn the_whole_look_counts_every_sector_and_goes_on() {
    let card = FaultyDevice::new(
        MemoryDevice::new(24 << 20),
        vec![Fault::Wraps(9 * MIB + 512)],
    );
    let note = FullNote::new(24 << 20, SESSION);
    let cancel = Cancel::default();
    let report = full(&card, &note, &Silent, &cancel, |_| {}).unwrap();
    let Capacity::Smaller { real, .. } = report.capacity else {
        panic!("{report:?}");
    };
    assert_eq!(real, 9 * MIB + 512);
    let honest = MemoryDevice::new(24 << 20);
    let mut last = note.clone();
    let pulled = FaultyDevice::new(honest, vec![Fault::LostWrites(past(20 * MIB))]);
    let report = full(&pulled, &note, &Silent, &cancel, |note| last = note.clone()).unwrap();
    assert!(matches!(report.capacity, Capacity::Smaller { real, .. } if real == 20 * MIB));
    assert_eq!(last.marked, 24 << 20);
}

#[test]
fn speed_leaves_the_card_as_it_was() {
    let card = MemoryDevice::from_bytes(pattern(40 << 20));
    let folder = Folder::new();
    let wish = SpeedWish::default();
    let cancel = Cancel::default();
    let report = speed(&card, (&folder.kept(), SESSION), wish, &Silent, &cancel).unwrap();
    assert!(report.write.is_some());
    let mut now = vec![0; 40 << 20];
    card.read_at(0, &mut now).unwrap();
    assert!(now == pattern(40 << 20));
}

/// A card in a file that loses its power after so many bytes.
fn cut(path: &Path, size: u64, after: u64) -> impl BlockDevice {
    let file = File::options().read(true).write(true).open(path).unwrap();
    let card = FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached);
    FaultyDevice::new(card, vec![Fault::PulledAfter(after)])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Cut off anywhere, also while it is put back: afterwards it is as it was.
    #[test]
    fn a_measurement_that_is_cut_off_is_put_back(
        size in 4u64..40,
        first in 0u64..30_000_000,
        second in 0u64..20_000_000,
        is_speed in any::<bool>(),
    ) {
        let folder = Folder::new();
        let size = size * MIB + 512 * 3;
        let path = folder.0.path().join("card.img");
        std::fs::write(&path, pattern(size as usize)).unwrap();
        let card = cut(&path, size, first);
        let cancel = Cancel::default();
        let keepsake = (&*folder.kept(), SESSION);
        let done = if is_speed {
            let wish = SpeedWish::default();
            speed(&card, keepsake, wish, &Silent, &cancel).map(drop)
        } else {
            capacity(Box::new(&card), keepsake, (&Silent, &Uncut), &cancel).map(drop)
        };
        if done.is_err() {
            let again = cut(&path, size, second);
            let _ = recover(&folder.kept(), &again);
        }
        let whole = cut(&path, size, u64::MAX);
        recover(&folder.kept(), &whole).unwrap();
        prop_assert!(std::fs::read(&path).unwrap() == pattern(size as usize));
        prop_assert_eq!(recover(&folder.kept(), &whole).unwrap(), Recovery::Nothing);
    }
}

#[test]
fn another_card_is_left_alone() {
    let folder = Folder::new();
    let path = folder.0.path().join("card.img");
    std::fs::write(&path, pattern(8 << 20)).unwrap();
    let card = cut(&path, 8 << 20, 1 << 20);
    assert!(look(&card, &folder.kept()).is_err());
    let other = MemoryDevice::from_bytes(vec![1; 8 << 20]);
    assert_eq!(
        recover(&folder.kept(), &other).unwrap(),
        Recovery::Elsewhere
    );
    let smaller = MemoryDevice::new(4 << 20);
    assert_eq!(
        recover(&folder.kept(), &smaller).unwrap(),
        Recovery::Elsewhere
    );
}

#[test]
fn a_card_without_power_is_an_error() {
    let folder = Folder::new();
    let gone = FaultyDevice::new(MemoryDevice::new(8 << 20), vec![Fault::PulledAfter(0)]);
    gone.write_at(0, &[0; 512]).ok();
    let looked = look(&gone, &folder.kept());
    assert!(
        matches!(looked, Err(MeasureError::Disk(DiskError::Io { .. }))),
        "{looked:?}"
    );
}

/// What is left of the marks is put back, and the file stays for whoever can mend it.
#[test]
fn a_damaged_keepsake_is_not_thrown_away() {
    let folder = Folder::new();
    let path = folder.0.path().join("card.img");
    std::fs::write(&path, pattern(8 << 20)).unwrap();
    // Everything is marked, and nothing put back.
    let card = cut(&path, 8 << 20, capacity_cost(8 << 20) / 2 + 1000);
    assert!(look(&card, &folder.kept()).is_err());
    let mut kept = std::fs::read(folder.kept()).unwrap();
    let whole = kept.clone();
    kept[36 + 12 + 100] ^= 1;
    std::fs::write(folder.kept(), &kept).unwrap();
    let card = cut(&path, 8 << 20, u64::MAX);
    let told = recover(&folder.kept(), &card);
    assert!(
        matches!(told, Err(MeasureError::Keepsake { .. })),
        "{told:?}"
    );
    assert!(folder.kept().exists());
    std::fs::write(folder.kept(), &whole).unwrap();
    recover(&folder.kept(), &card).unwrap();
    assert!(std::fs::read(&path).unwrap() == pattern(8 << 20));
}

#[test]
fn a_whole_look_goes_on_with_its_own_medium_only() {
    let card = MemoryDevice::new(4 << 20);
    let cancel = Cancel::default();
    let begun = FullNote::new(4 << 20, SESSION);
    assert!(!begun.is_of(&card));
    let mut noted = begun.clone();
    let short = FaultyDevice::new(&card, vec![Fault::PulledAfter(3 << 20)]);
    assert!(
        full(&short, &begun, &Silent, &cancel, |note| noted =
            note.clone())
        .is_err()
    );
    noted.marked = 3 << 20;
    assert!(noted.is_of(&card));
    assert!(!noted.is_of(&MemoryDevice::new(4 << 20)));
    noted.marked = u64::MAX;
    assert!(!noted.is_of(&card));
    // Nor does it go past the end, whatever the note says.
    let report = full(&card, &noted, &Silent, &cancel, |_| {}).unwrap();
    assert_eq!(report.claimed, 4 << 20);
}
