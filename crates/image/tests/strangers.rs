//! Random data through strangers' packers and back.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::io::Read;

use pinewrit_image::ImageSource;
use proptest::prelude::*;
use proptest::test_runner::TestRunner;
use rstest::rstest;

/// Stretches of zeros, of noise and of repeats, behind a boot sector.
fn image() -> impl Strategy<Value = Vec<u8>> {
    let stretch = prop_oneof![
        (1..400_000usize).prop_map(|len| vec![0; len]),
        (any::<u64>(), 1..400_000usize).prop_map(|(seed, len)| noise(seed, len)),
        (prop::collection::vec(any::<u8>(), 1..40), 1..20_000usize)
            .prop_map(|(word, times)| word.repeat(times)),
    ];
    prop::collection::vec(stretch, 0..6).prop_map(|stretches| {
        let mut image = vec![0; 510];
        image.extend([0x55, 0xaa]);
        image.extend(stretches.concat());
        image
    })
}

fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut state = seed | 1;
    let next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 24) as u8
    };
    std::iter::repeat_with(next).take(len).collect()
}

#[rstest]
#[case::gzip("gzip -c i.img > packed")]
#[case::pigz("pigz -c i.img > packed")]
#[case::pigz_independent("pigz -i -b 128 -c i.img > packed")]
#[case::xz("xz -1 -c i.img > packed")]
#[case::xz_blocks("xz -1 -T2 --block-size=100KiB -c i.img > packed")]
#[case::zstd("zstd -q -c i.img > packed")]
#[case::pzstd("pzstd -q -c i.img > packed")]
#[case::zstd_frames("split -b 100k --filter='zstd -q' i.img > packed")]
#[case::bzip2("bzip2 -1 -c i.img > packed")]
#[case::pbzip2("pbzip2 -1 -c i.img > packed")]
#[case::lbzip2("lbzip2 -9 -c i.img > packed")]
#[case::lz4("lz4 -q -c i.img > packed")]
#[case::lzma("xz -1 --format=lzma -c i.img > packed")]
#[case::zip("zip -q packed.zip i.img; mv packed.zip packed")]
#[case::zip_split("zip -q -s 64k packed.zip i.img; test -e packed.z01 || mv packed.zip packed")]
#[case::sevenz("7z a -mx=1 packed.7z i.img; mv packed.7z packed")]
#[case::sevenz_cut("7z a -mx=1 -v100k packed.7z i.img")]
#[case::tar("tar -cf packed i.img")]
#[case::split("split -b 50k i.img packed-")]
#[case::split_digits("split -d -b 10k i.img packed.")]
fn comes_back_as_it_was(#[case] packer: &str) {
    if !pinewrit_judges::serve_script(packer) {
        return;
    }
    let config = ProptestConfig {
        cases: 8,
        failure_persistence: None,
        ..ProptestConfig::default()
    };
    let round_trip = |data: Vec<u8>| {
        let folder = tempfile::tempdir().unwrap();
        let inner = folder.path().join("packed");
        fs::create_dir(&inner).unwrap();
        let origin = inner.join("i.img");
        fs::write(&origin, &data).unwrap();
        let packed = pinewrit_judges::command("sh")
            .args(["-e", "-c", packer])
            .current_dir(&inner)
            .output();
        assert!(packed.unwrap().status.success(), "{packer}");
        fs::remove_file(&origin).unwrap();
        let first = fs::read_dir(&inner).unwrap().next().unwrap().unwrap();
        let source = ImageSource::open(&first.path()).unwrap();
        let mut back = Vec::new();
        source.stream().unwrap().read_to_end(&mut back).unwrap();
        prop_assert!(back == data, "{} bytes, not {}", back.len(), data.len());
        let told = source.unpacked_size();
        prop_assert!(told.exact().is_none_or(|size| size == data.len() as u64));
        prop_assert!(told.at_least() <= data.len() as u64);
        Ok(())
    };
    TestRunner::new(config).run(&image(), round_trip).unwrap();
}
