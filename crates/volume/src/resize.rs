//! File systems of another size, with everything that is in them.

use pinewrit_disk::{BlockDevice, DiskError, Window};
use pinewrit_ext4::{Editor, SizeError, Timestamp};
use pinewrit_fat as fat;
use schemars::JsonSchema;
use serde::Serialize;

use crate::files::FilesError;
use crate::{FilesystemKind, probe};

/// The sizes that a file system can have, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SizeLimits {
    /// Its kind.
    pub kind: FilesystemKind,
    /// Its size now.
    pub now: u64,
    /// The smallest, by what it holds.
    pub least: u64,
    /// The largest.
    pub most: u64,
}

/// What another size changed in a file system.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ResizeReport {
    /// Its kind.
    pub kind: FilesystemKind,
    /// Its size before, in bytes.
    pub before: u64,
    /// Its size now, in bytes.
    pub size: u64,
    /// Bytes of content that moved to the front.
    pub moved: u64,
}

/// Why a file system cannot have another size.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ResizeError {
    /// There is no file system whose size can be changed.
    #[error("{}", match .0 {
        Some(kind) => format!("the size of {kind} cannot be changed here"),
        None => "there is no known file system".to_owned(),
    })]
    Kind(Option<FilesystemKind>),
    /// It cannot have this size.
    #[error("{size} bytes are not possible: {least} at least, {most} at most")]
    Size {
        /// The requested size in bytes.
        size: u64,
        /// The smallest size in bytes.
        least: u64,
        /// The largest size in bytes.
        most: u64,
    },
    /// It could not be read or changed.
    #[error(transparent)]
    Files(#[from] FilesError),
}

impl From<DiskError> for ResizeError {
    fn from(error: DiskError) -> Self {
        Self::Files(error.into())
    }
}

/// The sizes that the file system in a partition can have.
///
/// # Errors
/// [`ResizeError::Kind`], or it could not be read.
pub fn size_limits(partition: &dyn BlockDevice) -> Result<SizeLimits, ResizeError> {
    let kind = probe(partition)?.map(|facts| facts.kind);
    match kind {
        Some(kind) if kind.is_ext() => {
            let mut editor =
                Editor::open(partition, Timestamp::default()).map_err(FilesError::from)?;
            Ok(SizeLimits {
                kind,
                now: editor.superblock().size(),
                least: editor.smallest_size().map_err(FilesError::from)?,
                most: editor.largest_size(),
            })
        }
        Some(kind) if kind.is_fat() => {
            let editor = fat::Editor::open(partition).map_err(FilesError::from)?;
            Ok(SizeLimits {
                kind,
                now: editor.geometry().size,
                least: editor.smallest_size(),
                most: editor.largest_size(),
            })
        }
        kind => Err(ResizeError::Kind(kind)),
    }
}

/// Gives the file system in a partition another size, as part of a larger change. What moves goes
/// to unused space of the device at once.
///
/// # Errors
/// [`ResizeError`].
pub fn resize(
    partition: &Window<'_>,
    size: u64,
    now: Timestamp,
) -> Result<ResizeReport, ResizeError> {
    let kind = probe(partition)?.map(|facts| facts.kind);
    match kind {
        Some(kind) if kind.is_ext() => resize_ext(partition, kind, size, now),
        Some(kind) if kind.is_fat() => {
            let mut editor = fat::Editor::open(partition).map_err(FilesError::from)?;
            let done = editor.resize(size).map_err(|error| match error {
                fat::EditError::Size { size, least, most } => {
                    ResizeError::Size { size, least, most }
                }
                error => FilesError::from(error).into(),
            })?;
            editor.commit().map_err(FilesError::from)?;
            Ok(ResizeReport {
                kind,
                before: done.before,
                size: done.after,
                moved: done.moved,
            })
        }
        kind => Err(ResizeError::Kind(kind)),
    }
}

fn resize_ext(
    partition: &Window<'_>,
    kind: FilesystemKind,
    size: u64,
    now: Timestamp,
) -> Result<ResizeReport, ResizeError> {
    let mut editor = Editor::open(partition, now).map_err(FilesError::from)?;
    let (before, most) = (editor.superblock().size(), editor.largest_size());
    let least = editor.smallest_size().map_err(FilesError::from)?;
    let failed = |error: pinewrit_ext4::EditError| match error {
        pinewrit_ext4::EditError::Size(
            SizeError::TooSmall { .. } | SizeError::BeyondReserve { .. },
        ) => ResizeError::Size { size, least, most },
        error => FilesError::from(error).into(),
    };
    let (after, moved) = if size < before {
        let done = editor.shrink(size).map_err(failed)?;
        (done.after, done.moved)
    } else {
        let done = editor.grow(size).map_err(failed)?;
        (done.after, 0)
    };
    editor.commit().map_err(FilesError::from)?;
    Ok(ResizeReport {
        kind,
        before,
        size: after,
        moved,
    })
}
