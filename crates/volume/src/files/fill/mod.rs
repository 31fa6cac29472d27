//! Filling a file system with many files: from folders, archives and texts.
//!
//! [`Fill`] is the same interface for both kinds of file systems. It knows what each cannot hold,
//! and reports all such files at once, with remedies.

mod ext;
mod fat;
mod pick;
mod take;

use std::io::Read;

use pinewrit_ext4::{Attributes, NodeKind, Zeros};

use super::{Files, FilesError, Inner};
use ext::ExtFill;
use fat::FatFill;
pub(super) use take::clean;
pub use take::{Naming, Origin, Portion, Taken, Taking, look_at, total};

/// Something that cannot be stored in a file system, and what to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// What is wrong.
    pub what: String,
    /// What to try; empty if unknown.
    pub remedy: String,
    /// Whether it is a lack of space.
    pub is_for_room: bool,
}

impl Refusal {
    /// Something that cannot be stored, and what to try.
    pub fn new(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self {
            what: what.into(),
            remedy: remedy.into(),
            is_for_room: false,
        }
    }

    fn no_room(what: impl Into<String>) -> Self {
        Self {
            is_for_room: true,
            ..Self::new(what, "a larger partition, or less content")
        }
    }
}

/// Why a file system was not filled.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FillError {
    /// Some of the content cannot be stored, or cannot be read.
    #[error("{} of it cannot be there", .0.len())]
    Refused(Vec<Refusal>),
    /// The file system cannot be changed, or the device failed.
    #[error(transparent)]
    Files(#[from] FilesError),
    /// It was cancelled.
    #[error("stopped")]
    Cancelled,
}

impl FillError {
    fn refused(what: impl Into<String>, remedy: impl Into<String>) -> Self {
        Refusal::new(what, remedy).into()
    }
}

impl From<Refusal> for FillError {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(vec![refusal])
    }
}

/// The most folders to remember.
const MAX_KNOWN: usize = 1 << 14;

type Filled = Result<(), FillError>;

/// What is at a path.
#[derive(Clone, Copy, Debug)]
pub struct Stands {
    /// Whether it is a folder.
    pub is_folder: bool,
    /// When it was last changed, in seconds since 1970.
    pub modified: Option<i64>,
    /// Size in bytes.
    pub size: u64,
}

/// A file system being filled. Paths begin with `/`.
pub trait Fill {
    /// What is at a path, if anything.
    ///
    /// # Errors
    /// [`FillError`].
    fn stands(&mut self, path: &str) -> Result<Option<Stands>, FillError>;
    /// Creates a folder and its parents. An existing one gets the attributes.
    ///
    /// # Errors
    /// [`FillError`].
    fn folder(&mut self, path: &str, attributes: &Attributes) -> Filled;
    /// A file of `size` bytes.
    ///
    /// # Errors
    /// [`FillError`].
    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        zeros: Zeros,
    ) -> Filled;
    /// A symbolic link.
    ///
    /// # Errors
    /// [`FillError`].
    fn symlink(&mut self, path: &str, target: &[u8], attributes: &Attributes) -> Filled;
    /// A hard link to a file.
    ///
    /// # Errors
    /// [`FillError`].
    fn link(&mut self, path: &str, existing: &str) -> Filled;
    /// A device, pipe or socket.
    ///
    /// # Errors
    /// [`FillError`].
    fn node(&mut self, path: &str, kind: NodeKind, attributes: &Attributes) -> Filled;
    /// Whether a name is possible besides all earlier ones. Impossible ones are reported later, all
    /// at once.
    ///
    /// # Errors
    /// [`FillError`].
    fn takes_name(&mut self, _path: &str) -> Result<bool, FillError> {
        Ok(true)
    }
    /// Whether each of the following files must be stored in one piece.
    fn in_one_piece(&mut self, _is_wanted: bool) {}
    /// Reports what could not be stored so far, unless it has been reported.
    ///
    /// # Errors
    /// [`FillError`].
    fn tell_refused(&mut self) -> Filled {
        Ok(())
    }
    /// Makes the only file the first entry of the root folder.
    ///
    /// # Errors
    /// [`FillError`].
    fn move_to_front(&mut self) -> Filled;
    /// The longest path that systems can open, in characters.
    fn max_path(&self) -> usize;
}

impl Files<'_> {
    /// Begins filling the file system; [`Files::close`] ends it.
    ///
    /// # Errors
    /// [`FilesError::ReadOnly`].
    pub fn fill(&mut self) -> Result<Box<dyn Fill + '_>, FilesError> {
        match &mut self.inner {
            Inner::Fat(editor) => Ok(Box::new(FatFill::new(editor))),
            Inner::Ext(editor) => Ok(Box::new(ExtFill::new(editor))),
            Inner::FatRead(_) | Inner::ExtRead(_) | Inner::ExtSettled(_) => {
                Err(FilesError::ReadOnly)
            }
        }
    }
}
