//! What a file or a device is made of, and what it lies on: whether two of them share bytes.

use std::fs::{self, File, Metadata};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use pinewrit_disk::ByteRange;

use crate::{BlockName, SystemRoots};

/// What bytes are stored in.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Ground {
    /// A regular file or a folder, by device and inode number.
    File { dev: u64, ino: u64 },
    /// A file that is not there yet, by its path.
    NotYet(PathBuf),
    /// A block device.
    Device(BlockName),
}

/// A part of something that stores bytes; all of it without a range.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Stretch {
    ground: Ground,
    range: Option<ByteRange>,
}

impl Stretch {
    fn overlaps(&self, other: &Self) -> bool {
        self.ground == other.ground
            && match (self.range, other.range) {
                (Some(a), Some(b)) => a.intersection(b).is_some(),
                _ => true,
            }
    }
}

/// What a file or a device is made of, and what it lies on, all the way down: through loop devices,
/// partitions, device mapper and RAID, and through the file systems that hold files.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Footing {
    /// What it is made of: writing it writes there.
    own: Vec<Stretch>,
    /// What holds it: it is a file in a file system there.
    below: Vec<Stretch>,
}

impl Footing {
    /// Whether writing one of the two could change the other: one consists of what the other
    /// consists of, or lies on. Two files in one file system do not meet.
    pub fn meets(&self, other: &Self) -> bool {
        self.carries(other) || other.carries(self)
    }

    /// Whether writing this one changes the other.
    pub fn carries(&self, other: &Self) -> bool {
        let all = || other.own.iter().chain(&other.below);
        let reaches = |own: &Stretch| all().any(|part| own.overlaps(part));
        self.own.iter().any(reaches)
    }

    /// Whether it consists of something other than itself.
    pub(crate) fn is_stacked(&self) -> bool {
        self.own.len() > 1
    }
}

/// Whether the thing in question consists of the last one, or is only stored on it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Bond {
    MadeOf,
    KeptBy,
}

impl SystemRoots {
    /// What the file, folder or device at `path` is made of and lies on. A file that does not exist
    /// yet consists only of its name, and lies on what its folder lies on.
    pub fn footing(&self, path: &Path) -> Footing {
        let full = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let there = full.ancestors().find_map(|place| {
            let metadata = fs::metadata(place).ok()?;
            Some((place, metadata))
        });
        let Some((place, metadata)) = there else {
            return Footing::default();
        };
        if place == full {
            return self.footing_of(place, &metadata);
        }
        let mut walk = Walk {
            roots: self,
            found: Footing::default(),
        };
        let folder = fs::canonicalize(place).unwrap_or_else(|_| place.to_owned());
        let rest = full.strip_prefix(place).unwrap_or(&full);
        walk.note(Ground::NotYet(folder.join(rest)), None, Bond::MadeOf);
        if let Some(device) = self.device_under(place, &metadata) {
            walk.visit_device(&device, None, Bond::KeptBy);
        }
        walk.found
    }

    /// As [`SystemRoots::footing`], for an open file.
    pub fn footing_of_file(&self, file: &File) -> Footing {
        let Ok(metadata) = file.metadata() else {
            return Footing::default();
        };
        let link = format!("/proc/self/fd/{}", file.as_raw_fd());
        let path = fs::read_link(link).unwrap_or_default();
        self.footing_of(&path, &metadata)
    }

    fn footing_of(&self, path: &Path, metadata: &Metadata) -> Footing {
        let mut walk = Walk {
            roots: self,
            found: Footing::default(),
        };
        walk.visit_file(path, metadata, None, Bond::MadeOf);
        walk.found
    }

    /// What a whole device is made of and lies on.
    pub(crate) fn footing_of_device(&self, name: &BlockName) -> Footing {
        let mut walk = Walk {
            roots: self,
            found: Footing::default(),
        };
        walk.visit_device(name, None, Bond::MadeOf);
        walk.found
    }

    /// The device whose file system holds a file, even if the file system has a device number of
    /// its own, as Btrfs and overlays do.
    pub(crate) fn device_under(&self, path: &Path, metadata: &Metadata) -> Option<BlockName> {
        let dev = metadata.dev();
        let (major, minor) = (rustix::fs::major(dev), rustix::fs::minor(dev));
        self.by_number(major, minor)
            .or_else(|| self.device_mounted_over(path))
    }
}

struct Walk<'a> {
    roots: &'a SystemRoots,
    found: Footing,
}

impl Walk<'_> {
    /// Records a part; returns whether it is new.
    fn note(&mut self, ground: Ground, range: Option<ByteRange>, bond: Bond) -> bool {
        let part = Stretch { ground, range };
        let list = match bond {
            Bond::MadeOf => &mut self.found.own,
            Bond::KeptBy => &mut self.found.below,
        };
        let is_new = !list.contains(&part);
        if is_new {
            list.push(part);
        }
        is_new
    }

    fn visit_file(
        &mut self,
        path: &Path,
        metadata: &Metadata,
        range: Option<ByteRange>,
        bond: Bond,
    ) {
        if FileTypeExt::is_block_device(&metadata.file_type()) {
            let number = metadata.rdev();
            let (major, minor) = (rustix::fs::major(number), rustix::fs::minor(number));
            if let Some(name) = self.roots.by_number(major, minor) {
                self.visit_device(&name, range, bond);
            }
            return;
        }
        let (dev, ino) = (metadata.dev(), metadata.ino());
        if self.note(Ground::File { dev, ino }, range, bond)
            && let Some(device) = self.roots.device_under(path, metadata)
        {
            self.visit_device(&device, None, Bond::KeptBy);
        }
    }

    fn visit_device(&mut self, name: &BlockName, range: Option<ByteRange>, bond: Bond) {
        if !self.note(Ground::Device(name.clone()), range, bond) {
            return;
        }
        if let Some(whole) = self.roots.whole_of(name) {
            let inside = self.roots.place_in_whole(name);
            self.visit_device(&whole, shifted(inside, range), bond);
        }
        for slave in self.roots.slaves(name) {
            // The range in it is not known.
            self.visit_device(&slave, None, bond);
        }
        if let Some((path, inside)) = self.roots.backing(name)
            && let Ok(metadata) = fs::metadata(&path)
        {
            self.visit_file(&path, &metadata, shifted(inside, range), bond);
        }
    }
}

/// Translates a range of something that is itself the range `place` of another thing.
fn shifted(place: Option<ByteRange>, range: Option<ByteRange>) -> Option<ByteRange> {
    match (place, range) {
        (Some(place), Some(range)) => {
            let start = place.start.checked_add(range.start)?;
            let end = place.start.checked_add(range.end)?;
            ByteRange::new(start, end.min(place.end))
        }
        (place, _) => place,
    }
}

impl SystemRoots {
    /// The range of the whole device that a partition covers.
    fn place_in_whole(&self, name: &BlockName) -> Option<ByteRange> {
        // `start` and `size` count sectors of 512 bytes (Documentation/ABI/stable/sysfs-block).
        let start = self.number_of(name, "start")?.checked_mul(512)?;
        let len = self.number_of(name, "size")?.checked_mul(512)?;
        ByteRange::new(start, start.checked_add(len)?)
    }

    /// The file or device behind a loop device, and which bytes of it are shown.
    fn backing(&self, name: &BlockName) -> Option<(PathBuf, Option<ByteRange>)> {
        let path = self.backing_file(name)?;
        let offset = self.number_of(name, "loop/offset").unwrap_or(0);
        let len = self.number_of(name, "size").unwrap_or(0).checked_mul(512);
        let range = len
            .filter(|len| *len > 0)
            .and_then(|len| ByteRange::new(offset, offset.checked_add(len)?));
        Some((path, range))
    }

    /// Other loop devices that show parts of the same file or device as this one.
    pub(crate) fn shown_elsewhere(&self, name: &BlockName) -> Vec<BlockName> {
        let identity = |name: &BlockName| {
            let metadata = fs::metadata(self.backing_file(name)?).ok()?;
            Some((metadata.dev(), metadata.ino()))
        };
        let Some(own) = identity(name) else {
            return Vec::new();
        };
        let all = self.all().into_iter();
        all.filter(|other| other != name && identity(other) == Some(own))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made_of(name: &str, range: Option<(u64, u64)>) -> Footing {
        Footing {
            own: vec![Stretch {
                ground: Ground::Device(BlockName(name.to_owned())),
                range: range.and_then(|(start, end)| ByteRange::new(start, end)),
            }],
            below: Vec::new(),
        }
    }

    fn kept_by(file: u64, name: &str) -> Footing {
        Footing {
            own: vec![Stretch {
                ground: Ground::File { dev: 1, ino: file },
                range: None,
            }],
            below: made_of(name, None).own,
        }
    }

    #[test]
    fn files_side_by_side_do_not_meet_but_their_disk_meets_both() {
        let (image, card) = (kept_by(2, "sda"), kept_by(3, "sda"));
        assert!(!image.meets(&card));
        assert!(image.meets(&made_of("sda", None)));
        assert!(made_of("sda", None).meets(&image));
        assert!(!made_of("sdb", None).meets(&image));
        assert!(image.meets(&kept_by(2, "sda")));
    }

    #[test]
    fn partitions_side_by_side_do_not_meet() {
        let first = made_of("sda", Some((0, 1024)));
        let second = made_of("sda", Some((1024, 4096)));
        assert!(!first.meets(&second));
        assert!(first.meets(&made_of("sda", None)));
        assert!(second.meets(&made_of("sda", Some((4095, 5000)))));
    }
}
