//! Where the files of a layout go: the two kinds of file systems behind one face.

use std::collections::HashSet;
use std::io::Read;

use pinewrit_disk::{DiskError, Window};
use pinewrit_ext4::{
    Attributes, EditError, Editor, FileKind, Metadata, NodeKind, VolumeError, Zeros,
};

use pinewrit_volume::files::above;

/// Why something did not go into a file system, and what to try.
#[derive(Debug)]
pub(super) struct SinkError {
    pub(super) what: String,
    pub(super) remedy: String,
    /// The device failed: no mistake of the layout.
    pub(super) disk: Option<DiskError>,
    /// More of the same kind.
    pub(super) others: Vec<SinkError>,
}

impl SinkError {
    pub(super) fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            what: what.into(),
            remedy: remedy.into(),
            disk: None,
            others: Vec::new(),
        }
    }
}

impl From<DiskError> for SinkError {
    fn from(error: DiskError) -> Self {
        Self {
            disk: Some(error),
            ..Self::new("the device failed", "")
        }
    }
}

/// What to try where not everything fits.
pub(super) const LARGER: &str = "a larger partition, or less in it";

/// So many folders are remembered at most.
pub(super) const MAX_KNOWN: usize = 1 << 14;

pub(super) type Done = Result<(), SinkError>;

/// What stands at a path.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stands {
    pub(super) is_folder: bool,
    /// When it was last changed, in seconds since 1970.
    pub(super) modified: Option<i64>,
    /// Size in bytes.
    pub(super) size: u64,
}

/// A file system that is being filled. Paths begin with `/`.
pub(super) trait Sink {
    /// What stands at a path, if anything does.
    fn stands(&mut self, path: &str) -> Result<Option<Stands>, SinkError>;
    /// A folder, with all above it. One that is there gets the attributes.
    fn folder(&mut self, path: &str, attributes: &Attributes) -> Done;
    /// A file of `size` bytes.
    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        zeros: Zeros,
    ) -> Done;
    /// A symbolic link.
    fn symlink(&mut self, path: &str, target: &[u8], attributes: &Attributes) -> Done;
    /// One more name for a file.
    fn link(&mut self, path: &str, existing: &str) -> Done;
    /// A device, pipe or socket.
    fn node(&mut self, path: &str, kind: NodeKind, attributes: &Attributes) -> Done;
    /// Whether a name can stand beside all that came before it. What cannot is told later, all at once.
    fn takes_name(&mut self, _path: &str) -> Result<bool, SinkError> {
        Ok(true)
    }
    /// Whether the files that come now have to lie in one piece each.
    fn in_one_piece(&mut self, _is_wanted: bool) {}
    /// Tells what of the content so far cannot be there, if it was not told at once.
    fn tell_refused(&mut self) -> Done {
        Ok(())
    }
    /// Makes the only file the first entry of the root folder.
    fn move_to_front(&mut self) -> Done;
    /// The longest path that systems can open, in characters.
    fn max_path(&self) -> usize;
    /// Ends the work.
    fn finish(self: Box<Self>) -> Done;
}

pub(super) struct ExtSink<'w> {
    editor: Editor<&'w Window<'w>>,
    /// Folders that are known to be there.
    known: HashSet<String>,
}

impl<'w> ExtSink<'w> {
    pub(super) fn new(editor: Editor<&'w Window<'w>>) -> Self {
        Self {
            editor,
            known: HashSet::new(),
        }
    }

    /// What is known of a path; `None` where nothing is.
    fn found(&self, path: &str) -> Result<Option<Metadata>, EditError> {
        let tree = self.editor.tree();
        match tree.find(path.as_bytes()) {
            Err(VolumeError::NotFound(_) | VolumeError::NotDirectory(_)) => Ok(None),
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

    /// What stands where something else is to be goes away; folders only if they are empty.
    fn clear(&mut self, path: &str) -> Result<(), EditError> {
        // It may be one of them, or above one.
        self.known.clear();
        match self.editor.remove(path.as_bytes()) {
            Err(EditError::Volume(VolumeError::NotFound(_))) => Ok(()),
            done => done,
        }
    }
}

/// What an error of ext4 means for a layout.
pub(super) fn told(path: &str) -> impl Fn(EditError) -> SinkError + '_ {
    move |error| {
        let remedy = match &error {
            EditError::NoSpace { .. } => LARGER,
            EditError::NoInodes { .. } => "inodes = \"…\", with more of them",
            _ => "leave it out, or change it",
        };
        match error {
            EditError::Volume(VolumeError::Disk(error)) => error.into(),
            error => SinkError::new(format!("{path}: {error}"), remedy),
        }
    }
}

impl Sink for ExtSink<'_> {
    fn max_path(&self) -> usize {
        // `PATH_MAX` of Linux, with the zero at its end.
        4096 - 1
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, SinkError> {
        let found = self.found(path).map_err(told(path))?;
        Ok(found.map(|found| Stands {
            is_folder: found.kind == FileKind::Directory,
            modified: Some(found.modified.seconds),
            size: found.size,
        }))
    }

    fn folder(&mut self, path: &str, attributes: &Attributes) -> Done {
        // A link to a folder stands for it, as where `/lib` leads to `usr/lib`.
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
    ) -> Done {
        let mut put = |sink: &mut Self| {
            let bytes = path.as_bytes();
            sink.editor
                .write_file(bytes, attributes, size, content, zeros)
        };
        let made = self.make_above(path, attributes).and_then(|()| {
            // Only this name gets new content, not all that lead to the same file.
            match self.editor.names_of_file(path.as_bytes())? {
                Some(2..) => self.clear(path),
                _ => Ok(()),
            }
        });
        let made = match made.and_then(|()| put(self)) {
            // Nothing was taken from the content yet.
            Err(EditError::Exists(_)) => self.clear(path).and_then(|()| put(self)),
            made => made,
        };
        made.map_err(told(path))
    }

    fn symlink(&mut self, path: &str, target: &[u8], attributes: &Attributes) -> Done {
        let made = self.make_above(path, attributes).and_then(|()| {
            self.clear(path)?;
            self.editor
                .make_symlink(path.as_bytes(), target, attributes)
        });
        made.map_err(told(path))
    }

    fn link(&mut self, path: &str, existing: &str) -> Done {
        let plain = Attributes::root(0o755, pinewrit_ext4::Timestamp::default());
        let made = self.make_above(path, &plain).and_then(|()| {
            self.clear(path)?;
            self.editor.link(path.as_bytes(), existing.as_bytes())
        });
        made.map_err(told(path))
    }

    fn node(&mut self, path: &str, kind: NodeKind, attributes: &Attributes) -> Done {
        let made = self.make_above(path, attributes).and_then(|()| {
            self.clear(path)?;
            self.editor.make_node(path.as_bytes(), kind, attributes)
        });
        made.map_err(told(path))
    }

    fn move_to_front(&mut self) -> Done {
        Err(SinkError::new("`first` is for FAT", "leave it out"))
    }

    fn finish(self: Box<Self>) -> Done {
        self.editor
            .commit()
            .map(drop)
            .map_err(told("the file system"))
    }
}
