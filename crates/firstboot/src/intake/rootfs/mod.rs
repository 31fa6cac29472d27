//! The `rootfs` intake: settings become files in the root file system, as its own programs would
//! write them.

mod accounts;
mod autologin;
mod network;
mod regional;
mod revert;
mod services;
mod ssh;
mod swap;
mod writer;

use pinewrit_settings::{CheckedSettings, HashError};
use pinewrit_volume::files::{Files, FilesError, MAX_TEXT, Rights};

use crate::intake::cloud_init::SeedError;
use crate::intake::first_start::{self, Step, When};
use crate::intake::{FileChange, HostKey};

pub(crate) use accounts::stock_user_of;
pub(crate) use autologin::{CONSOLES, console, desktop_files};
pub(crate) use network::{knows_wpa3, note_wpa3};
pub(crate) use regional::lacks_keyboard;
pub(crate) use writer::{STATE, State, digest};
use writer::{Secrecy, Writer};

/// Why settings could not be put into a root file system.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RootError {
    /// A file could not be read or changed.
    #[error(transparent)]
    Files(#[from] FilesError),
    /// A password could not be hashed.
    #[error(transparent)]
    Hash(#[from] HashError),
    /// A text could not be converted to YAML.
    #[error(transparent)]
    Yaml(#[from] SeedError),
    /// There is no `/etc/passwd`.
    #[error("the root file system has no /etc/passwd")]
    NoAccounts,
    /// All ids are in use.
    #[error("no id is left for another user or group")]
    NoNumber,
    /// The id for a user belongs to another account.
    #[error("the uid {uid} for {user} belongs to another account of the image")]
    UidInUse {
        /// The user.
        user: String,
        /// The number.
        uid: u32,
    },
    /// A user already exists, with a different id than in the settings.
    #[error("{user} already has the uid {uid}, and files that belong to it")]
    OtherUid {
        /// The user.
        user: String,
        /// The id on the unit.
        uid: u32,
    },
    /// How the image manages networks is unknown.
    #[error("no network manager was found in the image")]
    NoNetwork,
    /// dhcpcd only requests addresses.
    #[error("the image's networks are managed by dhcpcd, which does not support {what}: {name}")]
    NotByDhcpcd {
        /// A bridge or a bond.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The swap file is larger than the free space.
    #[error("a swap file of {size} bytes does not fit: the root has {room} bytes free")]
    NoRoomForSwap {
        /// Its size, in bytes.
        size: u64,
        /// Free space with everything else in place, in bytes.
        room: u64,
    },
    /// No host key could be made.
    #[error("no host key could be generated")]
    NoKey,
}

/// The changes to a root file system.
pub(crate) struct RootReport {
    pub(crate) changes: Vec<FileChange>,
    pub(crate) notes: Vec<String>,
    pub(crate) host_key: Option<HostKey>,
    /// The manager of its networks.
    pub(crate) network: Option<&'static str>,
    /// Whether anybody can log in.
    pub(crate) has_way_in: bool,
}

/// Puts the settings into a root file system.
///
/// # Errors
/// [`RootError`]; the changes so far are then useless.
pub(crate) fn apply(
    files: &mut Files<'_>,
    settings: &CheckedSettings,
) -> Result<RootReport, RootError> {
    let mut writer = Writer::new(files)?;
    let accounts = accounts::apply(&mut writer, settings)?;
    let mut steps = regional::apply(&mut writer, settings)?;
    forget_identity(&mut writer)?;
    let host_key = ssh::apply(&mut writer, settings)?;
    let network = network::apply(&mut writer, settings)?;
    swap::apply(&mut writer, settings)?;
    autologin::apply(&mut writer, settings)?;
    quiet_cloud_init(&mut writer)?;
    steps.extend(first_steps(&mut writer, settings)?);
    if !steps.is_empty() && !services::run_steps(&mut writer, &steps)? {
        writer.note("nothing is known of how this image starts programs: no first-start commands");
    }
    tell_steps(&mut writer, &steps)?;
    writer.clear_old()?;
    writer.keep_state()?;
    let has_way_in = has_way_in(&writer, &accounts, settings)?;
    Ok(RootReport {
        changes: writer.changes,
        notes: writer.notes,
        host_key,
        network,
        has_way_in,
    })
}

/// What disables cloud-init (cloud-init's documentation, "How to disable cloud-init").
pub(crate) const CLOUD_INIT_OFF: &str = "/etc/cloud/cloud-init.disabled";
pub(crate) const CLOUD_INIT_OFF_TEXT: &str =
    "# Written by Pinewrit: the settings are in the root file system.\n";

/// Without a seed, cloud-init would still replace host keys and the host name at the first start.
fn quiet_cloud_init(writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
    if !writer.has("/usr/bin/cloud-init")? {
        return Ok(());
    }
    let is_own = writer.text(CLOUD_INIT_OFF)?.as_deref() == Some(CLOUD_INIT_OFF_TEXT);
    if writer.has(CLOUD_INIT_OFF)? && !is_own {
        return Ok(());
    }
    writer.note("cloud-init is switched off, so that it does not undo this at the first start");
    let open = Rights::root(0o644);
    writer.file(CLOUD_INIT_OFF, open, CLOUD_INIT_OFF_TEXT, Secrecy::Open)
}

/// An identity that came with the image would be the same on every card.
fn forget_identity(writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
    // A unit that has run since already has its own.
    if writer.old.is_some() {
        return Ok(());
    }
    let path = "/etc/machine-id";
    let text = writer.text(path)?.unwrap_or_default();
    if text.trim().len() == 32 {
        writer.lasting(path, Rights::root(0o444), "", Secrecy::Open)?;
    }
    let bus = "/var/lib/dbus/machine-id";
    let facts = writer.files.facts(bus)?;
    if facts.is_some_and(|facts| facts.target.is_none()) {
        writer.remove(bus)
    } else {
        Ok(())
    }
}

/// Packages first: commands may need them.
fn first_steps(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Vec<Step>, FilesError> {
    let first = &settings.first_start;
    let mut steps = Vec::new();
    if !first.packages.is_empty() {
        let names = first.packages.join(" ");
        let managers = [
            (
                "/usr/bin/apt-get",
                "apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install -y",
            ),
            ("/usr/bin/dnf", "dnf install -y"),
            ("/sbin/apk", "apk add"),
            ("/usr/bin/pacman", "pacman -Sy --noconfirm"),
            ("/usr/bin/zypper", "zypper --non-interactive install"),
        ];
        let mut found = None;
        for (path, command) in managers {
            if found.is_none() && writer.has(path)? {
                found = Some(command);
            }
        }
        match found {
            Some(command) => {
                let command = format!("{command} {names}");
                steps.push(Step::new(&command, When::UntilDone));
            }
            None => writer.note(format!(
                "nothing that installs packages was found: {names} left out"
            )),
        }
    }
    steps.extend(Step::commands(first));
    Ok(steps)
}

/// On a unit that has started before: which steps are still pending.
fn tell_steps(writer: &mut Writer<'_, '_>, steps: &[Step]) -> Result<(), FilesError> {
    let marks = writer.files.names(first_start::MARKS)?;
    let Some(marks) = marks.filter(|_| writer.old.is_some()) else {
        return Ok(());
    };
    let is_marked = |step: &&Step| !matches!(step.when, When::Unless(_));
    let (done, new): (Vec<&Step>, Vec<&Step>) = steps
        .iter()
        .filter(is_marked)
        .partition(|step| marks.contains(&step.mark));
    if !done.is_empty() || !new.is_empty() {
        writer.note(format!(
            "the unit has started before: {} of its first-start steps run at the next start, {} {} done already",
            new.len(),
            done.len(),
            if done.len() == 1 { "was" } else { "were" },
        ));
    }
    Ok(())
}

/// A key, or a password that the SSH server or a console accepts.
fn has_way_in(
    writer: &Writer<'_, '_>,
    accounts: &accounts::Accounts,
    settings: &CheckedSettings,
) -> Result<bool, FilesError> {
    let has_keys = settings.users.iter().any(|user| !user.ssh_keys.is_empty());
    Ok(has_keys || is_open(writer.files, accounts)?)
}

fn is_open(files: &Files<'_>, accounts: &accounts::Accounts) -> Result<bool, FilesError> {
    if !accounts.with_password().is_empty() {
        return Ok(true);
    }
    for (_, home) in accounts.homes() {
        let keys = files.small(&format!("{home}/.ssh/authorized_keys"), MAX_TEXT)?;
        if keys.is_some_and(|keys| !keys.trim_ascii().is_empty()) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Whether a root file system has an account that allows login by password or key, if known.
pub(crate) fn opens(files: &Files<'_>) -> Result<Option<bool>, FilesError> {
    let accounts = match accounts::Accounts::read(files) {
        Err(RootError::Files(error)) if error.disk().is_some() => return Err(error),
        Err(_) => return Ok(None),
        Ok(accounts) => accounts,
    };
    match is_open(files, &accounts) {
        Err(error) if error.disk().is_some() => Err(error),
        told => Ok(told.ok()),
    }
}
