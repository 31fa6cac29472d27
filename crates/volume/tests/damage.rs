//! Damaged FAT file systems take no changes: what is wrong is named, and nothing is written.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_disk::{BlockDevice, ByteRange, FreeWrites, MemoryDevice, Window};
use pinewrit_ext4::Timestamp;
use pinewrit_volume::Gathered;
use pinewrit_volume::files::{Files, FilesError, Rights, Wanted, find_place, open_to_change};
use pinewrit_volume::format::{FatKind, FormatKind, FormatOptions, format};
use rstest::rstest;

const NOW: Timestamp = Timestamp {
    seconds: 1_795_435_200,
    nanoseconds: 0,
};
/// More than a cluster of each file system here, in bytes.
const CONTENT: usize = 5000;

fn put(files: &mut Files<'_>, path: &str) -> Result<(), FilesError> {
    files.put(path, Rights::root(0o644), &[b'x'; CONTENT])
}

fn filesystem(kind: FatKind, size: usize) -> MemoryDevice {
    let device = MemoryDevice::new(size);
    let options = FormatOptions::new(FormatKind::Fat(kind), "HUT", [3; 32], NOW);
    let range = ByteRange {
        start: 0,
        end: size as u64,
    };
    format(&Window::new(&device, range), &options).unwrap();
    let mut files = open_to_change(&device, NOW).unwrap();
    put(&mut files, "/a").unwrap();
    files.make_folders("/sub", Rights::root(0o755)).unwrap();
    put(&mut files, "/sub/b").unwrap();
    files.close().unwrap();
    device
}

/// Tries a change of a file that is not damaged.
fn change(device: &MemoryDevice) -> Result<(), FilesError> {
    let found = find_place(device, &Wanted::Only).unwrap();
    Gathered::files(device, FreeWrites::Direct, NOW, |site| {
        site.change(&found, |files| put(files, "/new"))
    })
    .map(drop)
}

/// The short entry of a name in the whole file system.
fn entry(device: &MemoryDevice, name: &[u8; 11]) -> usize {
    let bytes = device.to_bytes();
    let mut found = bytes.windows(11).enumerate();
    found.find(|(_, window)| window == name).unwrap().0
}

const B: &[u8; 11] = b"B          ";

#[rstest]
#[case::fat12(FatKind::Fat12, 4 << 20)]
#[case::fat16(FatKind::Fat16, 16 << 20)]
#[case::fat32(FatKind::Fat32, 64 << 20)]
fn a_file_longer_than_its_clusters(#[case] kind: FatKind, #[case] size: usize) {
    let device = filesystem(kind, size);
    change(&device).unwrap();
    let at = entry(&device, B) + 28;
    device
        .write_at(at as u64, &1_000_000u32.to_le_bytes())
        .unwrap();
    let told = change(&device).unwrap_err().to_string();
    assert!(told.contains("/sub/b has 1000000 bytes"), "{told}");
}
