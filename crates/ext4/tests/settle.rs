//! File systems that were cut off while the kernel was busy with them: after the journal is replayed and
//! the orphans are finished, they are what `e2fsck` makes of them.

#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    reason = "a test that cannot go on fails, and says what it has counted"
)]

mod common;

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{Seek, SeekFrom, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use common::{Mounted, device, good, judge, sparse};
use pinewrit_ext4::{
    EditError, JournalError, Settled, Timestamp, Volume, check, is_unsettled, settle,
};
use pinewrit_judges::{needs, noise};
use rstest::rstest;

/// Numbers that look random, the same ones in each run.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }
}

/// Keeps a file system busy until it is told to stop. What fails, because it is full, does not matter.
fn keep_busy(folder: &Path, seed: u64, stop: &AtomicBool) {
    let mut dice = Dice(seed);
    let bytes = noise(200_000, 5);
    let mut open: Vec<File> = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        let path = folder
            .join(format!("d{}", dice.roll(6)))
            .join(format!("f{}", dice.roll(60)));
        let len = dice.roll(bytes.len() as u64) as usize;
        let _ = match dice.roll(12) {
            0 => fs::create_dir_all(path.parent().unwrap()),
            1 | 2 => fs::write(&path, &bytes[..len]),
            3 => fs::remove_file(&path),
            4 => fs::rename(&path, path.with_extension("moved")),
            5 => OpenOptions::new()
                .write(true)
                .open(&path)
                .and_then(|file| file.set_len(len as u64)),
            6 => File::create(&path).map(|file| {
                // Still open when its name is gone.
                let _ = (&file).write_all(&bytes[..len]);
                let _ = fs::remove_file(&path);
                open.push(file);
            }),
            7 => fs::hard_link(&path, path.with_extension("link")),
            8 => std::os::unix::fs::symlink("x".repeat(len % 200 + 1), path.with_extension("soft")),
            9 => OpenOptions::new()
                .append(true)
                .open(&path)
                .and_then(|mut file| file.write_all(&bytes[..len / 9])),
            10 => OpenOptions::new()
                .write(true)
                .open(&path)
                .and_then(|mut file| {
                    file.seek(SeekFrom::Start(len as u64 * 3))?;
                    file.write_all(b"behind a hole")?;
                    file.sync_data()
                }),
            _ => {
                File::open(folder).and_then(|folder| rustix::fs::syncfs(folder).map_err(Into::into))
            }
        };
        if open.len() > 6 {
            open.remove(dice.roll(6) as usize);
        }
        std::thread::sleep(Duration::from_micros(dice.roll(3000)));
    }
}

/// The bytes of a file at one moment: nothing of it changed while it was read.
fn at_one_moment(image: &Path) -> Option<Vec<u8>> {
    for _ in 0..200 {
        let first = fs::read(image).unwrap();
        if fs::read(image).unwrap() == first {
            return Some(first);
        }
    }
    None
}

/// Everything in a file system: kinds, rights, sizes, links, times, content.
fn everything(root: &Path) -> BTreeMap<PathBuf, String> {
    let mut all = BTreeMap::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.ends_with("lost+found") {
                continue;
            }
            let about = fs::symlink_metadata(&path).unwrap();
            let content = if about.is_dir() {
                folders.push(path.clone());
                String::new()
            } else if about.is_symlink() {
                fs::read_link(&path).unwrap().display().to_string()
            } else {
                blake3::hash(&fs::read(&path).unwrap()).to_string()
            };
            let text = format!(
                "{:o} {} {} {} {}.{} {content}",
                about.mode(),
                about.ino(),
                about.nlink(),
                about.size(),
                about.mtime(),
                about.mtime_nsec()
            );
            all.insert(path.strip_prefix(root).unwrap().to_owned(), text);
        }
    }
    all
}

/// Free blocks and inodes.
fn free(image: &Path) -> (u64, u64) {
    let volume = Volume::open(device(image)).unwrap();
    let about = good("dumpe2fs", &["-h", image.to_str().unwrap()]).unwrap();
    let line = about
        .lines()
        .find(|line| line.starts_with("Free inodes:"))
        .unwrap();
    let inodes = line.rsplit(' ').next().unwrap().parse().unwrap();
    (volume.superblock().free_blocks, inodes)
}

/// Finishes a state by our code, and compares it with what `e2fsck` makes of it.
fn compare(dir: &Path, state: &[u8], when: &str) -> Settled {
    compare_with(dir, state, &by_e2fsck, when)
}

fn by_e2fsck(image: &Path) -> String {
    let name = image.to_str().unwrap();
    let (_, said) = judge("e2fsck", &["-fy", "-E", "no_optimize_extents", name]).unwrap();
    said
}

/// `e2fsck` 1.47.0 gives up on old fast commits ("Invalid argument while recovering journal").
fn by_kernel(image: &Path) -> String {
    drop(Mounted::with_options(image, "loop"));
    "by the kernel".to_owned()
}

/// The same with another judge, which finishes an image.
fn compare_with(dir: &Path, state: &[u8], judged: &dyn Fn(&Path) -> String, when: &str) -> Settled {
    let (ours, theirs) = (dir.join("ours.img"), dir.join("theirs.img"));
    fs::write(&ours, state).unwrap();
    fs::write(&theirs, state).unwrap();
    let settled = settle(device(&ours), Timestamp::at(1_800_000_000));
    let settled = settled.unwrap_or_else(|error| panic!("{when}: {error}"));
    let said = judged(&theirs);
    good("e2fsck", &["-fn", theirs.to_str().unwrap()]);
    let (is_clean, found) = judge("e2fsck", &["-fn", ours.to_str().unwrap()]).unwrap();
    assert!(is_clean, "{when}: {found}\n{said}");
    assert!(
        !is_unsettled(Volume::open(device(&ours)).unwrap().superblock()),
        "{when}"
    );
    check(device(&ours)).unwrap_or_else(|error| panic!("{when}: {error}"));
    assert_eq!(free(&ours), free(&theirs), "{when}: {said}");
    let [one, other] = [&ours, &theirs].map(|image| {
        let mounted = Mounted::with_options(image, "loop,ro,noload").unwrap();
        everything(mounted.dir())
    });
    for (path, text) in &other {
        assert_eq!(one.get(path), Some(text), "{when}: {path:?}");
    }
    assert_eq!(one.len(), other.len(), "{when}");
    settled
}

/// States to take of each kind: `PINEWRIT_STATES`.
fn states() -> u64 {
    let wanted = std::env::var("PINEWRIT_STATES").ok();
    wanted.and_then(|number| number.parse().ok()).unwrap_or(3)
}

#[rstest]
#[case::plain(&["-t", "ext4"], "data=ordered")]
#[case::journalled(&["-t", "ext4"], "data=journal")]
#[case::writeback(&["-t", "ext4"], "data=writeback")]
#[case::small_blocks(&["-t", "ext4", "-b", "1024"], "data=journal")]
#[case::no_sums(&["-t", "ext4", "-O", "^metadata_csum"], "data=ordered")]
#[case::commit_sums(&["-t", "ext4", "-O", "^metadata_csum"], "data=journal,journal_checksum")]
#[case::async_commits(&["-t", "ext4", "-O", "^metadata_csum"], "data=ordered,journal_async_commit")]
#[case::narrow(&["-t", "ext4", "-O", "^64bit"], "data=ordered")]
#[case::orphan_list(&["-t", "ext4", "-O", "^orphan_file"], "data=ordered")]
#[case::orphan_file(&["-t", "ext4", "-O", "orphan_file"], "data=ordered")]
#[case::ext3(&["-t", "ext3"], "data=ordered")]
#[case::ext3_small(&["-t", "ext3", "-b", "1024"], "data=journal")]
fn a_busy_file_system_is_finished_as_e2fsck_does(#[case] kind: &[&str], #[case] options: &str) {
    needs!("mke2fs", "e2fsck", "dumpe2fs", "mount", "umount");
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("busy.img");
    let name = image.to_str().unwrap();
    let mut total = Settled::default();
    for round in 0..states().div_ceil(3) {
        let _ = fs::remove_file(&image);
        sparse(&image, 24 << 20);
        good(
            "mke2fs",
            &[&["-q", "-F", "-J", "size=4"], kind, &[name]].concat(),
        );
        let Some(mounted) = Mounted::with_options(&image, &format!("loop,commit=1,{options}"))
        else {
            common::skip("no mount");
            return;
        };
        let stop = AtomicBool::new(false);
        let taken: Vec<Vec<u8>> = std::thread::scope(|scope| {
            scope.spawn(|| keep_busy(mounted.dir(), round + 1, &stop));
            let mut dice = Dice(round + 77);
            let states = (0..3).filter_map(|_| {
                std::thread::sleep(Duration::from_millis(250 + dice.roll(900)));
                at_one_moment(&image)
            });
            let states = states.collect();
            stop.store(true, Ordering::Relaxed);
            states
        });
        drop(mounted);
        for (index, state) in taken.iter().enumerate() {
            let done = compare(
                dir.path(),
                state,
                &format!("{kind:?} {options} {round}.{index}"),
            );
            total.transactions += done.transactions;
            total.removed += done.removed;
        }
    }
    assert!(total.transactions > 0, "nothing was replayed");
}

/// Fast commits are refused by name; without any, the journal is replayed as always.
#[test]
fn fast_commits_are_refused_by_name() {
    needs!("mke2fs", "e2fsck", "dumpe2fs", "mount", "umount");
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("busy.img");
    let name = image.to_str().unwrap();
    let (mut refused, mut same) = (0, 0);
    for round in 0..states() {
        let _ = fs::remove_file(&image);
        sparse(&image, 32 << 20);
        good(
            "mke2fs",
            &["-q", "-F", "-t", "ext4", "-O", "fast_commit", name],
        );
        let Some(mounted) = Mounted::with_options(&image, "loop,commit=1") else {
            common::skip("no mount with fast commits");
            return;
        };
        let stop = AtomicBool::new(false);
        let state = std::thread::scope(|scope| {
            scope.spawn(|| keep_busy(mounted.dir(), round + 5, &stop));
            std::thread::sleep(Duration::from_millis(300 + round * 170 % 900));
            // What is synchronised alone is what fast commits are for.
            let file = File::create(mounted.dir().join("alone")).unwrap();
            (&file).write_all(b"snow 0.4").unwrap();
            file.sync_all().unwrap();
            let state = at_one_moment(&image);
            stop.store(true, Ordering::Relaxed);
            state
        });
        drop(mounted);
        let Some(state) = state else { continue };
        let ours = dir.path().join("ours.img");
        fs::write(&ours, &state).unwrap();
        match settle(device(&ours), Timestamp::at(1_800_000_000)) {
            Err(EditError::Journal(JournalError::FastCommits)) => refused += 1,
            Err(error) => panic!("round {round}: {error}"),
            Ok(_) => {
                compare_with(
                    dir.path(),
                    &state,
                    &by_kernel,
                    &format!("fast commits, round {round}"),
                );
                same += 1;
            }
        }
    }
    eprintln!("fast commits: {refused} refused, {same} as e2fsck");
}

/// Where the journal's blocks lie in an image, in bytes.
fn journal(image: &Path) -> Vec<usize> {
    let name = image.to_str().unwrap();
    let size = 1024 << fs::read(image).unwrap()[1024 + 24];
    let said = good("debugfs", &["-R", "blocks <8>", name]).unwrap();
    let is_list = |line: &&str| line.starts_with(|first: char| first.is_ascii_digit());
    let blocks = said.lines().find(is_list).unwrap();
    blocks
        .split_whitespace()
        .map(|block| block.parse::<usize>().unwrap() * size)
        .collect()
}

/// One block of each kind in a log, and the fields of it that say something: offset and name.
fn kinds_of_blocks(state: &[u8], places: &[usize]) -> Vec<(usize, Vec<usize>, &'static str)> {
    let big = |at: usize| u32::from_be_bytes(state[at..at + 4].try_into().unwrap());
    let size = (places[1] - places[0]).max(1024);
    let head = places[0];
    let start = big(head + 28) as usize;
    let mut found = vec![(head, (0..92).step_by(4).chain([252]).collect(), "head")];
    // The first two of each kind: the log may end with either.
    let mut seen = BTreeMap::<u32, usize>::new();
    for place in &places[start..] {
        if big(*place) != 0xc03b_3998 {
            // A data block, whose checksum is in its tag.
            if seen.entry(0).or_insert(0) == &0 {
                found.push((*place, vec![0, size - 4], "data"));
            }
            *seen.entry(0).or_insert(0) += 1;
            continue;
        }
        let kind = big(*place + 4);
        let count = seen.entry(kind).or_insert(0);
        *count += 1;
        let (fields, name): (Vec<usize>, _) = match kind {
            1 => ((0..60).step_by(4).chain([size - 4]).collect(), "descriptor"),
            2 => ((0..60).step_by(4).collect(), "commit"),
            5 => ((0..28).step_by(4).chain([size - 4]).collect(), "revoke"),
            _ => continue,
        };
        if *count <= 2 {
            found.push((*place, fields, name));
        }
    }
    found
}

/// Each field of each kind of block, damaged: what we replay then is what `e2fsck` replays, or it is
/// refused, or our check finds the result damaged.
#[rstest]
#[case::sums(&["-t", "ext4"], "data=journal")]
#[case::no_sums(&["-t", "ext4", "-O", "^metadata_csum,^64bit"], "data=ordered")]
#[case::commit_sums(&["-t", "ext4", "-O", "^metadata_csum"], "data=journal,journal_checksum")]
fn a_damaged_journal_ends_where_it_ends_for_e2fsck(#[case] kind: &[&str], #[case] options: &str) {
    needs!("mke2fs", "e2fsck", "dumpe2fs", "debugfs", "mount", "umount");
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("busy.img");
    sparse(&image, 16 << 20);
    let name = image.to_str().unwrap();
    let make = [&["-q", "-F", "-b", "1024", "-J", "size=1"], kind, &[name]].concat();
    good("mke2fs", &make);
    let places = journal(&image);
    let Some(mounted) = Mounted::with_options(&image, &format!("loop,commit=1,{options}")) else {
        common::skip("no mount");
        return;
    };
    let stop = AtomicBool::new(false);
    let state = std::thread::scope(|scope| {
        scope.spawn(|| keep_busy(mounted.dir(), 41, &stop));
        std::thread::sleep(Duration::from_millis(1400));
        let state = at_one_moment(&image);
        stop.store(true, Ordering::Relaxed);
        state.unwrap()
    });
    drop(mounted);
    compare(dir.path(), &state, "undamaged");
    let (mut refused, mut found, mut same) = (0, 0, 0);
    let ours = dir.path().join("damaged.img");
    // A third of all fields, unless more states are wanted as well.
    let step = if states() > 3 { 1 } else { 3 };
    for (place, fields, what) in kinds_of_blocks(&state, &places) {
        for field in fields.into_iter().step_by(step) {
            let mut damaged = state.clone();
            damaged[place + field + 1] ^= 0x04;
            let when = format!("{kind:?} {what} at {place}, field {field}");
            fs::write(&ours, &damaged).unwrap();
            if settle(device(&ours), Timestamp::at(1_800_000_000)).is_err() {
                refused += 1;
            } else if let Err(error) = check(device(&ours)) {
                eprintln!("{when}: {error}");
                found += 1;
            } else {
                compare(dir.path(), &damaged, &when);
                same += 1;
            }
        }
    }
    eprintln!("{kind:?}: {same} as e2fsck, {refused} refused, {found} found damaged");
    assert!(same + refused + found > 10 && refused > 0);
}
