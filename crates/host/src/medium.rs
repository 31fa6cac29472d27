//! Opening media: block devices and card files, for reading or for writing.

use std::fmt;
use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{self, ErrorKind, Seek, SeekFrom};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use nix::unistd::{Gid, Group};
use pinewrit_disk::{BlockDevice, ByteRange, CacheUse, FileDevice, Section, SectorSize};
use rustix::fs::{FlockOperation, OFlags, RenameFlags};
use rustix::io::Errno;

use crate::{
    BlockName, Hold, MediumError, MediumFacts, Rescan, SystemRoots, Tag, Verdict, rescan_partitions,
};

/// What represents a medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MediumKind {
    /// A regular file.
    CardFile,
    /// A whole block device.
    BlockDevice,
    /// A card of a rack.
    Simulated,
}

/// What the user said about the medium, beyond its path.
#[derive(Clone, Debug, Default)]
pub struct Permits {
    /// The tag by which it was chosen: if another medium answers now, nothing is opened.
    pub chosen: Option<Tag>,
    /// The tag repeated by the user to confirm an unsure medium.
    pub confirmed: Option<Tag>,
}

/// An open medium.
pub struct Medium {
    /// The device to read and write.
    pub device: Box<dyn BlockDevice>,
    /// The descriptor behind it, for requests that are not transfers. While it is open, nobody else
    /// can use the medium.
    pub(crate) opened: File,
    /// Whether aligned transfers bypass the system's cache.
    pub is_direct: bool,
    /// What it is.
    pub kind: MediumKind,
    /// The path as given.
    pub path: PathBuf,
    /// Where a card file lies until it is settled.
    pub(crate) draft: Option<PathBuf>,
}

impl Medium {
    /// Gives a new card file that was filled elsewhere its final name, unless that name has been
    /// taken meanwhile.
    ///
    /// # Errors
    /// The file could not be renamed; it then stays where it is.
    pub fn settle(&mut self) -> Result<(), MediumError> {
        let Some(draft) = self.draft.take() else {
            return Ok(());
        };
        let here = rustix::fs::CWD;
        let kept = RenameFlags::NOREPLACE;
        let renamed = match rustix::fs::renameat_with(here, &draft, here, &self.path, kept) {
            // Some file systems cannot rename on that condition.
            Err(Errno::INVAL | Errno::NOSYS) if !self.path.exists() => {
                fs::rename(&draft, &self.path)
            }
            renamed => renamed.map_err(io::Error::from),
        };
        renamed.map_err(|e| opening_failed(&self.path, e))
    }

    /// The medium with only a range of it to be read and written, as one partition.
    pub fn narrowed(self, range: ByteRange) -> Self {
        Self {
            device: Box::new(Section::new(self.device, range)),
            ..self
        }
    }
}

/// Where a write goes: a medium that is there, or a card file to be made.
///
/// An existing medium is open exclusively from the checks to the end; a new card file is made
/// only when the work begins, so that a refused write leaves no file behind.
#[derive(Debug)]
pub enum Target {
    /// A medium that exists.
    Existing(Medium),
    /// A card file that does not exist yet.
    New {
        /// Its path.
        path: PathBuf,
        /// Its size in bytes.
        size: u64,
        /// A file on the same file system that already holds its content, and will be renamed to
        /// it.
        draft: Option<PathBuf>,
    },
}

/// The logical sector size of an open block device; 512 bytes for everything else.
pub fn logical_sector(file: &File) -> SectorSize {
    let found = rustix::fs::ioctl_blksszget(file).ok();
    found.and_then(SectorSize::new).unwrap_or(SectorSize::B512)
}

impl fmt::Debug for Medium {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Medium")
            .field("path", &self.path)
            .field("kind", &self.kind)
            .finish_non_exhaustive()
    }
}

impl Medium {
    /// Makes the system show the new partitions of a block device.
    pub fn rescan(&self) -> Rescan {
        match self.kind {
            MediumKind::CardFile | MediumKind::Simulated => Rescan::NotApplicable,
            // A device that cannot shows them when it is plugged in again.
            MediumKind::BlockDevice => rescan_partitions(&self.opened).unwrap_or(Rescan::InUse),
        }
    }

    /// The medium's name for messages: a card file's without folders, a device's path.
    pub fn name(&self) -> String {
        display_name(&self.path)
    }

    /// Opens a medium for reading; others may use it at the same time.
    ///
    /// # Errors
    /// [`MediumError`].
    pub fn open_for_reading(path: &Path) -> Result<Self, MediumError> {
        let kind = kind_of(path, &look_at(path)?)?;
        let file = File::open(path).map_err(|e| opening_failed(path, e))?;
        Self::from_file(path, file, kind)
    }

    /// Opens a block device only to eject it: exclusively, and for reading, so that a
    /// write-protected one can be ejected too.
    pub(crate) fn open_to_eject(
        roots: &SystemRoots,
        path: &Path,
        permits: &Permits,
    ) -> Result<Self, MediumError> {
        let metadata = look_at(path)?;
        let kind = kind_of(path, &metadata)?;
        if kind != MediumKind::BlockDevice {
            return Self::open_for_reading(path);
        }
        let name = whole_device(roots, path, metadata.rdev())?;
        let file = OpenOptions::new()
            .read(true)
            .custom_flags(OFlags::EXCL.bits() as i32)
            .open(path)
            .map_err(|e| opening_failed(path, e))?;
        // From now on its identity cannot change.
        let found = roots.medium(&name).map_err(|e| opening_failed(path, e))?;
        check_ejectable(path, found.as_ref(), permits)?;
        Self::from_file(path, file, kind)
    }

    fn from_file(path: &Path, mut file: File, kind: MediumKind) -> Result<Self, MediumError> {
        // Seeking to the end gives the size of block devices too.
        let size = file
            .seek(SeekFrom::End(0))
            .map_err(|e| opening_failed(path, e))?;
        let sector = logical_sector(&file);
        let opened = file.try_clone().map_err(|e| opening_failed(path, e))?;
        let device = FileDevice::new(file, size, sector, CacheUse::Direct);
        Ok(Self {
            is_direct: device.is_direct(),
            device: Box::new(device),
            opened,
            kind,
            path: path.to_owned(),
            draft: None,
        })
    }

    /// Whether two open media are the same one, and how it is named otherwise.
    pub fn is_same_file(&self, other: &File) -> bool {
        let facts = |m: Metadata| {
            if m.file_type().is_block_device() {
                (0, 0, m.rdev())
            } else {
                (m.dev(), m.ino(), 0)
            }
        };
        match (self.opened.metadata(), other.metadata()) {
            (Ok(a), Ok(b)) => facts(a) == facts(b),
            _ => false,
        }
    }
}

impl Target {
    /// Opens the medium at `path` for writing, after judging it; or plans a new card file of
    /// `size` bytes there.
    ///
    /// # Errors
    /// [`MediumError`]; [`MediumError::Refused`] carries the verdict.
    pub fn open(
        roots: &SystemRoots,
        path: &Path,
        size: Option<u64>,
        permits: &Permits,
    ) -> Result<Self, MediumError> {
        let metadata = match (look_at(path), size) {
            (Err(MediumError::Missing { .. }), Some(size)) => {
                return plan_card_file(path, size);
            }
            (found, _) => found?,
        };
        let medium = match kind_of(path, &metadata)? {
            MediumKind::CardFile => open_card_file(roots, path, &metadata, size)?,
            MediumKind::BlockDevice if size.is_some() => {
                return Err(MediumError::SizeOfDevice {
                    path: path.to_owned(),
                });
            }
            MediumKind::BlockDevice | MediumKind::Simulated => {
                open_block_device(roots, path, &metadata, permits)?
            }
        };
        Ok(Self::Existing(medium))
    }

    /// Size of the medium in bytes.
    pub fn size(&self) -> u64 {
        match self {
            Self::Existing(medium) => medium.device.size(),
            Self::New { size, .. } => *size,
        }
    }

    /// The medium's name for messages: a card file's without folders, a device's path.
    pub fn name(&self) -> String {
        match self {
            Self::Existing(medium) => medium.name(),
            Self::New { path, .. } => display_name(path),
        }
    }

    /// A new card file that takes over a file with its content.
    pub fn drafted(self, draft: PathBuf) -> Self {
        match self {
            Self::New { path, size, .. } => Self::New {
                path,
                size,
                draft: Some(draft),
            },
            existing => existing,
        }
    }

    /// The medium; a new card file is created first. A draft keeps its place until
    /// [`Medium::settle`].
    ///
    /// # Errors
    /// The file could not be made.
    pub fn into_medium(self) -> Result<Medium, MediumError> {
        let (path, size) = match self {
            Self::Existing(medium) => return Ok(medium),
            Self::New {
                path,
                draft: Some(draft),
                ..
            } => return open_draft(path, draft),
            Self::New { path, size, .. } => (path, size),
        };
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create_new(true)
            .open(&path)
            .and_then(|file| file.set_len(size).map(|()| file))
            .map_err(|e| opening_failed(&path, e))?;
        lock(&path, &file)?;
        Medium::from_file(&path, file, MediumKind::CardFile)
    }
}

impl Target {
    /// The medium for a preview of a change. A card file that does not exist yet is a file without
    /// a name.
    ///
    /// # Errors
    /// As [`Target::into_medium`].
    pub fn into_medium_to_look_at(self) -> Result<Medium, MediumError> {
        let Self::New { path, size, .. } = self else {
            return self.into_medium();
        };
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        let file = tempfile::tempfile_in(folder);
        let file = file.and_then(|file| file.set_len(size).map(|()| file));
        let file = file.map_err(|e| opening_failed(&path, e))?;
        Medium::from_file(&path, file, MediumKind::CardFile)
    }
}

/// A mistyped device would become a file in memory, or already is one. `/dev/shm` is memory on
/// purpose.
fn must_not_be_among_devices(path: &Path, folder: &Path) -> Result<(), MediumError> {
    let full = fs::canonicalize(folder).map_err(|e| opening_failed(folder, e))?;
    if full.starts_with("/dev") && !full.starts_with("/dev/shm") {
        Err(MediumError::NoSuchDevice {
            path: path.to_owned(),
        })
    } else {
        Ok(())
    }
}

fn plan_card_file(path: &Path, size: u64) -> Result<Target, MediumError> {
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    look_at(folder)?;
    must_not_be_among_devices(path, folder)?;
    Ok(Target::New {
        path: path.to_owned(),
        size,
        draft: None,
    })
}

fn open_draft(path: PathBuf, draft: PathBuf) -> Result<Medium, MediumError> {
    let file = OpenOptions::new().read(true).write(true).open(&draft);
    let file = file.map_err(|e| opening_failed(&draft, e))?;
    lock(&draft, &file)?;
    Ok(Medium {
        draft: Some(draft),
        ..Medium::from_file(&path, file, MediumKind::CardFile)?
    })
}

fn open_card_file(
    roots: &SystemRoots,
    path: &Path,
    metadata: &Metadata,
    size: Option<u64>,
) -> Result<Medium, MediumError> {
    if let Some(asked) = size.filter(|&asked| asked != metadata.len()) {
        return Err(MediumError::OtherSize {
            path: path.to_owned(),
            found: metadata.len(),
            asked,
        });
    }
    must_not_be_among_devices(path, path)?;
    must_be_ready(path, roots.judge_card_file(path, metadata))?;
    let file = OpenOptions::new()
        .read(true)
        .write(true)
        .open(path)
        .map_err(|e| opening_failed(path, e))?;
    lock(path, &file)?;
    Medium::from_file(path, file, MediumKind::CardFile)
}

/// Opens a block device exclusively (`O_EXCL`): while it is open, nobody can mount it.
///
/// It is judged before opening, for the better message, and once more after, when nothing can
/// change any more.
fn open_block_device(
    roots: &SystemRoots,
    path: &Path,
    metadata: &Metadata,
    permits: &Permits,
) -> Result<Medium, MediumError> {
    let name = whole_device(roots, path, metadata.rdev())?;
    must_be_permitted(roots, path, &name, permits)?;
    let exclusive = OFlags::EXCL.bits() as i32;
    let file = OpenOptions::new()
        .read(true)
        .write(true)
        .custom_flags(exclusive)
        .open(path)
        .map_err(|e| opening_failed(path, e))?;
    let opened = file.metadata().map_err(|e| opening_failed(path, e))?;
    if opened.rdev() != metadata.rdev() || !opened.file_type().is_block_device() {
        return Err(MediumError::Changed {
            path: path.to_owned(),
        });
    }
    must_be_permitted(roots, path, &name, permits)?;
    Medium::from_file(path, file, MediumKind::BlockDevice)
}

fn whole_device(roots: &SystemRoots, path: &Path, rdev: u64) -> Result<BlockName, MediumError> {
    let (major, minor) = (rustix::fs::major(rdev), rustix::fs::minor(rdev));
    let name = roots
        .by_number(major, minor)
        .ok_or_else(|| MediumError::Missing {
            path: path.to_owned(),
        })?;
    match roots.whole_of(&name) {
        Some(whole) => Err(MediumError::Partition {
            path: path.to_owned(),
            whole,
        }),
        None => Ok(name),
    }
}

/// The whole device must be ready, or unsure and confirmed; and the one that was chosen.
fn must_be_permitted(
    roots: &SystemRoots,
    path: &Path,
    name: &BlockName,
    permits: &Permits,
) -> Result<(), MediumError> {
    let found = roots.medium(name).map_err(|e| opening_failed(path, e))?;
    if found.is_some() || permits.chosen.is_some() {
        return check_permits(path, found.as_ref(), permits);
    }
    // Named by its path, and not among the media that are listed: judged by itself.
    must_be_ready(
        path,
        roots.judge(name).map_err(|e| opening_failed(path, e))?,
    )
}

/// Checks what was found in a reader against what the user has said.
pub(crate) fn check_permits(
    path: &Path,
    found: Option<&MediumFacts>,
    permits: &Permits,
) -> Result<(), MediumError> {
    let tag = found.and_then(|medium| medium.tag.clone());
    if found.is_none() || (permits.chosen.is_some() && permits.chosen != tag) {
        return Err(MediumError::Changed {
            path: path.to_owned(),
        });
    }
    match found.map(|medium| &medium.verdict) {
        Some(Verdict::Unsure(_)) if tag.is_some() && permits.confirmed == tag => Ok(()),
        Some(verdict) => must_be_ready(path, verdict.clone()),
        None => Ok(()),
    }
}

/// Checks what was found in a reader before it is ejected: locked and unsure ones may be.
pub(crate) fn check_ejectable(
    path: &Path,
    found: Option<&MediumFacts>,
    permits: &Permits,
) -> Result<(), MediumError> {
    let found = found.filter(|found| permits.chosen.is_none() || permits.chosen == found.tag);
    let Some(found) = found else {
        return Err(MediumError::Changed {
            path: path.to_owned(),
        });
    };
    match &found.verdict {
        Verdict::System(_) | Verdict::Busy(_) => must_be_ready(path, found.verdict.clone()),
        _ => Ok(()),
    }
}

fn must_be_ready(path: &Path, verdict: Verdict) -> Result<(), MediumError> {
    match verdict {
        Verdict::Ready => Ok(()),
        verdict => Err(MediumError::Refused {
            path: path.to_owned(),
            verdict,
        }),
    }
}

/// Keeps a second Pinewrit away from the same card file.
fn lock(path: &Path, file: &File) -> Result<(), MediumError> {
    let operation = FlockOperation::NonBlockingLockExclusive;
    rustix::fs::flock(file, operation).map_err(|error| match io::Error::from(error) {
        e if e.kind() == ErrorKind::WouldBlock => open_elsewhere(path),
        e => opening_failed(path, e),
    })
}

pub(crate) fn open_elsewhere(path: &Path) -> MediumError {
    MediumError::Refused {
        path: path.to_owned(),
        verdict: Verdict::Busy(vec![Hold::OpenElsewhere]),
    }
}

fn look_at(path: &Path) -> Result<Metadata, MediumError> {
    fs::metadata(path).map_err(|e| opening_failed(path, e))
}

fn kind_of(path: &Path, metadata: &Metadata) -> Result<MediumKind, MediumError> {
    let kind = metadata.file_type();
    let path = path.to_owned();
    if kind.is_file() {
        Ok(MediumKind::CardFile)
    } else if kind.is_block_device() {
        Ok(MediumKind::BlockDevice)
    } else if kind.is_dir() {
        Err(MediumError::Folder { path })
    } else {
        Err(MediumError::Special { path })
    }
}

fn opening_failed(path: &Path, source: io::Error) -> MediumError {
    let path = path.to_owned();
    match source.kind() {
        ErrorKind::NotFound => MediumError::Missing { path },
        ErrorKind::PermissionDenied => MediumError::Permission {
            group: group_with_access(&path),
            path,
        },
        ErrorKind::ResourceBusy => open_elsewhere(&path),
        ErrorKind::ReadOnlyFilesystem => MediumError::Refused {
            path,
            verdict: Verdict::Locked,
        },
        _ => MediumError::Io { path, source },
    }
}

/// The name of the group that may read and write what is at `path`, wherever the system keeps its groups.
fn group_with_access(path: &Path) -> Option<String> {
    let metadata = fs::metadata(path).ok()?;
    let may = metadata.mode() & 0o060 == 0o060 && metadata.gid() != 0;
    let number = may.then(|| Gid::from_raw(metadata.gid()))?;
    let group = Group::from_gid(number).ok().flatten()?;
    Some(group.name)
}

/// The name of a card file; of a device the full path, because `sdx` alone could be anything.
fn display_name(path: &Path) -> String {
    if path.starts_with("/dev") {
        return path.display().to_string();
    }
    let name = path.file_name().unwrap_or(path.as_os_str());
    name.to_string_lossy().into_owned()
}
