//! Where an image lies until it gets its name.

use std::fs::{self, DirBuilder, File, TryLockError};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, Mode, OFlags, openat};

/// A directory beside the image, for one run at a time. Its name follows from the image's, so that
/// what a killed run left behind is found and removed by the next.
pub(super) struct Scratch {
    path: PathBuf,
    /// Holds the lock.
    _held: File,
}

impl Scratch {
    /// The directory for the image `name` in `folder`, empty.
    pub(super) fn new(folder: &Path, name: &str) -> io::Result<Self> {
        let path = folder.join(format!(".pinewrit-{name}"));
        match DirBuilder::new().mode(0o700).create(&path) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::RDONLY | OFlags::CLOEXEC;
        let held = File::from(openat(CWD, &path, flags, Mode::empty())?);
        if held.metadata()?.uid() != rustix::process::geteuid().as_raw() {
            let why = format!("{} belongs to somebody else", path.display());
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
        }
        // Not every file system has locks.
        if let Err(TryLockError::WouldBlock) = held.try_lock() {
            let why = "another run is saving an image of this name";
            return Err(io::Error::new(io::ErrorKind::ResourceBusy, why));
        }
        for entry in fs::read_dir(&path)? {
            fs::remove_file(entry?.path())?;
        }
        Ok(Self { path, _held: held })
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        // What stays is removed by the next run.
        let _ = fs::remove_dir_all(&self.path);
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
mod tests {
    use super::*;

    #[test]
    fn one_run_at_a_time_begins_with_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let left = dir.path().join(".pinewrit-hut.img");
        fs::create_dir(&left).unwrap();
        fs::write(left.join("hut.img"), "half").unwrap();
        let first = Scratch::new(dir.path(), "hut.img").unwrap();
        assert_eq!(fs::read_dir(first.path()).unwrap().count(), 0);
        let second = Scratch::new(dir.path(), "hut.img").err().unwrap();
        assert_eq!(second.kind(), io::ErrorKind::ResourceBusy);
        drop(first);
        assert!(!left.exists());
    }

    #[test]
    fn nobody_elses_files_are_removed() {
        let dir = tempfile::tempdir().unwrap();
        let other = dir.path().join("other");
        fs::create_dir(&other).unwrap();
        fs::write(other.join("kept"), "kept").unwrap();
        std::os::unix::fs::symlink(&other, dir.path().join(".pinewrit-hut.img")).unwrap();
        assert!(Scratch::new(dir.path(), "hut.img").is_err());
        assert!(other.join("kept").exists());
    }
}
