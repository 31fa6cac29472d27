//! Media that cannot be read in every place: everything readable is copied, and what is hit is named.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeSet;
use std::fs;
use std::ops::Range;
use std::process::Stdio;
use std::time::{Duration, Instant};

use common::{Bench, Run};
use pinewrit_judges::needs;
use rstest::rstest;
use serde_json::Value;

const MIB: usize = 1 << 20;
/// Where the partitions of the card begin.
const BOOT: usize = MIB;
const ROOT: usize = 37 * MIB;

/// A card with a FAT32 and an ext4 full of files, in this scheme.
fn card(scheme: &str) -> Option<Bench> {
    let bench = Bench::new();
    let script = format!(
        "set -e
        mkdir -p tree/log
        for number in $(seq 40); do
            head -c $((number * number * 211 % 190000 + 900)) /dev/urandom > tree/log/reading-$number
        done
        truncate -s 40M root.img
        mkfs.ext4 -q -d tree root.img
        truncate -s 36M boot.img
        mkfs.fat -F 32 -s 1 boot.img > /dev/null
        for number in 31 32 33 34; do mcopy -i boot.img tree/log/reading-$number ::/; done
        truncate -s 80M card.img
        printf 'label: {scheme}\\nstart=2048, size=73728\\nstart=75776, size=81920\\n' |
            sfdisk -q card.img
        dd if=boot.img of=card.img bs=1M seek=1 conv=notrunc status=none
        dd if=root.img of=card.img bs=1M seek=37 conv=notrunc status=none"
    );
    bench.judge("sh", &["-c", &script])?.expect(0);
    Some(bench)
}

/// A reader that holds the card, with these faults.
fn rack(bench: &Bench, more: &str) {
    let text = format!(
        "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"80MiB\"\nmaker = \"Larch\"\n\
         model = \"Needle\"\nserial = \"1\"\n{more}\n"
    );
    bench.write("rack.toml", text);
}

fn faults(places: &[Range<usize>]) -> String {
    let one = |place: &Range<usize>| {
        let len = place.len();
        format!(
            "{{ kind = \"read-error\", at = {}, len = {len} }}",
            place.start
        )
    };
    let all: Vec<String> = places.iter().map(one).collect();
    format!("faults = [{}]", all.join(", "))
}

const SAVE: [&str; 9] = [
    "--rack",
    "rack.toml",
    "save",
    "rack:slot",
    "--to",
    "saved.img",
    "--rescue",
    "card.rescue",
    "--yes",
];

fn save(bench: &Bench) -> Run {
    bench.run(&[&["--json"], &SAVE[..]].concat())
}

/// What the program says about the rescue.
fn report(run: &Run) -> Value {
    let lines = run.stdout.lines().map(serde_json::from_str);
    let mut lines = lines.map(Result::unwrap);
    lines
        .find(|line: &Value| line["event"] == "rescue")
        .unwrap()
}

fn missing(report: &Value) -> Vec<Range<usize>> {
    let list = report["missing"].as_array().unwrap().iter();
    list.map(|one| one[0].as_u64().unwrap() as usize..one[1].as_u64().unwrap() as usize)
        .collect()
}

/// What was read is what the card holds, and the rest is zeros.
fn is_true_to(bench: &Bench) {
    let (card, kept) = (bench.read("card.img"), bench.read("card.rescue"));
    let map: Value = serde_json::from_slice(&bench.read("card.rescue.map")).unwrap();
    let mut at = 0;
    for range in map["read"].as_array().unwrap() {
        let (start, end) = range.as_str().unwrap().split_once('-').unwrap();
        let range: Range<usize> = start.parse().unwrap()..end.parse().unwrap();
        assert!(kept[at..range.start].iter().all(|byte| *byte == 0));
        assert!(kept[range.clone()] == card[range.clone()], "{range:?}");
        at = range.end;
    }
}

/// The files of both partitions of an image, by the judges.
fn files_of(bench: &Bench, image: &str) -> BTreeSet<(String, Vec<u8>)> {
    let script = format!(
        "rm -rf out; mkdir -p out/boot out/root
        dd if={image} of=part.img bs=1M skip=1 count=36 status=none
        mcopy -s -i part.img ::/ out/boot
        dd if={image} of=part.img bs=1M skip=37 count=40 status=none
        debugfs -c -R 'rdump /log out/root' part.img"
    );
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
    let mut all = BTreeSet::new();
    for folder in ["out/boot", "out/root/log"] {
        for entry in fs::read_dir(bench.path(folder)).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(bench.folder()).unwrap();
            all.insert((name.display().to_string(), fs::read(&path).unwrap()));
        }
    }
    all
}

/// Where the content of each file lies, as the judges see it: partition, path, bytes of the card.
fn places(bench: &Bench) -> Vec<(u64, String, Vec<Range<usize>>)> {
    let mut all = Vec::new();
    let card = bench.read("card.img");
    let size = 1024 << card[ROOT + 1024 + 24];
    for number in 1..=40 {
        let path = format!("/log/reading-{number}");
        let run = bench.judge("debugfs", &["-R", &format!("blocks {path}"), "root.img"]);
        let blocks = run.unwrap().stdout;
        let blocks = blocks
            .split_whitespace()
            .map(|one| one.parse::<usize>().unwrap());
        let ranges = blocks.map(|block| ROOT + block * size..ROOT + (block + 1) * size);
        all.push((2, path, ranges.collect()));
    }
    let word = |at: usize| usize::from(u16::from_le_bytes([card[BOOT + at], card[BOOT + at + 1]]));
    let table = word(36);
    let data = BOOT + (word(14) + 2 * table) * 512;
    for number in 31..=34 {
        let path = format!("/reading-{number}");
        let run = bench.judge("mshowfat", &["-i", "boot.img", &format!("::{path}")]);
        let text = run.unwrap().stdout;
        let runs = text
            .split(['<', '>'])
            .filter(|part| part.starts_with(|first: char| first.is_ascii_digit()));
        let ranges = runs.map(|run| {
            let (first, last) = run.split_once('-').unwrap_or((run, run));
            let place = |number: &str| data + (number.parse::<usize>().unwrap() - 2) * 512;
            place(first)..place(last) + 512
        });
        all.push((1, path, ranges.collect()));
    }
    all
}

fn meet(one: &Range<usize>, other: &Range<usize>) -> bool {
    one.start < other.end && other.start < one.end
}

/// A reproducible sequence of numbers.
struct Dice(u64);

impl Dice {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % limit
    }
}

/// Bad places in files and in free space: every readable sector is there, and exactly the files that are
/// hit are named. `PINEWRIT_RESCUES` makes more of them.
#[test]
fn exactly_what_is_hit_is_named() {
    needs!(
        "mkfs.ext4",
        "mkfs.fat",
        "mcopy",
        "mshowfat",
        "sfdisk",
        "debugfs"
    );
    let Some(bench) = card("dos") else { return };
    let places = places(&bench);
    let all: Vec<Range<usize>> = places.iter().flat_map(|(_, _, all)| all.clone()).collect();
    let count = std::env::var("PINEWRIT_RESCUES").map_or(6, |count| count.parse().unwrap());
    for seed in 0..count {
        let mut dice = Dice(seed);
        let bad: Vec<Range<usize>> = (0..1 + dice.below(9))
            .map(|_| {
                let place = &all[dice.below(all.len())];
                let start = place.start + dice.below(place.len());
                start..start + 1 + dice.below(place.end - start)
            })
            .collect();
        rack(&bench, &faults(&bad));
        let run = save(&bench).expect(5);
        is_true_to(&bench);
        let report = report(&run);
        // A sector that touches a bad byte, and no other.
        let sectors: BTreeSet<usize> = bad
            .iter()
            .flat_map(|one| one.start / 512..one.end.div_ceil(512))
            .collect();
        let found: BTreeSet<usize> = missing(&report)
            .iter()
            .flat_map(|one| one.start / 512..one.end.div_ceil(512))
            .collect();
        assert_eq!(found, sectors, "seed {seed}");
        let hits: BTreeSet<(u64, String)> = report["hits"]
            .as_array()
            .unwrap()
            .iter()
            .map(|hit| {
                assert_eq!(hit["kind"], "file", "{hit}");
                let name = hit["name"].as_str().unwrap().to_owned();
                (hit["partition"].as_u64().unwrap(), name)
            })
            .collect();
        let is_hit = |ranges: &[Range<usize>]| {
            let whole = |sector: &usize| sector * 512..(sector + 1) * 512;
            ranges.iter().any(|range| {
                let mut sectors = sectors.iter().map(whole);
                sectors.any(|sector| meet(&sector, range))
            })
        };
        let expected: BTreeSet<(u64, String)> = places
            .iter()
            .filter(|(_, _, ranges)| is_hit(ranges))
            .map(|(partition, path, _)| (*partition, path.clone()))
            .collect();
        assert_eq!(hits, expected, "seed {seed}");
        for name in ["card.rescue", "card.rescue.map"] {
            fs::remove_file(bench.path(name)).unwrap();
        }
    }
}

/// Metadata that has a copy is mended, and nothing is missing then.
#[rstest]
#[case::protective_mbr("gpt", 0..512, "table")]
#[case::gpt_header("gpt", 512..1024, "table")]
#[case::gpt_entries("gpt", 1024..1536, "table")]
#[case::boot_sector("dos", BOOT..BOOT + 512, "boot-sector")]
#[case::information("dos", BOOT..BOOT + 1024, "boot-sector")]
#[case::first_table("dos", BOOT + 32 * 512..BOOT + 35 * 512, "allocation-table")]
#[case::superblock("dos", ROOT + 1024..ROOT + 1030, "superblock")]
#[case::descriptors("dos", ROOT + 2048..ROOT + 2049, "group-descriptors")]
#[case::both("dos", ROOT..ROOT + 3072, "superblock")]
fn copies_of_metadata_are_used(
    #[case] scheme: &str,
    #[case] bad: Range<usize>,
    #[case] mended: &str,
) {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card(scheme) else { return };
    let before = files_of(&bench, "card.img");
    assert!(before.len() == 44);
    rack(&bench, &faults(std::slice::from_ref(&bad)));
    let run = save(&bench);
    let report = report(&run);
    let parts = report["mended"].as_array().unwrap().iter();
    let parts: Vec<&str> = parts.map(|one| one["what"].as_str().unwrap()).collect();
    assert!(parts.contains(&mended), "{report}");
    assert!(files_of(&bench, "saved.img") == before);
    // The block before the superblock has no copy.
    let is_whole = bad.start != ROOT;
    run.expect(if is_whole { 0 } else { 5 });
}

#[test]
fn a_lost_table_is_told_first() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    rack(
        &bench,
        &faults(&[0..512, ROOT + MIB * 30..ROOT + MIB * 30 + 9]),
    );
    let run = save(&bench).expect(5);
    assert_eq!(report(&run)["hits"][0]["kind"], "table");
    is_true_to(&bench);
}

/// Killed, and gone on with.
#[test]
fn it_goes_on_where_it_was_killed() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    rack(&bench, "read-speed = \"4MB/s\"");
    let mut child = bench.command(&SAVE).stderr(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    let has_read = || {
        let map = fs::read(bench.path("card.rescue.map")).unwrap_or_default();
        let map: Value = serde_json::from_slice(&map).unwrap_or_default();
        map["read"].as_array().is_some_and(|read| read.len() > 3)
    };
    while !has_read() && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(has_read(), "nothing was kept");
    is_true_to(&bench);
    rack(&bench, "");
    save(&bench).expect(0);
    assert!(files_of(&bench, "saved.img") == files_of(&bench, "card.img"));
}

/// Two readers that fail in different places give the whole card, one after the other or apart.
#[rstest]
#[case::one_after_the_other(false)]
#[case::apart(true)]
fn two_readers_give_it_all(#[case] is_apart: bool) {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    let (first, second) = (ROOT + 20 * MIB..ROOT + 22 * MIB, ROOT..ROOT + 20 * MIB);
    rack(&bench, &faults(std::slice::from_ref(&first)));
    save(&bench).expect(5);
    rack(&bench, &faults(&[second, 3 * MIB..3 * MIB + 100]));
    if is_apart {
        let mut other = SAVE;
        other[5] = "other.img";
        other[7] = "other.rescue";
        bench.run(&other).expect(5);
        rack(&bench, &faults(std::slice::from_ref(&first)));
        let merged = [&SAVE[..], &["--merge", "other.rescue"]].concat();
        bench
            .run(&merged)
            .expect(0)
            .says(&["taken from other.rescue"]);
    } else {
        save(&bench).expect(0);
    }
    assert!(files_of(&bench, "saved.img") == files_of(&bench, "card.img"));
}

/// What fails at first is read later.
#[test]
fn a_moody_card_is_read_whole() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    let flaky =
        |at: usize| format!("{{ kind = \"flaky-read\", at = {at}, len = 3000, times = 3 }}");
    let all = [flaky(ROOT), flaky(ROOT + 15 * MIB), flaky(BOOT + 9000)].join(", ");
    rack(&bench, &format!("faults = [{all}]"));
    save(&bench).expect(0);
    assert!(files_of(&bench, "saved.img") == files_of(&bench, "card.img"));
    let again = bench.run(&["clone", "saved.img", "--to", "copy.img", "--size", "90MB"]);
    again.expect(0);
}

/// Where reading takes long, the rest is read first; nothing of it is lost.
#[test]
fn slow_places_are_read_as_well() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    let (_, path, ranges) = places(&bench).swap_remove(30);
    let bad = format!(
        "{{ kind = \"read-error\", at = {}, len = 9 }}",
        ranges[0].start
    );
    let slow = |at: usize| format!("{{ kind = \"slow-spot\", at = {at}, len = 1, ms = 2100 }}");
    let all = [slow(ROOT + 12 * MIB), bad, slow(BOOT + 2 * MIB)].join(", ");
    rack(&bench, &format!("faults = [{all}]"));
    let report = report(&save(&bench).expect(5));
    assert_eq!(report["hits"].as_array().unwrap().len(), 1, "{report}");
    assert_eq!(report["hits"][0]["name"], path.as_str());
    assert_eq!(report["missing_bytes"], 512);
    is_true_to(&bench);
}

/// A card that disappears is waited for.
#[test]
fn a_card_that_is_gone_is_waited_for() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    rack(&bench, "faults = [{ kind = \"gone\", after = \"4MB\" }]");
    bench.run(&SAVE).expect(0).says(&["is gone", "is back"]);
    assert!(files_of(&bench, "saved.img") == files_of(&bench, "card.img"));
    // Nobody brings it back.
    let again = bench.read("rack.toml");
    let text = String::from_utf8(again).unwrap();
    for name in ["card.rescue", "card.rescue.map"] {
        fs::remove_file(bench.path(name)).unwrap();
    }
    let mut command = bench.command(&[&SAVE[..], &["--wait", "2"]].concat());
    rack(
        &bench,
        "read-speed = \"4MB/s\"\nfaults = [{ kind = \"gone\", after = \"4MB\" }]",
    );
    let child = command.stderr(Stdio::piped()).stdout(Stdio::null()).spawn();
    let child = child.unwrap();
    // It has been opened then, and is gone a second later.
    while !bench.path("card.rescue.map").exists() {
        std::thread::sleep(Duration::from_millis(10));
    }
    bench.write("rack.toml", text.replace("holds = \"card\"\n", ""));
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(5), "{said}");
    assert!(said.contains("it goes on where it stopped"), "{said}");
    is_true_to(&bench);
}

/// The files of a rescue belong to one medium.
#[test]
fn another_medium_is_not_mixed_in() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    let place = ROOT + 99..ROOT + 100;
    rack(&bench, &faults(std::slice::from_ref(&place)));
    save(&bench).expect(5);
    let kept = (bench.read("card.rescue"), bench.read("card.rescue.map"));
    let mut other = bench.read("card.img");
    for byte in &mut other[..90 * 512] {
        *byte = byte.wrapping_add(1);
    }
    bench.write("card.img", other);
    bench.run(&SAVE).expect(3).says(&["is of another medium"]);
    assert!((bench.read("card.rescue"), bench.read("card.rescue.map")) == kept);
    bench.write("card.rescue.map", "{}");
    bench.run(&SAVE).expect(2).says(&["is no map of a rescue"]);
    bench.write("notes.txt", "mine");
    let mut mine = SAVE;
    mine[7] = "notes.txt";
    bench.run(&mine).expect(2).says(&["has no map beside it"]);
    // A dry run writes nothing, and a rescue writes what it reads.
    let dry = [&SAVE[..], &["--dry-run"]].concat();
    bench.run(&dry).expect(2);
    assert_eq!(bench.read("notes.txt"), b"mine");
}

/// A clone of a damaged card: it is made, and what is missing is told.
#[test]
fn a_damaged_card_is_cloned() {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk", "debugfs");
    let Some(bench) = card("dos") else { return };
    let (_, path, ranges) = places(&bench).swap_remove(20);
    rack(&bench, &faults(&ranges[..1]));
    let clone = [
        "--rack",
        "rack.toml",
        "clone",
        "rack:slot",
        "--to",
        "copy.img",
        "--size",
        "90MB",
        "--rescue",
        "card.rescue",
    ];
    let name = path.trim_start_matches("/log/").to_owned();
    bench
        .run(&clone)
        .expect(5)
        .says(&["is copied, except", &format!("partition 2: {path}")])
        .shows(&["done:"]);
    let differing = |(file, _): &&(String, Vec<u8>)| !file.ends_with(&format!("log/{name}"));
    let (copy, card) = (files_of(&bench, "copy.img"), files_of(&bench, "card.img"));
    let rest = |all: &BTreeSet<_>| all.iter().filter(differing).cloned().collect::<Vec<_>>();
    assert!(rest(&copy) == rest(&card) && copy != card);
}

/// A file on a file system with checksums, of which some blocks are wrong, gives real errors of a real block
/// device.
#[test]
fn real_read_errors_of_a_real_device() {
    needs!(
        "mkfs.ext4",
        "mkfs.fat",
        "mcopy",
        "sfdisk",
        "debugfs",
        "mkfs.btrfs",
        "losetup",
        "mount"
    );
    let Some(bench) = card("dos") else { return };
    let script = "set -e
        truncate -s 300M disk.img
        mkfs.btrfs -q -m single -d single disk.img || exit 7
        mkdir disk
        mount -o loop disk.img disk || exit 7
        cp card.img disk/card.img
        sync
        umount disk";
    if bench.judge("sh", &["-c", script]).unwrap().code == 7 {
        pinewrit_judges::say_skipped("no file system with checksums can be mounted");
        return;
    }
    let places = places(&bench);
    let (mut disk, card) = (bench.read("disk.img"), bench.read("card.img"));
    let mut bad = BTreeSet::new();
    for (_, path, ranges) in places.iter().step_by(9) {
        // A whole page of the card, where it lies on that disk.
        let page = ranges[0].start.next_multiple_of(4096);
        if ranges.iter().all(|range| !range.contains(&(page + 4095))) {
            continue;
        }
        let wanted = &card[page..page + 4096];
        let at = disk
            .windows(4096)
            .position(|there| there == wanted)
            .unwrap();
        disk[at + 700] ^= 0x10;
        bad.insert((path.clone(), page));
    }
    assert!(bad.len() > 2, "{bad:?}");
    bench.write("disk.img", disk);
    let script = "set -e
        mount -o loop,ro disk.img disk
        losetup -r -f --show disk/card.img";
    let device = bench.judge("sh", &["-c", script]).unwrap().expect(0).stdout;
    let device = device.trim().to_owned();
    let run = bench.run(&[
        "--json",
        "save",
        &device,
        "--to",
        "saved.img",
        "--rescue",
        "card.rescue",
    ]);
    let script = format!("losetup -d {device}; umount disk");
    bench.judge("sh", &["-c", &script]).unwrap();
    is_true_to(&bench);
    let report = report(&run.expect(5));
    let pages: BTreeSet<usize> = missing(&report)
        .iter()
        .map(|one| one.start / 4096)
        .collect();
    assert_eq!(pages, bad.iter().map(|(_, page)| page / 4096).collect());
    let hits = report["hits"].as_array().unwrap().iter();
    let hits: BTreeSet<&str> = hits.map(|hit| hit["name"].as_str().unwrap()).collect();
    assert_eq!(hits, bad.iter().map(|(path, _)| path.as_str()).collect());
}
