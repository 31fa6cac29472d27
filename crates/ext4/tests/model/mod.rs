//! A file system as a plain map, and changes that are made to it and to the real one.

#![allow(dead_code, reason = "each test uses a part")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::collections::BTreeMap;
use std::fs;
use std::ops::Range;
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use pinewrit_disk::BlockDevice;
use pinewrit_ext4::{
    Attributes, EditError, Editor, FileKind, NodeKind, Timestamp, Volume, Xattr, Zeros,
};
use proptest::prelude::*;

use pinewrit_judges::noise;

/// One change; paths are numbers into a small pool, so that they meet.
#[derive(Clone, Debug)]
pub(crate) enum Change {
    Write {
        path: usize,
        size: usize,
        seed: u64,
        holes: bool,
        attributes: u64,
    },
    Append {
        path: usize,
        size: usize,
        seed: u64,
    },
    Truncate {
        path: usize,
        size: usize,
    },
    Folder {
        path: usize,
        attributes: u64,
    },
    Symlink {
        path: usize,
        len: usize,
    },
    Node {
        path: usize,
        major: u32,
        minor: u32,
    },
    Link {
        path: usize,
        from: usize,
    },
    Remove {
        path: usize,
    },
    RemoveAll {
        path: usize,
    },
    Attributes {
        path: usize,
        attributes: u64,
    },
    Many {
        folder: usize,
        count: usize,
    },
    Fewer {
        folder: usize,
        count: usize,
    },
}

const NAMES: [&str; 5] = [
    "a",
    "etc",
    "hut",
    "a-name-that-is-rather-long-so-that-folders-fill-up-soon-and-get-more-blocks-than-one",
    "snow depth",
];

/// One to three names.
fn path(number: usize) -> String {
    let first = number % NAMES.len();
    let (second, third) = (
        number / 7 % (NAMES.len() + 1),
        number / 43 % (NAMES.len() + 2),
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
        4 => 0usize..9000,
        2 => 0usize..400_000,
        1 => 0usize..4_000_000,
        1 => Just(20_000_000),
    ]
}

fn change() -> impl Strategy<Value = Change> {
    let path = || 0usize..300;
    prop_oneof![
        4 => (path(), size(), any::<u64>(), any::<bool>(), any::<u64>()).prop_map(
            |(path, size, seed, holes, attributes)| Change::Write { path, size, seed, holes, attributes }
        ),
        3 => (path(), 0usize..300_000, any::<u64>())
            .prop_map(|(path, size, seed)| Change::Append { path, size, seed }),
        2 => (path(), size()).prop_map(|(path, size)| Change::Truncate { path, size }),
        4 => (path(), any::<u64>()).prop_map(|(path, attributes)| Change::Folder { path, attributes }),
        2 => (path(), 1usize..200).prop_map(|(path, len)| Change::Symlink { path, len }),
        1 => (path(), 0u32..4096, 0u32..1 << 20)
            .prop_map(|(path, major, minor)| Change::Node { path, major, minor }),
        2 => (path(), path()).prop_map(|(path, from)| Change::Link { path, from }),
        2 => path().prop_map(|path| Change::Remove { path }),
        1 => path().prop_map(|path| Change::RemoveAll { path }),
        2 => (path(), any::<u64>())
            .prop_map(|(path, attributes)| Change::Attributes { path, attributes }),
        1 => (0usize..3, 1usize..150).prop_map(|(folder, count)| Change::Many { folder, count }),
        1 => (0usize..3, 1usize..150).prop_map(|(folder, count)| Change::Fewer { folder, count }),
    ]
}

/// Changes, and whether each is committed at once.
pub(crate) fn changes(count: Range<usize>) -> impl Strategy<Value = Vec<(Change, bool)>> {
    prop::collection::vec((change(), any::<bool>()), count)
}

#[derive(Clone, Debug, PartialEq)]
enum Content {
    File(Vec<u8>),
    Folder,
    Symlink(Vec<u8>),
    Node(u32, u32),
}

#[derive(Clone, Debug)]
struct Node {
    content: Content,
    attributes: Attributes,
}

/// What should be in the file system.
pub(crate) struct Model {
    nodes: Vec<Node>,
    paths: BTreeMap<String, usize>,
}

fn attributes_of(number: u64) -> Attributes {
    let mut xattrs = Vec::new();
    if number & 1 == 1 {
        xattrs.push(Xattr {
            name: "user.hut".to_owned(),
            value: noise((number >> 8 & 0x3f) as usize, number),
        });
    }
    if number & 6 == 6 {
        xattrs.push(Xattr {
            name: "security.capability".to_owned(),
            value: noise((number >> 16 & 0x1ff) as usize, number),
        });
    }
    xattrs.sort();
    Attributes {
        mode: (number >> 24) as u16 & 0xfff,
        uid: (number >> 36) as u32 & 0x1ffff,
        gid: (number >> 40) as u32 & 0x1ffff,
        modified: Timestamp {
            // Small inodes end in 2038.
            seconds: (number >> 33) as i64,
            nanoseconds: 0,
        },
        xattrs,
    }
}

fn plain() -> Attributes {
    Attributes::root(0o755, Timestamp::at(1_700_000_000))
}

impl Model {
    pub(crate) fn new() -> Self {
        Self {
            nodes: Vec::new(),
            paths: BTreeMap::new(),
        }
    }

    /// Takes over what is in a mounted file system.
    pub(crate) fn adopt(&mut self, root: &Path) {
        let mut open = vec![root.to_owned()];
        let mut known = BTreeMap::new();
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(&folder).unwrap() {
                let at = entry.unwrap().path();
                let path = format!("/{}", at.strip_prefix(root).unwrap().to_str().unwrap());
                if path == "/lost+found" {
                    continue;
                }
                let facts = fs::symlink_metadata(&at).unwrap();
                if let Some(index) = known.get(&facts.ino()) {
                    self.paths.insert(path, *index);
                    continue;
                }
                let content = if facts.is_dir() {
                    open.push(at.clone());
                    Content::Folder
                } else if facts.is_symlink() {
                    Content::Symlink(fs::read_link(&at).unwrap().into_os_string().into_vec())
                } else {
                    Content::File(fs::read(&at).unwrap())
                };
                let attributes = Attributes {
                    mode: facts.mode() as u16 & 0xfff,
                    uid: facts.uid(),
                    gid: facts.gid(),
                    modified: Timestamp::at(facts.mtime()),
                    xattrs: Vec::new(),
                };
                self.put(&path, content, attributes);
                known.insert(facts.ino(), self.paths[&path]);
            }
        }
    }

    fn at(&self, path: &str) -> Option<&Node> {
        Some(&self.nodes[*self.paths.get(path)?])
    }

    fn is_folder(&self, path: &str) -> bool {
        path.is_empty()
            || self
                .at(path)
                .is_some_and(|node| node.content == Content::Folder)
    }

    /// Whether something can be made at a path.
    fn is_open(&self, path: &str) -> bool {
        let (above, _) = path.rsplit_once('/').unwrap();
        self.is_folder(above) && !self.paths.contains_key(path)
    }

    fn is_file(&self, path: &str) -> bool {
        let node = self.at(path);
        node.is_some_and(|node| matches!(node.content, Content::File(_)))
    }

    fn below(&self, path: &str) -> Vec<String> {
        let start = format!("{path}/");
        let all = self.paths.keys();
        all.filter(|one| one.starts_with(&start)).cloned().collect()
    }

    fn put(&mut self, path: &str, content: Content, attributes: Attributes) {
        let node = Node {
            content,
            attributes,
        };
        match self.paths.get(path) {
            Some(&index) => self.nodes[index] = node,
            None => {
                self.nodes.push(node);
                self.paths.insert(path.to_owned(), self.nodes.len() - 1);
            }
        }
    }

    fn file(&mut self, path: &str) -> &mut Vec<u8> {
        let index = self.paths[path];
        match &mut self.nodes[index].content {
            Content::File(bytes) => bytes,
            other => panic!("{path}: {other:?}"),
        }
    }

    /// Makes a change to both. It must succeed where the model says so, room permitting.
    pub(crate) fn make<D: BlockDevice>(&mut self, editor: &mut Editor<D>, change: &Change) {
        match change {
            Change::Write {
                path: number,
                size,
                seed,
                holes,
                attributes,
            } => {
                let at = path(*number);
                let mut bytes = noise(*size, *seed);
                let zeros = if *holes { Zeros::Holes } else { Zeros::Written };
                if *holes && *size > 3000 {
                    bytes[1000..*size * 2 / 3].fill(0);
                }
                let attributes = attributes_of(*attributes);
                let mut source = &bytes[..];
                let result =
                    editor.write_file(at.as_bytes(), &attributes, *size as u64, &mut source, zeros);
                if judged(result, self.is_open(&at) || self.is_file(&at), change) {
                    self.put(&at, Content::File(bytes), attributes);
                }
            }
            Change::Append {
                path: number,
                size,
                seed,
            } => {
                let at = path(*number);
                let bytes = noise(*size, *seed);
                if judged(
                    editor.append(at.as_bytes(), &bytes),
                    self.is_file(&at),
                    change,
                ) {
                    self.file(&at).extend(bytes);
                }
            }
            Change::Truncate { path: number, size } => {
                let at = path(*number);
                let result = editor.truncate(at.as_bytes(), *size as u64);
                if judged(result, self.is_file(&at), change) {
                    self.file(&at).resize(*size, 0);
                }
            }
            Change::Folder {
                path: number,
                attributes,
            } => {
                let at = path(*number);
                let attributes = attributes_of(*attributes);
                let result = editor.make_folder(at.as_bytes(), &attributes);
                if judged(result, self.is_open(&at) || self.is_folder(&at), change) {
                    self.put(&at, Content::Folder, attributes);
                }
            }
            Change::Symlink { path: number, len } => {
                let at = path(*number);
                let target: Vec<u8> = b"nowhere/".iter().copied().cycle().take(*len).collect();
                let result = editor.make_symlink(at.as_bytes(), &target, &plain());
                if judged(result, self.is_open(&at), change) {
                    self.put(&at, Content::Symlink(target), plain());
                }
            }
            Change::Node {
                path: number,
                major,
                minor,
            } => {
                let at = path(*number);
                let kind = NodeKind::CharacterDevice(*major, *minor);
                let result = editor.make_node(at.as_bytes(), kind, &plain());
                if judged(result, self.is_open(&at), change) {
                    self.put(&at, Content::Node(*major, *minor), plain());
                }
            }
            Change::Link { path: number, from } => {
                self.link(editor, &path(*number), &path(*from), change)
            }
            Change::Remove { path: number } => {
                let at = path(*number);
                let can = self.paths.contains_key(&at) && self.below(&at).is_empty();
                if judged(editor.remove(at.as_bytes()), can, change) {
                    self.paths.remove(&at);
                }
            }
            Change::RemoveAll { path: number } => {
                let at = path(*number);
                if judged(
                    editor.remove_all(at.as_bytes()),
                    self.paths.contains_key(&at),
                    change,
                ) {
                    for below in self.below(&at) {
                        self.paths.remove(&below);
                    }
                    self.paths.remove(&at);
                }
            }
            Change::Attributes {
                path: number,
                attributes,
            } => {
                let at = path(*number);
                let attributes = attributes_of(*attributes);
                let result = editor.set_attributes(at.as_bytes(), &attributes);
                if judged(result, self.paths.contains_key(&at), change) {
                    let index = self.paths[&at];
                    self.nodes[index].attributes = attributes;
                }
            }
            Change::Many { folder, count } => self.many(editor, *folder, *count, change),
            Change::Fewer { folder, count } => {
                let folder = format!("/many-{folder}");
                let mut names = self.below(&folder);
                names.retain(|name| !self.is_folder(name));
                names.truncate(*count);
                for name in names {
                    judged(editor.remove(name.as_bytes()), true, change);
                    self.paths.remove(&name);
                }
            }
        }
    }

    fn link<D: BlockDevice>(
        &mut self,
        editor: &mut Editor<D>,
        at: &str,
        from: &str,
        change: &Change,
    ) {
        let can = self.is_open(at) && self.paths.contains_key(from) && !self.is_folder(from);
        if judged(editor.link(at.as_bytes(), from.as_bytes()), can, change) {
            let index = self.paths[from];
            self.paths.insert(at.to_owned(), index);
        }
    }

    fn many<D: BlockDevice>(
        &mut self,
        editor: &mut Editor<D>,
        folder: usize,
        count: usize,
        change: &Change,
    ) {
        let folder = format!("/many-{folder}");
        if !judged(
            editor.make_folder(folder.as_bytes(), &plain()),
            true,
            change,
        ) {
            return;
        }
        self.put(&folder, Content::Folder, plain());
        for index in 0..count {
            let at = format!("{folder}/reading-of-the-day-{index:05}");
            let bytes = at.as_bytes()[..index % 20].to_vec();
            let mut source = &bytes[..];
            let result = editor.write_file(
                at.as_bytes(),
                &plain(),
                bytes.len() as u64,
                &mut source,
                Zeros::Written,
            );
            if !judged(result, true, change) {
                return;
            }
            self.put(&at, Content::File(bytes), plain());
        }
    }

    /// All files with their content.
    pub(crate) fn files(&self) -> impl Iterator<Item = (&str, &[u8])> {
        self.paths
            .iter()
            .filter_map(|(path, index)| match &self.nodes[*index].content {
                Content::File(bytes) => Some((path.as_str(), &bytes[..])),
                _ => None,
            })
    }

    /// Writes all files to a folder of the system.
    pub(crate) fn write_to(&self, dir: &Path) {
        fs::create_dir_all(dir).unwrap();
        for (path, bytes) in self.files() {
            let to = dir.join(path.trim_start_matches('/'));
            fs::create_dir_all(to.parent().unwrap()).unwrap();
            fs::write(to, bytes).unwrap();
        }
    }

    /// Compares everything with a file system.
    pub(crate) fn compare<D: BlockDevice>(&self, volume: &Volume<D>) {
        let tree = volume.tree();
        for (path, index) in &self.paths {
            let node = &self.nodes[*index];
            let number = tree.find(path.as_bytes()).unwrap();
            let found = tree.metadata(number).unwrap();
            let names = self.paths.values().filter(|other| *other == index).count();
            match &node.content {
                Content::File(bytes) => {
                    let mut content = vec![1; bytes.len() + 10];
                    let len = tree.read_at(number, 0, &mut content).unwrap();
                    assert!(content[..len] == bytes[..], "{path}");
                    assert_eq!((found.kind, found.links), (FileKind::Regular, names as u16));
                }
                Content::Folder => {
                    let mut listed: Vec<String> = tree
                        .list(number)
                        .unwrap()
                        .into_iter()
                        .map(|entry| format!("{path}/{}", String::from_utf8(entry.name).unwrap()))
                        .collect();
                    listed.sort();
                    let depth = path.matches('/').count() + 1;
                    let mut expected = self.below(path);
                    expected.retain(|one| one.matches('/').count() == depth);
                    assert_eq!(listed, expected, "{path}");
                }
                Content::Symlink(target) => assert_eq!(&tree.link_target(number).unwrap(), target),
                Content::Node(major, minor) => assert_eq!(found.device, Some((*major, *minor))),
            }
            let expected = &node.attributes;
            assert_eq!(
                (found.mode, found.uid, found.gid),
                (expected.mode, expected.uid, expected.gid)
            );
            assert_eq!(tree.xattrs(number).unwrap(), expected.xattrs, "{path}");
            if !matches!(node.content, Content::Folder) {
                let is_kept = found.modified.seconds == expected.modified.seconds;
                assert!(
                    is_kept || found.modified.seconds == 1_790_000_000,
                    "{path}: {found:?}"
                );
            }
        }
    }
}

/// Whether a change was made; it must be where it can be, and must not be elsewhere.
fn judged(result: Result<(), EditError>, can: bool, change: &Change) -> bool {
    match result {
        Ok(()) => {
            assert!(can, "{change:?} should have failed");
            true
        }
        Err(
            EditError::NoSpace { .. }
            | EditError::NoInodes { .. }
            | EditError::TooLarge(_)
            | EditError::Xattr(_),
        ) => false,
        Err(error) => {
            assert!(!can, "{change:?}: {error}");
            false
        }
    }
}
