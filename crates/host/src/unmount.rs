//! Unmounting what is mounted of a medium, and who keeps it.

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
    /// The system does not allow it to this user.
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
                self.unmount_point(&point)?;
                done.push(point);
            }
        }
        Ok(done)
    }

    fn unmount_point(&self, point: &Path) -> Result<(), UnmountError> {
        let Err(error) = unmount(point, UnmountFlags::NOFOLLOW) else {
            return Ok(());
        };
        let source = io::Error::from(error);
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
                uses(&folder, point).then(|| Process {
                    pid,
                    name: name(&folder),
                })
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

fn name(process: &Path) -> String {
    let text = fs::read_to_string(process.join("comm")).unwrap_or_default();
    text.trim().chars().filter(|c| !c.is_control()).collect()
}
