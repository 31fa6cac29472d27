//! File systems that become smaller and larger: judged by `fsck.fat`, and read by mtools.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use common::{copy_out, device, sparse};
use pinewrit_fat::{EditError, Editor, check};
use pinewrit_judges::{are_there, judge, noise};
use rstest::rstest;

fn good(program: &str, args: &[&str]) -> String {
    let (is_good, said) = judge(program, args).unwrap();
    assert!(is_good, "{program} {args:?}: {said}");
    said
}

/// All files below a folder, with their content.
fn files(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                let name = path.strip_prefix(root).unwrap().to_owned();
                found.insert(name, fs::read(&path).unwrap());
            }
        }
    }
    found
}

fn read_out(image: &Path, dir: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let out = dir.join("out");
    let _ = fs::remove_dir_all(&out);
    copy_out(image, &out);
    files(&out)
}

/// A file system that is full up to its end, of which a part was taken away again.
fn make(dir: &Path, (width, size, cluster): (&str, u64, &str)) -> PathBuf {
    let image = dir.join("fat.img");
    sparse(&image, size);
    let path = image.to_str().unwrap();
    good(
        "mkfs.fat",
        &["-F", width, "-s", cluster, "-n", "LARKFELL", path],
    );
    let tree = dir.join("tree");
    for hut in 0..12 {
        let folder = tree.join(format!("hut-{hut:02}/logs of the winter"));
        fs::create_dir_all(&folder).unwrap();
        for day in 0..20 {
            let len = (hut * 977 + day * 4099) % 90_000;
            let bytes = noise(len, (hut * 100 + day) as u64);
            fs::write(folder.join(format!("a rather long name {day}.txt")), bytes).unwrap();
        }
    }
    for folder in fs::read_dir(&tree).unwrap() {
        let folder = folder.unwrap().path();
        good(
            "mcopy",
            &["-s", "-i", path, folder.to_str().unwrap(), "::/"],
        );
    }
    // A large file takes what is in front; the others lie behind it.
    for hut in [0, 2, 3, 7, 8] {
        good("mdeltree", &["-i", path, &format!("::/hut-{hut:02}")]);
    }
    image
}

#[rstest]
#[case::fat12(("12", 16 << 20, "16"))]
#[case::fat16(("16", 40 << 20, "4"))]
#[case::fat32(("32", 80 << 20, "1"))]
fn files_stay_in_a_smaller_and_in_a_larger_one(#[case] form: (&str, u64, &str)) {
    if !are_there(&["mkfs.fat", "fsck.fat", "mcopy", "mdeltree"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let image = make(dir.path(), form);
    let path = image.to_str().unwrap();
    let before = read_out(&image, dir.path());
    assert!(before.len() > 100);
    let least = Editor::open(device(&image)).unwrap().smallest_size();
    for size in [least + (form.1 - least) / 2, least, form.1] {
        let mut editor = Editor::open(device(&image)).unwrap();
        let most = editor.largest_size();
        let done = editor.resize(size.min(most)).unwrap();
        editor.commit().unwrap();
        drop(editor);
        assert!(done.after <= size);
        let file = fs::File::options().write(true).open(&image).unwrap();
        file.set_len(done.after.max(size)).unwrap();
        check(&device(&image)).unwrap();
        let said = good("fsck.fat", &["-n", path]);
        assert!(
            !said.contains("differ") && !said.contains("wrong"),
            "{said}"
        );
        assert_eq!(read_out(&image, dir.path()), before);
    }
}

#[test]
fn a_size_that_is_not_possible_changes_nothing() {
    if !are_there(&["mkfs.fat", "mcopy", "mdeltree"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let image = make(dir.path(), ("16", 40 << 20, "4"));
    let before = fs::read(&image).unwrap();
    let mut editor = Editor::open(device(&image)).unwrap();
    for size in [1 << 20, 4 << 30] {
        let refused = editor.resize(size).unwrap_err();
        let EditError::Size {
            size: told,
            least,
            most,
        } = refused
        else {
            panic!("{refused}");
        };
        assert_eq!(told, size);
        assert!(least < 40 << 20 && most >= 40 << 20, "{least} {most}");
    }
    editor.commit().unwrap();
    assert!(fs::read(&image).unwrap() == before);
}
