//! Many files at once, in and out: folders, archives of all kinds, moves, content of any size, and layouts
//! that name what they make. Judged by the file systems' own checkers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use common::Bench;
use rstest::rstest;

/// Both file systems of `hut.img` are without a fault.
fn sound(bench: &Bench) {
    let parts = "dd if=hut.img of=fat.img bs=4M skip=1 count=16 status=none && \
                 dd if=hut.img of=root.img bs=1M skip=68 status=none";
    let Some(done) = bench.judge("sh", &["-c", parts]) else {
        return;
    };
    done.expect(0);
    for (judge, args) in [
        ("e2fsck", ["-fn", "root.img"]),
        ("fsck.fat", ["-n", "fat.img"]),
    ] {
        if let Some(judged) = bench.judge(judge, &args) {
            judged.expect(0);
        }
    }
}

/// A folder with files, a folder in it, and a link.
fn fill(folder: &Path) {
    fs::create_dir_all(folder.join("station/logs")).unwrap();
    fs::write(folder.join("station/run"), "#!/bin/sh\n").unwrap();
    fs::set_permissions(
        folder.join("station/run"),
        fs::Permissions::from_mode(0o755),
    )
    .unwrap();
    fs::write(folder.join("station/logs/wind"), "7\n").unwrap();
    std::os::unix::fs::symlink("run", folder.join("station/start")).unwrap();
    fs::write(folder.join("read me.txt"), "made up\n").unwrap();
}

#[rstest]
#[case::under_its_name("root:/opt/", "tree", "/opt/tree")]
#[case::under_another("root:/opt/huts-2", "tree", "/opt/huts-2")]
#[case::only_what_is_in_it("root:/opt/", "tree/", "/opt")]
fn a_folder_goes_in_and_comes_out(#[case] place: &str, #[case] from: &str, #[case] at: &str) {
    let bench = Bench::with_hut();
    fill(&bench.path("tree"));
    bench
        .run(&["files", "put", "hut.img", place, from])
        .expect(0);
    sound(&bench);
    let at = format!("root:{at}");
    bench
        .run(&["files", "read", "hut.img", &at, "--to", "out"])
        .expect(0);
    for name in ["station/run", "station/logs/wind", "read me.txt"] {
        let (there, back) = (bench.path("tree").join(name), bench.path("out").join(name));
        assert_eq!(fs::read(there).unwrap(), fs::read(back).unwrap(), "{name}");
    }
    let link = fs::read_link(bench.path("out/station/start")).unwrap();
    assert_eq!(link, Path::new("run"));
    // Nothing is written over.
    bench
        .run(&["files", "read", "hut.img", &at, "--to", "out"])
        .expect(2)
        .says(&["not empty"]);
    bench
        .run(&["files", "list", "hut.img", &format!("{at}/station")])
        .expect(0)
        .shows(&["-rwxr-xr-x", "start → run"]);
}

#[rstest]
#[case::zip("zip -qry ../all.zip .", "all.zip")]
#[case::stored("zip -qry0 ../all.zip .", "all.zip")]
#[case::sevenz("7z a -snl ../all.7z . > /dev/null", "all.7z")]
#[case::tar("tar -cf ../all.tar .", "all.tar")]
#[case::packed_tar("tar -cf - . | xz > ../all.tar.xz", "all.tar.xz")]
#[case::packed_zip("zip -qry ../all.zip . && gzip ../all.zip", "all.zip.gz")]
fn archives_of_all_kinds(#[case] script: &str, #[case] name: &str) {
    let bench = Bench::with_hut();
    fill(&bench.path("tree"));
    let script = format!("cd tree && {script}");
    let Some(made) = bench.judge("sh", &["-c", &script]) else {
        return;
    };
    made.expect(0);
    bench
        .run(&["files", "unpack", "hut.img", "root:/srv/a", name])
        .expect(0);
    sound(&bench);
    bench
        .run(&["files", "list", "hut.img", "root:/srv/a/station"])
        .expect(0)
        .shows(&["-rwxr-xr-x", "run", "start → run"]);
    // One pick by its name, one by a pattern.
    let picks = ["--pick", "read me.txt", "--pick", "station/lo*"];
    let unpack = ["files", "unpack", "hut.img", "root:/srv/b/", name];
    let run = bench.run(&[&unpack[..], &picks].concat()).expect(0);
    run.shows(&["/srv/b/read me.txt", "/srv/b/logs/wind"]);
    let layout = format!(
        "[medium]\nscheme = \"mbr\"\n[[partition]]\nsize = \"8MiB\"\nfilesystem = \"fat12\"\n\
         [[partition.content]]\nfrom = \"{name}\"\npick = [\"read me.txt\", \"station/r*\"]\n"
    );
    bench.write("layout.toml", layout);
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "small.img",
            "--size",
            "12MiB",
        ])
        .expect(0);
    bench
        .run(&["files", "tree", "small.img", "1:/"])
        .expect(0)
        .shows(&["read me.txt", "run", "2 files"]);
}

#[test]
fn a_pick_that_is_not_there_is_told_with_what_is_like_it() {
    let bench = Bench::with_hut();
    fill(&bench.path("tree"));
    let Some(made) = bench.judge("sh", &["-c", "cd tree && zip -qr ../all.zip ."]) else {
        return;
    };
    made.expect(0);
    let before = bench.read("hut.img");
    bench
        .run(&[
            "files",
            "unpack",
            "hut.img",
            "root:/srv",
            "all.zip",
            "--pick",
            "station/rum",
        ])
        .expect(4)
        .says(&["no member station/rum", "station/run"]);
    // Nothing leads to what was written, if anything was.
    bench
        .run(&["files", "tree", "hut.img", "root:/srv"])
        .expect(2);
    drop(before);
    sound(&bench);
}

#[test]
fn names_that_climb_out_are_refused() {
    let bench = Bench::with_hut();
    let script = "import zipfile\nz = zipfile.ZipFile('bad.zip', 'w')\nz.writestr('../../etc/passwd', 'x')\n";
    bench.write("make.py", script);
    let Some(made) = bench.judge("python3", &["make.py"]) else {
        return;
    };
    made.expect(0);
    bench
        .run(&["files", "unpack", "hut.img", "root:/srv", "bad.zip"])
        .expect(4)
        .says(&["leaves the archive"]);
    sound(&bench);
}

/// A card file with one file system, which takes all of it.
fn made(bench: &Bench, name: &str, size: &str) {
    let layout =
        "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"rest\"\nfilesystem = \"ext4\"\n";
    bench.write("layout.toml", layout);
    bench
        .run(&["build", "layout.toml", "--to", name, "--size", size])
        .expect(0);
}

#[rstest]
#[case::zip("zip -qry ../all.zip .", "all.zip")]
#[case::sevenz("7z a -snl ../all.7z . > /dev/null", "all.7z")]
#[case::tar("tar -cf ../all.tar .", "all.tar")]
#[case::packed_tar("tar -cf - . | xz > ../all.tar.xz", "all.tar.xz")]
fn a_cut_archive_changes_nothing(#[case] script: &str, #[case] name: &str) {
    let bench = Bench::with_hut();
    fill(&bench.path("tree"));
    fs::write(bench.path("tree/zz"), pinewrit_judges::noise(3 << 20, 5)).unwrap();
    let script = format!("cd tree && {script}");
    let Some(made) = bench.judge("sh", &["-c", &script]) else {
        return;
    };
    made.expect(0);
    let whole = bench.read(name);
    bench.write(name, &whole[..whole.len() / 2]);
    let before = bench.read("hut.img");
    bench
        .run(&["files", "unpack", "hut.img", "root:/srv/a", name])
        .expect(4)
        .says(&[name]);
    assert!(bench.read("hut.img") == before);
}

/// A card that goes, or loses what it took, while content goes straight to free places: nothing leads
/// there yet.
#[rstest]
#[case::pulled("kind = \"pulled\", after = \"40MB\"")]
#[case::lost("kind = \"lost-writes\", at = \"50MB\", len = \"60MB\"")]
#[case::unwritable("kind = \"write-error\", at = \"50MB\", len = \"60MB\"")]
fn content_on_a_bad_card_leaves_the_old(#[case] fault: &str) {
    let bench = Bench::new();
    made(&bench, "card.img", "200MiB");
    bench.write("old", "old");
    bench
        .run(&["files", "put", "card.img", "1:/large", "old"])
        .expect(0);
    let rack = format!(
        "clock = \"instant\"\n[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n[[cards]]\n\
         name = \"card\"\nfile = \"card.img\"\nsize = \"200MiB\"\nfaults = [{{ {fault} }}]\n"
    );
    bench.write("rack.toml", rack);
    bench.write("large", pinewrit_judges::noise(100 << 20, 9));
    let put = ["files", "put", "rack:slot", "1:/large", "large", "--yes"];
    bench
        .run(&[&["--rack", "rack.toml"], &put[..]].concat())
        .expect(5);
    bench
        .run(&["files", "read", "card.img", "1:/large"])
        .expect(0)
        .shows(&["old"]);
    if let Some(judged) = bench.judge("e2fsck", &["-fn", "card.img?offset=1048576"]) {
        judged.expect(0);
    }
}

#[test]
fn content_without_room_leaves_the_old() {
    let bench = Bench::new();
    made(&bench, "card.img", "100MiB");
    bench.write("old", "old");
    bench
        .run(&["files", "put", "card.img", "1:/large", "old"])
        .expect(0);
    let before = bench.read("card.img");
    bench.write("large", vec![1; 120 << 20]);
    bench
        .run(&["files", "put", "card.img", "1:/large", "large", "--yes"])
        .expect(2);
    assert!(bench.read("card.img") == before);
}

/// More than is kept in memory; the old content stays until the new one is whole.
#[test]
fn content_of_any_size() {
    let bench = Bench::new();
    made(&bench, "large.img", "900MiB");
    let large = pinewrit_judges::noise(260 << 20, 7);
    bench.write("large", &large);
    bench
        .run(&["files", "put", "large.img", "1:/large", "large"])
        .expect(0);
    bench.write("large", &large[1..]);
    bench
        .run(&["files", "put", "large.img", "1:/large", "large", "--yes"])
        .expect(0);
    bench
        .run(&["files", "read", "large.img", "1:/large", "--to", "back"])
        .expect(0);
    assert!(bench.read("back") == large[1..]);
    if let Some(judged) = bench.judge("e2fsck", &["-fn", "large.img?offset=1048576"]) {
        judged.expect(0);
    }
}

#[rstest]
#[case::ext("root:/etc/default", "/srv/new/default", "root:/srv/new/default")]
#[case::into_a_folder("root:/etc/hosts", "/opt/", "root:/opt/hosts")]
#[case::within("root:/etc/hosts", "/etc/hosts.old", "root:/etc/hosts.old")]
#[case::fat_folder("boot:/overlays", "/more/overlays", "boot:/more/overlays")]
#[case::fat_case("boot:/boot.conf", "/Boot.conf", "boot:/Boot.conf")]
fn something_moves(#[case] place: &str, #[case] to: &str, #[case] now: &str) {
    let bench = Bench::with_hut();
    bench
        .run(&["files", "move", "hut.img", place, to])
        .expect(0)
        .shows(&[now]);
    sound(&bench);
    bench.run(&["files", "list", "hut.img", now]).expect(0);
}

#[rstest]
#[case::below_itself("root:/etc", "/etc/default/etc", "below itself")]
#[case::fat_below_itself("boot:/overlays", "/overlays/x/overlays", "below itself")]
#[case::on_something("root:/etc/hosts", "/etc/fstab", "already")]
#[case::from_nowhere("root:/etc/none", "/etc/some", "does not exist")]
fn moves_that_cannot_be(#[case] place: &str, #[case] to: &str, #[case] says: &str) {
    let bench = Bench::with_hut();
    let before = bench.read("hut.img");
    let run = bench.run(&["files", "move", "hut.img", place, to]);
    assert_ne!(run.code, 0);
    run.says(&[says]);
    assert!(bench.read("hut.img") == before);
}

#[test]
fn a_partition_grows_with_its_file_system() {
    let bench = Bench::with_hut();
    fs::File::options()
        .write(true)
        .open(bench.path("hut.img"))
        .unwrap()
        .set_len(400 << 20)
        .unwrap();
    let resize = ["table", "resize", "hut.img", "2", "--size", "rest"];
    let run = bench.run(&[&["--json"], &resize[..], &["--with-filesystem"]].concat());
    let partitions = run.expect(0).json()["after"]["partitions"].clone();
    assert!(
        partitions[1]["filesystem"]["size"].as_u64() > Some(330 << 20),
        "{partitions}"
    );
    sound(&bench);
    let boot = [
        "table",
        "resize",
        "hut.img",
        "1",
        "--size",
        "60MiB",
        "--with-filesystem",
    ];
    let refused = bench.run(&boot);
    assert_ne!(refused.code, 0);
}

#[test]
fn a_layout_names_what_it_makes() {
    let bench = Bench::new();
    let layout = "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"34MiB\"\nfilesystem = \"fat32\"\n\
                  label = \"BOOT\"\n[[partition.content]]\n\
                  text = \"options root=PARTUUID={{ partition.root.partuuid }}\\n\"\n\
                  to = \"/loader/{{ partition.boot.uuid }}.conf\"\n\
                  [[partition.content]]\nfrom = \"menu\"\nto = \"/menu/\"\ntemplate = true\n\
                  [[partition]]\nsize = \"rest\"\nname = \"root\"\nfilesystem = \"ext4\"\n\
                  [[partition.content]]\ntext = \"UUID={{ partition.root.uuid }} / ext4\\n\"\nto = \"/etc/fstab\"\n";
    bench.write("layout.toml", layout);
    fs::create_dir(bench.path("menu")).unwrap();
    bench.write("menu/disk", "{{ disk }}\n");
    bench
        .run(&["build", "layout.toml", "--to", "a.img", "--size", "64MiB"])
        .expect(0);
    let shown = bench.run(&["--json", "inspect", "a.img"]).expect(0).json();
    let (boot, root) = (&shown["partitions"][0], &shown["partitions"][1]);
    let read = |place: &str| {
        bench
            .run(&["files", "read", "a.img", place])
            .expect(0)
            .stdout
    };
    let menu = format!(
        "boot:/loader/{}.conf",
        boot["filesystem"]["id"].as_str().unwrap()
    );
    let options = format!(
        "options root=PARTUUID={}\n",
        root["partuuid"].as_str().unwrap()
    );
    assert_eq!(read(&menu), options);
    let table = format!(
        "UUID={} / ext4\n",
        root["filesystem"]["id"].as_str().unwrap()
    );
    assert_eq!(read("root:/etc/fstab"), table);
    assert_eq!(
        read("boot:/menu/disk").trim(),
        shown["scheme"]["id"].as_str().unwrap()
    );
    if let Some(judged) = bench.judge("blkid", &["-p", "-O", "1048576", "-s", "UUID", "a.img"]) {
        judged.expect(0);
    }
    bench.write(
        "layout.toml",
        layout.replace("partition.root.uuid", "partition.rot.uuid"),
    );
    bench
        .run(&["build", "layout.toml", "--to", "b.img", "--size", "64MiB"])
        .expect(7)
        .says(&["boot, root"]);
}

#[test]
fn what_does_not_fit_is_told_in_all() {
    let bench = Bench::new();
    let layout = "[medium]\nscheme = \"mbr\"\n[[partition]]\nsize = \"4MiB\"\nfilesystem = \"ext4\"\n\
                  [[partition.content]]\nfrom = \"all\"\n";
    bench.write("layout.toml", layout);
    fs::create_dir(bench.path("all")).unwrap();
    for name in ["all/a", "all/b", "all/c"] {
        bench.write(name, vec![7; 2_000_000]);
    }
    bench
        .run(&["build", "layout.toml", "--to", "a.img", "--size", "8MiB"])
        .expect(7)
        .says(&["6000000 bytes of files"]);
}

#[rstest]
#[case::bzip2("card.img.bz2")]
#[case::another_form("card.qcow2")]
fn names_that_promise_another_form_are_refused(#[case] name: &str) {
    let bench = Bench::with_hut();
    let layout = common::demo("layout.toml");
    let build = [
        "build",
        layout.to_str().unwrap(),
        "--to",
        name,
        "--size",
        "150MiB",
    ];
    bench.run(&build).expect(2).says(&["would not be what"]);
    let write = ["write", "hut.img", "--to", name, "--size", "150MiB"];
    bench.run(&write).expect(2).says(&["would not be what"]);
    assert!(!bench.path(name).exists());
}

#[test]
fn a_packed_image_is_not_changed() {
    let bench = Bench::with_hut();
    let Some(packed) = bench.judge("zstd", &["-q", "hut.img"]) else {
        return;
    };
    packed.expect(0);
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    bench
        .run(&["configure", "hut.img.zst", "--settings", "hut.toml"])
        .expect(2)
        .says(&["is compressed (zstd)", "pinewrit write hut.img.zst"]);
}
