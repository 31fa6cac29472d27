//! The list of media on recorded computers: what is on it, in which order, with which tags.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::Computer;
use pinewrit_host::{BlockName, Bus, MediumFacts, Removal, Verdict};
use rstest::rstest;

const READER: &str = "pci0000:00/usb2/2-1/2-1:1.0/host4/target4:0:0";
const STICK: &str = "pci0000:00/usb2/2-3/2-3.1/2-3.1:1.0/host5/target5:0:0/5:0:0:0/block";
const SD: &str = "platform/mmc_host/mmc0/mmc0:aaaa/block";

/// A laptop: the system on NVMe, a USB reader with two slots, a stick.
fn laptop() -> Computer {
    let mut computer = Computer::new();
    let nvme = "pci0000:00/0000:01:00.0/nvme/nvme0/nvme0n1";
    computer.whole(
        nvme,
        "259:0",
        &["size=1000215216", "device/model=Hut NV", "device/serial=N1"],
    );
    computer.partition(nvme, "nvme0n1p1", "259:1");
    computer.partition(nvme, "nvme0n1p2", "259:2");
    computer.whole("virtual/block/dm-0", "253:0", &["size=900000000"]);
    computer.made_of("dm-0", "nvme0n1p2");
    computer.mount("253:0", "/", "/dev/mapper/root");
    computer.mount("259:1", "/boot/efi", "/dev/nvme0n1p1");
    for (slot, name, number, size) in [(0, "sda", "8:0", 62333952), (1, "sdb", "8:16", 0)] {
        let size = format!("size={size}");
        let place = format!("{READER}/4:0:0:{slot}/block/{name}");
        let usb = "../../../../../../";
        let attributes = [
            size,
            "removable=1".into(),
            "device/vendor=Larch".into(),
            "device/model=Two Slots".into(),
            format!("{usb}idVendor=1a4b"),
            format!("{usb}serial=R7"),
            format!("{usb}speed=5000"),
        ];
        let attributes: Vec<&str> = attributes.iter().map(String::as_str).collect();
        computer.whole(&place, number, &attributes);
    }
    stick(&computer, "sdc", "8:32", STICK, "S100");
    computer
}

fn stick(computer: &Computer, name: &str, number: &str, place: &str, serial: &str) {
    let usb = "../../../../../../";
    let attributes = [
        "size=15728640".to_owned(),
        "removable=1".to_owned(),
        "device/vendor=Larch".to_owned(),
        "device/model=Twig".to_owned(),
        format!("{usb}idVendor=1a4b"),
        format!("{usb}serial={serial}"),
        format!("{usb}speed=480"),
    ];
    let attributes: Vec<&str> = attributes.iter().map(String::as_str).collect();
    computer.whole(&format!("{place}/{name}"), number, &attributes);
}

fn names(media: &[MediumFacts]) -> Vec<&str> {
    media.iter().map(|medium| medium.name.0.as_str()).collect()
}

fn tag(computer: &Computer, name: &str) -> String {
    let media = computer.media();
    let medium = media.iter().find(|medium| medium.name.0 == name).unwrap();
    medium.tag.as_ref().unwrap().to_string()
}

#[test]
fn the_laptop() {
    let media = laptop().media();
    assert_eq!(names(&media), ["sda", "sdc", "sdb", "nvme0n1"]);
    let words: Vec<_> = media.iter().map(|medium| medium.verdict.word()).collect();
    assert_eq!(words[..2], ["ready", "ready"]);
    let [slot, stick, empty, disk] = &media[..] else {
        panic!("four media");
    };
    assert_eq!(slot.identity.bus, Bus::Usb(Some(5000)));
    assert_eq!(slot.identity.maker.as_deref(), Some("Larch"));
    assert!(!slot.identity.is_own_serial);
    assert_eq!(stick.identity.size, 8_053_063_680);
    assert_eq!((&empty.tag, empty.identity.size), (&None, 0));
    let uses = vec!["/".to_owned(), "/boot/efi".to_owned()];
    assert_eq!(disk.verdict, Verdict::System(uses));
}

#[test]
fn a_tag_stays_with_the_medium() {
    let before = tag(&laptop(), "sdc");
    // Another port, another letter, another evening.
    let computer = Computer::new();
    let place = "pci0000:00/usb1/1-4/1-4:1.0/host9/target9:0:0/9:0:0:0/block";
    stick(&computer, "sdx", "65:0", place, "S100");
    assert_eq!(tag(&computer, "sdx"), before);
    assert_eq!(before.len(), 4);
}

#[test]
fn twins_are_told_apart_by_their_ports() {
    let computer = laptop();
    let alone = tag(&computer, "sdc");
    let place = "pci0000:00/usb2/2-4/2-4.1/2-4.1:1.0/host6/target6:0:0/6:0:0:0/block";
    stick(&computer, "sdd", "8:48", place, "S100");
    let (first, second) = (tag(&computer, "sdc"), tag(&computer, "sdd"));
    assert_ne!(first, second);
    for twin in [&first, &second] {
        assert!(twin.len() == 8 && twin.starts_with(&alone), "{twin}");
    }
    let media = computer.media();
    assert_eq!(media.iter().filter(|medium| medium.has_twin).count(), 2);
}

/// A desktop: the system on LVM over RAID over two SATA disks, a third one for data.
#[test]
fn the_desktop() {
    let mut computer = Computer::new();
    for (index, name) in ["sda", "sdb", "sdc"].iter().enumerate() {
        let place = format!("pci0000:00/0000:00:17.0/ata{index}/host{index}/target/block/{name}");
        let serial = format!("device/wwid=naa.5000{index}");
        let attributes = [
            "size=3907029168",
            "device/vendor=ATA",
            "device/model=Hut Disk",
            &serial,
        ];
        computer.whole(&place, &format!("8:{}", index * 16), &attributes);
        computer.partition(
            &place,
            &format!("{name}1"),
            &format!("8:{}", index * 16 + 1),
        );
    }
    computer.whole("virtual/block/md0", "9:0", &["size=3907000000"]);
    computer.whole("virtual/block/dm-0", "253:0", &["size=3900000000"]);
    for lower in ["sda1", "sdb1"] {
        computer.made_of("md0", lower);
    }
    computer.made_of("dm-0", "md0");
    computer.mount("253:0", "/", "/dev/mapper/vg-root");
    let media = computer.media();
    assert_eq!(names(&media), ["sdc", "sda", "sdb"]);
    assert_eq!(media[0].verdict.word(), "unsure");
    assert_eq!(media[0].identity.bus, Bus::Sata);
    // The bus says ATA where a maker should be.
    assert_eq!(media[0].identity.maker, None);
    for member in &media[1..] {
        assert_eq!(member.verdict, Verdict::System(vec!["/".to_owned()]));
    }
}

/// What a card of class 10, U3, V30 and A1 promises.
fn register() -> String {
    let mut bytes = [0_u8; 64];
    (bytes[8], bytes[14], bytes[15], bytes[21]) = (4, 0x39, 30, 1);
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A board that runs from its eMMC, with a card in its slot.
#[test]
fn the_board() {
    let mut computer = Computer::new();
    let emmc = "platform/mmc_host/mmc1/mmc1:0001/block/mmcblk1";
    let attributes = [
        "size=15269888",
        "device/type=MMC",
        "device/cid=700100",
        "device/name=HUT8G",
    ];
    computer.whole(emmc, "179:32", &attributes);
    computer.partition(emmc, "mmcblk1p1", "179:33");
    for (name, number) in [
        ("mmcblk1boot0", "179:64"),
        ("mmcblk1boot1", "179:96"),
        ("mmcblk1rpmb", "179:128"),
    ] {
        computer.whole(&format!("{emmc}/{name}"), number, &["size=8192"]);
    }
    let card = format!("{SD}/mmcblk0");
    let attributes = [
        "size=62333952",
        "device/type=SD",
        "device/cid=1b534d",
        "device/manfid=0x00001b",
        &format!("device/ssr={}", register()),
    ];
    computer.whole(&card, "179:0", &attributes);
    let told = computer.roots().sys.join("kernel/debug/mmc0");
    std::fs::create_dir_all(&told).unwrap();
    let mode = "clock:\t\t50000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t5 (sd uhs SDR50)\n";
    std::fs::write(told.join("ios"), mode.replace("50000000", "100000000")).unwrap();
    computer.whole("virtual/block/zram0", "252:0", &["size=1000"]);
    computer.mount("179:33", "/", "/dev/mmcblk1p1");
    let media = computer.media();
    assert_eq!(names(&media), ["mmcblk0", "mmcblk1"]);
    assert_eq!(media[0].verdict, Verdict::Ready);
    assert_eq!(media[0].identity.maker.as_deref(), Some("maker 0x1b"));
    assert!(media[0].identity.is_own_serial);
    let promised = media[0].identity.classes.unwrap();
    assert_eq!(
        (
            promised.class,
            promised.grade,
            promised.video,
            promised.application
        ),
        (10, 3, 30, 1)
    );
    let carries = media[0].identity.carries().unwrap();
    assert_eq!(carries, ("SD, SDR50".to_owned(), 45_000_000));
    assert_eq!(media[1].identity.bus, Bus::Emmc);
    assert_eq!(media[1].verdict.word(), "system");
}

/// A server: one disk on two paths under multipath, which is in use; hidden NVMe paths.
#[test]
fn the_server() {
    let mut computer = Computer::new();
    for (name, number) in [("sda", "8:0"), ("sdb", "8:16")] {
        let place = format!("pci0000:80/0000:81:00.0/host{name}/target/block/{name}");
        let attributes = [
            "size=1953525168",
            "device/vendor=Hut",
            "device/wwid=naa.6000",
        ];
        computer.whole(&place, number, &attributes);
    }
    computer.whole("virtual/block/dm-1", "253:1", &["size=1953525168"]);
    computer.made_of("dm-1", "sda");
    computer.made_of("dm-1", "sdb");
    let path = "pci0000:80/nvme-subsystem/nvme0c0n1";
    computer.whole(path, "259:9", &["size=1000", "hidden=1"]);
    computer.mount("253:1", "/srv", "/dev/mapper/mpatha");
    let media = computer.media();
    assert_eq!(names(&media), ["sda", "sdb"]);
    assert!(media.iter().all(|medium| medium.verdict.word() == "busy"));
    // Both say that they are the same disk, which they are.
    assert!(media.iter().all(|medium| medium.has_twin));
    computer.mount("253:1", "/var", "/dev/mapper/mpatha");
    assert!(
        computer
            .media()
            .iter()
            .all(|medium| medium.verdict.word() == "system")
    );
}

#[rstest]
#[case::busy("8:32", "/media/hut", "busy")]
#[case::system("8:32", "/home", "system")]
fn what_is_mounted_of_the_stick_decides(
    #[case] number: &str,
    #[case] point: &str,
    #[case] verdict: &str,
) {
    let mut computer = laptop();
    computer.mount(number, point, "/dev/sdc");
    let media = computer.media();
    let stick = media.iter().find(|medium| medium.name.0 == "sdc").unwrap();
    assert_eq!(stick.verdict.word(), verdict);
    assert_eq!(stick.places[0].points, [std::path::PathBuf::from(point)]);
}

#[test]
fn names_from_a_medium_cannot_command_the_terminal() {
    let computer = laptop();
    computer.set("sdc", "device/model", "Twig\x1b[31m\n");
    let media = computer.media();
    let stick = media.iter().find(|medium| medium.name.0 == "sdc").unwrap();
    assert_eq!(stick.identity.model.as_deref(), Some("Twig[31m"));
}

#[rstest]
#[case::reader_slot(READER, "4:0:0:0/block/sda", "removable=1", Removal::LetGo)]
#[case::sd_slot(SD, "mmcblk0", "device/type=SD", Removal::Plain)]
#[case::emmc(SD, "mmcblk1", "device/type=MMC", Removal::BuiltIn)]
#[case::inside("pci0000:00/ata1/host0", "sda", "removable=0", Removal::BuiltIn)]
#[case::nvme(
    "pci0000:00/0000:01:00.0/nvme/nvme0",
    "nvme0n1",
    "size=1",
    Removal::BuiltIn
)]
#[case::outer_nvme(
    "pci0000:00/0000:05:00.0/nvme/nvme1",
    "nvme1n1",
    "../../../removable=removable",
    Removal::Plain
)]
fn how_it_is_taken_out(
    #[case] place: &str,
    #[case] name: &str,
    #[case] attribute: &str,
    #[case] expected: Removal,
) {
    let computer = Computer::new();
    let usb = match place {
        READER => "../../../../../../idVendor=1a4b",
        _ => "queue/rotational=0",
    };
    let path = format!("{place}/{name}");
    computer.whole(&path, "8:0", &["size=4096", attribute, usb]);
    let name = name.rsplit('/').next().unwrap();
    let removal = computer.roots().removal(&BlockName(name.into()));
    assert_eq!(removal, expected);
}

#[test]
fn a_disk_on_usb_is_removed_from_the_system() {
    let computer = Computer::new();
    let attributes = [
        "size=4096",
        "removable=0",
        "../../../../../../idVendor=1a4b",
    ];
    computer.whole(&format!("{STICK}/sdd"), "8:48", &attributes);
    let Removal::Remove(file) = computer.roots().removal(&BlockName("sdd".into())) else {
        panic!("a disk has to be powered down");
    };
    assert!(file.ends_with("class/block/sdd/device/delete"));
}
