//! What `pinewrit inspect` tells of file systems, against those who made and check them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs::File;

use common::{Bench, small_image};
use rstest::rstest;
use serde_json::Value;

fn sparse(bench: &Bench, name: &str, size: u64) {
    File::create(bench.path(name))
        .and_then(|file| file.set_len(size))
        .unwrap();
}

fn filesystem(bench: &Bench, name: &str) -> Value {
    let json = bench.run(&["--json", "inspect", name]).expect(0).json();
    json["filesystem"].clone()
}

#[rstest]
#[case::fat12("12", 4 << 20, "FAT12")]
#[case::fat16("16", 64 << 20, "FAT16")]
#[case::fat32("32", 300 << 20, "FAT32")]
fn fat_as_its_checker_counts(#[case] bits: &str, #[case] size: u64, #[case] kind: &str) {
    let bench = Bench::new();
    sparse(&bench, "fat.img", size);
    let make = ["-F", bits, "-n", "HUT BOOT", "-i", "1a4b0001", "fat.img"];
    let Some(made) = bench.judge("mkfs.fat", &make) else {
        return;
    };
    made.expect(0);
    bench.write("filler", vec![7; 1_234_567]);
    let Some(copied) = bench.judge("mcopy", &["-i", "fat.img", "filler", "::filler"]) else {
        return;
    };
    copied.expect(0);
    let found = filesystem(&bench, "fat.img");
    assert_eq!(found["kind"], kind);
    assert_eq!(found["label"], "HUT BOOT");
    assert_eq!(found["id"], "1A4B-0001");

    // "fat.img: 2 files, 603/2036 clusters", and the cluster size in the long form.
    let judged = bench
        .judge("fsck.fat", &["-n", "-v", "fat.img"])
        .unwrap()
        .expect(0)
        .stdout;
    let number = |text: &str| text.trim().parse::<u64>().unwrap();
    let line = judged
        .lines()
        .rfind(|line| line.contains(" clusters"))
        .unwrap();
    let counts = line
        .rsplit(", ")
        .next()
        .unwrap()
        .trim_end_matches(" clusters");
    let (used, total) = counts.split_once('/').unwrap();
    let line = judged
        .lines()
        .find(|line| line.contains("bytes per cluster"))
        .unwrap();
    let cluster = number(line.trim().split(' ').next().unwrap());
    assert_eq!(found["free"], (number(total) - number(used)) * cluster);
}

#[rstest]
#[case::ext2("ext2", &["-b", "1024"])]
#[case::ext3("ext3", &[])]
#[case::ext4("ext4", &[])]
#[case::ext4_64bit("ext4", &["-O", "64bit", "-b", "4096"])]
fn ext_as_its_maker_says(#[case] kind: &str, #[case] options: &[&str]) {
    let bench = Bench::new();
    sparse(&bench, "ext.img", 48 << 20);
    let make = [
        &["-q", "-t", kind, "-L", "larkfell-root"],
        options,
        &["ext.img"],
    ]
    .concat();
    let Some(made) = bench.judge("mke2fs", &make) else {
        return;
    };
    made.expect(0);
    let told = bench
        .judge("dumpe2fs", &["-h", "ext.img"])
        .unwrap()
        .expect(0)
        .stdout;
    let field = |name: &str| {
        let line = told.lines().find(|line| line.starts_with(name)).unwrap();
        line.split_once(':').unwrap().1.trim().to_owned()
    };
    let number = |name: &str| field(name).parse::<u64>().unwrap();
    let found = filesystem(&bench, "ext.img");
    assert_eq!(found["kind"], kind);
    assert_eq!(found["label"], "larkfell-root");
    assert_eq!(found["id"], field("Filesystem UUID"));
    let block = number("Block size");
    assert_eq!(found["size"], number("Block count") * block);
    assert_eq!(found["free"], number("Free blocks") * block);
}

#[test]
fn swap_is_recognised() {
    let bench = Bench::new();
    sparse(&bench, "swap.img", 1 << 20);
    if let Some(made) = bench.judge("mkswap", &["swap.img"]) {
        made.expect(0);
        assert_eq!(filesystem(&bench, "swap.img")["kind"], "swap");
    }
}

#[test]
fn a_medium_without_anything_is_no_error() {
    let bench = Bench::new();
    sparse(&bench, "blank.img", 8 << 20);
    let run = bench.run(&["inspect", "blank.img"]).expect(0);
    assert!(run.stdout.contains("no partition table"), "{}", run.stdout);
    assert!(
        run.stdout
            .contains("no UEFI loader and no legacy BIOS boot code found")
    );
}

#[test]
fn what_is_wrong_with_a_table_is_told() {
    let bench = Bench::new();
    let image = small_image();
    bench.write("cut.img", &image[..12 << 20]);
    let run = bench.run(&["inspect", "cut.img"]).expect(0);
    let told = "warning: partition 2 ends at byte 14680064, past the end";
    assert!(run.stdout.contains(told), "{}", run.stdout);

    let mut overlapping = image;
    overlapping[0x1ce + 8..0x1ce + 12].copy_from_slice(&4096u32.to_le_bytes());
    bench.write("overlapping.img", overlapping);
    let run = bench.run(&["inspect", "overlapping.img"]).expect(0);
    assert!(
        run.stdout.contains("partitions 1 and 2 overlap"),
        "{}",
        run.stdout
    );
}

#[test]
fn labels_cannot_command_the_terminal() {
    let bench = Bench::new();
    sparse(&bench, "ext.img", 8 << 20);
    let evil = "a\x1b[31mred";
    let Some(made) = bench.judge("mke2fs", &["-q", "-L", evil, "ext.img"]) else {
        return;
    };
    made.expect(0);
    let run = bench.run(&["inspect", "ext.img"]).expect(0);
    assert!(!run.stdout.contains('\x1b'), "{:?}", run.stdout);
}

#[rstest]
#[case::auto("auto", false)]
#[case::never("never", false)]
#[case::always("always", true)]
fn colours_only_where_they_are_wanted(#[case] when: &str, #[case] colours: bool) {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let run = bench
        .run(&["--color", when, "inspect", "hut.img"])
        .expect(0);
    assert_eq!(run.stdout.contains('\x1b'), colours);
}

#[test]
fn a_reader_that_goes_away_is_no_fault() {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let sh = format!("'{}' inspect hut.img | true", common::PROGRAM);
    let run = bench.judge("bash", &["-c", &format!("set -o pipefail; {sh}")]);
    assert!(run.is_none_or(|run| run.code == 0));
}

#[test]
fn system_and_kernels_on_a_fat_partition() {
    let bench = Bench::new();
    sparse(&bench, "fat.img", 16 << 20);
    let Some(made) = bench.judge("mkfs.fat", &["-n", "HUT BOOT", "fat.img"]) else {
        return;
    };
    made.expect(0);
    bench.write("os-release", "NAME=\"Larkfell OS\"\nVERSION_ID=4.2\n");
    let mut kernel = vec![0; 70_000];
    kernel[56..60].copy_from_slice(b"ARM\x64");
    bench.write("kernel8.img", kernel);
    bench.write("vmlinuz", "no kernel at all");
    for name in ["os-release", "kernel8.img", "vmlinuz"] {
        let Some(copied) = bench.judge("mcopy", &["-i", "fat.img", name, "::"]) else {
            return;
        };
        copied.expect(0);
    }
    let run = bench.run(&["inspect", "fat.img"]).expect(0);
    for line in [
        "system    Larkfell OS 4.2",
        "kernels   kernel8.img for arm64",
    ] {
        assert!(run.stdout.contains(line), "{}", run.stdout);
    }
    assert!(!run.stdout.contains("vmlinuz"), "{}", run.stdout);
}

/// The label of a FAT is an entry of its root folder, in the letters of its system.
#[rstest]
#[case::plain(b"HUT BOOT   ", Some("HUT BOOT"))]
#[case::page_850(b"H\x9aTTE      ", Some("HÜTTE"))]
#[case::erased(b"\xe5UT BOOT   ", None)]
fn labels_of_fat(#[case] entry: &[u8; 11], #[case] label: Option<&str>) {
    let bench = Bench::new();
    let mut image = common::small_image();
    let wanted = [&b"HUT BOOT   "[..], &[8]].concat();
    let places = image
        .windows(12)
        .enumerate()
        .filter(|(_, window)| *window == wanted);
    let at = places.map(|(at, _)| at).next_back().unwrap();
    image[at..at + 11].copy_from_slice(entry);
    bench.write("hut.img", image);
    let found = bench
        .run(&["--json", "inspect", "hut.img"])
        .expect(0)
        .json();
    assert_eq!(
        found["partitions"][0]["filesystem"]["label"].as_str(),
        label
    );
}

/// What is on a medium and would be lost is named, whoever made it.
#[rstest]
#[case::zfs(135_168, &[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0], "ZFS")]
#[case::raid_at_the_end((32 << 20) - 8192, b"\xfc\x4e\x2b\xa9\x01\0\0\0", "Linux RAID")]
#[case::jfs(0x8000, b"JFS1", "JFS")]
#[case::bcache(
    4120,
    b"\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81",
    "bcache"
)]
#[case::sgi(0, b"\x0b\xe5\xa9\x41", "SGI disk label")]
fn what_would_be_lost_has_a_name(#[case] at: usize, #[case] mark: &[u8], #[case] name: &str) {
    let bench = Bench::new();
    bench.write("hut.img", common::small_image());
    let mut card = vec![0; 32 << 20];
    card[at..at + mark.len()].copy_from_slice(mark);
    bench.write("card.img", card);
    for args in [
        &["write", "hut.img", "--to", "card.img", "--dry-run"][..],
        &["table", "create", "card.img", "--scheme", "gpt"],
        &["inspect", "card.img"],
    ] {
        let run = bench.run(args);
        let all = run.stdout + &run.stderr;
        assert!(all.contains(name), "{args:?}: {all}");
        assert!(!all.contains("no known data"), "{args:?}: {all}");
    }
}
