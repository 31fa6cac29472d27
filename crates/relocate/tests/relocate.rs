//! Moves that are cut at every possible write, and go on.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::{BlockDevice, Fault, FaultyDevice, MemoryDevice, SectorSize, UndoLog};
use pinewrit_relocate::{Move, MoveError, interrupted};
use pinewrit_table::{NewPartition, PartitionSize, PartitionType, SchemeKind, TableEdit};
use proptest::prelude::*;

const MIB: u64 = 1 << 20;
/// All places that are tried fit on it.
const SIZE: u64 = 44 * MIB;

/// A medium with a partition that holds nothing known, so that every byte of it moves.
fn medium(start: u64, len: u64) -> (MemoryDevice, Vec<u8>) {
    let device = MemoryDevice::new(SIZE as usize);
    let mut ids = || [9; 16];
    let mut table = TableEdit::create(SIZE, SectorSize::B512, SchemeKind::Gpt, &mut ids).unwrap();
    let kind = PartitionType::from_text("linux", SchemeKind::Gpt).unwrap();
    let mut new = NewPartition::new(kind, PartitionSize::Bytes(len));
    new.start = Some(start);
    table.add(&new, &mut ids).unwrap();
    table.write(&device).unwrap();
    let words = (0..len / 4).flat_map(|index| (index as u32 ^ 0x5a5a_0000).to_le_bytes());
    let content: Vec<u8> = words.collect();
    device.write_at(start, &content).unwrap();
    (device, content)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn a_cut_at_any_write_loses_nothing(
        start in 1..12_u64,
        len in 1..14_u64,
        distance in prop::sample::select(vec![
            -4 * MIB as i64, -(MIB as i64), -4096, -512, 512, 4096, MIB as i64, 3 * MIB as i64,
            13 * MIB as i64,
        ]),
        cuts in prop::collection::vec(0..30 * MIB, 1..5),
    ) {
        let (from, len) = ((start + 5) * MIB, len * MIB);
        let to = from.checked_add_signed(distance).unwrap();
        let (device, content) = medium(from, len);
        let folder = tempfile::tempdir().unwrap();
        let note = folder.path().join("note.json");
        let undo = UndoLog::new(folder.path().join("undo"));
        let mut is_done = false;
        for cut in cuts {
            let cut = FaultyDevice::new(&device, vec![Fault::PulledAfter(cut)]);
            let done = Move::prepare(&cut, &note, (1, to))
                .and_then(|work| work.carry_out(&undo, &Silent, &Cancel::default()));
            is_done |= done.is_ok();
            // What a commit had begun is taken back before anything else.
            if undo.path().exists() {
                undo.roll_back(&device).unwrap();
                undo.remove().unwrap();
            }
            if is_done {
                break;
            }
        }
        if !is_done {
            let work = Move::prepare(&device, &note, (1, to)).unwrap();
            work.carry_out(&undo, &Silent, &Cancel::default()).unwrap();
        }
        let table = TableEdit::read(&device).unwrap();
        prop_assert_eq!(table.partitions().len(), 1);
        prop_assert_eq!(table.partitions()[0].first.0 * 512, to);
        let mut moved = vec![0; len as usize];
        device.read_at(to, &mut moved).unwrap();
        prop_assert!(moved == content);
        prop_assert_eq!(interrupted(&device, &note).unwrap(), None);
    }
}

#[test]
fn a_note_of_another_medium_is_not_followed() {
    let (device, _) = medium(8 * MIB, 6 * MIB);
    let (other, content) = medium(8 * MIB, 6 * MIB);
    let folder = tempfile::tempdir().unwrap();
    let note = folder.path().join("note.json");
    let undo = UndoLog::new(folder.path().join("undo"));
    let cut = FaultyDevice::new(&device, vec![Fault::PulledAfter(3 * MIB)]);
    let work = Move::prepare(&cut, &note, (1, 8 * MIB + 4096)).unwrap();
    assert!(work.carry_out(&undo, &Silent, &Cancel::default()).is_err());
    assert!(interrupted(&device, &note).unwrap().is_some());
    assert_eq!(interrupted(&other, &note).unwrap(), None);
    let refused = Move::prepare(&other, &note, (1, 9 * MIB));
    assert!(matches!(refused, Err(MoveError::InTheWay(_))));
    let mut there = vec![0; content.len()];
    other.read_at(8 * MIB, &mut there).unwrap();
    assert!(there == content);
}

/// A move whose note was not cleared away says nothing about the next medium in the reader.
#[test]
fn a_finished_move_leaves_other_media_alone() {
    let (device, _) = medium(8 * MIB, 6 * MIB);
    let (other, _) = medium(8 * MIB, 6 * MIB);
    let folder = tempfile::tempdir().unwrap();
    let note = folder.path().join("note.json");
    let undo = UndoLog::new(folder.path().join("undo"));
    let cut = FaultyDevice::new(&device, vec![Fault::PulledAfter(3 * MIB)]);
    let first = Move::prepare(&cut, &note, (1, 20 * MIB)).unwrap();
    assert!(first.carry_out(&undo, &Silent, &Cancel::default()).is_err());
    let mut text: serde_json::Value =
        serde_json::from_slice(&std::fs::read(&note).unwrap()).unwrap();
    // As it stands when everything is done but clearing it.
    text["done"] = 1.into();
    std::fs::write(&note, text.to_string()).unwrap();
    let before = other.to_bytes();
    assert_eq!(interrupted(&other, &note).unwrap(), None);
    assert!(
        !Move::prepare(&other, &note, (1, 20 * MIB))
            .unwrap()
            .plan()
            .resumed
    );
    assert!(other.to_bytes() == before);
}
