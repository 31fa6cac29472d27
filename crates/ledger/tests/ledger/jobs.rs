//! Batches: jobs, who holds them, and what becomes of them.

use std::sync::{Arc, Barrier, Mutex};
use std::thread;

use pinewrit_ledger::{Entry, JobKey, JobState, Kind, Lost, PlannedJob, Wanted};
use rstest::rstest;
use rstest_reuse::apply;

use crate::{In, entry, receipt, stores};

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
