//! Whether a medium may be written: the rules, all of them.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use crate::{BlockName, Identity, Mount, Process, SystemRoots};

/// Mount points that make a disk part of the running system.
const SYSTEM_POINTS: &[&str] = &["/", "/boot", "/boot/efi", "/usr", "/var", "/home"];

/// What Pinewrit says about writing a medium.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Verdict {
    /// Nothing speaks against it.
    Ready,
    /// It is in use; it can be freed.
    Busy(Vec<Hold>),
    /// It may not be the intended disk: its tag must be repeated.
    Unsure(Vec<Doubt>),
    /// It is write-protected.
    Locked,
    /// The running system is on it. It is never written, with no option to override.
    System(Vec<String>),
}

/// Media above this are rarely for a board, in bytes.
const LARGE: u64 = 2_000_000_000_000;

/// Why a medium may not be the intended one.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Doubt {
    /// It is built into the computer.
    BuiltIn,
    /// It is larger than cards and sticks usually are; its size in bytes.
    Large(u64),
    /// It belongs to this: an array, a pool, a volume group.
    Member(&'static str),
    /// It holds this, which images for boards do not contain.
    Foreign(&'static str),
}

impl Verdict {
    /// The verdict in one word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Ready => "ready",
            Self::Busy(_) => "busy",
            Self::Unsure(_) => "unsure",
            Self::Locked => "locked",
            Self::System(_) => "system",
        }
    }
}

/// Why a medium may be the wrong one, by its own description.
pub(crate) fn doubts_of(identity: &Identity) -> Vec<Doubt> {
    let built_in = identity.is_built_in().then_some(Doubt::BuiltIn);
    let large = (identity.size > LARGE).then_some(Doubt::Large(identity.size));
    [built_in, large].into_iter().flatten().collect()
}

/// What keeps a medium from being written.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Hold {
    /// It, or a partition of it, is mounted.
    Mounted {
        /// The mounted device.
        device: BlockName,
        /// Where.
        point: PathBuf,
        /// Nothing is written to it.
        is_read_only: bool,
    },
    /// It, or a partition of it, is mounted where only some other programs see it, as in a
    /// container.
    MountedElsewhere {
        /// The mounted device.
        device: BlockName,
        /// Where, as those programs see it.
        point: PathBuf,
        /// One of them.
        process: Process,
    },
    /// Another device is built on it.
    HeldBy {
        /// The device that is used.
        device: BlockName,
        /// The device on top.
        holder: BlockName,
    },
    /// A card file is attached as a loop device, or the file of a loop device is attached a second
    /// time.
    Attached {
        /// The loop device.
        device: BlockName,
    },
    /// Another program has it open exclusively.
    OpenElsewhere,
}

impl Hold {
    /// Whether unmounting removes this obstacle.
    pub fn is_mount(&self) -> bool {
        matches!(self, Self::Mounted { .. } | Self::MountedElsewhere { .. })
    }
}

impl SystemRoots {
    /// Judges a whole device.
    ///
    /// # Errors
    /// What is mounted cannot be found out; then nothing may be written.
    pub fn judge(&self, whole: &BlockName) -> io::Result<Verdict> {
        let mounts = self.mounts()?;
        let uses = self.system_uses(whole, &mounts)?;
        if !uses.is_empty() {
            return Ok(Verdict::System(uses));
        }
        let holds = self.holds(whole, mounts);
        if !holds.is_empty() {
            return Ok(Verdict::Busy(holds));
        }
        if self.is_read_only(whole) {
            return Ok(Verdict::Locked);
        }
        let doubts = self.doubts(whole);
        Ok(if doubts.is_empty() {
            Verdict::Ready
        } else {
            Verdict::Unsure(doubts)
        })
    }

    /// Why a medium that nothing uses may still be the wrong one.
    fn doubts(&self, whole: &BlockName) -> Vec<Doubt> {
        let mut doubts = doubts_of(&self.identity(whole));
        doubts.extend(self.signs(whole));
        doubts
    }

    /// The parts of the running system on `whole`: mount points, or `swap`.
    fn system_uses(&self, whole: &BlockName, mounts: &[Mount]) -> io::Result<Vec<String>> {
        let own = self.footing_of_device(whole);
        let mut uses = Vec::new();
        for mount in mounts {
            let is_system = SYSTEM_POINTS
                .iter()
                .any(|point| Path::new(point) == mount.point);
            if is_system && own.carries(&self.footing_of_device(&mount.device)) {
                uses.push(mount.point.display().to_string());
            }
        }
        for swap in self.swaps()? {
            if own.carries(&self.footing_of_device(&swap)) {
                uses.push("swap".to_owned());
            }
        }
        uses.sort();
        uses.dedup();
        Ok(uses)
    }

    /// The device whose file system holds `file`.
    pub(crate) fn device_of_file(&self, file: &Path) -> Option<BlockName> {
        self.device_under(file, &fs::metadata(file).ok()?)
    }

    fn holds(&self, whole: &BlockName, mounts: Vec<Mount>) -> Vec<Hold> {
        let mut own = vec![whole.clone()];
        own.extend(self.partitions(whole));
        let mut holds = Vec::new();
        let footing = self.footing_of_device(whole);
        let is_held = |mount: &Mount| {
            // What a loop device or a mapped one consists of may itself be mounted.
            own.contains(&mount.device)
                || footing.is_stacked() && footing.carries(&self.footing_of_device(&mount.device))
        };
        for mount in mounts {
            if is_held(&mount) {
                holds.push(Hold::Mounted {
                    device: mount.device,
                    point: mount.point,
                    is_read_only: mount.is_read_only,
                });
            }
        }
        if holds.is_empty() {
            // A mount that is also visible here is unmounted there at the same time.
            holds.extend(self.mounts_elsewhere(&own).into_iter().map(|found| {
                Hold::MountedElsewhere {
                    device: found.mount.device,
                    point: found.mount.point,
                    process: found.process,
                }
            }));
        }
        let shown = self.shown_elsewhere(whole).into_iter();
        holds.extend(shown.map(|device| Hold::Attached { device }));
        for device in own {
            for holder in self.holders(&device) {
                holds.push(Hold::HeldBy {
                    device: device.clone(),
                    holder,
                });
            }
        }
        holds
    }

    /// Judges a regular file that stands for a medium.
    pub(crate) fn judge_card_file(&self, path: &Path, metadata: &fs::Metadata) -> Verdict {
        let attached = self.all().into_iter().find(|name| {
            self.backing_file(name)
                .and_then(|file| fs::metadata(file).ok())
                .is_some_and(|m| (m.dev(), m.ino()) == (metadata.dev(), metadata.ino()))
        });
        if let Some(device) = attached {
            return Verdict::Busy(vec![Hold::Attached { device }]);
        }
        let read_only_place = rustix::fs::statvfs(path)
            .is_ok_and(|s| s.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY));
        if metadata.mode() & 0o222 == 0 || read_only_place {
            return Verdict::Locked;
        }
        Verdict::Ready
    }
}
