//! Writing to media that work, and to media and sources that do not.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{MIB, Packed, has_no_table, hut, image, old_medium};
use pinewrit_core::verify::{Comparison, VerifyError, verify};
use pinewrit_core::write::{
    ReadBack, Stability, WriteError, WriteOptions, WriteOrder, WriteReport, write, write_all,
};
use pinewrit_core::{Cancel, Observer, Progress, Silent};
use pinewrit_disk::{
    BlockDevice, ByteRange, DiskError, Fault, FaultyDevice, MemoryDevice, SectorSize,
};
use pinewrit_image::{ChecksumKind, ChecksumOrigin, ExpectedChecksum, ImageSource};
use rstest::rstest;

fn plain_write(source: &ImageSource, medium: &dyn BlockDevice) -> Result<WriteReport, WriteError> {
    write_with(source, medium, &WriteOptions::default())
}

fn write_with(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    options: &WriteOptions<'_>,
) -> Result<WriteReport, WriteError> {
    let target = WriteOrder::plain(medium, &Silent);
    write(source, &target, options, &Cancel::default())
}

/// Options with which the medium is an exact copy.
fn every_byte() -> WriteOptions<'static> {
    WriteOptions {
        every_byte: true,
        ..WriteOptions::default()
    }
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
    let report = write_with(&packed.open(), &medium, &every_byte()).unwrap();
    assert_eq!(report.image_bytes, image.len() as u64);
    assert_eq!(report.free_bytes, 0);
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
    match write_with(&packed.open(), &medium, &options) {
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
    let error = write_with(&packed.open(), &medium, &every_byte()).unwrap_err();
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
    let report = write_with(&packed.open(), &medium, &options).unwrap();
    assert!(!report.verified);
}

/// Cancels as soon as some bytes are done.
struct Impatient(Cancel);

impl Observer for Impatient {
    fn progress(&self, progress: Progress) {
        if progress.done > MIB {
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
    let target = WriteOrder::plain(&medium, &observer);
    let error = write(&packed.open(), &target, &options, &cancel).unwrap_err();
    assert!(matches!(error, WriteError::Cancelled));
    assert!(has_no_table(&medium));
}

#[test]
fn settings_are_on_the_medium_before_it_is_finished() {
    let packed = Packed::zstd(&image());
    let medium = old_medium(20 * MIB);
    let settings = hut();
    let target = WriteOrder {
        settings: Some(&settings),
        ..WriteOrder::plain(&medium, &Silent)
    };
    let options = WriteOptions::default();
    let report = write(&packed.open(), &target, &options, &Cancel::default()).unwrap();
    for chunk in &report.chunks {
        let mut hasher = blake3::Hasher::new();
        for range in &chunk.used {
            let mut found = vec![0; range.len() as usize];
            medium.read_at(range.start, &mut found).unwrap();
            hasher.update(&found);
        }
        assert_eq!(
            hasher.finalize(),
            chunk.digest,
            "digests are of the finished medium"
        );
    }
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
        true,
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

#[test]
fn free_space_is_left_as_it_was() {
    let image = image();
    let medium = old_medium(20 * MIB);
    let report = plain_write(&Packed::zstd(&image).open(), &medium).unwrap();
    // The FAT partition of 8 MiB is all but empty.
    assert!(report.free_bytes > 7 * MIB, "{report:?}");
    assert_eq!(report.used_bytes + report.free_bytes, 14 * MIB);
    let bytes = medium.to_bytes();
    // The last sectors of that partition are no whole cluster.
    let middle = 5 * MIB as usize..9 * MIB as usize - 8192;
    assert!(bytes[middle].iter().all(|byte| byte & 1 == 1));
    assert!(bytes[..4 * MIB as usize] == image[..4 * MIB as usize]);
    assert!(bytes[9 * MIB as usize..14 * MIB as usize] == image[9 * MIB as usize..]);
    let same = |every| {
        let packed = Packed::zstd(&image);
        let cancel = Cancel::default();
        verify(&packed.open(), &medium, every, &Silent, &cancel)
            .unwrap()
            .is_equal()
    };
    assert!(same(false) && !same(true));
}

#[rstest]
#[case::after(ReadBack::After)]
#[case::behind(ReadBack::Behind)]
fn several_media_are_fed_by_one_decoding(#[case] read_back: ReadBack) {
    let image = image();
    let media: Vec<_> = [
        vec![],
        vec![Fault::WriteError(range(10 * MIB, 10 * MIB + 1))],
        vec![Fault::FlippedBit(11 * MIB + 77)],
        vec![],
    ]
    .into_iter()
    .zip([20, 20, 20, 13])
    .map(|(faults, size)| FaultyDevice::new(old_medium(size * MIB), faults))
    .collect();
    let targets: Vec<_> = media
        .iter()
        .map(|medium| WriteOrder {
            read_back,
            ..WriteOrder::plain(medium, &Silent)
        })
        .collect();
    let packed = Packed::zstd(&image);
    let results = write_all(&packed.open(), &targets, &every_byte(), &Cancel::default()).unwrap();
    assert!(results[0].is_ok());
    assert!(media[0].inner().to_bytes()[..image.len()] == image[..]);
    assert!(
        matches!(results[1], Err(WriteError::Disk(_))),
        "{:?}",
        results[1]
    );
    let Err(WriteError::ReadBack {
        offset,
        bytes,
        stability,
        place,
        ..
    }) = &results[2]
    else {
        panic!("{:?}", results[2]);
    };
    assert_eq!((*offset, *bytes), (11 * MIB + 77, Some(1)));
    assert_eq!((*stability, place.partition), (Stability::Wrong, Some(2)));
    assert!(matches!(results[3], Err(WriteError::TooLarge { .. })));
    assert!(has_no_table(media[1].inner()) && has_no_table(media[2].inner()));
}

#[test]
fn only_what_differs_is_written() {
    let image = image();
    let packed = Packed::zstd(&image);
    let mut there = image.clone();
    there[13 * MIB as usize] ^= 1;
    let medium = MemoryDevice::from_bytes(there);
    let options = WriteOptions {
        only_changes: true,
        ..every_byte()
    };
    let report = write_with(&packed.open(), &medium, &options).unwrap();
    // The first chunk is always written.
    assert_eq!(
        (report.written_bytes, report.kept_bytes),
        (6 * MIB, 8 * MIB)
    );
    assert!(medium.to_bytes() == image);
}

#[test]
fn the_last_partition_is_grown() {
    let packed = Packed::zstd(&image());
    let medium = old_medium(33 * MIB + 512);
    let target = WriteOrder {
        grow: true,
        ..WriteOrder::plain(&medium, &Silent)
    };
    let options = WriteOptions::default();
    let report = write(&packed.open(), &target, &options, &Cancel::default()).unwrap();
    let grown = report.grown.unwrap();
    assert_eq!(
        (grown.partition, grown.before, grown.size),
        (Some(2), 5 * MIB, 24 * MIB)
    );
    let found = pinewrit_core::inspect::inspect(&medium, Some(medium.size())).unwrap();
    assert_eq!(found.partitions[1].size, 24 * MIB);
    assert!(found.problems.is_empty(), "{:?}", found.problems);
}

/// A medium that reads as anything where it was discarded.
struct Forgetful(MemoryDevice);

impl BlockDevice for Forgetful {
    fn size(&self) -> u64 {
        self.0.size()
    }
    fn logical_sector(&self) -> SectorSize {
        self.0.logical_sector()
    }
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.0.read_at(offset, buffer)
    }
    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.0.write_at(offset, data)
    }
    fn discard(&self, range: ByteRange) -> Result<bool, DiskError> {
        self.0
            .write_at(range.start, &vec![0xee; range.len() as usize])?;
        Ok(true)
    }
    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}

#[test]
fn a_medium_may_forget_what_is_discarded() {
    let medium = Forgetful(old_medium(20 * MIB));
    let options = WriteOptions {
        clear_free: true,
        ..WriteOptions::default()
    };
    let report = write_with(&Packed::zstd(&image()).open(), &medium, &options).unwrap();
    assert!(report.verified && report.free_bytes > 7 * MIB);
    let bytes = medium.0.to_bytes();
    assert!(
        bytes[5 * MIB as usize..8 * MIB as usize]
            .iter()
            .all(|byte| *byte == 0xee)
    );
    assert!(bytes[9 * MIB as usize..14 * MIB as usize] == image()[9 * MIB as usize..]);
}

/// Takes over a medium that holds an image already, and differs from it by one bit at `at`.
fn take_over(at: Option<usize>) -> (Result<WriteReport, WriteError>, MemoryDevice) {
    let image = image();
    let mut there = image.clone();
    if let Some(at) = at {
        there[at] ^= 1;
    }
    let medium = MemoryDevice::from_bytes(there);
    let options = WriteOptions {
        in_place: true,
        ..WriteOptions::default()
    };
    let report = write_with(&Packed::new(&image).open(), &medium, &options);
    (report, medium)
}

#[test]
fn what_is_in_place_is_read_back_and_not_written() {
    let (report, medium) = take_over(None);
    let report = report.unwrap();
    assert!(report.verified);
    let first = report.chunks.first().map_or(0, |chunk| chunk.used_bytes());
    assert_eq!(report.written_bytes, first);
    assert!(medium.to_bytes() == image());
}

#[test]
fn what_is_in_place_and_wrong_has_no_table() {
    let (report, medium) = take_over(Some(9 * MIB as usize + 5));
    match report {
        Err(WriteError::ReadBack { offset, .. }) => assert_eq!(offset, 9 * MIB + 5),
        other => panic!("{other:?}"),
    }
    assert!(has_no_table(&medium));
}

#[test]
fn holes_of_an_image_read_as_zeros() {
    let image = image();
    let packed = Packed::new(&image);
    let file = std::fs::File::options()
        .write(true)
        .open(packed.path())
        .unwrap();
    // Two chunks more, of which nothing is in the file.
    file.set_len(14 * MIB + 2 * (4 * MIB) + 300).unwrap();
    let size = 14 * MIB + 8 * MIB + 300;
    let medium = old_medium(size.next_multiple_of(512));
    write_with(&packed.open(), &medium, &every_byte()).unwrap();
    let bytes = medium.to_bytes();
    assert!(bytes[..image.len()] == image[..]);
    assert!(bytes[image.len()..].iter().all(|byte| *byte == 0));
}
