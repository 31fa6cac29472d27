//! Writing to media that work, and to media and sources that do not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{MIB, Packed, has_no_table, hut, image, old_medium};
use pinewrit_core::verify::{Comparison, VerifyError, verify};
use pinewrit_core::write::{WriteError, WriteOptions, WriteReport, write};
use pinewrit_core::{Cancel, Observer, Progress, Silent};
use pinewrit_disk::{BlockDevice, ByteRange, Fault, FaultyDevice, MemoryDevice};
use pinewrit_image::{ChecksumKind, ChecksumOrigin, ExpectedChecksum, ImageSource};
use rstest::rstest;

fn plain_write(source: &ImageSource, medium: &dyn BlockDevice) -> Result<WriteReport, WriteError> {
    write(
        source,
        medium,
        &WriteOptions::default(),
        &Silent,
        &Cancel::default(),
    )
}

fn range(start: u64, end: u64) -> ByteRange {
    ByteRange { start, end }
}

#[rstest]
#[case::size_known(Packed::zstd)]
#[case::size_unknown(Packed::gzip)]
#[case::raw(Packed::new)]
fn every_byte_of_the_image_is_on_the_medium(#[case] pack: fn(&[u8]) -> Packed) {
    let image = image();
    let packed = pack(&image);
    let medium = old_medium(20 * MIB);
    let report = plain_write(&packed.open(), &medium).unwrap();
    assert_eq!(report.image_bytes, image.len() as u64);
    assert!(report.verified);
    let bytes = medium.to_bytes();
    assert!(bytes[..image.len()] == image[..]);
    // Between the image and the cleared end the medium keeps what it had.
    assert!(
        bytes[image.len()..19 * MIB as usize]
            .iter()
            .all(|b| b & 1 == 1)
    );
    assert!(bytes[19 * MIB as usize..].iter().all(|&b| b == 0));
}

#[rstest]
#[case::one_sector(512)]
#[case::odd_length(4 * MIB as usize + 700)]
#[case::whole_chunks(8 * MIB as usize)]
fn images_of_every_length(#[case] len: usize) {
    let image: Vec<u8> = (0..len).map(|i| (i % 251) as u8).collect();
    let packed = Packed::zstd(&image);
    let medium = MemoryDevice::new(len);
    plain_write(&packed.open(), &medium).unwrap();
    assert!(medium.to_bytes() == image);
}

#[test]
fn an_image_known_to_be_too_large_touches_nothing() {
    let packed = Packed::zstd(&image());
    let medium = old_medium(13 * MIB);
    let before = medium.to_bytes();
    let error = plain_write(&packed.open(), &medium).unwrap_err();
    assert!(matches!(error, WriteError::TooLarge { image, medium }
        if (image, medium) == (14 * MIB, 13 * MIB)));
    assert!(medium.to_bytes() == before);
}

#[test]
fn an_image_of_unknown_size_stops_at_the_end() {
    let packed = Packed::gzip(&image());
    let medium = old_medium(13 * MIB);
    let error = plain_write(&packed.open(), &medium).unwrap_err();
    assert!(matches!(error, WriteError::PastEnd { medium } if medium == 13 * MIB));
    assert!(has_no_table(&medium));
}

#[test]
fn a_damaged_source_leaves_no_table() {
    let whole = std::fs::read(&Packed::gzip(&image()).path).unwrap();
    let packed = Packed::new(&whole[..whole.len() / 2]);
    let medium = old_medium(20 * MIB);
    let error = plain_write(&packed.open(), &medium).unwrap_err();
    assert!(matches!(error, WriteError::Source(_)), "{error:?}");
    assert!(has_no_table(&medium));
}

#[rstest]
fn checksums_are_of_the_packed_source_or_of_the_image(
    #[values("packed file", "unpacked image")] of: &str,
    #[values(
        ChecksumKind::Md5,
        ChecksumKind::Sha1,
        ChecksumKind::Sha256,
        ChecksumKind::Sha512
    )]
    kind: ChecksumKind,
    #[values(true, false)] fits: bool,
) {
    let packed = Packed::gzip(&image());
    let mut hasher = kind.hasher();
    match of {
        "packed file" => hasher.update(&std::fs::read(&packed.path).unwrap()),
        _ => hasher.update(&image()),
    }
    let mut checksum = hasher.finish();
    checksum.digest[0] ^= u8::from(!fits);
    let expected = ExpectedChecksum {
        checksum,
        subject: None,
        origin: ChecksumOrigin::Argument,
    };
    let options = WriteOptions {
        checksum: Some(&expected),
        ..WriteOptions::default()
    };
    let medium = old_medium(20 * MIB);
    let cancel = Cancel::default();
    match write(&packed.open(), &medium, &options, &Silent, &cancel) {
        Ok(report) => assert!(fits && report.checksum.unwrap().of == of),
        Err(WriteError::Checksum { .. }) => assert!(!fits && has_no_table(&medium)),
        Err(other) => panic!("{other:?}"),
    }
}

#[rstest]
#[case::bad_sector(Fault::WriteError(range(10 * MIB, 10 * MIB + 512)), "failed")]
#[case::bad_first_chunk(Fault::WriteError(range(100, 101)), "failed")]
#[case::unreadable(Fault::ReadError(range(10 * MIB, 10 * MIB + 512)), "failed")]
#[case::pulled(Fault::PulledAfter(15 * MIB), "failed")]
#[case::flipped_bit(Fault::FlippedBit(11 * MIB + 77), "1 chunks read back differently")]
#[case::flipped_in_the_first_chunk(Fault::FlippedBit(40), "chunks read back differently")]
#[case::lost_writes(Fault::LostWrites(range(5 * MIB, 20 * MIB)), "3 chunks read back")]
fn media_that_fail(#[case] fault: Fault, #[case] what: &str) {
    let packed = Packed::zstd(&image());
    let medium = FaultyDevice::new(old_medium(20 * MIB), vec![fault]);
    let error = plain_write(&packed.open(), &medium).unwrap_err();
    assert!(error.to_string().contains(what), "{error}");
    let at_the_start = matches!(fault, Fault::WriteError(r) if r.start == 100);
    // Pulled within the last chunk, it cannot be cleared again either.
    let pulled = matches!(fault, Fault::PulledAfter(_));
    let uncleared = matches!(error, WriteError::Clear(_));
    assert_eq!(uncleared, at_the_start || pulled, "{error:?}");
    let table = &medium.inner().to_bytes()[0x1be..0x200];
    // A medium that cannot be written at its start keeps what it had; all others lose the table.
    assert!(pulled || at_the_start || table.iter().all(|&b| b == 0));
}

#[test]
fn a_fault_is_not_noticed_without_reading_back() {
    let packed = Packed::zstd(&image());
    let fault = Fault::FlippedBit(11 * MIB + 77);
    let medium = FaultyDevice::new(old_medium(20 * MIB), vec![fault]);
    let options = WriteOptions {
        verify: false,
        ..WriteOptions::default()
    };
    let report = write(
        &packed.open(),
        &medium,
        &options,
        &Silent,
        &Cancel::default(),
    )
    .unwrap();
    assert!(!report.verified);
}

/// Cancels as soon as some bytes are done.
struct Impatient(Cancel);

impl Observer for Impatient {
    fn progress(&self, progress: Progress) {
        if progress.done > 5 * MIB {
            self.0.cancel();
        }
    }
}

#[test]
fn a_wish_to_stop_leaves_no_table() {
    let packed = Packed::zstd(&image());
    let medium = old_medium(20 * MIB);
    let cancel = Cancel::default();
    let observer = Impatient(cancel.clone());
    let options = WriteOptions::default();
    let error = write(&packed.open(), &medium, &options, &observer, &cancel).unwrap_err();
    assert!(matches!(error, WriteError::Cancelled));
    assert!(has_no_table(&medium));
}

#[test]
fn settings_are_on_the_medium_before_it_is_finished() {
    let packed = Packed::zstd(&image());
    let medium = old_medium(20 * MIB);
    let settings = hut();
    let options = WriteOptions {
        settings: Some(&settings),
        ..WriteOptions::default()
    };
    let report = write(
        &packed.open(),
        &medium,
        &options,
        &Silent,
        &Cancel::default(),
    )
    .unwrap();
    assert_eq!(report.configured.unwrap().files.len(), 3);
    let found = pinewrit_core::inspect::inspect(&medium, Some(medium.size())).unwrap();
    assert_eq!(
        found.settings.unwrap().host_name.as_deref(),
        Some("larkfell-03")
    );
}

fn compare(medium: &dyn BlockDevice) -> Result<Comparison, VerifyError> {
    verify(
        &Packed::gzip(&image()).open(),
        medium,
        &Silent,
        &Cancel::default(),
    )
}

#[test]
fn verify_names_the_first_and_last_differing_byte() {
    let medium = MemoryDevice::from_bytes([image(), vec![0; 5000]].concat());
    assert!(compare(&medium).unwrap().is_equal());
    for offset in [9 * MIB + 3, 9 * MIB + 900, 13 * MIB] {
        let mut byte = [0];
        medium.read_at(offset, &mut byte).unwrap();
        medium.write_at(offset, &[byte[0] ^ 0x80]).unwrap();
    }
    let comparison = compare(&medium).unwrap();
    assert_eq!(comparison.differing_bytes, 3);
    assert_eq!(comparison.differing_chunks, 2);
    let [only] = comparison.differences[..] else {
        panic!("neighbouring chunks make one run")
    };
    assert_eq!((only.start, only.end), (9 * MIB + 3, 13 * MIB + 1));
}

#[test]
fn a_medium_smaller_than_the_image_cannot_hold_it() {
    let medium = MemoryDevice::new(10 * MIB as usize);
    assert!(matches!(
        compare(&medium),
        Err(VerifyError::TooLarge { .. })
    ));
}
