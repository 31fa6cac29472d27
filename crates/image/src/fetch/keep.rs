//! Downloads that are kept, so that the next write of the same image need not fetch it again.
//!
//! A folder for each address, named by its digest, with the file itself (`.part` while it is not
//! complete) and `about.json`, which says what version it is.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

use ring::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};

use super::answer::Version;
use crate::Location;

const ABOUT: &str = "about.json";
/// More than such a file ever has.
const MAX_ABOUT: u64 = 64 << 10;

#[derive(Serialize, Deserialize)]
struct About {
    url: String,
    size: Option<u64>,
    etag: Option<String>,
    last_modified: Option<String>,
}

/// The place of one download.
#[derive(Debug)]
pub(super) struct Place {
    folder: PathBuf,
    url: String,
    name: String,
}

/// What is there from earlier.
#[derive(Debug)]
pub(super) struct Kept {
    pub(super) file: File,
    pub(super) len: u64,
    pub(super) version: Version,
    pub(super) is_complete: bool,
}

impl Place {
    /// The place for the file `name` from `url` below the cache folder.
    pub(super) fn new(cache: &Path, url: &str, name: &str) -> Self {
        let digest = digest(&SHA256, url.as_bytes());
        let plain = |c: char| if c == '/' || c.is_control() { '_' } else { c };
        let name: String = name.chars().map(plain).take(120).collect();
        let name = match name.as_str() {
            "" | "." | ".." | ABOUT => "download".to_owned(),
            _ => name,
        };
        Self {
            folder: cache.join(hex::encode(&digest.as_ref()[..8])),
            url: url.to_owned(),
            name,
        }
    }

    /// Where the complete file is.
    pub(super) fn path(&self) -> PathBuf {
        self.folder.join(&self.name)
    }

    fn part(&self) -> PathBuf {
        self.folder.join(format!("{}.part", self.name))
    }

    /// Forgets whatever is there.
    fn clear(&self) -> io::Result<()> {
        match fs::remove_dir_all(&self.folder) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// The existing copy, if it can be used.
    pub(super) fn find(&self) -> Option<Kept> {
        let about = self.folder.join(ABOUT);
        if fs::metadata(&about).ok()?.len() > MAX_ABOUT {
            return None;
        }
        let about: About = serde_json::from_slice(&fs::read(about).ok()?).ok()?;
        let version = Version {
            tag: about.etag,
            modified: about.last_modified,
            size: about.size,
        };
        // Without a validator there is no telling whether it is still the same.
        if about.url != self.url || !version.has_mark() {
            return None;
        }
        let open = |path: PathBuf| {
            let file = OpenOptions::new().read(true).write(true).open(path).ok()?;
            let len = file.metadata().ok()?.len();
            Some((file, len))
        };
        if let Some((file, len)) = open(self.path()) {
            return (Some(len) == version.size).then_some(Kept {
                file,
                len,
                version,
                is_complete: true,
            });
        }
        let (file, len) = open(self.part())?;
        let plausible = version.size.is_none_or(|size| len <= size);
        plausible.then_some(Kept {
            file,
            len,
            version,
            is_complete: false,
        })
    }

    /// Begins a new file, in place of whatever is there.
    pub(super) fn begin(&self, version: &Version) -> io::Result<File> {
        fs::create_dir_all(&self.folder)?;
        match fs::remove_file(self.path()) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(true)
            .open(self.part())?;
        self.describe(version, version.size)?;
        Ok(file)
    }

    fn describe(&self, version: &Version, size: Option<u64>) -> io::Result<()> {
        let about = About {
            url: self.url.clone(),
            size,
            etag: version.tag.clone(),
            last_modified: version.modified.clone(),
        };
        fs::write(self.folder.join(ABOUT), serde_json::to_vec_pretty(&about)?)
    }

    /// Declares the file of `len` bytes complete.
    pub(super) fn finish(&self, file: &File, len: u64, version: &Version) -> io::Result<PathBuf> {
        file.sync_all()?;
        self.describe(version, Some(len))?;
        fs::rename(self.part(), self.path())?;
        Ok(self.path())
    }
}

/// The complete download from this address that is kept in the cache folder, if there is one.
pub fn kept_download(cache: &Path, url: &str) -> Option<PathBuf> {
    let place = Place::new(cache, url, &Location::Url(url.to_owned()).name());
    let kept = place.find().filter(|kept| kept.is_complete)?;
    drop(kept);
    Some(place.path())
}

/// Forgets what is kept of this address.
///
/// # Errors
/// The system's.
pub fn forget_download(cache: &Path, url: &str) -> io::Result<()> {
    Place::new(cache, url, &Location::Url(url.to_owned()).name()).clear()
}
