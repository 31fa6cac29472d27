//! Records, their receipts, and how they are found.

use pinewrit_core::receipt::Receipt;
use pinewrit_ledger::{Entry, Kind, Ledger, LedgerError, Outbox, Parcel};
use rstest::rstest;
use rstest_reuse::apply;

use crate::{In, entry, receipt, stores, units};

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
