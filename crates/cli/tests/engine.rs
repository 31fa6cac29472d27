//! The write engine through the program: several media, receipts, going on, growing, naming files.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};

use common::{Bench, Loop, Run, has_no_table, small_image};
use rstest::rstest;
use serde_json::Value;

const MIB: usize = 1 << 20;

/// A folder with an image, and a state folder of its own.
fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench
}

fn receipts(bench: &Bench) -> Vec<PathBuf> {
    let folder = bench.path("state/pinewrit/receipts");
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|entry| entry.path()).collect()
}

fn card(bench: &Bench, name: &str, size: usize, fill: u8) {
    bench.write(name, vec![fill; size]);
}

#[test]
fn several_media_at_once_each_with_its_own_end() {
    let bench = bench();
    bench.write(
        "rack.toml",
        "clock = \"instant\"\n\
         [[readers]]\nname = \"one\"\nbus = \"sd\"\nholds = \"a\"\n\
         [[readers]]\nname = \"two\"\nbus = \"sd\"\nholds = \"b\"\n\
         [[readers]]\nname = \"three\"\nholds = \"c\"\n\
         [[cards]]\nname = \"a\"\nfile = \"a.img\"\nsize = \"32MiB\"\nserial = \"1\"\n\
         [[cards]]\nname = \"b\"\nfile = \"b.img\"\nsize = \"32MiB\"\nserial = \"2\"\n\
         faults = [{ kind = \"write-error\", at = \"10MB\", len = 512 }]\n\
         [[cards]]\nname = \"c\"\nfile = \"c.img\"\nsize = \"16MiB\"\nserial = \"3\"\n",
    );
    let args = [
        "--rack",
        "rack.toml",
        "--json",
        "write",
        "hut.img",
        "--yes",
        "--to",
        "rack:one",
        "--to",
        "rack:two",
        "--to",
        "rack:three",
    ];
    let run = bench.run(&args).expect(5);
    let events: Vec<Value> = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    let done: Vec<&str> = events
        .iter()
        .filter(|event| event["event"] == "result")
        .map(|event| event["medium"].as_str().unwrap())
        .collect();
    assert_eq!(done, ["rack:one", "rack:three"]);
    run.says(&["has write errors", "no partition table"]);
    let image = small_image();
    for name in ["a.img", "c.img"] {
        let card = bench.read(name);
        assert!(card[..4 * MIB] == image[..4 * MIB] && card[9 * MIB..14 * MIB] == image[9 * MIB..]);
    }
    assert!(has_no_table(&bench.read("b.img")));
    assert_eq!(receipts(&bench).len(), 2);
}

#[test]
fn what_cannot_be_for_several() {
    let bench = bench();
    card(&bench, "a.img", 16 * MIB, 0);
    card(&bench, "b.img", 16 * MIB, 0);
    let both = [
        "write", "hut.img", "--to", "a.img", "--to", "b.img", "--yes",
    ];
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    bench
        .run(&[&both[..], &["--settings", "hut.toml"]].concat())
        .expect(2)
        .says(&["2 media would all have the host name larkfell-03"]);
    bench
        .run(&[
            "write", "hut.img", "--to", "a.img", "--to", "./a.img", "--yes",
        ])
        .expect(2)
        .says(&["is named twice"]);
    bench.run(&both).expect(0);
}

#[test]
fn a_receipt_finds_its_medium_again() {
    let bench = bench();
    card(&bench, "card.img", 20 * MIB, 0x55);
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    let args = [
        "write",
        "hut.img",
        "--to",
        "card.img",
        "--settings",
        "hut.toml",
    ];
    bench
        .run(&[&args[..], &["--yes", "--receipt", "own.json"]].concat())
        .expect(0);
    assert_eq!(receipts(&bench).len(), 1);
    let receipt: Value = serde_json::from_slice(&bench.read("own.json")).unwrap();
    assert_eq!(receipt["format"], "pinewrit-receipt");
    assert_eq!(receipt["settings"]["host_name"], "larkfell-03");
    assert!(receipt["bytes"]["free"].as_u64().unwrap() > 7 << 20);

    // A copy under another name is the same medium.
    fs::copy(bench.path("card.img"), bench.path("copy.img")).unwrap();
    let run = bench.run(&["verify", "copy.img"]).expect(0);
    assert!(
        run.stdout
            .starts_with("equal: copy.img holds what was written"),
        "{}",
        run.stdout
    );
    let json = bench
        .run(&["--json", "verify", "copy.img", "--receipt", "own.json"])
        .expect(0)
        .json();
    assert_eq!(json["equal"], true);

    // Free space is nobody's business, a byte in use is.
    let file = fs::File::options()
        .write(true)
        .open(bench.path("copy.img"))
        .unwrap();
    file.write_all_at(b"other", 7 << 20).unwrap();
    bench.run(&["verify", "copy.img"]).expect(0);
    file.write_all_at(b"other", 10 << 20).unwrap();
    bench.run(&["verify", "copy.img"]).expect(6).says(&[
        "copy.img has changed since it was written",
        "1 of 3 chunks",
        "partition 2, ",
    ]);
}

#[test]
fn receipts_that_do_not_belong() {
    let bench = bench();
    card(&bench, "card.img", 16 * MIB, 0);
    bench
        .run(&[
            "write",
            "hut.img",
            "--to",
            "card.img",
            "--yes",
            "--receipt",
            "own.json",
        ])
        .expect(0);
    // Another medium, by the identifiers on it.
    let mut other = small_image();
    other[0x1b8] ^= 0xff;
    other[10 * MIB] ^= 1;
    bench.write("other.img", [other, vec![0; 2 * MIB]].concat());
    bench
        .run(&["verify", "other.img", "--receipt", "own.json"])
        .expect(6)
        .says(&[
            "this receipt does not belong to other.img",
            "hut.img on ",
            "/card.img, ",
        ]);
    bench
        .run(&["verify", "other.img"])
        .expect(2)
        .says(&["there is no receipt for other.img", "--image"]);
    // One that was changed.
    let text = String::from_utf8(bench.read("own.json")).unwrap();
    bench.write(
        "changed.json",
        text.replace(
            "\"image\":{\"name\":\"hut.img\"",
            "\"image\":{\"name\":\"hat.img\"",
        ),
    );
    bench
        .run(&["verify", "card.img", "--receipt", "changed.json"])
        .expect(4)
        .says(&["it was changed since it was written"]);
    bench.write("later.json", text.replace("\"version\":1", "\"version\":9"));
    bench
        .run(&["verify", "card.img", "--receipt", "later.json"])
        .expect(4)
        .says(&["version 9"]);
    // Right by its own digest, and yet of nothing that can be compared.
    let mut bare: Value = serde_json::from_str(&text).unwrap();
    for chunks in [
        serde_json::json!([]),
        serde_json::json!([{ "index": 0, "used": [[9, 4]], "blake3": "0".repeat(64) }]),
        serde_json::json!([{ "index": 0, "used": [[0, 4096]], "blake3": "none" }]),
    ] {
        let mut sealed: pinewrit_core::receipt::Receipt =
            serde_json::from_value(bare.clone()).unwrap();
        sealed.chunks = serde_json::from_value(chunks).unwrap();
        bench.write("hollow.json", sealed.to_json().unwrap());
        bench
            .run(&["verify", "card.img", "--receipt", "hollow.json"])
            .expect(4)
            .says(&["its chunks are invalid"]);
    }
    bare["chunks"] = Value::Null;
    bench.write("null.json", bare.to_string());
    bench
        .run(&["verify", "card.img", "--receipt", "null.json"])
        .expect(4)
        .says(&["cannot be used"]);
    bench.write("none.json", "{}");
    bench
        .run(&["verify", "card.img", "--receipt", "none.json"])
        .expect(4)
        .says(&["cannot be used"]);
}

#[test]
fn a_state_folder_that_cannot_be_written_stops_nothing() {
    let bench = bench();
    card(&bench, "card.img", 16 * MIB, 0);
    fs::remove_dir_all(bench.path("state")).unwrap_or_default();
    bench.write("state", "a file where the folder should be");
    let run = bench
        .run(&["write", "hut.img", "--to", "card.img", "--yes"])
        .expect(0);
    run.says(&[
        "an interrupted write would not be remembered",
        "note: no receipt in",
    ]);
    assert!(bench.read("card.img")[9 * MIB..14 * MIB] == small_image()[9 * MIB..]);
}

/// A card that takes some seconds, half written and then interrupted.
fn interrupted() -> Bench {
    let bench = bench();
    let noise: Vec<u8> = (0..40 * MIB as u64).map(|i| ((i * i) >> 9) as u8).collect();
    bench.write("noise.img", &noise);
    bench.write(
        "rack.toml",
        "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\nserial = \"1\"\n\
         write-speed = \"12MB/s\"\n",
    );
    let mut child = bench
        .command(&[
            "--rack",
            "rack.toml",
            "write",
            "noise.img",
            "--to",
            "rack:slot",
            "--yes",
            "--as-it-is",
        ])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(2200));
    let pid = rustix::process::Pid::from_child(&child);
    let asked = Instant::now();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(
        asked.elapsed() < Duration::from_secs(2),
        "{:?}",
        asked.elapsed()
    );
    bench
}

#[test]
fn an_interrupted_write_is_remembered_and_goes_on() {
    let bench = interrupted();
    let rack = |args: &[&str]| -> Run { bench.run(&[&["--rack", "rack.toml"], args].concat()) };
    let listed = rack(&["media"]).expect(0);
    assert!(
        listed.stdout.contains("noise.img was interrupted:"),
        "{}",
        listed.stdout
    );
    let looked = rack(&["inspect", "rack:slot"]).expect(0);
    assert!(
        looked.stdout.contains("was interrupted"),
        "{}",
        looked.stdout
    );
    let args = [
        "write",
        "noise.img",
        "--to",
        "rack:slot",
        "--yes",
        "--as-it-is",
    ];
    rack(&[&args[..], &["--dry-run"]].concat())
        .expect(0)
        .says(&["started", "noise.img was interrupted"]);
    let json = rack(&[&["--json"], &args[..], &["--only-changes"]].concat()).expect(0);
    let result: Value = serde_json::from_str(json.stdout.lines().last().unwrap()).unwrap();
    let kept = result["kept_bytes"].as_u64().unwrap();
    assert!(kept >= 8 << 20, "{result}");
    assert_eq!(kept + result["written_bytes"].as_u64().unwrap(), 40 << 20);
    assert!(bench.read("card.img")[..40 * MIB] == bench.read("noise.img"));
    let listed = rack(&["media"]).expect(0);
    assert!(
        !listed.stdout.contains("was interrupted"),
        "{}",
        listed.stdout
    );
}

#[test]
fn a_new_release_writes_what_differs() {
    let bench = bench();
    card(&bench, "card.img", 16 * MIB, 0);
    bench
        .run(&["write", "hut.img", "--to", "card.img", "--yes"])
        .expect(0);
    let mut newer = small_image();
    newer[13 * MIB] ^= 1;
    bench.write("newer.img", newer);
    let run = bench
        .run(&[
            "write",
            "newer.img",
            "--to",
            "card.img",
            "--yes",
            "--only-changes",
        ])
        .expect(0);
    assert!(
        run.stdout.contains("written   3.20 MB") && run.stdout.contains("skipped   3.15 MB"),
        "{}",
        run.stdout
    );
    bench
        .run(&["verify", "card.img", "--image", "newer.img"])
        .expect(0);
}

#[rstest]
#[case::mbr("dos")]
#[case::gpt("gpt")]
fn the_last_partition_is_grown(#[case] label: &str) {
    let bench = bench();
    fs::File::create(bench.path("image"))
        .unwrap()
        .set_len(24 << 20)
        .unwrap();
    let script = format!(
        "printf 'label: {label}\\nstart=2048, size=8192, type=linux\\nstart=10240, size=36864, type=linux\\n' | sfdisk -q image"
    );
    let Some(made) = bench.judge("sh", &["-c", &script]) else {
        return;
    };
    made.expect(0);
    let offset = "offset=5242880";
    let make = ["-q", "-F", "-t", "ext4", "-E", offset, "image", "18432k"];
    bench.judge("mke2fs", &make).unwrap().expect(0);
    card(&bench, "card.img", 50 * MIB + 512, 0x33);
    let run = bench
        .run(&["write", "image", "--to", "card.img", "--yes", "--grow"])
        .expect(0);
    run.shows(&[
        "partition 2 from 18.87 MB to",
        ", with its ext4 file system",
    ]);
    let judged = bench.judge("e2fsck", &["-fn", &format!("card.img?{offset}")]);
    let judged = judged.unwrap().expect(0);
    let blocks = if label == "gpt" { 49 - 5 } else { 50 - 5 } * 1024;
    judged.shows(&[&format!("/{blocks} blocks")]);
    let judged = bench.judge("sfdisk", &["--verify", "card.img"]).unwrap();
    assert!(judged.code == 0, "{} {}", judged.stdout, judged.stderr);
    let dump = bench.judge("sfdisk", &["-d", "card.img"]).unwrap();
    let sectors = if label == "gpt" { 49 } else { 50 } * 2048 - 10240;
    assert!(
        dump.stdout
            .replace(' ', "")
            .contains(&format!("size={sectors}")),
        "{}",
        dump.stdout
    );
    let json = bench
        .run(&["--json", "inspect", "card.img"])
        .expect(0)
        .json();
    assert_eq!(json["problems"].as_array().unwrap().len(), 0, "{json}");
    bench.run(&["verify", "card.img"]).expect(0);
}

#[test]
fn a_logical_last_partition_is_grown_with_the_one_around_it() {
    let bench = bench();
    let file = fs::File::create(bench.path("image")).unwrap();
    file.set_len(24 << 20).unwrap();
    let rows = "start=2048, size=8192, type=83\\nstart=10240, size=36864, type=5\\nstart=12288, size=4096, type=83";
    let script = format!("printf 'label: dos\\n{rows}\\n' | sfdisk -q image");
    let Some(made) = bench.judge("sh", &["-c", &script]) else {
        return;
    };
    made.expect(0);
    card(&bench, "card.img", 50 * MIB, 0x33);
    bench
        .run(&["write", "image", "--to", "card.img", "--yes", "--grow"])
        .expect(0)
        .shows(&["partition 5 from 2.10 MB to 46.14 MB"]);
    let dump = bench
        .judge("sfdisk", &["-d", "card.img"])
        .unwrap()
        .expect(0);
    let dump = dump.stdout.replace(' ', "");
    for row in [
        "start=10240,size=92160,type=5",
        "start=12288,size=90112,type=83",
    ] {
        assert!(dump.contains(row), "{dump}");
    }
}

#[test]
fn what_cannot_be_grown_is_told_before() {
    let bench = bench();
    let file = fs::File::create(bench.path("image")).unwrap();
    file.set_len(24 << 20).unwrap();
    card(&bench, "card.img", 50 * MIB, 0x33);
    bench
        .run(&[
            "write",
            "image",
            "--to",
            "card.img",
            "--yes",
            "--grow",
            "--as-it-is",
        ])
        .expect(2)
        .says(&["has no partition that can grow", "nothing was written"]);
    assert!(bench.read("card.img").iter().all(|byte| *byte == 0x33));
}

/// An image with a FAT and an ext4 partition, each with a file; where the files' first bytes are.
fn image_with_files(bench: &Bench) -> Option<[(usize, &'static str); 2]> {
    let script = "set -e\n\
        mkdir -p tree/etc/huts; head -c 900000 /dev/zero | tr '\\0' 'k' > kernel; tr '\\0' 'c' < /dev/zero | head -c 700000 > tree/etc/huts/three.conf\n\
        truncate -s 16M fat; mkfs.fat -F 16 fat > /dev/null; mmd -i fat ::/boot; mcopy -i fat kernel ::/boot/kernel-of-the-hut\n\
        truncate -s 24M ext; mke2fs -q -t ext4 -d tree ext\n\
        truncate -s 42M image; printf 'label: dos\\nstart=2048, size=32768, type=c\\nstart=34816, size=49152, type=83\\n' | sfdisk -q image\n\
        dd if=fat of=image bs=1M seek=1 conv=notrunc status=none; dd if=ext of=image bs=1M seek=17 conv=notrunc status=none\n";
    for program in ["mkfs.fat", "mcopy", "mke2fs", "sfdisk"] {
        if !common::has(program) {
            return None;
        }
    }
    bench.judge("sh", &["-c", script])?.expect(0);
    let image = bench.read("image");
    let find = |byte: u8| {
        image
            .windows(4096)
            .step_by(512)
            .position(|part| part.iter().all(|b| *b == byte))
            .unwrap()
            * 512
    };
    Some([
        (find(b'k') + 100, "partition 1, /boot/kernel-of-the-hut"),
        (find(b'c') + 100, "partition 2, /etc/huts/three.conf"),
    ])
}

#[rstest]
fn a_difference_names_the_file(#[values(0, 1)] which: usize) {
    let bench = bench();
    let Some(places) = image_with_files(&bench) else {
        return;
    };
    let (at, place) = places[which];
    bench.write(
        "rack.toml",
        format!(
            "clock = \"instant\"\n[[readers]]\nname = \"slot\"\nholds = \"card\"\n\
             [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\n\
             faults = [{{ kind = \"flipped-bit\", at = {at} }}]\n"
        ),
    );
    let args = [
        "--rack",
        "rack.toml",
        "write",
        "image",
        "--to",
        "rack:slot",
        "--yes",
    ];
    let words = ["does not hold what was written", "wrong on the medium"];
    let run = bench.run(&args).expect(5).says(&words);
    run.says(&[place, "1 byte there"]);
    // The same by comparing a good card that was changed later.
    card(&bench, "good.img", 64 * MIB, 0);
    bench
        .run(&["write", "image", "--to", "good.img", "--yes"])
        .expect(0);
    let file = fs::File::options()
        .write(true)
        .open(bench.path("good.img"))
        .unwrap();
    file.write_all_at(b"!", at as u64).unwrap();
    bench
        .run(&["verify", "good.img", "--image", "image"])
        .expect(6)
        .says(&[place]);
}

#[test]
fn every_byte_is_every_byte() {
    let bench = bench();
    for (options, equal) in [
        (&["--every-byte"][..], true),
        (&[], false),
        (&["--clear-free"], true),
    ] {
        card(&bench, "card.img", 14 * MIB, 0x55);
        let args = ["write", "hut.img", "--to", "card.img", "--yes"];
        bench.run(&[&args[..], options].concat()).expect(0);
        // A card file that is cleared holds zeros where the image has free space.
        assert_eq!(
            bench.read("card.img") == small_image(),
            equal,
            "{options:?}"
        );
        bench
            .run(&["verify", "card.img", "--image", "hut.img"])
            .expect(0);
    }
}

#[test]
fn a_page_about_the_write() {
    let bench = bench();
    card(&bench, "card.img", 20 * MIB, 0);
    let args = [
        "write",
        "hut.img",
        "--to",
        "card.img",
        "--yes",
        "--report",
        "page.html",
    ];
    bench.run(&args).expect(0).says(&["report in page.html"]);
    let page = String::from_utf8(bench.read("page.html")).unwrap();
    assert_eq!(page.matches("<svg").count(), 3);
    for part in ["hut.img on card.img", "HUT BOOT", "Slow spots", "14.68 MB"] {
        assert!(page.contains(part), "no {part}");
    }
    assert!(!page.contains("http://") || page.matches("http://").all(|_| page.contains("w3.org")));
    assert!(!page.contains("<script"));
}

#[test]
fn a_device_is_written_by_its_map() {
    let bench = bench();
    card(&bench, "behind.img", 32 * MIB, 0x55);
    let Some(device) = Loop::over(&bench.path("behind.img"), &[]) else {
        return;
    };
    let run = bench
        .run(&["write", "hut.img", "--to", &device.path, "--yes", "-v"])
        .expect(0);
    assert!(
        run.stdout.contains("of free space skipped"),
        "{}",
        run.stdout
    );
    let tag = run.stdout.split_whitespace().nth(1).unwrap().to_owned();
    bench.run(&["verify", &tag]).expect(0);
    let behind = bench.read("behind.img");
    assert!(behind[6 * MIB..8 * MIB].iter().all(|byte| *byte == 0x55));
    assert!(behind[9 * MIB..14 * MIB] == small_image()[9 * MIB..]);
}
