//! Verdicts on recorded `/sys`, `/proc` and `/dev` trees.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use pinewrit_host::{BlockName, Hold, SystemRoots, Verdict};
use rstest::{fixture, rstest};

/// A computer made of files.
struct Computer {
    dir: tempfile::TempDir,
    mounts: String,
}

impl Computer {
    fn roots(&self) -> SystemRoots {
        let root = self.dir.path();
        fs::create_dir_all(root.join("proc/self")).unwrap();
        fs::write(root.join("proc/self/mountinfo"), &self.mounts).unwrap();
        SystemRoots {
            sys: root.join("sys"),
            proc: root.join("proc"),
            dev: root.join("dev"),
        }
    }

    /// A device below `parent` (a whole device for partitions), with its number.
    fn device(&self, parent: Option<&str>, name: &str, number: &str) {
        let sys = self.dir.path().join("sys");
        let home = sys.join("devices").join(parent.unwrap_or("")).join(name);
        fs::create_dir_all(home.join("holders")).unwrap();
        fs::create_dir_all(home.join("slaves")).unwrap();
        if parent.is_some() {
            fs::write(home.join("partition"), "1\n").unwrap();
        }
        for (folder, link) in [("class/block", name), ("dev/block", number)] {
            fs::create_dir_all(sys.join(folder)).unwrap();
            symlink(&home, sys.join(folder).join(link)).unwrap();
        }
        fs::create_dir_all(self.dir.path().join("dev")).unwrap();
        fs::write(self.dir.path().join("dev").join(name), "").unwrap();
    }

    fn made_of(&self, upper: &str, lower: &str) {
        let class = self.dir.path().join("sys/class/block");
        symlink(
            class.join(lower),
            class.join(upper).join("slaves").join(lower),
        )
        .unwrap();
        symlink(
            class.join(upper),
            class.join(lower).join("holders").join(upper),
        )
        .unwrap();
    }

    fn set(&self, name: &str, file: &str, text: &str) {
        let path = self
            .dir
            .path()
            .join("sys/class/block")
            .join(name)
            .join(file);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    fn mount(&mut self, number: &str, point: &str, source: &str) {
        self.mounts += &format!("27 1 {number} / {point} rw,relatime - ext4 {source} rw\n");
    }

    fn judge(&self, name: &str) -> Verdict {
        self.roots().judge(&BlockName(name.into())).unwrap()
    }
}

/// A disk with the system on LVM, a second disk, and a card reader.
#[fixture]
fn computer() -> Computer {
    let mut computer = Computer {
        dir: tempfile::tempdir().unwrap(),
        mounts: String::new(),
    };
    computer.device(None, "sda", "8:0");
    computer.device(Some("sda"), "sda1", "8:1");
    computer.device(Some("sda"), "sda2", "8:2");
    computer.device(None, "dm-0", "253:0");
    computer.made_of("dm-0", "sda2");
    computer.device(None, "sdb", "8:16");
    computer.device(Some("sdb"), "sdb1", "8:17");
    computer.device(None, "mmcblk0", "179:0");
    computer.device(Some("mmcblk0"), "mmcblk0p1", "179:1");
    computer.mount("253:0", "/", "/dev/mapper/vg-root");
    computer.mount("8:1", "/boot/efi", "/dev/sda1");
    computer
}

#[rstest]
fn a_card_that_nobody_uses_is_ready(computer: Computer) {
    assert_eq!(computer.judge("mmcblk0"), Verdict::Ready);
}

#[rstest]
fn the_disk_below_the_root_volume_is_the_systems(computer: Computer) {
    let uses = vec!["/".to_owned(), "/boot/efi".to_owned()];
    assert_eq!(computer.judge("sda"), Verdict::System(uses));
}

#[rstest]
fn a_mounted_partition_makes_the_card_busy(mut computer: Computer) {
    computer.mount("179:1", r"/media/hut\040card", "/dev/mmcblk0p1");
    let hold = Hold::Mounted {
        device: BlockName("mmcblk0p1".into()),
        point: "/media/hut card".into(),
    };
    assert_eq!(computer.judge("mmcblk0"), Verdict::Busy(vec![hold]));
}

#[rstest]
fn a_device_on_top_makes_the_disk_busy(computer: Computer) {
    computer.device(None, "md0", "9:0");
    computer.made_of("md0", "sdb1");
    let hold = Hold::HeldBy {
        device: BlockName("sdb1".into()),
        holder: BlockName("md0".into()),
    };
    assert_eq!(computer.judge("sdb"), Verdict::Busy(vec![hold]));
}

#[rstest]
fn a_disk_with_swap_is_the_systems(computer: Computer) {
    let roots = computer.roots();
    fs::write(
        roots.proc.join("swaps"),
        "Filename Type Size Used Priority\n/dev/sdb1 partition 100 0 -2\n",
    )
    .unwrap();
    let verdict = roots.judge(&BlockName("sdb".into())).unwrap();
    assert_eq!(verdict, Verdict::System(vec!["swap".to_owned()]));
}

#[rstest]
fn a_file_system_with_its_own_numbers_is_found_by_its_source(mut computer: Computer) {
    computer.mount("0:31", "/home", "/dev/sdb1");
    let verdict = computer.judge("sdb");
    assert_eq!(verdict, Verdict::System(vec!["/home".to_owned()]));
}

#[rstest]
fn the_lock_switch_is_seen(computer: Computer) {
    computer.set("mmcblk0", "ro", "1\n");
    assert_eq!(computer.judge("mmcblk0"), Verdict::Locked);
}

#[rstest]
fn the_disk_below_a_system_on_a_loop_device_is_the_systems(mut computer: Computer) {
    // The file behind the loop device lies on the file system that this test runs on.
    let file = tempfile::NamedTempFile::new().unwrap();
    let dev = std::os::unix::fs::MetadataExt::dev(&file.as_file().metadata().unwrap());
    let number = format!("{}:{}", rustix::fs::major(dev), rustix::fs::minor(dev));
    computer.device(None, "nvme0n1", &number);
    computer.device(None, "loop5", "7:5");
    computer.set(
        "loop5",
        "loop/backing_file",
        &format!("{}\n", file.path().display()),
    );
    computer.mount("7:5", "/usr", "/dev/loop5");
    let system = Verdict::System(vec!["/usr".to_owned()]);
    assert_eq!(computer.judge("nvme0n1"), system);
    assert_eq!(computer.judge("loop5"), system);
}

#[test]
fn nothing_is_ready_where_the_mounts_cannot_be_read() {
    let nowhere = Path::new("/nonexistent").to_path_buf();
    let roots = SystemRoots {
        sys: nowhere.clone(),
        proc: nowhere.clone(),
        dev: nowhere,
    };
    assert!(roots.judge(&BlockName("sda".into())).is_err());
}
