//! Tables as they are met on media, whole and damaged.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use pinewrit_disk::{BlockDevice, ByteRange, MemoryDevice, SectorSize};
use pinewrit_table::{Mbr, MbrEntry, PartitionTable, Problem, Scheme, TableCopy, Uuid};
use proptest::prelude::*;
use rstest::rstest;

const MIB: u64 = 1 << 20;

fn entry(kind: u8, first_lba: u32, sectors: u32) -> Option<MbrEntry> {
    Some(MbrEntry {
        active: false,
        kind,
        first_lba,
        sectors,
    })
}

fn record(entries: [Option<MbrEntry>; 4]) -> [u8; 512] {
    Mbr {
        has_boot_code: false,
        signature: 0x0bad_cafe,
        entries,
    }
    .to_bytes()
}

fn medium(first_sector: [u8; 512]) -> MemoryDevice {
    let device = MemoryDevice::new(64 * MIB as usize);
    device.write_at(0, &first_sector).unwrap();
    device
}

/// A GPT with one EFI system partition, made field by field from the specification.
fn gpt_medium(sector: SectorSize) -> MemoryDevice {
    let bytes = sector.bytes();
    let device = MemoryDevice::new(16 * MIB as usize).with_sector(sector);
    let last = device.size() / bytes - 1;
    device
        .write_at(0, &record([entry(0xee, 1, u32::MAX), None, None, None]))
        .unwrap();

    let mut entries = vec![0; 128 * 128];
    let esp = Uuid::parse_str("C12A7328-F81F-11D2-BA4B-00A0C93EC93B").unwrap();
    entries[..16].copy_from_slice(&esp.to_bytes_le());
    entries[16..32].fill(7);
    entries[32..40].copy_from_slice(&(MIB / bytes).to_le_bytes());
    entries[40..48].copy_from_slice(&(2 * MIB / bytes - 1).to_le_bytes());
    for (index, unit) in "hut boot".encode_utf16().enumerate() {
        entries[56 + 2 * index..][..2].copy_from_slice(&unit.to_le_bytes());
    }
    let entry_sectors = entries.len() as u64 / bytes;
    for (my, other, entries_at) in [(1, last, 2), (last, 1, last - entry_sectors)] {
        let mut header = vec![0; 92];
        header[..8].copy_from_slice(b"EFI PART");
        header[8..16].copy_from_slice(&[0, 0, 1, 0, 92, 0, 0, 0]);
        header[24..32].copy_from_slice(&my.to_le_bytes());
        header[32..40].copy_from_slice(&other.to_le_bytes());
        header[40..48].copy_from_slice(&(2 + entry_sectors).to_le_bytes());
        header[48..56].copy_from_slice(&(last - entry_sectors - 1).to_le_bytes());
        header[56..72].fill(0x11);
        header[72..80].copy_from_slice(&entries_at.to_le_bytes());
        header[80..84].copy_from_slice(&128u32.to_le_bytes());
        header[84..88].copy_from_slice(&128u32.to_le_bytes());
        header[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
        let crc = crc32fast::hash(&header);
        header[16..20].copy_from_slice(&crc.to_le_bytes());
        device.write_at(my * bytes, &header).unwrap();
        device.write_at(entries_at * bytes, &entries).unwrap();
    }
    device
}

fn read(device: &MemoryDevice) -> PartitionTable {
    PartitionTable::read(device).unwrap().expect("a table")
}

#[test]
fn primary_partitions_keep_their_numbers() {
    let table = read(&medium(record([
        None,
        entry(0x0c, 2048, 2048),
        None,
        entry(0x83, 8192, 100),
    ])));
    assert_eq!(
        table.scheme,
        Scheme::Mbr {
            signature: 0x0bad_cafe
        }
    );
    let numbers: Vec<_> = table.partitions.iter().map(|p| p.number).collect();
    assert_eq!(numbers, [2, 4]);
    assert_eq!(
        table.partitions[0].range,
        ByteRange {
            start: MIB,
            end: 2 * MIB
        }
    );
    assert_eq!(table.problems, []);
}

#[test]
fn logical_partitions_count_from_five() {
    let device = medium(record([
        entry(0x0c, 2048, 2048),
        entry(0x0f, 8192, 40960),
        None,
        None,
    ]));
    let first = record([entry(0x83, 2048, 100), entry(0x05, 16384, 8192), None, None]);
    let second = record([entry(0x82, 2048, 100), None, None, None]);
    device.write_at(8192 * 512, &first).unwrap();
    device.write_at((8192 + 16384) * 512, &second).unwrap();
    let table = read(&device);
    let found: Vec<_> = table
        .partitions
        .iter()
        .map(|p| (p.number, p.range.start / 512))
        .collect();
    assert_eq!(found, [(1, 2048), (5, 10240), (6, 26624)]);
}

#[test]
fn a_chain_that_points_back_ends() {
    let device = medium(record([entry(0x0f, 8192, 40960), None, None, None]));
    let looping = record([entry(0x83, 2048, 100), entry(0x05, 0, 8192), None, None]);
    device.write_at(8192 * 512, &looping).unwrap();
    let table = read(&device);
    assert_eq!(table.partitions.len(), 1);
    assert_eq!(table.problems, [Problem::BrokenChain { lba: 8192 }]);
}

#[test]
fn overlaps_and_ends_outside_are_told() {
    let table = read(&medium(record([
        entry(0x0c, 2048, 4096),
        entry(0x83, 4096, u32::MAX),
        None,
        None,
    ])));
    assert_eq!(table.problems.len(), 2);
    assert!(matches!(
        table.problems[0],
        Problem::PastEnd { number: 2, .. }
    ));
    assert_eq!(table.problems[1], Problem::Overlap { numbers: (1, 2) });
}

#[test]
fn a_fat_boot_sector_is_no_table() {
    let mut sector = record([entry(0x74, 1, 100), None, None, None]);
    sector[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
    sector[11..14].copy_from_slice(&[0, 2, 4]);
    sector[16] = 2;
    sector[21] = 0xf8;
    assert_eq!(PartitionTable::read(&medium(sector)).unwrap(), None);
}

#[rstest]
#[case(SectorSize::B512)]
#[case(SectorSize::B4096)]
fn a_gpt_counts_in_sectors_of_the_medium(#[case] sector: SectorSize) {
    let table = read(&gpt_medium(sector));
    assert_eq!(
        table.partitions[0].range,
        ByteRange {
            start: MIB,
            end: 2 * MIB
        }
    );
    assert_eq!(table.partitions[0].name.as_deref(), Some("hut boot"));
    assert!(table.partitions[0].kind.is_efi_system());
    assert_eq!(table.problems, []);
}

#[rstest]
#[case::signature(512, "no GPT header")]
#[case::checksum(512 + 56, "checksum of the GPT header")]
#[case::entries(1024 + 5, "checksum of the GPT entries")]
fn a_damaged_first_gpt_gives_way_to_its_backup(#[case] offset: u64, #[case] why: &str) {
    let device = gpt_medium(SectorSize::B512);
    device.write_at(offset, &[0xff]).unwrap();
    let table = read(&device);
    assert!(matches!(
        table.scheme,
        Scheme::Gpt {
            copy: TableCopy::Backup,
            ..
        }
    ));
    assert_eq!(table.partitions.len(), 1);
    assert!(
        table.problems[0].to_string().contains(why),
        "{}",
        table.problems[0]
    );
}

#[test]
fn a_gpt_without_any_usable_copy_is_said_to_be_lost() {
    let device = gpt_medium(SectorSize::B512);
    device.write_at(512, &[0; 8]).unwrap();
    device.write_at(device.size() - 512, &[0; 8]).unwrap();
    assert!(matches!(read(&device).problems[..], [Problem::GptLost(_)]));
}

#[test]
fn a_gpt_on_a_larger_medium_has_its_backup_in_the_middle() {
    let device = gpt_medium(SectorSize::B512);
    let larger = MemoryDevice::new(32 * MIB as usize);
    larger.write_at(0, &device.to_bytes()).unwrap();
    assert!(matches!(
        read(&larger).problems[..],
        [Problem::BackupNotAtEnd { .. }]
    ));
}

proptest! {
    #[test]
    fn no_first_sectors_can_cause_a_panic(
        mut bytes in prop::collection::vec(any::<u8>(), 0..2048),
        status in prop::array::uniform4(prop_oneof![Just(0u8), Just(0x80)]),
        kind in prop_oneof![Just(0x05u8), Just(0xee), any::<u8>()],
    ) {
        if bytes.len() >= 512 {
            for (index, status) in status.into_iter().enumerate() {
                bytes[0x1be + 16 * index] = status;
            }
            bytes[0x1be + 4] = kind;
            bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
        }
        let _ = PartitionTable::read(&MemoryDevice::from_bytes(bytes));
    }
}
