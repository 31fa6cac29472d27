//! Block devices as the kernel describes them in `/sys`.

use std::fmt;
use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

/// Where the kernel's trees are mounted.
#[derive(Clone, Debug)]
pub struct SystemRoots {
    /// Usually `/sys`.
    pub sys: PathBuf,
    /// Usually `/proc`.
    pub proc: PathBuf,
    /// Usually `/dev`.
    pub dev: PathBuf,
}

impl Default for SystemRoots {
    fn default() -> Self {
        Self {
            sys: "/sys".into(),
            proc: "/proc".into(),
            dev: "/dev".into(),
        }
    }
}

/// The kernel's name of a block device, such as `sda` or `mmcblk0p1`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct BlockName(pub String);

impl fmt::Display for BlockName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl BlockName {
    /// The path of a device with this name: below `/dev`, or in a rack, which its name shows.
    pub fn path(&self) -> PathBuf {
        if self.0.starts_with(RACK_PREFIX) {
            PathBuf::from(&self.0)
        } else {
            Path::new("/dev").join(&self.0)
        }
    }
}

/// What the names of simulated readers begin with.
pub(crate) const RACK_PREFIX: &str = "rack:";

impl SystemRoots {
    /// The block device with this number, if the kernel has one.
    pub(crate) fn by_number(&self, major: u32, minor: u32) -> Option<BlockName> {
        let link = self.sys.join(format!("dev/block/{major}:{minor}"));
        file_name(&fs::canonicalize(link).ok()?)
    }

    /// The whole block device that a path leads to, if it leads to one.
    pub fn whole_at(&self, path: &Path) -> Option<BlockName> {
        let facts = fs::metadata(path).ok()?;
        let is_block = FileTypeExt::is_block_device(&facts.file_type());
        let number = is_block.then(|| facts.rdev())?;
        let name = self.by_number(rustix::fs::major(number), rustix::fs::minor(number))?;
        self.whole_of(&name).is_none().then_some(name)
    }

    /// The block device that a path under `/dev` names, through links such as `/dev/mapper/x`.
    pub(crate) fn by_path(&self, path: &Path) -> Option<BlockName> {
        let inside = path.strip_prefix("/dev").ok()?;
        let real = fs::canonicalize(self.dev.join(inside)).ok()?;
        let name = file_name(&real)?;
        self.folder(&name).exists().then_some(name)
    }

    /// The device that a partition belongs to; `None` for whole devices.
    pub(crate) fn whole_of(&self, name: &BlockName) -> Option<BlockName> {
        let real = fs::canonicalize(self.folder(name)).ok()?;
        real.join("partition").exists().then_some(())?;
        file_name(real.parent()?)
    }

    /// The partitions that the kernel knows of a whole device.
    pub(crate) fn partitions(&self, name: &BlockName) -> Vec<BlockName> {
        let is_partition = |path: &PathBuf| path.join("partition").exists();
        entries(&self.folder(name))
            .into_iter()
            .filter(is_partition)
            .filter_map(|path| file_name(&path))
            .collect()
    }

    /// The devices made on top of this one: device mapper, RAID.
    pub(crate) fn holders(&self, name: &BlockName) -> Vec<BlockName> {
        let paths = entries(&self.folder(name).join("holders"));
        paths.iter().filter_map(|path| file_name(path)).collect()
    }

    /// The devices that this one consists of: device mapper, RAID.
    pub(crate) fn slaves(&self, name: &BlockName) -> Vec<BlockName> {
        let paths = entries(&self.folder(name).join("slaves"));
        paths.iter().filter_map(|path| file_name(path)).collect()
    }

    /// The file behind a loop device.
    pub(crate) fn backing_file(&self, name: &BlockName) -> Option<PathBuf> {
        let path = fs::read_to_string(self.folder(name).join("loop/backing_file")).ok()?;
        Some(PathBuf::from(path.trim_end_matches('\n')))
    }

    /// All block devices, partitions included.
    pub(crate) fn all(&self) -> Vec<BlockName> {
        let paths = entries(&self.sys.join("class/block"));
        paths.iter().filter_map(|path| file_name(path)).collect()
    }

    /// Whether the device is write-protected: a card's lock switch, a read-only loop device.
    pub(crate) fn is_read_only(&self, name: &BlockName) -> bool {
        fs::read_to_string(self.folder(name).join("ro")).is_ok_and(|text| text.trim() == "1")
    }

    /// A numeric attribute of a device.
    pub(crate) fn number_of(&self, name: &BlockName, attribute: &str) -> Option<u64> {
        let text = fs::read_to_string(self.folder(name).join(attribute)).ok()?;
        text.trim().parse().ok()
    }

    fn folder(&self, name: &BlockName) -> PathBuf {
        self.sys.join("class/block").join(&name.0)
    }
}

fn file_name(path: &Path) -> Option<BlockName> {
    Some(BlockName(path.file_name()?.to_str()?.to_owned()))
}

fn entries(folder: &Path) -> Vec<PathBuf> {
    let Ok(read) = fs::read_dir(folder) else {
        return Vec::new();
    };
    let mut paths: Vec<_> = read.flatten().map(|entry| entry.path()).collect();
    paths.sort();
    paths
}
