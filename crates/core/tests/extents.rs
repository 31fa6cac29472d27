//! Media written by the map, on images that the system's own tools made.

#![allow(clippy::print_stderr, reason = "a skipped test says so")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use common::MIB;
use pinewrit_core::write::{WriteOptions, WriteOrder, WriteReport, write};
use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::MemoryDevice;
use pinewrit_image::ImageSource;
use pinewrit_judges::{judge, noise};
use pinewrit_table::{Mbr, MbrEntry};
use proptest::prelude::*;
use proptest::sample::{Index, select, subsequence};
use rstest::rstest;

fn good(program: &str, args: &[&str]) -> Option<String> {
    let (is_good, text) = judge(program, args)?;
    assert!(is_good, "{program} {args:?}: {text}");
    Some(text)
}

/// A partition to be made.
#[derive(Clone, Debug)]
enum Filesystem {
    Ext {
        kind: &'static str,
        block: &'static str,
        group: &'static str,
        features: Vec<&'static str>,
    },
    Fat {
        width: &'static str,
        cluster: &'static str,
    },
    Noise,
}

#[derive(Clone, Debug)]
struct Plan {
    is_gpt: bool,
    filesystems: Vec<Filesystem>,
    files: Vec<usize>,
    removed: Vec<Index>,
}

fn filesystem() -> impl Strategy<Value = Filesystem> {
    let features = subsequence(
        vec![
            "^flex_bg",
            "^64bit",
            "meta_bg,^resize_inode",
            "sparse_super2",
            "^metadata_csum",
            "uninit_bg,^metadata_csum",
            "inline_data",
            "^has_journal",
            "^sparse_super",
            "^resize_inode",
            "metadata_csum_seed",
            "bigalloc",
            "encrypt",
            "quota",
        ],
        0..4,
    );
    let ext = (
        select(vec!["ext2", "ext3", "ext4", "ext4", "ext4"]),
        select(vec!["1024", "2048", "4096"]),
        select(vec!["512", "2048", "8192"]),
        features,
    );
    let ext = ext.prop_map(|(kind, block, group, features)| Filesystem::Ext {
        kind,
        block,
        group,
        features,
    });
    let fat = (select(vec!["12", "16", "32"]), select(vec!["1", "4", "16"]));
    prop_oneof![
        4 => ext,
        2 => fat.prop_map(|(width, cluster)| Filesystem::Fat { width, cluster }),
        1 => Just(Filesystem::Noise),
    ]
}

fn plan() -> impl Strategy<Value = Plan> {
    (
        any::<bool>(),
        prop::collection::vec(filesystem(), 1..4),
        prop::collection::vec(0usize..400_000, 1..25),
        prop::collection::vec(any::<Index>(), 0..12),
    )
        .prop_map(|(is_gpt, filesystems, files, removed)| Plan {
            is_gpt,
            filesystems,
            files,
            removed,
        })
}

const PARTITION: u64 = 40 * MIB;

/// Makes a file system in a file of its own; `false` where these options do not go together.
fn make(filesystem: &Filesystem, plan: &Plan, dir: &Path, path: &Path) -> Option<bool> {
    let image = path.to_str().unwrap();
    File::create(path)
        .unwrap()
        .write_all_at(&noise(PARTITION as usize, 7), 0)
        .unwrap();
    let name = |index: usize| format!("log-{index:03}");
    let removed: Vec<String> = plan
        .removed
        .iter()
        .map(|index| name(index.index(plan.files.len())))
        .collect();
    match filesystem {
        Filesystem::Noise => Some(true),
        Filesystem::Ext {
            kind,
            block,
            group,
            features,
        } => {
            let joined = format!("has_journal,{}", features.join(","));
            let joined = if features.is_empty() || *kind == "ext2" {
                features.join(",")
            } else {
                joined
            };
            let mut args = vec![
                "-q",
                "-F",
                "-t",
                kind,
                "-b",
                block,
                "-E",
                "lazy_itable_init=1",
            ];
            if !features.contains(&"bigalloc") {
                args.extend(["-g", group]);
            }
            if !joined.is_empty() {
                args.extend(["-O", &joined]);
            }
            args.extend(["-d", dir.to_str().unwrap(), image]);
            if !judge("mke2fs", &args)?.0 {
                return Some(false);
            }
            for name in removed {
                judge("debugfs", &["-w", "-R", &format!("rm {name}"), image])?;
            }
            // Removing with that tool leaves what only a check puts right.
            judge("e2fsck", &["-fy", image])?;
            Some(judge("e2fsck", &["-fn", image])?.0)
        }
        Filesystem::Fat { width, cluster } => {
            if !judge("mkfs.fat", &["-F", width, "-s", cluster, image])?.0 {
                return Some(false);
            }
            for index in 0..plan.files.len() {
                let file = dir.join(name(index));
                judge("mcopy", &["-i", image, file.to_str().unwrap(), "::"])?;
            }
            for name in removed {
                judge("mdel", &["-i", image, &format!("::{name}")])?;
            }
            Some(true)
        }
    }
}

/// Writes the image to a medium full of something else.
fn write_by_map(image: &Path) -> (MemoryDevice, WriteReport) {
    let source = ImageSource::open(image).unwrap();
    let size = fs::metadata(image).unwrap().len() as usize;
    let medium = MemoryDevice::from_bytes(noise(size, 99));
    let target = WriteOrder::plain(&medium, &Silent);
    let report = write(
        &source,
        &target,
        &WriteOptions {
            as_it_is: true,
            ..WriteOptions::default()
        },
        &Cancel::default(),
    )
    .unwrap();
    (medium, report)
}

/// What an independent program finds in a file system.
fn listing(filesystem: &Filesystem, image: &Path, out: &Path) -> Option<()> {
    fs::create_dir_all(out).unwrap();
    let (image, out) = (image.to_str().unwrap(), out.to_str().unwrap());
    match filesystem {
        Filesystem::Ext { .. } => drop(good("debugfs", &["-R", &format!("rdump / {out}"), image])?),
        Filesystem::Fat { .. } => drop(judge("mcopy", &["-s", "-n", "-i", image, "::", out])?),
        Filesystem::Noise => {}
    }
    Some(())
}

fn check(plan: &Plan) -> Option<bool> {
    let dir = tempfile::tempdir().unwrap();
    let path = |name: &str| -> PathBuf { dir.path().join(name) };
    fs::create_dir(path("tree")).unwrap();
    for (index, len) in plan.files.iter().enumerate() {
        fs::write(
            path("tree").join(format!("log-{index:03}")),
            noise(*len, index as u64 + 1),
        )
        .unwrap();
    }
    let count = plan.filesystems.len() as u64;
    let image = File::create(path("image")).unwrap();
    image
        .write_all_at(&noise(((1 + count * 41) * MIB) as usize, 5), 0)
        .unwrap();
    let mut script = format!("label: {}\n", if plan.is_gpt { "gpt" } else { "dos" });
    for (index, filesystem) in plan.filesystems.iter().enumerate() {
        let file = path(&format!("part-{index}"));
        if !make(filesystem, plan, &path("tree"), &file)? {
            return Some(false);
        }
        let start = (1 + index as u64 * 41) * MIB;
        image
            .write_all_at(&fs::read(&file).unwrap(), start)
            .unwrap();
        script += &format!(
            "start={}, size={}, type=linux\n",
            start / 512,
            PARTITION / 512
        );
    }
    fs::write(path("script"), script).unwrap();
    let sfdisk = format!(
        "sfdisk -q {} < {}",
        path("image").display(),
        path("script").display()
    );
    good("sh", &["-c", &sfdisk])?;
    let (medium, report) = write_by_map(&path("image"));
    assert!(report.verified);
    let bytes = medium.to_bytes();
    for (index, filesystem) in plan.filesystems.iter().enumerate() {
        let start = ((1 + index as u64 * 41) * MIB) as usize;
        let (before, after) = (path(&format!("part-{index}")), path("after"));
        fs::write(&after, &bytes[start..start + PARTITION as usize]).unwrap();
        let found = after.to_str().unwrap();
        match filesystem {
            Filesystem::Ext { .. } => drop(good("e2fsck", &["-fn", found])?),
            Filesystem::Fat { .. } => drop(good("fsck.fat", &["-n", found])?),
            Filesystem::Noise => assert!(fs::read(&before).unwrap() == fs::read(&after).unwrap()),
        }
        let (old, new) = (path(&format!("old-{index}")), path(&format!("new-{index}")));
        listing(filesystem, &before, &old)?;
        listing(filesystem, &after, &new)?;
        good(
            "diff",
            &["-r", old.to_str().unwrap(), new.to_str().unwrap()],
        )?;
    }
    let doubts: Vec<_> = report
        .regions
        .iter()
        .filter_map(|region| region.doubt.clone())
        .collect();
    assert_eq!(doubts, Vec::<String>::new(), "{plan:?}");
    let is_understood = plan
        .filesystems
        .iter()
        .any(|one| !matches!(one, Filesystem::Noise));
    assert!(
        !is_understood || report.free_bytes > 8 * MIB,
        "{plan:?} {report:?}"
    );
    Some(true)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, max_shrink_iters: 30, ..ProptestConfig::default() })]
    /// More: `PROPTEST_CASES=500`.
    #[test]
    fn file_systems_written_by_the_map_are_whole(plan in plan()) {
        check(&plan);
    }
}

/// Combinations that random plans once found wrong.
#[rstest]
#[case::spread_descriptors("1024", "2048", vec!["meta_bg,^resize_inode", "bigalloc"])]
#[case::clusters("1024", "512", vec!["bigalloc"])]
fn rare_features_are_read_right(
    #[case] block: &'static str,
    #[case] group: &'static str,
    #[case] features: Vec<&'static str>,
) {
    let filesystem = Filesystem::Ext {
        kind: "ext4",
        block,
        group,
        features,
    };
    let plan = Plan {
        is_gpt: true,
        filesystems: vec![filesystem],
        files: vec![168_329, 310_175, 107_357],
        removed: vec![],
    };
    if let Some(was_made) = check(&plan) {
        assert!(was_made, "{plan:?}");
    }
}

/// An image with one ext4 file system, without a table.
fn ext4(dir: &Path, options: &[&str]) -> Option<PathBuf> {
    let path = dir.join("fs.img");
    File::create(&path).unwrap().set_len(PARTITION).unwrap();
    let args = [
        &["-q", "-F", "-t", "ext4"],
        options,
        &[path.to_str().unwrap()],
    ]
    .concat();
    good("mke2fs", &args)?;
    Some(path)
}

/// What the map says of the only file system in an image, and how much of it is free.
fn doubt(image: &Path) -> (Option<String>, u64) {
    let (_, report) = write_by_map(image);
    (report.regions[0].doubt.clone(), report.free_bytes)
}

#[rstest]
#[case::journal("feature needs_recovery", "journal needs replay")]
#[case::not_unmounted("ssv state 0", "was not unmounted")]
#[case::errors("ssv state 3", "has errors")]
#[case::unknown_feature("feature FEATURE_I30", "is not understood")]
#[case::free_count("set_bg 1 free_blocks_count 7", "a block bitmap is damaged")]
#[case::far_bitmap("set_bg 1 block_bitmap 99999999", "a group descriptor is damaged")]
#[case::shared_bitmap("set_bg 1 block_bitmap 2", "")]
fn a_doubt_means_every_byte(#[case] request: &str, #[case] what: &str) {
    let dir = tempfile::tempdir().unwrap();
    let options = [
        "-O",
        "^metadata_csum,^uninit_bg",
        "-g",
        "2048",
        "-b",
        "4096",
    ];
    let Some(image) = ext4(dir.path(), &options) else {
        return;
    };
    assert_eq!(doubt(&image).0, None);
    let path = image.to_str().unwrap();
    judge("debugfs", &["-w", "-R", request, path]).unwrap();
    let (doubt, free) = doubt(&image);
    let doubt = doubt.unwrap_or_else(|| panic!("{request} is doubtful"));
    assert!(doubt.contains(what), "{doubt}");
    assert_eq!(free, 0);
}

#[rstest]
#[case::boot_sector_flag(0x25, 1)]
#[case::table_flag(512 * 4 + 3, 0x7f)]
fn an_unclean_fat_means_every_byte(#[case] at: u64, #[case] byte: u8) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("fat.img");
    File::create(&path).unwrap().set_len(PARTITION).unwrap();
    let Some(_) = good(
        "mkfs.fat",
        &["-F", "16", "-s", "4", "-R", "4", path.to_str().unwrap()],
    ) else {
        return;
    };
    let (clean, free) = doubt(&path);
    assert!(clean.is_none() && free > 30 * MIB);
    File::options()
        .write(true)
        .open(&path)
        .unwrap()
        .write_all_at(&[byte], at)
        .unwrap();
    let (unclean, free) = doubt(&path);
    assert!(unclean.unwrap().contains("was not unmounted") && free == 0);
}

#[test]
fn any_damage_writes_at_least_what_is_in_use() {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = ext4(dir.path(), &["-O", "^metadata_csum", "-g", "1024"]) else {
        return;
    };
    let whole = fs::read(&image).unwrap();
    let damaged = dir.path().join("damaged");
    for seed in 0..60 {
        let mut bytes = whole.clone();
        for part in noise(48, seed).chunks(8) {
            let at = 1024 + usize::from(u16::from_le_bytes([part[0], part[1]])) % 20_000;
            bytes[at] = part[2];
        }
        fs::write(&damaged, &bytes).unwrap();
        let (medium, report) = write_by_map(&damaged);
        // Where the metadata lies is in use whatever it says.
        let head = 1024 + 20_000;
        assert!(medium.to_bytes()[..head] == bytes[..head], "seed {seed}");
        assert_eq!(report.image_bytes, PARTITION);
    }
}

/// An image with a table of these partitions (type, start and size in MiB) and a clean FAT at each
/// of these places.
fn tabled(dir: &Path, script: &str, places: &[u64], size: u64) -> Option<PathBuf> {
    let path = dir.join("image");
    let image = File::create(&path).unwrap();
    image
        .write_all_at(&noise((size * MIB) as usize, 3), 0)
        .unwrap();
    let fat = dir.join("fat");
    File::create(&fat).unwrap().set_len(8 * MIB).unwrap();
    good("mkfs.fat", &["-F", "16", "-s", "1", fat.to_str().unwrap()])?;
    for place in places {
        image
            .write_all_at(&fs::read(&fat).unwrap(), place * MIB)
            .unwrap();
    }
    fs::write(dir.join("script"), script).unwrap();
    let command = format!(
        "sfdisk -q --force {} < {} 2> /dev/null",
        path.display(),
        dir.join("script").display()
    );
    judge("sh", &["-c", &command])?;
    Some(path)
}

#[test]
fn logical_partitions_are_followed_as_they_pass() {
    let dir = tempfile::tempdir().unwrap();
    let script = "label: dos\nstart=2048, size=16384, type=c\nstart=20480, size=40960, type=5\n\
                  start=22528, size=16384, type=c\nstart=40960, size=16384, type=c\n";
    let Some(image) = tabled(dir.path(), script, &[1, 11, 20], 40) else {
        return;
    };
    let (medium, report) = write_by_map(&image);
    let numbers: Vec<_> = report
        .regions
        .iter()
        .map(|region| region.partition.unwrap())
        .collect();
    assert_eq!(numbers, [1, 5, 6]);
    assert!(
        report
            .regions
            .iter()
            .all(|region| region.filesystem == Some("FAT") && region.doubt.is_none())
    );
    assert!(report.free_bytes > 3 * 7 * MIB, "{}", report.free_bytes);
    let (bytes, whole) = (medium.to_bytes(), fs::read(&image).unwrap());
    // The records of the chain are there, and what lies between the partitions.
    for place in [10, 19, 28] {
        let range = (place * MIB) as usize..((place + 1) * MIB) as usize;
        assert!(bytes[range.clone()] == whole[range], "at {place} MiB");
    }
}

#[rstest]
#[case::overlapping(&[(0x0c, 1, 8), (0x83, 5, 8)], &[1], "overlaps")]
#[case::endless(&[(0x0c, 1, 2_000_000)], &[1], "reaches past the end")]
#[case::superblock(&[(0x83, 1, 8)], &[], "superblock is damaged")]
fn tables_and_superblocks_that_cannot_be(
    #[case] rows: &[(u8, u64, u64)],
    #[case] places: &[u64],
    #[case] what: &str,
) {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = tabled(dir.path(), "label: dos\n", places, 24) else {
        return;
    };
    let mut entries = [None; 4];
    for (entry, (kind, start, size)) in entries.iter_mut().zip(rows) {
        *entry = Some(MbrEntry {
            active: false,
            kind: *kind,
            first_lba: (start * 2048) as u32,
            sectors: (size * 2048) as u32,
        });
    }
    let table = Mbr {
        has_boot_code: false,
        signature: 1,
        entries,
    };
    let file = File::options().write(true).open(&image).unwrap();
    file.write_all_at(&table.to_bytes(), 0).unwrap();
    if places.is_empty() {
        // The mark of a superblock over noise.
        file.write_all_at(&[0x53, 0xef], MIB + 1024 + 0x38).unwrap();
    }
    let (medium, report) = write_by_map(&image);
    let doubts: Vec<_> = report
        .regions
        .iter()
        .filter_map(|region| region.doubt.clone())
        .collect();
    assert!(
        doubts.iter().any(|doubt| doubt.contains(what)),
        "{doubts:?}"
    );
    assert_eq!(report.free_bytes, 0);
    assert!(medium.to_bytes() == fs::read(&image).unwrap());
}

#[rstest]
#[case::lvm(512, b"LABELONE")]
#[case::btrfs(65600, b"_BHRfS_M")]
#[case::array(4096, b"\xfc\x4e\x2b\xa9\x01\0\0\0")]
fn what_another_format_left_is_a_doubt(#[case] at: u64, #[case] mark: &[u8]) {
    let dir = tempfile::tempdir().unwrap();
    let Some(image) = ext4(dir.path(), &["-b", "4096"]) else {
        return;
    };
    let file = File::options().write(true).open(&image).unwrap();
    file.write_all_at(mark, at).unwrap();
    let (doubt, free) = doubt(&image);
    assert!(doubt.unwrap().contains("a mark of another format"));
    assert_eq!(free, 0);
}
