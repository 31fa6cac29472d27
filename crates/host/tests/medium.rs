//! Opening card files: what is made, what is refused, and what is left alone.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::path::PathBuf;

use pinewrit_disk::BlockDevice;
use pinewrit_host::{Hold, Medium, MediumError, MediumKind, Permits, SystemRoots, Target, Verdict};

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn open(&self, name: &str, size: Option<u64>) -> Result<Target, MediumError> {
        Target::open(
            &SystemRoots::default(),
            &self.path(name),
            size,
            &Permits::default(),
        )
    }
}

#[test]
fn a_new_card_file_is_made_only_when_work_begins() {
    let folder = Folder::new();
    let target = folder.open("card.img", Some(5_000_001)).unwrap();
    assert_eq!(target.size(), 5_000_001);
    assert!(!folder.path("card.img").exists());
    let medium = target.into_medium().unwrap();
    assert_eq!(medium.kind, MediumKind::CardFile);
    assert_eq!(medium.device.size(), 5_000_001);
    assert_eq!(
        fs::metadata(folder.path("card.img")).unwrap().len(),
        5_000_001
    );
}

#[test]
fn a_card_file_that_appears_meanwhile_is_not_overwritten() {
    let folder = Folder::new();
    let target = folder.open("card.img", Some(4096)).unwrap();
    fs::write(folder.path("card.img"), "somebody else's").unwrap();
    assert!(matches!(target.into_medium(), Err(MediumError::Io { .. })));
    assert_eq!(
        fs::read(folder.path("card.img")).unwrap(),
        b"somebody else's"
    );
}

#[test]
fn a_draft_gets_its_name_when_it_is_settled() {
    let folder = Folder::new();
    fs::write(folder.path("draft"), vec![7; 4096]).unwrap();
    let target = folder.open("card.img", Some(4096)).unwrap();
    let mut medium = target.drafted(folder.path("draft")).into_medium().unwrap();
    assert!(!folder.path("card.img").exists());
    medium.device.write_at(0, &[9; 512]).unwrap();
    medium.settle().unwrap();
    assert!(!folder.path("draft").exists());
    assert_eq!(fs::read(folder.path("card.img")).unwrap()[0], 9);
    // Nothing is left to settle.
    medium.settle().unwrap();
}

#[test]
fn a_draft_does_not_replace_what_appeared_meanwhile() {
    let folder = Folder::new();
    fs::write(folder.path("draft"), vec![7; 4096]).unwrap();
    let target = folder.open("card.img", Some(4096)).unwrap();
    let mut medium = target.drafted(folder.path("draft")).into_medium().unwrap();
    fs::write(folder.path("card.img"), "somebody else's").unwrap();
    assert!(matches!(medium.settle(), Err(MediumError::Io { .. })));
    assert_eq!(
        fs::read(folder.path("card.img")).unwrap(),
        b"somebody else's"
    );
}

#[test]
fn one_card_file_has_one_writer() {
    let folder = Folder::new();
    fs::write(folder.path("card.img"), [0; 4096]).unwrap();
    let first = folder.open("card.img", None).unwrap();
    let second = folder.open("card.img", None).unwrap_err();
    let busy = Verdict::Busy(vec![Hold::OpenElsewhere]);
    assert!(matches!(second, MediumError::Refused { verdict, .. } if verdict == busy));
    drop(first);
    folder.open("card.img", Some(4096)).unwrap();
}

#[test]
fn reading_needs_no_lock_and_changes_nothing() {
    let folder = Folder::new();
    fs::write(folder.path("card.img"), [3; 4096]).unwrap();
    let _writer = folder.open("card.img", None).unwrap();
    let medium = Medium::open_for_reading(&folder.path("card.img")).unwrap();
    let mut sector = [0; 512];
    medium.device.read_at(512, &mut sector).unwrap();
    assert_eq!(sector, [3; 512]);
    assert!(medium.device.write_at(0, &[1]).is_err());
}

#[test]
fn what_is_no_medium() {
    let folder = Folder::new();
    fs::write(folder.path("card.img"), [0; 4096]).unwrap();
    let fails = |name: &str, size| folder.open(name, size).unwrap_err();
    assert!(matches!(
        fails("none.img", None),
        MediumError::Missing { .. }
    ));
    assert!(matches!(
        fails("none/card.img", Some(1)),
        MediumError::Missing { .. }
    ));
    assert!(matches!(fails(".", None), MediumError::Folder { .. }));
    assert!(matches!(
        fails("/dev/null", None),
        MediumError::Special { .. }
    ));
    assert!(matches!(
        fails("card.img", Some(8192)),
        MediumError::OtherSize {
            found: 4096,
            asked: 8192,
            ..
        }
    ));
}
