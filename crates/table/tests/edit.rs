//! Tables that are changed, read back after each change.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_disk::{BlockDevice, MemoryDevice, SectorSize};
use pinewrit_table::{
    NewPartition, PartitionSize, PartitionTable, PartitionType, SchemeKind, TableEdit, TableError,
};
use proptest::prelude::*;
use rstest::rstest;

const MIB: u64 = 1 << 20;

/// Numbers that differ.
fn ids() -> impl FnMut() -> [u8; 16] {
    let mut next = 0u8;
    move || {
        next += 1;
        [next; 16]
    }
}

fn kind(word: &str, scheme: SchemeKind) -> PartitionType {
    PartitionType::from_text(word, scheme).unwrap()
}

fn new(word: &str, scheme: SchemeKind, size: u64) -> NewPartition {
    NewPartition::new(kind(word, scheme), PartitionSize::Bytes(size))
}

#[derive(Clone, Debug)]
enum Change {
    Add {
        size: Option<u64>,
        is_logical: bool,
        start: Option<u64>,
    },
    Remove(prop::sample::Index),
    Resize(prop::sample::Index, Option<u64>),
    Activate(prop::sample::Index),
    Convert,
}

fn change() -> impl Strategy<Value = Change> {
    let size = || prop::option::weighted(0.8, 1..60 * MIB);
    prop_oneof![
        5 => (size(), any::<bool>(), prop::option::weighted(0.2, (0u64..200).prop_map(|s| s * MIB)))
            .prop_map(|(size, is_logical, start)| Change::Add { size, is_logical, start }),
        2 => any::<prop::sample::Index>().prop_map(Change::Remove),
        2 => (any::<prop::sample::Index>(), size()).prop_map(|(which, size)| Change::Resize(which, size)),
        1 => any::<prop::sample::Index>().prop_map(Change::Activate),
        1 => Just(Change::Convert),
    ]
}

fn size_of(bytes: Option<u64>) -> PartitionSize {
    bytes.map_or(PartitionSize::Rest, PartitionSize::Bytes)
}

fn make(edit: &mut TableEdit, change: &Change, device: &MemoryDevice) -> Result<(), TableError> {
    let numbers: Vec<u32> = edit.partitions().iter().map(|slot| slot.number).collect();
    let chosen = |index: &prop::sample::Index| match numbers.is_empty() {
        true => 1,
        false => *index.get(&numbers),
    };
    match change {
        Change::Add {
            size,
            is_logical,
            start,
        } => {
            let kind = kind("linux", edit.scheme());
            let new = NewPartition {
                is_logical: *is_logical,
                start: *start,
                ..NewPartition::new(kind, size_of(*size))
            };
            edit.add(&new, &mut ids()).map(drop)
        }
        Change::Remove(which) => edit.remove(chosen(which)),
        Change::Resize(which, size) => edit.resize(chosen(which), size_of(*size)),
        Change::Activate(which) => edit.activate(Some(chosen(which))),
        Change::Convert => {
            let other = match edit.scheme() {
                SchemeKind::Mbr => SchemeKind::Gpt,
                SchemeKind::Gpt => SchemeKind::Mbr,
            };
            edit.convert(other, device, &mut ids())
        }
    }
}

proptest! {
    #[test]
    fn what_is_written_is_read_back(
        is_gpt in any::<bool>(), large_sectors in any::<bool>(), size in 2u64..300,
        plan in prop::collection::vec(change(), 1..25),
    ) {
        let sector = if large_sectors { SectorSize::B4096 } else { SectorSize::B512 };
        let device = MemoryDevice::new((size * MIB) as usize).with_sector(sector);
        let scheme = if is_gpt { SchemeKind::Gpt } else { SchemeKind::Mbr };
        let mut edit = TableEdit::create(device.size(), sector, scheme, &mut ids()).unwrap();
        for change in &plan {
            let before = edit.partitions().to_vec();
            if make(&mut edit, change, &device).is_err() {
                prop_assert_eq!(&before, edit.partitions(), "{:?}", change);
            }
            edit.write(&device).unwrap();
            if edit.partitions().is_empty() {
                continue;
            }
            let table = PartitionTable::read(&device).unwrap().unwrap();
            prop_assert!(table.problems.is_empty(), "{:?} {:?}", change, table.problems);
            let again = TableEdit::read(&device).unwrap();
            prop_assert_eq!(again.partitions(), edit.partitions());
            prop_assert_eq!(again.gaps(), edit.gaps());
            prop_assert_eq!(again.disk_guid(), edit.disk_guid());
            edit = again;
        }
    }
}

#[rstest]
#[case(SchemeKind::Mbr)]
#[case(SchemeKind::Gpt)]
fn boot_code_and_content_stay(#[case] scheme: SchemeKind) {
    let device = MemoryDevice::from_bytes(vec![0x5a; 64 << 20]);
    device.write_at(0, &[0; 512]).unwrap();
    let mut edit = TableEdit::create(device.size(), SectorSize::B512, scheme, &mut ids()).unwrap();
    edit.add(&new("fat32", scheme, 8 * MIB), &mut ids())
        .unwrap();
    edit.write(&device).unwrap();
    device.write_at(0, &[0xfa; 440]).unwrap();
    let mut edit = TableEdit::read(&device).unwrap();
    let rest = NewPartition::new(kind("linux", scheme), PartitionSize::Rest);
    assert_eq!(edit.add(&rest, &mut ids()).unwrap(), 2);
    edit.write(&device).unwrap();
    let bytes = device.to_bytes();
    assert_eq!(&bytes[..440], &[0xfa; 440]);
    assert!(
        bytes[MIB as usize..63 << 20]
            .iter()
            .all(|byte| *byte == 0x5a)
    );
}

#[test]
fn a_damaged_first_copy_is_mended_by_any_change() {
    let device = MemoryDevice::new(64 << 20);
    let scheme = SchemeKind::Gpt;
    let mut edit = TableEdit::create(device.size(), SectorSize::B512, scheme, &mut ids()).unwrap();
    edit.add(&new("linux", scheme, 8 * MIB), &mut ids())
        .unwrap();
    edit.write(&device).unwrap();
    device.write_at(512, &[0; 512]).unwrap();
    let mut edit = TableEdit::read(&device).unwrap();
    edit.set_name(1, "root").unwrap();
    edit.write(&device).unwrap();
    let table = PartitionTable::read(&device).unwrap().unwrap();
    assert_eq!(table.problems, []);
    assert_eq!(table.partitions[0].name.as_deref(), Some("root"));
}

#[test]
fn what_stands_in_the_way_of_a_gpt_is_named() {
    let device = MemoryDevice::new(64 << 20);
    let scheme = SchemeKind::Mbr;
    let mut edit = TableEdit::create(device.size(), SectorSize::B512, scheme, &mut ids()).unwrap();
    let early = NewPartition {
        start: Some(16 * 512),
        ..new("linux", scheme, MIB)
    };
    edit.add(&early, &mut ids()).unwrap();
    let late = NewPartition {
        start: Some(63 << 20),
        ..new("0x39", scheme, MIB)
    };
    edit.add(&late, &mut ids()).unwrap();
    device.write_at(8 << 10, b"loader").unwrap();
    let error = edit
        .convert(SchemeKind::Gpt, &device, &mut ids())
        .unwrap_err();
    let TableError::InTheWay(obstacles) = error else {
        panic!("{error}")
    };
    assert_eq!(obstacles.len(), 4, "{obstacles:#?}");
}

#[rstest]
#[case::name_in_mbr(SchemeKind::Mbr, "name")]
#[case::logical_in_gpt(SchemeKind::Gpt, "logical")]
#[case::long_name(SchemeKind::Gpt, "long")]
#[case::too_large(SchemeKind::Mbr, "large")]
#[case::fifth(SchemeKind::Mbr, "fifth")]
#[case::missing(SchemeKind::Gpt, "missing")]
fn mistakes_change_nothing(#[case] scheme: SchemeKind, #[case] mistake: &str) {
    let mut edit = TableEdit::create(64 * MIB, SectorSize::B512, scheme, &mut ids()).unwrap();
    edit.add(&new("linux", scheme, MIB), &mut ids()).unwrap();
    let before = edit.partitions().to_vec();
    let result = match mistake {
        "name" => edit.set_name(1, "root"),
        "long" => edit.set_name(1, &"x".repeat(37)),
        "logical" => {
            let logical = NewPartition {
                is_logical: true,
                ..new("linux", scheme, MIB)
            };
            edit.add(&logical, &mut ids()).map(drop)
        }
        "large" => edit
            .add(&new("linux", scheme, 63 * MIB), &mut ids())
            .map(drop),
        "missing" => edit.remove(2),
        _ => {
            let mut full = edit.clone();
            for _ in 0..3 {
                full.add(&new("linux", scheme, MIB), &mut ids()).unwrap();
            }
            full.add(&new("linux", scheme, MIB), &mut ids()).map(drop)
        }
    };
    assert!(result.is_err());
    assert_eq!(edit.partitions(), before);
}
