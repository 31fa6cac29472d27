//! Gathered changes of a medium: worked out over an overlay, shown, and then committed as one, or
//! dropped.
//!
//! There is no other way to change a medium that is in use. A change is worked out on a [`Site`],
//! which checks file systems before and after; the result is a [`Gathered`] with a report of what
//! would be done.

use pinewrit_disk::{
    BlockDevice, ByteRange, CommitError, DiskError, FreeWrites, OVERLAY_BLOCK, Overlay, UndoLog,
    Window,
};
use pinewrit_ext4::Timestamp;

use crate::check::check;
use crate::files::{Files, FilesError, FilesystemOf, open_to_change};
use crate::flags::{ErrorFlags, HiddenFlags};
use crate::recover::{Recovered, recover, recover_all};

/// A change that is worked out but not yet on the medium, with its report.
pub struct Gathered<'m, R> {
    overlay: Overlay<&'m dyn BlockDevice>,
    /// What is written after everything that it refers to, in this order.
    last: Vec<ByteRange>,
    report: R,
    recovered: Vec<Recovered>,
}

impl<'m, R> Gathered<'m, R> {
    /// Works out changes of file systems on `medium`. With `free`, content of new files may go
    /// straight to unused space on the medium.
    ///
    /// # Errors
    /// The error of `change`, or [`FilesError`].
    pub fn files<E: From<FilesError>>(
        medium: &'m dyn BlockDevice,
        free: FreeWrites,
        now: Timestamp,
        change: impl FnOnce(&mut Site<'_>) -> Result<R, E>,
    ) -> Result<Self, E> {
        let overlay = Overlay::new(medium).with_free_writes(free);
        let mut site = Site::new(&overlay, now);
        let report = change(&mut site)?;
        let recovered = std::mem::take(&mut site.recovered);
        let last = site.settle()?;
        Ok(Self {
            overlay,
            last,
            report,
            recovered,
        })
    }

    /// Works out a change of a whole medium, whose first sector is written last.
    ///
    /// # Errors
    /// The error of `change`.
    pub fn whole<E>(
        medium: &'m dyn BlockDevice,
        change: impl FnOnce(&dyn BlockDevice) -> Result<R, E>,
    ) -> Result<Self, E> {
        Self::whole_with(medium, FreeWrites::default(), change)
    }

    /// As [`Gathered::whole`]; content that moves goes to unused space as `free` says.
    ///
    /// # Errors
    /// The error of `change`.
    pub fn whole_with<E>(
        medium: &'m dyn BlockDevice,
        free: FreeWrites,
        change: impl FnOnce(&dyn BlockDevice) -> Result<R, E>,
    ) -> Result<Self, E> {
        let overlay = Overlay::new(medium).with_free_writes(free);
        let report = change(&overlay)?;
        let first = ByteRange {
            start: 0,
            end: OVERLAY_BLOCK as u64,
        };
        Ok(Self {
            overlay,
            last: vec![first],
            report,
            recovered: Vec::new(),
        })
    }

    /// Notes what was finished in file systems before the change itself.
    #[must_use]
    pub fn with_recovered(self, recovered: Vec<Recovered>) -> Self {
        Self { recovered, ..self }
    }

    /// What would be done.
    pub fn report(&self) -> &R {
        &self.report
    }

    /// What was finished in file systems that were cut off.
    pub fn recovered(&self) -> &[Recovered] {
        &self.recovered
    }

    /// The change, and its report by itself.
    pub fn split(self) -> (Gathered<'m, ()>, R) {
        let bare = Gathered {
            overlay: self.overlay,
            last: self.last,
            report: (),
            recovered: self.recovered,
        };
        (bare, self.report)
    }

    /// The medium as it would be, to examine it or change more.
    pub fn device(&self) -> &dyn BlockDevice {
        &self.overlay
    }

    /// The medium as it would be, and the report, to be updated after further changes.
    pub fn parts(&mut self) -> (&dyn BlockDevice, &mut R) {
        (&self.overlay, &mut self.report)
    }

    /// Whether nothing on the medium would change.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn is_empty(&self) -> Result<bool, DiskError> {
        Ok(self.overlay.changed()?.is_empty())
    }

    /// Commits the changes to the medium as one: data, then metadata, each flushed and read back.
    ///
    /// # Errors
    /// [`CommitError`] says whether the medium is as it was.
    pub fn commit(self, undo: Option<&UndoLog>) -> Result<R, CommitError> {
        self.overlay.commit(&self.last, undo)?;
        Ok(self.report)
    }
}

/// A device whose files are changed, and which of its file systems were.
pub struct Site<'d> {
    /// The device, with an overlay underneath.
    pub device: &'d dyn BlockDevice,
    /// The time recorded for changes.
    pub now: Timestamp,
    touched: Vec<FilesystemOf>,
    recovered: Vec<Recovered>,
    hidden: Option<HiddenFlags>,
}

impl<'d> Site<'d> {
    /// Nothing of it was changed yet.
    pub fn new(device: &'d dyn BlockDevice, now: Timestamp) -> Self {
        Self {
            device,
            now,
            touched: Vec::new(),
            recovered: Vec::new(),
            hidden: None,
        }
    }

    /// Says what flags of errors mean, before anything is changed.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn set_flags(&mut self, flags: ErrorFlags) -> Result<(), DiskError> {
        self.hidden = Some(HiddenFlags::of(self.device, flags)?);
        Ok(())
    }

    /// Finishes what file systems were about to do when they were cut off, before anything that does not
    /// go through [`Site::change`]. Those that cannot be finished stay as they are.
    ///
    /// # Errors
    /// The device could not be read.
    pub fn recover(&mut self) -> Result<(), DiskError> {
        self.recovered.extend(recover_all(self.device, self.now)?);
        Ok(())
    }

    /// Changes files of one file system.
    ///
    /// # Errors
    /// The error of `change`, or [`FilesError`].
    pub fn change<T, E: From<FilesError>>(
        &mut self,
        filesystem: &FilesystemOf,
        change: impl FnOnce(&mut Files<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let now = self.now;
        self.change_window(filesystem, |window| {
            let files = open_to_change(window, now)?;
            let mut files = files.with_zone(&filesystem.zone);
            let done = change(&mut files)?;
            files.close()?;
            Ok(done)
        })
    }

    /// Changes a file system by its window.
    ///
    /// # Errors
    /// The error of `change`, or [`FilesError`].
    pub fn change_window<T, E: From<FilesError>>(
        &mut self,
        filesystem: &FilesystemOf,
        change: impl FnOnce(&Window<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let window = Window::new(self.device, filesystem.range);
        let is_known = |one: &FilesystemOf| one.range == filesystem.range;
        if !self.touched.iter().any(is_known) {
            self.recovered
                .extend(recover(self.device, filesystem, self.now)?);
            // A change might hide damage, or make it worse.
            match check(&window) {
                Err(FilesError::Unsound(what)) => return Err(FilesError::Damaged(what).into()),
                checked => checked?,
            };
            self.touched.push(filesystem.clone());
        }
        change(&window)
    }

    /// Ends the work: what was changed must be consistent. Returns what must be written after
    /// everything that it refers to.
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
        if let Some(hidden) = self.hidden {
            hidden.give_back(self.device)?;
        }
        Ok(last)
    }
}
