//! What the tests share: judges, image files, and a file system as a plain map.

#![allow(dead_code, reason = "each test uses a part")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

pub(crate) mod model;

use std::fs::{self, OpenOptions};
use std::path::Path;

use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
pub(crate) use pinewrit_judges::noise;
use pinewrit_judges::{command, judge};

/// A sparse file of this size.
pub(crate) fn sparse(path: &Path, size: u64) {
    pinewrit_judges::sparse(path, size).unwrap();
}

/// An image file as a device.
pub(crate) fn device(path: &Path) -> FileDevice {
    let file = OpenOptions::new()
        .read(true)
        .write(true)
        .open(path)
        .unwrap();
    let size = file.metadata().unwrap().len();
    FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached)
}

/// What `fsck.fat` complains of; empty where it is content, `None` where it is missing.
pub(crate) fn complaint(image: &Path) -> Option<String> {
    let (is_good, said) = judge("fsck.fat", &["-n", image.to_str().unwrap()])?;
    // FAT32 with few clusters is warned of, and otherwise judged as any other.
    let few = [
        "Warning: Filesystem is FAT32 according to",
        "  but has only",
        "  This may lead to problems on some systems.",
    ];
    let is_usual = |line: &&str| {
        line.starts_with("fsck.fat 4")
            || line.ends_with(" clusters")
            || few.iter().any(|known| line.starts_with(known))
    };
    let rest: Vec<&str> = said.lines().filter(|line| !is_usual(line)).collect();
    match is_good {
        true => Some(rest.join("\n")),
        false => Some(said),
    }
}

/// All files as `mtools` read them, in a folder.
pub(crate) fn copy_out(image: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    let mut mcopy = command("mcopy");
    mcopy.env("LC_ALL", "C.UTF-8").env("MTOOLS_SKIP_CHECK", "1");
    let copied = mcopy
        .args(["-s", "-n", "-Q", "-i", image.to_str().unwrap(), "::*"])
        .arg(to)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&copied.stderr);
    let is_empty = said.contains("not found") && !said.contains("/not found");
    assert!(copied.status.success() || is_empty, "{said}");
}
