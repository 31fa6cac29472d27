//! Damaged file systems: the check finds what an independent one finds, and takes nothing for damaged
//! that is not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeMap;
use std::path::Path;

use common::complaint;
use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_fat::{
    CheckError, EditError, Editor, FatError, MakeKind, MakeOptions, MakePlan, Placement, Stamp,
    Volume, check,
};
use pinewrit_judges::needs;
use rstest::rstest;

const MIB: u64 = 1 << 20;
const ENTRY: usize = 32;

fn put<D: BlockDevice>(editor: &mut Editor<D>, path: &str, len: usize) {
    let bytes = vec![b'x'; len];
    editor
        .write_file(
            path,
            len as u64,
            &mut &bytes[..],
            1_790_000_000,
            Placement::Usual,
        )
        .unwrap();
}

/// A small file system with a bit of everything.
fn filesystem(kind: MakeKind, size: u64) -> MemoryDevice {
    let device = MemoryDevice::new(size as usize);
    let options = MakeOptions {
        label: "HUT".to_owned(),
        id: [1, 2, 3, 4],
        start: 0,
        made: Stamp::default(),
    };
    let plan = MakePlan::of(kind, size, 512, Some(512)).unwrap();
    plan.make(&device, &options).unwrap();
    let mut editor = Editor::open(&device).unwrap();
    put(&mut editor, "/A", 5000);
    put(&mut editor, "/EMPTY.TXT", 0);
    editor.make_folder("/sub folder", 0).unwrap();
    put(&mut editor, "/sub folder/a longer name.text", 700);
    put(&mut editor, "/sub folder/B", 1);
    editor.make_folder("/sub folder/INNER", 0).unwrap();
    put(&mut editor, "/sub folder/INNER/C", 600);
    editor.commit().unwrap();
    device
}

/// Where a short entry is, by its name.
fn entry(bytes: &[u8], name: &[u8; 11]) -> usize {
    let found = bytes.chunks_exact(ENTRY).position(|raw| raw[..11] == *name);
    found.unwrap() * ENTRY
}

fn first_cluster(bytes: &[u8], name: &[u8; 11]) -> u16 {
    let at = entry(bytes, name) + 26;
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

const A: &[u8; 11] = b"A          ";
const B: &[u8; 11] = b"B          ";
const C: &[u8; 11] = b"C          ";
const SUB: &[u8; 11] = b"SUBFOL~1   ";
const INNER: &[u8; 11] = b"INNER      ";

/// Puts bytes somewhere.
fn with(bytes: &[u8], at: usize, new: &[u8]) -> MemoryDevice {
    let mut bytes = bytes.to_vec();
    bytes[at..at + new.len()].copy_from_slice(new);
    MemoryDevice::from_bytes(bytes)
}

#[rstest]
#[case::free(0, "the cluster chain of /A is broken")]
#[case::outside(0xfff0, "the cluster chain of /A is broken")]
#[case::itself(1, "the cluster chain of /A is broken")]
#[case::another(2, "/A has 5000 bytes according to its entry, but clusters for 1024")]
fn a_chain_that_cannot_be(#[case] next: u16, #[case] told: &str) {
    let bytes = filesystem(MakeKind::Fat16, 5 * MIB).to_bytes();
    let (a, b) = (first_cluster(&bytes, A), first_cluster(&bytes, B));
    let next = match next {
        1 => a,
        2 => b,
        other => other,
    };
    // Both tables lie between the boot sector and the root directory.
    let root = entry(&bytes, b"HUT        ");
    let table = usize::from(u16::from_le_bytes([bytes[22], bytes[23]])) * 512;
    let mut bytes = bytes;
    for copy in 1..=2 {
        let at = root - copy * table + usize::from(a) * 2;
        bytes[at..at + 2].copy_from_slice(&next.to_le_bytes());
    }
    let error = check(&MemoryDevice::from_bytes(bytes)).unwrap_err();
    assert_eq!(error.to_string(), told);
}

fn fault(bytes: &[u8], at: usize, new: &[u8]) -> String {
    check(&with(bytes, at, new)).unwrap_err().to_string()
}

#[rstest]
fn entries_that_cannot_be(
    #[values((MakeKind::Fat12, 1), (MakeKind::Fat16, 5), (MakeKind::Fat32, 40))] of: (
        MakeKind,
        u64,
    ),
) {
    let bytes = filesystem(of.0, of.1 * MIB).to_bytes();
    check(&MemoryDevice::from_bytes(bytes.clone())).unwrap();
    let at = |name| entry(&bytes, name);
    let dots = at(INNER) / 512 * 512;
    let told = |place: usize, new: &[u8]| fault(&bytes, place, new);
    assert_eq!(
        told(at(B), b"B*"),
        "/sub folder/B* has a name that FAT does not allow"
    );
    assert_eq!(
        told(at(B), INNER),
        "two entries share the name /sub folder/INNER"
    );
    let a = first_cluster(&bytes, A).to_le_bytes();
    let shared = "/sub folder/INNER/C shares clusters with another file";
    assert_eq!(told(at(C) + 26, &a), shared);
    let size = |size: u32| told(at(B) + 28, &size.to_le_bytes());
    assert_eq!(
        size(600),
        "/sub folder/B has 600 bytes according to its entry, but clusters for 512"
    );
    assert_eq!(
        size(0),
        "/sub folder/B has 0 bytes according to its entry, but clusters for 512"
    );
    assert_eq!(
        told(at(B) + 26, &[0, 0]),
        "/sub folder/B has 1 bytes according to its entry, but clusters for 0"
    );
    assert_eq!(
        told(at(B) + 26, &[1, 0]),
        "the cluster chain of /sub folder/B is broken"
    );
    assert_eq!(
        told(at(INNER) + 26, &[0, 0]),
        "the cluster chain of /sub folder/INNER is broken"
    );
    assert_eq!(
        told(at(INNER) + 28, &[1]),
        "the directory /sub folder/INNER does not start with valid . and .. entries"
    );
    assert_eq!(
        told(at(SUB), b"SUBFOL~2"),
        "something in the root directory has a name that FAT does not allow"
    );
    // `..` of the folder in the root has to say 0.
    assert_eq!(
        told(dots + 32 + 26, &[2]),
        "the directory /sub folder does not start with valid . and .. entries"
    );
    assert_eq!(
        told(dots + 26, &[9]),
        "the directory /sub folder does not start with valid . and .. entries"
    );
    assert_eq!(
        told(at(A), &[0xe5]),
        "10 clusters are marked as used, but belong to no file"
    );
}

#[rstest]
fn a_dirty_flag_of_either_kind_keeps_changes_out(
    #[values((MakeKind::Fat16, 5, 37), (MakeKind::Fat32, 40, 65))] of: (MakeKind, u64, usize),
) {
    let bytes = filesystem(of.0, of.1 * MIB).to_bytes();
    let in_boot_sector = with(&bytes, of.2, &[1]);
    let reserved = usize::from(u16::from_le_bytes([bytes[14], bytes[15]])) * 512;
    let (at, raw) = match of.0 {
        MakeKind::Fat16 => (reserved + 3, 0x7f),
        _ => (reserved + 7, 0x07),
    };
    for device in [in_boot_sector, with(&bytes, at, &[raw])] {
        assert!(matches!(check(&device), Err(CheckError::Unclean)));
        assert!(matches!(Editor::open(&device), Err(EditError::Unclean)));
    }
}

/// Media that are no disks have neither heads nor sectors on a track.
#[test]
fn a_geometry_without_heads_and_sectors_is_recognised() {
    let bytes = filesystem(MakeKind::Fat16, 5 * MIB).to_bytes();
    let device = with(&bytes, 24, &[0; 4]);
    check(&device).unwrap();
    let mut editor = Editor::open(&device).unwrap();
    put(&mut editor, "/NEW", 2000);
    editor.commit().unwrap();
    check(&device).unwrap();
}

#[test]
fn an_erased_label_is_none_and_one_of_the_root_counts() {
    let bytes = filesystem(MakeKind::Fat32, 40 * MIB).to_bytes();
    let at = entry(&bytes, b"HUT        ");
    let erased = with(&bytes, at, &[0xe5]);
    assert_eq!(Volume::open(&erased).unwrap().label(), None);
    let other = with(&bytes, at, b"DEPOT");
    check(&other).unwrap();
    assert_eq!(Volume::open(&other).unwrap().label().unwrap(), "DEPOT");
    // The next change puts the boot sector right, and its copy.
    for (device, label) in [(erased, "NO NAME    "), (other, "DEPOT      ")] {
        let mut editor = Editor::open(&device).unwrap();
        put(&mut editor, "/NEW", 1);
        editor.commit().unwrap();
        let bytes = device.to_bytes();
        assert_eq!(&bytes[71..82], label.as_bytes());
        assert_eq!(bytes[..512], bytes[6 * 512..7 * 512]);
    }
}

#[test]
fn only_the_active_table_counts_where_they_are_not_mirrored() {
    let bytes = filesystem(MakeKind::Fat32, 40 * MIB).to_bytes();
    let table = u32::from_le_bytes([bytes[36], bytes[37], bytes[38], bytes[39]]) as usize * 512;
    let first = usize::from(u16::from_le_bytes([bytes[14], bytes[15]])) * 512;
    let mut bytes = bytes;
    bytes[40] = 0x81;
    bytes[first + 8..first + table].fill(0);
    let device = MemoryDevice::from_bytes(bytes);
    check(&device).unwrap();
    let mut editor = Editor::open(&device).unwrap();
    put(&mut editor, "/NEW", 2000);
    editor.commit().unwrap();
    check(&device).unwrap();
    assert!(
        device.to_bytes()[first + 8..first + table]
            .iter()
            .all(|&byte| byte == 0)
    );
}

#[test]
fn a_failed_replacement_without_room_for_both_writes_nothing() {
    let device = filesystem(MakeKind::Fat12, MIB);
    let mut editor = Editor::open(&device).unwrap();
    let large = (editor.free() - 4096) as usize;
    put(&mut editor, "/LARGE", large);
    editor.commit().unwrap();
    let half = vec![b'y'; large / 2];
    let short = editor.write_file("/LARGE", large as u64, &mut &half[..], 0, Placement::Usual);
    assert!(matches!(short, Err(EditError::SourceShort { .. })));
    let again = editor.write_file("/LARGE", 1, &mut &b"x"[..], 0, Placement::Usual);
    assert!(matches!(again, Err(EditError::Spoiled)));
    assert!(matches!(editor.commit(), Err(EditError::Spoiled)));
    let mut editor = Editor::open(&device).unwrap();
    put(&mut editor, "/LARGE", large);
    editor.commit().unwrap();
    check(&device).unwrap();
    let more = editor.write_file("/MORE", 9000, &mut &[0; 9000][..], 0, Placement::Usual);
    assert!(matches!(more, Err(EditError::NoSpace { .. })));
}

#[test]
fn a_full_root_directory_is_told_and_an_erased_place_in_it_is_taken() {
    let device = filesystem(MakeKind::Fat12, MIB);
    let mut editor = Editor::open(&device).unwrap();
    let full = (0..600).find_map(|index| {
        let path = format!("/R{index}");
        let made = editor.write_file(&path, 0, &mut &b""[..], 0, Placement::Usual);
        made.err()
    });
    assert!(matches!(
        full,
        Some(EditError::FolderFull { entries: 512, .. })
    ));
    // Single places, from which room for a long name is made.
    for index in (0..20).step_by(2) {
        editor.remove(&format!("/R{index}")).unwrap();
    }
    put(
        &mut editor,
        "/a name that needs five entries, that is many.txt",
        3,
    );
    editor.commit().unwrap();
    check(&device).unwrap();
    let tree = editor.tree();
    assert!(tree.find("/R21").is_ok() && tree.find("/R20").is_ok());
    assert!(matches!(tree.find("/R2"), Err(FatError::NotFound(_))));
}

/// What the two checks say of damage to one field.
#[derive(Default, Debug)]
struct Tally {
    found: usize,
    missed: BTreeMap<String, usize>,
    too_strict: BTreeMap<String, usize>,
    whole: usize,
}

fn judge_one(image: &Path, device: &MemoryDevice, what: &str, tally: &mut Tally) {
    std::fs::write(image, device.to_bytes()).unwrap();
    let theirs = complaint(image).unwrap();
    let ours = check(device);
    match (theirs.is_empty(), ours) {
        (true, Ok(())) => tally.whole += 1,
        (false, Err(_)) => tally.found += 1,
        (false, Ok(())) => {
            let lines = theirs.lines().filter(|line| !line.starts_with("fsck.fat"));
            let line = lines.take(2).collect::<Vec<_>>().join(" ");
            *tally.missed.entry(format!("{what}: {}", line)).or_default() += 1;
        }
        (true, Err(error)) => {
            *tally
                .too_strict
                .entry(format!("{what}: {error}"))
                .or_default() += 1;
        }
    }
}

#[rstest]
#[case::fat12(MakeKind::Fat12, 1)]
#[case::fat16(MakeKind::Fat16, 3)]
fn what_another_check_finds_is_found(#[case] kind: MakeKind, #[case] mib: u64) {
    needs!("fsck.fat");
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    let bytes = filesystem(kind, mib * MIB).to_bytes();
    let mut tally = Tally::default();
    // Every byte of the entries that there are.
    let used = |at: &usize| {
        let start = at / ENTRY * ENTRY;
        let root = entry(&bytes, b"HUT        ");
        start >= root && bytes[start] != 0 && bytes[start] != b'x'
    };
    let end = entry(&bytes, C) + ENTRY;
    for at in (0..end).filter(used) {
        for value in [0, 0xff, bytes[at] ^ 1, bytes[at] ^ 0x10] {
            let device = with(&bytes, at, &[value]);
            judge_one(&image, &device, &format!("byte {}", at % ENTRY), &mut tally);
        }
    }
    // Labels that differ are put right with the next change; the flags of short names are read by what
    // is known of them. What was taken for damaged by us only has names against the specification, or
    // entries behind the end.
    let is_known = |what: &&String| {
        what.contains("abel") && !what.contains("cluster") || what.starts_with("byte 12:")
    };
    let missed: Vec<&String> = tally.missed.keys().filter(|what| !is_known(what)).collect();
    assert!(missed.is_empty(), "{missed:#?}");
    let is_meant = |what: &&String| {
        let known = [
            "has a name that FAT does not allow",
            "valid . and .. entries",
            "belong to no file",
        ];
        known.iter().any(|one| what.contains(one))
    };
    let strict = tally.too_strict.keys().filter(|what| !is_meant(what));
    let strict: Vec<&String> = strict.collect();
    assert!(strict.is_empty(), "{strict:#?}");
    assert!(tally.found > 500 && tally.whole > 1000, "{tally:#?}");
}

/// Files that share their clusters would move more than there is.
#[test]
fn chains_that_meet_end_a_resize_and_no_table_is_written() {
    let device = filesystem(MakeKind::Fat12, MIB);
    let mut editor = Editor::open(&device).unwrap();
    let large = (editor.free() * 2 / 5) as usize;
    for (path, len) in [("/LARGE", large), ("/FIRST", 9), ("/SECOND", 9)] {
        put(&mut editor, path, len);
    }
    editor.commit().unwrap();
    let bytes = device.to_bytes();
    let entry = |name: &[u8; 11]| bytes.windows(11).position(|at| at == name).unwrap();
    let first = entry(b"LARGE      ") + 26;
    for name in [b"FIRST      ", b"SECOND     "] {
        device
            .write_at(entry(name) as u64 + 26, &bytes[first..first + 2])
            .unwrap();
    }
    let before = device.to_bytes();
    let mut editor = Editor::open(&device).unwrap();
    let least = editor.smallest_size();
    assert!(matches!(
        editor.resize(least),
        Err(EditError::Volume(FatError::Damaged(_)))
    ));
    assert!(matches!(editor.commit(), Err(EditError::Spoiled)));
    // Copied content may lie in free clusters; nothing leads there.
    let used = 24 * 1024;
    assert!(device.to_bytes()[..used] == before[..used]);
}
