//! Every directory of a system that has run. `scripts/ran-root.sh` makes one, and names it by
//! `PINEWRIT_RAN_ROOT`; without it there is nothing to do here.

#![allow(clippy::print_stdout, reason = "it is run by hand, for its figure")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::path::{Path, PathBuf};

use common::{device, good};
use pinewrit_ext4::{Attributes, Editor, FileKind, InodeNumber, Timestamp, Volume, Zeros, check};

const NOW: Timestamp = Timestamp {
    seconds: 1_790_000_000,
    nanoseconds: 0,
};

/// All directories, by path.
fn directories(image: &Path) -> Vec<Vec<u8>> {
    let volume = Volume::open(device(image)).unwrap();
    let tree = volume.tree();
    let mut open = vec![(Vec::new(), InodeNumber::ROOT)];
    let mut found = Vec::new();
    while let Some((path, number)) = open.pop() {
        for entry in tree.list(number).unwrap() {
            if tree.metadata(entry.inode).unwrap().kind == FileKind::Directory {
                open.push(([&path, &b"/"[..], &entry.name].concat(), entry.inode));
            }
        }
        found.push(path);
    }
    found
}

fn judged(image: &Path) {
    check(device(image)).unwrap();
    good("e2fsck", &["-fn", image.to_str().unwrap()]);
}

#[test]
fn every_directory_can_be_changed() {
    let Some(image) = std::env::var_os("PINEWRIT_RAN_ROOT").map(PathBuf::from) else {
        return;
    };
    judged(&image);
    let directories = directories(&image);
    let plain = Attributes::root(0o644, NOW);
    let added = |path: &Vec<u8>| [path, &b"/gauge-of-larkfell"[..]].concat();
    let mut editor = Editor::open(device(&image), NOW).unwrap();
    for path in &directories {
        let mut content = &b"larkfell"[..];
        let put = editor.write_file(&added(path), &plain, 8, &mut content, Zeros::Written);
        put.unwrap();
    }
    editor.commit().unwrap();
    judged(&image);
    let mut editor = Editor::open(device(&image), NOW).unwrap();
    for path in &directories {
        editor.remove(&added(path)).unwrap();
    }
    editor.commit().unwrap();
    judged(&image);
    println!("{} directories were changed twice", directories.len());
}
