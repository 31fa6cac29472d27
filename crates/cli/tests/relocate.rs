//! Partitions that move with their content, and go on after a cut at any moment.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::process::Stdio;
use std::time::Duration;

use common::Bench;
use pinewrit_judges::needs;
use rstest::rstest;
use serde_json::Value;

const MIB: u64 = 1 << 20;

/// A card with a FAT16 from 4 MiB on and an ext4 from 24 MiB on, in this scheme.
fn card(scheme: &str) -> Option<Bench> {
    let bench = Bench::new();
    let script = format!(
        "set -e
        mkdir -p tree/log
        for number in $(seq 30); do
            head -c $((number * number * 211 % 190000 + 900)) /dev/urandom > tree/log/reading-$number
        done
        truncate -s 20M root.img
        mkfs.ext4 -q -d tree root.img
        truncate -s 16M boot.img
        mkfs.fat -F 16 -h 8192 boot.img > /dev/null
        for number in 11 12 13 24; do mcopy -i boot.img tree/log/reading-$number ::/; done
        truncate -s 64M card.img
        printf 'label: {scheme}\\nstart=8192, size=32768\\nstart=49152, size=40960\\n' |
            sfdisk -q card.img
        dd if=boot.img of=card.img bs=1M seek=4 conv=notrunc status=none
        dd if=root.img of=card.img bs=1M seek=24 conv=notrunc status=none"
    );
    bench.judge("sh", &["-c", &script])?.expect(0);
    Some(bench)
}

/// The table, by an independent program.
fn table(bench: &Bench) -> Vec<Value> {
    let run = bench
        .judge("sfdisk", &["--json", "card.img"])
        .unwrap()
        .expect(0);
    let table: Value = serde_json::from_str(&run.stdout).unwrap();
    table["partitiontable"]["partitions"]
        .as_array()
        .unwrap()
        .clone()
}

/// Both file systems hold what they held, where the table says that they are.
fn is_whole(bench: &Bench) {
    let table = table(bench);
    let start = |index: usize| table[index]["start"].as_u64().unwrap() * 512;
    let script = format!(
        "set -e
        rm -rf out part.img; mkdir -p out/log
        dd if=card.img of=part.img iflag=skip_bytes,count_bytes skip={} count=16M bs=512K status=none
        fsck.fat -n part.img > said || {{ cat said >&2; exit 1; }}
        mcopy -s -i part.img ::/ out/log
        for number in 11 12 13 24; do
            cmp out/log/reading-$number tree/log/reading-$number
        done
        dd if=card.img of=part.img iflag=skip_bytes,count_bytes skip={} count=20M bs=512K status=none
        e2fsck -fn part.img
        rm -rf out; mkdir out
        debugfs -R 'rdump /log out' part.img
        diff -r out/log tree/log",
        start(0),
        start(1),
    );
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
}

#[rstest]
#[case::to_the_end("dos", 2, 44 * MIB)]
#[case::a_bit_right("gpt", 2, 25 * MIB)]
#[case::a_bit_left("gpt", 2, 21 * MIB)]
#[case::far_left("dos", 1, MIB)]
#[case::one_page_right("dos", 1, 4 * MIB + 4096)]
#[case::one_sector_left("gpt", 1, 4 * MIB - 512)]
#[case::behind_the_other("dos", 1, 46 * MIB)]
fn content_moves_with_the_partition(#[case] scheme: &str, #[case] number: usize, #[case] to: u64) {
    needs!(
        "mkfs.ext4",
        "mkfs.fat",
        "mcopy",
        "sfdisk",
        "debugfs",
        "fsck.fat",
        "e2fsck"
    );
    let Some(bench) = card(scheme) else { return };
    let before = table(&bench);
    let (number_text, to_text) = (number.to_string(), to.to_string());
    let arguments = ["table", "move", "card.img", &number_text, "--to", &to_text];
    let bytes = bench.read("card.img");
    bench
        .run(&[&arguments[..], &["--dry-run"]].concat())
        .expect(0);
    assert!(bench.read("card.img") == bytes);
    bench
        .run(&[&["--json"], &arguments[..], &["--yes"]].concat())
        .expect(0);
    let after = table(&bench);
    assert_eq!(after[number - 1]["start"].as_u64().unwrap() * 512, to);
    for field in ["size", "type", "uuid", "name", "attrs"] {
        for index in 0..2 {
            assert_eq!(after[index][field], before[index][field], "{field}");
        }
    }
    is_whole(&bench);
    let card = bench.read("card.img");
    if number == 1 {
        // "BPB_HiddSec".
        let at = to as usize + 28;
        let hidden = u32::from_le_bytes(card[at..at + 4].try_into().unwrap());
        assert_eq!(u64::from(hidden) * 512, to);
    }
    assert!(!card.windows(16).any(|bytes| bytes == b"PINEWRIT MOVING\n"));
    // Nothing is found any more where it was.
    bench.run(&["table", "show", "card.img"]).expect(0);
    bench
        .run(&[&arguments[..], &["--yes"]].concat())
        .expect(2)
        .says(&["begins there already"]);
}

#[rstest]
#[case::onto_the_other(&["table", "move", "card.img", "1", "--to", "20MiB", "--yes"], 2)]
#[case::past_the_end(&["table", "move", "card.img", "2", "--to", "60MiB", "--yes"], 2)]
#[case::between_sectors(&["table", "move", "card.img", "2", "--to", "30000001", "--yes"], 2)]
#[case::nobody_asked(&["table", "move", "card.img", "2", "--to", "40MiB"], 3)]
#[case::none(&["table", "move", "card.img", "7", "--to", "40MiB"], 2)]
fn what_is_not_possible_changes_nothing(#[case] args: &[&str], #[case] code: i32) {
    needs!("mkfs.ext4", "mkfs.fat", "mcopy", "sfdisk");
    let Some(bench) = card("dos") else { return };
    let before = bench.read("card.img");
    bench.run(args).expect(code);
    assert!(bench.read("card.img") == before);
}

/// A reproducible sequence of times.
fn times(seed: u64) -> impl Iterator<Item = Duration> {
    let mut state = seed;
    std::iter::repeat_with(move || {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        Duration::from_millis((state >> 33) % 700)
    })
}

/// Killed again and again, each time at another moment; `PINEWRIT_KILLS` says how often at least.
#[rstest]
#[case::right("gpt", 25 * MIB)]
#[case::left("dos", 21 * MIB)]
#[case::by_a_page("dos", 24 * MIB - 4096)]
#[case::apart("gpt", 44 * MIB - 17408 / 512 * 512)]
fn a_move_that_is_killed_goes_on(#[case] scheme: &str, #[case] first: u64) {
    needs!(
        "mkfs.ext4",
        "mkfs.fat",
        "mcopy",
        "sfdisk",
        "debugfs",
        "fsck.fat",
        "e2fsck"
    );
    let Some(bench) = card(scheme) else { return };
    let rack = "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\nmaker = \"Larch\"\n\
         model = \"Needle\"\nserial = \"1\"\nread-speed = \"30MB/s\"\nwrite-speed = \"15MB/s\"\n";
    bench.write("rack.toml", rack);
    let least = std::env::var("PINEWRIT_KILLS").map_or(2, |count| count.parse().unwrap());
    let mut times = times(first);
    let (mut kills, mut place, mut runs) = (0, 24 * MIB, 0);
    let (mut says_so, mut is_done) = (false, true);
    while kills < least || !is_done || place != 24 * MIB || !says_so {
        let to = if place == 24 * MIB { first } else { 24 * MIB };
        let text = to.to_string();
        let arguments = [
            "--rack",
            "rack.toml",
            "table",
            "move",
            "rack:slot",
            "2",
            "--to",
            &text,
            "--yes",
        ];
        let mut command = bench.command(&arguments);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().unwrap();
        std::thread::sleep(times.next().unwrap());
        // Towards the end, it may have been faster; on a busy machine, no round may be done in time.
        if runs % 8 < 7 && child.try_wait().unwrap().is_none() {
            child.kill().unwrap();
            kills += 1;
        }
        let status = child.wait().unwrap();
        runs += 1;
        assert!(runs < 4000, "it comes to no end");
        is_done = status.code() == Some(0);
        if is_done {
            place = to;
            is_whole(&bench);
        } else {
            assert_eq!(status.code(), None, "{:?}", bench.run(&arguments).stderr);
            let other = [
                "--rack",
                "rack.toml",
                "table",
                "type",
                "rack:slot",
                "1",
                "linux",
                "--dry-run",
            ];
            let run = bench.run(&other);
            says_so |= run.code == 3 && run.stderr.contains("was interrupted");
        }
    }
    assert!(table(&bench).len() == 2);
}

/// The note on the medium is enough where the other one is lost, unless bytes were kept in it.
#[rstest]
#[case::by_a_lot(21 * MIB, 0)]
#[case::by_a_page(24 * MIB + 4096, 3)]
fn another_computer_goes_on(#[case] to: u64, #[case] code: i32) {
    needs!(
        "mkfs.ext4",
        "mkfs.fat",
        "mcopy",
        "sfdisk",
        "debugfs",
        "fsck.fat",
        "e2fsck"
    );
    let Some(bench) = card("dos") else { return };
    let text = to.to_string();
    let rack = "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\nmaker = \"Larch\"\n\
         model = \"Needle\"\nserial = \"1\"\nwrite-speed = \"4MB/s\"\n";
    bench.write("rack.toml", rack);
    let arguments = [
        "--rack",
        "rack.toml",
        "table",
        "move",
        "rack:slot",
        "2",
        "--to",
        &text,
        "--yes",
    ];
    let mut command = bench.command(&arguments);
    let mut child = command
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let is_taken_out = || table(&bench).len() == 1;
    for _ in 0..400 {
        if is_taken_out() {
            break;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    std::thread::sleep(Duration::from_millis(400));
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(is_taken_out());
    std::fs::remove_dir_all(bench.path("state")).unwrap();
    let direct = ["table", "move", "card.img", "2", "--to", &text, "--yes"];
    let run = bench.run(&direct).expect(code);
    if code == 0 {
        is_whole(&bench);
    } else {
        run.says(&["another computer"]);
    }
}
