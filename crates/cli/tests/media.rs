//! Block devices that must not be written, and the computer's own disk.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Bench, Loop, small_image, zstd};
use rstest::rstest;

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("hut.img.zst", zstd(&small_image()));
    bench
}

#[test]
fn a_mounted_device_is_busy_and_stays_as_it_is() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0; 32 << 20]);
    let Some(mkfs) = bench.judge("mkfs.ext4", &["-q", "behind.img"]) else {
        return;
    };
    mkfs.expect(0);
    let Some(device) = Loop::over(&behind, &[]) else {
        return;
    };
    fs::create_dir(bench.path("mounted here")).unwrap();
    bench
        .judge("mount", &[&device.path, "mounted here"])
        .unwrap()
        .expect(0);
    let run = bench.run(&["write", "hut.img.zst", "--to", &device.path, "--yes"]);
    bench.judge("umount", &["mounted here"]).unwrap().expect(0);
    run.expect(3)
        .says(&["is in use", "mounted", "mounted here", "--unmount"]);
    let checked = bench.judge("e2fsck", &["-fn", "behind.img"]).unwrap();
    checked.expect(0);
    // Now nobody uses it.
    bench
        .run(&["write", "hut.img.zst", "--to", &device.path, "--yes"])
        .expect(0);
}

#[test]
fn a_device_in_use_by_another_program_is_busy() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0; 32 << 20]);
    let Some(device) = Loop::over(&behind, &[]) else {
        return;
    };
    let exclusive = rustix::fs::open(
        device.path.as_str(),
        rustix::fs::OFlags::RDWR | rustix::fs::OFlags::EXCL,
        rustix::fs::Mode::empty(),
    );
    let held = exclusive.unwrap();
    bench
        .run(&["write", "hut.img.zst", "--to", &device.path, "--yes"])
        .expect(3)
        .says(&["is in use", "another program"]);
    drop(held);
}

#[test]
fn a_write_protected_device_is_locked() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0x5a; 32 << 20]);
    let Some(device) = Loop::over(&behind, &["--read-only"]) else {
        return;
    };
    bench
        .run(&["write", "hut.img.zst", "--to", &device.path, "--yes"])
        .expect(3)
        .says(&["is write-protected", "lock switch"]);
    assert!(bench.read("behind.img") == vec![0x5a; 32 << 20]);
}

#[test]
fn a_card_file_that_is_attached_is_busy() {
    let bench = bench();
    let card = bench.write("card.img", vec![0; 32 << 20]);
    let Some(device) = Loop::over(&card, &[]) else {
        return;
    };
    bench
        .run(&["write", "hut.img.zst", "--to", "card.img", "--yes"])
        .expect(3)
        .says(&["is in use", "attached", &device.path, "losetup -d"]);
}

#[test]
fn a_card_file_that_another_pinewrit_writes_is_busy() {
    let bench = bench();
    let card = bench.write("card.img", vec![0; 32 << 20]);
    let file = fs::File::options().write(true).open(card).unwrap();
    rustix::fs::flock(&file, rustix::fs::FlockOperation::LockExclusive).unwrap();
    bench
        .run(&["write", "hut.img.zst", "--to", "card.img", "--yes"])
        .expect(3)
        .says(&["is in use", "another program"]);
}

/// The device that the root file system lives on, if it is a block device.
fn system_disk() -> Option<String> {
    let info = fs::read_to_string("/proc/self/mountinfo").ok()?;
    let line = info
        .lines()
        .find(|line| line.split(' ').nth(4) == Some("/"))?;
    let number = line.split(' ').nth(2)?;
    let device = fs::canonicalize(format!("/sys/dev/block/{number}")).ok()?;
    let whole = match device.join("partition").exists() {
        true => device.parent()?.to_owned(),
        false => device,
    };
    let path = format!("/dev/{}", whole.file_name()?.to_str()?);
    fs::metadata(&path).is_ok().then_some(path)
}

#[rstest]
#[case::plain(&[])]
#[case::yes(&["--yes"])]
#[case::everything(&["--yes", "--no-verify", "-q"])]
#[case::dry_run(&["--dry-run"])]
fn the_computers_own_disk_is_never_written(#[case] options: &[&str]) {
    let Some(disk) = system_disk() else {
        common::say_skipped("a block device under the root file system");
        return;
    };
    let bench = bench();
    let args = [&["write", "hut.img.zst", "--to", &disk], options].concat();
    bench.run(&args).expect(3).says(&[
        "runs this computer, and is never written",
        "no option overrides this",
    ]);
    let configure = ["configure", &disk, "--settings", "hut.toml", "--yes"];
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    bench.run(&configure).expect(3);
}

#[test]
fn a_loop_device_with_a_gpt_is_cleared_at_both_ends() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0; 32 << 20]);
    bench.write("table", "label: gpt\n,4MiB\n,\n");
    let made = bench.judge("sh", &["-c", "sfdisk -q behind.img < table"]);
    let (Some(_), true) = (made, common::has("sfdisk")) else {
        return;
    };
    let Some(device) = Loop::over(&behind, &[]) else {
        return;
    };
    bench
        .run(&["write", "hut.img.zst", "--to", &device.path, "--yes"])
        .expect(0)
        .says(&["GPT: Linux"]);
    let bytes = bench.read("behind.img");
    assert!(!bytes[31 << 20..].windows(8).any(|w| w == b"EFI PART"));
}
