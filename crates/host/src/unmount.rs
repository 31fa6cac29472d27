//! Unmounting a medium, and finding out who prevents it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use rustix::mount::{UnmountFlags, unmount};

use crate::{BlockName, SystemRoots};

/// A program that uses a mounted file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub pid: u32,
    /// Its name.
    pub name: String,
}

/// Why something stays mounted.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum UnmountError {
    /// Programs use it.
    #[error("{} is in use", point.display())]
    InUse {
        /// Where it is mounted.
        point: PathBuf,
        /// Those that could be found.
        users: Vec<Process>,
    },
    /// The system does not permit it to this user.
    #[error("no permission to unmount {}", point.display())]
    Permission {
        /// Where it is mounted.
        point: PathBuf,
    },
    /// The system failed.
    #[error("{} could not be unmounted", point.display())]
    Io {
        /// Where it is mounted.
        point: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
}

/// A desktop may mount a partition again while the next one is being unmounted.
const ROUNDS: usize = 5;

impl SystemRoots {
    /// Unmounts every partition of a whole device, wherever it is mounted. Returns where that was.
    ///
    /// # Errors
    /// [`UnmountError`]; what was unmounted before stays so.
    pub fn unmount(&self, whole: &BlockName) -> Result<Vec<PathBuf>, UnmountError> {
        let mut own = vec![whole.clone()];
        own.extend(self.partitions(whole));
        let mut done = Vec::new();
        for _ in 0..ROUNDS {
            let mounts = self.mounts().map_err(|source| UnmountError::Io {
                point: self.proc.clone(),
                source,
            })?;
            let mut points: Vec<_> = mounts
                .into_iter()
                .filter(|mount| own.contains(&mount.device))
                .map(|mount| mount.point)
                .collect();
            if points.is_empty() {
                break;
            }
            // What was mounted last may lie in what was mounted first.
            points.reverse();
            for point in points {
                let answer = unmount(point.as_path(), UnmountFlags::NOFOLLOW);
                self.explained(answer.map_err(io::Error::from), &point)?;
                done.push(point);
            }
        }
        for found in self.mounts_elsewhere(&own) {
            let answer = self.unmount_elsewhere(&found);
            self.explained(answer, &found.mount.point)?;
            done.push(found.mount.point);
        }
        Ok(done)
    }

    /// The system's answer to unmounting `point`, with the programs in the way.
    fn explained(&self, answer: io::Result<()>, point: &Path) -> Result<(), UnmountError> {
        let Err(source) = answer else {
            return Ok(());
        };
        let point = point.to_owned();
        Err(match source.kind() {
            io::ErrorKind::ResourceBusy => UnmountError::InUse {
                users: self.users_of(&point),
                point,
            },
            io::ErrorKind::PermissionDenied => UnmountError::Permission { point },
            _ => UnmountError::Io { point, source },
        })
    }

    /// The programs that have a file or their working folder below `point`.
    pub fn users_of(&self, point: &Path) -> Vec<Process> {
        let Ok(entries) = fs::read_dir(&self.proc) else {
            return Vec::new();
        };
        let mut users: Vec<Process> = entries
            .flatten()
            .filter_map(|entry| {
                let pid = entry.file_name().to_str()?.parse().ok()?;
                let folder = entry.path();
                uses(&folder, point).then(|| Process::at(&folder, pid))
            })
            .collect();
        users.sort_by_key(|user| user.pid);
        users
    }
}

fn uses(process: &Path, point: &Path) -> bool {
    let leads_there = |link: &Path| fs::read_link(link).is_ok_and(|to| to.starts_with(point));
    let own = ["cwd", "root", "exe"]
        .iter()
        .any(|link| leads_there(&process.join(link)));
    let files = fs::read_dir(process.join("fd"))
        .into_iter()
        .flatten()
        .flatten();
    own || files
        .map(|entry| entry.path())
        .any(|link| leads_there(&link))
}

impl Process {
    /// The process with this folder below `/proc`.
    pub(crate) fn at(folder: &Path, pid: u32) -> Self {
        let text = fs::read_to_string(folder.join("comm")).unwrap_or_default();
        let name = text.trim().chars().filter(|c| !c.is_control()).collect();
        Self { pid, name }
    }
}
