//! Filling a FAT: what it cannot hold, and the order of its root directory.

use std::collections::hash_map::{DefaultHasher, Entry};
use std::collections::{HashMap, HashSet};
use std::hash::{Hash, Hasher};
use std::io::Read;

use pinewrit_disk::BlockDevice;
use pinewrit_ext4::{Attributes, NodeKind, Zeros};
use pinewrit_fat::{EditError, Editor, FatError, Placement, check_path, folded};

use super::super::{FilesError, above};
use super::{Fill, FillError, Filled, MAX_KNOWN, Refusal, Stands};

/// The most bytes in a file: 32 bits count them.
const MAX_FILE: u64 = u32::MAX as u64;
/// Everything that cannot be stored is reported at once, up to this many.
const MAX_REFUSED: usize = 50;
/// Bytes of directories gathered before they are written.
const MAX_GATHERED: usize = 64 << 20;

/// Checks whether a path is possible.
pub(super) fn check_name(path: &str) -> Result<(), Refusal> {
    check_path(path).map_err(|why| {
        let what = format!("{path}: {why}");
        Refusal::new(what, "another name, or an ext4 partition")
    })
}

pub(super) fn check_size(path: &str, size: u64) -> Result<(), Refusal> {
    if size <= MAX_FILE {
        Ok(())
    } else {
        Err(Refusal::new(
            format!("{path} has {size} bytes; files on FAT have less than 4 GiB"),
            "an ext4 partition, or a smaller file",
        ))
    }
}

/// Two names that differ only in case.
pub(super) fn one_name(path: &str, other: &str) -> Refusal {
    Refusal::new(
        format!("{path} and {other} are the same name on FAT, which ignores case"),
        "another name for one of them, or an ext4 partition",
    )
}

/// A FAT being filled.
pub(super) struct FatFill<'f, 'd> {
    editor: &'f mut Editor<&'d dyn BlockDevice>,
    /// Folders known to exist.
    known: HashSet<String>,
    /// The paths stored so far: each by the hash of its form for comparison, and that of the path
    /// itself.
    named: HashMap<u64, u64>,
    /// What cannot be stored.
    refused: Vec<Refusal>,
    placement: Placement,
    /// The file written last, and the one that must stay first.
    last: String,
    first: Option<String>,
}

fn hash(text: &str) -> u64 {
    let mut hasher = DefaultHasher::new();
    text.hash(&mut hasher);
    hasher.finish()
}

impl<'f, 'd> FatFill<'f, 'd> {
    pub(super) fn new(editor: &'f mut Editor<&'d dyn BlockDevice>) -> Self {
        Self {
            editor,
            known: HashSet::new(),
            named: HashMap::new(),
            refused: Vec::new(),
            placement: Placement::Usual,
            last: String::new(),
            first: None,
        }
    }

    /// Records what cannot be stored, to report all of it at the end.
    fn refuse(&mut self, refusals: Vec<Refusal>) -> Filled {
        self.refused.extend(refusals);
        if self.refused.len() < MAX_REFUSED {
            Ok(())
        } else {
            self.tell_refused()
        }
    }

    /// Whether a path can be stored besides all earlier ones.
    fn check(&mut self, path: &str) -> Filled {
        check_name(path)?;
        let own = hash(path);
        match self.named.entry(hash(&folded(path))) {
            Entry::Vacant(room) => {
                room.insert(own);
            }
            Entry::Occupied(there) if *there.get() == own => {}
            Entry::Occupied(_) => {
                let other = self.editor.tree().find(path);
                let name = other.map_or(String::new(), |node| node.name);
                return Err(one_name(path, &format!("{}/{name}", above(path))).into());
            }
        }
        Ok(())
    }

    fn make_folders(&mut self, path: &str, modified: i64) -> Filled {
        if path.is_empty() || self.known.contains(path) {
            return Ok(());
        }
        self.make_folders(above(path), modified)?;
        self.check(path)?;
        match self.editor.tree().find(path) {
            Ok(node) if node.is_folder => {}
            Ok(_) => {
                let what = format!("{path} is a file where a directory is needed");
                return Err(FillError::refused(what, "remove it, or omit the directory"));
            }
            Err(FatError::NotFound(_)) => {
                let made = self.editor.make_folder(path, modified);
                made.map_err(|error| told(path, error))?;
            }
            Err(error) => return Err(told(path, error.into())),
        }
        if self.known.len() == MAX_KNOWN {
            self.known.clear();
        }
        self.known.insert(path.to_owned());
        Ok(())
    }

    /// Writes a part of the work once much has been gathered.
    fn relieve(&mut self) -> Filled {
        if self.editor.weight() > MAX_GATHERED {
            self.commit()
        } else {
            Ok(())
        }
    }

    fn commit(&mut self) -> Filled {
        let done = self.editor.commit();
        done.map_err(|error| told("the file system", error))
    }
}

fn told(path: &str, error: EditError) -> FillError {
    match error {
        EditError::Volume(FatError::Disk(error)) => FilesError::Disk(error).into(),
        // These name the path themselves.
        EditError::NoSpace { .. } => Refusal::no_room(error.to_string()).into(),
        EditError::FolderFull { .. } => FillError::refused(
            error.to_string(),
            "another directory, or FAT32, whose root directory has no limit",
        ),
        EditError::Scattered { .. } => {
            FillError::refused(error.to_string(), "omit it, or change it")
        }
        error => FillError::refused(format!("{path}: {error}"), "omit it, or change it"),
    }
}

fn no_links(path: &str) -> Vec<Refusal> {
    vec![Refusal::new(
        format!("{path} is a link or a device, which FAT cannot store"),
        "put it into an ext4 partition, or omit it",
    )]
}

impl Fill for FatFill<'_, '_> {
    fn max_path(&self) -> usize {
        // Microsoft FAT specification 1.03, "Long Directory Entries": 260 including the final zero.
        260 - 1
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, FillError> {
        match self.editor.tree().find(path) {
            Err(FatError::NotFound(_)) => Ok(None),
            Err(error) => Err(told(path, error.into())),
            Ok(node) => Ok(Some(Stands {
                is_folder: node.is_folder,
                modified: node.modified,
                size: node.size,
            })),
        }
    }

    fn folder(&mut self, path: &str, attributes: &Attributes) -> Filled {
        match self.make_folders(path, attributes.modified.seconds) {
            Err(FillError::Refused(refusals)) => self.refuse(refusals),
            done => done,
        }
    }

    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        _zeros: Zeros,
    ) -> Filled {
        let modified = attributes.modified.seconds;
        let checked = check_size(path, size)
            .map_err(FillError::from)
            .and_then(|()| self.make_folders(above(path), modified))
            .and_then(|()| self.check(path));
        match checked {
            Err(FillError::Refused(refusals)) => return self.refuse(refusals),
            checked => checked?,
        }
        if self.first.as_deref() == Some(path) {
            let what = format!("{path} would be replaced, which must come first");
            return Err(FillError::refused(what, "omit it from the later content"));
        }
        path.clone_into(&mut self.last);
        let written = self
            .editor
            .write_file(path, size, content, modified, self.placement);
        written.map_err(|error| told(path, error))?;
        self.relieve()
    }

    fn symlink(&mut self, path: &str, _target: &[u8], _attributes: &Attributes) -> Filled {
        self.refuse(no_links(path))
    }

    fn link(&mut self, path: &str, _existing: &str) -> Filled {
        self.refuse(no_links(path))
    }

    fn node(&mut self, path: &str, _kind: NodeKind, _attributes: &Attributes) -> Filled {
        self.refuse(no_links(path))
    }

    fn in_one_piece(&mut self, is_wanted: bool) {
        self.placement = if is_wanted {
            Placement::Contiguous
        } else {
            Placement::Usual
        };
    }

    fn takes_name(&mut self, path: &str) -> Result<bool, FillError> {
        match self.check(path) {
            Ok(()) => Ok(true),
            Err(FillError::Refused(refusals)) => self.refuse(refusals).map(|()| false),
            Err(error) => Err(error),
        }
    }

    fn tell_refused(&mut self) -> Filled {
        let all = std::mem::take(&mut self.refused);
        if all.is_empty() {
            Ok(())
        } else {
            Err(FillError::Refused(all))
        }
    }

    fn move_to_front(&mut self) -> Filled {
        let path = std::mem::take(&mut self.last);
        let moved = self.editor.move_to_front(&path);
        moved.map_err(|error| told(&path, error))?;
        self.first = Some(path);
        Ok(())
    }
}
