//! Settings on a medium: all or nothing, twice the same as once, no secret in plain.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{KEY, MIB, boot_range, hut, image, make_fat, prepare, settings};
use pinewrit_core::inspect::inspect;
use pinewrit_disk::{BlockDevice, CommitState, Fault, FaultyDevice, MemoryDevice, UndoLog, Window};
use pinewrit_firstboot::configure::{ChangeKind, ConfigureError};
use pinewrit_volume::files::open_to_read;
use proptest::prelude::*;

fn read(medium: &dyn BlockDevice, name: &str) -> String {
    let window = Window::new(medium, boot_range());
    let files = open_to_read(&window).unwrap();
    files.text(&format!("/{name}")).unwrap().unwrap()
}

fn configured() -> MemoryDevice {
    let medium = MemoryDevice::from_bytes(image());
    prepare(&medium, &hut()).unwrap().commit(None).unwrap();
    medium
}

#[test]
fn twice_is_the_same_as_once() {
    let medium = configured();
    let once = medium.to_bytes();
    // The password is hashed anew each time, but the hash on the medium fits and is kept.
    let prepared = prepare(&medium, &hut()).unwrap();
    assert!(prepared.report().is_unchanged());
    prepared.commit(None).unwrap();
    assert!(medium.to_bytes() == once);
}

#[test]
fn preparing_changes_nothing() {
    let medium = MemoryDevice::from_bytes(image());
    let prepared = prepare(&medium, &hut()).unwrap();
    let kinds: Vec<_> = prepared.report().files.iter().map(|f| f.kind).collect();
    assert_eq!(kinds, [ChangeKind::New; 3]);
    drop(prepared);
    assert!(medium.to_bytes() == image());
}

#[test]
fn only_the_boot_partition_changes() {
    let (before, after) = (image(), configured().to_bytes());
    let boot = boot_range();
    assert!(before[..boot.start as usize] == after[..boot.start as usize]);
    assert!(before[boot.end as usize..] == after[boot.end as usize..]);
}

#[test]
fn no_plain_secret_is_on_the_medium_or_in_the_report() {
    let medium = MemoryDevice::from_bytes(image());
    let report = prepare(&medium, &hut()).unwrap().commit(None).unwrap();
    let bytes = medium.to_bytes();
    let shown = serde_json::to_string(&report).unwrap();
    for secret in ["kestrel over scree 1407", "plain sample words"] {
        let found = bytes.windows(secret.len()).any(|w| w == secret.as_bytes());
        assert!(!found && !shown.contains(secret), "{secret}");
    }
    assert!(read(&medium, "user-data").contains("hashed_passwd: '$6$"));
    assert!(!shown.contains("$6$"), "not even the hash: {shown}");
}

#[test]
fn the_first_line_is_exactly_what_cloud_init_wants() {
    let user_data = read(&configured(), "user-data");
    assert_eq!(user_data.lines().next(), Some("#cloud-config"));
}

#[test]
fn other_settings_get_another_instance() {
    let medium = configured();
    let first = read(&medium, "meta-data");
    let other = settings(&format!(
        "hostname = \"larkfell-03\"\n[[users]]\nname = \"keeper\"\nssh-keys = [\"{KEY}\"]\n"
    ));
    let report = prepare(&medium, &other).unwrap().commit(None).unwrap();
    assert_eq!(report.files[0].kind, ChangeKind::Changed);
    assert!(report.files[0].diff.contains("+- name: 'keeper'"));
    assert!(!report.files[0].diff.contains("$6$"));
    assert_ne!(read(&medium, "meta-data"), first);
}

#[test]
fn the_partition_that_cloud_init_finds_goes_before_the_first() {
    let medium = MemoryDevice::from_bytes(image());
    assert!(
        !prepare(&medium, &hut_without_password())
            .unwrap()
            .report()
            .found_by_label
    );
    // The Linux partition becomes a second FAT file system, with the label.
    let second = pinewrit_disk::ByteRange {
        start: 9 * MIB,
        end: 14 * MIB,
    };
    let window = Window::new(&medium, second);
    make_fat(&window, "cidata");
    let prepared = prepare(&medium, &hut_without_password()).unwrap();
    assert_eq!(prepared.report().partition, Some(2));
    assert!(prepared.report().found_by_label);
}

#[test]
fn a_medium_without_fat_takes_no_settings() {
    let mut bytes = image();
    bytes[MIB as usize..MIB as usize + 512].fill(0);
    let medium = MemoryDevice::from_bytes(bytes.clone());
    let error = prepare(&medium, &hut()).err().unwrap();
    assert!(
        matches!(&error, ConfigureError::NoPlace { found }
        if found[..] == ["1 FAT32 (LBA) (0x0c)", "2 Linux (0x83)"]),
        "{error:?}"
    );
    assert!(medium.to_bytes() == bytes);
}

#[test]
fn a_commit_that_fails_is_taken_back() {
    let dir = tempfile::tempdir().unwrap();
    let undo = UndoLog::new(dir.path().join("undo"));
    // The directory is written last: its sector fails.
    let probe = configured().to_bytes();
    let before = image();
    let late = (0..before.len()).find(|&i| before[i] != probe[i]).unwrap() as u64;
    let bad = Fault::WriteError(pinewrit_disk::ByteRange::from_len(late, 1).unwrap());
    let medium = FaultyDevice::new(MemoryDevice::from_bytes(image()), vec![bad]);
    let prepared = prepare(&medium, &hut()).unwrap();
    assert!(prepared.commit(Some(&undo)).is_err());
    assert!(medium.inner().to_bytes() == before);
    assert_eq!(undo.state(&medium).unwrap(), CommitState::Nothing);
}

#[test]
fn a_full_file_system_changes_nothing() {
    let medium = MemoryDevice::from_bytes(image());
    {
        let window = Window::new(&medium, boot_range());
        let mut editor = pinewrit_fat::Editor::open(&window).unwrap();
        let len = editor.free() - editor.geometry().cluster;
        let filler = vec![7; len as usize];
        let usual = pinewrit_fat::Placement::Usual;
        editor
            .write_file("filler.bin", len, &mut &filler[..], 0, usual)
            .unwrap();
        editor.commit().unwrap();
    }
    let before = medium.to_bytes();
    let error = prepare(&medium, &hut()).err().unwrap();
    assert!(matches!(error, ConfigureError::Files(_)), "{error:?}");
    assert!(error.to_string().contains("no room"), "{error}");
    assert!(medium.to_bytes() == before);
}

proptest! {
    /// Damage in the table, the boot sector, the allocation tables or the directory: told or
    /// lived with, but no panic and no endless loop.
    #[test]
    fn damaged_media_cause_no_panic(
        damage in prop::collection::vec((0usize..3, 0usize..70_000, any::<u8>()), 1..30),
    ) {
        let mut bytes = image();
        for (place, offset, value) in damage {
            let base = [0x1be, MIB as usize, MIB as usize][place];
            let span = [66, 64, 70_000][place];
            bytes[base + offset % span] = value;
        }
        let medium = MemoryDevice::from_bytes(bytes);
        let _ = inspect(&medium, Some(medium.size()));
        if let Ok(prepared) = prepare(&medium, &hut_without_password()) {
            let _ = prepared.commit(None);
        }
    }
}

/// Hashing a password takes longer than everything else in the test above.
fn hut_without_password() -> pinewrit_settings::CheckedSettings {
    settings(&format!(
        "hostname = \"larkfell-03\"\n[[users]]\nname = \"warden\"\nssh-keys = [\"{KEY}\"]\n"
    ))
}
