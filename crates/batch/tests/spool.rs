//! An image that is unpacked once for many media.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use pinewrit_batch::{NoSpool, Spool};
use pinewrit_core::write::{WriteOptions, WriteOrder, write};
use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::{ByteRange, MemoryDevice, Window};
use pinewrit_image::{ExpectedChecksum, ImageSource};
use pinewrit_volume::Timestamp;
use pinewrit_volume::files::{Rights, open_to_change};
use pinewrit_volume::format::{FormatKind, FormatOptions, format};
use rstest::rstest;

const SIZE: usize = 24 << 20;

/// An ext4 with a file, packed; what it is unpacked.
fn packed(folder: &Path, name: &str) -> (PathBuf, Vec<u8>) {
    let device = MemoryDevice::new(SIZE);
    let now = Timestamp::at(1_795_862_400);
    let whole = ByteRange {
        start: 0,
        end: SIZE as u64,
    };
    format(
        &Window::new(&device, whole),
        &FormatOptions::new(FormatKind::Ext4, "root", [7; 32], now),
    )
    .unwrap();
    let mut files = open_to_change(&device, now).unwrap();
    let noise: Vec<u8> = (0..3_000_000_u32)
        .map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8)
        .collect();
    files.put("/noise", Rights::root(0o644), &noise).unwrap();
    files.close().unwrap();
    let image = device.to_bytes();
    let path = folder.join(name);
    let mut file = fs::File::create(&path).unwrap();
    match name.rsplit('.').next() {
        Some("zst") => file
            .write_all(&zstd::bulk::compress(&image, 3).unwrap())
            .unwrap(),
        Some("gz") => {
            let mut packer = flate2::write::GzEncoder::new(file, flate2::Compression::fast());
            packer.write_all(&image).unwrap();
            packer.finish().unwrap();
        }
        _ => file.write_all(&image).unwrap(),
    }
    (path, image)
}

fn make(source: &ImageSource, folder: &Path) -> Result<Spool, NoSpool> {
    Spool::make(source, None, 0, folder, &Silent, &Cancel::default())
}

/// What a medium of zeros holds after it was written from a source.
fn written(source: &ImageSource) -> (Vec<u8>, Vec<blake3::Hash>) {
    let card = MemoryDevice::new(SIZE + (8 << 20));
    let order = WriteOrder::plain(&card, &Silent);
    let report = write(source, &order, &WriteOptions::default(), &Cancel::default()).unwrap();
    let digests = report.chunks.iter().map(|chunk| chunk.digest).collect();
    (card.to_bytes(), digests)
}

#[rstest]
#[case::size_known("os.img.zst")]
#[case::size_unknown("os.img.gz")]
fn media_from_the_spool_are_those_from_the_image(#[case] name: &str) {
    let folder = tempfile::tempdir().unwrap();
    let (path, image) = packed(folder.path(), name);
    let source = ImageSource::open(&path).unwrap();
    let spool = make(&source, folder.path()).unwrap();
    assert_eq!(spool.image.unpacked_bytes, SIZE as u64);
    assert!(spool.used_bytes() < SIZE as u64, "free space is not kept");
    let (direct, by_itself) = written(&source);
    for _ in 0..2 {
        let (card, digests) = written(&spool.source().unwrap());
        assert!(card == direct && digests == by_itself);
    }
    // The file itself is all there.
    let start = image
        .windows(64)
        .position(|part| part == &image[(9 << 20)..(9 << 20) + 64]);
    assert!(start.is_some());
    // Nothing is left of it in the folder but the image.
    let names = fs::read_dir(folder.path()).unwrap().count();
    assert_eq!(names, 1);
}

#[test]
fn a_plain_image_needs_no_spool() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = packed(folder.path(), "os.img");
    let source = ImageSource::open(&path).unwrap();
    assert!(matches!(make(&source, folder.path()), Err(NoSpool::Plain)));
}

#[test]
fn a_wrong_checksum_and_a_damaged_image_make_no_spool() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = packed(folder.path(), "os.img.gz");
    let source = ImageSource::open(&path).unwrap();
    let sum = ExpectedChecksum::from_argument(&format!("sha256:{}", "0".repeat(64)), &source);
    let made = Spool::make(
        &source,
        Some(&sum.unwrap()),
        0,
        folder.path(),
        &Silent,
        &Cancel::default(),
    );
    assert!(matches!(made, Err(NoSpool::Image(_))));
    let bytes = fs::read(&path).unwrap();
    fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
    let source = ImageSource::open(&path).unwrap();
    assert!(matches!(
        make(&source, folder.path()),
        Err(NoSpool::Image(_))
    ));
}

#[test]
fn a_disk_without_room_is_told_with_numbers() {
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = packed(folder.path(), "os.img.zst");
    let source = ImageSource::open(&path).unwrap();
    // As if the disk had less free than the least that is kept free on it.
    let made = Spool::make(
        &source,
        None,
        0,
        Path::new("/proc"),
        &Silent,
        &Cancel::default(),
    );
    match made {
        Err(NoSpool::NoRoom { needed, free, .. }) => assert!(needed > free),
        Err(NoSpool::Io { .. }) => {}
        other => panic!("{:?}", other.err()),
    }
    let stopped = Cancel::default();
    stopped.cancel();
    let made = Spool::make(&source, None, 0, folder.path(), &Silent, &stopped);
    assert!(matches!(made, Err(NoSpool::Image(_))));
}
