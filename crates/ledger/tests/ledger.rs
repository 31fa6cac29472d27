//! The ledger, over a file and over a server: the same must hold of both.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::path::Path;
use std::sync::{Arc, Barrier, LazyLock, Mutex};
use std::thread;

use pinewrit_core::receipt::{Identifiers, Receipt, ReceiptImage, ReceiptMedium, ReceiptSettings};
use pinewrit_core::write::{ChunkRecord, Pace, PacePoint, WriteReport};
use pinewrit_disk::ByteRange;
use pinewrit_judges::Server;
use pinewrit_ledger::{
    Entry, JobKey, JobState, Kind, Ledger, LedgerError, Lost, Outbox, Parcel, PlannedJob, Wanted,
};
use rstest::rstest;
use rstest_reuse::{apply, template};
use tempfile::TempDir;

static SERVER: LazyLock<Option<Server>> = LazyLock::new(Server::start);

#[derive(Clone, Copy, Debug)]
enum In {
    File,
    Server,
}

/// A store to be opened several times.
struct Place {
    address: String,
    _folder: TempDir,
}

impl In {
    fn place(self) -> Option<Place> {
        let folder = tempfile::tempdir().unwrap();
        let address = match self {
            Self::File => folder.path().join("ledger.sqlite").display().to_string(),
            Self::Server => SERVER.as_ref()?.database(),
        };
        Some(Place {
            address,
            _folder: folder,
        })
    }
}

impl Place {
    fn open(&self) -> Ledger {
        match self.address.starts_with("postgres:") {
            true => Ledger::open_server(&self.address).unwrap(),
            false => Ledger::open_file(Path::new(&self.address)).unwrap(),
        }
    }
}

macro_rules! opened {
    ($where_to:expr) => {
        match $where_to.place() {
            Some(place) => {
                let ledger = place.open();
                (place, ledger)
            }
            None => return,
        }
    };
}

#[template]
#[rstest]
#[case::file(In::File)]
#[case::server(In::Server)]
fn stores(#[case] store: In) {}

/// A receipt of a unit's card; `seed` decides on its identifiers and last chunk.
fn receipt(unit: &str, seed: u64) -> Receipt {
    let chunk = |index: u64| ChunkRecord {
        index,
        used: vec![ByteRange::new(index << 22, (index << 22) + 4096 + index).unwrap()],
        digest: blake3::hash(&(if index == 3 { seed } else { index }).to_le_bytes()),
    };
    let point = |index: u64| PacePoint {
        offset: index << 22,
        bytes: 4096 + index,
        at: 0.013_37 * index as f64,
        took: 0.000_123_4 * (index + seed) as f64,
    };
    let report = WriteReport {
        chunks: (0..8).map(chunk).collect(),
        verified: true,
        written_bytes: 9_000_000,
        write_seconds: 1.25,
        pace: Pace {
            written: (0..8).map(point).collect(),
            read: (0..8).rev().map(point).collect(),
        },
        ..WriteReport::default()
    };
    let medium = ReceiptMedium {
        name: "/dev/sdx".to_owned(),
        tag: Some(format!("K7F{seed}")),
        maker: Some("Moraine".to_owned()),
        model: Some("Scree 8".to_owned()),
        serial: Some(format!("00{seed}")),
        size: 8_000_000_000,
        ..ReceiptMedium::default()
    };
    let image = ReceiptImage {
        name: "larkfell-os.img.zst".to_owned(),
        unpacked_bytes: 40 << 20,
        checksum: Some("sha256:abcdef01".to_owned()),
        ..ReceiptImage::default()
    };
    let mut receipt = Receipt::new("pinewrit test".to_owned(), &report, medium, image);
    receipt.finished = format!("2026-11-0{}T18:00:00Z", seed % 9 + 1);
    receipt.identifiers = Identifiers {
        table: Some(format!("7077-{seed:04}")),
        filesystems: vec![(Some(1), format!("CAFE-{seed:04}"))],
    };
    receipt.settings = Some(ReceiptSettings {
        host_name: Some(unit.to_owned()),
        digest: String::new(),
        files: Vec::new(),
        intake: None,
        known_hosts: None,
    });
    receipt.seal().unwrap();
    receipt
}

fn entry(unit: &str, time: i64) -> Entry {
    Entry {
        unit: Some(unit.to_owned()),
        addresses: vec![format!("10.77.0.{}/24", time % 200)],
        ..Entry::new(Kind::Write, time)
    }
}

fn units(records: &[pinewrit_ledger::Record]) -> Vec<&str> {
    records
        .iter()
        .map(|one| one.unit.as_deref().unwrap_or("-"))
        .collect()
}

#[apply(stores)]
fn what_is_recorded_is_found(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    for seed in 1..=5 {
        let unit = format!("larkfell-0{seed}");
        ledger
            .record(
                &entry(&unit, 100 + seed),
                Some(&receipt(&unit, seed as u64)),
            )
            .unwrap();
    }
    let last = ledger.last(2).unwrap();
    assert_eq!(units(&last), ["larkfell-05", "larkfell-04"]);
    let finds = |ledger: &mut Ledger, text: &str| -> Vec<String> {
        let found = ledger.find(text, 10).unwrap();
        units(&found).into_iter().map(str::to_owned).collect()
    };
    for text in [
        "larkfell-03",
        "LARKFELL-03",
        "10.77.0.103",
        "10.77.0.103/24",
        "k7f3",
        "003",
        "7077-0003",
        "cafe-0003",
        "larkfell-os 10.77.0.103",
    ] {
        assert_eq!(finds(&mut ledger, text), ["larkfell-03"], "{text}");
    }
    assert_eq!(finds(&mut ledger, "sha256:abcd").len(), 5);
    assert_eq!(finds(&mut ledger, "nothing"), [""; 0]);
    assert_eq!(finds(&mut ledger, " "), [""; 0]);
    let found = ledger.of("K7F3").unwrap();
    assert_eq!(units(&found), ["larkfell-03"]);
    assert_eq!(
        units(&ledger.of(&found[0].id[..8]).unwrap()),
        ["larkfell-03"]
    );
    assert_eq!(
        units(&ledger.with_table("7077-0002").unwrap()),
        ["larkfell-02"]
    );
    assert_eq!(found[0].model.as_deref(), Some("Moraine Scree 8"));
    assert_eq!(
        (found[0].size, found[0].write_millis),
        (Some(8_000_000_000), Some(1250))
    );
}

#[apply(stores)]
fn receipts_come_back_as_they_were(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let all: Vec<Receipt> = (1..=9).map(|seed| receipt("larkfell-01", seed)).collect();
    let mut odd = receipt("larkfell-02", 4);
    odd.chunks.truncate(2);
    odd.pace_written[0].took = 1.0 / 3.0;
    odd.seal().unwrap();
    for (receipt, time) in all.iter().chain([&odd]).zip(1..) {
        let entry = entry("larkfell-01", time);
        ledger.record(&entry, Some(receipt)).unwrap();
        let kept = ledger.receipt(&entry.id).unwrap().unwrap();
        assert_eq!(&kept, receipt);
        assert!(Receipt::from_json(&kept.to_json().unwrap()).is_ok());
    }
    let mut seen = 0;
    ledger
        .each(4, |_, records| {
            seen += records.len();
            Ok::<_, LedgerError>(())
        })
        .unwrap();
    assert_eq!(seen, 10);
}

#[apply(stores)]
fn recording_twice_is_recording_once(#[case] store: In) {
    let (place, mut ledger) = opened!(store);
    let (entry, receipt) = (entry("larkfell-01", 7), receipt("larkfell-01", 7));
    for _ in 0..2 {
        ledger.record(&entry, Some(&receipt)).unwrap();
    }
    assert_eq!(
        (
            ledger.count().unwrap(),
            ledger.events("larkfell-01").unwrap().len()
        ),
        (1, 1)
    );
    // Receipts from files are known by their digests.
    assert_eq!(ledger.take_in(&[receipt.clone(), receipt]).unwrap(), 0);
    let others = [self::receipt("a", 1), self::receipt("b", 2)];
    assert_eq!(place.open().take_in(&others).unwrap(), 2);
    assert_eq!(ledger.count().unwrap(), 3);
    assert_eq!(ledger.last(3).unwrap()[1].time, 1_793_728_800 - 86_400);
}

#[apply(stores)]
fn notes_and_events_are_told_in_order(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let made = entry("larkfell-01", 10);
    ledger
        .record(&made, Some(&receipt("larkfell-01", 1)))
        .unwrap();
    let note = Entry {
        record: Some(made.id.clone()),
        remark: Some("card replaced after a storm".to_owned()),
        ..Entry::new(Kind::Note, 30)
    };
    let commissioned = Entry {
        record: Some(made.id.clone()),
        ..Entry::new(Kind::Commission, 20)
    };
    ledger.record(&note, None).unwrap();
    ledger.record(&commissioned, None).unwrap();
    let told: Vec<Kind> = ledger
        .events(&made.id)
        .unwrap()
        .iter()
        .map(|one| one.kind)
        .collect();
    assert_eq!(told, [Kind::Write, Kind::Commission, Kind::Note]);
    assert_eq!(ledger.last(1).unwrap()[0].commissioned, Some(20));
    assert_eq!(ledger.find("storm", 5).unwrap().len(), 1);
    assert_eq!(ledger.last_events(Kind::Note, 5).unwrap().len(), 1);
}

fn planned(units: &[&str]) -> Vec<PlannedJob> {
    let job = |unit: &&str| PlannedJob {
        key: JobKey {
            unit: (*unit).to_owned(),
            role: String::new(),
        },
        digest: "first".to_owned(),
        least: 0,
    };
    units.iter().map(job).collect()
}

fn any<'w>() -> Wanted<'w> {
    Wanted {
        size: 8_000_000_000,
        tag: "K7F2",
        ..Wanted::default()
    }
}

#[apply(stores)]
fn jobs_are_claimed_renewed_and_finished(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let begun = ledger
        .begin_batch("huts", &planned(&["a", "b", "c"]))
        .unwrap();
    assert!(!begun.is_resumed && begun.added.is_empty());
    let first = ledger
        .claim("huts", "bench-1", &any(), 60)
        .unwrap()
        .unwrap();
    let second = ledger
        .claim("huts", "bench-2", &any(), 60)
        .unwrap()
        .unwrap();
    assert_eq!(
        (first.key.unit.as_str(), second.key.unit.as_str()),
        ("a", "b")
    );
    assert_eq!(ledger.renew(&first).unwrap(), Ok(()));
    let failure = Entry {
        remark: Some("failed verification".to_owned()),
        ..Entry::new(Kind::Failure, 5)
    };
    ledger.give_back(&second, Some(&failure)).unwrap();
    assert_eq!(ledger.renew(&second).unwrap(), Err(Lost));
    let done = entry("a", 9);
    assert_eq!(
        ledger
            .finish(&first, &done, Some(&receipt("a", 1)))
            .unwrap(),
        Ok(())
    );
    // A connection that broke after that repeats it.
    assert_eq!(
        ledger
            .finish(&first, &done, Some(&receipt("a", 1)))
            .unwrap(),
        Ok(())
    );
    let jobs = ledger.jobs("huts").unwrap();
    let states: Vec<JobState> = jobs.iter().map(|job| job.state).collect();
    assert_eq!(states, [JobState::Done, JobState::Open, JobState::Open]);
    assert_eq!(jobs[1].why.as_deref(), Some("failed verification"));
    assert_eq!(jobs[0].record.as_deref(), Some(done.id.as_str()));
    let again = ledger
        .claim("huts", "bench-2", &any(), 60)
        .unwrap()
        .unwrap();
    assert_eq!(again.key.unit, "b");
    assert!(again.token > second.token);
}

#[apply(stores)]
fn a_dead_stations_job_is_made_by_another(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    ledger.begin_batch("huts", &planned(&["a"])).unwrap();
    // A lease that has run out already.
    let dead = ledger
        .claim("huts", "bench-1", &any(), -5)
        .unwrap()
        .unwrap();
    let alive = ledger
        .claim("huts", "bench-2", &any(), 60)
        .unwrap()
        .unwrap();
    assert_eq!(alive.key, dead.key);
    assert_eq!(ledger.claim("huts", "bench-3", &any(), 60).unwrap(), None);
    // The slow station is told, and its card is on record all the same.
    assert_eq!(ledger.renew(&dead).unwrap(), Err(Lost));
    assert_eq!(
        ledger
            .finish(&dead, &entry("a", 1), Some(&receipt("a", 1)))
            .unwrap(),
        Err(Lost)
    );
    assert_eq!(ledger.count().unwrap(), 1);
    ledger.give_back(&dead, None).unwrap();
    assert_eq!(ledger.jobs("huts").unwrap()[0].state, JobState::Held);
    assert_eq!(
        ledger
            .finish(&alive, &entry("a", 2), Some(&receipt("a", 2)))
            .unwrap(),
        Ok(())
    );
}

#[apply(stores)]
fn wishes_choose_the_job(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let mut jobs = planned(&["a", "b", "c", "d"]);
    jobs[0].least = 16_000_000_000;
    ledger.begin_batch("huts", &jobs).unwrap();
    let only = ["d".to_owned(), "c".to_owned()];
    let mut claimed = |wanted: &Wanted<'_>| {
        let next = ledger.next_job("huts", wanted).unwrap();
        let claim = ledger.claim("huts", "bench", wanted, 60).unwrap();
        assert_eq!(next, claim.as_ref().map(|claim| claim.key.clone()));
        claim.map(|claim| claim.key.unit)
    };
    let listed = Wanted {
        only: &only,
        ..any()
    };
    let before = Wanted {
        next: Some("d"),
        ..any()
    };
    assert_eq!(claimed(&before).as_deref(), Some("d"));
    assert_eq!(claimed(&listed).as_deref(), Some("c"));
    assert_eq!(claimed(&listed), None);
    assert_eq!(claimed(&any()).as_deref(), Some("b"));
    assert_eq!(claimed(&any()), None);
    let large = Wanted {
        size: 32_000_000_000,
        ..any()
    };
    assert_eq!(claimed(&large).as_deref(), Some("a"));
}

#[apply(stores)]
fn a_changed_roster_is_noticed(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    ledger.begin_batch("huts", &planned(&["a", "b"])).unwrap();
    let claim = ledger.claim("huts", "bench", &any(), 60).unwrap().unwrap();
    ledger
        .finish(&claim, &entry("a", 1), Some(&receipt("a", 1)))
        .unwrap()
        .unwrap();
    let mut changed = planned(&["c", "a"]);
    changed[1].digest = "second".to_owned();
    let begun = ledger.begin_batch("huts", &changed).unwrap();
    let names =
        |keys: &[JobKey]| -> Vec<String> { keys.iter().map(|key| key.unit.clone()).collect() };
    assert!(begun.is_resumed);
    assert_eq!(names(&begun.added), ["c"]);
    assert_eq!(names(&begun.outdated), ["a"]);
    assert_eq!(names(&begun.dropped), ["b"]);
    let jobs = ledger.jobs("huts").unwrap();
    assert!(
        jobs.iter()
            .any(|job| job.key.unit == "a" && job.is_outdated)
    );
    assert_eq!(ledger.again("huts", "a").unwrap(), 1);
    let next: Vec<String> =
        std::iter::from_fn(|| ledger.claim("huts", "bench", &any(), 60).unwrap())
            .map(|claim| claim.key.unit)
            .collect();
    assert_eq!(next, ["c", "a"]);
    // What comes back into the roster is there again.
    ledger.begin_batch("huts", &planned(&["b"])).unwrap();
    let jobs = ledger.jobs("huts").unwrap();
    assert!(
        jobs.iter()
            .any(|job| job.key.unit == "b" && job.state == JobState::Open)
    );
}

#[apply(stores)]
fn no_job_is_claimed_twice(#[case] store: In) {
    let (place, mut ledger) = opened!(store);
    let names: Vec<String> = (0..60).map(|number| format!("hut-{number:02}")).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    ledger.begin_batch("huts", &planned(&names)).unwrap();
    let (place, claimed) = (Arc::new(place), Arc::new(Mutex::new(Vec::new())));
    let start = Arc::new(Barrier::new(4));
    let stations: Vec<_> = (0..4)
        .map(|number| {
            let (place, claimed) = (Arc::clone(&place), Arc::clone(&claimed));
            let start = Arc::clone(&start);
            thread::spawn(move || {
                let mut ledger = place.open();
                let station = format!("bench-{number}");
                start.wait();
                while let Some(claim) = ledger.claim("huts", &station, &any(), 60).unwrap() {
                    claimed.lock().unwrap().push(claim.key.unit.clone());
                    let done = ledger.finish(&claim, &entry(&claim.key.unit, 1), None);
                    assert_eq!(done.unwrap(), Ok(()));
                }
            })
        })
        .collect();
    stations
        .into_iter()
        .for_each(|station| station.join().unwrap());
    let mut claimed = claimed.lock().unwrap().clone();
    claimed.sort();
    assert_eq!(claimed, names);
}

#[apply(stores)]
fn bad_media_are_remembered(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    assert_eq!(ledger.condemned("Moraine 001").unwrap(), None);
    for why in ["failed verification", "does not answer"] {
        ledger.condemn("Moraine 001", Some("K7F2"), why).unwrap();
    }
    let (time, why) = ledger.condemned("Moraine 001").unwrap().unwrap();
    assert!(time > 1_700_000_000 && why == "does not answer");
}

#[apply(stores)]
fn names_of_other_units_are_known(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    ledger
        .record(&entry("larkfell-01", 7), Some(&receipt("larkfell-01", 1)))
        .unwrap();
    let wanted = [
        ("larkfell-01", "10.77.0.7"),
        ("larkfell-02", "10.77.0.7"),
        ("larkfell-02", "Larkfell-01"),
        ("larkfell-02", "larkfell-02"),
    ];
    let wanted = wanted.map(|(unit, word)| (unit.to_owned(), word.to_owned()));
    let owners = ledger.owners(&wanted).unwrap();
    let told: Vec<&str> = owners.iter().map(|one| one.word.as_str()).collect();
    assert_eq!(told, ["10.77.0.7", "Larkfell-01"]);
}

#[apply(stores)]
fn unsent_records_are_sent_later(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let folder = tempfile::tempdir().unwrap();
    let outbox = Outbox::in_folder(folder.path());
    assert_eq!(outbox.waiting(), 0);
    for seed in 1..=3 {
        let parcel = Parcel {
            entry: entry("larkfell-01", seed),
            receipt: Some(receipt("larkfell-01", seed as u64)),
            claim: None,
        };
        outbox.keep(&parcel).unwrap();
    }
    std::fs::write(folder.path().join("unsent/broken.record.json"), "{").unwrap();
    assert_eq!(outbox.waiting(), 4);
    assert_eq!(outbox.send(&mut ledger).unwrap(), 3);
    assert_eq!((outbox.waiting(), ledger.count().unwrap()), (1, 3));
}

#[test]
fn a_newer_store_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.sqlite");
    drop(Ledger::open_file(&path).unwrap());
    let connection = rusqlite::Connection::open(&path).unwrap();
    let sql = "INSERT INTO ledger_versions SELECT 77, 'later', applied_on, checksum FROM ledger_versions LIMIT 1";
    connection.execute(sql, []).unwrap();
    drop(connection);
    let error = Ledger::open_file(&path).unwrap_err();
    assert!(
        matches!(
            error,
            LedgerError::Newer {
                newest: 77,
                known: 1
            }
        ),
        "{error:?}"
    );
}

#[test]
fn a_server_that_was_restarted_is_used_again() {
    let Some(server) = Server::start() else {
        return;
    };
    let mut ledger = Ledger::open_server(&server.database()).unwrap();
    ledger
        .record(&entry("a", 1), Some(&receipt("a", 1)))
        .unwrap();
    server.stop();
    assert!(ledger.record(&entry("b", 2), None).is_err());
    server.resume();
    ledger
        .record(&entry("c", 3), Some(&receipt("c", 3)))
        .unwrap();
    assert_eq!(ledger.count().unwrap(), 2);
}

#[rstest]
#[case("postgres://nobody@127.0.0.1:1/none")]
#[case("mysql://somewhere")]
fn what_is_no_ledger_is_an_error(#[case] address: &str) {
    assert!(Ledger::open_server(address).is_err());
}

#[apply(stores)]
fn stations_that_come_first_together_find_one_ledger(#[case] store: In) {
    let Some(place) = store.place() else { return };
    let (place, start) = (Arc::new(place), Arc::new(Barrier::new(6)));
    let stations: Vec<_> = (0..6)
        .map(|_| {
            let (place, start) = (Arc::clone(&place), Arc::clone(&start));
            thread::spawn(move || {
                start.wait();
                let mut ledger = place.open();
                ledger
                    .begin_batch("huts", &planned(&["a", "b"]))
                    .unwrap()
                    .is_resumed
            })
        })
        .collect();
    let resumed: Vec<bool> = stations
        .into_iter()
        .map(|one| one.join().unwrap())
        .collect();
    assert_eq!(resumed.iter().filter(|resumed| !**resumed).count(), 1);
    assert_eq!(place.open().jobs("huts").unwrap().len(), 2);
}

#[apply(stores)]
fn a_change_of_a_medium_changes_its_record(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let (made, first) = (entry("larkfell-01", 1), receipt("larkfell-01", 1));
    ledger.record(&made, Some(&first)).unwrap();
    let mut now = receipt("larkfell-01b", 2);
    now.identifiers.table = Some("7077-9999".to_owned());
    now.seal().unwrap();
    let change = Entry {
        remark: Some("3 files".to_owned()),
        ..Entry::new(Kind::Configure, 9)
    };
    ledger
        .amend(&change, &[(first.digest.clone(), now.clone())])
        .unwrap();
    let record = ledger.last(5).unwrap();
    assert_eq!(record.len(), 1);
    assert_eq!(record[0].host_name.as_deref(), Some("larkfell-01b"));
    assert_eq!(record[0].table_id.as_deref(), Some("7077-9999"));
    assert_eq!(ledger.receipt(&made.id).unwrap().unwrap(), now);
    assert_eq!(ledger.find("7077-9999", 5).unwrap().len(), 1);
    let told = ledger.events("larkfell-01").unwrap();
    assert_eq!(told.last().map(|event| event.kind), Some(Kind::Configure));
    // One that is not here is taken in.
    let other = receipt("larkfell-02", 3);
    ledger
        .amend(&change, &[("unknown".to_owned(), other)])
        .unwrap();
    assert_eq!(ledger.count().unwrap(), 2);
    // What was found out about a medium is told with its record.
    let found = Entry {
        remark: Some("as it was written".to_owned()),
        ..Entry::new(Kind::Verify, 12)
    };
    ledger.record_about(&now.digest, &found).unwrap();
    ledger
        .record_about("unknown", &Entry::new(Kind::Verify, 13))
        .unwrap();
    let told = ledger.events("larkfell-01").unwrap();
    assert_eq!(told.last().map(|event| event.kind), Some(Kind::Verify));
    assert_eq!(
        told.last().and_then(|event| event.record.clone()),
        Some(made.id)
    );
}

#[apply(stores)]
fn what_nearly_all_have_is_found_too(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let made = receipt("larkfell", 1);
    for number in 0..1200 {
        let one = entry(&format!("larkfell-{number:04}"), number);
        ledger.record(&one, Some(&made)).unwrap();
        if number == 0 {
            // The same receipt a second time is no other medium; only its first record has it.
            assert_eq!(ledger.count().unwrap(), 1);
        }
    }
    for number in 0..1100 {
        let mut other = made.clone();
        other.finished = format!("2026-11-28T{:02}:{:02}:00Z", number / 60, number % 60);
        other.seal().unwrap();
        let one = entry(&format!("larkfell-{number:04}"), 5000 + number);
        ledger.record(&one, Some(&other)).unwrap();
    }
    let found = ledger.find("larkfell", 3).unwrap();
    assert_eq!(
        units(&found),
        ["larkfell-1099", "larkfell-1098", "larkfell-1097"]
    );
    let found = ledger.find("larkfell larkfell-0007", 3).unwrap();
    assert_eq!(units(&found), ["larkfell-0007"]);
    assert_eq!(ledger.find("larkfell nothing", 3).unwrap().len(), 0);
}
