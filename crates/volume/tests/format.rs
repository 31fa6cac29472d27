//! File systems made in partitions, judged by strangers.

#![allow(clippy::print_stderr, reason = "a skipped test says so")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs::{File, OpenOptions};
use std::path::Path;

use pinewrit_disk::{BlockDevice, ByteRange, CacheUse, FileDevice, SectorSize, Window};
use pinewrit_ext4::Timestamp;
use pinewrit_volume::format::{
    FatKind, FormatError, FormatKind, FormatOptions, FormatReport, format,
};
use rstest::rstest;

const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;
/// The partition begins here.
const START: u64 = 4 * MIB;

fn judge(program: &str, args: &[&str]) -> Option<String> {
    let (is_good, text) = pinewrit_judges::judge(program, args)?;
    assert!(is_good, "{program} {args:?}: {text}");
    Some(text)
}

fn options(kind: FormatKind, label: &str) -> FormatOptions {
    let mut seed = [0; 32];
    for (byte, value) in seed.iter_mut().zip(1u8..) {
        *byte = value;
    }
    FormatOptions::new(kind, label, seed, Timestamp::at(1_795_435_200))
}

/// A partition of this size in a file that is full of something else where it matters.
fn made(
    path: &Path,
    size: u64,
    sector: SectorSize,
    options: &FormatOptions,
) -> Result<FormatReport, FormatError> {
    File::create(path).unwrap().set_len(START + size).unwrap();
    let file = OpenOptions::new()
        .read(true)
        .write(true)
        .open(path)
        .unwrap();
    let device = FileDevice::new(file, START + size, sector, CacheUse::Cached);
    let noise = vec![0x5a; MIB as usize];
    device
        .write_at(START, &noise[..noise.len().min(size as usize)])
        .unwrap();
    device
        .write_at(
            START + size.saturating_sub(8192),
            &noise[..8192.min(size as usize)],
        )
        .unwrap();
    let range = ByteRange {
        start: START,
        end: START + size,
    };
    format(&Window::new(&device, range), options)
}

/// Just the partition, for judges that know no offsets.
fn cut_out(path: &Path, size: u64) -> bool {
    // Without it, terabytes would be copied.
    if !pinewrit_judges::are_there(&["fallocate"]) {
        return false;
    }
    let judged = pinewrit_judges::command("sh")
        .arg("-c")
        .arg(format!(
            "fallocate -c -o 0 -l {START} {path} 2>/dev/null || {{ cp --sparse=always {path} {path}.all && dd if={path}.all of={path} bs=4M skip=1 conv=sparse,notrunc status=none && truncate -s {size} {path}; }}",
            path = path.display()
        ))
        .status();
    assert!(judged.unwrap().success());
    true
}

#[rstest]
#[case::floppy(FatKind::Fat12, 1_440 * 1024, "FAT12")]
#[case::small(FatKind::Fat12, 8 * MIB, "FAT12")]
#[case::small_of_16(FatKind::Fat16, 16 * MIB, "FAT16")]
#[case::boot(FatKind::Fat16, 64 * MIB, "FAT16")]
#[case::large_of_16(FatKind::Fat16, 2 * GIB, "FAT16")]
#[case::least_of_32(FatKind::Fat32, 34 * MIB, "FAT32")]
#[case::boot_of_32(FatKind::Fat32, 256 * MIB, "FAT32")]
#[case::card(FatKind::Fat32, 7_818_182_656, "FAT32")]
#[case::beyond_32_gb(FatKind::Fat32, 64_000_000_000, "FAT32")]
#[case::huge(FatKind::Fat32, 2_000_000_000_000, "FAT32")]
#[case::by_size_small(FatKind::BySize, 10 * MIB, "FAT12")]
#[case::by_size(FatKind::BySize, 100 * MIB, "FAT16")]
#[case::by_size_large(FatKind::BySize, GIB, "FAT32")]
fn fat_of_any_size(#[case] kind: FatKind, #[case] size: u64, #[case] expected: &str) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("card.img");
    let options = options(FormatKind::Fat(kind), "Hut boot");
    let report = made(&path, size, SectorSize::B512, &options).unwrap();
    assert_eq!(report.kind.word(), expected);
    assert_eq!(report.label.as_deref(), Some("HUT BOOT"));
    if !cut_out(&path, size) {
        return;
    }
    let image = path.to_str().unwrap();
    if judge("fsck.fat", &["-n", image]).is_none() {
        return;
    }
    let found = judge("blkid", &["-p", image]).unwrap();
    assert!(
        found.contains("LABEL=\"HUT BOOT\"") && found.contains("UUID=\"0403-0201\""),
        "{found}"
    );
    let small = dir.path().join("reading");
    std::fs::write(&small, vec![7; 300_000]).unwrap();
    judge(
        "mcopy",
        &["-i", image, small.to_str().unwrap(), "::/A long name.log"],
    );
    judge("fsck.fat", &["-n", image]);
}

#[rstest]
#[case::fat(FormatKind::Fat(FatKind::Fat32), GIB)]
#[case::ext4(FormatKind::Ext4, 100 * MIB)]
fn on_sectors_of_4096_bytes(#[case] kind: FormatKind, #[case] size: u64) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("card.img");
    made(&path, size, SectorSize::B4096, &options(kind, "HUT")).unwrap();
    if !cut_out(&path, size) {
        return;
    }
    let image = path.to_str().unwrap();
    match kind {
        FormatKind::Ext4 => judge("e2fsck", &["-fn", image]),
        _ => judge("fsck.fat", &["-n", image]),
    };
}

#[test]
fn ext4_with_all_options() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("card.img");
    let options = FormatOptions {
        unit: Some(1024),
        inodes: Some(50_000),
        has_checksums: false,
        ..options(FormatKind::Ext4, "larkfell-root")
    };
    let report = made(&path, 200 * MIB, SectorSize::B512, &options).unwrap();
    assert_eq!(report.kind.word(), "ext4");
    if !cut_out(&path, 200 * MIB) {
        return;
    }
    let image = path.to_str().unwrap();
    if judge("e2fsck", &["-fn", image]).is_none() {
        return;
    }
    let said = judge("dumpe2fs", &["-h", image]).unwrap();
    assert!(said.contains("Block size:               1024"), "{said}");
    assert!(!said.contains("metadata_csum"), "{said}");
    let count = said
        .lines()
        .find_map(|line| line.strip_prefix("Inode count:"));
    assert!(
        count.unwrap().trim().parse::<u32>().unwrap() >= 50_000,
        "{said}"
    );
}

#[test]
fn swap() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("card.img");
    let report = made(
        &path,
        16 * MIB,
        SectorSize::B512,
        &options(FormatKind::Swap, "hut-swap"),
    )
    .unwrap();
    assert_eq!(report.kind.word(), "swap");
    if !cut_out(&path, 16 * MIB) {
        return;
    }
    let Some(found) = judge("blkid", &["-p", path.to_str().unwrap()]) else {
        return;
    };
    assert!(
        found.contains("TYPE=\"swap\"") && found.contains("LABEL=\"hut-swap\""),
        "{found}"
    );
}

#[rstest]
#[case::long_fat("fat32", "TWELVE-CHARS", "12 bytes; at most 11")]
#[case::character("fat32", "HUT/3", "'/'")]
#[case::accent("fat32", "H\u{fc}tte", "'\u{fc}'")]
#[case::long_ext4("ext4", "seventeen-letters", "17 bytes; at most 16")]
fn labels_that_cannot_be(#[case] kind: &str, #[case] label: &str, #[case] why: &str) {
    let error = FormatKind::from_word(kind)
        .unwrap()
        .check_label(label)
        .unwrap_err();
    assert!(error.to_string().contains(why), "{error}");
}

#[rstest]
#[case::fat32_too_small(FormatKind::Fat(FatKind::Fat32), 20 * MIB)]
#[case::fat16_too_small(FormatKind::Fat(FatKind::Fat16), MIB)]
#[case::fat12_too_large(FormatKind::Fat(FatKind::Fat12), GIB)]
#[case::swap_too_small(FormatKind::Swap, 8192)]
#[case::ext4_too_small(FormatKind::Ext4, 40_000)]
fn sizes_that_cannot_be_change_nothing(#[case] kind: FormatKind, #[case] size: u64) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("card.img");
    let error = made(&path, size, SectorSize::B512, &options(kind, "")).unwrap_err();
    assert!(
        matches!(error, FormatError::Size { .. } | FormatError::Ext4(_)),
        "{error}"
    );
    let bytes = std::fs::read(&path).unwrap();
    assert_eq!(bytes[START as usize], 0x5a);
}
