//! The ledger, over a file and over a server: the same must hold of both.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::path::Path;
use std::sync::LazyLock;

use pinewrit_core::receipt::{Identifiers, Receipt, ReceiptImage, ReceiptMedium, ReceiptSettings};
use pinewrit_core::write::{ChunkRecord, Pace, PacePoint, WriteReport};
use pinewrit_disk::ByteRange;
use pinewrit_judges::Server;
use pinewrit_ledger::{Entry, Kind, Ledger, LedgerError};
use rstest::rstest;
use rstest_reuse::template;
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

mod jobs;
mod records;
mod speeds;

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
                known: 2
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
