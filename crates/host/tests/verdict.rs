//! Verdicts on recorded `/sys`, `/proc` and `/dev` trees.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs;
use std::path::Path;

use common::Computer;
use pinewrit_host::{BlockName, Doubt, Hold, SystemRoots, Verdict};
use rstest::{fixture, rstest};

mod common;

const CARD: &str = "platform/mmc_host/mmc0/mmc0:0001/block/mmcblk0";

/// A disk with the system on LVM, a second disk, and a card reader.
#[fixture]
fn computer() -> Computer {
    let mut computer = Computer::new();
    computer.whole("pci/ata1/sda", "8:0", &[]);
    computer.partition("pci/ata1/sda", "sda1", "8:1");
    computer.partition("pci/ata1/sda", "sda2", "8:2");
    computer.whole("virtual/block/dm-0", "253:0", &[]);
    computer.made_of("dm-0", "sda2");
    computer.whole("pci/ata2/sdb", "8:16", &[]);
    computer.partition("pci/ata2/sdb", "sdb1", "8:17");
    computer.whole(CARD, "179:0", &["device/type=SD"]);
    computer.partition(CARD, "mmcblk0p1", "179:1");
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
        is_read_only: false,
    };
    assert_eq!(computer.judge("mmcblk0"), Verdict::Busy(vec![hold]));
}

#[rstest]
fn a_device_on_top_makes_the_disk_busy(computer: Computer) {
    computer.whole("virtual/block/md0", "9:0", &[]);
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
    computer.whole("pci/nvme/nvme0/nvme0n1", &number, &[]);
    computer.whole("virtual/block/loop5", "7:5", &[]);
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

#[rstest]
fn a_built_in_disk_that_nobody_uses_is_unsure(computer: Computer) {
    assert_eq!(computer.judge("sdb"), Verdict::Unsure(vec![Doubt::BuiltIn]));
}

#[rstest]
#[case::usual(3_906_250_000, Verdict::Ready)]
#[case::large(3_906_250_001, Verdict::Unsure(vec![Doubt::Large(2_000_000_000_512)]))]
fn what_is_too_large_for_a_card_is_unsure(
    computer: Computer,
    #[case] sectors: u64,
    #[case] verdict: Verdict,
) {
    computer.set("mmcblk0", "size", &format!("{sectors}\n"));
    assert_eq!(computer.judge("mmcblk0"), verdict);
}

#[rstest]
#[case::raid("mmcblk0p1", 4096, b"\xfc\x4e\x2b\xa9\x01\0\0\0", "Linux RAID")]
#[case::lvm("mmcblk0", 512, b"LABELONE", "LVM")]
fn a_member_of_an_array_is_unsure(
    computer: Computer,
    #[case] device: &str,
    #[case] offset: usize,
    #[case] mark: &[u8],
    #[case] whose: &'static str,
) {
    computer.content(device, offset, mark);
    let doubts = vec![Doubt::Member(whose)];
    assert_eq!(computer.judge("mmcblk0"), Verdict::Unsure(doubts));
}

/// Nothing that is only unsure makes a card of the system's disk.
#[rstest]
fn the_systems_disk_stays_the_systems_however_it_is_plugged_in(mut computer: Computer) {
    computer.mount("179:1", "/", "/dev/mmcblk0p1");
    let system = Verdict::System(vec!["/".to_owned()]);
    assert_eq!(computer.judge("mmcblk0"), system);
}

#[rstest]
fn a_disk_with_a_swap_file_is_the_systems(computer: Computer) {
    let file = tempfile::NamedTempFile::new().unwrap();
    let dev = std::os::unix::fs::MetadataExt::dev(&file.as_file().metadata().unwrap());
    let number = format!("{}:{}", rustix::fs::major(dev), rustix::fs::minor(dev));
    computer.whole("pci/ata3/sdc", &number, &[]);
    let roots = computer.roots();
    let line = format!("{} file\t\t100 0 -2\n", file.path().display());
    fs::write(
        roots.proc.join("swaps"),
        format!("Filename Type Size\n{line}"),
    )
    .unwrap();
    let verdict = roots.judge(&BlockName("sdc".into())).unwrap();
    assert_eq!(verdict, Verdict::System(vec!["swap".to_owned()]));
}

#[rstest]
#[case::luks(0, b"LUKS\xba\xbe", 8, Some(Doubt::Foreign("LUKS (encrypted)")))]
#[case::encrypted_ntfs(3, b"-FVE-FS-", 8, Some(Doubt::Foreign("BitLocker (encrypted)")))]
#[case::apfs(32, b"NXSB", 8, Some(Doubt::Foreign("APFS")))]
#[case::small_ntfs(3, b"NTFS    ", 64, None)]
#[case::large_ntfs(3, b"NTFS    ", 500, Some(Doubt::Foreign("NTFS")))]
fn what_looks_like_another_computers_disk_is_unsure(
    computer: Computer,
    #[case] offset: usize,
    #[case] mark: &[u8],
    #[case] gigabytes: u64,
    #[case] doubt: Option<Doubt>,
) {
    let sectors = format!("{}", gigabytes * 1_000_000_000 / 512);
    computer.set("mmcblk0", "size", &sectors);
    computer.content("mmcblk0p1", offset, mark);
    let expected = doubt.map_or(Verdict::Ready, |doubt| Verdict::Unsure(vec![doubt]));
    assert_eq!(computer.judge("mmcblk0"), expected);
}
