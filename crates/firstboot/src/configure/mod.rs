//! Putting first-boot settings on a medium: worked out, gathered in an overlay, then committed as
//! one.

mod choice;
mod extras;

use pinewrit_disk::{BlockDevice, CommitError, DiskError, FreeWrites, Window};
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::files::{FilesError, FilesystemOf, Rights};
use pinewrit_volume::grow::{self, GrowReport};
use pinewrit_volume::{Gathered, Site, Timestamp};
use schemars::JsonSchema;
use serde::Serialize;

use crate::intake::cloud_init::{self, MAX_FILE, SeedContext, SeedError};
use crate::intake::custom::CustomError;
use crate::intake::online::{self, Awaited};
use crate::intake::rootfs::{self, RootError};
pub use crate::intake::{ChangeKind, FileChange, HostKey};
use choice::Way;
pub use pinewrit_settings::IntakeWish;

/// What configuring changes, or has changed.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct ConfigureReport {
    /// The intake used: `cloud-init`, `rootfs`, or a custom one's name.
    pub intake: String,
    /// Why this intake was chosen.
    pub reason: String,
    /// Number of the partition that holds them; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Whether cloud-init finds the partition by its label. If not, the image must be configured to
    /// look there.
    pub found_by_label: bool,
    /// What manages the networks, if that was examined.
    pub network: Option<&'static str>,
    /// The files, changed or not.
    pub files: Vec<FileChange>,
    /// Remarks.
    pub notes: Vec<String>,
    /// The SSH host key that was made beforehand.
    pub host_key: Option<HostKey>,
    /// Whether anybody can log in; `None` if unknown.
    pub has_way_in: Option<bool>,
    /// What was grown.
    pub grown: Option<GrowReport>,
}

impl ConfigureReport {
    /// Whether the medium already has everything.
    pub fn is_unchanged(&self) -> bool {
        let has_grown = |grown: &GrowReport| grown.size > grown.before;
        !self.grown.as_ref().is_some_and(has_grown)
            && self.files.iter().all(|file| file.kind == ChangeKind::Same)
    }
}

/// Why a medium could not be configured. The medium is unchanged unless the error says otherwise.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ConfigureError {
    /// There is no FAT file system for the seed.
    #[error("the medium has no FAT partition to take the settings")]
    NoPlace {
        /// What there is instead: kinds of the partitions, in order.
        found: Vec<String>,
    },
    /// The seed could not be created.
    #[error("the settings could not be written down")]
    Seed(#[from] SeedError),
    /// The medium could not be read.
    #[error("the medium could not be read")]
    Disk(#[from] DiskError),
    /// The changes could not be committed.
    #[error("the changes could not be put on the medium")]
    Commit(#[from] CommitError),
    /// Files could not be read or changed.
    #[error(transparent)]
    Files(#[from] FilesError),
    /// The root file system cannot take them.
    #[error(transparent)]
    Root(#[from] RootError),
    /// A custom intake does not work.
    #[error(transparent)]
    Custom(#[from] CustomError),
    /// No root file system was found, or none that can be changed.
    #[error("there is no root file system that can be changed")]
    NoRoot {
        /// Why not, if one was found.
        because: Option<String>,
    },
    /// The preview of an image ended before a partition that may be its root, so nothing is known
    /// yet.
    #[error("partition {partition} was not looked into")]
    Unseen {
        /// The partition's number.
        partition: u32,
    },
    /// A setting that this intake does not support.
    #[error("{setting} is not supported by {intake}")]
    NotByThisIntake {
        /// The setting.
        setting: &'static str,
        /// The intake.
        intake: &'static str,
    },
    /// A text named in the settings could not be changed, or its place does not exist.
    #[error("line {line}: {what}")]
    Extra {
        /// Line in the settings.
        line: usize,
        /// What is wrong.
        what: String,
    },
}

impl ConfigureError {
    /// Whether it only says that a preview of the medium ended.
    pub fn is_out_of_reach(&self) -> bool {
        if let Self::Unseen { .. } = self {
            return true;
        }
        let mut cause: Option<&dyn std::error::Error> = Some(self);
        while let Some(error) = cause {
            let is_disk = error.downcast_ref::<DiskError>().is_some();
            if is_disk || error.downcast_ref::<std::io::Error>().is_some() {
                return true;
            }
            cause = error.source();
        }
        false
    }
}

/// Works out what `settings` change on `medium`, without changing it; changes get the time `now`.
///
/// # Errors
/// [`ConfigureError`].
pub fn prepare<'a>(
    medium: &'a dyn BlockDevice,
    settings: &CheckedSettings,
    now: Timestamp,
) -> Result<Gathered<'a, ConfigureReport>, ConfigureError> {
    Gathered::files(medium, FreeWrites::default(), now, |site| {
        apply(site, settings)
    })
}

/// Adds the settings to the site, as a part of a larger change.
///
/// # Errors
/// [`ConfigureError`].
pub fn apply(
    site: &mut Site<'_>,
    settings: &CheckedSettings,
) -> Result<ConfigureReport, ConfigureError> {
    let device = site.device;
    let mut notes = Vec::new();
    // What is chosen depends on what is in the files.
    site.recover()?;
    let grown = if settings.grows_root {
        match grow::grow(device, site.now) {
            Ok(grown) => Some(grown),
            Err(pinewrit_table::TableError::Disk(error)) => return Err(error.into()),
            Err(why) => {
                notes.push(format!("nothing was grown: {why}"));
                None
            }
        }
    } else {
        None
    };
    let chosen = choice::choose(device, settings, site.now)?;
    let mut report = ConfigureReport {
        intake: chosen.way.word().to_owned(),
        reason: chosen.reason,
        partition: chosen.filesystem.partition,
        found_by_label: true,
        network: None,
        files: Vec::new(),
        notes,
        host_key: None,
        has_way_in: None,
        grown,
    };
    let filesystem = chosen.filesystem;
    match &chosen.way {
        Way::Seed { folder } => {
            let is_labelled = filesystem.facts.label.as_deref();
            let is_labelled =
                is_labelled.is_some_and(|l| l.eq_ignore_ascii_case(cloud_init::LABEL));
            report.found_by_label = is_labelled || !folder.is_empty();
            let mut limits_wait = false;
            if let Some(root) = &chosen.root {
                wake_cloud_init(site, root, &mut report)?;
                limits_wait = limit_wait(site, root, settings, &mut report)?;
            }
            let context = SeedContext {
                existing: None,
                stock_user: chosen.stock_user.as_deref(),
                lacks_wpa3: chosen.lacks_wpa3,
                lacks_keyboard: chosen.lacks_keyboard,
                limits_wait,
            };
            if chosen.lacks_keyboard && settings.keyboard.is_some() {
                let note = "the image has no console-setup, which would read the keyboard's layout";
                report.notes.push(note.to_owned());
            }
            if chosen.lacks_wpa3 {
                rootfs::note_wpa3(settings, &mut report.notes);
            }
            put_seed(site, settings, &filesystem, folder, &context, &mut report)?;
            // Accounts from the settings, or one of the image's own.
            report.has_way_in = if settings.users.is_empty() {
                chosen.opens
            } else {
                Some(true)
            };
        }
        Way::Root => {
            let done = site.change(&filesystem, |files| {
                rootfs::apply(files, settings).map_err(ConfigureError::from)
            })?;
            report.files = done.changes;
            report.notes.extend(done.notes);
            report.host_key = done.host_key;
            report.network = done.network;
            report.has_way_in = Some(done.has_way_in);
        }
        Way::Custom(intake) => {
            // Its steps name the places.
            report.partition = None;
            report.files = intake.apply(site, settings)?;
        }
    }
    extras::apply(site, settings, &mut report)?;
    note_others(device, &mut report)?;
    Ok(report)
}

/// Removes what an earlier run of the rootfs intake used to disable cloud-init.
fn wake_cloud_init(
    site: &mut Site<'_>,
    root: &FilesystemOf,
    report: &mut ConfigureReport,
) -> Result<(), ConfigureError> {
    let window = Window::new(site.device, root.range);
    let text = pinewrit_volume::files::open_to_read(&window)?.text(rootfs::CLOUD_INIT_OFF)?;
    if text.as_deref() != Some(rootfs::CLOUD_INIT_OFF_TEXT) {
        return Ok(());
    }
    site.change(root, |files| files.remove(rootfs::CLOUD_INIT_OFF))?;
    report.files.push(FileChange {
        path: format!("root:{}", rootfs::CLOUD_INIT_OFF),
        kind: ChangeKind::Removed,
        diff: String::new(),
        hidden: false,
    });
    Ok(())
}

/// Limits how long systemd-networkd lets a start wait for a network; a seed alone would only do so
/// from the second start on. `false` if the image has no such wait.
fn limit_wait(
    site: &mut Site<'_>,
    root: &FilesystemOf,
    settings: &CheckedSettings,
    report: &mut ConfigureReport,
) -> Result<bool, ConfigureError> {
    let path = online::WAIT_FILE;
    let window = Window::new(site.device, root.range);
    let files = pinewrit_volume::files::open_to_read(&window)?;
    let mut program = None;
    for place in online::WAIT_PROGRAMS {
        if program.is_none() && files.has(place)? {
            program = Some(place);
        }
    }
    let Some(program) = program else {
        return Ok(false);
    };
    let text = Awaited::by(settings).limit(program);
    let old = files.text(path)?;
    drop(files);
    let change = file_change(
        &format!("root:{path}"),
        old.as_deref().map(str::as_bytes),
        &text,
    );
    if change.kind != ChangeKind::Same {
        site.change(root, |files| {
            files.make_folders(pinewrit_volume::files::above(path), Rights::root(0o755))?;
            files.put(path, Rights::root(0o644), text.as_bytes())
        })?;
    }
    report.files.push(change);
    Ok(true)
}

/// Settings of another intake that are also on the medium.
fn note_others(
    device: &dyn BlockDevice,
    report: &mut ConfigureReport,
) -> Result<(), ConfigureError> {
    for filesystem in pinewrit_volume::files::filesystems(device)? {
        let window = Window::new(device, filesystem.range);
        let found = crate::intake::find_settings(&window, filesystem.partition);
        let Some(found) = found.filter(|found| found.intake != report.intake) else {
            continue;
        };
        let place = match found.partition {
            Some(number) => format!("partition {number}"),
            None => "the medium".to_owned(),
        };
        let intake = &found.intake;
        report.notes.push(format!(
            "{place} also has settings by {intake}, from an earlier run"
        ));
    }
    Ok(())
}

fn put_seed(
    site: &mut Site<'_>,
    settings: &CheckedSettings,
    filesystem: &FilesystemOf,
    folder: &str,
    context: &SeedContext<'_>,
    report: &mut ConfigureReport,
) -> Result<(), ConfigureError> {
    if settings.stock_user == Some(pinewrit_settings::StockUser::Rename) {
        return Err(ConfigureError::NotByThisIntake {
            setting: "stock-user = \"rename\"",
            intake: "cloud-init",
        });
    }
    let hidden = Rights::root(0o600);
    let made = site.change(filesystem, |files| {
        let path = |name: &str| format!("{folder}/{name}");
        let existing = files.read(&path(cloud_init::USER_DATA), MAX_FILE)?;
        let existing = existing.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
        let context = SeedContext {
            existing: existing.as_deref(),
            ..*context
        };
        let seed = cloud_init::seed(settings, &context)?;
        let dropped = cloud_init::dropped(existing.as_deref(), &seed);
        if !dropped.is_empty() {
            report.notes.push(format!(
                "cloud-init undoes nothing: on a unit that has booted, {} of the earlier settings stay",
                dropped.join(", ")
            ));
        }
        files.make_folders(folder, Rights::root(0o755))?;
        for file in &seed.files {
            let path = path(file.name);
            let old = files.read(&path, MAX_FILE)?;
            let change = file_change(&path, old.as_deref(), &file.content);
            if change.kind != ChangeKind::Same {
                files.put(&path, hidden, file.content.as_bytes())?;
            }
            report.files.push(change);
        }
        Ok::<_, ConfigureError>(seed)
    })?;
    report.host_key = made.host_key;
    if report.host_key.is_some() && folder.is_empty() {
        let note =
            "the host key is on the boot partition, where every user of the unit can read it";
        report.notes.push(note.to_owned());
    }
    Ok(())
}

fn file_change(name: &str, old: Option<&[u8]>, new: &str) -> FileChange {
    let kind = match old {
        None => ChangeKind::New,
        Some(old) if old == new.as_bytes() => ChangeKind::Same,
        Some(_) => ChangeKind::Changed,
    };
    let old = String::from_utf8_lossy(old.unwrap_or_default());
    let (old, new) = (cloud_init::redact(&old), cloud_init::redact(new));
    let diff = pinewrit_volume::text_diff(old.as_bytes(), new.as_bytes());
    FileChange {
        path: name.to_owned(),
        kind,
        diff,
        hidden: false,
    }
}
