//! The rack as the crate's users see it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::path::Path;

use pinewrit_disk::BlockDevice;
use pinewrit_host::{MediumError, Permits, Rack, Readers, Tag};

const RACK: &str = "clock = \"instant\"
[[readers]]
name = \"slot\"
holds = \"one\"
[[cards]]
name = \"one\"
file = \"one.img\"
size = \"8MB\"
serial = \"1\"
sector = 4096
[[cards]]
name = \"two\"
file = \"two.img\"
size = \"8MB\"
serial = \"2\"
";

fn rack() -> (tempfile::TempDir, Rack) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("rack.toml");
    std::fs::write(&path, RACK).unwrap();
    let rack = Rack::open(&path).unwrap();
    (dir, rack)
}

fn tag(readers: &Readers) -> Tag {
    readers.media().unwrap()[0].tag.clone().unwrap()
}

/// Somebody changes the card between the choice and the opening.
#[test]
fn another_card_than_the_chosen_one_is_not_opened() {
    let (dir, mut rack) = rack();
    let chosen = tag(&Readers::Rack(rack.clone()));
    rack.remove("one").unwrap();
    rack.insert("two", "slot").unwrap();
    let readers = Readers::Rack(rack);
    let permits = Permits {
        chosen: Some(chosen.clone()),
        confirmed: None,
    };
    let path = Path::new("rack:slot");
    let error = readers.open_target(path, None, &permits).unwrap_err();
    assert!(matches!(error, MediumError::Changed { .. }), "{error}");
    assert!(!dir.path().join("two.img").exists());
    assert_ne!(tag(&readers), chosen);
}

#[test]
fn one_writer_at_a_time() {
    let (_dir, rack) = rack();
    let readers = Readers::Rack(rack);
    let path = Path::new("rack:slot");
    let first = readers
        .open_target(path, None, &Permits::default())
        .unwrap();
    assert!(
        readers
            .open_target(path, None, &Permits::default())
            .is_err()
    );
    assert!(readers.open_for_reading(path).is_ok());
    drop(first);
    let medium = readers
        .open_target(path, None, &Permits::default())
        .unwrap();
    assert_eq!(medium.size(), 8_000_000);
    let device = medium.into_medium().unwrap().device;
    assert_eq!(device.logical_sector().bytes(), 4096);
}
