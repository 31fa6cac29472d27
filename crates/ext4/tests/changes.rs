//! Random changes to file systems of many kinds, judged after every step.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;
mod model;

use std::fs;
use std::ops::Range;
use std::path::{Path, PathBuf};

use common::{Mounted, device, good, judge, sparse};
use model::{Change, Model, changes};
use pinewrit_ext4::{Attributes, CheckError, EditError, Editor, Timestamp, Volume, Zeros};
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
fn run(image: &Path, mut model: Model, plan: &[(Change, bool)]) -> Option<()> {
    // Some combinations of options make what its own check finds fault with.
    if !judge("e2fsck", &["-fn", image.to_str().unwrap()])?.0 {
        return None;
    }
    let mut editor = match Editor::open(device(image), NOW) {
        Err(EditError::Feature(name)) => {
            let own = pinewrit_ext4::check(device(image));
            let is_refused = matches!(&own, Err(CheckError::Feature(known)) if *known == name);
            assert!(is_refused, "{own:?}");
            return None;
        }
        // The kernel has met an error.
        Err(EditError::Unclean | EditError::NeedsReplay) => return None,
        editor => editor.unwrap(),
    };
    check(image, &"nothing")?;
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
    let places: Vec<(PathBuf, &[u8])> = model
        .files()
        .map(|(path, bytes)| (theirs.join(path.trim_start_matches('/')), bytes))
        .collect();
    let mut requests = String::new();
    for ((path, _), (to, _)) in model.files().zip(&places) {
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        requests += &format!("dump \"{path}\" \"{}\"\n", to.to_str().unwrap());
    }
    let list = dir.path().join("requests");
    fs::write(&list, requests).unwrap();
    judge(
        "debugfs",
        &["-f", list.to_str().unwrap(), image.to_str().unwrap()],
    )?;
    for (to, bytes) in places.iter().filter(|(_, bytes)| bytes.len() < 60) {
        // What is in an inode it gives out with all of the room that there is.
        let found = fs::read(to).unwrap_or_default();
        if found.len() == 60
            && found.starts_with(bytes)
            && found[bytes.len()..].iter().all(|byte| *byte == 0)
        {
            fs::write(to, bytes).unwrap();
        }
    }
    let args = ["-r", ours.to_str().unwrap(), theirs.to_str().unwrap()];
    good("diff", &args)?;
    Some(())
}

/// A file system by `mke2fs`: its size in bytes and the options.
#[derive(Clone, Debug)]
struct Made {
    size: u64,
    options: Vec<String>,
}

/// All features that `mke2fs` knows, on and off.
const FEATURES: &[&str] = &[
    "64bit",
    "^64bit",
    "bigalloc",
    "^dir_index",
    "^dir_nlink",
    "ea_inode",
    "encrypt",
    "^ext_attr",
    "^extent",
    "^extra_isize",
    "fast_commit",
    "^filetype",
    "^flex_bg",
    "^has_journal",
    "^huge_file",
    "inline_data",
    "large_dir",
    "^large_file",
    "meta_bg,^resize_inode",
    "^metadata_csum",
    "metadata_csum_seed",
    "mmp",
    "orphan_file",
    "project",
    "quota",
    "^resize_inode",
    "^sparse_super,^resize_inode",
    "sparse_super2",
    "stable_inodes",
    "uninit_bg,^metadata_csum",
    "verity",
];

/// One of these options, or none of them; `often` is how rare it is.
fn maybe(often: u32, options: &'static [&'static str]) -> BoxedStrategy<Vec<String>> {
    let none = Just(Vec::new());
    let words = |option: &str| option.split(' ').map(str::to_owned).collect::<Vec<_>>();
    prop_oneof![often => none, 1 => select(options).prop_map(words)].boxed()
}

/// Options of all kinds. Many do not go together, which `mke2fs` says.
fn made(sizes: Range<u64>) -> impl Strategy<Value = Made> {
    let features = subsequence(FEATURES.to_vec(), 0..5).prop_map(|features| match features[..] {
        [] => Vec::new(),
        _ => vec!["-O".to_owned(), features.join(",")],
    });
    let extended = subsequence(
        vec![
            "stride=16,stripe_width=32",
            "resize=1G",
            "lazy_itable_init=0",
            "lazy_itable_init=1",
            "packed_meta_blocks=1",
            "num_backup_sb=1",
            "root_owner=1000:1000",
            "hash_seed=10325476-98ba-4ddc-a117-0123456789ab",
        ],
        0..3,
    );
    let extended = extended.prop_map(|extended| match extended[..] {
        [] => Vec::new(),
        _ => vec!["-E".to_owned(), extended.join(",")],
    });
    let parts = vec![
        maybe(
            0,
            &["-t ext2", "-t ext2 -r 0", "-t ext3", "-t ext4", "-t ext4"],
        ),
        maybe(
            0,
            &[
                "-b 1024", "-b 1024", "-b 2048", "-b 4096", "-b 4096", "-b 8192", "-b 65536",
            ],
        ),
        maybe(1, &["-I 128", "-I 256", "-I 512", "-I 1024"]),
        maybe(
            2,
            &["-N 16", "-N 40", "-N 300", "-N 2000", "-i 1024", "-i 65536"],
        ),
        maybe(1, &["-g 256", "-g 1024", "-g 4096", "-g 8192"]),
        maybe(3, &["-G 1", "-G 2", "-G 64"]),
        maybe(3, &["-m 0", "-m 50"]),
        maybe(9, &["-C 16384", "-C 65536"]),
        features.boxed(),
        extended.boxed(),
    ];
    // Small ones are as frequent as large ones.
    let size = (sizes.start.ilog2()..=sizes.end.ilog2(), any::<u64>());
    (size, parts).prop_map(move |((log, more), parts)| Made {
        size: ((1 << log) + more % (1 << log)).clamp(sizes.start, sizes.end),
        options: parts.concat(),
    })
}

/// Makes it; `false` where options do not go together.
fn make_random(image: &Path, made: &Made) -> bool {
    sparse(image, made.size);
    let options: Vec<&str> = made.options.iter().map(String::as_str).collect();
    let args = [&["-q", "-F"], &options[..], &[image.to_str().unwrap()]].concat();
    judge("mke2fs", &args).is_some_and(|(is_good, _)| is_good)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, max_shrink_iters: 60, ..ProptestConfig::default() })]
    /// More: `PROPTEST_CASES=5000`.
    #[test]
    fn any_changes_leave_it_whole(made in made(200 << 10..48 << 20), plan in changes(5..60)) {
        let dir = tempfile::tempdir().unwrap();
        let image: PathBuf = dir.path().join("fs.img");
        if make_random(&image, &made) {
            run(&image, Model::new(), &plan);
        }
    }
}

/// What a running system does in a folder.
#[derive(Clone, Debug)]
enum Work {
    /// So many files.
    Files(usize),
    /// Each of so many files is removed.
    Removed(usize),
    /// Files are replaced by others, as editors do.
    Renamed(usize),
    /// Folders in it.
    Folders(usize),
    /// Blocks are kept back for files, and holes are in them.
    Kept(usize),
}

fn work() -> impl Strategy<Value = Vec<(usize, Work)>> {
    let work = prop_oneof![
        3 => (1usize..700).prop_map(Work::Files),
        2 => (1usize..8).prop_map(Work::Removed),
        1 => (1usize..8).prop_map(Work::Renamed),
        1 => (1usize..90).prop_map(Work::Folders),
        1 => (1usize..30).prop_map(Work::Kept),
    ];
    prop::collection::vec((0usize..3, work), 1..8)
}

impl Work {
    fn run(&self, root: &Path, folder: usize) -> std::io::Result<()> {
        let folder = root.join(format!("many-{folder}"));
        fs::create_dir_all(&folder)?;
        let names: Vec<PathBuf> = fs::read_dir(&folder)?
            .map(|entry| entry.unwrap().path())
            .collect();
        let files = names.iter().filter(|name| name.is_file());
        match self {
            Self::Files(count) => {
                for index in 0..*count {
                    let name = format!("reading-of-the-day-{index:05}");
                    fs::write(folder.join(name), &b"larkfell"[..index % 8])?;
                }
            }
            Self::Removed(each) => {
                for file in files.enumerate().filter(|(index, _)| index % each == 0) {
                    fs::remove_file(file.1)?;
                }
            }
            Self::Renamed(each) => {
                for (index, file) in files.enumerate().filter(|(index, _)| index % each == 0) {
                    let other = folder.join(format!("snow-{index}"));
                    fs::write(&other, "depth")?;
                    fs::rename(other, file)?;
                }
            }
            Self::Folders(count) => {
                for index in 0..*count {
                    fs::create_dir_all(folder.join(format!("hut-{index}/log")))?;
                }
            }
            Self::Kept(count) => {
                for index in 0..*count {
                    let file = fs::File::create(folder.join(format!("kept-{index}")))?;
                    for piece in 0..index as u64 {
                        std::os::unix::fs::FileExt::write_at(&file, b"x", piece * 20_000)?;
                    }
                    file.set_len(index as u64 * 15_000)?;
                }
            }
        }
        Ok(())
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 25, max_shrink_iters: 30, ..ProptestConfig::default() })]
    #[test]
    fn what_the_kernel_made_can_be_changed(
        made in made(8 << 20..48 << 20), work in work(), plan in changes(5..40),
        hash in select(vec!["half_md4", "half_md4", "tea", "legacy"]),
    ) {
        let dir = tempfile::tempdir().unwrap();
        let image: PathBuf = dir.path().join("fs.img");
        let path = image.to_str().unwrap();
        if !make_random(&image, &made) {
            return Ok(());
        }
        judge("tune2fs", &["-E", &format!("hash_alg={hash}"), path]);
        let Some(mounted) = Mounted::try_new(&image) else { return Ok(()) };
        for (folder, work) in &work {
            // It may be full.
            let _ = work.run(mounted.dir(), *folder);
        }
        drop(mounted);
        // What the kernel could not put anywhere, because it was full, is lost only now.
        let Some(mounted) = Mounted::try_new(&image) else { return Ok(()) };
        let mut model = Model::new();
        model.adopt(mounted.dir());
        drop(mounted);
        run(&image, model, &plan);
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
    run(&image, Model::new(), &plan);
    let said = good(
        "debugfs",
        &["-R", "htree_dump /many-0", image.to_str().unwrap()],
    );
    let Some(said) = said else { return };
    assert!(said.contains("Number of entries"), "{said}");
}

/// So many names that their index has three levels, which is a feature of its own.
#[test]
fn three_levels_by_the_kernel_are_read_and_changed() {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    let options = [
        "-t",
        "ext4",
        "-b",
        "1024",
        "-N",
        "60000",
        "-O",
        "large_dir",
        "-m",
        "0",
    ];
    sparse(&image, 96 << 20);
    let args = [&["-q", "-F"], &options[..], &[image.to_str().unwrap()]].concat();
    if !judge("mke2fs", &args).is_some_and(|(is_good, _)| is_good) {
        return;
    }
    let Some(mounted) = Mounted::try_new(&image) else {
        common::skip("no mount");
        return;
    };
    let long = "x".repeat(230);
    fs::create_dir(mounted.dir().join("huts")).unwrap();
    for index in 0..50_000 {
        fs::File::create(mounted.dir().join(format!("huts/{index:05}{long}"))).unwrap();
    }
    drop(mounted);
    let dump = ["-R", "htree_dump /huts", image.to_str().unwrap()];
    let said = good("debugfs", &dump).unwrap();
    assert!(said.contains("Indirect levels: 2"), "{}", &said[..300]);
    check(&image, &"the kernel").unwrap();
    let name = |index: u32| format!("/huts/{index:05}{long}").into_bytes();
    let find = |name: &[u8]| {
        Volume::open(device(&image))
            .unwrap()
            .tree()
            .find(name)
            .is_ok()
    };
    assert!(find(&name(1)) && find(&name(49_999)) && !find(&name(50_000)));
    let mut editor = Editor::open(device(&image), NOW).unwrap();
    editor.remove(&name(7)).unwrap();
    editor.commit().unwrap();
    check(&image, &"a name less").unwrap();
    assert!(find(&name(8)) && !find(&name(7)));
    let mut editor = Editor::open(device(&image), NOW).unwrap();
    let plain = Attributes::root(0o644, NOW);
    editor
        .write_file(&name(50_000), &plain, 3, &mut &b"new"[..], Zeros::Written)
        .unwrap();
    editor.commit().unwrap();
    check(&image, &"a name more").unwrap();
    assert!(find(&name(50_000)) && find(&name(49_999)));
}
