//! Computers made of files: recorded `/sys`, `/proc` and `/dev` trees.

#![allow(dead_code, reason = "not every test uses all of it")]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use pinewrit_host::{BlockName, MediumFacts, SystemRoots, Verdict};

/// A computer made of files.
pub(crate) struct Computer {
    dir: tempfile::TempDir,
    mounts: String,
}

impl Computer {
    pub(crate) fn new() -> Self {
        Self {
            dir: tempfile::tempdir().unwrap(),
            mounts: String::new(),
        }
    }

    pub(crate) fn roots(&self) -> SystemRoots {
        let root = self.dir.path();
        fs::create_dir_all(root.join("proc/self")).unwrap();
        fs::write(root.join("proc/self/mountinfo"), &self.mounts).unwrap();
        SystemRoots {
            sys: root.join("sys"),
            proc: root.join("proc"),
            dev: root.join("dev"),
        }
    }

    /// A whole device at `place` below `/sys/devices`, with its number and attributes
    /// (`file=text`, from its own folder; `../` leads to the buses it hangs on).
    pub(crate) fn whole(&self, place: &str, number: &str, attributes: &[&str]) {
        let (_, name) = place.rsplit_once('/').unwrap();
        self.link(place, name, number);
        for attribute in attributes {
            let (file, text) = attribute.split_once('=').unwrap();
            self.set_at(&self.dir.path().join("sys/devices").join(place), file, text);
        }
    }

    /// A partition of a whole device.
    pub(crate) fn partition(&self, place: &str, name: &str, number: &str) {
        let place = format!("{place}/{name}");
        self.link(&place, name, number);
        self.set(name, "partition", "1\n");
    }

    fn link(&self, place: &str, name: &str, number: &str) {
        let sys = self.dir.path().join("sys");
        let home = sys.join("devices").join(place);
        fs::create_dir_all(home.join("holders")).unwrap();
        fs::create_dir_all(home.join("slaves")).unwrap();
        for (folder, link) in [("class/block", name), ("dev/block", number)] {
            fs::create_dir_all(sys.join(folder)).unwrap();
            symlink(&home, sys.join(folder).join(link)).unwrap();
        }
        fs::create_dir_all(self.dir.path().join("dev")).unwrap();
        fs::write(self.dir.path().join("dev").join(name), "").unwrap();
    }

    /// What the device's own first bytes are.
    pub(crate) fn content(&self, name: &str, offset: usize, bytes: &[u8]) {
        let mut content = vec![0; offset];
        content.extend(bytes);
        content.resize(content.len().max(8192), 0);
        fs::write(self.dir.path().join("dev").join(name), content).unwrap();
    }

    pub(crate) fn made_of(&self, upper: &str, lower: &str) {
        let class = self.dir.path().join("sys/class/block");
        let (over, under) = (class.join(upper), class.join(lower));
        symlink(&under, over.join("slaves").join(lower)).unwrap();
        symlink(&over, under.join("holders").join(upper)).unwrap();
    }

    pub(crate) fn set(&self, name: &str, file: &str, text: &str) {
        self.set_at(
            &self.dir.path().join("sys/class/block").join(name),
            file,
            text,
        );
    }

    fn set_at(&self, folder: &Path, file: &str, text: &str) {
        let path = folder.join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub(crate) fn mount(&mut self, number: &str, point: &str, source: &str) {
        self.mounts += &format!("27 1 {number} / {point} rw,relatime - ext4 {source} rw\n");
    }

    pub(crate) fn judge(&self, name: &str) -> Verdict {
        self.roots().judge(&BlockName(name.into())).unwrap()
    }

    pub(crate) fn media(&self) -> Vec<MediumFacts> {
        self.roots().media().unwrap()
    }
}
