//! Putting first-boot settings on a medium: found, gathered in an overlay, then committed as one.

use pinewrit_disk::{BlockDevice, ByteRange, CommitError, DiskError, Overlay, UndoLog, Window};
use pinewrit_table::PartitionTable;
use serde::Serialize;
use similar::TextDiff;

use crate::filesystem::{self, FatGeometry, FatVolume, FilesystemFacts, VolumeError};
use crate::intake::cloud_init::{self, MAX_FILE, SeedError};
use crate::settings::CheckedSettings;

/// What configuring changes, or has changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ConfigureReport {
    /// The intake that takes the settings: `cloud-init`.
    pub intake: &'static str,
    /// Number of the partition that holds them; `None` where the medium has no table.
    pub partition: Option<u32>,
    /// Whether the partition's label makes cloud-init look there by itself. If not, the image
    /// must be set up to look there.
    pub found_by_label: bool,
    /// The files, changed or not.
    pub files: Vec<FileChange>,
}

/// One file of the settings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FileChange {
    /// Its path inside the partition.
    pub path: String,
    /// What happens to it.
    pub kind: ChangeKind,
    /// The change in unified form, with secrets hidden.
    pub diff: String,
}

/// What happens to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeKind {
    /// It was not there.
    New,
    /// Its content changes.
    Changed,
    /// It is as it should be.
    Same,
}

impl ConfigureReport {
    /// Whether the medium has everything already.
    pub fn is_unchanged(&self) -> bool {
        self.files.iter().all(|file| file.kind == ChangeKind::Same)
    }
}

/// Why a medium could not be configured. The medium is unchanged unless the error says otherwise.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConfigureError {
    /// There is no FAT file system to take the seed.
    #[error("the medium has no FAT partition to take the settings")]
    NoPlace {
        /// What there is instead: kinds of the partitions, in order.
        found: Vec<String>,
    },
    /// The file system could not be read or changed.
    #[error("the boot partition could not be changed")]
    Volume(#[from] VolumeError),
    /// The seed could not be made.
    #[error("the settings could not be written down")]
    Seed(#[from] SeedError),
    /// The medium could not be read.
    #[error("the medium could not be read")]
    Disk(#[from] DiskError),
    /// The changes could not be committed.
    #[error("the changes could not be put on the medium")]
    Commit(#[from] CommitError),
}

/// Where the settings go.
struct Place {
    partition: Option<u32>,
    range: ByteRange,
    geometry: FatGeometry,
    has_seed_label: bool,
}

/// Changes that are in an overlay, not yet on the medium.
pub(crate) struct Changes {
    pub(crate) report: ConfigureReport,
    /// The file system's metadata, to be written after the data.
    metadata: ByteRange,
}

/// Settings that are gathered and ready to go on the medium.
pub struct PreparedChanges<'a> {
    overlay: Overlay<&'a dyn BlockDevice>,
    changes: Changes,
}

/// Works out what `settings` change on `medium`, without changing it.
///
/// # Errors
/// [`ConfigureError`].
pub fn prepare<'a>(
    medium: &'a dyn BlockDevice,
    settings: &CheckedSettings,
) -> Result<PreparedChanges<'a>, ConfigureError> {
    let overlay = Overlay::new(medium);
    let changes = apply(&overlay, settings)?;
    Ok(PreparedChanges { overlay, changes })
}

impl PreparedChanges<'_> {
    /// What will change.
    pub fn report(&self) -> &ConfigureReport {
        &self.changes.report
    }

    /// Puts the changes on the medium as one: data, then metadata, each flushed and read back.
    ///
    /// # Errors
    /// [`CommitError`] says whether the medium is as it was.
    pub fn commit(self, undo: Option<&UndoLog>) -> Result<ConfigureReport, CommitError> {
        self.overlay.commit(&[self.changes.metadata], undo)?;
        Ok(self.changes.report)
    }
}

/// Puts the settings into `device` itself.
pub(crate) fn apply(
    device: &dyn BlockDevice,
    settings: &CheckedSettings,
) -> Result<Changes, ConfigureError> {
    let place = find_place(device)?;
    let window = Window::new(device, place.range);
    let volume = FatVolume::open(&window, &place.geometry)?;
    let existing = volume.read(cloud_init::USER_DATA, MAX_FILE)?;
    let existing = existing.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    let seed = cloud_init::seed(settings, existing.as_deref())?;

    let mut files = Vec::new();
    for file in seed {
        let old = volume.read(file.name, MAX_FILE)?;
        let change = file_change(file.name, old.as_deref(), &file.content);
        if change.kind != ChangeKind::Same {
            volume.write(file.name, file.content.as_bytes())?;
        }
        files.push(change);
    }
    volume.close()?;
    Ok(Changes {
        report: ConfigureReport {
            intake: "cloud-init",
            partition: place.partition,
            found_by_label: place.has_seed_label,
            files,
        },
        metadata: ByteRange {
            start: place.range.start,
            end: place.range.start + place.geometry.data_start,
        },
    })
}

fn file_change(name: &str, old: Option<&[u8]>, new: &str) -> FileChange {
    let kind = match old {
        None => ChangeKind::New,
        Some(old) if old == new.as_bytes() => ChangeKind::Same,
        Some(_) => ChangeKind::Changed,
    };
    let old = String::from_utf8_lossy(old.unwrap_or_default());
    let (old, new) = (cloud_init::redact(&old), cloud_init::redact(new));
    let diff = TextDiff::from_lines(old.as_str(), new.as_str());
    let diff = diff.unified_diff().context_radius(2).to_string();
    FileChange {
        path: format!("/{name}"),
        kind,
        diff: diff.chars().map(printable_line).collect(),
    }
}

fn printable_line(c: char) -> char {
    match c {
        '\n' => c,
        c => crate::filesystem::printable(c),
    }
}

/// The FAT partition that cloud-init finds by its label; else the first one, where boot files are;
/// or the medium itself, where it has no table.
fn find_place(device: &dyn BlockDevice) -> Result<Place, ConfigureError> {
    let whole = ByteRange {
        start: 0,
        end: device.size(),
    };
    let Some(table) = PartitionTable::read(device)? else {
        let place = place_in(device, None, whole)?;
        let found = filesystem::probe(device)?.map(|facts| facts.kind.to_owned());
        return place.ok_or_else(|| ConfigureError::NoPlace {
            found: found.into_iter().collect(),
        });
    };
    let mut places = Vec::new();
    for partition in &table.partitions {
        places.extend(place_in(device, Some(partition.number), partition.range)?);
    }
    let labelled = places.iter().position(|place| place.has_seed_label);
    if places.is_empty() {
        let mut found = Vec::new();
        for partition in &table.partitions {
            let facts = filesystem::probe(&Window::new(device, partition.range))?;
            let kind = match facts.filter(FilesystemFacts::is_fat) {
                Some(facts) => facts.kind.to_owned(),
                None => partition.kind.to_string(),
            };
            found.push(format!("{} {kind}", partition.number));
        }
        return Err(ConfigureError::NoPlace { found });
    }
    Ok(places.swap_remove(labelled.unwrap_or(0)))
}

/// A FAT file system in this range, if there is one.
fn place_in(
    device: &dyn BlockDevice,
    partition: Option<u32>,
    range: ByteRange,
) -> Result<Option<Place>, DiskError> {
    let window = Window::new(device, range);
    let geometry = FatGeometry::read(&window)?.filter(FatGeometry::is_regular);
    let Some(geometry) = geometry else {
        return Ok(None);
    };
    let label = filesystem::probe(&window)?.and_then(|facts| facts.label);
    Ok(Some(Place {
        partition,
        range,
        geometry,
        has_seed_label: label.is_some_and(|l| l.eq_ignore_ascii_case(cloud_init::LABEL)),
    }))
}
