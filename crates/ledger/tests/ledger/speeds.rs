//! What is known of how fast media are.

use pinewrit_ledger::{Speed, SpeedSource};
use rstest::rstest;
use rstest_reuse::apply;

use crate::{In, entry, receipt, stores};

/// A medium itself rather than its model, measured rather than written.
#[apply(stores)]
fn the_nearest_speed_is_known(#[case] store: In) {
    let (_place, mut ledger) = opened!(store);
    let model = Some("Moraine Scree 8");
    assert_eq!(ledger.known_speed(Some("K7F1"), model).unwrap(), None);
    let written = entry("larkfell-01", 101);
    ledger
        .record(&written, Some(&receipt("larkfell-01", 1)))
        .unwrap();
    let known = |ledger: &mut pinewrit_ledger::Ledger, tag: &str| {
        let known = ledger.known_speed(Some(tag), model).unwrap().unwrap();
        (known.source, known.read, known.write)
    };
    let rate = Some(7_200_000);
    assert_eq!(
        known(&mut ledger, "K7F1"),
        (SpeedSource::Written, None, rate)
    );
    assert_eq!(
        known(&mut ledger, "K7F2"),
        (SpeedSource::ModelWritten, None, rate)
    );
    for (time, tag, write) in [(102, "K7F3", 20), (103, "K7F4", 22), (104, "K7F5", 21)] {
        let speed = Speed {
            time,
            tag: Some(tag.to_owned()),
            model: model.map(str::to_owned),
            size: 8_000_000_000,
            real: None,
            read: Some(90),
            write: Some(write),
        };
        ledger.record_speed(&speed).unwrap();
    }
    let measured = (SpeedSource::Measured, Some(90), Some(20));
    assert_eq!(known(&mut ledger, "K7F3"), measured);
    let of_model = (SpeedSource::ModelMeasured, Some(90), Some(21));
    assert_eq!(known(&mut ledger, "K7F2"), of_model);
    assert_eq!(ledger.known_speed(None, Some("")).unwrap(), None);
}
