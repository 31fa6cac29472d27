//! Changes of files, gathered in an overlay and committed as one.

use pinewrit_disk::{BlockDevice, ByteRange, CommitError, FreeWrites, Overlay, UndoLog, Window};
use pinewrit_ext4::{CheckError, EditError, VolumeError as ExtError};
use pinewrit_fat as fat;

use super::{
    Edit, EditFault, Files, FilesError, FilesystemOf, MAX_TEXT, Rights, TextKind, edit_text_as,
};

/// A device whose files are changed, and which of its file systems were.
pub struct Site<'d> {
    /// The device, with an overlay underneath.
    pub device: &'d dyn BlockDevice,
    touched: Vec<FilesystemOf>,
}

impl<'d> Site<'d> {
    /// Nothing of it was changed yet.
    pub fn new(device: &'d dyn BlockDevice) -> Self {
        Self {
            device,
            touched: Vec::new(),
        }
    }

    /// Changes files of one file system.
    ///
    /// # Errors
    /// What `change` says, or [`FilesError`].
    pub fn change<T, E: From<FilesError>>(
        &mut self,
        filesystem: &FilesystemOf,
        change: impl FnOnce(&mut Files<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        self.change_window(filesystem, |window| {
            let files = super::open_to_change(window)?;
            let mut files = files.with_zone(&filesystem.zone);
            let done = change(&mut files)?;
            files.close()?;
            Ok(done)
        })
    }

    /// Changes a file system by its window.
    ///
    /// # Errors
    /// What `change` says, or [`FilesError`].
    pub fn change_window<T, E: From<FilesError>>(
        &mut self,
        filesystem: &FilesystemOf,
        change: impl FnOnce(&Window<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let window = Window::new(self.device, filesystem.range);
        let is_known = |one: &FilesystemOf| one.range == filesystem.range;
        if !self.touched.iter().any(is_known) {
            // A change might hide damage, or make more of it.
            match check(&window) {
                Err(FilesError::Unsound(what)) => return Err(FilesError::Damaged(what).into()),
                checked => checked?,
            };
            self.touched.push(filesystem.clone());
        }
        change(&window)
    }

    /// Ends the work: what was changed must hold together. Returns what has to be written after the
    /// rest, because it leads to it.
    ///
    /// # Errors
    /// [`FilesError::Unsound`], or the device could not be read.
    pub fn settle(self) -> Result<Vec<ByteRange>, FilesError> {
        let mut last = Vec::new();
        for filesystem in &self.touched {
            let start = filesystem.range.start;
            let window = Window::new(self.device, filesystem.range);
            if let Some(geometry) = check(&window)? {
                last.push(ByteRange {
                    start,
                    end: start + geometry.data_start,
                });
            }
        }
        Ok(last)
    }
}

/// Checks a file system as a whole; returns the geometry of a FAT.
fn check(window: &dyn BlockDevice) -> Result<Option<fat::Geometry>, FilesError> {
    let geometry = fat::Geometry::read(window)?;
    match &geometry {
        Some(_) => check_fat(window)?,
        None => check_ext(window)?,
    }
    Ok(geometry)
}

fn check_fat(window: &dyn BlockDevice) -> Result<(), FilesError> {
    match fat::check(window) {
        Ok(()) => Ok(()),
        Err(fat::CheckError::Volume(fat::VolumeError::Disk(error))) => Err(error.into()),
        Err(fat::CheckError::Unclean) => Err(fat::EditError::Unclean.into()),
        Err(error) => Err(FilesError::Unsound(error.to_string())),
    }
}

fn check_ext(window: &dyn BlockDevice) -> Result<(), FilesError> {
    match pinewrit_ext4::check(window) {
        Ok(()) => Ok(()),
        Err(CheckError::Volume(ExtError::Disk(error))) => Err(error.into()),
        Err(CheckError::Feature(name)) => Err(EditError::Feature(name).into()),
        Err(CheckError::NeedsReplay) => Err(EditError::NeedsReplay.into()),
        Err(error) => Err(FilesError::Unsound(error.to_string())),
    }
}

/// Changes that are not on the medium yet.
pub struct FileChanges<'a> {
    overlay: Overlay<&'a dyn BlockDevice>,
    last: Vec<ByteRange>,
}

impl<'a> FileChanges<'a> {
    /// Works out a change of files in one file system, by one editor: content may go to the medium at
    /// once, where nothing is in use.
    ///
    /// # Errors
    /// What `change` says, or [`FilesError`].
    pub fn of<T, E: From<FilesError>>(
        medium: &'a dyn BlockDevice,
        filesystem: &FilesystemOf,
        free: FreeWrites,
        change: impl FnOnce(&mut Files<'_>) -> Result<T, E>,
    ) -> Result<(Self, T), E> {
        Self::gather(medium, free, |site| site.change(filesystem, change))
    }

    /// Works out a change of a file system by its window.
    ///
    /// # Errors
    /// What `change` says, or [`FilesError`].
    pub fn of_window<T, E: From<FilesError>>(
        medium: &'a dyn BlockDevice,
        filesystem: &FilesystemOf,
        free: FreeWrites,
        change: impl FnOnce(&Window<'_>) -> Result<T, E>,
    ) -> Result<(Self, T), E> {
        Self::gather(medium, free, |site| site.change_window(filesystem, change))
    }

    fn gather<T, E: From<FilesError>>(
        medium: &'a dyn BlockDevice,
        free: FreeWrites,
        change: impl FnOnce(&mut Site<'_>) -> Result<T, E>,
    ) -> Result<(Self, T), E> {
        let overlay = Overlay::new(medium).with_free_writes(free);
        let mut site = Site::new(&overlay);
        let done = change(&mut site)?;
        let last = site.settle()?;
        Ok((Self { overlay, last }, done))
    }

    /// Whether nothing on the medium would change.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn is_empty(&self) -> Result<bool, FilesError> {
        Ok(self.overlay.changed()?.is_empty())
    }

    /// Puts the changes on the medium as one, each part flushed and read back.
    ///
    /// # Errors
    /// [`CommitError`] says whether the medium is as it was.
    pub fn commit(self, undo: Option<&UndoLog>) -> Result<(), CommitError> {
        self.overlay.commit(&self.last, undo).map(drop)
    }
}

impl Files<'_> {
    /// Edits a text, which keeps its owner and rights. With `keep_original` it stays beside the new
    /// one as it was, with `.orig` at its name. Returns the change in unified form, `None` if there
    /// is none.
    ///
    /// # Errors
    /// [`FilesError::NotFound`], and others.
    pub fn edit(
        &mut self,
        path: &str,
        edit: &Edit,
        kind: Option<TextKind>,
        keep_original: bool,
    ) -> Result<Result<Option<String>, EditFault>, FilesError> {
        let old = self.read(path, MAX_TEXT)?;
        let old = old.ok_or_else(|| FilesError::NotFound(path.to_owned()))?;
        let new = match edit_text_as(&old, std::slice::from_ref(edit), kind) {
            Ok(new) if new == old => return Ok(Ok(None)),
            Ok(new) => new,
            Err(fault) => return Ok(Err(fault)),
        };
        let rights = self.rights(path)?.unwrap_or(Rights::root(0o644));
        let original = format!("{path}.orig");
        if keep_original && !self.has_name(&original)? {
            self.put(&original, rights, &old)?;
        }
        self.put(path, rights, &new)?;
        Ok(Ok(Some(crate::text_diff(&old, &new))))
    }
}
