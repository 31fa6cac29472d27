//! A file system as a plain map, and changes that are made to it and to the real one.

use std::collections::BTreeMap;
use std::fs;
use std::ops::Range;
use std::path::Path;

use pinewrit_disk::BlockDevice;
use pinewrit_fat::{EditError, Editor, FatError, Node, Placement, Tree, folded};
use proptest::prelude::*;

use super::noise;

/// One change; paths are numbers into a small pool, so that they meet.
#[derive(Clone, Debug)]
pub(crate) enum Change {
    Write {
        path: usize,
        size: usize,
        seed: u64,
        placement: Placement,
    },
    /// A file whose content ends early.
    Fail {
        path: usize,
        size: usize,
    },
    Folder {
        path: usize,
    },
    Remove {
        path: usize,
    },
    RemoveAll {
        path: usize,
    },
    ToFront {
        path: usize,
    },
    Many {
        folder: usize,
        stem: usize,
        count: usize,
    },
    Fewer {
        folder: usize,
        each: usize,
    },
}

const NAMES: [&str; 11] = [
    "A",
    "BOOT.IMG",
    "device-trees",
    "my dir",
    "a.b.c",
    "a+b",
    "Umläut",
    "日本語",
    "\u{1f3d4} hut",
    "uMLÄUT",
    "a name that is rather long so that folders fill up soon and get more clusters than one",
];

const STEMS: [&str; 4] = ["reading-of-the-day-", "R", "日本", "x.y."];

/// One to three names.
fn path(number: usize) -> String {
    let first = number % NAMES.len();
    let (second, third) = (
        number / 11 % (NAMES.len() + 3),
        number / 154 % (NAMES.len() + 5),
    );
    let mut path = format!("/{}", NAMES[first]);
    for next in [second, third] {
        match NAMES.get(next) {
            Some(name) => path = format!("{path}/{name}"),
            None => break,
        }
    }
    path
}

fn size() -> impl Strategy<Value = usize> {
    prop_oneof![
        1 => Just(0usize),
        4 => 0usize..9000,
        2 => 0usize..200_000,
        1 => 0usize..3_000_000,
    ]
}

fn change() -> impl Strategy<Value = Change> {
    let path = || 0usize..2000;
    let placement = prop_oneof![4 => Just(Placement::Usual), 1 => Just(Placement::Contiguous)];
    prop_oneof![
        6 => (path(), size(), any::<u64>(), placement).prop_map(
            |(path, size, seed, placement)| Change::Write { path, size, seed, placement }),
        1 => (path(), 1usize..100_000).prop_map(|(path, size)| Change::Fail { path, size }),
        4 => path().prop_map(|path| Change::Folder { path }),
        3 => path().prop_map(|path| Change::Remove { path }),
        1 => path().prop_map(|path| Change::RemoveAll { path }),
        1 => path().prop_map(|path| Change::ToFront { path }),
        1 => (0usize..3, 0usize..STEMS.len(), 1usize..120)
            .prop_map(|(folder, stem, count)| Change::Many { folder, stem, count }),
        1 => (0usize..3, 1usize..7).prop_map(|(folder, each)| Change::Fewer { folder, each }),
    ]
}

/// Changes, and whether each is committed at once.
pub(crate) fn changes(count: Range<usize>) -> impl Strategy<Value = Vec<(Change, bool)>> {
    prop::collection::vec((change(), any::<bool>()), count)
}

#[derive(Clone, Debug, PartialEq)]
enum Content {
    File(Vec<u8>, i64),
    Folder,
}

/// What should be in the file system: by the form in which names are compared, the path as it was
/// written first, and what is there.
#[derive(Default)]
pub(crate) struct Model {
    nodes: BTreeMap<String, (String, Content)>,
}

/// Whether a change was made, which it had to be, or not to be, as the model says.
fn judged(result: Result<(), EditError>, should: bool, what: &dyn std::fmt::Debug) -> bool {
    match result {
        Ok(()) => {
            assert!(should, "{what:?} was made");
            true
        }
        Err(
            EditError::NoSpace { .. } | EditError::FolderFull { .. } | EditError::Scattered { .. },
        ) => false,
        Err(error) => {
            assert!(!should, "{what:?}: {error:?}");
            false
        }
    }
}

fn time_of(seed: u64) -> i64 {
    // Whole steps of two seconds, from 1990 to 2100.
    631_152_000 + (seed >> 33) as i64 / 2 * 2
}

impl Model {
    fn at(&self, path: &str) -> Option<&Content> {
        self.nodes.get(&folded(path)).map(|(_, content)| content)
    }

    fn is_folder(&self, path: &str) -> bool {
        path.is_empty() || self.at(path) == Some(&Content::Folder)
    }

    fn is_file(&self, path: &str) -> bool {
        matches!(self.at(path), Some(Content::File(..)))
    }

    /// Whether something can be made at a path.
    fn is_open(&self, path: &str) -> bool {
        let (above, _) = path.rsplit_once('/').unwrap();
        self.is_folder(above) && self.at(path).is_none()
    }

    fn below(&self, path: &str) -> Vec<String> {
        let start = format!("{}/", folded(path));
        let all = self.nodes.range(start.clone()..);
        let below = all.take_while(|(one, _)| one.starts_with(&start));
        below.map(|(one, _)| one.clone()).collect()
    }

    fn put(&mut self, path: &str, content: Content) {
        // Folders keep the name that they were made with.
        let (above, name) = path.rsplit_once('/').unwrap();
        let above = self.nodes.get(&folded(above));
        let path = above.map_or(path.to_owned(), |(above, _)| format!("{above}/{name}"));
        let node = self.nodes.entry(folded(&path));
        node.or_insert_with(|| (path, Content::Folder)).1 = content;
    }

    /// Makes a change to both. It must succeed where the model says so, room permitting.
    pub(crate) fn make<D: BlockDevice>(&mut self, editor: &mut Editor<D>, change: &Change) {
        match change {
            Change::Write {
                path: number,
                size,
                seed,
                placement,
            } => self.write(editor, &path(*number), *size, *seed, *placement),
            Change::Fail { path: number, size } => {
                let at = path(*number);
                // Where there is no room beside the old content, that would be lost.
                if editor.free() < *size as u64 + 200_000 {
                    return;
                }
                let half = noise(size / 2, 1);
                let size = *size as u64;
                let result = editor.write_file(&at, size, &mut &half[..], 0, Placement::Usual);
                judged(result, false, change);
            }
            Change::Folder { path: number } => {
                let at = path(*number);
                let result = editor.make_folder(&at, time_of(7));
                if judged(result, self.is_open(&at), change) {
                    self.put(&at, Content::Folder);
                }
            }
            Change::Remove { path: number } => {
                let at = path(*number);
                let can = self.at(&at).is_some() && self.below(&at).is_empty();
                if judged(editor.remove(&at), can, change) {
                    self.nodes.remove(&folded(&at));
                }
            }
            Change::RemoveAll { path: number } => {
                let at = path(*number);
                let mut all = self.below(&at);
                all.extend(self.at(&at).map(|_| folded(&at)));
                all.sort_by_key(|path| std::cmp::Reverse(path.len()));
                for path in all {
                    editor.remove(&path).unwrap();
                    self.nodes.remove(&path);
                }
            }
            Change::ToFront { path: number } => {
                let at = path(*number);
                // In other folders than the root `.` and `..` have to come first.
                if at.rfind('/') == Some(0) {
                    judged(editor.move_to_front(&at), self.at(&at).is_some(), change);
                }
            }
            Change::Many {
                folder,
                stem,
                count,
            } => {
                let folder = format!("/many-{folder}");
                if self.is_open(&folder) && judged(editor.make_folder(&folder, 0), true, change) {
                    self.put(&folder, Content::Folder);
                }
                if self.is_folder(&folder) {
                    for index in 0..*count {
                        let at = format!("{folder}/{}{index:03}", STEMS[*stem]);
                        self.write(editor, &at, index % 7, index as u64, Placement::Usual);
                    }
                }
            }
            Change::Fewer { folder, each } => {
                let all = self.below(&format!("/many-{folder}"));
                for path in all.into_iter().step_by(*each) {
                    editor.remove(&path).unwrap();
                    self.nodes.remove(&path);
                }
            }
        }
    }

    fn write<D: BlockDevice>(
        &mut self,
        editor: &mut Editor<D>,
        at: &str,
        size: usize,
        seed: u64,
        placement: Placement,
    ) {
        let bytes = noise(size, seed);
        // Replacing without room for both is left to another test.
        if self.is_file(at) && editor.free() < size as u64 + 200_000 {
            return;
        }
        let time = time_of(seed);
        let result = editor.write_file(at, size as u64, &mut &bytes[..], time, placement);
        if judged(result, self.is_open(at) || self.is_file(at), &at) {
            self.put(at, Content::File(bytes, time));
        }
    }

    /// Compares all with what is found.
    pub(crate) fn compare(&self, tree: Tree<'_>) {
        let mut found = BTreeMap::new();
        let mut open = vec![(String::new(), tree.root())];
        while let Some((above, folder)) = open.pop() {
            for node in tree.list(&folder).unwrap() {
                let path = format!("{above}/{}", node.name);
                found.insert(folded(&path), (path.clone(), content(tree, &node)));
                if node.is_folder {
                    open.push((path, node));
                }
            }
        }
        assert_eq!(
            found.keys().collect::<Vec<_>>(),
            self.nodes.keys().collect::<Vec<_>>()
        );
        assert!(found == self.nodes);
        for (path, content) in self.nodes.values() {
            let node = tree.find(path).unwrap();
            assert_eq!(node.is_folder, *content == Content::Folder, "{path}");
        }
        let missing = tree.find("/not there");
        assert!(matches!(missing, Err(FatError::NotFound(_))));
    }

    /// Writes all files and folders to a folder of this computer, under the names that `mtools` give
    /// them: characters of two UTF-16 units become two underscores.
    pub(crate) fn write_to(&self, root: &Path) {
        fs::create_dir_all(root).unwrap();
        for (path, content) in self.nodes.values() {
            let told = |c: char| match c.len_utf16() {
                1 => c.to_string(),
                _ => "__".to_owned(),
            };
            let path: String = path.trim_start_matches('/').chars().map(told).collect();
            let to = root.join(path);
            match content {
                Content::Folder => fs::create_dir_all(to).unwrap(),
                Content::File(bytes, _) => {
                    fs::create_dir_all(to.parent().unwrap()).unwrap();
                    fs::write(to, bytes).unwrap();
                }
            }
        }
    }
}

fn content(tree: Tree<'_>, node: &Node) -> Content {
    if node.is_folder {
        return Content::Folder;
    }
    let mut bytes = Vec::new();
    tree.read_to(node, u64::MAX, &mut bytes).unwrap();
    Content::File(bytes, node.modified.unwrap())
}
