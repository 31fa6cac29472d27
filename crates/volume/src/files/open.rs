//! Finding the file system that a place names, and opening it.

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_ext4::{Editor, ExtError, Timestamp, Volume};
use pinewrit_fat as fat;
use pinewrit_table::PartitionTable;

use super::{Files, FilesError, Inner, Wanted};
use crate::recover::settled_volume;
use crate::{FilesystemFacts, probe};

/// A file system of a medium, and its place.
#[derive(Clone, Debug)]
pub struct FilesystemOf {
    /// The partition's number; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Its place.
    pub range: ByteRange,
    /// The facts.
    pub facts: FilesystemFacts,
    /// The partition's name in the table.
    pub name: Option<String>,
    /// The zone of its local times if it is a FAT; UTC by default.
    pub zone: TimeZone,
    /// It contains `/etc`.
    is_root: bool,
}

impl FilesystemOf {
    /// The same file system, where it begins elsewhere.
    #[must_use]
    pub fn at(&self, range: ByteRange) -> Self {
        Self {
            range,
            ..self.clone()
        }
    }

    /// Whether it looks like the root of a system: it contains `/etc`.
    pub fn is_root(&self) -> bool {
        self.is_root
    }
}

/// All file systems of a medium.
///
/// # Errors
/// The device could not be read.
pub fn filesystems(device: &dyn BlockDevice) -> Result<Vec<FilesystemOf>, DiskError> {
    let whole = ByteRange {
        start: 0,
        end: device.size(),
    };
    let mut all = Vec::new();
    let Some(table) = PartitionTable::read(device)? else {
        all.extend(look_at(device, None, whole, None)?);
        return Ok(all);
    };
    for partition in &table.partitions {
        let name = partition.name.clone();
        all.extend(look_at(
            device,
            Some(partition.number),
            partition.range,
            name,
        )?);
    }
    Ok(all)
}

/// The first partition on the device whose start cannot be reached, because a preview of an image
/// has a limit.
///
/// # Errors
/// The device could not be read.
pub fn first_unseen(device: &dyn BlockDevice) -> Result<Option<u32>, DiskError> {
    let Some(table) = PartitionTable::read(device)? else {
        return Ok(None);
    };
    let inside = |range: ByteRange| range.end <= device.size();
    for partition in table.partitions.iter().filter(|one| inside(one.range)) {
        let mut start = [0; 4096];
        match device.read_at(partition.range.start, &mut start) {
            Err(DiskError::PastEnd { .. }) => return Ok(Some(partition.number)),
            Err(error) => return Err(error),
            Ok(()) => {}
        }
    }
    Ok(None)
}

fn look_at(
    device: &dyn BlockDevice,
    partition: Option<u32>,
    range: ByteRange,
    name: Option<String>,
) -> Result<Option<FilesystemOf>, DiskError> {
    let window = Window::new(device, range);
    let Some(facts) = probe(&window)? else {
        return Ok(None);
    };
    let is_root = facts.kind.is_ext()
        && Volume::open(&window as &dyn BlockDevice)
            .is_ok_and(|volume| volume.tree().find_target(b"/etc").is_ok());
    Ok(Some(FilesystemOf {
        partition,
        range,
        facts,
        name,
        zone: TimeZone::UTC,
        is_root,
    }))
}

/// Why a place was not found.
#[derive(Debug)]
pub enum FindError {
    /// None or several are possible; all file systems that exist.
    NotOne(Vec<FilesystemOf>),
    /// The device could not be read.
    Disk(DiskError),
}

/// Finds the file system.
///
/// # Errors
/// [`FindError`].
pub fn find_place(device: &dyn BlockDevice, wanted: &Wanted) -> Result<FilesystemOf, FindError> {
    let all = filesystems(device).map_err(FindError::Disk)?;
    let is_called = |one: &FilesystemOf, name: &str| {
        one.facts.label.as_deref() == Some(name) || one.name.as_deref() == Some(name)
    };
    let is_meant = |one: &FilesystemOf| match wanted {
        Wanted::Only => one.facts.kind.has_files(),
        Wanted::Boot => one.facts.kind.is_fat(),
        Wanted::Root => one.is_root,
        Wanted::Whole => one.partition.is_none() || is_called(one, "whole"),
        Wanted::Named(name) => {
            let number = one.partition.map(|number| number.to_string());
            number.as_deref() == Some(name) || is_called(one, name)
        }
    };
    let mut meant = all.iter().filter(|one| is_meant(one));
    let found = match (meant.next(), meant.next(), wanted) {
        (Some(only), None, _) | (Some(only), _, Wanted::Boot | Wanted::Root) => Some(only.clone()),
        _ => None,
    };
    found.ok_or(FindError::NotOne(all))
}

/// Opens a file system for reading; `window` is its place.
///
/// # Errors
/// [`FilesError`].
pub fn open_to_read<'a>(window: &'a dyn BlockDevice) -> Result<Files<'a>, FilesError> {
    match fat::Geometry::read(window)? {
        Some(_) => {
            Ok(Inner::FatRead(Box::new(fat::Volume::open(window)?)).at(Timestamp::default()))
        }
        None => {
            let inner = match settled_volume(window)? {
                Some(volume) => Inner::ExtSettled(Box::new(volume)),
                None => Inner::ExtRead(Box::new(Volume::open(window)?)),
            };
            Ok(inner.at(Timestamp::default()))
        }
    }
}

/// Opens a file system for changes, which get the time `now`; `window` is its place, with an
/// overlay underneath.
///
/// # Errors
/// [`FilesError`].
pub fn open_to_change<'a>(
    window: &'a dyn BlockDevice,
    now: Timestamp,
) -> Result<Files<'a>, FilesError> {
    match fat::Geometry::read(window)? {
        Some(_) => Ok(Inner::Fat(Box::new(fat::Editor::open(window)?)).at(now)),
        None => match Editor::open(window, now) {
            Err(pinewrit_ext4::EditError::Volume(ExtError::Disk(error))) => Err(error.into()),
            editor => Ok(Inner::Ext(Box::new(editor?)).at(now)),
        },
    }
}

impl<'a> Inner<'a> {
    fn at(self, now: Timestamp) -> Files<'a> {
        Files { inner: self, now }
    }
}
