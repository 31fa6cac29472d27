//! Fills a ledger with made-up receipts of 4 GiB images, to measure how it behaves when it is large:
//! `cargo run --release -p pinewrit-ledger --example fill-ledger -- PLACE COUNT`. `scripts/bench-ledger.sh`
//! uses it.

use std::error::Error;
use std::path::Path;
use std::time::Instant;

use pinewrit_core::receipt::{Identifiers, Receipt, ReceiptImage, ReceiptMedium, ReceiptSettings};
use pinewrit_core::write::{ChunkRecord, Pace, PacePoint, WriteReport};
use pinewrit_disk::{ByteRange, CHUNK_SIZE};
use pinewrit_ledger::{Entry, Kind, Ledger};

const CHUNKS: u64 = 1024;
/// Chunks in which one card differs from others with the same image.
const OWN: [u64; 6] = [0, 1, 17, 18, 300, 1023];
/// As often it is told how long the last ones took.
const TOLD: u64 = 10_000;

/// A number that looks random, from a seed (SplitMix64).
fn mixed(seed: u64) -> u64 {
    let mut z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

fn receipt(number: u64) -> Result<Receipt, Box<dyn Error>> {
    let size = CHUNK_SIZE as u64;
    let chunk = |index: u64| {
        let seed = if OWN.contains(&index) { number } else { 0 };
        let start = index * size;
        Some(ChunkRecord {
            index,
            used: vec![
                ByteRange::new(start, start + size / 2)?,
                ByteRange::new(start + size / 2 + 4096, start + size)?,
            ],
            digest: blake3::hash(&mixed(seed << 20 | index).to_le_bytes()),
        })
    };
    let pace = |salt: u64| {
        let point = |index: u64| PacePoint {
            offset: index * size,
            bytes: size - 4096,
            at: 0.11 * index as f64 + (mixed(number ^ salt ^ index) % 1000) as f64 / 1e5,
            took: 0.1 + (mixed(number + salt + index) % 3000) as f64 / 1e5,
        };
        (0..CHUNKS).map(point).collect()
    };
    let report = WriteReport {
        chunks: (0..CHUNKS)
            .map(chunk)
            .collect::<Option<_>>()
            .ok_or("ranges")?,
        verified: true,
        written_bytes: CHUNKS * size,
        write_seconds: 100.0 + (mixed(number) % 100) as f64,
        verify_seconds: 50.0,
        pace: Pace {
            written: pace(1),
            read: pace(2),
        },
        ..WriteReport::default()
    };
    let medium = ReceiptMedium {
        name: "/dev/sdx".to_owned(),
        tag: Some(format!("{:05X}", mixed(number) & 0xf_ffff)),
        maker: Some("Moraine".to_owned()),
        model: Some(format!("Scree {}", number % 5)),
        serial: Some(format!("{:08X}", mixed(number))),
        size: 8_000_000_000,
        ..ReceiptMedium::default()
    };
    let image = ReceiptImage {
        name: format!("larkfell-os-{}.img.zst", number / 20_000),
        unpacked_bytes: CHUNKS * size,
        checksum: Some(format!(
            "sha256:{}",
            blake3::hash(&(number / 20_000).to_le_bytes())
        )),
        ..ReceiptImage::default()
    };
    let mut receipt = Receipt::new("pinewrit fill".to_owned(), &report, medium, image);
    receipt.finished =
        jiff::Timestamp::from_second(1_700_000_000 + (number as i64) * 60)?.to_string();
    receipt.identifiers = Identifiers {
        table: Some(format!("{:08x}", mixed(number * 7) >> 32)),
        filesystems: vec![(
            Some(2),
            uuid::Uuid::from_u128(u128::from(mixed(number)) << 64).to_string(),
        )],
    };
    receipt.settings = Some(ReceiptSettings {
        host_name: Some(format!("larkfell-{number:06}")),
        digest: String::new(),
        files: vec!["/etc/hostname".to_owned()],
        intake: Some("rootfs".to_owned()),
        known_hosts: None,
    });
    receipt.seal()?;
    Ok(receipt)
}

#[allow(clippy::print_stdout, reason = "what it measures is its result")]
fn main() -> Result<(), Box<dyn Error>> {
    let args: Vec<String> = std::env::args().collect();
    let [_, place, count] = &args[..] else {
        return Err("fill PLACE COUNT".into());
    };
    let mut ledger = match place.contains("://") {
        true => Ledger::open_server(place)?,
        false => Ledger::open_file(Path::new(place))?,
    };
    let (count, mut begun) = (count.parse::<u64>()?, Instant::now());
    for number in 1..=count {
        let made = receipt(number)?;
        let address = std::net::Ipv4Addr::from((10 << 24) + number as u32);
        let entry = Entry {
            batch: Some(format!("year-{}", number / 50_000)),
            unit: Some(format!("larkfell-{number:06}")),
            station: Some("bench".to_owned()),
            addresses: vec![format!("{address}/8")],
            ..Entry::new(Kind::Write, 1_700_000_000 + (number as i64) * 60)
        };
        ledger.record(&entry, Some(&made))?;
        if number.is_multiple_of(TOLD) || number == count {
            let each = begun.elapsed().as_secs_f64() * 1000.0 / TOLD as f64;
            println!("{number:>8} records, {each:.2} ms each");
            begun = Instant::now();
        }
    }
    Ok(())
}
