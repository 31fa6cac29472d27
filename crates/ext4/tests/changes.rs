//! Random changes to file systems of many kinds, judged after every step.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
mod model;

use std::fs;
use std::path::{Path, PathBuf};

use common::{device, good, judge, sparse};
use model::{Change, Model, changes};
use pinewrit_ext4::{Editor, Timestamp, Volume};
use proptest::prelude::*;
use proptest::sample::{select, subsequence};
use rstest::rstest;

const SIZE: u64 = 24 << 20;
const NOW: Timestamp = Timestamp {
    seconds: 1_790_000_000,
    nanoseconds: 5,
};

/// Makes a file system with the system's own tool; `false` where options do not go together.
fn make(image: &Path, options: &[&str]) -> Option<bool> {
    sparse(image, SIZE);
    let args = [&["-q", "-F"], options, &[image.to_str().unwrap()]].concat();
    Some(judge("mke2fs", &args)?.0)
}

fn check(image: &Path, what: &dyn std::fmt::Debug) -> Option<()> {
    let own = pinewrit_ext4::check(device(image));
    assert!(own.is_ok(), "{own:?} after {what:?}");
    let (is_good, said) = judge("e2fsck", &["-fn", image.to_str().unwrap()])?;
    assert!(is_good, "{what:?}: {said}");
    Some(())
}

/// Makes all changes, with a check after each commit, and compares the whole at the end.
fn run(image: &Path, plan: &[(Change, bool)]) -> Option<()> {
    let mut model = Model::new();
    let mut editor = Editor::open(device(image), NOW).unwrap();
    for (change, commits) in plan {
        model.make(&mut editor, change);
        if *commits {
            editor.commit().unwrap();
            check(image, change)?;
            editor = Editor::open(device(image), NOW).unwrap();
        }
    }
    editor.commit().unwrap();
    check(image, &"the last")?;
    model.compare(&Volume::open(device(image)).unwrap());
    compare_content(image, &model)
}

/// The content of all files as a stranger reads it.
fn compare_content(image: &Path, model: &Model) -> Option<()> {
    let dir = tempfile::tempdir().unwrap();
    let (ours, theirs) = (dir.path().join("ours"), dir.path().join("theirs"));
    fs::create_dir_all(&theirs).unwrap();
    model.write_to(&ours);
    for (path, _) in model.files() {
        let to = theirs.join(path.trim_start_matches('/'));
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        let request = format!("dump \"{path}\" \"{}\"", to.to_str().unwrap());
        judge("debugfs", &["-R", &request, image.to_str().unwrap()])?;
    }
    let args = ["-r", ours.to_str().unwrap(), theirs.to_str().unwrap()];
    good("diff", &args)?;
    Some(())
}

fn options() -> impl Strategy<Value = Vec<&'static str>> {
    let features = subsequence(
        vec![
            "^flex_bg",
            "64bit",
            "^64bit",
            "meta_bg,^resize_inode",
            "sparse_super2",
            "^metadata_csum",
            "uninit_bg,^metadata_csum",
            "inline_data",
            "^has_journal",
            "^resize_inode",
            "metadata_csum_seed",
            "^dir_index",
            "^filetype",
            "^extent",
            "^dir_nlink,^extra_isize,^huge_file",
        ],
        0..4,
    );
    let kind = select(vec!["ext2", "ext3", "ext4", "ext4", "ext4", "ext4"]);
    let block = select(vec!["1024", "1024", "2048", "4096"]);
    let inode = select(vec!["128", "256", "256", "512"]);
    (kind, block, inode, features).prop_map(|(kind, block, inode, features)| {
        let mut all = vec!["-t", kind, "-b", block, "-I", inode, "-g", "4096"];
        for feature in features {
            all.extend(["-O", feature]);
        }
        all
    })
}

/// Only the last `-O` counts.
fn joined<'o>(options: &[&'o str], features: &'o mut String) -> Vec<&'o str> {
    let mut plain = Vec::new();
    let mut rest = options.iter();
    while let Some(option) = rest.next() {
        match *option {
            "-O" => {
                features.push_str(rest.next().unwrap());
                features.push(',');
            }
            other => plain.push(other),
        }
    }
    if !features.is_empty() {
        plain.extend(["-O", features]);
    }
    plain
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 100, max_shrink_iters: 60, ..ProptestConfig::default() })]
    /// More: `PROPTEST_CASES=5000`.
    #[test]
    fn any_changes_leave_it_whole(options in options(), plan in changes(5..60)) {
        let dir = tempfile::tempdir().unwrap();
        let image: PathBuf = dir.path().join("fs.img");
        let mut features = String::new();
        if make(&image, &joined(&options, &mut features)) == Some(true) {
            run(&image, &plan);
        }
    }
}

#[rstest]
#[case::usual(&["-t", "ext4"])]
#[case::small_blocks(&["-t", "ext4", "-b", "1024", "-g", "2048"])]
#[case::old(&["-t", "ext2", "-b", "1024"])]
#[case::without_checksums(&["-t", "ext4", "-O", "^metadata_csum"])]
#[case::inline(&["-t", "ext4", "-O", "inline_data"])]
fn large_folders_get_an_index(#[case] options: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    if make(&image, options).is_none() {
        return;
    }
    let plan = [
        (
            Change::Many {
                folder: 0,
                count: 900,
            },
            true,
        ),
        (
            Change::Many {
                folder: 1,
                count: 30,
            },
            false,
        ),
        (
            Change::Many {
                folder: 1,
                count: 500,
            },
            true,
        ),
        (
            Change::Fewer {
                folder: 0,
                count: 500,
            },
            true,
        ),
        (
            Change::Many {
                folder: 0,
                count: 1200,
            },
            true,
        ),
    ];
    run(&image, &plan);
    let said = good(
        "debugfs",
        &["-R", "htree_dump /many-0", image.to_str().unwrap()],
    );
    let Some(said) = said else { return };
    assert!(said.contains("Number of entries"), "{said}");
}
