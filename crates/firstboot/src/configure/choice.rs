//! Which intake an image has: requested, or detected.

use pinewrit_disk::{BlockDevice, ByteRange, Window};
use pinewrit_settings::{CheckedSettings, IntakeWish};
use pinewrit_table::{NewPartition, PartitionSize, PartitionType, TableEdit, TableError};
use pinewrit_volume::Timestamp;
use pinewrit_volume::files::{
    Files, FilesError, FilesystemOf, filesystems, first_unseen, open_to_change, open_to_read,
};
use pinewrit_volume::format::{FatKind, FormatError, FormatKind, FormatOptions, format};

use super::ConfigureError;
use crate::intake::cloud_init;
use crate::intake::custom::CustomIntake;
use crate::intake::rootfs;

/// How the settings reach the system.
pub(super) enum Way {
    /// A seed in this folder; empty for the file system's root.
    Seed { folder: &'static str },
    /// Files in the root file system.
    Root,
    /// As described.
    Custom(Box<CustomIntake>),
}

impl Way {
    pub(super) fn word(&self) -> &str {
        match self {
            Self::Seed { .. } => "cloud-init",
            Self::Root => "rootfs",
            Self::Custom(intake) => &intake.name,
        }
    }
}

pub(super) struct Chosen {
    pub(super) way: Way,
    pub(super) reason: String,
    pub(super) filesystem: FilesystemOf,
    /// The root file system, if it can be changed.
    pub(super) root: Option<FilesystemOf>,
    /// The image's own user, if it can be determined.
    pub(super) stock_user: Option<String>,
    /// The image's netplan does not support WPA3.
    pub(super) lacks_wpa3: bool,
    /// Nothing in the image sets the console's keyboard.
    pub(super) lacks_keyboard: bool,
    /// Whether the image has an account that allows login; `None` if unknown.
    pub(super) opens: Option<bool>,
}

/// Where cloud-init looks in the root file system.
const SEED_FOLDER: &str = "/var/lib/cloud/seed/nocloud";

/// What there is to choose from.
struct Found {
    all: Vec<FilesystemOf>,
    root: Option<FilesystemOf>,
    labelled: Option<FilesystemOf>,
    fat: Option<FilesystemOf>,
}

impl Found {
    fn on(device: &dyn BlockDevice) -> Result<Self, ConfigureError> {
        let all = filesystems(device)?;
        let is_labelled = |one: &&FilesystemOf| {
            let label = one.facts.label.as_deref();
            label.is_some_and(|label| label.eq_ignore_ascii_case(cloud_init::LABEL))
        };
        let fats: Vec<&FilesystemOf> = all.iter().filter(|one| one.facts.kind.is_fat()).collect();
        let labelled = fats.iter().find(|one| is_labelled(one));
        Ok(Self {
            root: all.iter().find(|one| one.is_root()).cloned(),
            labelled: labelled.map(|one| (*one).clone()),
            fat: fats.first().map(|one| (*one).clone()),
            all,
        })
    }

    fn no_place(&self, device: &dyn BlockDevice) -> ConfigureError {
        let table = pinewrit_table::PartitionTable::read(device).ok().flatten();
        let kinds = self
            .all
            .iter()
            .map(|one| (one.partition, one.facts.kind.to_string()));
        let mut found: Vec<(Option<u32>, String)> = kinds.collect();
        for partition in table.iter().flat_map(|table| &table.partitions) {
            if !found
                .iter()
                .any(|(number, _)| *number == Some(partition.number))
            {
                found.push((Some(partition.number), partition.kind.to_string()));
            }
        }
        found.sort();
        let text = |(number, kind): (Option<u32>, String)| match number {
            Some(number) => format!("{number} {kind}"),
            None => kind,
        };
        ConfigureError::NoPlace {
            found: found.into_iter().map(text).collect(),
        }
    }
}

/// Chooses the intake.
pub(super) fn choose(
    device: &dyn BlockDevice,
    settings: &CheckedSettings,
    now: Timestamp,
) -> Result<Chosen, ConfigureError> {
    let found = Found::on(device)?;
    if let (None, Some(partition)) = (&found.root, first_unseen(device)?) {
        return Err(ConfigureError::Unseen { partition });
    }
    let asked = "you asked for it".to_owned();
    let root_facts = found.root.as_ref().map(|root| look(device, root));
    let root_facts = root_facts.transpose()?.unwrap_or_default();
    let chosen = |way, filesystem: &FilesystemOf, reason: String| Chosen {
        way,
        reason,
        filesystem: filesystem.clone(),
        root: changeable_root(device, &found, now).ok().cloned(),
        stock_user: root_facts.stock_user.clone(),
        lacks_wpa3: root_facts.lacks_wpa3,
        lacks_keyboard: root_facts.lacks_keyboard,
        opens: root_facts.opens,
    };
    match &settings.intake {
        Some(IntakeWish::Root) => {
            let root = changeable_root(device, &found, now)?;
            return Ok(chosen(Way::Root, root, asked));
        }
        Some(IntakeWish::Described(text)) => {
            let intake = Box::new(CustomIntake::parse(text)?);
            let any = found.root.as_ref().or(found.fat.as_ref());
            let any = any.ok_or_else(|| found.no_place(device))?;
            return Ok(chosen(Way::Custom(intake), any, asked));
        }
        Some(IntakeWish::CloudInit) => {
            let root = changeable_root(device, &found, now).ok();
            if let Some(labelled) = &found.labelled {
                return Ok(chosen(Way::Seed { folder: "" }, labelled, asked));
            }
            if let Some(root) = root {
                let folder = SEED_FOLDER;
                return Ok(chosen(Way::Seed { folder }, root, asked));
            }
            if let Some(added) = add_seed_partition(device, now)? {
                let reason = format!("{asked}; a partition labelled CIDATA was added for it");
                return Ok(chosen(Way::Seed { folder: "" }, &added, reason));
            }
            let fat = found.fat.as_ref().ok_or_else(|| found.no_place(device))?;
            return Ok(chosen(Way::Seed { folder: "" }, fat, asked));
        }
        None => {}
    }
    match (&found.labelled, &found.root, &found.fat) {
        (Some(labelled), Some(_), _) if root_facts.cloud_init == CloudInit::On => {
            let number = labelled.partition.unwrap_or(0);
            let reason =
                format!("the image has cloud-init, and partition {number} is labelled CIDATA");
            Ok(chosen(Way::Seed { folder: "" }, labelled, reason))
        }
        (None, Some(root), _) if root_facts.cloud_init == CloudInit::On => {
            let reason = "the image has cloud-init, and no partition labelled CIDATA".to_owned();
            let folder = SEED_FOLDER;
            Ok(chosen(Way::Seed { folder }, root, reason))
        }
        (_, Some(_), _) => {
            let root = changeable_root(device, &found, now)?;
            let cloud_init = match root_facts.cloud_init {
                CloudInit::SwitchedOff => "the image's cloud-init is disabled",
                _ => "the image has no cloud-init",
            };
            let kind = root.facts.kind;
            let reason = format!("{cloud_init}, and its root is {kind} that can be changed");
            Ok(chosen(Way::Root, root, reason))
        }
        (Some(labelled), None, _) => {
            let reason = "a partition is labelled CIDATA".to_owned();
            Ok(chosen(Way::Seed { folder: "" }, labelled, reason))
        }
        (None, None, Some(fat)) => {
            let reason = "no root file system can be looked into; a seed for cloud-init is what \
                          most images take"
                .to_owned();
            Ok(chosen(Way::Seed { folder: "" }, fat, reason))
        }
        (None, None, None) => Err(found.no_place(device)),
    }
}

/// Size of a partition for a seed alone, in bytes.
const SEED_SIZE: u64 = 8 << 20;

/// Adds a small partition for the seed; `None` if there is no table, or no room in it.
fn add_seed_partition(
    device: &dyn BlockDevice,
    now: Timestamp,
) -> Result<Option<FilesystemOf>, ConfigureError> {
    let ids = &mut || *uuid::Uuid::new_v4().as_bytes();
    let mut table = match TableEdit::read(device) {
        Ok(table) => table,
        Err(TableError::Disk(error)) => return Err(error.into()),
        Err(_) => return Ok(None),
    };
    let kind = PartitionType::from_text("fat12", table.scheme())
        .or_else(|| PartitionType::from_text("fat32", table.scheme()));
    let Some(kind) = kind else {
        return Ok(None);
    };
    let new = NewPartition::new(kind, PartitionSize::Bytes(SEED_SIZE));
    let Ok(number) = table.add(&new, ids) else {
        return Ok(None);
    };
    let sector = device.logical_sector().bytes();
    let slot = table.partitions().iter().find(|slot| slot.number == number);
    let range = slot.map(|slot| ByteRange {
        start: slot.first.0 * sector,
        end: (slot.first.0 + slot.sectors) * sector,
    });
    let Some(range) = range else {
        return Ok(None);
    };
    match table.write(device) {
        Ok(()) => {}
        Err(TableError::Disk(error)) => return Err(error.into()),
        Err(_) => return Ok(None),
    }
    let mut seed = [0; 32];
    seed[..16].copy_from_slice(&ids());
    let options = FormatOptions {
        start: range.start,
        ..FormatOptions::new(
            FormatKind::Fat(FatKind::BySize),
            cloud_init::LABEL,
            seed,
            now,
        )
    };
    let window = Window::new(device, range);
    format(&window, &options).map_err(|error| match error {
        FormatError::Disk(error) => ConfigureError::Disk(error),
        other => FilesError::Unsound(other.to_string()).into(),
    })?;
    let all = filesystems(device)?;
    Ok(all.into_iter().find(|one| one.partition == Some(number)))
}

fn changeable_root<'f>(
    device: &dyn BlockDevice,
    found: &'f Found,
    now: Timestamp,
) -> Result<&'f FilesystemOf, ConfigureError> {
    let root = found.root.as_ref();
    let root = root.ok_or(ConfigureError::NoRoot { because: None })?;
    match open_to_change(&Window::new(device, root.range), now) {
        Ok(_) => Ok(root),
        Err(error) if error.disk().is_some() => Err(error.into()),
        Err(error) => Err(ConfigureError::NoRoot {
            because: Some(error.to_string()),
        }),
    }
}

/// Whether the image has cloud-init, and whether it runs.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
enum CloudInit {
    #[default]
    Absent,
    SwitchedOff,
    On,
}

#[derive(Default)]
struct RootFacts {
    cloud_init: CloudInit,
    stock_user: Option<String>,
    lacks_wpa3: bool,
    lacks_keyboard: bool,
    opens: Option<bool>,
}

fn look(device: &dyn BlockDevice, root: &FilesystemOf) -> Result<RootFacts, ConfigureError> {
    let window = Window::new(device, root.range);
    let files: Files<'_> = open_to_read(&window)?;
    Ok(RootFacts {
        cloud_init: match files.has("/usr/bin/cloud-init")? {
            false => CloudInit::Absent,
            true if files.has_name(rootfs::CLOUD_INIT_OFF)? => CloudInit::SwitchedOff,
            true => CloudInit::On,
        },
        stock_user: rootfs::stock_user_of(&files)?,
        lacks_wpa3: !rootfs::knows_wpa3(&files)?,
        lacks_keyboard: rootfs::lacks_keyboard(&files)?,
        opens: rootfs::opens(&files)?,
    })
}
