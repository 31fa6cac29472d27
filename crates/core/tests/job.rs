//! The whole write job without a terminal: planned, refused, carried out for several media at once.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::path::{Path, PathBuf};

use common::{MIB, Packed, has_no_table, hut, image, old_medium, settings};
use pinewrit_core::state::{StateFolder, Subject};
use pinewrit_core::write::{
    Destination, ImageDoubt, JobError, PlanError, Start, Surroundings, WriteError, WritePlan,
    WriteRequest, WrittenMedium, carry_out,
};
use pinewrit_core::{Cancel, Observer, Silent};
use pinewrit_disk::{BlockDevice, MemoryDevice};
use pinewrit_host::{Permits, Readers, SystemRoots, Target};
use rstest::rstest;

/// A card file that is not there yet.
fn new_card(folder: &Path, name: &str, size: u64) -> Destination {
    let path = folder.join(name);
    Destination {
        name: name.to_owned(),
        key: path.display().to_string(),
        path: path.clone(),
        facts: None,
        target: Target::New {
            path,
            size,
            draft: None,
        },
        partition: None,
        whole: None,
        present: None,
        note: None,
    }
}

fn cards(folder: &Path, names: &[&str]) -> Vec<Destination> {
    let card = |name: &&str| new_card(folder, name, 20 * MIB);
    names.iter().map(card).collect()
}

fn request() -> WriteRequest {
    WriteRequest::new("pinewrit test", || 1_767_225_600)
}

/// A computer that has no media but files.
fn no_readers() -> SystemRoots {
    SystemRoots {
        sys: PathBuf::from("/nothing"),
        proc: PathBuf::from("/proc"),
        dev: PathBuf::from("/nothing"),
    }
}

/// Carries a plan out in a computer without readers, with its records in `state`.
fn run(plan: &mut WritePlan, state: &Path) -> Result<Vec<WrittenMedium>, JobError> {
    let store = StateFolder::open(&state.join("state")).unwrap();
    let surroundings = Surroundings {
        store: Some(&store),
        readers: &Readers::Computer(no_readers()),
    };
    let observers: Vec<&dyn Observer> = plan.media.iter().map(|_| &Silent as _).collect();
    let cancel = Cancel::default();
    carry_out(plan, &Start::default(), surroundings, &observers, &cancel)
}

#[test]
fn several_media_are_written_by_one_job_each_with_its_receipt() {
    let packed = Packed::zstd(&image());
    let names = ["hut-1.img", "hut-2.img", "hut-3.img"];
    let folder = packed.dir.path();
    let mut plan = WritePlan::new(packed.open(), cards(folder, &names), request()).unwrap();
    plan.rehearse().unwrap();
    assert_eq!(plan.doubts, []);
    assert_eq!(plan.preview.as_ref().unwrap().partitions.len(), 2);
    assert!(names.iter().all(|name| !folder.join(name).exists()));

    let written = run(&mut plan, folder).map_err(|_| "failed").unwrap();
    assert_eq!(written.len(), 3);
    let store = StateFolder::open(&folder.join("state")).unwrap();
    for (card, name) in written.iter().zip(names) {
        let done = card.result.as_ref().unwrap();
        assert!(done.report.verified);
        assert_eq!(
            done.receipt.medium.name,
            folder.join(name).display().to_string()
        );
        let bytes = std::fs::read(folder.join(name)).unwrap();
        assert_eq!(bytes.len() as u64, 20 * MIB);
        let medium = MemoryDevice::from_bytes(bytes);
        let place = folder.join(name);
        let subject = Subject {
            tag: None,
            place: &place,
            partition: None,
        };
        let found = store.find_receipt(&medium, subject).unwrap();
        assert_eq!(Some(&found.path), done.kept.path.as_ref());
        let same = found.receipt.compare(&medium, &Silent, &Cancel::default());
        assert!(same.unwrap().is_empty());
        // A receipt knows its card from all others.
        medium.write_at(9 * MIB + 5, b"moved").unwrap();
        let same = found.receipt.compare(&medium, &Silent, &Cancel::default());
        assert!(!same.unwrap().is_empty());
    }
}

#[test]
fn settings_are_tried_before_the_first_byte_and_are_on_the_card_afterwards() {
    let packed = Packed::zstd(&image());
    let folder = packed.dir.path();
    let request = WriteRequest {
        settings: Some(hut()),
        settings_digest: Some("a digest".into()),
        ..request()
    };
    let mut plan = WritePlan::new(packed.open(), cards(folder, &["hut-3.img"]), request).unwrap();
    plan.rehearse().unwrap();
    let tried: Vec<String> = changed(plan.rehearsal.as_ref().unwrap());
    assert!(!tried.is_empty() && !folder.join("hut-3.img").exists());
    let written = run(&mut plan, folder).map_err(|_| "failed").unwrap();
    let report = &written[0].result.as_ref().unwrap().report;
    assert_eq!(changed(report.configured.as_ref().unwrap()), tried);
}

fn changed(report: &pinewrit_firstboot::configure::ConfigureReport) -> Vec<String> {
    report.files.iter().map(|one| one.path.clone()).collect()
}

#[test]
fn one_host_name_is_for_one_medium() {
    let packed = Packed::zstd(&image());
    let request = WriteRequest {
        settings: Some(settings("hostname = \"larkfell-03\"\n")),
        ..request()
    };
    let media = cards(packed.dir.path(), &["a.img", "b.img"]);
    match WritePlan::new(packed.open(), media, request).err() {
        Some(PlanError::OneName { host_name, media }) => {
            assert_eq!((host_name.as_str(), media), ("larkfell-03", 2));
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn the_medium_that_is_too_small_is_named_and_none_is_made() {
    let packed = Packed::zstd(&image());
    let folder = packed.dir.path();
    let mut media = cards(folder, &["a.img", "b.img"]);
    media.push(new_card(folder, "small.img", 13 * MIB));
    match WritePlan::new(packed.open(), media, request()).err() {
        Some(PlanError::TooLarge {
            medium,
            image,
            size,
        }) => {
            assert_eq!(
                (medium.as_str(), image, size),
                ("small.img", 14 * MIB, 13 * MIB)
            );
        }
        other => panic!("{other:?}"),
    }
    assert!(!folder.join("a.img").exists());
}

#[rstest]
#[case::noise(|_: &[u8]| (0..3u64 << 20).map(|i| ((i * i) >> 9) as u8).collect(), "unknown")]
#[case::cut(|whole: &[u8]| whole[..11 << 20].to_vec(), "cut off")]
#[case::whole(|whole: &[u8]| whole.to_vec(), "")]
fn what_speaks_against_an_image_is_part_of_the_plan(
    #[case] change: fn(&[u8]) -> Vec<u8>,
    #[case] expected: &str,
    #[values(false, true)] as_it_is: bool,
) {
    let packed = Packed::zstd(&change(&image()));
    let request = WriteRequest {
        as_it_is,
        ..request()
    };
    let media = cards(packed.dir.path(), &["a.img"]);
    let plan = WritePlan::new(packed.open(), media, request).unwrap();
    let found = match plan.doubts.first() {
        None => "",
        Some(ImageDoubt::Unknown { head }) => {
            assert_eq!(*head, Some([0; 16]));
            "unknown"
        }
        Some(ImageDoubt::CutOff { size, reach }) => {
            assert_eq!((*size, *reach), (11 * MIB, 14 * MIB));
            "cut off"
        }
        Some(other) => panic!("{other:?}"),
    };
    assert_eq!(found, if as_it_is { "" } else { expected });
}

#[test]
fn a_source_that_ends_early_leaves_no_table_and_names_all_media() {
    let whole = std::fs::read(&Packed::gzip(&image()).path).unwrap();
    let packed = Packed::new(&whole[..whole.len() / 2]);
    let folder = packed.dir.path();
    let names = ["a.img", "b.img"];
    let mut plan = WritePlan::new(packed.open(), cards(folder, &names), request()).unwrap();
    match run(&mut plan, folder).err() {
        Some(JobError::Write { error, media }) => {
            assert!(matches!(error, WriteError::Source(_)), "{error:?}");
            let begun: Vec<&str> = media.iter().map(|medium| medium.name.as_str()).collect();
            assert_eq!(begun, names);
        }
        _ => panic!("a source that ends early was taken"),
    }
    for name in names {
        let bytes = std::fs::read(folder.join(name)).unwrap();
        assert!(has_no_table(&MemoryDevice::from_bytes(bytes)), "{name}");
    }
}

#[test]
fn a_card_that_was_there_keeps_its_size_and_loses_its_table_first() {
    let packed = Packed::zstd(&image());
    let folder = packed.dir.path();
    let path = folder.join("old.img");
    std::fs::write(&path, old_medium(20 * MIB).to_bytes()).unwrap();
    let mut card = new_card(folder, "old.img", 20 * MIB);
    card.target = Target::open(&no_readers(), &path, None, &Permits::default()).unwrap();
    let mut plan = WritePlan::new(packed.open(), vec![card], request()).unwrap();
    run(&mut plan, folder).map_err(|_| "failed").unwrap();
    let bytes = std::fs::read(&path).unwrap();
    assert_eq!(bytes.len() as u64, 20 * MIB);
    assert!(bytes[..14 * MIB as usize] != old_medium(14 * MIB).to_bytes()[..]);
    assert!(bytes[510..512] == [0x55, 0xaa]);
}
