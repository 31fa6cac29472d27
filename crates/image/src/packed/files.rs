//! Packed bytes in one file, or in several that follow one another.

use std::fs::File;
use std::io::{self, ErrorKind, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use super::{PackedBytes, Part};
use crate::OpenError;

/// Files that follow one another.
#[derive(Debug)]
pub(crate) struct Files {
    parts: Vec<Part>,
    size: u64,
}

impl Files {
    /// Opens one file or block device.
    ///
    /// # Errors
    /// [`OpenError`]: it is missing, a folder, a pipe, or the system refuses.
    pub(crate) fn open(path: &Path) -> Result<Self, OpenError> {
        Self::open_all(&[path.to_owned()])
    }

    /// Files that are already open, with their lengths, as one.
    pub(crate) fn of(files: Vec<(File, u64)>) -> Self {
        let mut size: u64 = 0;
        let mut parts = Vec::with_capacity(files.len());
        for (file, len) in files {
            parts.push(Part {
                file,
                start: size,
                len,
                is_sparse: false,
            });
            size = size.saturating_add(len);
        }
        Self { parts, size }
    }

    /// Opens several as one.
    ///
    /// # Errors
    /// As [`Files::open`].
    pub(crate) fn open_all(paths: &[PathBuf]) -> Result<Self, OpenError> {
        let mut size: u64 = 0;
        let mut parts = Vec::with_capacity(paths.len());
        for path in paths {
            let (file, len) = open_file(path)?;
            parts.push(Part {
                is_sparse: has_holes(&file, len),
                file,
                start: size,
                len,
            });
            // Files' sizes are below 2^63, and a folder holds few of them.
            size = size.saturating_add(len);
        }
        Ok(Self { parts, size })
    }
}

impl PackedBytes for Files {
    fn size(&self) -> Option<u64> {
        Some(self.size)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let index = self.parts.partition_point(|part| part.start <= offset);
        // Empty parts have the same start as the one after them; the last of those is found.
        let Some(part) = index.checked_sub(1).map(|index| &self.parts[index]) else {
            return Ok(0);
        };
        let within = offset - part.start;
        let left = part.len.saturating_sub(within);
        let wanted = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        if wanted == 0 {
            return Ok(0);
        }
        if part.is_hole(within, wanted as u64) {
            buffer[..wanted].fill(0);
            return Ok(wanted);
        }
        match part.file.read_at(&mut buffer[..wanted], within)? {
            0 => Err(became_shorter()),
            len => Ok(len),
        }
    }

    fn files(&self) -> &[Part] {
        &self.parts
    }
}

pub(crate) fn became_shorter() -> io::Error {
    io::Error::new(
        ErrorKind::UnexpectedEof,
        "the file shrank while it was read",
    )
}

/// Whether a regular file takes less space than its size.
fn has_holes(file: &File, len: u64) -> bool {
    let facts = file.metadata();
    facts.is_ok_and(|facts| facts.is_file() && facts.blocks().saturating_mul(512) < len)
}

impl Part {
    /// Whether a range is a hole, as far as the system says. This moves the file's own position,
    /// which nothing else uses.
    pub(crate) fn is_hole(&self, offset: u64, len: u64) -> bool {
        if !self.is_sparse {
            return false;
        }
        match rustix::fs::seek(&self.file, rustix::fs::SeekFrom::Data(offset)) {
            Ok(data) => data >= offset.saturating_add(len),
            // There is no data behind it.
            Err(rustix::io::Errno::NXIO) => true,
            Err(_) => false,
        }
    }
}

fn open_file(path: &Path) -> Result<(File, u64), OpenError> {
    let failed = |source: io::Error| match source.kind() {
        ErrorKind::NotFound => OpenError::Missing {
            path: path.to_owned(),
        },
        _ => OpenError::Io {
            path: path.to_owned(),
            source,
        },
    };
    // Checked before opening: opening a pipe would wait for its writer.
    let kind = std::fs::metadata(path).map_err(failed)?.file_type();
    if !kind.is_file() && !kind.is_block_device() {
        return Err(OpenError::Special {
            path: path.to_owned(),
        });
    }
    let mut file = File::open(path).map_err(failed)?;
    // Seeking to the end gives the size of block devices too.
    let size = file.seek(SeekFrom::End(0)).map_err(failed)?;
    Ok((file, size))
}
