//! FAT file systems: names of all kinds, what cannot be on them, kills, and what others think of it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(clippy::print_stdout, reason = "what the kills met is worth seeing")]

mod common;

use std::fs;
use std::time::Duration;

use common::Bench;
use pinewrit_judges::needs;
use rstest::rstest;

const FOLDERS: [&str; 9] = [
    "EFI/BOOT",
    "loader/entries",
    "device-trees",
    "my dir",
    "a.b.c",
    "microcode.d",
    "a+b",
    "Umläut",
    "日本語",
];

/// A tree whose names are not in the old form, with 500 of one stem.
fn names(bench: &Bench) {
    for folder in FOLDERS {
        fs::create_dir_all(bench.path("tree").join(folder)).unwrap();
        bench.write(&format!("tree/{folder}/hut one.txt"), "snow depth\n");
    }
    fs::create_dir_all(bench.path("tree/many")).unwrap();
    for index in 0..500 {
        bench.write(
            &format!("tree/many/reading-of-the-day-{index}.log"),
            format!("{index}\n"),
        );
    }
    bench.write(&format!("tree/{}", "x".repeat(255)), "long\n");
}

/// The first partition as `fat`, judged and copied out by others, as it should be.
fn judged(bench: &Bench, image: &str) {
    let script = format!(
        "dd if={image} of=fat bs=1M skip=1 count=100 status=none && fsck.fat -n fat && rm -rf out && mkdir out && \
         LC_ALL=C.UTF-8 mcopy -s -n -Q -i fat '::*' out && diff -r tree out"
    );
    let judged = bench.judge("sh", &["-c", &script]).unwrap().expect(0);
    let lines = judged.stdout.lines().count();
    assert_eq!(lines, 2, "{}", judged.stdout);
}

fn layout(bench: &Bench, content: &str) {
    let text = format!(
        "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"100MiB\"\ntype = \"esp\"\n\
         filesystem = \"fat32\"\nlabel = \"ESP\"\n{content}"
    );
    bench.write("layout.toml", text);
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "hut.img",
            "--size",
            "110MiB",
        ])
        .expect(0);
}

#[rstest]
#[case::build("[[partition.content]]\nfrom = \"tree\"\n")]
#[case::unpack("")]
fn names_of_all_kinds(#[case] content: &str) {
    needs!["fsck.fat", "mcopy", "tar", "diff"];
    let bench = Bench::new();
    names(&bench);
    layout(&bench, content);
    if content.is_empty() {
        let tar = ["-C", "tree", "-cf", "tree.tar", "."];
        bench.judge("tar", &tar).unwrap().expect(0);
        bench
            .run(&["files", "unpack", "hut.img", "1:/", "tree.tar", "--yes"])
            .expect(0);
    }
    judged(&bench, "hut.img");
    // One more of each, by `put`.
    for folder in FOLDERS {
        bench.write(&format!("tree/{folder}/neu.txt"), "more\n");
        let (from, to) = (format!("tree/{folder}/neu.txt"), format!("1:/{folder}/"));
        bench
            .run(&["files", "put", "hut.img", &to, &from])
            .expect(0);
    }
    judged(&bench, "hut.img");
    // In another case it is the same; characters beyond 16 bits are names as well.
    let same = [
        "files",
        "put",
        "hut.img",
        "1:/UMLÄUT/NEU.TXT",
        "tree/many/reading-of-the-day-7.log",
    ];
    bench.run(&[&same[..], &["--yes"]].concat()).expect(0);
    bench
        .run(&["files", "put", "hut.img", "1:/\u{1f3d4} hut", "layout.toml"])
        .expect(0);
    let listed = bench
        .run(&["files", "list", "hut.img", "1:/umläut"])
        .expect(0);
    assert_eq!(
        listed.stdout.matches("neu.txt").count(),
        1,
        "{}",
        listed.stdout
    );
    bench
        .run(&["files", "list", "hut.img", "1:/"])
        .shows(&["\u{1f3d4} hut", "日本語/"]);
}

#[test]
fn all_that_cannot_be_on_it_is_told_at_once() {
    let bench = Bench::new();
    fs::create_dir(bench.path("tree")).unwrap();
    for name in ["a:b", "Log", "log", "tail.", "fine"] {
        bench.write(&format!("tree/{name}"), "x");
    }
    let words = [
        "/a:b: FAT names cannot have ':'",
        "/log and /Log are the same name on FAT, which ignores case",
        "/tail.: FAT names cannot end with '.'",
    ];
    let text = "[medium]\n[[partition]]\nsize = \"20MiB\"\nfilesystem = \"fat\"\n\
                [[partition.content]]\nfrom = \"tree\"\n";
    bench.write("layout.toml", text);
    let build = ["build", "layout.toml", "--to", "hut.img", "--size", "30MiB"];
    bench.run(&build).expect(7).says(&words);
    fs::rename(bench.path("tree"), bench.path("others")).unwrap();
    fs::create_dir(bench.path("tree")).unwrap();
    bench.run(&build).expect(0);
    let before = bench.read("hut.img");
    let Some(made) = bench.judge("tar", &["-C", "others", "-cf", "tree.tar", "."]) else {
        return;
    };
    made.expect(0);
    let unpacked = bench.run(&["files", "unpack", "hut.img", "1:/", "tree.tar", "--yes"]);
    let told = unpacked.expect(4);
    let (one, other) = (
        words[1],
        "/Log and /log are the same name on FAT, which ignores case",
    );
    assert!(
        told.stderr.contains(one) || told.stderr.contains(other),
        "{}",
        told.stderr
    );
    told.says(&[words[0], words[2], "nothing was changed"]);
    assert!(bench.read("hut.img") == before);
}

#[rstest]
#[case::fat12("8MiB", "fat", "", "1")]
#[case::fat16("128MiB", "fat", "", "e")]
#[case::fat32("600MiB", "fat", "", "c")]
#[case::by_its_type("128MiB", "fat", "type = \"fat32\"\n", "c")]
fn type_and_kind_fit(
    #[case] size: &str,
    #[case] kind: &str,
    #[case] more: &str,
    #[case] code: &str,
) {
    needs!["sfdisk"];
    let bench = Bench::new();
    let text =
        format!("[medium]\n[[partition]]\nsize = \"{size}\"\nfilesystem = \"{kind}\"\n{more}");
    bench.write("layout.toml", text);
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "hut.img",
            "--size",
            "700MiB",
        ])
        .expect(0);
    let told = bench.judge("sfdisk", &["-d", "hut.img"]).unwrap().expect(0);
    assert!(
        told.stdout.contains(&format!("type={code}\n")),
        "{}",
        told.stdout
    );
}

#[test]
fn a_type_that_names_another_width_is_a_mistake() {
    let bench = Bench::new();
    let text =
        "[medium]\n[[partition]]\nsize = \"64MiB\"\nfilesystem = \"fat16\"\ntype = \"fat32\"\n";
    bench.write("layout.toml", text);
    bench
        .run(&["build", "layout.toml", "--to", "hut.img", "--size", "70MiB"])
        .expect(7)
        .says(&[
            "a fat16 in a partition whose type says fat32",
            "type = \"fat16\"",
        ]);
}

#[test]
fn times_are_those_of_the_zone_that_is_told() {
    let bench = Bench::with_hut();
    bench.write("new", "snow depth\n");
    let put = [
        "files",
        "put",
        "hut.img",
        "boot:/new",
        "new",
        "--fat-zone",
        "+14:00",
    ];
    bench.run(&put).expect(0);
    let listed = |zone: &str| {
        let list = [
            "files",
            "list",
            "hut.img",
            "boot:/",
            "--json",
            "--fat-zone",
            zone,
        ];
        let run = bench.run(&list).expect(0);
        let line = run
            .stdout
            .lines()
            .find(|line| line.contains("/new\""))
            .unwrap();
        let found: serde_json::Value = serde_json::from_str(line).unwrap();
        found["modified"].as_i64().unwrap()
    };
    assert_eq!(listed("UTC") - listed("+14:00"), 14 * 3600);
    bench
        .run(&[
            "files",
            "list",
            "hut.img",
            "boot:/",
            "--fat-zone",
            "Larkfell",
        ])
        .expect(2)
        .says(&["a zone such as Europe/Vienna"]);
}

/// Whatever the moment: the next command makes the medium what it was, or all of it is there. As many kills as
/// `PINEWRIT_KILLS` says.
#[test]
fn a_change_killed_at_any_moment_leaves_a_sound_fat() {
    needs!["fsck.fat", "mkfs.fat"];
    let bench = Bench::new();
    let made = bench.judge(
        "sh",
        &[
            "-c",
            "truncate -s 6M card.img && mkfs.fat -F 16 -s 1 card.img",
        ],
    );
    made.unwrap().expect(0);
    fs::create_dir(bench.path("tree")).unwrap();
    for index in 0..60 {
        bench.write(
            &format!("tree/reading of the day {index}"),
            vec![b'x'; index * 700],
        );
    }
    bench
        .judge("tar", &["-cf", "tree.tar", "tree"])
        .unwrap()
        .expect(0);
    let image = bench.read("card.img");
    let rack = |clock: &str| {
        bench.write(
            "rack.toml",
            format!(
                "clock = \"{clock}\"\n[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n[[cards]]\n\
                 name = \"card\"\nfile = \"card.img\"\nsize = {}\nserial = \"1\"\nlatency-ms = 10\n",
                image.len()
            ),
        );
    };
    let unpack = [
        "--rack",
        "rack.toml",
        "files",
        "unpack",
        "rack:slot",
        "whole:/",
        "tree.tar",
        "--yes",
    ];
    let nothing = [
        "--rack",
        "rack.toml",
        "files",
        "remove",
        "rack:slot",
        "whole:/none",
        "--yes",
    ];
    let kills = std::env::var("PINEWRIT_KILLS")
        .ok()
        .and_then(|text| text.parse().ok());
    let kills: u64 = kills.unwrap_or(8);
    let mut halfway = 0;
    for step in 0..kills {
        bench.write("card.img", &image);
        rack("real");
        let mut child = bench.command(&unpack).spawn().unwrap();
        while bench.read("card.img") == image && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(Duration::from_millis(step * 160 / kills));
        child.kill().unwrap();
        child.wait().unwrap();
        rack("instant");
        let run = bench.run(&nothing);
        let is_back = run.stderr.contains("it was rolled back");
        halfway += u64::from(is_back);
        assert_eq!(
            bench.read("card.img") == image,
            is_back,
            "{step}: {}",
            run.stderr
        );
        let judged = bench
            .judge("fsck.fat", &["-n", "card.img"])
            .unwrap()
            .expect(0);
        assert_eq!(
            judged.stdout.lines().count(),
            2,
            "{step}: {}",
            judged.stdout
        );
        let listed = bench.run(&["files", "list", "card.img", "whole:/tree"]);
        let there = listed.stdout.matches("reading of the day").count();
        assert_eq!(there, if is_back { 0 } else { 60 }, "{step}");
    }
    println!("{halfway} of {kills} kills met a change on its way");
    assert!(halfway > 0, "no kill met a change that was on its way");
}

/// A flag that a pulled card has is not wiped away by a change.
#[test]
fn a_fat_that_was_not_unmounted_is_not_changed() {
    needs!["mkfs.fat"];
    let bench = Bench::new();
    let script = "truncate -s 20M card.img && mkfs.fat -F 16 card.img";
    bench.judge("sh", &["-c", script]).unwrap().expect(0);
    let mut image = bench.read("card.img");
    // `BS_Reserved1` of FAT12 and FAT16.
    image[37] |= 1;
    bench.write("card.img", &image);
    bench.write("new", "snow depth\n");
    bench
        .run(&["files", "put", "card.img", "whole:/new", "new"])
        .expect(5)
        .says(&[
            "was not unmounted cleanly, or has errors",
            "nothing was changed",
            "pinewrit check card.img --settle",
            "shut it down",
        ]);
    assert!(bench.read("card.img") == image);
}
