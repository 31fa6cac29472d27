//! `build` through the program: the demo's layout, archives with all that they can hold, mistakes.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::PathBuf;

use common::{Bench, demo};
use rstest::rstest;

#[test]
fn the_demo_layout_twice_gives_equal_media() {
    let bench = Bench::new();
    let layout = demo("layout.toml");
    let layout = layout.to_str().unwrap();
    for name in ["one.img", "two.img"] {
        bench
            .run(&["build", layout, "--to", name, "--size", "200MiB"])
            .expect(0)
            .shows(&["done:", "verified"]);
    }
    assert!(bench.read("one.img") == bench.read("two.img"));
    bench.run(&["verify", "one.img"]).expect(0);
    let json = bench
        .run(&["--json", "inspect", "one.img"])
        .expect(0)
        .json();
    assert_eq!(
        json["partitions"][1]["filesystem"]["label"],
        "larkfell-root"
    );
    assert_eq!(json["problems"].as_array().unwrap().len(), 0);
    let bytes = bench.read("one.img");
    assert!(bytes[8192..].starts_with(b"made-up first loader"));
    let start = json["partitions"][1]["start"].as_u64().unwrap();
    let Some(judged) = bench.judge("e2fsck", &["-fn", &format!("one.img?offset={start}")]) else {
        return;
    };
    judged.expect(0);
    let fat = "dd if=one.img of=fat.img bs=4M skip=1 count=16 status=none";
    bench.judge("sh", &["-c", fat]).unwrap().expect(0);
    bench
        .judge("fsck.fat", &["-n", "fat.img"])
        .unwrap()
        .expect(0);
    // The kernel is the very first entry, in one piece from the first cluster on.
    let listed = bench
        .judge("mdir", &["-b", "-i", "fat.img", "::"])
        .unwrap()
        .expect(0);
    assert!(
        listed
            .stdout
            .trim_start()
            .to_lowercase()
            .starts_with("::/kernel.bin"),
        "{}",
        listed.stdout
    );
    let shown = bench
        .judge("mshowfat", &["-i", "fat.img", "::kernel.bin"])
        .unwrap()
        .expect(0);
    assert!(shown.stdout.contains("<2-"), "{}", shown.stdout);
}

#[rstest]
#[case::zstd("hut.img.zst")]
#[case::xz("hut.img.xz")]
#[case::gzip("hut.img.gz")]
fn a_packed_image_is_made_and_can_be_written(#[case] name: &str) {
    let bench = Bench::new();
    let layout = demo("layout.toml");
    let layout = layout.to_str().unwrap();
    bench
        .run(&["build", layout, "--to", name, "--size", "160MiB"])
        .expect(0);
    bench
        .run(&["build", layout, "--to", "plain.img", "--size", "160MiB"])
        .expect(0);
    bench
        .run(&["verify", "plain.img", "--image", name])
        .expect(0);
}

fn tree(bench: &Bench) -> Option<()> {
    let script = "set -e; mkdir -p tree/etc tree/usr/lib tree/var; ln -s usr/lib tree/lib\n\
        printf hut > tree/etc/hostname; chmod 4755 tree/etc/hostname; ln tree/etc/hostname tree/etc/second\n\
        ln -s /etc/hostname tree/var/link; truncate -s 5M tree/var/sparse; printf end >> tree/var/sparse\n\
        long=$(printf 'x%.0s' $(seq 120)); mkdir -p tree/$long/$long; printf deep > tree/$long/$long/file\n\
        mkfifo tree/var/pipe; mknod tree/var/null c 1 3; setfattr -n user.hut -v three tree/etc/hostname 2>/dev/null || true\n\
        chown -R 1000:1001 tree/var; touch -d @1700000000 tree/etc/hostname\n\
        tar --sort=name --format=gnu --sparse -C tree -cJf gnu.tar.xz .; tar --sort=name --format=pax --xattrs -C tree -czf pax.tar.gz .\n\
        for form in 0.0 0.1 1.0; do tar --sort=name --format=pax --sparse --sparse-version=$form -C tree -cf pax-$form.tar .; done\n\
        mkdir -p over/lib over/etc; printf new > over/etc/hostname; printf lib > over/lib/libhut.so; tar -C over -cf over.tar .";
    bench.judge("sh", &["-c", script])?.expect(0);
    Some(())
}

const ROOT_OF_ARCHIVES: &str = "[medium]\nscheme = \"gpt\"\nepoch = \"1767225600\"\nidentifiers = \"x\"\n\
    [[partition]]\nsize = \"rest\"\nfilesystem = \"ext4\"\nname = \"root\"\n";

#[rstest]
#[case::gnu("gnu.tar.xz")]
#[case::pax("pax.tar.gz")]
#[case::sparse_in_two_keys("pax-0.0.tar")]
#[case::sparse_in_the_head("pax-0.1.tar")]
#[case::sparse_in_the_data("pax-1.0.tar")]
fn archives_keep_all_that_they_hold(#[case] archive: &str) {
    let bench = Bench::new();
    if tree(&bench).is_none() {
        return;
    }
    let content = |from: &str| format!("[[partition.content]]\nfrom = \"{from}\"\n");
    let layout = format!(
        "{ROOT_OF_ARCHIVES}{}{}",
        content(archive),
        content("over.tar")
    );
    bench.write("layout.toml", layout);
    bench
        .run(&["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"])
        .expect(0);
    let place = "hut.img?offset=1048576";
    bench.judge("e2fsck", &["-fn", place]).unwrap().expect(0);
    let ask = |request: &str| {
        let said = bench
            .judge("debugfs", &["-R", request, place])
            .unwrap()
            .expect(0);
        said.stdout
    };
    // What came later lies over what was there; the link to the folder stays.
    assert_eq!(ask("cat /etc/hostname"), "new");
    assert_eq!(ask("cat /usr/lib/libhut.so"), "lib");
    let stat = ask("stat /var/sparse");
    assert!(
        stat.contains("User:  1000   Group:  1001") && stat.contains("Size: 5242883"),
        "{stat}"
    );
    let end = ask("cat /var/sparse");
    assert!(end.len() == 5_242_883 && end.ends_with("\0end"));
    if archive != "pax.tar.gz" {
        let count: u64 = stat
            .split("Blockcount: ")
            .nth(1)
            .unwrap()
            .lines()
            .next()
            .unwrap()
            .trim()
            .parse()
            .unwrap();
        assert!(count < 100, "{stat}");
    }
    assert!(ask("stat /var/null").contains("Device major/minor number: 01:03"));
    assert!(ask("stat /var/pipe").contains("Type: FIFO"));
    assert!(ask("stat /lib").contains("Fast link dest: \"usr/lib\""));
    let long = "x".repeat(120);
    assert_eq!(ask(&format!("cat /{long}/{long}/file")), "deep");
    // The other name of what was replaced keeps its content.
    let second = ask("stat /etc/second");
    assert!(
        second.contains("Links: 1") && second.contains("Mode:  04755"),
        "{second}"
    );
    assert_eq!(ask("cat /etc/second"), "hut");
}

#[test]
fn single_members_are_picked() {
    let bench = Bench::new();
    if tree(&bench).is_none() {
        return;
    }
    let pick = "[[partition.content]]\nfrom = \"gnu.tar.xz\"\npick = \"var\"\nto = \"/data\"\n\
        [[partition.content]]\nfrom = \"gnu.tar.xz\"\npick = \"etc/hostname\"\nto = \"/etc/name\"\n\
        [[partition.content]]\nfrom = \"gnu.tar.xz\"\nunpack = false\nto = \"/srv/\"\n";
    bench.write("layout.toml", format!("{ROOT_OF_ARCHIVES}{pick}"));
    bench
        .run(&["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"])
        .expect(0);
    let ask = |request: &str| {
        let said = bench.judge("debugfs", &["-R", request, "hut.img?offset=1048576"]);
        said.unwrap().expect(0).stdout
    };
    assert_eq!(ask("cat /etc/name"), "hut");
    assert!(ask("stat /data/sparse").contains("Size: 5242883"));
    assert!(ask("stat /srv/gnu.tar.xz").contains("Type: regular"));
}

#[rstest]
#[case::two_rests("size = \"rest\"\n[[partition]]\nsize = \"rest\"\n", &["line 4", "second partition takes the rest"])]
#[case::too_large("size = \"1GB\"\n", &["line 2", "no room for"])]
#[case::label("size = \"8MiB\"\nfilesystem = \"fat16\"\nlabel = \"MUCH-TOO-LONG\"\n", &["line 5", "13 bytes; at most 11"])]
#[case::kind("size = \"8MiB\"\ntype = \"linus\"\n", &["line 4", "not a partition type"])]
#[case::word("size = \"8MiB\"\nfilesystm = \"ext4\"\n", &["line 4", "did you mean `filesystem`"])]
#[case::missing("size = \"8MiB\"\nfilesystem = \"ext4\"\n[[partition.content]]\nfrom = \"nowhere\"\n", &["line 6", "nowhere"])]
#[case::member("size = \"rest\"\nfilesystem = \"ext4\"\n[[partition.content]]\nfrom = \"a.tar\"\npick = \"boot/loadr.bin\"\n", &["line 5", "no member boot/loadr.bin", "boot/loader.bin"])]
#[case::climbs("size = \"rest\"\nfilesystem = \"ext4\"\n[[partition.content]]\nfrom = \"bad.tar\"\n", &["line 5", "leaves the archive"])]
#[case::fat_name("size = \"rest\"\nfilesystem = \"fat16\"\n[[partition.content]]\nfrom = \"names\"\n", &["line 5", "':'"])]
#[case::fat_link("size = \"rest\"\nfilesystem = \"fat16\"\n[[partition.content]]\nfrom = \"links\"\n", &["line 5", "a link"])]
#[case::blob_on_table("size = \"8MiB\"\n[[blob]]\nfrom = \"loader\"\nat = \"256B\"\n", &["line 4", "overlap the partition table"])]
#[case::blob_on_partition("size = \"8MiB\"\n[[blob]]\nfrom = \"loader\"\nat = \"2MiB\"\n", &["line 4", "overlap partition 1"])]
#[case::blob_too_large("size = \"8MiB\"\n[[blob]]\nfrom = \"loader\"\nat = \"8KiB\"\nmax = \"1KiB\"\n", &["line 4", "1024 are allowed"])]
#[case::five("size = \"1MiB\"\n[[partition]]\nsize = \"1MiB\"\n[[partition]]\nsize = \"1MiB\"\n[[partition]]\nsize = \"1MiB\"\n[[partition]]\nsize = \"1MiB\"\n", &["5 partitions", "four"])]
#[case::full("size = \"2MiB\"\nfilesystem = \"ext4\"\n[[partition.content]]\nfrom = \"large\"\nto = \"/\"\n", &["no room", "a larger partition"])]
fn mistakes_in_a_layout_are_told_with_their_line(#[case] partition: &str, #[case] says: &[&str]) {
    let bench = Bench::new();
    let script = "mkdir -p in/boot names links; printf x > in/boot/loader.bin; tar -C in -cf a.tar boot/loader.bin\n\
        printf x > climber; tar -P --transform 's,^,../,' -cf bad.tar climber; printf x > names/a:b; ln -s x links/y\n\
        head -c 2000 /dev/zero > loader; head -c 9000000 /dev/zero | tr '\\0' x > large";
    if bench.judge("sh", &["-c", script]).is_none() {
        return;
    }
    bench.write(
        "layout.toml",
        format!("[medium]\n[[partition]]\n{partition}"),
    );
    bench
        .run(&["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"])
        .expect(7)
        .says(says);
    assert!(!bench.path("hut.img").exists());
    let left = fs::read_dir(bench.folder()).unwrap().flatten();
    assert_eq!(
        left.filter(|entry| entry.file_name().to_string_lossy().contains("build-"))
            .count(),
        0
    );
}

#[test]
fn a_dry_run_shows_the_partitions_and_makes_nothing() {
    let bench = Bench::new();
    let layout = demo("layout.toml");
    bench
        .run(&[
            "build",
            layout.to_str().unwrap(),
            "--to",
            "hut.img",
            "--size",
            "4GB",
            "--dry-run",
        ])
        .expect(0)
        .shows(&["nothing was created", "loader.bin at byte 8192"]);
    assert!(!bench.path("hut.img").exists());
}

#[test]
fn a_damaged_archive_ends_the_build_and_leaves_nothing() {
    let bench = Bench::new();
    if tree(&bench).is_none() {
        return;
    }
    let whole = bench.read("gnu.tar.xz");
    bench.write("cut.tar.xz", &whole[..whole.len() / 2]);
    let content = "[[partition.content]]\nfrom = \"cut.tar.xz\"\n";
    bench.write("layout.toml", format!("{ROOT_OF_ARCHIVES}{content}"));
    bench
        .run(&["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"])
        .expect(7)
        .says(&["line 9", "cut.tar.xz is damaged"]);
    assert!(!bench.path("hut.img").exists());
}

#[test]
fn a_new_card_file_is_there_only_when_all_is_done() {
    let bench = Bench::new();
    bench.write(
        "layout.toml",
        "[[partition]]\nsize = \"8MiB\"\nfilesystem = \"swap\"\n",
    );
    let settings = fs::read(demo("hut-03.toml")).unwrap();
    bench.write("hut.toml", settings);
    let build = ["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"];
    bench
        .run(&[&build[..], &["--settings", "hut.toml"]].concat())
        .expect(7);
    let left: Vec<_> = fs::read_dir(bench.folder())
        .unwrap()
        .map(|entry| entry.unwrap().file_name())
        .collect();
    let named = |name: &str| {
        left.iter()
            .any(|left| left.to_string_lossy().starts_with(name))
    };
    assert!(!named("hut.img") && !named(".pinewrit"), "{left:?}");
    bench
        .run(&build)
        .expect(0)
        .shows(&["nothing had to be copied"]);
    // What is there by now is written like any medium.
    bench
        .run(&[&build[..], &["--yes"]].concat())
        .expect(0)
        .shows(&["written   67.11 MB"]);
}

/// A disk of 1 MiB, as where the scratch file finds no room.
struct SmallDisk(PathBuf);

impl SmallDisk {
    fn new(bench: &Bench) -> Option<Self> {
        fs::create_dir(bench.path("small")).unwrap();
        let made = bench.judge("mount", &["-t", "tmpfs", "-o", "size=1m", "none", "small"])?;
        (made.code == 0).then(|| Self(bench.path("small")))
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}

#[test]
fn a_full_disk_ends_the_build() {
    let bench = Bench::new();
    let Some(_disk) = SmallDisk::new(&bench) else {
        return;
    };
    bench.write("large", vec![7; 5_000_000]);
    let content = "[[partition.content]]\nfrom = \"large\"\nto = \"/large\"\n";
    bench.write("layout.toml", format!("{ROOT_OF_ARCHIVES}{content}"));
    let scratch = [
        "build",
        "layout.toml",
        "--to",
        "hut.img",
        "--size",
        "64MiB",
        "--scratch",
        "small",
    ];
    bench
        .run(&scratch)
        .expect(1)
        .says(&["scratch", "--scratch DIR"]);
    assert!(!bench.path("hut.img").exists());
    // Where the new card file would be, there is no room either.
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "small/hut.img",
            "--size",
            "64MiB",
        ])
        .expect(1)
        .says(&["scratch"]);
    assert_eq!(fs::read_dir(bench.path("small")).unwrap().count(), 0);
    bench.write("layout.toml", "[[partition]]\nsize = \"8MiB\"\n");
    let packed = [
        "build",
        "layout.toml",
        "--to",
        "small/missing/hut.img.gz",
        "--scratch",
        ".",
    ];
    bench.run(&packed).expect(5).says(&["cannot be written"]);
}
