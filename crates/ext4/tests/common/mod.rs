//! What the tests share: judges, and image files.

#![allow(dead_code, reason = "each test uses a part")]
#![allow(clippy::print_stderr, reason = "a skipped test says so")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs::OpenOptions;
use std::path::Path;

use pinewrit_disk::{CacheUse, FileDevice, SectorSize};

pub(crate) use pinewrit_judges::judge;

/// Runs a judge that must be content.
pub(crate) fn good(program: &str, args: &[&str]) -> Option<String> {
    let (is_good, text) = judge(program, args)?;
    assert!(is_good, "{program} {args:?}: {text}");
    Some(text)
}

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

/// Mounts a file system on a folder for as long as it lives; `None` where that is not allowed.
pub(crate) struct Mounted(tempfile::TempDir);

impl Mounted {
    pub(crate) fn new(image: &Path) -> Option<Self> {
        let dir = tempfile::tempdir().unwrap();
        let (from, to) = (image.to_str().unwrap(), dir.path().to_str().unwrap());
        let mount = || judge("mount", &["-o", "loop", "-t", "ext4", from, to]);
        let (mut is_good, mut said) = mount()?;
        // Other tests may have taken the same free loop device.
        for _ in 0..3 {
            if !is_good {
                std::thread::sleep(std::time::Duration::from_millis(300));
                (is_good, said) = mount()?;
            }
        }
        if !is_good && std::env::var_os("PINEWRIT_REQUIRE_JUDGES").is_none() {
            skip(&format!("no mount: {said}"));
            return None;
        }
        assert!(is_good, "{said}");
        Some(Self(dir))
    }

    /// Mounts it where the kernel knows all of its features.
    pub(crate) fn try_new(image: &Path) -> Option<Self> {
        Self::with_options(image, "loop")
    }

    /// The same with options, of which one is `loop`.
    pub(crate) fn with_options(image: &Path, options: &str) -> Option<Self> {
        let dir = tempfile::tempdir().unwrap();
        let (from, to) = (image.to_str().unwrap(), dir.path().to_str().unwrap());
        let mount = || judge("mount", &["-o", options, "-t", "ext4", from, to]);
        // Other tests may have taken the same free loop device.
        (0..2).find_map(|_| mount()?.0.then_some(()))?;
        Some(Self(dir))
    }

    /// Where its root is.
    pub(crate) fn dir(&self) -> &Path {
        self.0.path()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // A program that another test is just starting may have its files open for a moment.
        for _ in 0..40 {
            let mut umount = std::process::Command::new("umount");
            let done = umount
                .arg(self.0.path())
                .stderr(std::process::Stdio::null())
                .status();
            if done.is_ok_and(|status| status.success()) {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    }
}

/// Says that something was not tested.
pub(crate) fn skip(why: &str) {
    pinewrit_judges::say_skipped(why);
}
