//! Several stations with one ledger, and what may go wrong between them.

use std::collections::BTreeMap;
use std::thread;
use std::time::{Duration, Instant};

use rstest::rstest;

use crate::workshop::{PATIENCE, Person, Running, SERVER, bench, rack, records};

/// Two stations, each with readers of its own, on one ledger; one is killed in the middle.
#[rstest]
#[case::file(None)]
#[case::server(Some(()))]
fn two_stations_make_forty_units_once_though_one_is_killed(#[case] server: Option<()>) {
    let address = match server {
        None => None,
        Some(()) => match SERVER.as_ref() {
            Some(server) => Some(server.database()),
            None => return,
        },
    };
    let bench = bench(40, &rack(3, 30, &[]));
    let second = rack(3, 60, &[])
        .replace("file = \"c", "file = \"d")
        .replace("serial = \"0", "serial = \"1");
    bench.write("second.toml", second);
    let file = bench.path("shared.sqlite").display().to_string();
    let ledger = address.unwrap_or(file);
    let args = ["--ledger", ledger.as_str(), "--lease", "3"];
    let mut first = Running::start(&bench, "rack.toml", &args);
    let mut other = Running::start(&bench, "second.toml", &args);
    let mut people = [
        Person::new(&bench, "rack.toml", 1..=30),
        Person::new(&bench, "second.toml", 1..=60),
    ];
    let begun = Instant::now();
    first.wait_until_it_waits();
    other.wait_until_it_waits();
    while first.units("unit-done").len() < 8 {
        let news = [first.hear(), other.hear()];
        for (person, news) in people.iter_mut().zip(&news) {
            person.look(news);
        }
        assert!(begun.elapsed() < PATIENCE, "{:#?}", first.seen);
        thread::sleep(Duration::from_millis(20));
    }
    first.signal("-KILL");
    first.child.wait().unwrap();
    first.hear();
    let mut code = people[1].serve(&mut other);
    assert_eq!(code, 0, "{:#?}", other.seen);
    let records = records(&bench, &["--ledger", &ledger]);
    let mut of: BTreeMap<String, usize> = BTreeMap::new();
    for record in &records {
        *of.entry(record["unit"].as_str().unwrap().to_owned())
            .or_default() += 1;
    }
    assert_eq!(of.len(), 40, "none is lost");
    assert!(
        of.values().all(|count| *count == 1),
        "none is made twice: {of:?}"
    );
    // Whoever comes later has nothing to do.
    let mut late = Running::start(&bench, "rack.toml", &args);
    code = late.end();
    assert_eq!((code, late.units("unit-started").len()), (0, 0));
}

/// A station that sleeps while another makes its unit: it notices before its card is finished.
#[test]
fn a_station_that_was_too_slow_leaves_its_card_without_a_table() {
    let slow = "write-speed = \"6MB\"";
    let text = rack(1, 1, &[(1, slow)]).replace("clock = \"instant\"\n", "");
    let bench = bench(1, &text);
    bench.write(
        "second.toml",
        rack(1, 1, &[])
            .replace("c001.img", "d001.img")
            .replace("00001", "10001"),
    );
    let ledger = bench.path("shared.sqlite").display().to_string();
    let args = ["--ledger", ledger.as_str(), "--lease", "1"];
    let mut first = Running::start(&bench, "rack.toml", &args);
    first.wait_until_it_waits();
    Person::new(&bench, "rack.toml", 1..=1).look(&[]);
    first.wait_for("unit-started");
    thread::sleep(Duration::from_millis(500));
    first.signal("-STOP");
    let mut other = Running::start(&bench, "second.toml", &args);
    // It is held by the first one until its lease has run out.
    other.wait_until_it_waits();
    assert_eq!(
        Person::new(&bench, "second.toml", 1..=1).serve(&mut other),
        0
    );
    assert_eq!(other.units("unit-done"), ["larkfell-001"]);
    first.signal("-CONT");
    assert_eq!(first.end(), 0);
    assert_eq!(
        first.units("unit-failed"),
        ["larkfell-001"],
        "{:#?}",
        first.seen
    );
    assert_eq!(first.units("unit-done"), [""; 0]);
    assert!(bench.read("c001.img")[..512].iter().all(|byte| *byte == 0));
    assert_eq!(records(&bench, &["--ledger", &ledger]).len(), 1);
}
