//! Damage that the own check finds, one field at a time.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_ext4::{
    Attributes, EditError, Editor, ExtError, MakeOptions, Timestamp, Volume, Xattr, Zeros, check,
    make,
};
use rstest::rstest;

const NOW: Timestamp = Timestamp {
    seconds: 1_767_225_600,
    nanoseconds: 0,
};
const SIZE: usize = 16 << 20;
const BLOCK: u64 = 1024;
/// The first two files, `/a` and `/b`: 11 is lost+found.
const A: u64 = 12;
const B: u64 = 13;
/// Offsets in an inode: link count, and the first extent's low half of its place.
const LINKS: u64 = 0x1a;
const PLACE: u64 = 0x28 + 12 + 8;

fn filesystem(has_checksums: bool) -> MemoryDevice {
    let device = MemoryDevice::new(SIZE);
    let options = MakeOptions {
        label: "root".into(),
        uuid: [7; 16],
        hash_seed: [8; 16],
        block_size: Some(BLOCK as u32),
        inodes: None,
        has_checksums,
        has_journal: false,
        now: NOW,
    };
    let mut editor = make(&device, &options).unwrap();
    for name in ["/a", "/b"] {
        let attributes = Attributes::root(0o644, NOW);
        let mut content = &[b'x'; 5000][..];
        let zeros = Zeros::Written;
        editor
            .write_file(name.as_bytes(), &attributes, 5000, &mut content, zeros)
            .unwrap();
    }
    editor.commit().unwrap();
    device
}

fn number(device: &MemoryDevice, offset: u64) -> u64 {
    let mut bytes = [0; 4];
    device.read_at(offset, &mut bytes).unwrap();
    u64::from(u32::from_le_bytes(bytes))
}

/// Where the first group has its inode bitmap and table, by its descriptor.
fn places(device: &MemoryDevice) -> (u64, u64) {
    let descriptor = 2 * BLOCK;
    let place = |field: u64| number(device, descriptor + field) * BLOCK;
    (place(4), place(8))
}

fn inode(device: &MemoryDevice, number: u64) -> u64 {
    places(device).1 + (number - 1) * 256
}

#[rstest]
fn what_is_whole_is_found_to_be(#[values(true, false)] has_checksums: bool) {
    check(filesystem(has_checksums)).unwrap();
}

#[rstest]
#[case::checksum(true, LINKS, 2, "inode 12: its checksum is wrong")]
#[case::no_name(false, LINKS, 0, "inode 12: it is in use, and has no name")]
#[case::outside(false, PLACE, 1 << 20, "inode 12: it has blocks outside of the file system")]
#[case::free(
    false,
    PLACE,
    15_000,
    "block 15000 belongs to a file, and its bitmap says that it is free"
)]
fn a_damaged_inode_is_named(
    #[case] has_checksums: bool,
    #[case] field: u64,
    #[case] value: u32,
    #[case] told: &str,
) {
    let device = filesystem(has_checksums);
    let len = if field == LINKS { 2 } else { 4 };
    let at = inode(&device, A) + field;
    device.write_at(at, &value.to_le_bytes()[..len]).unwrap();
    assert_eq!(check(&device).unwrap_err().to_string(), told);
    if has_checksums {
        // Nor is it read as if it were whole.
        let volume = Volume::open(&device).unwrap();
        let found = volume.tree().find(b"/a");
        assert!(matches!(
            found,
            Err(ExtError::DamagedAt {
                what: "an inode",
                ..
            })
        ));
    }
}

#[test]
fn a_block_of_two_files_is_named() {
    let device = filesystem(false);
    let place = number(&device, inode(&device, B) + PLACE) as u32;
    let at = inode(&device, A) + PLACE;
    device.write_at(at, &place.to_le_bytes()).unwrap();
    let told = check(&device).unwrap_err().to_string();
    assert_eq!(told, format!("block {place} belongs to two files"));
}

#[test]
fn a_bitmap_of_inodes_that_counts_wrong_is_named() {
    let device = filesystem(false);
    let bitmap = places(&device).0;
    let bits = number(&device, bitmap) as u32 ^ 1 << 20;
    device.write_at(bitmap, &bits.to_le_bytes()).unwrap();
    let told = check(&device).unwrap_err().to_string();
    assert_eq!(
        told,
        "the inode bitmap of group 0 does not fit its descriptor"
    );
}

/// A sparse file of an archive may claim any size; it is told at once, and nothing is changed.
#[test]
fn a_file_larger_than_any_map_is_refused() {
    let device = filesystem(true);
    let mut editor = Editor::open(&device, NOW).unwrap();
    let attributes = Attributes::root(0o644, NOW);
    for size in [1 << 60, u64::MAX] {
        let mut endless = std::io::repeat(0);
        let put = editor.write_file(b"/huge", &attributes, size, &mut endless, Zeros::Holes);
        assert!(matches!(put, Err(EditError::TooLarge(_))), "{put:?}");
    }
    editor.commit().unwrap();
    assert!(
        Volume::open(&device)
            .unwrap()
            .tree()
            .find(b"/huge")
            .is_err()
    );
    check(&device).unwrap();
}

/// A feature that a change needs goes with the change if that is taken back, and comes with the next.
#[test]
fn a_feature_is_taken_back_with_its_change() {
    let device = filesystem(false);
    let at = 1024 + 0x5c;
    let without = number(&device, at) as u32 & !0x8;
    device.write_at(at, &without.to_le_bytes()).unwrap();
    let mut attributes = Attributes::root(0o644, NOW);
    attributes.xattrs.push(Xattr {
        name: "user.hut".to_owned(),
        value: vec![1; 300],
    });
    let mut editor = Editor::open(&device, NOW).unwrap();
    for size in [1 << 30, 5] {
        let mut endless = std::io::repeat(7);
        let put = editor.write_file(b"/c", &attributes, size, &mut endless, Zeros::Written);
        assert_eq!(put.is_ok(), size == 5, "{put:?}");
    }
    editor.commit().unwrap();
    check(&device).unwrap();
    assert_eq!(number(&device, at) as u32, without | 0x8);
}
