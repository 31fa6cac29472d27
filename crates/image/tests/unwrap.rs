//! Images through every wrapping, whole, in several streams, cut and damaged.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use pinewrit_disk::BlockDevice;
use pinewrit_image::{
    ImageSource, NotAnImage, OpenError, PeekDevice, StreamError, StreamFault, UnpackedSize,
    Wrapping,
};
use proptest::prelude::*;
use rstest::rstest;

struct Folder(tempfile::TempDir);

impl Folder {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn file(&self, bytes: &[u8]) -> PathBuf {
        // The name says nothing about the content, on purpose.
        let path = self.0.path().join("image.bin");
        std::fs::write(&path, bytes).unwrap();
        path
    }
}

/// Bytes like an image's: runs of zeros between data that does not pack well.
fn image(len: usize) -> Vec<u8> {
    let mut state = 1u64;
    (0..len)
        .map(|index| {
            state = state
                .wrapping_mul(6364136223846793005)
                .wrapping_add(1442695040888963407);
            if index / 5000 % 3 == 0 {
                0
            } else {
                (state >> 56) as u8
            }
        })
        .collect()
}

fn wrap(wrapping: Wrapping, data: &[u8]) -> Vec<u8> {
    match wrapping {
        Wrapping::Gzip => {
            let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            out.write_all(data).unwrap();
            out.finish().unwrap()
        }
        Wrapping::Xz => {
            let mut out = liblzma::write::XzEncoder::new(Vec::new(), 1);
            out.write_all(data).unwrap();
            out.finish().unwrap()
        }
        Wrapping::Zstd => zstd::bulk::compress(data, 1).unwrap(),
        Wrapping::Bzip2 => {
            let mut out = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
            out.write_all(data).unwrap();
            out.finish().unwrap()
        }
        Wrapping::Lz4 => {
            let info = lz4_flex::frame::FrameInfo::new()
                .content_size(Some(data.len() as u64))
                .content_checksum(true);
            let mut out = lz4_flex::frame::FrameEncoder::with_frame_info(info, Vec::new());
            out.write_all(data).unwrap();
            out.finish().unwrap()
        }
        Wrapping::Zip | Wrapping::SevenZip | Wrapping::Tar => panic!("archives have their own"),
        Wrapping::Lzma => {
            let options = liblzma::stream::LzmaOptions::new_preset(1).unwrap();
            let stream = liblzma::stream::Stream::new_lzma_encoder(&options).unwrap();
            let mut out = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
            out.write_all(data).unwrap();
            out.finish().unwrap()
        }
        // The same raw stream, with a head and a trailer of its own; 20 is a window of 2^20 bytes.
        Wrapping::Lzip => {
            let alone = wrap(Wrapping::Lzma, data);
            let mut out = b"LZIP\x01\x14".to_vec();
            out.extend(&alone[13..]);
            out.extend(crc32fast::hash(data).to_le_bytes());
            out.extend((data.len() as u64).to_le_bytes());
            out.extend((out.len() as u64 + 8).to_le_bytes());
            out
        }
        Wrapping::Sparse => {
            let blocks = (data.len() / 4) as u32;
            let mut out = vec![0x3a, 0xff, 0x26, 0xed, 1, 0, 0, 0, 28, 0, 12, 0];
            for word in [4, blocks, 1, 0, 0xcac1, blocks, 12 + 4 * blocks] {
                out.extend(word.to_le_bytes());
            }
            out.extend(data);
            out
        }
    }
}

fn kinds(source: &ImageSource) -> Vec<Wrapping> {
    source.layers().iter().map(|layer| layer.wrapping).collect()
}

fn unwrap(source: &ImageSource) -> Result<Vec<u8>, StreamError> {
    let mut out = Vec::new();
    let mut stream = source.stream().unwrap();
    stream.read_to_end(&mut out).map_err(StreamError::from_io)?;
    Ok(out)
}

/// How a source fails, be it at opening or later.
fn failure(path: &Path) -> StreamError {
    match ImageSource::open(path) {
        Ok(source) => unwrap(&source).unwrap_err(),
        Err(OpenError::Stream { source, .. }) => source,
        Err(other) => panic!("{other}"),
    }
}

#[rstest]
#[case(Wrapping::Gzip, false)]
#[case(Wrapping::Xz, true)]
#[case(Wrapping::Zstd, true)]
#[case(Wrapping::Bzip2, false)]
#[case(Wrapping::Lz4, true)]
#[case(Wrapping::Lzma, false)]
#[case(Wrapping::Lzip, true)]
#[case(Wrapping::Sparse, true)]
fn one_stream(#[case] wrapping: Wrapping, #[case] size_known: bool) {
    let folder = Folder::new();
    let data = image(300_000);
    let source = ImageSource::open(&folder.file(&wrap(wrapping, &data))).unwrap();
    assert_eq!(kinds(&source), [wrapping]);
    assert_eq!(
        source.unpacked_size().exact(),
        size_known.then_some(300_000)
    );
    assert_eq!(unwrap(&source).unwrap(), data);
}

#[rstest]
#[case::gzip(Wrapping::Gzip, b"", None)]
#[case::xz(Wrapping::Xz, b"", Some(200_000))]
#[case::xz_with_padding(Wrapping::Xz, &[0; 8], Some(200_000))]
#[case::bzip2(Wrapping::Bzip2, b"", None)]
#[case::lz4(Wrapping::Lz4, b"", Some(200_000))]
#[case::zstd(Wrapping::Zstd, b"", Some(200_000))]
#[case::zstd_skippable(Wrapping::Zstd, b"\x5a\x2a\x4d\x18\x03\0\0\0abc", Some(200_000))]
fn several_streams_in_a_row(
    #[case] wrapping: Wrapping,
    #[case] between: &[u8],
    #[case] size: Option<u64>,
) {
    let folder = Folder::new();
    let data = image(200_000);
    let packed = [
        &wrap(wrapping, &data[..60_000]),
        between,
        &wrap(wrapping, &data[60_000..]),
        between,
    ]
    .concat();
    let source = ImageSource::open(&folder.file(&packed)).unwrap();
    assert_eq!(source.unpacked_size().exact(), size);
    assert_eq!(unwrap(&source).unwrap(), data);
}

#[test]
fn xz_of_many_blocks_comes_out_in_order() {
    let folder = Folder::new();
    let data = image(9_000_000);
    let stream = liblzma::stream::MtStreamBuilder::new()
        .threads(2)
        .block_size(300_000)
        .preset(1)
        .check(liblzma::stream::Check::Crc64)
        .encoder()
        .unwrap();
    let mut out = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
    out.write_all(&data).unwrap();
    let packed = out.finish().unwrap();
    let source = ImageSource::open(&folder.file(&packed)).unwrap();
    assert_eq!(source.unpacked_size(), UnpackedSize::Exact(9_000_000));
    assert!(unwrap(&source).unwrap() == data);
    for percent in [30, 70, 95] {
        let cut = folder.file(&packed[..packed.len() * percent / 100]);
        assert!(matches!(failure(&cut).fault, StreamFault::Truncated));
    }
}

#[test]
fn xz_padding_of_an_odd_length_is_damage() {
    let folder = Folder::new();
    let packed = [wrap(Wrapping::Xz, &image(50_000)), vec![0; 3]].concat();
    let error = failure(&folder.file(&packed));
    assert!(
        matches!(error.fault, StreamFault::Damaged { .. }),
        "{error}"
    );
}

#[test]
fn layers_are_listed_outermost_first() {
    let folder = Folder::new();
    let data = image(100_000);
    let inner = wrap(Wrapping::Gzip, &data);
    let source = ImageSource::open(&folder.file(&wrap(Wrapping::Xz, &inner))).unwrap();
    assert_eq!(kinds(&source), [Wrapping::Xz, Wrapping::Gzip]);
    // The xz index knows the size of the gzip file, which is not the image's.
    assert_eq!(source.unpacked_size(), UnpackedSize::Unknown);
    assert_eq!(unwrap(&source).unwrap(), data);
}

#[test]
fn a_zstd_frame_without_its_size_is_unknown() {
    let folder = Folder::new();
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
    encoder.include_contentsize(false).unwrap();
    encoder.write_all(&image(100_000)).unwrap();
    let source = ImageSource::open(&folder.file(&encoder.finish().unwrap())).unwrap();
    assert_eq!(source.unpacked_size(), UnpackedSize::Unknown);
}

#[rstest]
fn a_cut_is_told_with_its_layer(
    #[values(
        Wrapping::Gzip,
        Wrapping::Xz,
        Wrapping::Zstd,
        Wrapping::Bzip2,
        Wrapping::Lz4,
        Wrapping::Lzma
    )]
    wrapping: Wrapping,
    #[values(3, 20, 50, 90)] percent: usize,
) {
    let folder = Folder::new();
    let packed = wrap(wrapping, &image(300_000));
    let cut = &packed[..packed.len() * percent / 100];
    if let Ok(source) = ImageSource::open(&folder.file(cut)) {
        assert_eq!(source.unpacked_size().exact(), None);
    }
    let error = failure(&folder.file(cut));
    assert_eq!(error.layer, Some(wrapping));
    assert!(matches!(error.fault, StreamFault::Truncated), "{error}");
    assert!(error.packed <= cut.len() as u64);
}

#[rstest]
fn a_flipped_bit_never_gives_other_bytes_silently(
    #[values(Wrapping::Gzip, Wrapping::Xz, Wrapping::Bzip2, Wrapping::Lz4)] wrapping: Wrapping,
    #[values(2000, 40_000, 150_000)] at: usize,
) {
    let folder = Folder::new();
    let mut packed = wrap(wrapping, &image(300_000));
    let at = at.min(packed.len() - 20);
    packed[at] ^= 0x10;
    let error = failure(&folder.file(&packed));
    assert!(matches!(
        error.fault,
        StreamFault::Damaged { .. } | StreamFault::Truncated
    ));
}

#[test]
fn a_nine_fold_wrapping_is_refused() {
    let folder = Folder::new();
    let mut data = image(10_000);
    for _ in 0..9 {
        data = wrap(Wrapping::Gzip, &data);
    }
    let error = ImageSource::open(&folder.file(&data)).unwrap_err();
    assert!(matches!(error, OpenError::TooManyLayers { .. }));
}

#[test]
fn text_inside_a_wrapping_is_no_image() {
    let folder = Folder::new();
    let packed = wrap(Wrapping::Zstd, b"404: the hut is closed\n");
    let error = ImageSource::open(&folder.file(&packed)).unwrap_err();
    assert!(matches!(
        error,
        OpenError::NotAnImage {
            why: NotAnImage::Text,
            ..
        }
    ));
}

#[test]
fn a_window_larger_than_the_bound_is_told() {
    let folder = Folder::new();
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
    encoder.window_log(28).unwrap();
    encoder.include_contentsize(false).unwrap();
    encoder.write_all(&image(100_000)).unwrap();
    let error = failure(&folder.file(&encoder.finish().unwrap()));
    assert!(matches!(error.fault, StreamFault::Memory { .. }), "{error}");
}

#[test]
fn peeking_goes_forward_and_back() {
    let folder = Folder::new();
    let data = image(3_000_000);
    let path = folder.file(&wrap(Wrapping::Gzip, &data));
    let device = PeekDevice::new(ImageSource::open(&path).unwrap());
    for offset in [2_900_000, 5, 1_000_000, 65_530] {
        let mut part = [0; 5000];
        device.read_at(offset as u64, &mut part).unwrap();
        assert_eq!(part, data[offset..offset + 5000]);
    }
    assert!(device.read_at(2_999_999, &mut [0; 2]).is_err());
    assert_eq!(device.size(), 3_000_000);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn arbitrary_bytes_open_or_fail_in_order(
        magic in prop_oneof![
            Just(&b"\x1f\x8b\x08"[..]), Just(&b"\xfd7zXZ\0"[..]), Just(&b"\x28\xb5\x2f\xfd"[..]),
            Just(&b"\x50\x2a\x4d\x18"[..]), Just(&b"BZh91AY&SY"[..]), Just(&b"\x04\x22\x4d\x18"[..]),
            Just(&b"\x5d\0\0\x80\0\xff\xff\xff\xff\xff\xff\xff\xff\0"[..]), Just(&b""[..])
        ],
        rest in prop::collection::vec(any::<u8>(), 0..2000),
    ) {
        let folder = Folder::new();
        if let Ok(source) = ImageSource::open(&folder.file(&[magic, &rest].concat())) {
            let _ = unwrap(&source);
        }
    }
}
