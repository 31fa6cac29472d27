//! Filling ext2, ext3 or ext4.

use std::collections::HashSet;
use std::io::Read;

use pinewrit_disk::BlockDevice;
use pinewrit_ext4::{Attributes, EditError, Editor, ExtError, FileKind, Metadata, NodeKind, Zeros};

use super::super::{FilesError, above};
use super::{Fill, FillError, Filled, MAX_KNOWN, Refusal, Stands};

pub(super) struct ExtFill<'f, 'd> {
    editor: &'f mut Editor<&'d dyn BlockDevice>,
    /// Folders known to exist.
    known: HashSet<String>,
}

impl<'f, 'd> ExtFill<'f, 'd> {
    pub(super) fn new(editor: &'f mut Editor<&'d dyn BlockDevice>) -> Self {
        Self {
            editor,
            known: HashSet::new(),
        }
    }

    /// The metadata of a path; `None` if nothing is there.
    fn found(&self, path: &str) -> Result<Option<Metadata>, EditError> {
        let tree = self.editor.tree();
        match tree.find(path.as_bytes()) {
            Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => Ok(None),
            number => Ok(Some(tree.metadata(number?)?)),
        }
    }

    fn make_above(&mut self, path: &str, attributes: &Attributes) -> Result<(), EditError> {
        let folder = above(path);
        if self.known.contains(folder) {
            return Ok(());
        }
        let plain = Attributes::root(0o755, attributes.modified);
        self.editor.make_folders(folder.as_bytes(), &plain)?;
        if self.known.len() == MAX_KNOWN {
            self.known.clear();
        }
        self.known.insert(folder.to_owned());
        Ok(())
    }

    /// Removes what is in the way of something else; folders only if they are empty.
    fn clear(&mut self, path: &str) -> Result<(), EditError> {
        // It may be one of them, or a parent of one.
        self.known.clear();
        match self.editor.remove(path.as_bytes()) {
            Err(EditError::Volume(ExtError::NotFound(_))) => Ok(()),
            done => done,
        }
    }
}

/// What an error of ext4 means for the content to be stored.
fn told(path: &str) -> impl Fn(EditError) -> FillError + '_ {
    move |error| match error {
        EditError::Volume(ExtError::Disk(error)) => FilesError::Disk(error).into(),
        EditError::NoSpace { .. } => Refusal::no_room(format!("{path}: {error}")).into(),
        EditError::NoInodes { .. } => FillError::refused(
            format!("{path}: {error}"),
            "inodes = \"…\", with more of them",
        ),
        error => FillError::refused(format!("{path}: {error}"), "omit it, or change it"),
    }
}

impl Fill for ExtFill<'_, '_> {
    fn max_path(&self) -> usize {
        // `PATH_MAX` of Linux, including the final zero.
        4096 - 1
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, FillError> {
        let found = self.found(path).map_err(told(path))?;
        Ok(found.map(|found| Stands {
            is_folder: found.kind == FileKind::Directory,
            modified: Some(found.modified.seconds),
            size: found.size,
        }))
    }

    fn folder(&mut self, path: &str, attributes: &Attributes) -> Filled {
        // A link to a folder counts as the folder, as when `/lib` leads to `usr/lib`.
        let tree = self.editor.tree();
        let leads_to = tree
            .find_target(path.as_bytes())
            .and_then(|n| tree.metadata(n));
        let own = tree.find(path.as_bytes()).and_then(|n| tree.metadata(n));
        if let (Ok(target), Ok(own)) = (leads_to, own)
            && own.kind != target.kind
        {
            return Ok(());
        }
        let made = self
            .make_above(path, attributes)
            .and_then(|()| self.editor.make_folder(path.as_bytes(), attributes));
        made.map_err(told(path))
    }

    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        zeros: Zeros,
    ) -> Filled {
        let mut put = |fill: &mut Self| {
            let bytes = path.as_bytes();
            fill.editor
                .write_file(bytes, attributes, size, content, zeros)
        };
        let made = self.make_above(path, attributes).and_then(|()| {
            // Only this name gets new content, not all names of the same file.
            match self.editor.names_of_file(path.as_bytes())? {
                Some(2..) => self.clear(path),
                _ => Ok(()),
            }
        });
        let made = match made.and_then(|()| put(self)) {
            // Nothing has been read from the content yet.
            Err(EditError::Exists(_)) => self.clear(path).and_then(|()| put(self)),
            made => made,
        };
        made.map_err(told(path))
    }

    fn symlink(&mut self, path: &str, target: &[u8], attributes: &Attributes) -> Filled {
        let made = self.make_above(path, attributes).and_then(|()| {
            self.clear(path)?;
            self.editor
                .make_symlink(path.as_bytes(), target, attributes)
        });
        made.map_err(told(path))
    }

    fn link(&mut self, path: &str, existing: &str) -> Filled {
        let plain = Attributes::root(0o755, pinewrit_ext4::Timestamp::default());
        let made = self.make_above(path, &plain).and_then(|()| {
            self.clear(path)?;
            self.editor.link(path.as_bytes(), existing.as_bytes())
        });
        made.map_err(told(path))
    }

    fn node(&mut self, path: &str, kind: NodeKind, attributes: &Attributes) -> Filled {
        let made = self.make_above(path, attributes).and_then(|()| {
            self.clear(path)?;
            self.editor.make_node(path.as_bytes(), kind, attributes)
        });
        made.map_err(told(path))
    }

    fn move_to_front(&mut self) -> Filled {
        Err(FillError::refused("`first` is for FAT", "leave it out"))
    }
}
