//! `pinewrit demo`, and what the judges say of what it made.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::os::unix::fs::FileExt;

use common::Bench;

#[test]
fn the_demo_runs_and_its_card_is_sound() {
    let bench = Bench::new();
    let run = bench.run(&["demo", "--dir", "demo"]).expect(0);
    for part in [
        "step 8",
        "  runs this computer: /, /boot/efi",
        "XJGS runs this computer, and is never written",
        "host name larkfell-03, users warden",
        "larkfell-03 is as it should be in",
        "the demo is done",
    ] {
        assert!(run.stdout.contains(part), "no {part:?} in:\n{}", run.stdout);
    }
    let card = std::fs::File::open(bench.path("demo/hut-card.img")).unwrap();
    let part = |from: u64, to: u64| {
        let mut bytes = vec![0; (to - from) as usize];
        card.read_exact_at(&mut bytes, from).unwrap();
        bytes
    };
    bench.write("boot.img", part(4 << 20, 68 << 20));
    bench.write("root.img", part(68 << 20, 196 << 20));
    if let Some(judged) = bench.judge("fsck.fat", &["-n", "boot.img"]) {
        judged.expect(0);
    }
    if let Some(judged) = bench.judge("e2fsck", &["-fn", "root.img"]) {
        judged.expect(0);
    }
    if let Some(read) = bench.judge("debugfs", &["-R", "cat /etc/os-release", "root.img"]) {
        assert!(read.stdout.contains("Larkfell OS 4.2"), "{}", read.stdout);
    }
    // A second run must not write over the first.
    bench
        .run(&["demo", "--dir", "demo"])
        .expect(2)
        .says(&["is not empty"]);
}

#[test]
fn json_of_the_demo_is_json() {
    let bench = Bench::new();
    let run = bench.run(&["--json", "demo"]).expect(0);
    let last = run.json();
    assert_eq!(last["command"], "commission");
    assert_eq!(last["equal"], true);
}

/// The cards that are there to practise with fail with the demo's image, free space left out.
#[test]
fn every_bad_card_of_the_rack_fails() {
    let bench = Bench::new();
    bench.run(&["demo", "--dir", "demo"]).expect(0);
    for (card, words) in [
        ("pulled", "is gone"),
        ("worn", "has write errors"),
        ("liar", "does not hold what was written"),
        ("forgetful", "does not hold what was written"),
    ] {
        let rack = |args: &[&str]| bench.run(&[&["--rack", "demo/rack.toml"], args].concat());
        rack(&["rack", "insert", card, "hub-3"]).expect(0);
        let image = "demo/larkfell-os.img.zst";
        rack(&["write", image, "--to", "rack:hub-3", "--yes"])
            .expect(5)
            .says(&[words]);
        rack(&["rack", "remove", card]).expect(0);
    }
}

#[test]
fn help_of_a_command_is_one_text_by_either_way() {
    let bench = Bench::new();
    let by_option = bench.run(&["write", "--help"]).expect(0).stdout;
    let by_command = bench.run(&["help", "write"]).expect(0).stdout;
    assert_eq!(by_option, by_command);
    assert!(by_option.contains("--only-changes"), "{by_option}");
}
