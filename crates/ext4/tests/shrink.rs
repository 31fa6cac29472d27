//! File systems that become smaller: judged by `e2fsck`, and read by the kernel before and after.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;

use common::{Mounted, device, good, judge, skip, sparse};
use pinewrit_disk::{BlockDevice, ByteRange, FreeWrites, Overlay, Window};
use pinewrit_ext4::{EditError, Editor, Shrinkage, SizeError, Timestamp, check};
use rstest::rstest;
use rustix::fs::{FallocateFlags, SeekFrom, XattrFlags};

/// Random numbers that are the same each time.
struct Random(u64);

impl Random {
    fn next(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % below.max(1)
    }

    fn chance(&mut self, of_hundred: u64) -> bool {
        self.next(100) < of_hundred
    }

    fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.next(all.len() as u64) as usize]
    }

    fn bytes(&mut self, len: u64) -> Vec<u8> {
        (0..len.div_ceil(8))
            .flat_map(|_| self.next(u64::MAX).to_le_bytes())
            .take(len as usize)
            .collect()
    }
}

const FEATURES: [&str; 12] = [
    "none",
    "has_journal,dir_index",
    "has_journal,extent,metadata_csum,64bit,flex_bg,resize_inode,dir_index,ext_attr,filetype",
    "has_journal,extent,uninit_bg,flex_bg,resize_inode,dir_index,ext_attr,filetype",
    "extent,metadata_csum,flex_bg,dir_index,ext_attr,filetype,inline_data",
    "has_journal,extent,metadata_csum,64bit,^resize_inode,dir_index,filetype,large_file",
    "has_journal,^extent,metadata_csum,sparse_super,dir_index,filetype,ext_attr",
    "has_journal,extent,metadata_csum,metadata_csum_seed,64bit,flex_bg,dir_index,filetype",
    "has_journal,extent,metadata_csum,orphan_file,flex_bg,dir_index,filetype,ext_attr",
    "extent,^sparse_super,resize_inode,filetype,ext_attr",
    "has_journal,extent,flex_bg,^filetype,huge_file,dir_nlink,extra_isize",
    "has_journal,extent,metadata_csum,flex_bg,large_dir,dir_index,filetype,ext_attr",
];

/// Makes a file system with random features and sizes; `None` without the judge.
fn make(random: &mut Random, image: &Path) -> Option<()> {
    let block = *random.pick(&["1024", "2048", "4096", "4096"]);
    let groups = *random.pick(&["1024", "2048", "4096", "8192"]);
    let inode = *random.pick(&["128", "256", "256", "512"]);
    let features = *random.pick(&FEATURES);
    let needs_room = features.contains("inline_data") || features.contains("extra_isize");
    let inode = if needs_room && inode == "128" {
        "256"
    } else {
        inode
    };
    sparse(image, (24 + random.next(72)) << 20);
    let ratio = random.pick(&["4096", "8192", "16384", "32768"]);
    let args = [
        "-q",
        "-F",
        "-t",
        "ext4",
        "-b",
        block,
        "-g",
        groups,
        "-I",
        inode,
        "-i",
        ratio,
        "-O",
        features,
        "-L",
        "larkfell",
        "-E",
        "lazy_itable_init=1",
    ];
    let path = image.to_str().unwrap();
    let (is_good, said) = judge("mke2fs", &[&args[..], &[path]].concat())?;
    if is_good {
        return Some(());
    }
    // Not all features go with all sizes.
    let usual = ["-q", "-F", "-t", "ext4", "-b", block, "-g", groups, path];
    assert!(!said.is_empty());
    good("mke2fs", &usual).map(drop)
}

/// Fills a mounted file system and takes a part of it away again, so that what stays is scattered.
fn fill(random: &mut Random, root: &Path) {
    let mut files: Vec<PathBuf> = Vec::new();
    let mut folders = vec![root.to_owned()];
    let wanted = 20 + random.next(400);
    for index in 0..wanted {
        let folder = random.pick(&folders).clone();
        let path = folder.join(format!(
            "gauge-{index:04}{}",
            "x".repeat(random.next(60) as usize)
        ));
        let done = match random.next(20) {
            0 | 1 => fs::create_dir(&path).map(|()| folders.push(path.clone())),
            2 => symlink("x".repeat(1 + random.next(90) as usize), &path),
            3 if !files.is_empty() => fs::hard_link(random.pick(&files), &path),
            4 => {
                let mode = rustix::fs::Mode::from_raw_mode(0o640);
                let kinds = [
                    rustix::fs::FileType::Fifo,
                    rustix::fs::FileType::CharacterDevice,
                    rustix::fs::FileType::BlockDevice,
                    rustix::fs::FileType::Socket,
                ];
                let number =
                    rustix::fs::makedev(random.next(300) as u32, random.next(90_000) as u32);
                rustix::fs::mknodat(rustix::fs::CWD, &path, *random.pick(&kinds), mode, number)
                    .map_err(Into::into)
            }
            _ => write(random, &path).map(|()| files.push(path.clone())),
        };
        if done.is_ok() && random.chance(30) {
            decorate(random, &path);
        }
    }
    for path in files {
        if random.chance(40) {
            fs::remove_file(path).unwrap();
        }
    }
}

fn write(random: &mut Random, path: &Path) -> std::io::Result<()> {
    let file = File::create(path)?;
    let len = match random.next(10) {
        0 => 0,
        1..=4 => random.next(200),
        5..=8 => random.next(60_000),
        _ => random.next(2_000_000),
    };
    let mut at = 0;
    while at < len {
        let part = 1 + random.next(len - at);
        let bytes = random.bytes(part);
        file.write_all_at(&bytes, at)?;
        at += part;
        if random.chance(30) {
            at += random.next(300_000);
        }
    }
    if random.chance(10) {
        let flags = FallocateFlags::KEEP_SIZE;
        let _ = rustix::fs::fallocate(&file, flags, 0, 1 + random.next(400_000));
    }
    Ok(())
}

/// Owners, rights and attributes; not every kind of file system and file has them.
fn decorate(random: &mut Random, path: &Path) {
    let (uid, gid) = (random.next(90_000) as u32, random.next(70_000) as u32);
    let _ = std::os::unix::fs::lchown(path, Some(uid), Some(gid));
    if !path.is_symlink() {
        let _ = fs::set_permissions(path, PermissionsExt::from_mode(random.next(0o7777) as u32));
    }
    let value = random.bytes(random.0 % 700);
    let _ = rustix::fs::lsetxattr(path, "user.larkfell", &value, XattrFlags::empty());
    let _ = rustix::fs::lsetxattr(path, "trusted.larkfell", b"hut", XattrFlags::empty());
    let acl = "u:77:rwx,g:88:r-x,m::rwx";
    if path.is_file() && random.chance(50) {
        let _ = Command::new("setfacl").args(["-m", acl]).arg(path).status();
    }
}

/// All that a program can see of a file.
#[derive(Debug, PartialEq, Eq)]
struct Seen {
    mode: u32,
    owner: (u32, u32),
    links: u64,
    size: u64,
    device: u64,
    modified: (i64, i64),
    accessed: (i64, i64),
    content: Option<[u8; 32]>,
    holes: Vec<(u64, u64)>,
    target: Option<PathBuf>,
    attributes: BTreeMap<Vec<u8>, Vec<u8>>,
    /// The first path of the same file.
    first: PathBuf,
}

fn attributes(path: &Path) -> BTreeMap<Vec<u8>, Vec<u8>> {
    let mut names = vec![0; 1 << 16];
    let Ok(len) = rustix::fs::llistxattr(path, &mut names[..]) else {
        return BTreeMap::new();
    };
    let names = names[..len]
        .split(|byte| *byte == 0)
        .filter(|name| !name.is_empty());
    names
        .map(|name| {
            let mut value = vec![0; 1 << 16];
            let len = rustix::fs::lgetxattr(path, name, &mut value[..]).unwrap();
            (name.to_vec(), value[..len].to_vec())
        })
        .collect()
}

fn holes(file: &File, size: u64) -> Vec<(u64, u64)> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < size {
        let data = rustix::fs::seek(file, SeekFrom::Data(at)).unwrap_or(size);
        if data > at {
            found.push((at, data));
        }
        at = match data {
            data if data >= size => size,
            data => rustix::fs::seek(file, SeekFrom::Hole(data)).unwrap(),
        };
    }
    found
}

fn see(root: &Path) -> BTreeMap<PathBuf, Seen> {
    let mut all = BTreeMap::new();
    let mut firsts: BTreeMap<u64, PathBuf> = BTreeMap::new();
    let mut open = vec![PathBuf::new()];
    while let Some(folder) = open.pop() {
        let mut names: Vec<_> = fs::read_dir(root.join(&folder))
            .unwrap()
            .map(|entry| entry.unwrap().file_name())
            .collect();
        names.sort();
        for name in names {
            let path = folder.join(name);
            let full = root.join(&path);
            let facts = fs::symlink_metadata(&full).unwrap();
            if facts.is_dir() {
                open.push(path.clone());
            }
            let file = facts.is_file().then(|| File::open(&full).unwrap());
            let first = firsts
                .entry(facts.ino())
                .or_insert_with(|| path.clone())
                .clone();
            let seen = Seen {
                mode: facts.mode(),
                owner: (facts.uid(), facts.gid()),
                links: facts.nlink(),
                size: if facts.is_dir() { 0 } else { facts.size() },
                device: facts.rdev(),
                modified: (facts.mtime(), facts.mtime_nsec()),
                accessed: (facts.atime(), facts.atime_nsec()),
                content: file
                    .as_ref()
                    .map(|_| *blake3::hash(&fs::read(&full).unwrap()).as_bytes()),
                holes: file.map_or(Vec::new(), |file| holes(&file, facts.size())),
                target: fs::read_link(&full).ok(),
                attributes: attributes(&full),
                first,
            };
            all.insert(path, seen);
        }
    }
    all
}

/// Mounts a file system for reading only.
fn look(image: &Path) -> BTreeMap<PathBuf, Seen> {
    let dir = tempfile::tempdir().unwrap();
    let (from, to) = (image.to_str().unwrap(), dir.path().to_str().unwrap());
    for _ in 0..5 {
        let options = ["-o", "loop,ro,noatime", "-t", "ext4", from, to];
        if judge("mount", &options).is_some_and(|(is_good, _)| is_good) {
            let all = see(dir.path());
            good("umount", &[to]).unwrap();
            return all;
        }
        std::thread::sleep(std::time::Duration::from_millis(300));
    }
    panic!("{from} cannot be mounted");
}

fn make_and_fill(random: &mut Random, image: &Path) -> Option<()> {
    make(random, image)?;
    let Some(mounted) = Mounted::try_new(image) else {
        skip("a file system that cannot be mounted");
        return None;
    };
    fill(random, mounted.dir());
    drop(mounted);
    // The kernel leaves hints and times that only matter to a mounted file system.
    judge("e2fsck", &["-fy", image.to_str().unwrap()])?;
    Some(())
}

fn judges() -> bool {
    pinewrit_judges::are_there(&["mke2fs", "e2fsck", "mount", "umount"])
}

/// How many random cases are tried: more in a long run.
fn cases() -> u64 {
    let wanted = std::env::var("PINEWRIT_CASES").ok();
    wanted.and_then(|text| text.parse().ok()).unwrap_or(20)
}

fn shrunk<D: BlockDevice>(device: D, size: u64) -> Result<Shrinkage, EditError> {
    let mut editor = Editor::open(device, Timestamp::at(1_767_225_600))?;
    let done = editor.shrink(size)?;
    editor.commit()?;
    Ok(done)
}

#[test]
fn everything_stays_in_a_smaller_file_system() {
    let first: u64 = std::env::var("PINEWRIT_FIRST").map_or(1, |text| text.parse().unwrap());
    let (mut tried, mut moved, mut renumbered) = (0, 0, 0);
    for case in first..first + cases() {
        let mut random = Random(case.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
        let dir = tempfile::tempdir().unwrap();
        let image = dir.path().join("fs.img");
        if !judges() {
            return;
        }
        if make_and_fill(&mut random, &image).is_none() {
            continue;
        }
        let before = look(&image);
        let least = {
            let device = device(&image);
            check(&device).unwrap_or_else(|why| panic!("case {case}, before: {why}"));
            let mut editor = Editor::open(&device, Timestamp::at(0)).unwrap();
            editor.smallest_size().unwrap()
        };
        let now = fs::metadata(&image).unwrap().len();
        let size = least + random.next(now.saturating_sub(least) / 2 + 1);
        // Once through a view that copies nothing, once in place.
        let other = dir.path().join("view.img");
        let source = device(&image);
        let view = Overlay::new(&source).with_free_writes(FreeWrites::Referenced);
        let done = match shrunk(&view, size) {
            Ok(done) => done,
            // What is free may be too scattered for the very smallest size.
            Err(EditError::NoSpace { .. }) if size < least + (1 << 20) => continue,
            Err(why) => panic!("case {case}: {size} of {now}, least {least}: {why}"),
        };
        let after = done.after;
        assert!(after <= size, "case {case}");
        copy(&view, &other, after);
        drop(view);
        assert_eq!(shrunk(&source, size).unwrap(), done, "case {case}");
        tried += 1;
        moved += u64::from(done.moved > 0);
        renumbered += u64::from(done.renumbered > 0);
        let file = File::options().write(true).open(&image).unwrap();
        file.set_len(after).unwrap();
        for path in [&image, &other] {
            check(device(path)).unwrap_or_else(|why| panic!("case {case}: {why}"));
            let (is_good, said) = judge("e2fsck", &["-fn", path.to_str().unwrap()]).unwrap();
            assert!(is_good, "case {case}: {said}");
            let seen = look(path);
            for (name, was) in &before {
                assert_eq!(seen.get(name), Some(was), "case {case}: {}", name.display());
            }
            assert_eq!(seen.len(), before.len(), "case {case}");
        }
    }
    // A test in which nothing moves tells nothing.
    let counts = format!("{tried} tried, content moved in {moved}, inodes in {renumbered}");
    assert!(
        tried * 2 > cases() && moved * 3 > tried && renumbered > 0,
        "{counts}"
    );
}

fn copy(from: &dyn BlockDevice, to: &Path, size: u64) {
    let file = File::create(to).unwrap();
    let mut buffer = vec![0; 1 << 20];
    let mut at = 0;
    while at < size {
        let len = (size - at).min(buffer.len() as u64) as usize;
        from.read_at(at, &mut buffer[..len]).unwrap();
        file.write_all_at(&buffer[..len], at).unwrap();
        at += len as u64;
    }
}

#[test]
fn what_cannot_fit_is_told_with_the_smallest_size() {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    sparse(&image, 64 << 20);
    let path = image.to_str().unwrap();
    if good("mke2fs", &["-q", "-F", "-t", "ext4", "-b", "4096", path]).is_none() {
        return;
    }
    let before = fs::read(&image).unwrap();
    let device = device(&image);
    let refused = shrunk(&device, 1 << 20).unwrap_err();
    let EditError::Size(SizeError::TooSmall { size, least }) = refused else {
        panic!("{refused}");
    };
    assert_eq!(size, 1 << 20);
    assert!(least > 1 << 20 && least < 64 << 20, "{least}");
    assert!(fs::read(&image).unwrap() == before);
    assert!(shrunk(&device, least).unwrap().after <= least);
    assert!(good("e2fsck", &["-fn", path]).is_some());
}

#[rstest]
#[case::spread_descriptors("meta_bg,^resize_inode", "meta_bg")]
#[case::two_backups("sparse_super2", "sparse_super2")]
fn other_kinds_are_refused_by_name(#[case] features: &str, #[case] named: &str) {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    sparse(&image, 64 << 20);
    let path = image.to_str().unwrap();
    if good("mke2fs", &["-q", "-F", "-t", "ext4", "-O", features, path]).is_none() {
        return;
    }
    let refused = shrunk(device(&image), 40 << 20).unwrap_err();
    assert!(
        matches!(&refused, EditError::Feature(name) if name == named),
        "{refused}"
    );
}

/// What is in a partition moves only inside it.
#[test]
fn nothing_outside_of_the_file_system_is_touched() {
    let dir = tempfile::tempdir().unwrap();
    let image = dir.path().join("fs.img");
    let mut random = Random(77);
    if make_and_fill(&mut random, &image).is_none() {
        return;
    }
    let medium = dir.path().join("medium.img");
    let bytes = fs::read(&image).unwrap();
    let (before, after) = (vec![0xa5; 12_800], vec![0x5a; 9000]);
    fs::write(&medium, [&before[..], &bytes, &after].concat()).unwrap();
    let device = device(&medium);
    let start = before.len() as u64;
    let end = start + bytes.len() as u64;
    let window = Window::new(&device, ByteRange { start, end });
    let mut editor = Editor::open(&window, Timestamp::at(0)).unwrap();
    let least = editor.smallest_size().unwrap();
    drop(editor);
    let size = least + (bytes.len() as u64 - least) / 3;
    let view = Overlay::new(&window).with_free_writes(FreeWrites::Referenced);
    shrunk(&view, size).unwrap();
    check(&view).unwrap();
    let made = shrunk(&window, size).unwrap().after;
    check(&window).unwrap();
    let now = fs::read(&medium).unwrap();
    assert!(now[..before.len()] == before && now[end as usize..] == after);
    assert!(made <= size);
}
