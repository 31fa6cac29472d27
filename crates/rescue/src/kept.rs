//! What a rescue has on disk: a sparse file with what was read, and the map beside it.

use std::ffi::OsString;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use pinewrit_disk::{BlockDevice, ByteRange, CacheUse, DiskError, FileDevice, SectorSize, is_zero};
use serde::{Deserialize, Serialize};

use crate::map::{RescueMap, State};

/// The first field of every map.
const FORMAT: &str = "pinewrit rescue map";
const VERSION: u32 = 1;
/// A larger map is none: each bad sector takes some 30 bytes.
const MAX_MAP: u64 = 256 << 20;

/// Why the files of a rescue cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeptError {
    /// A file could not be opened, read or written.
    #[error("{path}: {source}", path = path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// There is a file of that name, but no map of a rescue beside it.
    #[error("{} exists, and has no map beside it", .0.display())]
    NoMap(PathBuf),
    /// The map is damaged, or none.
    #[error("{path} is no map of a rescue: {why}", path = path.display())]
    Map {
        /// The map.
        path: PathBuf,
        /// What is wrong, in words.
        why: String,
    },
    /// It belongs to a medium of another size.
    #[error("{path} is of a medium of {found} bytes, this one has {wanted}", path = path.display())]
    Size {
        /// The map.
        path: PathBuf,
        /// The size in it, in bytes.
        found: u64,
        /// The medium's size in bytes.
        wanted: u64,
    },
    /// What was kept is not what this medium holds.
    #[error("{path} is of another medium: the bytes at offset {offset} differ", path = path.display())]
    Other {
        /// The file with what was read.
        path: PathBuf,
        /// Where they differ, in bytes.
        offset: u64,
    },
    /// Another rescue uses it now.
    #[error("{} is in use by another rescue", .0.display())]
    InUse(PathBuf),
}

/// The map as it is stored. Ranges are `start-end` in bytes, without the end itself.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Stored {
    format: String,
    version: u32,
    /// Size of the medium in bytes.
    size: u64,
    /// Its logical sector in bytes.
    sector: u32,
    /// The medium in words, for people.
    medium: String,
    read: Vec<String>,
    failed: Vec<String>,
    missing: Vec<String>,
}

/// The two files.
pub(crate) struct Kept {
    content: FileDevice,
    path: PathBuf,
    map_path: PathBuf,
    medium: String,
}

/// The map's name: that of the content, with `.map` behind it.
pub fn map_path(content: &Path) -> PathBuf {
    let mut name = OsString::from(content);
    name.push(".map");
    name.into()
}

fn at(path: &Path) -> impl Fn(io::Error) -> KeptError + '_ {
    move |source| KeptError::File {
        path: path.to_owned(),
        source,
    }
}

impl Kept {
    /// Opens the files of an earlier rescue of a medium of this size, or makes new ones.
    pub(crate) fn open(
        path: &Path,
        medium: &dyn BlockDevice,
        words: &str,
    ) -> Result<(Self, RescueMap), KeptError> {
        let map_path = map_path(path);
        let size = medium.size();
        let map = match path.exists() {
            true if !map_path.exists() => return Err(KeptError::NoMap(path.to_owned())),
            true => load(&map_path, size)?,
            false => RescueMap::default(),
        };
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        let file = options.open(path).map_err(at(path))?;
        lock(&file, path)?;
        file.set_len(size).map_err(at(path))?;
        let kept = Self {
            content: FileDevice::new(file, size, medium.logical_sector(), CacheUse::Cached),
            path: path.to_owned(),
            map_path,
            medium: words.to_owned(),
        };
        kept.save(&map)?;
        Ok((kept, map))
    }

    /// Opens the files of another rescue of a medium of this size, to take from it.
    pub(crate) fn open_other(path: &Path, size: u64) -> Result<(FileDevice, RescueMap), KeptError> {
        let map = load(&map_path(path), size)?;
        let file = File::open(path).map_err(at(path))?;
        let found = file.metadata().map_err(at(path))?.len();
        if found != size {
            return Err(KeptError::Size {
                path: path.to_owned(),
                found,
                wanted: size,
            });
        }
        let content = FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached);
        Ok((content, map))
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn read(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.content.read_at(offset, buffer)
    }

    /// Keeps bytes of a place that was never kept before: zeros are there already.
    pub(crate) fn put(&self, offset: u64, bytes: &[u8]) -> Result<(), DiskError> {
        if is_zero(bytes) {
            return Ok(());
        }
        self.content.write_at(offset, bytes)
    }

    /// Stores the map, after everything that it calls read.
    pub(crate) fn save(&self, map: &RescueMap) -> Result<(), KeptError> {
        let content = self.content.flush().map_err(io::Error::from);
        content.map_err(at(&self.path))?;
        let text = |range: ByteRange| format!("{}-{}", range.start, range.end);
        let ranges = |state| map.all(state).map(text).collect();
        let stored = Stored {
            format: FORMAT.to_owned(),
            version: VERSION,
            size: self.content.size(),
            sector: self.content.logical_sector().bytes() as u32,
            medium: self.medium.clone(),
            read: ranges(State::Read),
            failed: ranges(State::Failed),
            missing: ranges(State::Missing),
        };
        let text = serde_json::to_string_pretty(&stored).map_err(io::Error::from);
        let text = text.map_err(at(&self.map_path))?;
        let folder = match self.map_path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        let write = || {
            let mut draft = tempfile::NamedTempFile::new_in(folder)?;
            draft.write_all(text.as_bytes())?;
            draft.as_file().sync_all()?;
            draft.persist(&self.map_path)?;
            Ok(())
        };
        write().map_err(at(&self.map_path))
    }
}

fn lock(file: &File, path: &Path) -> Result<(), KeptError> {
    match file.try_lock() {
        Ok(()) => Ok(()),
        Err(TryLockError::WouldBlock) => Err(KeptError::InUse(path.to_owned())),
        Err(TryLockError::Error(source)) => Err(at(path)(source)),
    }
}

/// Reads a map, which may come from anybody.
fn load(path: &Path, size: u64) -> Result<RescueMap, KeptError> {
    let bad = |why: String| KeptError::Map {
        path: path.to_owned(),
        why,
    };
    let file = File::open(path).map_err(at(path))?;
    let mut text = String::new();
    let read = file.take(MAX_MAP + 1).read_to_string(&mut text);
    let len = read.map_err(at(path))?;
    if len as u64 > MAX_MAP {
        return Err(bad(format!("it has more than {MAX_MAP} bytes")));
    }
    let stored: Stored = serde_json::from_str(&text).map_err(|error| bad(error.to_string()))?;
    if stored.format != FORMAT || stored.version != VERSION {
        let (format, version) = (&stored.format, stored.version);
        return Err(bad(format!("format {format:?}, version {version}")));
    }
    if stored.size != size {
        return Err(KeptError::Size {
            path: path.to_owned(),
            found: stored.size,
            wanted: size,
        });
    }
    let mut map = RescueMap::default();
    let parts = [
        (stored.failed, State::Failed),
        (stored.missing, State::Missing),
        (stored.read, State::Read),
    ];
    for (ranges, state) in parts {
        for text in ranges {
            let range = range_of(&text).filter(|range| range.end <= size);
            let range = range.ok_or_else(|| bad(format!("the range {text:?}")))?;
            if map.in_state(&[range], None) != [range] {
                return Err(bad(format!("the bytes {text} are in it twice")));
            }
            map.set(range, Some(state));
        }
    }
    Ok(map)
}

fn range_of(text: &str) -> Option<ByteRange> {
    let (start, end) = text.split_once('-')?;
    let range = ByteRange::new(start.parse().ok()?, end.parse().ok()?)?;
    (!range.is_empty()).then_some(range)
}
