//! Files inside a FAT file system, without mounting it.

use std::io::{self, Read, Write};

use fatfs::{Date, DateTime, Dir, DirEntry, FileSystem, FsOptions, Time, TimeProvider};
use pinewrit_disk::{BlockDevice, DeviceCursor};

use super::fat::oem_text;
use super::{FatGeometry, clean_label, fat_folder};

/// More entries than a FAT directory can have; a longer one runs in a circle.
const MAX_ENTRIES: usize = 65536;

/// Folders get the same time always, so that the same work gives the same medium; files get theirs
/// when they are written.
#[derive(Debug)]
struct FixedTime;

impl TimeProvider for FixedTime {
    fn get_current_date(&self) -> Date {
        Date {
            year: 2026,
            month: 1,
            day: 1,
        }
    }

    fn get_current_date_time(&self) -> DateTime {
        DateTime {
            date: self.get_current_date(),
            time: Time {
                hour: 0,
                min: 0,
                sec: 0,
                millis: 0,
            },
        }
    }
}

/// Why a file inside a FAT file system could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VolumeError {
    /// The file system's structures contradict each other.
    #[error("the FAT file system is damaged: {what}")]
    Damaged {
        /// What is wrong.
        what: &'static str,
    },
    /// There is no room for the file.
    #[error("no room for {path} in the FAT file system")]
    Full {
        /// The file.
        path: String,
    },
    /// The file is larger than what is read into memory.
    #[error("{path} is larger than {limit} bytes")]
    TooLarge {
        /// The file.
        path: String,
        /// The bound in bytes.
        limit: u64,
    },
    /// The device or the file system failed.
    #[error("{path} in the FAT file system")]
    Io {
        /// The file.
        path: String,
        /// The cause.
        source: io::Error,
    },
}

/// What a folder's entry tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FatEntry {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Size in bytes.
    pub size: u64,
    /// When it was last changed, in seconds since 1970, its clock taken for UTC.
    pub modified: Option<i64>,
}

/// A FAT time in seconds since 1970.
fn seconds(time: DateTime) -> Option<i64> {
    let part = |value: u16| i8::try_from(value).ok();
    let (date, time) = (time.date, time.time);
    let year = i16::try_from(date.year).ok()?;
    let date = jiff::civil::Date::new(year, part(date.month)?, part(date.day)?).ok()?;
    let time =
        jiff::civil::Time::new(part(time.hour)?, part(time.min)?, part(time.sec)?, 0).ok()?;
    let zoned = date.to_datetime(time).to_zoned(jiff::tz::TimeZone::UTC);
    Some(zoned.ok()?.timestamp().as_second())
}

/// Seconds since 1970 as a FAT time in UTC; what is before 1980 or after 2107 becomes the nearest that
/// can be kept.
fn fat_time(seconds: i64) -> DateTime {
    let (first, last) = (315_532_800, 4_354_819_198);
    let clamped = jiff::Timestamp::from_second(seconds.clamp(first, last)).unwrap_or_default();
    let civil = clamped.to_zoned(jiff::tz::TimeZone::UTC).datetime();
    let part = |value: i8| u16::from(value.unsigned_abs());
    DateTime {
        date: Date {
            year: civil.year().unsigned_abs(),
            month: part(civil.month()),
            day: part(civil.day()),
        },
        time: Time {
            hour: part(civil.hour()),
            min: part(civil.minute()),
            sec: part(civil.second()),
            millis: 0,
        },
    }
}

/// A folder that is open.
pub(crate) struct FatFolder<'v, 'a>(Dir<'v, DeviceCursor<'a>>);

/// What stands in a folder, by which it is opened without its path.
pub(crate) struct FatItem<'v, 'a>(DirEntry<'v, DeviceCursor<'a>>);

impl<'v, 'a> FatFolder<'v, 'a> {
    /// All entries without `.` and `..`; `path` is for errors.
    pub(crate) fn items(
        &self,
        path: &str,
    ) -> Result<Vec<(FatEntry, FatItem<'v, 'a>)>, VolumeError> {
        let failed = failed_at(path);
        let mut items = Vec::new();
        for (index, entry) in self.0.iter().enumerate() {
            check_count(index)?;
            let entry = entry.map_err(&failed)?;
            let name = entry.file_name();
            if name == "." || name == ".." {
                continue;
            }
            let told = FatEntry {
                is_folder: entry.is_dir(),
                size: entry.len(),
                modified: seconds(entry.modified()),
                name,
            };
            items.push((told, FatItem(entry)));
        }
        Ok(items)
    }
}

impl<'v, 'a> FatItem<'v, 'a> {
    /// What is in a folder.
    pub(crate) fn open(&self) -> FatFolder<'v, 'a> {
        FatFolder(self.0.to_dir())
    }

    /// Hands a file's content on.
    pub(crate) fn read_to(&self, path: &str, taker: &mut dyn Write) -> Result<(), VolumeError> {
        let copied = io::copy(&mut self.0.to_file(), taker);
        copied.map(drop).map_err(failed_at(path))
    }
}

/// An open FAT file system. Changes go to the device under it at once; put an
/// [`Overlay`](pinewrit_disk::Overlay) in between to gather them.
pub struct FatVolume<'a> {
    inner: FileSystem<DeviceCursor<'a>>,
    device: &'a dyn BlockDevice,
    geometry: FatGeometry,
}

impl<'a> FatVolume<'a> {
    /// Opens the file system at the start of `device`, after a look at its root directory.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn open(device: &'a dyn BlockDevice, geometry: &FatGeometry) -> Result<Self, VolumeError> {
        let failed = |source| VolumeError::Io {
            path: "/".into(),
            source,
        };
        if !geometry
            .root_is_sound(device)
            .map_err(|e| failed(e.into()))?
        {
            return Err(VolumeError::Damaged {
                what: "the root directory's cluster chain does not end",
            });
        }
        let cursor = DeviceCursor::new(device);
        let options = FsOptions::new().time_provider(&FixedTime);
        let inner = FileSystem::new(cursor, options).map_err(failed)?;
        Ok(Self {
            inner,
            device,
            geometry: *geometry,
        })
    }

    /// The label in the root directory, if it has one; `None` where it cannot be read.
    pub(super) fn label(&self) -> Option<Option<String>> {
        let raw = self.inner.read_volume_label_from_root_dir_as_bytes().ok()?;
        Some(raw.and_then(|raw| clean_label(oem_text(&raw).as_bytes())))
    }

    /// Names of the files in a folder, `""` being the root; empty if there is no such folder.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn list(&self, folder: &str) -> Result<Vec<String>, VolumeError> {
        let all = self.entries(folder)?.into_iter();
        let files = all.filter(|entry| !entry.is_folder);
        Ok(files.map(|entry| entry.name).collect())
    }

    /// All entries of a folder, `""` being the root, without `.` and `..`; empty if there is no such
    /// folder.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn entries(&self, folder: &str) -> Result<Vec<FatEntry>, VolumeError> {
        let Some(dir) = self.folder(folder)? else {
            return Ok(Vec::new());
        };
        let all = dir.items(folder)?.into_iter();
        Ok(all.map(|(entry, _)| entry).collect())
    }

    /// A folder, `""` being the root; `None` if there is none of this name.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub(crate) fn folder(&self, folder: &str) -> Result<Option<FatFolder<'_, 'a>>, VolumeError> {
        let root = self.inner.root_dir();
        let opened = match folder {
            "" => Ok(root),
            folder => root.open_dir(folder),
        };
        match opened {
            // A file of that name is no folder either.
            Err(error)
                if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::Other) =>
            {
                Ok(None)
            }
            dir => Ok(Some(FatFolder(dir.map_err(failed_at(folder))?))),
        }
    }

    /// Hands a file's content on; `false` if there is no such file.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn read_to(&self, path: &str, taker: &mut dyn Write) -> Result<bool, VolumeError> {
        let failed = failed_at(path);
        let mut file = match self.inner.root_dir().open_file(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(false),
            file => file.map_err(&failed)?,
        };
        io::copy(&mut file, taker).map_err(&failed)?;
        Ok(true)
    }

    /// Removes a file, or an empty folder.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn remove(&self, path: &str) -> Result<(), VolumeError> {
        self.check_folder(&self.inner.root_dir())?;
        self.inner.root_dir().remove(path).map_err(failed_at(path))
    }

    /// The whole content of a file of at most `limit` bytes; `None` if there is no such file.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn read(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>, VolumeError> {
        let content = self.read_head(path, limit + 1)?;
        if content.as_ref().is_some_and(|c| c.len() as u64 > limit) {
            return Err(VolumeError::TooLarge {
                path: path.to_owned(),
                limit,
            });
        }
        Ok(content)
    }

    /// At most the first `limit` bytes of a file; `None` if there is no such file.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn read_head(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>, VolumeError> {
        let failed = failed_at(path);
        let file = match self.inner.root_dir().open_file(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            file => file.map_err(&failed)?,
        };
        let mut content = Vec::new();
        file.take(limit)
            .read_to_end(&mut content)
            .map_err(&failed)?;
        Ok(Some(content))
    }

    /// Makes a file, or replaces its content. `modified` is in seconds since 1970.
    ///
    /// # Errors
    /// [`VolumeError::Full`] if there is no room, and others.
    pub fn write(&self, path: &str, content: &[u8], modified: i64) -> Result<(), VolumeError> {
        self.write_from(path, &mut &*content, modified)
    }

    /// Makes a file, or replaces its content, with all that a reader gives. `modified` is in seconds
    /// since 1970.
    ///
    /// # Errors
    /// [`VolumeError::Full`] if there is no room, and others.
    pub fn write_from(
        &self,
        path: &str,
        content: &mut dyn Read,
        modified: i64,
    ) -> Result<(), VolumeError> {
        self.check_folder(&self.inner.root_dir())?;
        let result = self
            .inner
            .root_dir()
            .create_file(path)
            .and_then(|mut file| {
                file.truncate()?;
                io::copy(content, &mut file)?;
                set_times(&mut file, fat_time(modified));
                file.flush()
            });
        result.map_err(|source| match source.kind() {
            io::ErrorKind::WriteZero | io::ErrorKind::StorageFull => VolumeError::Full {
                path: path.to_owned(),
            },
            // The crate's own words for a full table.
            _ if source.to_string().contains("No space left") => VolumeError::Full {
                path: path.to_owned(),
            },
            _ => failed_at(path)(source),
        })
    }

    /// Whether there is a folder of this name.
    ///
    /// # Errors
    /// [`VolumeError`]: it cannot be told.
    pub fn has_folder(&self, path: &str) -> Result<bool, VolumeError> {
        Ok(self.folder(path)?.is_some())
    }

    /// Makes a folder. Its parent must be there, and no file or folder of that name.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn make_folder(&self, path: &str) -> Result<(), VolumeError> {
        let failed = failed_at(path);
        self.inner
            .root_dir()
            .create_dir(path)
            .map(drop)
            .map_err(&failed)?;
        let repaired = fat_folder::repair_dots(self.device, &self.geometry, path);
        match repaired.map_err(|e| failed(e.into()))? {
            true => Ok(()),
            false => Err(VolumeError::Damaged {
                what: "a folder that was just made is not found",
            }),
        }
    }

    /// Writes the last counters to the device under it.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn close(self) -> Result<(), VolumeError> {
        self.inner.unmount().map_err(failed_at("/"))
    }

    /// Searching a directory that runs in a circle would never end; so it is counted first.
    fn check_folder(&self, dir: &Dir<'_, DeviceCursor<'a>>) -> Result<(), VolumeError> {
        for (index, entry) in dir.iter().enumerate() {
            check_count(index)?;
            entry.map_err(failed_at("/"))?;
        }
        Ok(())
    }
}

#[expect(
    deprecated,
    reason = "the crate's clock is one for all, and every file has its own time"
)]
fn set_times(file: &mut fatfs::File<'_, DeviceCursor<'_>>, time: DateTime) {
    file.set_created(time);
    file.set_modified(time);
    file.set_accessed(time.date);
}

fn check_count(entries: usize) -> Result<(), VolumeError> {
    if entries >= MAX_ENTRIES {
        return Err(VolumeError::Damaged {
            what: "a directory does not end",
        });
    }
    Ok(())
}

fn failed_at(path: &str) -> impl Fn(io::Error) -> VolumeError {
    move |source| VolumeError::Io {
        path: path.to_owned(),
        source,
    }
}
