//! ext file systems as the kernel, other tools, age and bad cards leave them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Bench, Loop, Run, demo};
use pinewrit_judges::needs;
use rstest::rstest;

/// Somebody who can log in.
const USER: &str = "[[users]]\nname = \"warden\"\nssh-keys = [\"ssh-ed25519 \
    AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp warden@larkfell-valley\"]\n";

/// A file system by `mke2fs` as `fs.img`, with a tree in it.
fn made(bench: &Bench, size: &str, options: &str) {
    fs::create_dir_all(bench.path("tree/etc/ssl")).unwrap();
    bench.write("tree/etc/hostname", "larkfell-03\n");
    bench.write("new", "snow depth\n");
    let script = format!("truncate -s {size} fs.img && mke2fs -q -F {options} -d tree fs.img");
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
}

fn sound(bench: &Bench) {
    bench.judge("e2fsck", &["-fn", "fs.img"]).unwrap().expect(0);
}

/// What is possible is done, what is not is told, and nobody falls.
fn done_or_told(run: Run) {
    assert!(matches!(run.code, 0 | 5), "{}: {}", run.code, run.stderr);
    assert!(!run.stderr.contains("panicked"), "{}", run.stderr);
}

#[rstest]
#[case::sixteen_inodes("8M", "-t ext4 -N 16")]
#[case::sixteen_inodes_in_small_blocks("600K", "-t ext4 -b 1024 -N 16")]
#[case::eight_in_a_group("4M", "-t ext2 -b 1024 -N 16 -g 2048")]
#[case::many_groups("16M", "-t ext4 -b 1024 -g 256")]
#[case::oldest("8M", "-t ext2 -r 0")]
#[case::large_blocks("64M", "-t ext4 -b 65536")]
#[case::without_checksums("8M", "-t ext4 -O ^metadata_csum,uninit_bg -G 4")]
fn small_and_odd_ones_are_changed(#[case] size: &str, #[case] options: &str) {
    needs!["mke2fs", "e2fsck"];
    let bench = Bench::new();
    made(&bench, size, options);
    done_or_told(bench.run(&["files", "put", "fs.img", "whole:/etc/ssl/gauge", "new"]));
    sound(&bench);
    done_or_told(bench.run(&["files", "remove", "fs.img", "whole:/etc/hostname", "--yes"]));
    sound(&bench);
}

/// In the partition of a card, for what works on whole media.
#[rstest]
#[case::eight_in_a_group("-t ext2 -b 1024 -N 16 -g 2048")]
#[case::sixteen("-t ext4 -N 16")]
#[case::usual("-t ext4")]
fn small_groups_are_renewed_and_grown(#[case] options: &str) {
    needs!["mke2fs", "e2fsck", "sfdisk"];
    let bench = Bench::new();
    made(&bench, "8M", options);
    let script = "truncate -s 9M card.img && echo 'start=2048, type=83' | sfdisk -q card.img && \
                  dd if=fs.img of=card.img bs=1M seek=1 conv=notrunc status=none";
    bench.judge("sh", &["-c", script]).unwrap().expect(0);
    let taken = |bench: &Bench, from: &str| {
        let script = format!("dd if={from} of=fs.img bs=1M skip=1 status=none");
        bench.judge("sh", &["-c", &script]).unwrap().expect(0);
        sound(bench);
    };
    bench
        .run(&["table", "renew", "card.img", "--yes"])
        .expect(0);
    taken(&bench, "card.img");
    let write = [
        "write", "card.img", "--to", "big.img", "--size", "40MiB", "--grow", "--yes",
    ];
    bench.run(&write).expect(0);
    taken(&bench, "big.img");
}

/// 400 names in `/etc` by the kernel give it an index.
#[rstest]
#[case::usual("-t ext4")]
#[case::without_checksums("-t ext4 -O ^metadata_csum")]
#[case::two_levels("-t ext4 -b 1024 -N 8000")]
fn directories_by_the_kernel_are_changed(#[case] options: &str) {
    needs!["mke2fs", "e2fsck", "mount"];
    let bench = Bench::new();
    made(&bench, "64M", options);
    let Some(device) = Loop::over(&bench.path("fs.img"), &[]) else {
        return;
    };
    let script = format!(
        "mkdir -p m && mount {} m && mkdir m/var && \
         for i in $(seq 1 400); do : > m/var/reading-of-the-day-$i; done && cd m/etc && \
         for i in $(seq 1 4000); do : > reading-of-the-day-$i-with-a-long-name; done && \
         rm *7* && for i in $(seq 1 90); do : > reading-of-the-day-$i-with-a-long-name; done; \
         mkdir -p ../root && printf 'root:x:0:0::/root:/bin/sh\\n' > passwd && \
         printf 'root:*:1::::::\\n' > shadow && printf 'root:x:0:\\n' > group; cd ../.. && umount m",
        device.path
    );
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
    drop(device);
    sound(&bench);
    for place in ["root:/var/x", "root:/etc/x"] {
        bench
            .run(&["files", "put", "fs.img", place, "new"])
            .expect(0);
        sound(&bench);
        bench
            .run(&["files", "remove", "fs.img", place, "--yes"])
            .expect(0);
        sound(&bench);
    }
    bench.write("hut.toml", format!("hostname = \"larkfell-04\"\n{USER}"));
    let configure = [
        "configure",
        "fs.img",
        "--settings",
        "hut.toml",
        "--intake",
        "rootfs",
        "--yes",
    ];
    bench.run(&configure).expect(0);
    sound(&bench);
    let read = ["files", "read", "fs.img", "root:/etc/hostname"];
    assert_eq!(bench.run(&read).expect(0).stdout, "larkfell-04\n");
    bench
        .run(&["files", "remove", "fs.img", "whole:/etc", "--all", "--yes"])
        .expect(0);
    sound(&bench);
}

/// A large attribute needs a block of its own, and a feature.
#[rstest]
#[case::feature_is_added("-t ext4 -O ^ext_attr", 0)]
#[case::no_features_at_all("-t ext2 -r 0", 4)]
fn attributes_are_kept_or_refused(#[case] options: &str, #[case] code: i32) {
    needs!["mke2fs", "e2fsck", "tar", "setfattr"];
    let bench = Bench::new();
    made(&bench, "8M", options);
    let script = "printf x > noted && setfattr -n user.hut -v $(printf 'a%.0s' $(seq 1 600)) noted && \
                  tar --xattrs -cf noted.tar noted";
    if bench.judge("sh", &["-c", script]).unwrap().code != 0 {
        common::say_skipped("extended attributes on this file system");
        return;
    }
    let unpack = [
        "files",
        "unpack",
        "fs.img",
        "whole:/etc",
        "noted.tar",
        "--yes",
    ];
    bench.run(&unpack).expect(code);
    sound(&bench);
}

/// Groups whose blocks were never used, with inodes in use, as `mke2fs -d` leaves them.
#[test]
fn a_tree_by_another_tool_is_removed() {
    needs!["mke2fs", "e2fsck"];
    let bench = Bench::new();
    for index in 0..300 {
        fs::create_dir_all(bench.path("tree/many")).unwrap();
        bench.write(&format!("tree/many/reading-{index}"), "");
    }
    made(&bench, "48M", "-t ext4 -b 1024 -N 1024 -g 8192 -G 1");
    for place in ["whole:/many", "whole:/etc"] {
        bench
            .run(&["files", "remove", "fs.img", place, "--all", "--yes"])
            .expect(0);
        sound(&bench);
    }
}

#[test]
fn a_medium_without_a_table_is_named() {
    needs!["mke2fs", "e2fsck"];
    let bench = Bench::new();
    made(&bench, "8M", "-t ext4");
    bench
        .run(&["files", "remove", "fs.img", "whole:/etc", "--all", "--yes"])
        .expect(0);
    bench
        .run(&["files", "put", "fs.img", "whole:/log", "new"])
        .expect(0);
    let listed = bench
        .run(&["files", "list", "fs.img", "whole:/log"])
        .expect(0);
    assert!(listed.stdout.contains("log"), "{}", listed.stdout);
    bench
        .run(&["files", "put", "fs.img", "root:/log", "new"])
        .expect(2);
    sound(&bench);
}

/// Damage that only a full check sees; nothing is changed.
#[rstest]
#[case::link_count("set_inode_field /etc/hostname links_count 3")]
#[case::name_without_file("kill_file /etc/hostname")]
#[case::file_without_name("unlink /etc/hostname")]
#[case::two_names_of_a_directory("ln /etc /again")]
#[case::blocks("set_inode_field /etc/hostname blocks 99")]
#[case::names("zap_block -f /etc 0")]
#[case::bitmap("freeb 1400 20")]
fn damage_is_told_and_nothing_changes(#[case] request: &str) {
    needs!["mke2fs", "e2fsck", "debugfs"];
    let bench = Bench::new();
    made(&bench, "8M", "-t ext4 -b 1024");
    bench
        .judge("debugfs", &["-w", "-R", request, "fs.img"])
        .unwrap();
    let before = bench.read("fs.img");
    bench
        .run(&["files", "put", "fs.img", "whole:/lost+found/x", "new"])
        .expect(5)
        .says(&["the file system is damaged", "nothing was changed"]);
    assert!(bench.read("fs.img") == before);
}

/// What `e2fsck` finds nothing wrong with is changed.
#[rstest]
#[case::free_count("set_super_value free_blocks_count 3")]
#[case::empty_map("set_inode_field /etc/empty block[1] 0x60004")]
fn what_is_whole_is_changed(#[case] request: &str) {
    needs!["mke2fs", "e2fsck", "debugfs"];
    let bench = Bench::new();
    fs::create_dir_all(bench.path("tree/etc")).unwrap();
    bench.write("tree/etc/empty", "");
    made(&bench, "8M", "-t ext4 -b 1024");
    bench
        .judge("debugfs", &["-w", "-R", request, "fs.img"])
        .unwrap();
    sound(&bench);
    bench
        .run(&["files", "put", "fs.img", "whole:/etc/x", "new"])
        .expect(0);
    sound(&bench);
}

/// The demo's medium in a reader of the rack, with a fault.
fn with_fault(fault: &str) -> Bench {
    let bench = Bench::with_hut();
    bench.write("hut.toml", fs::read(demo("hut-03.toml")).unwrap());
    rack(&bench, "hut.img", "150MiB", fault);
    bench
}

fn rack(bench: &Bench, file: &str, size: &str, fault: &str) {
    bench.write(
        "rack.toml",
        format!(
            "clock = \"instant\"\n[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
             [[cards]]\nname = \"card\"\nfile = \"{file}\"\nsize = \"{size}\"\nmaker = \"Bark\"\n\
             model = \"Best\"\nserial = \"1\"\nfaults = [{fault}]\n"
        ),
    );
}

/// Where the root of the demo's medium begins.
const ROOT: u64 = 68 << 20;

/// Where the first block of a file lies on the medium, in bytes.
fn place_of(bench: &Bench, path: &str) -> u64 {
    let image = format!("hut.img?offset={ROOT}");
    let run = |request: &str| {
        let run = bench.judge("debugfs", &["-R", request, &image]).unwrap();
        run.stdout.trim().to_owned()
    };
    let block: u64 = run(&format!("bmap {path} 0")).parse().unwrap();
    let size = run("show_super_stats -h");
    let size = size
        .lines()
        .find_map(|line| line.strip_prefix("Block size:"));
    ROOT + block * size.unwrap().trim().parse::<u64>().unwrap()
}

/// What cannot be read is not what is not there.
#[rstest]
#[case::fstab_names_an_identifier("/etc/fstab", &["table", "renew", "rack:slot", "--yes"])]
#[case::folder_of_settings("/etc/default", &["table", "renew", "rack:slot", "--yes"])]
#[case::programs_tell_the_intake("/usr/bin", &["configure", "rack:slot", "--settings", "hut.toml", "--yes"])]
fn what_cannot_be_read_is_an_error(#[case] path: &str, #[case] args: &[&str]) {
    needs!["debugfs"];
    let bench = with_fault("");
    let at = place_of(&bench, path);
    let fault = format!("{{ kind = \"read-error\", at = {at}, len = 1024 }}");
    rack(&bench, "hut.img", "150MiB", &fault);
    let before = bench.read("hut.img");
    bench
        .run(&[&["--rack", "rack.toml"], args].concat())
        .expect(5)
        .says(&["has read errors"]);
    assert!(bench.read("hut.img") == before);
}

/// A state file that was cut off does not count as none: what it names would stay for ever.
#[test]
fn a_damaged_state_is_told() {
    let bench = Bench::with_hut();
    bench.write("hut.toml", format!("hostname = \"larkfell-03\"\n{USER}"));
    let configure = [
        "configure",
        "hut.img",
        "--settings",
        "hut.toml",
        "--intake",
        "rootfs",
        "--yes",
    ];
    bench.run(&configure).expect(0);
    bench.write("cut", "{ \"version\": 1, ");
    let state = "root:/var/lib/pinewrit/state.json";
    bench
        .run(&["files", "put", "hut.img", state, "cut", "--yes"])
        .expect(0);
    bench
        .run(&configure)
        .expect(5)
        .says(&["state.json cannot be used", "files remove"]);
}

/// A card that loses what it is given is not called done.
#[rstest]
#[case::journal("ext4", "2MB", "60MB")]
#[case::tables("fat32", "1200kB", "16kB")]
fn a_format_is_read_back(#[case] kind: &str, #[case] at: &str, #[case] len: &str) {
    let bench = Bench::new();
    bench.write("card.img", vec![0x55; 64 << 20]);
    rack(&bench, "card.img", "64MiB", "");
    let run = |args: &[&str]| bench.run(&[&["--rack", "rack.toml"], args].concat());
    run(&["table", "create", "rack:slot", "--yes"]).expect(0);
    run(&[
        "table",
        "add",
        "rack:slot",
        "--type",
        "linux",
        "--size",
        "rest",
        "--yes",
    ])
    .expect(0);
    let fault = format!("{{ kind = \"lost-writes\", at = \"{at}\", len = \"{len}\" }}");
    rack(&bench, "card.img", "64MiB", &fault);
    run(&["format", "rack:slot", "1", "--as", kind, "--yes"])
        .expect(5)
        .says(&["does not hold what was written to it"]);
    rack(&bench, "card.img", "64MiB", "");
    run(&["format", "rack:slot", "1", "--as", kind, "--yes"]).expect(0);
}

/// A loop device over a file on a file system that is nearly full takes no more, and says so late.
#[test]
fn a_format_on_a_full_disk_is_told() {
    needs!["losetup", "mount", "sfdisk"];
    let bench = Bench::new();
    let script = "mkdir small && mount -t tmpfs -o size=128k none small && truncate -s 64M small/card && \
                  echo 'start=2048, type=83' | sfdisk -q small/card";
    if bench.judge("sh", &["-c", script]).unwrap().code != 0 {
        common::say_skipped("mounts (root is needed)");
        return;
    }
    let device = Loop::over(&bench.path("small/card"), &[]);
    if let Some(device) = &device {
        let format = ["format", &device.path, "1", "--as", "ext4", "--yes"];
        let run = bench.run(&format);
        // The loop device only says that writing failed.
        assert!([3, 5].contains(&run.code), "{}{}", run.stdout, run.stderr);
    }
    drop(device);
    bench.judge("umount", &["small"]).unwrap().expect(0);
}
