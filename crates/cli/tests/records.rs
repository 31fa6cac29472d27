//! Records tell the truth: each card has its own receipt, and what Pinewrit changes later is in it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::FileExt;

use common::Bench;
use rstest::rstest;
use serde_json::Value;

const MIB: usize = 1 << 20;

const SETTINGS: &str = "hostname = \"larkfell-03\"\n[ssh]\npassword-login = false\n\
    [[users]]\nname = \"warden\"\nssh-keys = [\"ssh-ed25519 \
    AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp warden\"]\n";

fn flip(bench: &Bench, card: &str, at: u64) {
    let file = fs::File::options()
        .read(true)
        .write(true)
        .open(bench.path(card))
        .unwrap();
    let mut byte = [0];
    file.read_exact_at(&mut byte, at).unwrap();
    file.write_all_at(&[!byte[0]], at).unwrap();
}

fn receipts(bench: &Bench) -> usize {
    fs::read_dir(bench.path("state/pinewrit/receipts")).map_or(0, Iterator::count)
}

/// Two cards of one image, each with settings of its own: the same disk id, one receipt each.
#[test]
fn two_cards_of_one_image_have_their_own_receipts() {
    let bench = Bench::with_hut();
    for (card, name) in [("one.img", "larkfell-01"), ("two.img", "larkfell-02")] {
        bench.write("hut.toml", SETTINGS.replace("larkfell-03", name));
        bench
            .run(&[
                "write",
                "hut.img",
                "--to",
                card,
                "--size",
                "160MiB",
                "--settings",
                "hut.toml",
            ])
            .expect(0);
    }
    bench.run(&["verify", "one.img"]).expect(0);
    bench.run(&["verify", "two.img"]).expect(0);
    // Moved to another place, a card is known by what is on it.
    fs::rename(bench.path("one.img"), bench.path("moved.img")).unwrap();
    let json = bench
        .run(&["--json", "verify", "moved.img"])
        .expect(0)
        .json();
    assert_eq!(json["candidates"], 2);
    bench
        .run(&["verify", "moved.img"])
        .expect(0)
        .shows(&["of 2 receipts that match"]);
    // A card that has changed is told of, and not taken for the other one.
    flip(&bench, "moved.img", 20 * MIB as u64);
    bench.run(&["verify", "moved.img"]).expect(0);
    flip(&bench, "moved.img", 4 * MIB as u64 + 3);
    let changed = bench.run(&["verify", "moved.img"]).expect(6);
    changed.says(&[
        "has changed since it was written",
        "partition 1, the boot sector",
    ]);
}

/// The same reader, the same tag, two cards one after the other.
#[test]
fn two_cards_in_one_reader() {
    let bench = Bench::with_hut();
    let rack = |card: &str| {
        bench.write(
            "rack.toml",
            format!(
                "[[readers]]\nname = \"slot\"\nbus = \"usb\"\nholds = \"{card}\"\n\
                 [[cards]]\nname = \"one\"\nfile = \"one.card\"\nsize = \"160MiB\"\n\
                 [[cards]]\nname = \"two\"\nfile = \"two.card\"\nsize = \"160MiB\"\n"
            ),
        );
    };
    let run = |args: &[&str]| bench.run(&[&["--rack", "rack.toml"], args].concat());
    for (card, name) in [("one", "larkfell-01"), ("two", "larkfell-02")] {
        rack(card);
        bench.write("hut.toml", SETTINGS.replace("larkfell-03", name));
        let write = [
            "write",
            "hut.img",
            "--to",
            "rack:slot",
            "--yes",
            "--settings",
            "hut.toml",
        ];
        run(&write).expect(0);
    }
    for card in ["one", "two", "one"] {
        rack(card);
        run(&["verify", "rack:slot"]).expect(0);
    }
}

/// One command after the other on a written card: it verifies, and each change is named.
#[test]
fn what_is_changed_after_writing_is_in_the_receipt() {
    let bench = Bench::with_hut();
    bench.write("hut.toml", SETTINGS);
    bench.write("note.txt", "changed in the workshop\n".repeat(900));
    bench
        .run(&["write", "hut.img", "--to", "card.img", "--size", "200MiB"])
        .expect(0);
    let count = receipts(&bench);
    let changes: [(&[&str], &str); 7] = [
        (
            &["configure", "card.img", "--settings", "hut.toml", "--yes"],
            "configure",
        ),
        (
            &[
                "files",
                "put",
                "card.img",
                "root:/opt/note.txt",
                "note.txt",
                "--yes",
            ],
            "files put",
        ),
        (
            &[
                "files",
                "edit",
                "card.img",
                "1:/boot.conf",
                "--set",
                "note=1",
                "--yes",
            ],
            "files edit",
        ),
        (
            &[
                "files",
                "remove",
                "card.img",
                "root:/opt/huts/README",
                "--yes",
            ],
            "files remove",
        ),
        (&["table", "renew", "card.img", "--yes"], "table renew"),
        (
            &[
                "table", "add", "card.img", "--type", "linux", "--size", "20MiB", "--yes",
            ],
            "table add",
        ),
        (
            &[
                "format", "card.img", "3", "--as", "ext4", "--label", "data", "--yes",
            ],
            "format",
        ),
    ];
    let mut named: Vec<&str> = Vec::new();
    for (args, command) in changes {
        bench.run(args).expect(0);
        named.push(command);
        let json = bench
            .run(&["--json", "verify", "card.img"])
            .expect(0)
            .json();
        assert_eq!(json["equal"], true, "after {command}");
        let told: Vec<&str> = json["changes"]
            .as_array()
            .unwrap()
            .iter()
            .map(|change| change["command"].as_str().unwrap())
            .collect();
        assert_eq!(told, named);
        assert_eq!(receipts(&bench), count);
    }
    bench.run(&["verify", "card.img"]).expect(0).shows(&[
        "changes",
        "configure",
        "root:/opt/note.txt",
        "table renew",
    ]);
    // What changed by itself is still told, and not what was changed by us.
    let card = bench.read("card.img");
    let at = card
        .windows(23)
        .position(|w| w == b"changed in the workshop")
        .unwrap();
    flip(&bench, "card.img", at as u64 + 4096);
    bench.run(&["verify", "card.img"]).expect(6).says(&[
        "has changed",
        "last change",
        "format  partition 3",
    ]);
    let run = bench.run(&["--json", "verify", "card.img"]).expect(6);
    let owner = "\"owner\":\"/opt/note.txt\"";
    assert!(run.stdout.contains(owner), "{}", run.stdout);
}

/// What was wrong before a change is not made right by it.
#[test]
fn a_change_does_not_hide_what_was_wrong_before() {
    let bench = Bench::with_hut();
    bench.write("note.txt", "x");
    bench
        .run(&["write", "hut.img", "--to", "card.img", "--size", "160MiB"])
        .expect(0);
    // Padding behind the boot sector's code: in use, and read by nobody.
    flip(&bench, "card.img", 4 * MIB as u64 + 0x100);
    bench.run(&["verify", "card.img"]).expect(6);
    bench
        .run(&[
            "files",
            "put",
            "card.img",
            "1:/note.txt",
            "note.txt",
            "--yes",
        ])
        .expect(0);
    bench
        .run(&["verify", "card.img"])
        .expect(6)
        .says(&["partition 1"]);
}

#[test]
fn a_partition_that_is_written_anew_has_a_receipt_of_its_own() {
    let bench = Bench::with_hut();
    bench
        .run(&["write", "hut.img", "--to", "card.img", "--size", "160MiB"])
        .expect(0);
    let hut = bench.read("hut.img");
    let boot = &hut[4 * MIB..68 * MIB];
    bench.write("boot.img", boot);
    bench
        .run(&[
            "write", "boot.img", "--to", "card.img", "--into", "1", "--yes",
        ])
        .expect(0);
    let run = bench.run(&["verify", "card.img"]).expect(0);
    assert!(
        run.stdout.contains("write --into  partition 1"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("partition 1 of card.img holds"),
        "{}",
        run.stdout
    );
    flip(&bench, "card.img", 4 * MIB as u64 + 3);
    bench.run(&["verify", "card.img"]).expect(6);
    flip(&bench, "card.img", 4 * MIB as u64 + 3);
    // A later change of it is in both.
    bench.write("note.txt", "x");
    bench
        .run(&[
            "files",
            "put",
            "card.img",
            "1:/note.txt",
            "note.txt",
            "--yes",
        ])
        .expect(0);
    bench
        .run(&["verify", "card.img"])
        .expect(0)
        .shows(&["1:/note.txt"]);
}

/// An image with ten files far enough apart, and where each begins.
fn ten_files(bench: &Bench) -> Vec<u64> {
    let layout = "[medium]\nscheme = \"mbr\"\n[[partition]]\nsize = \"40MiB\"\nfilesystem = \"fat16\"\n\
                  [[partition.content]]\nfrom = \"fat\"\nto = \"/\"\n\
                  [[partition]]\nsize = \"rest\"\nfilesystem = \"ext4\"\n\
                  [[partition.content]]\nfrom = \"ext\"\nto = \"/\"\n";
    bench.write("layout.toml", layout);
    for folder in ["fat", "ext"] {
        fs::create_dir(bench.path(folder)).unwrap();
        for index in 0..5 {
            let content = format!("content of {folder}-{index} ").into_bytes();
            let mut bytes = content.repeat(5 * MIB / content.len());
            bytes.resize(5 * MIB, b'.');
            bench.write(&format!("{folder}/{folder}-{index}"), bytes);
        }
    }
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "ten.img",
            "--size",
            "100MiB",
        ])
        .expect(0);
    let image = bench.read("ten.img");
    let mut places = Vec::new();
    for folder in ["fat", "ext"] {
        for index in 0..5 {
            let wanted = format!("content of {folder}-{index} ").into_bytes();
            let found = image
                .windows(wanted.len())
                .position(|window| window == wanted);
            places.push(found.unwrap() as u64 + 2 * MIB as u64);
        }
    }
    places
}

#[rstest]
#[case::image(&["--image", "ten.img"])]
#[case::receipt(&[])]
fn a_byte_in_ten_files_is_told_as_ten_files(#[case] against: &[&str]) {
    let bench = Bench::new();
    let places = ten_files(&bench);
    bench
        .run(&["write", "ten.img", "--to", "card.img", "--size", "110MiB"])
        .expect(0);
    for place in places {
        flip(&bench, "card.img", place);
    }
    let verify = [&["verify", "card.img"], against].concat();
    let run = bench.run(&verify).expect(6);
    for folder in ["fat", "ext"] {
        let number = if folder == "fat" { 1 } else { 2 };
        for index in 0..5 {
            let words = format!("partition {number}, /{folder}-{index}");
            assert!(run.stderr.contains(&words), "no {words} in {}", run.stderr);
        }
    }
    let run = bench.run(&[&["--json"], &verify[..]].concat()).expect(6);
    let result: Value = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .find(|event| event["event"] == "result")
        .unwrap();
    let owners = result["owners"].as_array().unwrap();
    let files = owners
        .iter()
        .filter(|owner| owner["kind"] == "file")
        .count();
    // A chunk of a receipt may hold the end of one file and the start of the next.
    match against.is_empty() {
        true => assert_eq!(files, 10),
        false => assert_eq!((files, owners.len()), (10, 10)),
    }
}

#[test]
fn a_change_of_a_card_without_a_receipt_makes_none() {
    let bench = Bench::with_hut();
    bench.write("note.txt", "x");
    // Never written by us: nothing to amend, nothing made.
    bench
        .run(&[
            "files",
            "put",
            "hut.img",
            "1:/note.txt",
            "note.txt",
            "--yes",
        ])
        .expect(0);
    let before = receipts(&bench);
    bench
        .run(&["files", "remove", "hut.img", "1:/note.txt", "--yes"])
        .expect(0);
    assert_eq!(receipts(&bench), before);
}

/// No room for the amended receipt: the card is good all the same, it is told, and the old one stays.
#[test]
fn a_full_disk_under_the_receipts_loses_nothing() {
    pinewrit_judges::needs!["mount", "umount"];
    let bench = Bench::new();
    bench.write("a.img", common::small_image());
    bench.write("note.txt", "x");
    bench
        .run(&["write", "a.img", "--to", "card.img", "--size", "16MiB"])
        .expect(0);
    let folder = bench.path("state/pinewrit/receipts");
    let old = fs::read_dir(&folder).unwrap().next().unwrap().unwrap();
    let (name, json) = (old.file_name(), fs::read(old.path()).unwrap());
    let place = folder.to_str().unwrap();
    let mount = ["-t", "tmpfs", "-o", "size=64k,mode=700", "tmpfs", place];
    if bench.judge("mount", &mount).is_none_or(|run| run.code != 0) {
        return common::say_skipped("small file systems");
    }
    fs::write(folder.join(&name), &json).unwrap();
    let _ = fs::write(folder.join("filler"), vec![0; 64 << 10]);
    let put = [
        "files",
        "put",
        "card.img",
        "1:/note.txt",
        "note.txt",
        "--yes",
    ];
    let run = bench.run(&put);
    let kept = fs::read(folder.join(&name)).unwrap();
    bench.judge("umount", &[place]).unwrap().expect(0);
    run.expect(0)
        .says(&["the receipt does not have this change", "No space left"]);
    assert!(kept == json);
}
