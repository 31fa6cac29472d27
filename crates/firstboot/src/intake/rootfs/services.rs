//! Services: enabled and disabled in the way of the image's init system.

use pinewrit_volume::files::{FilesError, Rights};

use super::writer::{Secrecy, State, Writer};
use crate::intake::first_start::{self, Step};

/// The init system.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Init {
    Systemd,
    OpenRc,
    SysV,
    Unknown,
}

/// Where packages put systemd units.
const UNITS: [&str; 3] = [
    "/etc/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
];
/// Run levels of SysV in which services run.
const LEVELS: [u8; 4] = [2, 3, 4, 5];

impl Init {
    pub(super) fn of(writer: &Writer<'_, '_>) -> Result<Self, FilesError> {
        let marks = [
            (
                Self::Systemd,
                &["/usr/lib/systemd/systemd", "/lib/systemd/systemd"][..],
            ),
            (
                Self::OpenRc,
                &["/sbin/openrc-run", "/sbin/openrc", "/usr/sbin/openrc"],
            ),
            (
                Self::SysV,
                &["/etc/inittab", "/etc/init.d/rc", "/etc/init.d/rcS"],
            ),
        ];
        for (init, paths) in marks {
            if writer.has_any(paths)? {
                return Ok(init);
            }
        }
        Ok(Self::Unknown)
    }
}

/// The path of a unit's file.
pub(super) fn unit(writer: &Writer<'_, '_>, name: &str) -> Result<Option<String>, FilesError> {
    for folder in UNITS {
        let place = format!("{folder}/{name}");
        if writer.has(&place)? {
            return Ok(Some(place));
        }
    }
    Ok(None)
}

/// Enables the first of these services that the image has; `false` if it has none.
pub(super) fn enable(writer: &mut Writer<'_, '_>, names: &[&str]) -> Result<bool, FilesError> {
    match Init::of(writer)? {
        Init::Systemd => {
            for name in names {
                // An instance is a link to its template.
                let file = match name.split_once('@') {
                    Some((template, _)) => format!("{template}@.service"),
                    None => format!("{name}.service"),
                };
                if let Some(place) = unit(writer, &file)? {
                    let wants = wanted_by(writer, &place)?;
                    let link = format!("/etc/systemd/system/{wants}.wants/{name}.service");
                    // What the image itself had enabled is not recorded as ours.
                    let is_own = |old: &State| old.links.contains_key(&link);
                    if !writer.files.has_name(&link)? || writer.old.as_ref().is_some_and(is_own) {
                        writer.link(&link, &place)?;
                    }
                    return Ok(true);
                }
            }
            Ok(false)
        }
        Init::OpenRc => {
            for name in names {
                let script = format!("/etc/init.d/{name}");
                if writer.has(&script)? {
                    writer.link(&format!("/etc/runlevels/default/{name}"), &script)?;
                    return Ok(true);
                }
            }
            Ok(false)
        }
        Init::SysV => {
            for name in names {
                if !writer.has(&format!("/etc/init.d/{name}"))? {
                    continue;
                }
                let target = format!("../init.d/{name}");
                for level in LEVELS {
                    let folder = format!("/etc/rc{level}.d");
                    remove_links(writer, &folder, name)?;
                    writer.link(&format!("{folder}/S02{name}"), &target)?;
                }
                return Ok(true);
            }
            Ok(false)
        }
        Init::Unknown => Ok(false),
    }
}

/// The target that wants a unit.
fn wanted_by(writer: &Writer<'_, '_>, place: &str) -> Result<String, FilesError> {
    let text = writer.text(place)?.unwrap_or_default();
    let wanted = text
        .lines()
        .find_map(|line| line.trim().strip_prefix("WantedBy="));
    let first = wanted.and_then(|wanted| wanted.split_whitespace().next());
    Ok(first.unwrap_or("multi-user.target").to_owned())
}

fn remove_links(writer: &mut Writer<'_, '_>, folder: &str, name: &str) -> Result<(), FilesError> {
    for entry in writer.files.names(folder)?.unwrap_or_default() {
        let is_own = entry.starts_with(['S', 'K']) && entry.get(3..) == Some(name);
        if is_own {
            writer.remove(&format!("{folder}/{entry}"))?;
        }
    }
    Ok(())
}

/// Disables those of these services that exist.
pub(super) fn disable(writer: &mut Writer<'_, '_>, names: &[&str]) -> Result<(), FilesError> {
    match Init::of(writer)? {
        Init::Systemd => {
            for folder in writer
                .files
                .names("/etc/systemd/system")?
                .unwrap_or_default()
            {
                if !folder.ends_with(".wants") && !folder.ends_with(".requires") {
                    continue;
                }
                for name in names {
                    for kind in ["service", "socket"] {
                        writer.remove(&format!("/etc/systemd/system/{folder}/{name}.{kind}"))?;
                    }
                }
            }
            Ok(())
        }
        Init::OpenRc => names
            .iter()
            .try_for_each(|name| writer.remove(&format!("/etc/runlevels/default/{name}"))),
        Init::SysV => {
            for level in LEVELS {
                let folder = format!("/etc/rc{level}.d");
                for name in names {
                    remove_links(writer, &folder, name)?;
                    if writer.has(&format!("/etc/init.d/{name}"))? {
                        let target = format!("../init.d/{name}");
                        writer.link(&format!("{folder}/K02{name}"), &target)?;
                    }
                }
            }
            Ok(())
        }
        Init::Unknown => Ok(()),
    }
}

/// Masks a systemd unit, so that it never starts.
pub(super) fn mask(writer: &mut Writer<'_, '_>, name: &str) -> Result<(), FilesError> {
    match unit(writer, name)? {
        Some(_) => writer.link(&format!("/etc/systemd/system/{name}"), "/dev/null"),
        None => Ok(()),
    }
}

const FIRST_START: &str = "pinewrit-first-start";
const SCRIPT: &str = "/var/lib/pinewrit/first-start";

/// Runs steps at starts, each once, with a log. `false` if the image's init system is unknown.
pub(super) fn run_steps(writer: &mut Writer<'_, '_>, steps: &[Step]) -> Result<bool, FilesError> {
    writer.folder("/var/lib/pinewrit", Rights::root(0o700))?;
    let script = first_start::script(steps, first_start::LOG);
    // Commands may contain secrets.
    writer.file(SCRIPT, Rights::root(0o700), &script, Secrecy::Secret)?;
    match Init::of(writer)? {
        Init::Systemd => {
            // The start completes before all steps do: some take minutes, or wait for a network.
            let unit = format!(
                "# Written by Pinewrit.\n[Unit]\nDescription=Commands of the first start\n\n\
                 [Service]\nType=simple\nExecStart={SCRIPT}\nRemainAfterExit=yes\n\n\
                 [Install]\nWantedBy=multi-user.target\n"
            );
            let path = format!("/etc/systemd/system/{FIRST_START}.service");
            writer.file(&path, Rights::root(0o644), &unit, Secrecy::Open)?;
        }
        Init::OpenRc => {
            let script = format!(
                "#!/sbin/openrc-run\n# Written by Pinewrit.\ndescription=\"Commands of the first start\"\n\
                 depend() {{\n\tafter net\n}}\nstart() {{\n\tebegin \"First start\"\n\t{SCRIPT} &\n\teend $?\n}}\n"
            );
            let path = format!("/etc/init.d/{FIRST_START}");
            writer.file(&path, Rights::root(0o755), &script, Secrecy::Open)?;
        }
        Init::SysV => {
            let script = format!(
                "#!/bin/sh\n# Written by Pinewrit.\n### BEGIN INIT INFO\n# Provides: {FIRST_START}\n\
                 # Required-Start: $remote_fs $network\n# Required-Stop:\n# Default-Start: 2 3 4 5\n\
                 # Default-Stop:\n### END INIT INFO\n[ \"$1\" = start ] && {SCRIPT} &\nexit 0\n"
            );
            let path = format!("/etc/init.d/{FIRST_START}");
            writer.file(&path, Rights::root(0o755), &script, Secrecy::Open)?;
        }
        Init::Unknown => return Ok(false),
    }
    enable(writer, &[FIRST_START])
}
