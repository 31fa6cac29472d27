//! What is in a source: refused by its name, asked about, or written as it is.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::Write;

use common::{Bench, small_image};
use pinewrit_judges::{needs, serve_script};
use rstest::rstest;

const MIB: usize = 1 << 20;

/// What becomes of a content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fate {
    /// Refused, whatever is said.
    Refused,
    /// Written with `--as-it-is` only.
    Asked,
    /// Written.
    Written,
}

use Fate::{Asked, Refused, Written};

/// Bytes that begin with a mark, or have it at a place, and go on without sense.
fn marked(at: usize, mark: &[u8]) -> Vec<u8> {
    let mut bytes: Vec<u8> = (0..64 << 10)
        .map(|i: u32| (i.wrapping_mul(2_654_435_761) >> 13) as u8 | 1)
        .collect();
    bytes[510] = 0;
    bytes[at..at + mark.len()].copy_from_slice(mark);
    bytes
}

/// An image with a partition whose file system has this mark.
fn partitioned(at: usize, mark: &[u8]) -> Vec<u8> {
    let mut image = small_image();
    image[9 * MIB..].fill(0);
    image[9 * MIB + at..9 * MIB + at + mark.len()].copy_from_slice(mark);
    image
}

fn content(name: &str) -> Vec<u8> {
    match name {
        "rar" => marked(0, b"Rar!\x1a\x07\x01\0"),
        "cab" => marked(0, b"MSCF\0\0\0\0"),
        "cpio" => marked(0, b"070701000000"),
        "cpio, binary" => marked(0, b"\xc7\x71\x01\x01"),
        "rpm" => marked(0, b"\xed\xab\xee\xdb\x03\0"),
        "deb" => marked(0, b"!<arch>\ndebian-binary   "),
        "compress" => marked(0, b"\x1f\x9d\x90"),
        "lzop" => marked(0, b"\x89LZO\0\r\n\x1a\n"),
        "lrzip" => marked(0, b"LRZI\0\x06"),
        "old lz4" => marked(0, b"\x02\x21\x4c\x18"),
        "wim" => marked(0, b"MSWIM\0\0\0"),
        "qcow2" => marked(0, b"QFI\xfb\0\0\0\x03"),
        "vmdk" => marked(0, b"KDMV\x01\0\0\0"),
        "vhd, growing" => marked(0, b"conectix\0\0\0\x02"),
        "vhd, fixed" => {
            let mut image = small_image();
            image.extend(b"conectix\0\0\0\x02");
            image.resize(14 * MIB + 512, 0);
            image
        }
        "vhdx" => marked(0, b"vhdxfile"),
        "vdi" => marked(64, b"\x7f\x10\xda\xbe"),
        "dmg" => {
            let mut image = small_image();
            image.extend(b"koly\0\0\0\x04");
            image.resize(14 * MIB + 512, 0);
            image
        }
        "salted" => marked(0, b"Salted__12345678"),
        "age" => marked(0, b"age-encryption.org/v1\n"),
        "pdf" => marked(0, b"%PDF-1.7\n"),
        "png" => marked(0, b"\x89PNG\r\n\x1a\n"),
        "elf" => marked(0, b"\x7fELF\x02\x01\x01"),
        "text" => b"see the read-me\n".repeat(4000),
        "page" => b"<!DOCTYPE html><p>404".to_vec(),
        "nothing" => Vec::new(),
        "a few bytes" => vec![1, 2, 3],
        "noise" => marked(0, b"\x01"),
        "zeros" => vec![0; 1 << 20],
        "ones" => vec![0xff; 1 << 20],
        "boot sector" => marked(510, b"\x55\xaa"),
        "MBR with FAT" => small_image(),
        "MBR with XFS" => partitioned(0, b"XFSB"),
        "squashfs" => marked(0, b"hsqs"),
        "XFS" => marked(0, b"XFSB"),
        "exFAT" => marked(3, b"EXFAT   "),
        "Btrfs" => {
            let mut bytes = vec![0; 128 << 10];
            bytes[65600..65608].copy_from_slice(b"_BHRfS_M");
            bytes
        }
        "ISO 9660" => {
            let mut bytes = vec![0; 64 << 10];
            bytes[32768..32774].copy_from_slice(b"\x01CD001");
            bytes
        }
        "swap" => {
            let mut bytes = vec![0; 64 << 10];
            bytes[4086..4096].copy_from_slice(b"SWAPSPACE2");
            bytes
        }
        "Sun label" => {
            let mut bytes = vec![0; 64 << 10];
            bytes[508..512].copy_from_slice(b"\xda\xbe\xda\xbe");
            bytes
        }
        "LUKS" => marked(0, b"LUKS\xba\xbe\0\x02"),
        other => panic!("{other}"),
    }
}

#[rstest]
#[case::rar("rar", Refused, "rar, a format")]
#[case::cab("cab", Refused, "cab, a format")]
#[case::cpio("cpio", Refused, "cpio, a format")]
#[case::cpio_binary("cpio, binary", Refused, "cpio, a format")]
#[case::rpm("rpm", Refused, "rpm, a format")]
#[case::deb("deb", Refused, "ar or deb, a format")]
#[case::compress("compress", Refused, "compress (.Z), a format")]
#[case::lzop("lzop", Refused, "lzop (.lzo), a format")]
#[case::lrzip("lrzip", Refused, "lrzip (.lrz), a format")]
#[case::old_lz4("old lz4", Refused, "lz4 in its older form")]
#[case::wim("wim", Refused, "wim, a format")]
#[case::qcow2("qcow2", Refused, "disk in the format qcow2")]
#[case::vmdk("vmdk", Refused, "disk in the format VMDK")]
#[case::vhd("vhd, growing", Refused, "disk in the format VHD")]
#[case::vhd_fixed("vhd, fixed", Refused, "disk in the format VHD")]
#[case::vhdx("vhdx", Refused, "disk in the format VHDX")]
#[case::vdi("vdi", Refused, "disk in the format VDI")]
#[case::dmg("dmg", Refused, "disk in the format DMG")]
#[case::salted("salted", Refused, "encrypted by")]
#[case::age("age", Refused, "encrypted by age")]
#[case::pdf("pdf", Refused, "a PDF document")]
#[case::png("png", Refused, "a picture")]
#[case::elf("elf", Refused, "ELF")]
#[case::text("text", Refused, "text")]
#[case::page("page", Refused, "web page")]
#[case::nothing("nothing", Refused, "is empty")]
#[case::few("a few bytes", Refused, "not an image")]
#[case::noise("noise", Asked, "is not a known kind of image")]
#[case::zeros("zeros", Asked, "is not a known kind of image")]
#[case::ones("ones", Asked, "is not a known kind of image")]
#[case::boot_sector("boot sector", Written, "")]
#[case::fat("MBR with FAT", Written, "")]
#[case::mbr_xfs("MBR with XFS", Written, "")]
#[case::squashfs("squashfs", Written, "")]
#[case::xfs("XFS", Written, "")]
#[case::exfat("exFAT", Written, "")]
#[case::btrfs("Btrfs", Written, "")]
#[case::iso("ISO 9660", Written, "")]
#[case::swap("swap", Written, "")]
#[case::sun("Sun label", Written, "")]
#[case::luks("LUKS", Written, "")]
fn every_kind_of_content(#[case] name: &str, #[case] fate: Fate, #[case] words: &str) {
    let bench = Bench::new();
    let bytes = content(name);
    bench.write("os.img", &bytes);
    let write = ["write", "os.img", "--to", "card.img", "--size", "24MiB"];
    let dry = bench.run(&[&write[..], &["--dry-run"]].concat());
    let plain = bench.run(&write);
    assert_eq!(dry.code, plain.code, "{}", dry.stderr);
    let looked = bench.run(&["inspect", "os.img"]);
    assert_eq!(
        looked.code,
        if fate == Refused { 4 } else { 0 },
        "{}",
        looked.stderr
    );
    if fate != Written {
        let run = plain.expect(4).says(&[words, "try"]);
        assert_eq!(
            run.stderr.contains("--as-it-is"),
            fate == Asked,
            "{}",
            run.stderr
        );
        assert!(!bench.path("card.img").exists());
    }
    if fate == Refused {
        looked.says(&[words]);
    }
    let run = bench.run(&[&write[..], &["--as-it-is", "--yes"]].concat());
    match fate {
        Refused => drop(run.expect(4)),
        Written => {
            assert!(bench.read("card.img")[..bytes.len()] == bytes || name == "MBR with FAT")
        }
        Asked => {
            run.expect(0);
            assert!(bench.read("card.img")[..bytes.len()] == bytes);
        }
    }
}

/// An archive of the image, made by a stranger.
fn archive(commands: &str) -> Option<Bench> {
    if !serve_script(commands) {
        return None;
    }
    let bench = Bench::new();
    // Long stretches of nothing, which are kept as holes.
    let mut image = small_image();
    image[10 * MIB..13 * MIB].fill(0);
    bench.write("image.img", image);
    let holes = "cp --sparse=always image.img s.img; mv s.img image.img";
    bench
        .judge("sh", &["-e", "-c", &format!("{holes}; {commands}")])?
        .expect(0);
    Some(bench)
}

fn written(bench: &Bench, source: &str) {
    bench
        .run(&[
            "write",
            source,
            "--to",
            "card.img",
            "--size",
            "24MiB",
            "--every-byte",
        ])
        .expect(0);
    assert!(bench.read("card.img")[..14 * MIB] == bench.read("image.img"));
}

#[rstest]
#[case::pax_0_0("tar --format=pax --sparse-version=0.0 -cSf x.tar image.img")]
#[case::pax_0_1("tar --format=pax --sparse-version=0.1 -cSf x.tar image.img")]
#[case::pax_1_0("tar --format=pax --sparse-version=1.0 -cSf x.tar image.img")]
#[case::usual("tar --format=pax -cSf x.tar image.img")]
#[case::old("tar --format=gnu -cSf x.tar image.img")]
#[case::packed("tar --format=pax -cSf y.tar image.img; gzip y.tar; mv y.tar.gz x.tar")]
fn sparse_tars_are_expanded(#[case] commands: &str) {
    let Some(bench) = archive(commands) else {
        return;
    };
    written(&bench, "x.tar");
}

/// A tar with one member and this record in its extended head.
fn with_record(key: &str, value: &str) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    tar.append_pax_extensions([(key, value.as_bytes())])
        .unwrap();
    let image = small_image();
    let mut head = tar::Header::new_ustar();
    head.set_size(image.len() as u64);
    head.set_mode(0o644);
    head.set_uid(0);
    head.set_gid(0);
    head.set_mtime(0);
    tar.append_data(&mut head, "hut.img", &image[..]).unwrap();
    tar.into_inner().unwrap()
}

#[rstest]
#[case::holes("SUN.holesdata", " 0 100 200", 4)]
#[case::volume("GNU.volume.size", "100", 4)]
#[case::anything("HUT.folded", "twice", 4)]
#[case::attribute("SCHILY.xattr.user.note", "from the valley", 0)]
#[case::time("mtime", "1.5", 0)]
fn what_a_head_says_is_understood_or_refused(
    #[case] key: &str,
    #[case] value: &str,
    #[case] code: i32,
) {
    let bench = Bench::new();
    bench.write("x.tar", with_record(key, value));
    let run = bench.run(&["write", "x.tar", "--to", "card.img", "--size", "24MiB"]);
    let run = run.expect(code);
    assert_eq!(run.stderr.contains(key), code == 4, "{}", run.stderr);
}

/// Members that are links or devices are no images, whatever they are called.
#[rstest]
#[case::zip("ln -s image.img hut.img; zip -q -y a.zip hut.img image.img", "a.zip")]
#[case::sevenz("ln -s image.img hut.img; 7z a -snl a.7z hut.img image.img", "a.7z")]
#[case::tar("ln -s image.img hut.img; tar -cf a.tar hut.img image.img", "a.tar")]
fn links_in_archives_are_passed_over(#[case] commands: &str, #[case] name: &str) {
    let Some(bench) = archive(commands) else {
        return;
    };
    written(&bench, name);
}

#[rstest]
#[case::garbage(b"<html>and then a page</html>")]
#[case::zeros(&[0; 4096])]
#[case::twice(b"")]
fn what_follows_lzma_is_told(#[case] behind: &[u8]) {
    let bench = Bench::new();
    let options = liblzma::stream::LzmaOptions::new_preset(1).unwrap();
    let stream = liblzma::stream::Stream::new_lzma_encoder(&options).unwrap();
    let mut out = liblzma::write::XzEncoder::new_stream(Vec::new(), stream);
    out.write_all(&small_image()).unwrap();
    let packed = out.finish().unwrap();
    let more = if behind.is_empty() {
        &packed[..]
    } else {
        behind
    };
    bench.write("hut.img.lzma", [&packed[..], more].concat());
    bench
        .run(&[
            "write",
            "hut.img.lzma",
            "--to",
            "card.img",
            "--size",
            "24MiB",
        ])
        .expect(4)
        .says(&["damaged", "lzma"]);
}

#[rstest]
#[case::plain(false)]
#[case::packed(true)]
fn an_image_that_is_cut_off_is_refused(#[case] is_packed: bool) {
    let bench = Bench::new();
    let cut = &small_image()[..10 * MIB];
    let name = match is_packed {
        false => bench.write("hut.img", cut),
        true => bench.write("hut.img.zst", common::zstd(cut)),
    };
    let name = name.file_name().unwrap().to_str().unwrap().to_owned();
    let write = ["write", &name, "--to", "card.img", "--size", "24MiB"];
    bench.run(&write).expect(4).says(&[
        "is truncated",
        "10.49 MB",
        "14.68 MB",
        "--as-it-is",
        "nothing was written",
    ]);
    assert!(!bench.path("card.img").exists());
    bench.run(&[&write[..], &["--as-it-is"]].concat()).expect(0);
}

/// Whose size nobody tells before: found at the end, and nothing looks done.
#[test]
fn a_cut_off_image_of_unknown_size_leaves_no_table() {
    let bench = Bench::new();
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(&small_image()[..10 * MIB]).unwrap();
    bench.write("hut.img.gz", out.finish().unwrap());
    bench.write("card.img", vec![0x33; 24 * MIB]);
    bench
        .run(&["write", "hut.img.gz", "--to", "card.img", "--yes"])
        .expect(4)
        .says(&["is truncated", "no partition table"]);
    assert!(common::has_no_table(&bench.read("card.img")));
}

#[rstest]
#[case::lzip("lzip -k image.img", "image.img.lz")]
#[case::lzip_members("lzip -k -b 100000 image.img", "image.img.lz")]
#[case::android("img2simg image.img image.simg", "image.simg")]
#[case::android_small_blocks("img2simg image.img image.simg 1024", "image.simg")]
#[case::android_packed("img2simg image.img image.simg; gzip image.simg", "image.simg.gz")]
#[case::sevenz_in_zip("7z a a.7z image.img; zip -q b.zip a.7z", "b.zip")]
#[case::sevenz_stored_in_zip("7z a a.7z image.img; zip -q -0 b.zip a.7z", "b.zip")]
#[case::sevenz_in_tar("7z a a.7z image.img; tar -cf b.tar a.7z", "b.tar")]
#[case::sevenz_in_tar_gz("7z a a.7z image.img; tar -czf b.tar.gz a.7z", "b.tar.gz")]
#[case::sevenz_in_xz("7z a a.7z image.img; xz a.7z", "a.7z.xz")]
#[case::zip_pieces_in_zip("zip -q -0 -s 2m os.zip image.img; zip -q -0 b.zip os.z*", "b.zip")]
#[case::sevenz_pieces_in_zip("7z a -v1m os.7z image.img; zip -q b.zip os.7z.0*", "b.zip")]
#[case::sevenz_pieces_in_7z("7z a -v1m os.7z image.img; 7z a b.7z os.7z.0*", "b.7z")]
#[case::xz_pieces_in_tar(
    "xz -k image.img; split -b 1M image.img.xz os.img.xz.; tar -cf b.tar os.img.xz.*",
    "b.tar"
)]
fn more_wrappings(#[case] commands: &str, #[case] name: &str) {
    let Some(bench) = archive(commands) else {
        return;
    };
    written(&bench, name);
    let spool = bench.path("cache/pinewrit/spool");
    assert_eq!(std::fs::read_dir(spool).map_or(0, Iterator::count), 0);
}

#[test]
fn pieces_in_an_archive_that_are_not_complete() {
    let commands = "7z a -v1m os.7z image.img; rm os.7z.002; zip -q b.zip os.7z.0*";
    let Some(bench) = archive(commands) else {
        return;
    };
    bench
        .run(&["write", "b.zip", "--to", "card.img", "--size", "24MiB"])
        .expect(4)
        .says(&["pieces are missing", "os.7z.002"]);
}

/// What has to be unpacked to a file first needs room for it, which is looked at before.
#[test]
fn no_room_for_what_has_to_be_unpacked_first() {
    needs!["mount", "umount"];
    let Some(bench) = archive("7z a -mx0 a.7z image.img; zip -q b.zip a.7z") else {
        return;
    };
    std::fs::create_dir(bench.path("cache")).unwrap();
    let mount = ["-t", "tmpfs", "-o", "size=8m", "tmpfs", "cache"];
    if bench.judge("mount", &mount).is_none_or(|run| run.code != 0) {
        return common::say_skipped("small file systems");
    }
    let run = bench.run(&["write", "b.zip", "--to", "card.img", "--size", "24MiB"]);
    bench.judge("umount", &["cache"]).unwrap().expect(0);
    run.expect(4)
        .says(&["not enough space", "needed", "free", "XDG_CACHE_HOME"]);
    assert!(!bench.path("card.img").exists());
}

/// A packed archive that is damaged anywhere is a bad source, never a bad medium.
#[rstest]
#[case::tar_xz("tar -cJf x image.img")]
#[case::sevenz("7z a x.7z image.img; mv x.7z x")]
#[case::zip("zip -q x.zip image.img; mv x.zip x")]
#[case::zip_in_tar("zip -q x.zip image.img; tar -cf x x.zip")]
fn damage_is_the_sources(#[case] commands: &str) {
    let Some(bench) = archive(commands) else {
        return;
    };
    let whole = bench.read("x");
    for step in 1..24 {
        let mut bytes = whole.clone();
        let at = bytes.len() * step / 24;
        bytes[at] ^= 0x10;
        bytes[at + 1] ^= 0x81;
        bench.write("bad", &bytes);
        let run = bench.run(&[
            "write",
            "bad",
            "--to",
            "card.img",
            "--size",
            "24MiB",
            "--dry-run",
        ]);
        assert!(
            matches!(run.code, 0 | 4),
            "at {at}: {} {}",
            run.code,
            run.stderr
        );
        let run = bench.run(&["inspect", "bad"]);
        assert!(
            matches!(run.code, 0 | 4),
            "at {at}: {} {}",
            run.code,
            run.stderr
        );
    }
}

/// What the plan calls free is what is left free, over all kinds of images.
#[rstest]
#[case::fat("mkfs.fat -C -F 16 image.img 16384 >/dev/null")]
#[case::ext4("truncate -s 24M image.img; mke2fs -q -F -t ext4 image.img")]
#[case::ext2("truncate -s 24M image.img; mke2fs -q -F -t ext2 -b 1024 image.img")]
#[case::no_file_system(
    "truncate -s 24M image.img; printf '\\125\\252' | dd of=image.img bs=1 seek=510 conv=notrunc status=none"
)]
#[case::iso("mkdir tree; seq 1 9999 > tree/log; genisoimage -quiet -o image.img tree 2>/dev/null")]
#[case::hybrid(
    "cp /boot/memtest86+x64.iso image.img || cp /usr/lib/grub-rescue/grub-rescue-cdrom.iso image.img"
)]
#[case::table(
    "truncate -s 48M image.img; printf 'label: dos\\nsize=16M,type=c\\nsize=16M\\nsize=8M,type=82\\n' | sfdisk -q image.img; truncate -s 16M p; mke2fs -q -F p; dd if=p of=image.img bs=1M seek=17 conv=notrunc status=none"
)]
fn plan_and_result_agree(#[case] make: &str) {
    if !serve_script(make) {
        return;
    }
    let bench = Bench::new();
    let made = bench.judge("sh", &["-c", make]).unwrap();
    if made.code != 0 {
        return common::say_skipped("an image for it");
    }
    let run = bench
        .run(&[
            "--json",
            "write",
            "image.img",
            "--to",
            "card.img",
            "--size",
            "64MiB",
        ])
        .expect(0);
    let plan = run
        .stdout
        .lines()
        .find(|line| line.contains("\"event\":\"plan\""))
        .unwrap();
    let plan: serde_json::Value = serde_json::from_str(plan).unwrap();
    assert_eq!(plan["free_bytes"], run.json()["free_bytes"]);
}
