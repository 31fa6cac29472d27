//! Where the files of a layout go: the two kinds of file systems behind one face.

use std::collections::HashSet;
use std::io::Read;

use pinewrit_disk::{BlockDevice, DiskError, Window};
use pinewrit_ext4::{
    Attributes, EditError, Editor, FileKind, Metadata, NodeKind, VolumeError, Zeros,
};

use super::fat;
use crate::files::above;
use crate::filesystem::{FatGeometry, FatVolume, VolumeError as FatError};

/// Why something did not go into a file system, and what to try.
#[derive(Debug)]
pub(super) struct SinkError {
    pub(super) what: String,
    pub(super) remedy: String,
    /// The device failed: no mistake of the layout.
    pub(super) disk: Option<DiskError>,
}

impl SinkError {
    pub(super) fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            what: what.into(),
            remedy: remedy.into(),
            disk: None,
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

/// So many folders are remembered at most.
const MAX_KNOWN: usize = 1 << 14;

type Done = Result<(), SinkError>;

/// What stands at a path.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stands {
    pub(super) is_folder: bool,
    /// When it was last changed, in seconds since 1970.
    pub(super) modified: Option<i64>,
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
            EditError::NoSpace { .. } => "a larger partition, or less in it",
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

pub(super) struct FatSink<'w> {
    window: &'w Window<'w>,
    geometry: FatGeometry,
    volume: Option<FatVolume<'w>>,
    /// The file that was written last, and the one that has to stay first.
    last: String,
    first: Option<String>,
}

impl<'w> FatSink<'w> {
    pub(super) fn open(window: &'w Window<'w>) -> Result<Self, SinkError> {
        let failed = |what: String| SinkError::new(what, "");
        let geometry = FatGeometry::read(window)?;
        let geometry = geometry.ok_or_else(|| failed("the FAT is not recognised".to_owned()))?;
        let volume = FatVolume::open(window, &geometry).map_err(|e| fat_error("", e))?;
        Ok(Self {
            window,
            geometry,
            volume: Some(volume),
            last: String::new(),
            first: None,
        })
    }

    fn volume(&mut self) -> Result<&FatVolume<'w>, SinkError> {
        if self.volume.is_none() {
            self.volume = Self::open(self.window)?.volume;
        }
        let missing = || SinkError::new("the FAT is not open", "");
        self.volume.as_ref().ok_or_else(missing)
    }

    fn close(&mut self) -> Done {
        let Some(volume) = self.volume.take() else {
            return Ok(());
        };
        volume.close().map_err(|e| fat_error("", e))
    }

    fn make_folders(&mut self, path: &str) -> Done {
        let mut at = String::new();
        for name in path.split('/').filter(|name| !name.is_empty()) {
            if !at.is_empty() {
                at.push('/');
            }
            at.push_str(name);
            let volume = self.volume()?;
            if !volume.has_folder(&at).map_err(|e| fat_error(&at, e))? {
                volume.make_folder(&at).map_err(|e| fat_error(&at, e))?;
            }
        }
        Ok(())
    }
}

fn fat_error(path: &str, error: FatError) -> SinkError {
    let cause = std::error::Error::source(&error);
    let cause = cause.map_or(String::new(), |cause| format!(": {cause}"));
    let remedy = match &error {
        FatError::Full { .. } => "a larger partition, or less in it",
        _ => "leave it out, or change it",
    };
    let told = SinkError::new(format!("/{path}: {error}{cause}"), remedy);
    match error {
        FatError::Io { source, .. } => match source.downcast::<DiskError>() {
            Ok(error) => error.into(),
            Err(_) => told,
        },
        _ => told,
    }
}

fn no_links(path: &str) -> SinkError {
    SinkError::new(
        format!("{path} is a link or a device, which FAT does not have"),
        "put it into an ext4 partition, or leave it out",
    )
}

impl Sink for FatSink<'_> {
    fn max_path(&self) -> usize {
        // Microsoft FAT specification 1.03, "Long Directory Entries": 260 with the zero at its end.
        260 - 1
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, SinkError> {
        let (path, folder) = (path.trim_matches('/'), above(path));
        let all = self.volume()?.entries(folder.trim_matches('/'));
        let all = all.map_err(|e| fat_error(path, e))?;
        let name = path.rsplit('/').next().unwrap_or_default();
        let found = all
            .into_iter()
            .find(|entry| entry.name.eq_ignore_ascii_case(name));
        Ok(found.map(|found| Stands {
            is_folder: found.is_folder,
            modified: found.modified,
        }))
    }

    fn folder(&mut self, path: &str, _attributes: &Attributes) -> Done {
        fat::check_path(path)?;
        self.make_folders(path)
    }

    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        _zeros: Zeros,
    ) -> Done {
        fat::check_path(path)?;
        fat::check_size(path, size)?;
        if self.first.as_deref() == Some(path) {
            let what = format!("{path} would be replaced, which was to come first");
            return Err(SinkError::new(what, "leave it out of the later content"));
        }
        path.clone_into(&mut self.last);
        self.make_folders(above(path))?;
        let relative = path.trim_start_matches('/');
        let volume = self.volume()?;
        volume
            .write_from(relative, content, attributes.modified.seconds)
            .map_err(|e| fat_error(relative, e))
    }

    fn symlink(&mut self, path: &str, _target: &[u8], _attributes: &Attributes) -> Done {
        Err(no_links(path))
    }

    fn link(&mut self, path: &str, _existing: &str) -> Done {
        Err(no_links(path))
    }

    fn node(&mut self, path: &str, _kind: NodeKind, _attributes: &Attributes) -> Done {
        Err(no_links(path))
    }

    fn move_to_front(&mut self) -> Done {
        self.close()?;
        self.first = Some(std::mem::take(&mut self.last));
        let start = self.geometry.root_start();
        Ok(fat::move_label_back(self.window, start)?)
    }

    fn finish(mut self: Box<Self>) -> Done {
        self.close()?;
        Ok(self.window.flush()?)
    }
}
