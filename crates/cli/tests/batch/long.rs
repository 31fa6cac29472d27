//! A long batch with bad cards and random kills.

use std::collections::{BTreeMap, BTreeSet};
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_host::Rack;
use pinewrit_judges::Server;
use serde_json::Value;

use crate::common::Bench;
use crate::workshop::{BAD, PATIENCE, Person, Running, bench, host_on, rack, records};

/// A number from the environment.
fn wanted(name: &str, usual: usize) -> usize {
    let text = std::env::var(name).ok();
    text.and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Numbers that look random (SplitMix64).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % sides
    }
}

/// A station that is killed now and then, and started again.
struct Station {
    rack: String,
    running: Running,
    person: Person,
}

impl Station {
    /// Everything that is in a reader is taken out, and tried again: what is left of a killed
    /// station's work has no table.
    fn restart(&mut self, bench: &Bench, args: &[&str]) {
        self.running.signal("-KILL");
        self.running.child.wait().unwrap();
        let mut rack = Rack::open(&self.person.rack).unwrap();
        for (_, held) in rack.readers() {
            if let Some(card) = held {
                rack.remove(&card).unwrap();
                self.person.cards.push_back(card);
            }
        }
        self.running = Running::start(bench, &self.rack, args);
        self.running.wait_until_it_waits();
    }
}

/// Three stations with bad cards and random kills; then each card is compared with its record.
/// `PINEWRIT_UNITS=500 PINEWRIT_READERS=8` for a long run.
#[test]
fn a_long_batch_on_three_stations_loses_and_doubles_nothing() {
    let (units, readers) = (wanted("PINEWRIT_UNITS", 18), wanted("PINEWRIT_READERS", 2));
    let mut dice = Dice(wanted("PINEWRIT_SEED", 7) as u64);
    let cards = units + units / 4 + 12;
    let kinds = [
        BAD,
        "faults = [{ kind = \"write-error\", at = \"69MiB\", len = \"1MiB\" }]",
        "faults = [{ kind = \"read-error\", at = \"68MiB\", len = \"64KiB\" }]",
        "faults = [{ kind = \"pulled\", after = \"9MB\" }]",
    ];
    let bench = bench(units, "");
    let server = Server::start();
    let ledger = match &server {
        Some(server) => server.database(),
        None => bench.path("shared.sqlite").display().to_string(),
    };
    let args = ["--ledger", ledger.as_str(), "--lease", "4"];
    let mut stations: Vec<Station> = (1..=3)
        .map(|number| {
            let odd: Vec<(usize, &str)> = (1..=cards)
                .filter(|_| dice.roll(12) == 0)
                .map(|card| (card, kinds[card % kinds.len()]))
                .collect();
            let text = rack(readers, cards, &odd)
                .replace("file = \"c", &format!("file = \"s{number}-c"))
                .replace("serial = \"0", &format!("serial = \"{number}"))
                .replace("\"records\"", &format!("\"records{number}\""));
            let name = format!("rack{number}.toml");
            bench.write(&name, text);
            let running = Running::start(&bench, &name, &args);
            let person = Person::new(&bench, &name, 1..=cards);
            Station {
                rack: name,
                running,
                person,
            }
        })
        .collect();
    stations
        .iter_mut()
        .for_each(|station| station.running.wait_until_it_waits());
    let (begun, mut kills, mut failed) = (Instant::now(), 0, 0);
    let patience = PATIENCE * 2 + Duration::from_secs(2) * units as u32;
    let mut next_kill = Instant::now() + Duration::from_secs(2);
    while !stations.iter_mut().all(|station| station.running.is_over()) {
        for station in &mut stations {
            let news = station.running.hear();
            failed += news
                .iter()
                .filter(|line| line["event"] == "unit-failed")
                .count();
            if !station.running.is_over() {
                station.person.look(&news);
            }
        }
        if Instant::now() > next_kill {
            let station = &mut stations[dice.roll(3) as usize];
            if !station.running.is_over() && kills < units / 6 {
                station.restart(&bench, &args);
                kills += 1;
            }
            next_kill = Instant::now() + Duration::from_millis(1000 + dice.roll(2500));
        }
        assert!(
            begun.elapsed() < patience,
            "{:#?}",
            stations[0].running.seen.last()
        );
        thread::sleep(Duration::from_millis(20));
    }
    let took = begun.elapsed().as_secs_f64();
    let records = records(&bench, &["--ledger", &ledger]);
    let mut of: BTreeMap<&str, Vec<&Value>> = BTreeMap::new();
    for record in &records {
        of.entry(record["unit"].as_str().unwrap())
            .or_default()
            .push(record);
    }
    assert_eq!(of.len(), units, "none is lost");
    let doubled: Vec<_> = of.iter().filter(|(_, all)| all.len() != 1).collect();
    assert!(doubled.is_empty(), "{doubled:#?}");
    let mut verified = BTreeSet::new();
    for station in &stations {
        let mut rack = Rack::open(&station.person.rack).unwrap();
        for (_, held) in rack.readers() {
            if let Some(card) = held {
                rack.remove(&card).unwrap();
            }
        }
        for place in rack.cards() {
            let is_made = std::fs::read(&place.file)
                .is_ok_and(|bytes| bytes.get(510..512) == Some(&[0x55, 0xaa]));
            if !is_made {
                continue;
            }
            rack.insert(&place.card, "r1").unwrap();
            let rack_file = station.rack.as_str();
            let args = [
                "--rack", rack_file, "--ledger", &ledger, "--json", "ledger", "verify", "rack:r1",
            ];
            let run = bench.run(&args);
            rack.remove(&place.card).unwrap();
            if run.code == 8 {
                // Killed after its last byte and before its record: made anew by another.
                continue;
            }
            let told = run.expect(0).json();
            let unit = told["record"]["unit"].as_str().unwrap().to_owned();
            assert_eq!(host_on(&bench, place.file.to_str().unwrap()), unit);
            assert!(verified.insert(unit.clone()), "{unit} is on two cards");
        }
    }
    assert_eq!(verified.len(), units, "each card is what the ledger says");
    println!("{units} units in {took:.0} s, {kills} kills, {failed} failed cards");
}
