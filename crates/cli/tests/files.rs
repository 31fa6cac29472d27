//! `files` and `estimate` through the program, on a medium that it built.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, demo, zstd};
use rstest::rstest;

fn sound(bench: &Bench) {
    if let Some(judged) = bench.judge("e2fsck", &["-fn", "hut.img?offset=71303168"]) {
        judged.expect(0);
    }
    let fat = "dd if=hut.img of=fat.img bs=4M skip=1 count=16 status=none";
    if let Some(done) = bench.judge("sh", &["-c", fat]) {
        done.expect(0);
        if let Some(judged) = bench.judge("fsck.fat", &["-n", "fat.img"]) {
            judged.expect(0);
        }
    }
}

#[test]
fn looking_shows_what_is_there() {
    let bench = Bench::with_hut();
    bench
        .run(&["files", "list", "hut.img", "root:/etc"])
        .expect(0)
        .shows(&[
            "-rw-r-----  0:42",
            "shadow",
            "localtime → /usr/share/zoneinfo/Etc/UTC",
        ]);
    bench
        .run(&["files", "tree", "hut.img", "boot:/"])
        .expect(0)
        .shows(&[
            "├─ EFI/",
            "│     └─ BOOTAA64.EFI",
            "8 files in 3 directories",
        ]);
    bench
        .run(&["files", "read", "hut.img", "2:/etc/os-release"])
        .expect(0)
        .shows(&["ID=larkfell\n"]);
    bench
        .run(&[
            "files",
            "read",
            "hut.img",
            "root:/usr/lib/libhut.so",
            "--to",
            "lib",
        ])
        .expect(0);
    assert_eq!(bench.read("lib").len(), 3 << 20);
    let events = bench
        .run(&["--json", "files", "list", "hut.img", "CIDATA:/overlays"])
        .expect(0);
    assert_eq!(events.json()["count"], 1);
    events.shows(&["\"path\":\"/overlays/wind-gauge.dtbo\""]);
}

#[rstest]
#[case::no_file(&["read", "hut.img", "root:/etc/none"], 2, "in /etc")]
#[case::a_folder(&["read", "hut.img", "root:/etc"], 2, "files list hut.img root:/etc")]
#[case::no_partition(&["list", "hut.img", "7:/"], 2, "1 FAT16 (CIDATA), 2 ext4 (larkfell-root)")]
#[case::two_file_systems(&["list", "hut.img", "/etc"], 2, "no file system for the place")]
#[case::no_place(&["list", "hut.img", "root:etc"], 2, "PARTITION:/path")]
#[case::not_empty(&["remove", "hut.img", "root:/etc", "--yes"], 2, "--all")]
#[case::the_root(&["remove", "hut.img", "root:/", "--all", "--yes"], 2, "cannot be removed")]
#[case::no_folder(&["tree", "hut.img", "boot:/boot.conf"], 2, "boot:/boot.conf is not a directory")]
#[case::no_line(&["edit", "hut.img", "boot:/boot.conf", "--on", "x"], 6, "there is no line")]
#[case::many_lines(&["edit", "hut.img", "boot:/boot.conf", "--word", "x"], 2, "--line adds a line")]
#[case::nobody_to_ask(&["put", "hut.img", "boot:/cmdline", "new"], 3, "--yes does it")]
fn what_does_not_work_changes_nothing(
    #[case] args: &[&str],
    #[case] code: i32,
    #[case] says: &str,
) {
    let bench = Bench::with_hut();
    bench.write("new", "x");
    let before = bench.read("hut.img");
    bench
        .run(&[&["files"], args].concat())
        .expect(code)
        .says(&[says]);
    assert!(bench.read("hut.img") == before);
}

#[test]
fn files_are_put_and_removed() {
    let bench = Bench::with_hut();
    bench.write("wind.conf", "gauge=7\n");
    let before = bench.read("hut.img");
    let put = [
        "files",
        "put",
        "hut.img",
        "root:/etc/wind/",
        "wind.conf",
        "--mode",
        "0600",
    ];
    bench
        .run(&[&put[..], &["--dry-run"]].concat())
        .expect(0)
        .shows(&["would be new"]);
    assert!(bench.read("hut.img") == before);
    bench
        .run(&put)
        .expect(0)
        .shows(&["root:/etc/wind/wind.conf is on hut.img"]);
    bench
        .run(&["files", "list", "hut.img", "root:/etc/wind"])
        .expect(0)
        .shows(&["-rw-------  0:0  8"]);
    bench
        .run(&["files", "put", "hut.img", "boot:/wind.conf", "wind.conf"])
        .expect(0);
    bench.write("wind.conf", "gauge=8\n");
    let again = [
        "files",
        "put",
        "hut.img",
        "root:/etc/wind/wind.conf",
        "wind.conf",
        "--yes",
    ];
    bench.run(&again).expect(0).shows(&["replaced"]);
    // What replaces a file keeps its permissions.
    bench
        .run(&["files", "list", "hut.img", "root:/etc/wind"])
        .expect(0)
        .shows(&["-rw-------  0:0  8"]);
    sound(&bench);
    for place in ["root:/etc/wind", "boot:/wind.conf"] {
        bench
            .run(&["files", "remove", "hut.img", place, "--all", "--yes"])
            .expect(0);
    }
    bench
        .run(&["files", "list", "hut.img", "root:/etc/wind"])
        .expect(2);
    sound(&bench);
}

#[test]
fn texts_are_edited_once() {
    let bench = Bench::with_hut();
    let edit = |place: &str, what: &[&str]| {
        bench
            .run(&[&["files", "edit", "hut.img", place], what].concat())
            .expect(0)
    };
    edit("boot:/boot.conf", &["--on", "overlay"]).shows(&["-# overlay=wind-gauge", "+overlay"]);
    edit("boot:/boot.conf", &["--on", "overlay"]).shows(&["unchanged"]);
    edit(
        "boot:/boot.conf",
        &["--set", "serial=9600", "--keep-original"],
    )
    .shows(&["+serial=9600"]);
    edit(
        "boot:/cmdline",
        &["--replace-word", "root=", "root=LABEL=x"],
    )
    .shows(&["+console="]);
    edit("boot:/cmdline", &["--remove-word", "rootwait"]);
    edit(
        "root:/etc/fstab",
        &["--line", "tmpfs /tmp tmpfs defaults 0 0"],
    );
    let read = |place: &str| {
        bench
            .run(&["files", "read", "hut.img", place])
            .expect(0)
            .stdout
    };
    assert!(read("boot:/boot.conf").contains("serial=9600\noverlay=wind-gauge\n"));
    assert!(read("boot:/boot.conf.orig").contains("serial=115200\noverlay"));
    assert_eq!(read("boot:/cmdline"), "console=ttyS0,115200 root=LABEL=x\n");
    assert!(read("root:/etc/fstab").ends_with("tmpfs /tmp tmpfs defaults 0 0\n"));
    sound(&bench);
}

/// On FAT, files have the times of the archive, by which the newer is known.
#[test]
fn newer_files_replace_older_ones_on_fat() {
    let bench = Bench::with_hut();
    let unpack = |content: &str, day: &str| {
        bench.write("gauge.txt", content);
        let time = format!("--mtime={day} 07:30:00Z");
        bench
            .judge("tar", &["-cf", "gauge.tar", &time, "gauge.txt"])?
            .expect(0);
        let args = ["files", "unpack", "hut.img", "boot:/", "gauge.tar", "--yes"];
        Some(bench.run(&args).expect(0))
    };
    let Some(first) = unpack("first", "2025-03-01") else {
        return;
    };
    first.shows(&["1 new"]);
    bench
        .run(&["files", "list", "hut.img", "boot:/"])
        .expect(0)
        .shows(&["5  2025-03-01 07:30  gauge.txt"]);
    unpack("older", "2025-02-28").unwrap().shows(&["unchanged"]);
    unpack("newer", "2025-03-02")
        .unwrap()
        .shows(&["1 replaced"]);
    let read = bench.run(&["files", "read", "hut.img", "boot:/gauge.txt"]);
    assert_eq!(read.expect(0).stdout, "newer");
    sound(&bench);
}

/// A file with two names, one of which gets other content: the other one keeps its own.
#[test]
fn other_names_of_a_file_keep_its_content() {
    let bench = Bench::with_hut();
    let script = "printf old > ash && ln ash cat && tar -cf tools.tar ash cat";
    let Some(made) = bench.judge("sh", &["-c", script]) else {
        return;
    };
    made.expect(0);
    bench.write("new", "new");
    let place = "root:/opt";
    bench
        .run(&["files", "unpack", "hut.img", place, "tools.tar"])
        .expect(0);
    bench
        .run(&["files", "put", "hut.img", "root:/opt/cat", "new", "--yes"])
        .expect(0);
    for (name, content) in [("ash", "old"), ("cat", "new")] {
        let place = format!("{place}/{name}");
        let read = bench.run(&["files", "read", "hut.img", &place]).expect(0);
        assert_eq!(read.stdout, content, "{name}");
    }
    sound(&bench);
}

#[test]
fn archives_go_over_what_is_there() {
    let bench = Bench::with_hut();
    std::fs::create_dir_all(bench.path("huts/sub")).unwrap();
    bench.write("huts/README", "new");
    bench.write("huts/sub/extra", "x");
    let made = bench.judge(
        "tar",
        &["-czf", "huts.tar.gz", "--mtime=2020-01-01", "huts"],
    );
    if made.is_none() {
        return;
    }
    let unpack = |more: &[&str]| {
        let args = [
            "files",
            "unpack",
            "hut.img",
            "root:/opt/huts",
            "huts.tar.gz",
            "--yes",
        ];
        bench.run(&[&args[..], more].concat())
    };
    unpack(&["--dry-run"])
        .expect(0)
        .says(&["all of huts.tar.gz is in the directory huts", "--strip 1"])
        .shows(&["2 new, 0 replaced"]);
    // Older than what is there.
    unpack(&["--strip", "1"])
        .expect(0)
        .shows(&["1 new, 0 replaced, 1 kept"]);
    unpack(&["--strip", "1", "--overwrite", "never"])
        .expect(0)
        .shows(&["unchanged"]);
    let report = unpack(&["--strip", "1", "--overwrite", "always"]).expect(0);
    report.shows(&["0 new, 2 replaced"]);
    let read = bench
        .run(&["files", "read", "hut.img", "root:/opt/huts/README"])
        .expect(0);
    assert_eq!(read.stdout, "new");
    unpack(&["--pick", "huts/none"])
        .expect(4)
        .says(&["has no member huts/none", "huts/README"]);
    let whole = bench.read("huts.tar.gz");
    bench.write("huts.tar.gz", &whole[..whole.len() / 2]);
    let before = bench.read("hut.img");
    unpack(&[]).expect(4).says(&["nothing was changed"]);
    assert!(bench.read("hut.img") == before);
    sound(&bench);
}

#[test]
fn a_place_is_compared_with_a_list() {
    let bench = Bench::with_hut();
    let list = bench
        .run(&["files", "list", "hut.img", "boot:/", "--expected"])
        .expect(0)
        .stdout;
    bench.write("list.toml", &list);
    bench
        .run(&["files", "check", "hut.img", "boot:/", "list.toml"])
        .expect(0)
        .shows(&["8 files, all as expected"]);
    bench.write("gauge.txt", "x");
    bench
        .run(&["files", "put", "hut.img", "boot:/", "gauge.txt"])
        .expect(0);
    bench
        .run(&[
            "files",
            "edit",
            "hut.img",
            "boot:/boot.conf",
            "--on",
            "overlay",
        ])
        .expect(0);
    let other = format!("{list}\"gauge\" = {{}}\n");
    bench.write("list.toml", other.replace("size = 24000", "size = 24001"));
    bench
        .run(&["files", "check", "hut.img", "boot:/", "list.toml"])
        .expect(6)
        .says(&[
            "brindle-b2.dtb: 24 000 bytes, expected 24 001",
            "gauge; an editor renamed it to gauge.txt",
            "boot.conf",
        ]);
    bench.write("list.toml", "no list");
    bench
        .run(&["files", "check", "hut.img", "boot:/", "list.toml"])
        .expect(7);
}

#[rstest]
#[case::plain(&["10.77.3.0/24"], 0, &["255.255.255.0", "10.77.3.1 to 10.77.3.254", "254"])]
#[case::pool(&["10.77.3.0/24", "--pool", "10.77.3.100-10.77.3.150"], 0, &["51, 203 left"])]
#[case::overlap(&["10.77.3.0/24", "--with", "10.77.0.0/22"], 6, &["10.77.4.0/24"])]
#[case::broadcast(&["10.77.3.255/24"], 6, &["10.77.3.0/24"])]
#[case::no_net(&["10.77.3.0"], 2, &[""])]
fn networks_are_worked_out(#[case] args: &[&str], #[case] code: i32, #[case] shows: &[&str]) {
    let bench = Bench::new();
    bench
        .run(&[&["estimate", "net"], args].concat())
        .expect(code)
        .shows(shows);
}

/// Offsets of what every change of a file system writes: the FAT, and the superblock of the root.
const OF_BOOT: u64 = (4 << 20) + (32 << 10);
const OF_ROOT: u64 = 68 << 20;

/// A card that fails where a change is committed holds what it held before, and is told as bad.
#[rstest]
#[case::put_on_fat(OF_BOOT, &["files", "put", "rack:slot", "boot:/new", "new"])]
#[case::put_on_ext(OF_ROOT, &["files", "put", "rack:slot", "root:/etc/new", "new"])]
#[case::edit(OF_ROOT, &["files", "edit", "rack:slot", "root:/etc/fstab", "--line", "x"])]
#[case::remove(OF_ROOT, &["files", "remove", "rack:slot", "root:/etc/fstab", "--yes"])]
#[case::seed(OF_BOOT, &["configure", "rack:slot", "--settings", "hut.toml"])]
#[case::root(OF_ROOT, &["configure", "rack:slot", "--settings", "hut.toml", "--intake", "rootfs"])]
fn a_bad_card_holds_what_it_held(#[case] at: u64, #[case] args: &[&str]) {
    let bench = Bench::with_hut();
    bench.write("new", vec![b'x'; 300_000]);
    bench.write("hut.toml", std::fs::read(demo("hut-03.toml")).unwrap());
    let rack = |fault: &str| {
        format!(
            "clock = \"instant\"\n[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
             [[cards]]\nname = \"card\"\nfile = \"hut.img\"\nsize = \"150MiB\"\nmaker = \"Bark\"\n\
             model = \"Best\"\nserial = \"1\"\nfaults = [{fault}]\n"
        )
    };
    let before = bench.read("hut.img");
    let run = |fault: &str| {
        bench.write("rack.toml", rack(fault));
        bench.run(&[&["--rack", "rack.toml"], args].concat())
    };
    run(&format!(
        "{{ kind = \"write-error\", at = {at}, len = 65536 }}"
    ))
    .expect(5)
    .says(&["is back to its previous content"]);
    assert!(bench.read("hut.img") == before);
    run("{ kind = \"pulled\", after = 4096 }")
        .expect(5)
        .says(&["is gone"]);
    // Plugged in again, the next command puts back what there is to be put back.
    bench.write("rack.toml", rack(""));
    let next = ["files", "remove", "rack:slot", "boot:/none", "--yes"];
    let next = bench.run(&[&["--rack", "rack.toml"], &next[..]].concat());
    assert!(bench.read("hut.img") == before, "{}", next.stderr);
    run("").expect(0);
    sound(&bench);
}

#[test]
fn what_does_not_fit_is_told_and_nothing_changes() {
    let bench = Bench::with_hut();
    let before = bench.read("hut.img");
    bench.write("large", vec![7; 80_000_000]);
    for place in ["boot:/large", "root:/large"] {
        bench
            .run(&["files", "put", "hut.img", place, "large"])
            .expect(2)
            .says(&["no room", "nothing was changed"]);
    }
    std::fs::File::options()
        .write(true)
        .open(bench.path("large"))
        .unwrap()
        .set_len(300 << 20)
        .unwrap();
    // More than is kept in memory: nothing was put anywhere before the room was looked at.
    bench
        .run(&["files", "put", "hut.img", "root:/large", "large"])
        .expect(2)
        .says(&["no room"]);
    assert!(bench.read("hut.img") == before);
}

#[test]
fn a_truncated_image_is_told() {
    let bench = Bench::with_hut();
    let packed = zstd(&bench.read("hut.img"));
    bench.write("cut.img.zst", &packed[..packed.len() / 2]);
    let run = bench.run(&["files", "read", "cut.img.zst", "root:/etc/os-release"]);
    assert!(
        matches!(run.code, 2 | 4 | 5),
        "{}: {}",
        run.code,
        run.stderr
    );
    assert!(run.stderr.starts_with("pinewrit: "), "{}", run.stderr);
}
