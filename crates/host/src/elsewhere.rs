//! Mounts that only other programs see: each mount namespace has a list of its own.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io;
use std::os::fd::AsFd;
use std::path::PathBuf;
use std::thread;

use rustix::mount::{UnmountFlags, unmount};
use rustix::thread::{LinkNameSpaceType, UnshareFlags, move_into_link_name_space};

use crate::{BlockName, Mount, Process, SystemRoots};

/// A mount in the namespace of another program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct MountElsewhere {
    pub(crate) mount: Mount,
    /// A program that sees it.
    pub(crate) process: Process,
}

impl SystemRoots {
    /// Where these devices are mounted in namespaces that are not this program's own, as far as
    /// this user may see them.
    pub(crate) fn mounts_elsewhere(&self, devices: &[BlockName]) -> Vec<MountElsewhere> {
        let namespace = |folder: PathBuf| fs::read_link(folder.join("ns/mnt")).ok();
        let Some(own) = namespace(self.proc.join("self")) else {
            return Vec::new();
        };
        let mut seen = BTreeSet::from([own]);
        let mut found = Vec::new();
        for entry in fs::read_dir(&self.proc).into_iter().flatten().flatten() {
            let Some(pid) = entry
                .file_name()
                .to_str()
                .and_then(|name| name.parse().ok())
            else {
                continue;
            };
            let folder = entry.path();
            if !namespace(folder.clone()).is_some_and(|other| seen.insert(other)) {
                continue;
            }
            let text = fs::read(folder.join("mountinfo")).unwrap_or_default();
            let mounts = self.parse_mounts(&text).into_iter();
            let own = mounts.filter(|mount| devices.contains(&mount.device));
            found.extend(own.map(|mount| MountElsewhere {
                mount,
                process: Process::at(&folder, pid),
            }));
        }
        // What was mounted last may lie in what was mounted first.
        found.reverse();
        found
    }

    /// Unmounts in the namespace of the program that sees the mount.
    pub(crate) fn unmount_elsewhere(&self, found: &MountElsewhere) -> io::Result<()> {
        let folder = self.proc.join(found.process.pid.to_string());
        let namespace = File::open(folder.join("ns/mnt"))?;
        let point = &found.mount.point;
        // In a thread of its own, because it cannot come back from there.
        let visit = move || -> io::Result<()> {
            // SAFETY: only `CLONE_FS` is unshared: this thread gets a working folder and root of
            // its own, which the kernel asks for before it lets it into another mount namespace.
            // No file descriptor table is touched, and the thread ends right after.
            unsafe { rustix::thread::unshare_unsafe(UnshareFlags::FS)? };
            let kind = Some(LinkNameSpaceType::Mount);
            move_into_link_name_space(namespace.as_fd(), kind)?;
            Ok(unmount(point.as_path(), UnmountFlags::NOFOLLOW)?)
        };
        thread::scope(|scope| scope.spawn(visit).join())
            .unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    }
}
