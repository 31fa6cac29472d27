//! The state of all file systems of a medium, and settling those that were cut off.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Overlay, Window};
use pinewrit_ext4::{ExtError, Mark, Volume, mark_clean};
use pinewrit_fat as fat;
use pinewrit_volume::check::fault;
use pinewrit_volume::files::{FilesystemOf, filesystems};
use pinewrit_volume::{Gathered, Recovered, Timestamp, recover};
use schemars::JsonSchema;
use serde::Serialize;

/// How a file system is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Condition {
    /// It is sound.
    Sound,
    /// It was in use when its medium was pulled; it is sound once that is settled.
    CutOff,
    /// It has clusters that belong to no file, and is sound otherwise.
    LostClusters,
    /// It says that it has errors, but no fault was found.
    Flagged,
    /// It is damaged, or cannot be settled.
    Damaged,
    /// There is no check for its kind.
    NotChecked,
}

/// A file system and its condition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Checked {
    /// The partition's number; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Its kind: `ext4`, `FAT16` …
    pub kind: &'static str,
    /// Its label.
    pub label: Option<String>,
    /// How it is.
    pub condition: Condition,
    /// What is damaged.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub damage: Option<String>,
    /// What its journal and its orphans have to give.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recovered: Option<Recovered>,
    /// Clusters of a FAT that belong to no file.
    pub lost_clusters: u64,
    /// Whether it has been settled.
    #[serde(rename = "settled")]
    pub is_settled: bool,
}

/// What happens to clusters of a FAT that are marked as used, but belong to no file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LostClusters {
    /// They stay: somebody may want to look into them.
    Kept,
    /// They become free.
    Freed,
}

impl Checked {
    fn new(filesystem: &FilesystemOf) -> Self {
        Self {
            partition: filesystem.partition,
            kind: filesystem.facts.kind.word(),
            label: filesystem.facts.label.clone(),
            condition: Condition::Sound,
            damage: None,
            recovered: None,
            lost_clusters: 0,
            is_settled: false,
        }
    }

    fn damaged(mut self, what: String) -> Self {
        self.condition = Condition::Damaged;
        self.damage = Some(what);
        self
    }

    /// Whether it can be used: it was sound, or has been settled.
    pub fn is_well(&self) -> bool {
        match self.condition {
            Condition::Sound | Condition::NotChecked => true,
            Condition::CutOff | Condition::LostClusters => self.is_settled,
            Condition::Flagged | Condition::Damaged => false,
        }
    }
}

/// Checks all file systems of a medium, which is only read.
///
/// # Errors
/// The medium could not be read.
pub fn check(medium: &dyn BlockDevice, now: Timestamp) -> Result<Vec<Checked>, DiskError> {
    examine(medium, None, now)
}

/// Checks all file systems of a medium, and works out the settling of those that were cut off. Those that
/// are damaged stay as they are.
///
/// # Errors
/// The medium could not be read.
pub fn settle(
    medium: &dyn BlockDevice,
    lost: LostClusters,
    now: Timestamp,
) -> Result<Gathered<'_, Vec<Checked>>, DiskError> {
    Gathered::whole(medium, |device| examine(device, Some(lost), now))
}

/// Settles each file system in an overlay of its own, which is handed down if that is wanted.
fn examine(
    device: &dyn BlockDevice,
    wanted: Option<LostClusters>,
    now: Timestamp,
) -> Result<Vec<Checked>, DiskError> {
    let mut all = Vec::new();
    for one in filesystems(device)? {
        let overlay = Overlay::new(Window::new(device, one.range));
        let inside = one.at(ByteRange {
            start: 0,
            end: one.range.len(),
        });
        let mut checked = settled(&overlay, &inside, now)?;
        checked.is_settled = match checked.condition {
            Condition::CutOff => wanted.is_some(),
            Condition::LostClusters => wanted == Some(LostClusters::Freed),
            _ => false,
        };
        if checked.is_settled {
            overlay.hand_down()?;
        }
        all.push(checked);
    }
    Ok(all)
}

/// Settles a file system of a device, with an overlay underneath, and checks it.
fn settled(
    device: &dyn BlockDevice,
    filesystem: &FilesystemOf,
    now: Timestamp,
) -> Result<Checked, DiskError> {
    let mut checked = Checked::new(filesystem);
    let window = Window::new(device, filesystem.range);
    let kind = filesystem.facts.kind;
    if kind.is_ext() {
        match recover(device, filesystem, now) {
            Ok(recovered) => checked.recovered = recovered,
            Err(error) => {
                return error
                    .into_disk()
                    .map_or_else(|why| Ok(checked.damaged(why.to_string())), Err);
            }
        }
        if checked.recovered.is_some() {
            checked.condition = Condition::CutOff;
        }
    } else if kind.is_fat() {
        match fat::settle(&window) {
            Ok(settled) => {
                checked.lost_clusters = settled.freed;
                checked.condition = match (settled.was_marked, settled.freed) {
                    (_, 1..) => Condition::LostClusters,
                    (true, 0) => Condition::CutOff,
                    (false, 0) => Condition::Sound,
                };
            }
            Err(
                fat::EditError::Volume(fat::FatError::Disk(error))
                | fat::EditError::Check(fat::CheckError::Volume(fat::FatError::Disk(error))),
            ) => return Err(error),
            Err(error) => return Ok(checked.damaged(error.to_string())),
        }
    } else {
        checked.condition = Condition::NotChecked;
        return Ok(checked);
    }
    match fault(&window)? {
        Some(what) => Ok(checked.damaged(what)),
        None if kind.is_ext() => marked(&window, checked),
        None => Ok(checked),
    }
}

/// A sound ext file system may say of itself that it is not.
fn marked(window: &Window<'_>, mut checked: Checked) -> Result<Checked, DiskError> {
    let volume = match Volume::open(window) {
        Ok(volume) => volume,
        Err(ExtError::Disk(error)) => return Err(error),
        Err(error) => return Ok(checked.damaged(error.to_string())),
    };
    match Mark::of(volume.superblock()) {
        Mark::Clean => {}
        Mark::HasErrors => checked.condition = Condition::Flagged,
        Mark::InUse => {
            checked.condition = Condition::CutOff;
            if let Err(error) = mark_clean(window) {
                return Ok(checked.damaged(error.to_string()));
            }
        }
    }
    Ok(checked)
}
