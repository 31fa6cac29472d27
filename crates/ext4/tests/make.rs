//! File systems made from nothing and grown, on sparse files.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
mod model;

use std::fs;
use std::path::Path;

use common::{Mounted, device, good, judge, sparse};
use model::{Change, Model, changes};
use pinewrit_ext4::{EditError, Editor, MakeOptions, SizeError, Timestamp, Volume, make};
use pinewrit_judges::noise;
use proptest::prelude::*;
use rstest::rstest;

const MIB: u64 = 1 << 20;
const GIB: u64 = 1 << 30;
const NOW: Timestamp = Timestamp {
    seconds: 1_790_000_000,
    nanoseconds: 0,
};

fn options() -> MakeOptions {
    MakeOptions {
        label: "larkfell-root".to_owned(),
        uuid: *b"\x10\x32\x54\x76\x98\xba\x4d\xdc\xa1\x17\x01\x23\x45\x67\x89\xab",
        hash_seed: [7; 16],
        block_size: None,
        inodes: None,
        has_checksums: true,
        has_journal: true,
        now: NOW,
    }
}

fn check(image: &Path) -> Option<()> {
    pinewrit_ext4::check(device(image)).unwrap();
    good("e2fsck", &["-fn", image.to_str().unwrap()])?;
    Some(())
}

fn fill(image: &Path) -> Model {
    let mut model = Model::new();
    let mut editor = Editor::open(device(image), NOW).unwrap();
    for path in 0..40 {
        let attributes = path as u64 * 0x1234_5678_9abc;
        model.make(
            &mut editor,
            &Change::Folder {
                path: path * 7,
                attributes,
            },
        );
        let change = Change::Write {
            path: path * 13,
            size: path * 2900,
            seed: 5,
            holes: path % 3 == 0,
            attributes,
        };
        model.make(&mut editor, &change);
    }
    model.make(
        &mut editor,
        &Change::Many {
            folder: 1,
            count: 200,
        },
    );
    editor.commit().unwrap();
    model
}

/// The kernel reads what is in it, and writes something.
fn kernel_agrees(image: &Path, model: &Model) -> Option<()> {
    let mounted = Mounted::new(image)?;
    for (path, bytes) in model.files() {
        let file = mounted.dir().join(path.trim_start_matches('/'));
        assert!(fs::read(&file).unwrap() == bytes, "{path}");
    }
    fs::write(mounted.dir().join("by-the-kernel"), noise(3_000_000, 3)).unwrap();
    drop(mounted);
    check(image)
}

#[rstest]
#[case::tiny(MIB, None)]
#[case::small(16_000_000, None)]
#[case::of_large_blocks(16 * MIB, Some(4096))]
#[case::odd(100_000_123, None)]
#[case::short_last_group(64 * MIB + 128 * MIB + 40 * 4096, None)]
#[case::medium(700 * MIB, None)]
#[case::of_small_blocks(900 * MIB, Some(1024))]
#[case::of_middle_blocks(300 * MIB, Some(2048))]
#[case::card(7_818_182_656, None)]
#[case::large(64 * GIB, None)]
#[case::huge(2_000_000_000_000, None)]
fn any_size_is_whole(
    #[case] size: u64,
    #[case] block_size: Option<u32>,
    #[values(true, false)] has_checksums: bool,
) {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    sparse(&image, size);
    let options = MakeOptions {
        block_size,
        has_checksums,
        ..options()
    };
    make(device(&image), &options).unwrap().commit().unwrap();
    if check(&image).is_none() {
        return;
    }
    let blkid = good("blkid", &["-p", image.to_str().unwrap()]).unwrap();
    assert!(blkid.contains("LABEL=\"larkfell-root\""), "{blkid}");
    assert!(
        blkid.contains("UUID=\"10325476-98ba-4ddc-a117-0123456789ab\""),
        "{blkid}"
    );
    assert!(blkid.contains("TYPE=\"ext4\""), "{blkid}");
    if size > 4 * MIB {
        let model = fill(&image);
        check(&image);
        model.compare(&Volume::open(device(&image)).unwrap());
        kernel_agrees(&image, &model);
    }
}

#[test]
fn what_was_on_the_medium_does_not_matter() {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    fs::write(&image, noise(40 << 20, 9)).unwrap();
    make(device(&image), &options()).unwrap().commit().unwrap();
    if check(&image).is_none() {
        return;
    }
    let model = fill(&image);
    check(&image);
    kernel_agrees(&image, &model);
}

#[test]
fn equal_options_make_equal_file_systems() {
    let dir = tempfile::tempdir().unwrap();
    let images = ["one", "two"].map(|name| dir.path().join(name));
    for image in &images {
        sparse(image, 30 * MIB);
        make(device(image), &options()).unwrap().commit().unwrap();
        fill(image);
    }
    assert!(fs::read(&images[0]).unwrap() == fs::read(&images[1]).unwrap());
}

#[rstest]
#[case::nothing(0)]
#[case::a_few_blocks(50 * 1024)]
fn too_small(#[case] size: u64) {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    sparse(&image, size);
    let error = make(device(&image), &options()).err().unwrap();
    assert!(
        matches!(error, EditError::Size(SizeError::TooSmall { .. })),
        "{error}"
    );
}

/// Ours, and those of a stranger.
fn start(image: &Path, size: u64, maker: &[&str]) -> Option<()> {
    sparse(image, size);
    if maker.is_empty() {
        make(device(image), &options()).unwrap().commit().unwrap();
        return Some(());
    }
    let args = [&["-q", "-F"], maker, &[image.to_str().unwrap()]].concat();
    good("mke2fs", &args)?;
    Some(())
}

fn grow(image: &Path, size: u64) -> Result<u64, EditError> {
    let file = fs::OpenOptions::new().write(true).open(image).unwrap();
    file.set_len(size).unwrap();
    let mut editor = Editor::open(device(image), NOW).unwrap();
    let growth = editor.grow(size)?;
    editor.commit().unwrap();
    Ok(growth.after)
}

#[rstest]
#[case::a_little(20 * MIB, 21 * MIB, &[])]
#[case::within_a_group(100 * MIB, 120 * MIB, &[])]
#[case::more_groups(100 * MIB, 3 * GIB, &[])]
#[case::card(2 * GIB, 64 * GIB, &[])]
#[case::small_blocks(30 * MIB, 2 * GIB, &[])]
#[case::usual(300 * MIB, 15_931_539_456, &["-t", "ext4"])]
#[case::without_64bit(300 * MIB, 8 * GIB, &["-t", "ext4", "-O", "^64bit"])]
#[case::old(60 * MIB, 3 * GIB, &["-t", "ext3"])]
#[case::oldest(60 * MIB, GIB, &["-t", "ext2", "-b", "1024"])]
#[case::apart(100 * MIB, 5 * GIB, &["-t", "ext4", "-O", "^flex_bg"])]
#[case::without_checksums(100 * MIB, 5 * GIB, &["-t", "ext4", "-O", "^metadata_csum"])]
#[case::short_last_group(128 * MIB + 3 * MIB, 128 * MIB * 3 + 4096 * 20, &["-t", "ext4"])]
#[case::without_reserve(100 * MIB, 128 * MIB, &["-t", "ext4", "-O", "^resize_inode"])]
fn grown_file_systems_are_whole(#[case] from: u64, #[case] to: u64, #[case] maker: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    if start(&image, from, maker).is_none() {
        return;
    }
    let model = fill(&image);
    let after = grow(&image, to).unwrap();
    assert!(after <= to && after + 140 * MIB > to, "{after} of {to}");
    if check(&image).is_none() {
        return;
    }
    model.compare(&Volume::open(device(&image)).unwrap());
    kernel_agrees(&image, &model);
    grow_once_more(&image, to + to / 2);
}

/// The system's own tool makes it larger still: mounted where the kernel lets it, else not.
fn grow_once_more(image: &Path, size: u64) -> Option<()> {
    let file = fs::OpenOptions::new().write(true).open(image).unwrap();
    file.set_len(size).unwrap();
    let mounted = Mounted::new(image)?;
    let mount = mounted.dir().to_str().unwrap();
    let device = good("findmnt", &["-no", "SOURCE", mount])?;
    let (is_good, said) = judge("resize2fs", &[device.trim()])?;
    drop(mounted);
    if said.contains("Permission denied") {
        common::skip("the kernel does not grow mounted file systems");
        good("resize2fs", &["-f", image.to_str().unwrap()])?;
    } else {
        assert!(is_good, "{said}");
    }
    check(image)
}

#[test]
fn growth_ends_where_room_for_descriptors_ends() {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    if start(&image, 100 * MIB, &["-t", "ext4", "-O", "^resize_inode"]).is_none() {
        return;
    }
    let most = Editor::open(device(&image), NOW).unwrap().largest_size();
    let error = grow(&image, most + 4096).unwrap_err();
    assert!(
        matches!(error, EditError::Size(SizeError::BeyondReserve { .. })),
        "{error}"
    );
    check(&image);
    grow(&image, most).unwrap();
    check(&image);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 10, max_shrink_iters: 20, ..ProptestConfig::default() })]
    #[test]
    fn changes_to_our_own_leave_it_whole(
        plan in changes(5..40), size in 4u64..80, more in 0u64..3000,
        has_checksums in any::<bool>(), block_size in prop::option::of(prop::sample::select(vec![1024u32, 2048, 4096])),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("fs.img");
        sparse(&image, size * MIB);
        let options = MakeOptions { has_checksums, block_size, ..options() };
        make(device(&image), &options).unwrap().commit().unwrap();
        let mut model = Model::new();
        let half = plan.len() / 2;
        for part in [&plan[..half], &plan[half..]] {
            let mut editor = Editor::open(device(&image), NOW).unwrap();
            for (change, _) in part {
                model.make(&mut editor, change);
            }
            editor.commit().unwrap();
            check(&image);
            grow(&image, fs::metadata(&image).unwrap().len() + more * 100_000).unwrap();
            check(&image);
        }
        model.compare(&Volume::open(device(&image)).unwrap());
    }
}

#[rstest]
#[case::ours(&[])]
#[case::usual(&["-t", "ext4"])]
#[case::older_checksums(&["-t", "ext4", "-O", "^metadata_csum,uninit_bg"])]
#[case::old(&["-t", "ext3", "-b", "1024"])]
fn another_uuid(#[case] maker: &[&str]) {
    pinewrit_judges::needs!["blkid", "e2fsck"];
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    if start(&image, 600 * MIB, maker).is_none() {
        return;
    }
    let model = fill(&image);
    let mut editor = Editor::open(device(&image), NOW).unwrap();
    editor.set_uuid([0x5a; 16]).unwrap();
    editor.commit().unwrap();
    check(&image);
    let blkid = good("blkid", &["-p", image.to_str().unwrap()]).unwrap();
    assert!(
        blkid.contains("5a5a5a5a-5a5a-5a5a-5a5a-5a5a5a5a5a5a"),
        "{blkid}"
    );
    model.compare(&Volume::open(device(&image)).unwrap());
    kernel_agrees(&image, &model);
    // The copies are as good as the first.
    let group = if maker.contains(&"1024") {
        "8193"
    } else {
        "32768"
    };
    let backup = ["-fn", "-b", group, image.to_str().unwrap()];
    let said = judge("e2fsck", &backup).unwrap().1;
    assert!(
        !said.contains("Bad magic") && !said.contains("invalid checksum"),
        "{said}"
    );
}
