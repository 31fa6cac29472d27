//! Whether media are what they say: size, speed, and that they are left as they were.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::{BufRead, BufReader};
use std::process::Stdio;
use std::time::Duration;

use common::{Bench, Run};
use pinewrit_host::Rack;
use rstest::rstest;
use serde_json::Value;

/// A rack with a card; `more` is added to it.
fn bench(clock: &str, size: &str, more: &str) -> Bench {
    let bench = Bench::new();
    bench.write(
        "rack.toml",
        format!(
            "clock = \"{clock}\"\nstate = \"state\"\n\
             [[readers]]\nname = \"slot\"\nbus = \"usb\"\nspeed = 480\nholds = \"card\"\n\
             [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"{size}\"\nserial = \"1\"\n\
             maker = \"Larch\"\nmodel = \"Needle\"\n{more}\n"
        ),
    );
    bench
}

fn run(bench: &Bench, args: &[&str]) -> Run {
    bench.run(&[&["--rack", "rack.toml"], args].concat())
}

fn measure(bench: &Bench, options: &[&str]) -> Run {
    run(bench, &[&["measure", "rack:slot"], options].concat())
}

fn tag(bench: &Bench) -> String {
    let json = run(bench, &["--json", "media"]).expect(0).json();
    json["media"][0]["tag"].as_str().unwrap().to_owned()
}

fn pattern(len: usize) -> Vec<u8> {
    (0..len).map(|place| (place / 5 % 251) as u8).collect()
}

#[test]
fn an_honest_card_is_told_so_and_left_as_it_was() {
    let bench = bench("instant", "64MB", "");
    bench.write("card.img", pattern(64_000_000));
    let found = measure(&bench, &[]).expect(0);
    found.shows(&[
        "done:",
        "all 64.00 MB are there",
        "reads",
        "writes",
        "all put back",
    ]);
    assert!(bench.read("card.img") == pattern(64_000_000));
    let recorded = run(&bench, &["ledger", "list"]);
    let events = run(&bench, &["--json", "ledger", "show", &tag(&bench)]);
    assert!(recorded.code == 0 || events.code == 0);
}

#[rstest]
#[case::wraps(
    "smaller-than-told\", real = \"7948206080\", beyond = \"wraps",
    "overwrites its start"
)]
#[case::loses("smaller-than-told\", real = \"16GiB", "is lost, without an error")]
#[case::fails(
    "smaller-than-told\", real = \"31914983424\", beyond = \"errors",
    "past its end fails"
)]
fn a_card_that_is_smaller_is_found_for_little(#[case] fault: &str, #[case] told: &str) {
    let faults = format!("faults = [{{ kind = \"{fault}\" }}]");
    let bench = bench("instant", "64GB", &faults);
    let found = run(&bench, &["--json", "measure", "rack:slot", "--size"]).expect(5);
    let lines = found.stdout.lines();
    let mut lines = lines.map(|line| serde_json::from_str::<Value>(line).unwrap());
    let line = lines.find(|line| line["event"] == "result").unwrap();
    assert_eq!(line["size"]["verdict"], "smaller");
    assert!(
        line["size"]["written"].as_u64().unwrap() <= 200_000_000,
        "{line}"
    );
    measure(&bench, &["--size"])
        .expect(5)
        .says(&[told, "not 64.00 GB", "--use-real"]);
}

#[test]
fn a_table_that_uses_only_what_is_there() {
    let faults =
        "faults = [{ kind = \"smaller-than-told\", real = \"40MiB\", beyond = \"wraps\" }]";
    let bench = bench("instant", "2GB", faults);
    let tag = tag(&bench);
    let refused = measure(&bench, &["--size", "--use-real"]).expect(3);
    refused.says(&["would be lost", &format!("--lose {tag}")]);
    let done = measure(&bench, &["--size", "--use-real", "--lose", &tag]).expect(0);
    done.shows(&["one partition of 40.89 MB"]);
    let shown = run(&bench, &["--json", "table", "show", "rack:slot"])
        .expect(0)
        .json();
    let partition = &shown["after"]["partitions"][0];
    let end = partition["start"].as_u64().unwrap() + partition["size"].as_u64().unwrap();
    assert_eq!(end, 40 << 20);
}

/// Takes the card out and puts it back when that is asked for.
fn replug(bench: &Bench, more: &[&str]) -> (i32, Vec<Value>) {
    let mut command = bench.command(
        &[
            &[
                "--rack",
                "rack.toml",
                "--json",
                "measure",
                "rack:slot",
                "--replug",
            ],
            more,
        ]
        .concat(),
    );
    let mut child = command
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let out = BufReader::new(child.stdout.take().unwrap());
    let mut lines = Vec::new();
    for line in out.lines() {
        let line: Value = serde_json::from_str(&line.unwrap()).unwrap();
        if line["event"] == "replug" {
            let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
            match line["what"].as_str().unwrap().starts_with("take") {
                true => drop(rack.remove("card").unwrap()),
                false => rack.insert("card", "slot").unwrap(),
            }
        }
        lines.push(line);
    }
    (child.wait().unwrap().code().unwrap(), lines)
}

#[rstest]
#[case::honest("", 0, "real")]
#[case::forgets("faults = [{ kind = \"forgets\", bytes = \"3MB\" }]", 5, "forgets")]
#[case::loses(
    "faults = [{ kind = \"smaller-than-told\", real = \"40MB\" }]",
    5,
    "smaller"
)]
fn a_card_without_power_shows_what_it_has(
    #[case] faults: &str,
    #[case] code: i32,
    #[case] verdict: &str,
) {
    let bench = bench("instant", "64MB", faults);
    bench.write("card.img", pattern(64_000_000));
    let (found, lines) = replug(&bench, &["--size"]);
    assert_eq!(found, code, "{lines:#?}");
    let line = lines.iter().find(|line| line["event"] == "result").unwrap();
    assert_eq!(line["size"]["verdict"], verdict);
    assert_eq!(line["size"]["repowered"], true);
    assert!(bench.read("card.img") == pattern(64_000_000));
}

/// Killed at any moment: the next command that changes the medium puts back what was there.
#[test]
fn a_measurement_that_is_killed_is_put_back() {
    let speeds = "read-speed = \"200MB/s\"\nwrite-speed = \"60MB/s\"";
    let mut told = 0;
    for (nth, wait) in [60, 150, 250, 400, 600, 900, 1300, 1900, 2600]
        .into_iter()
        .enumerate()
    {
        let bench = bench("real", "64MB", speeds);
        bench.write("card.img", pattern(64_000_000));
        let what = if nth % 2 == 0 { "--size" } else { "--speed" };
        let args = ["--rack", "rack.toml", "measure", "rack:slot", what];
        let mut child = bench
            .command(&args)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        child.kill().unwrap();
        child.wait().unwrap();
        let seen = run(&bench, &["inspect", "rack:slot"]);
        told += u32::from(seen.stderr.contains("a measurement of"));
        run(&bench, &["check", "rack:slot", "--settle", "--yes"]);
        assert!(
            bench.read("card.img") == pattern(64_000_000),
            "after {wait} ms"
        );
    }
    assert!(told > 0);
}

#[test]
fn all_of_a_card_is_looked_at_only_if_it_may_be_lost() {
    let faults = "faults = [{ kind = \"lost-writes\", at = \"30MB\", len = 4096 }]";
    let bench = bench("instant", "64MB", faults);
    bench.write("card.img", pattern(64_000_000));
    let tag = tag(&bench);
    measure(&bench, &["--full"])
        .expect(3)
        .says(&["nobody to ask"]);
    measure(&bench, &["--full", "--lose", "AAAA"])
        .expect(3)
        .says(&["nothing was changed"]);
    assert!(bench.read("card.img") == pattern(64_000_000));
    // The fast look cannot see a single place.
    measure(&bench, &["--size"]).expect(0);
    let found = measure(&bench, &["--full", "--lose", &tag]).expect(5);
    found.says(&[
        "does not keep what is written",
        "1 place, the first at 30.00 MB",
    ]);
}

#[test]
fn ratings_are_compared_with_what_was_measured() {
    let speeds = "read-speed = \"40MB/s\"\nwrite-speed = \"5MB/s\"";
    let bench = bench("real", "16MB", speeds);
    let found = measure(&bench, &["--speed", "--rated", "C2,C10,100x"]).expect(6);
    found.shows(&["C2 asks", "kept", "100x asks"]).says(&[
        "is slower",
        "C10 asks 10.00 MB/s writing",
        "is below",
    ]);
    measure(&bench, &["--rated", "fast"])
        .expect(2)
        .says(&["is no rating", "V30"]);
    measure(&bench, &["--read-only", "--rated", "C10"])
        .expect(0)
        .shows(&["not measured"]);
}

#[test]
fn several_media_are_compared_on_a_page() {
    let bench = bench("instant", "64MB", "");
    bench.write("other.img", vec![0; 32 << 20]);
    let args = [
        "measure",
        "rack:slot",
        "other.img",
        "--report",
        "cards.html",
    ];
    let found = run(&bench, &args).expect(0);
    found.shows(&["medium", "reads/s", "other.img", "Larch Needle"]);
    let page = String::from_utf8(bench.read("cards.html")).unwrap();
    assert!(page.contains("2 media, measured") && page.contains("<svg"));
    measure(&bench, &["--report", "cards.img.xz"]).expect(2);
    run(&bench, &["measure", "other.img", "--replug"])
        .expect(2)
        .says(&["no power to cut"]);
}

/// What is on the card could not be kept, so nothing is marked.
#[test]
fn a_full_disk_leaves_the_card_alone() {
    let bench = bench("instant", "64MB", "");
    bench.write("card.img", pattern(64_000_000));
    std::fs::create_dir_all(bench.path("state/measures")).unwrap();
    let place = bench.path("state/measures").display().to_string();
    let mounted = bench.judge("mount", &["-t", "tmpfs", "-o", "size=1m", "tmpfs", &place]);
    if mounted.is_none_or(|run| run.code != 0) {
        return;
    }
    let told = measure(&bench, &["--size"]);
    let left = std::fs::read_dir(&place).unwrap().count();
    let unmounted = bench.judge("umount", &[&place]);
    assert_eq!(unmounted.map(|run| run.code), Some(0));
    told.expect(1)
        .says(&["could not be kept", "No space left", "free space there"]);
    assert_eq!(left, 0);
    assert!(bench.read("card.img") == pattern(64_000_000));
}

#[test]
fn a_card_that_is_pulled_is_put_back_later() {
    let bench = bench(
        "instant",
        "64MB",
        "faults = [{ kind = \"pulled\", after = \"3MB\" }]",
    );
    bench.write("card.img", pattern(64_000_000));
    measure(&bench, &["--size"]).expect(5);
    let rack = String::from_utf8(bench.read("rack.toml")).unwrap();
    let mended = rack.lines().filter(|line| !line.starts_with("faults"));
    bench.write("rack.toml", mended.collect::<Vec<_>>().join("\n"));
    measure(&bench, &["--size"])
        .expect(0)
        .says(&["were put back"]);
    assert!(bench.read("card.img") == pattern(64_000_000));
}

#[test]
fn a_cut_image_is_not_estimated() {
    let bench = Bench::with_hut();
    let packed = common::zstd(&bench.read("hut.img"));
    bench.write("cut.img.zst", &packed[..packed.len() / 2]);
    let card = ["--card", "8GB@20MB/s"];
    bench
        .run(&[&["estimate", "time", "cut.img.zst"], &card[..]].concat())
        .expect(4);
    bench.write("note.txt", "snow 0.4\n");
    let told = bench.run(&["estimate", "fit", "cut.img.zst"]);
    assert!(told.code == 0 || told.code == 4, "{}", told.stderr);
    bench
        .run(&["estimate", "time", "hut.img", "--card", "8GB"])
        .expect(2)
        .says(&["16GB@20MB/s"]);
    bench
        .run(&["estimate", "time", "hut.img", "--to", "hut.img"])
        .expect(2)
        .says(&["nothing is known"]);
}
