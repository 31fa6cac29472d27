//! An evening with a box of cards: which are written, and which are not.

use std::collections::{BTreeMap, BTreeSet};
use std::thread;
use std::time::Duration;

use pinewrit_host::Rack;
use serde_json::Value;

use crate::workshop::{BAD, Person, Running, bench, host_on, rack, records};

#[test]
fn a_hundred_units_over_eight_readers_with_five_bad_cards() {
    let bad: Vec<(usize, &str)> = [3, 17, 40, 41, 77].map(|number| (number, BAD)).to_vec();
    let bench = bench(100, &rack(8, 105, &bad));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=105);
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen.last());
    let done: BTreeSet<String> = running.units("unit-done").into_iter().collect();
    assert_eq!(done.len(), 100);
    assert_eq!(running.units("unit-done").len(), 100);
    let failed = running.units("unit-failed");
    assert_eq!(failed.len(), 5, "{failed:?}");
    let result = running.seen.last().unwrap();
    assert_eq!(result["failed"], 5);
    let records = records(&bench, &["--rack", "rack.toml"]);
    let of: BTreeMap<&str, &Value> = records
        .iter()
        .map(|record| (record["unit"].as_str().unwrap(), record))
        .collect();
    assert_eq!((records.len(), of.len()), (100, 100));
    let ids: BTreeSet<&str> = records
        .iter()
        .map(|one| one["table_id"].as_str().unwrap())
        .collect();
    assert_eq!(ids.len(), 100, "each card has an identifier of its own");
    // A card taken out of the box tells who it is, and is what the ledger says.
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    for card in ["c001", "c060", "c105"] {
        rack.insert(card, "r1").unwrap();
        let verified = bench.run(&[
            "--rack",
            "rack.toml",
            "--json",
            "ledger",
            "verify",
            "rack:r1",
        ]);
        let told = verified.expect(0).json();
        let unit = told["record"]["unit"].as_str().unwrap();
        assert_eq!(host_on(&bench, &format!("{card}.img")), unit);
        rack.remove(card).unwrap();
    }
}

#[test]
fn a_finished_card_is_recognised_and_a_bad_one_refused() {
    let bench = bench(3, &rack(1, 6, &[(2, BAD)]));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    running.wait_until_it_waits();
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    rack.insert("c001", "r1").unwrap();
    running.wait_for("unit-done");
    rack.insert("c001", "r1").unwrap();
    let made = running.wait_for("left-alone");
    assert_eq!(
        (&made["because"], &made["unit"]),
        (&"made".into(), &"larkfell-001".into())
    );
    rack.remove("c001").unwrap();
    thread::sleep(Duration::from_millis(150));
    rack.insert("c002", "r1").unwrap();
    running.wait_for("unit-failed");
    rack.remove("c002").unwrap();
    thread::sleep(Duration::from_millis(150));
    rack.insert("c002", "r1").unwrap();
    let bad = running.wait_for("left-alone");
    assert_eq!(bad["because"], "bad", "{bad}");
    rack.remove("c002").unwrap();
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    // The next evening.
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 3..=4);
    assert_eq!(person.serve(&mut running), 0);
    assert_eq!(running.units("unit-done"), ["larkfell-002", "larkfell-003"]);
    // And one of them anew.
    let mut running = Running::start(&bench, "rack.toml", &["--again", "larkfell-002"]);
    let mut person = Person::new(&bench, "rack.toml", 5..=5);
    assert_eq!(person.serve(&mut running), 0);
    assert_eq!(running.units("unit-done"), ["larkfell-002"]);
    assert_eq!(host_on(&bench, "c005.img"), "larkfell-002");
}

#[test]
fn only_new_or_named_media_without_files_are_written() {
    let system = "system = [\"/\"]\nremovable = false";
    let mounted = "mounted = \"/media/hut\"";
    let odd = [
        (1, ""),
        (2, system),
        (3, "locked = true"),
        (4, mounted),
        (5, ""),
    ];
    let bench = bench(2, &rack(3, 7, &odd));
    // Somebody's card, with files.
    bench
        .run(&[
            "write",
            "hut.img.zst",
            "--to",
            "c005.img",
            "--yes",
            "--size",
            "192MiB",
        ])
        .expect(0);
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    rack.insert("c001", "r1").unwrap();
    let mut running = Running::start(&bench, "rack.toml", &[]);
    running.wait_for("waiting");
    for (card, because) in [
        ("c002", "verdict"),
        ("c003", "verdict"),
        ("c004", "mounted"),
        ("c005", "holds"),
    ] {
        rack.insert(card, "r2").unwrap();
        let left = running.wait_for("left-alone");
        assert_eq!(left["because"], because, "{card}: {left}");
        rack.remove(card).unwrap();
        thread::sleep(Duration::from_millis(150));
    }
    // What was there before the start is left alone.
    thread::sleep(Duration::from_millis(300));
    running.hear();
    assert_eq!(running.units("unit-started"), [""; 0]);
    let left = std::fs::read(bench.path("c001.img")).unwrap_or_default();
    assert!(left.iter().all(|byte| *byte == 0));
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    let args = ["--to", "rack:r1", "--over", "any", "--unmount"];
    let mut running = Running::start(&bench, "rack.toml", &args);
    assert_eq!(running.wait_for("unit-done")["medium"], "rack:r1");
    rack.insert("c004", "r2").unwrap();
    assert_eq!(running.wait_for("unit-done")["medium"], "rack:r2");
    assert_eq!(running.end(), 0);
}

#[test]
fn the_second_interruption_leaves_no_table() {
    let slow = "write-speed = \"4MB\"";
    let odd: Vec<(usize, &str)> = (1..=2).map(|number| (number, slow)).collect();
    let text = rack(2, 2, &odd).replace("clock = \"instant\"\n", "");
    let bench = bench(3, &text);
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=2);
    running.wait_for("waiting");
    person.look(&[]);
    while running.units("unit-started").len() < 2 {
        running.hear();
        thread::sleep(Duration::from_millis(10));
    }
    thread::sleep(Duration::from_millis(500));
    running.signal("-INT");
    assert_eq!(running.wait_for("closing")["running"], 2);
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    for card in ["c001.img", "c002.img"] {
        assert!(
            bench.read(card)[..512].iter().all(|byte| *byte == 0),
            "{card}"
        );
    }
    let jobs = bench.run(&[
        "--rack",
        "rack.toml",
        "--json",
        "ledger",
        "list",
        "--batch",
        "huts",
    ]);
    let units = jobs.expect(0).json()["units"].clone();
    assert!(
        units
            .as_array()
            .unwrap()
            .iter()
            .all(|unit| unit["state"] == "open"),
        "{units}"
    );
}

#[test]
fn two_media_of_a_unit_are_not_mixed_up() {
    let bench = bench(2, &rack(1, 4, &[]));
    let text = bench.read("huts.toml");
    let text = String::from_utf8(text).unwrap();
    let text = text.replace("image = \"hut.img.zst\"\ngrow = true\n", "");
    bench.write("logs.toml", "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"16MiB\"\nfilesystem = \"ext4\"\nlabel = \"logs\"\n");
    let media = "[[medium]]\nrole = \"system\"\nimage = \"hut.img.zst\"\n[[medium]]\nrole = \"logs\"\nlayout = \"logs.toml\"\ngrow = true\n";
    bench.write("huts.toml", format!("{media}{text}"));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=4);
    assert_eq!(person.serve(&mut running), 0);
    let done: Vec<String> = running
        .seen
        .iter()
        .filter(|line| line["event"] == "unit-done")
        .map(|line| {
            format!(
                "{} {}",
                line["unit"].as_str().unwrap(),
                line["role"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(
        done,
        [
            "larkfell-001 system",
            "larkfell-001 logs",
            "larkfell-002 system",
            "larkfell-002 logs"
        ]
    );
    assert_eq!(host_on(&bench, "c003.img"), "larkfell-002");
    let logs = bench
        .run(&["--json", "inspect", "c004.img"])
        .expect(0)
        .json();
    assert!(logs.to_string().contains("\"logs\""), "{logs}");
}

#[test]
fn a_bad_image_ends_the_batch_and_not_the_cards() {
    let bench = bench(2, &rack(1, 2, &[]));
    let mut image = bench.read("hut.img.zst");
    let middle = image.len() / 2;
    image[middle..middle + 64].fill(0x5a);
    bench.write("hut.img.zst", image);
    let run = bench.run(&["--rack", "rack.toml", "batch", "huts.toml"]);
    assert!(matches!(run.code, 4 | 7), "{}", run.stderr);
    let sum = "0".repeat(64);
    let text = String::from_utf8(bench.read("huts.toml")).unwrap();
    bench.write("huts.toml", format!("checksum = \"sha256:{sum}\"\n{text}"));
    let run = bench.run(&["--rack", "rack.toml", "batch", "huts.toml", "--dry-run"]);
    assert_eq!(run.expect(4).stdout, "");
}
