//! File systems by their own tools, and what an independent program says of them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use pinewrit_disk::{BlockDevice, CacheUse, FileDevice, MemoryDevice, SectorSize};
use pinewrit_judges::{are_there, command, needs, serve_script};
use pinewrit_signs::{Role, Sign, at_end, at_start, foreign_table};
use proptest::prelude::*;
use rstest::rstest;

const MIB: u64 = 1 << 20;

fn device(path: &Path) -> FileDevice {
    let file = File::open(path).unwrap();
    let size = file.metadata().unwrap().len();
    FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached)
}

fn sign(device: &dyn BlockDevice) -> Option<Sign> {
    let end = at_end(device).unwrap();
    end.or_else(|| at_start(device).unwrap())
}

/// What `blkid` says of a file, by the names of its values.
fn blkid(path: &Path) -> Vec<(String, String)> {
    let output = command("blkid")
        .args(["-p", "-o", "export"])
        .arg(path)
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let pairs = text.lines().filter_map(|line| line.split_once('='));
    pairs
        .map(|(name, value)| (name.to_owned(), value.replace('\\', "")))
        .collect()
}

fn value<'a>(found: &'a [(String, String)], name: &str) -> Option<&'a str> {
    let pair = found.iter().find(|(own, _)| own == name)?;
    Some(pair.1.as_str())
}

/// A file of so many MiB on which a tool has made its file system.
#[rstest]
#[case::exfat(64, "mkfs.exfat -L HUT", "exFAT", "exfat")]
#[case::ntfs(64, "mkntfs -q -F -L hut", "NTFS", "ntfs")]
#[case::xfs(320, "mkfs.xfs -q -L hut", "XFS", "xfs")]
#[case::btrfs(128, "mkfs.btrfs -q -L hut", "Btrfs", "btrfs")]
#[case::f2fs(64, "mkfs.f2fs -q -l hut", "F2FS", "f2fs")]
#[case::jfs(64, "mkfs.jfs -q -L hut", "JFS", "jfs")]
#[case::reiserfs(64, "mkfs.reiserfs -q -f -l hut", "ReiserFS", "reiserfs")]
#[case::nilfs(160, "mkfs.nilfs2 -q -L hut", "NILFS2", "nilfs2")]
#[case::ocfs2(
    256,
    "mkfs.ocfs2 -q -F -N 2 -L hut --fs-features=local",
    "OCFS2",
    "ocfs2"
)]
#[case::gfs2(256, "mkfs.gfs2 -q -O -p lock_nolock -t hut:one", "GFS2", "gfs2")]
#[case::udf(64, "mkudffs -l hut", "UDF", "udf")]
#[case::udf_blocks(64, "mkudffs -b 512 -l hut", "UDF", "udf")]
#[case::minix(16, "mkfs.minix", "Minix", "minix")]
#[case::minix3(16, "mkfs.minix -3", "Minix", "minix")]
#[case::hfs(64, "hformat -l hut", "HFS", "hfs")]
#[case::bfs(16, "mkfs.bfs", "BFS", "bfs")]
#[case::swap(16, "mkswap -L hut", "swap", "swap")]
#[case::swap_pages(16, "mkswap -p 16384 -L hut", "swap", "swap")]
#[case::luks1(
    32,
    "cryptsetup -q luksFormat --type luks1 --pbkdf-force-iterations 1000 --key-file /etc/os-release",
    "LUKS (encrypted)",
    "crypto_LUKS"
)]
#[case::luks2(
    32,
    "cryptsetup -q luksFormat --type luks2 --label hut --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --key-file /etc/os-release",
    "LUKS (encrypted)",
    "crypto_LUKS"
)]
#[case::bcache(32, "make-bcache -B", "bcache", "bcache")]
fn made_by_its_own_tool(
    #[case] size: u64,
    #[case] maker: &str,
    #[case] kind: &str,
    #[case] theirs: &str,
) {
    let mut words = maker.split(' ');
    let program = words.next().unwrap();
    needs!["blkid", program];
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("fs.img");
    File::create(&path).unwrap().set_len(size * MIB).unwrap();
    let made = command(program).args(words).arg(&path).output().unwrap();
    if !made.status.success() {
        let why = String::from_utf8_lossy(&made.stderr).into_owned();
        return pinewrit_judges::say_skipped(&format!("{program} on a file ({})", why.trim()));
    }
    agree(&path, kind, theirs);
}

fn agree(path: &Path, kind: &str, theirs: &str) {
    let judged = blkid(path);
    assert_eq!(value(&judged, "TYPE"), Some(theirs), "{judged:?}");
    let own = sign(&device(path)).unwrap();
    assert_eq!(own.format.word(), kind);
    assert_eq!(own.id.as_deref(), value(&judged, "UUID"), "{judged:?}");
    assert_eq!(own.label.as_deref(), value(&judged, "LABEL"), "{judged:?}");
}

#[rstest]
#[case::squashfs("mksquashfs tree fs.img -quiet -no-progress", "squashfs", "squashfs")]
#[case::erofs("mkfs.erofs fs.img tree", "EROFS", "erofs")]
#[case::cramfs("mkfs.cramfs -n hut tree fs.img", "cramfs", "cramfs")]
#[case::romfs("genromfs -d tree -f fs.img -V hut", "romfs", "romfs")]
#[case::iso("genisoimage -quiet -V HUT -o fs.img tree", "ISO 9660", "iso9660")]
#[case::joliet(
    "genisoimage -quiet -J -V 'a longer label' -o fs.img tree",
    "ISO 9660",
    "iso9660"
)]
#[case::ubifs(
    "mkfs.ubifs -m 2048 -e 126976 -c 100 -r tree -o fs.img",
    "UBIFS",
    "ubifs"
)]
fn made_of_a_tree(#[case] script: &str, #[case] kind: &str, #[case] theirs: &str) {
    needs!["blkid", script.split(' ').next().unwrap()];
    let dir = tempfile::tempdir().unwrap();
    let tree = dir.path().join("tree");
    std::fs::create_dir(&tree).unwrap();
    std::fs::write(tree.join("log"), "wind ".repeat(9999)).unwrap();
    let made = command("sh")
        .args(["-c", script])
        .current_dir(dir.path())
        .output()
        .unwrap();
    if !made.status.success() {
        let why = String::from_utf8_lossy(&made.stderr).into_owned();
        return pinewrit_judges::say_skipped(&format!("{script} ({})", why.trim()));
    }
    agree(&dir.path().join("fs.img"), kind, theirs);
}

/// Marks that no tool on this computer makes: both find them in the same places.
#[rstest]
#[case::raid_1_1(0, b"\xfc\x4e\x2b\xa9\x01\0\0\0", "Linux RAID", Role::Member)]
#[case::raid_1_2(4096, b"\xfc\x4e\x2b\xa9\x01\0\0\0", "Linux RAID", Role::Member)]
#[case::lvm(512, b"LABELONE", "LVM", Role::Member)]
#[case::zfs(135_168, &[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0], "ZFS", Role::Member)]
#[case::stratis(512, b"!Stra0tis\x86\xff\x02^\x41rh", "Stratis pool", Role::Member)]
#[case::vdo(0, b"dmvdo001", "VDO volume", Role::Member)]
#[case::ubi(0, b"UBI#\x01", "UBI", Role::Member)]
#[case::vmfs(0x20_0000, b"\x5e\xf1\xab\x2f", "VMFS", Role::Filesystem)]
#[case::vmfs_volume(0x10_0000, b"\x0d\xd0\x01\xc0", "VMFS volume", Role::Member)]
#[case::asm(32, b"ORCLDISK", "ASM disk", Role::Member)]
#[case::bluestore(0, b"bluestore block device", "Ceph BlueStore", Role::Member)]
#[case::refs(0, b"\0\0\0ReFS\0", "ReFS", Role::Filesystem)]
#[case::apfs(32, b"NXSB", "APFS", Role::Filesystem)]
#[case::bitlocker(3, b"-FVE-FS-", "BitLocker (encrypted)", Role::Encrypted)]
#[case::suspended(4086, b"S1SUSPEND", "suspended system", Role::Swap)]
#[case::reiser4(0x1_0000, b"ReIsEr4", "Reiser4", Role::Filesystem)]
#[case::befs(544, b"1SFB", "BeFS", Role::Filesystem)]
#[case::hpfs(0x2000, b"\x49\xe8\x95\xf9", "HPFS", Role::Filesystem)]
#[case::ufs2(0x1_0000 + 1372, b"\x19\x01\x54\x19", "UFS", Role::Filesystem)]
fn marks(#[case] at: usize, #[case] mark: &[u8], #[case] kind: &str, #[case] role: Role) {
    let mut bytes = vec![0; 4 << 20];
    bytes[at..at + mark.len()].copy_from_slice(mark);
    let found = sign(&MemoryDevice::from_bytes(bytes)).unwrap();
    assert_eq!((found.format.word(), found.role), (kind, role));
}

/// Marks at the end, so many bytes before it.
#[rstest]
#[case::raid_1_0(8192, b"\xfc\x4e\x2b\xa9\x01\0\0\0", "Linux RAID")]
#[case::raid_0_90(65536, b"\xfc\x4e\x2b\xa9", "Linux RAID")]
#[case::isw(1024, b"Intel Raid ISM Cfg Sig. ", "firmware RAID (ISW)")]
#[case::ddf(512, b"\xde\x11\xde\x11", "firmware RAID (DDF)")]
#[case::lsi(512, b"$XIDE$", "firmware RAID (LSI)")]
#[case::nv(1024, b"NVIDIA", "firmware RAID (NV)")]
#[case::pdc(63 * 512, b"Promise Technology, Inc.", "firmware RAID (PDC)")]
fn marks_at_the_end(#[case] before: usize, #[case] mark: &[u8], #[case] kind: &str) {
    let mut bytes = vec![0; 4 << 20];
    let at = bytes.len() - before;
    bytes[at..at + mark.len()].copy_from_slice(mark);
    let found = at_end(&MemoryDevice::from_bytes(bytes)).unwrap().unwrap();
    assert_eq!((found.format.word(), found.role), (kind, Role::Member));
}

/// Tables of other computers, made by a stranger.
#[rstest]
#[case::sun("label: sun\n,8MiB\n", "Sun disk label")]
#[case::sgi("label: sgi\n,8MiB\n", "SGI disk label")]
fn foreign_tables(#[case] table: &str, #[case] kind: &str) {
    needs!["sfdisk"];
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("disk.img");
    File::create(&path).unwrap().set_len(64 * MIB).unwrap();
    std::fs::write(dir.path().join("table"), table).unwrap();
    let script = "sfdisk -q disk.img < table";
    assert!(serve_script(script));
    let made = command("sh")
        .args(["-c", script])
        .current_dir(dir.path())
        .status();
    assert!(made.unwrap().success());
    assert_eq!(foreign_table(&device(&path)).unwrap(), Some(kind));
}

#[test]
fn tables_by_their_marks() {
    let table = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut bytes = vec![0; 1 << 20];
        change(&mut bytes);
        foreign_table(&MemoryDevice::from_bytes(bytes)).unwrap()
    };
    assert_eq!(table(&|_| {}), None);
    let bsd = table(&|bytes| {
        bytes[512..516].copy_from_slice(&0x8256_4557_u32.to_le_bytes());
        bytes[644..648].copy_from_slice(&0x8256_4557_u32.to_le_bytes());
    });
    assert_eq!(bsd, Some("BSD disk label"));
    let atari = table(&|bytes| {
        bytes[0x1c6..0x1d2].copy_from_slice(b"\x01GEM\0\0\0\x02\0\0\x01\0");
    });
    assert_eq!(atari, Some("Atari partition table"));
    let mac = table(&|bytes| {
        bytes[..2].copy_from_slice(b"ER");
        bytes[512..514].copy_from_slice(b"PM");
    });
    assert_eq!(mac, Some("Mac partition map"));
}

/// A label on a file system that an array of its own lies over is the array's.
#[test]
fn a_member_comes_before_what_it_begins_with() {
    needs!["mkfs.xfs", "blkid"];
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("fs.img");
    File::create(&path).unwrap().set_len(320 * MIB).unwrap();
    assert!(are_there(&["mkfs.xfs"]));
    let made = command("mkfs.xfs")
        .args(["-q", "-L", "hut"])
        .arg(&path)
        .status();
    assert!(made.unwrap().success());
    let file = File::options().write(true).open(&path).unwrap();
    let mut raid = vec![0; 256];
    raid[..8].copy_from_slice(b"\xfc\x4e\x2b\xa9\x01\0\0\0");
    raid[16..32].fill(0x5a);
    file.write_all_at(&raid, 320 * MIB - 8192).unwrap();
    assert_eq!(sign(&device(&path)).unwrap().format.word(), "Linux RAID");
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Arbitrary bytes behind any mark end nothing.
    #[test]
    fn arbitrary_bytes(
        noise in proptest::collection::vec(any::<u8>(), 0..70_000),
        at in proptest::sample::select(vec![0_usize, 3, 32, 512, 1024, 1080, 4086, 4096, 32768, 65536]),
        mark in proptest::sample::select(vec![
            &b"NTFS    "[..], b"EXFAT   ", b"H+\x00\x04", b"BD", b"LABELONE", b"LUKS\xba\xbe\0\x02",
            b"\x01CD001", b"\x01NSR02", b"_BHRfS_M", b"SWAPSPACE2", b"\x34\x34", b"XFSB",
        ]),
    ) {
        let mut bytes = noise;
        if bytes.len() >= at + mark.len() {
            bytes[at..at + mark.len()].copy_from_slice(mark);
        }
        let device = MemoryDevice::from_bytes(bytes);
        let _ = sign(&device);
        let _ = foreign_table(&device);
    }
}
