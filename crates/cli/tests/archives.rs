//! Images in archives made by strangers: taken out, chosen, refused.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, has_no_table, small_image};
use rstest::rstest;

/// A folder with an image, a read-me and a checksum file to be packed together.
fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench.write("read-me.txt", "Larkfell OS 4.2\n".repeat(50));
    bench.write("hut.img.sha256", "not looked at\n");
    bench
}

/// Runs a packer; `false` where it is missing.
fn pack(bench: &Bench, command: &str) -> bool {
    let tool = command.split(' ').next().unwrap();
    if !common::has(tool) {
        return false;
    }
    let run = bench.judge("sh", &["-c", command]).unwrap();
    assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
    true
}

const FILES: &str = "read-me.txt hut.img hut.img.sha256";

#[rstest]
#[case::zip_deflate("zip -q a", true)]
#[case::zip_stored("zip -q -0 a", true)]
#[case::zip64("zip -q -fz a", true)]
#[case::zip_deflate64("7z a -tzip -mm=Deflate64 a", true)]
#[case::zip_bzip2("7z a -tzip -mm=BZip2 a", true)]
#[case::zip_lzma("7z a -tzip -mm=LZMA a", true)]
#[case::sevenz_lzma2("7z a -m0=LZMA2 a", true)]
#[case::sevenz_lzma("7z a -m0=LZMA a", true)]
#[case::sevenz_bcj("7z a -m0=BCJ -m1=LZMA2 a", true)]
#[case::sevenz_bcj2("7z a -m0=BCJ2 -m1=LZMA2 -mb0s0:1 a", true)]
#[case::sevenz_not_solid("7z a -ms=off a", true)]
#[case::sevenz_bzip2("7z a -m0=BZip2 a", true)]
#[case::tar("tar -cf a", true)]
#[case::tar_gz("tar -czf a", true)]
#[case::tar_xz("tar -cJf a", true)]
#[case::tar_zst("tar --zstd -cf a", true)]
#[case::tar_pax("tar --format=pax -cf a", true)]
#[case::tar_gnu("tar --format=gnu -cf a", true)]
fn the_image_is_taken_out(#[case] packer: &str, #[case] size_known: bool) {
    let bench = bench();
    if !pack(&bench, &format!("{packer} {FILES}")) {
        return;
    }
    // Whatever ending the packer added: told by content.
    let made = ["a", "a.zip", "a.7z"];
    let made = made.iter().find(|name| bench.path(name).exists()).unwrap();
    std::fs::rename(bench.path(made), bench.path("archive")).unwrap();

    let json = bench
        .run(&["--json", "inspect", "archive"])
        .expect(0)
        .json();
    let known = json["unpacked_bytes"].as_u64();
    assert_eq!(known, size_known.then_some(14 << 20));
    let members = json["wrapping"].as_array().unwrap().iter();
    let members: Vec<_> = members
        .filter_map(|layer| layer["member"].as_str())
        .collect();
    assert_eq!(members, ["hut.img"]);
    assert_eq!(json["partitions"][0]["filesystem"]["label"], "HUT BOOT");

    bench
        .run(&["write", "archive", "--to", "card.img", "--size", "16MiB"])
        .expect(0);
    assert!(bench.read("card.img")[..14 << 20] == small_image());
}

#[rstest]
#[case::xz_in_zip("xz -k hut.img; zip -q a hut.img.xz read-me.txt", "a.zip", 2)]
#[case::zip_in_gz("zip -q a hut.img read-me.txt; gzip a.zip", "a.zip.gz", 2)]
#[case::gz_in_tar_in_xz("gzip -k hut.img; tar -cJf a hut.img.gz read-me.txt", "a", 3)]
#[case::zip_in_7z("zip -q a hut.img; 7z a b.7z a.zip read-me.txt", "b.7z", 2)]
#[case::zip_in_zip("zip -q -0 a hut.img; zip -q b a.zip read-me.txt", "b.zip", 2)]
fn archives_in_archives(#[case] commands: &str, #[case] archive: &str, #[case] layers: usize) {
    let bench = bench();
    for tool in ["zip", "7z", "xz", "gzip", "tar"] {
        if !common::has(tool) {
            return;
        }
    }
    assert!(pack(&bench, &format!("sh -c '{commands}'")));
    let json = bench.run(&["--json", "inspect", archive]).expect(0).json();
    assert_eq!(json["wrapping"].as_array().unwrap().len(), layers);
    bench
        .run(&["write", archive, "--to", "card.img", "--size", "16MiB"])
        .expect(0);
    assert!(bench.read("card.img")[..14 << 20] == small_image());
}

#[rstest]
#[case::zip("zip -q a.zip b2.img b4.img read-me.txt", "a.zip")]
#[case::sevenz("7z a a.7z b2.img b4.img read-me.txt", "a.7z")]
#[case::tar("tar -cf a.tar b2.img b4.img read-me.txt", "a.tar")]
fn one_of_several_is_named(#[case] packer: &str, #[case] archive: &str) {
    let bench = bench();
    let mut other = small_image();
    other[10 << 20] ^= 1;
    bench.write("b2.img", small_image());
    bench.write("b4.img", &other);
    if !pack(&bench, packer) {
        return;
    }
    let args = ["write", archive, "--to", "card.img", "--size", "16MiB"];
    bench.run(&args).expect(4).says(&[
        "contains several images",
        "b2.img",
        "b4.img",
        "--member b2.img",
    ]);
    let named = [&args[..], &["--member", "b4.img"]].concat();
    bench.run(&named).expect(0);
    assert!(bench.read("card.img")[..14 << 20] == other);
    let wrong = [&args[..], &["--member", "b5.img"]].concat();
    bench
        .run(&wrong)
        .expect(4)
        .says(&["has no member b5.img", "b4.img"]);
}

#[test]
fn only_the_archive_has_members() {
    let bench = bench();
    bench
        .run(&["inspect", "hut.img", "--member", "x"])
        .expect(4)
        .says(&["is not an archive", "omit --member"]);
}

#[rstest]
#[case::zip("zip -q -P secret a.zip hut.img", "a.zip")]
#[case::sevenz("7z a -psecret a.7z hut.img", "a.7z")]
#[case::sevenz_with_names("7z a -psecret -mhe=on a.7z hut.img", "a.7z")]
fn encrypted_archives(#[case] packer: &str, #[case] archive: &str) {
    let bench = bench();
    if pack(&bench, packer) {
        bench
            .run(&["write", archive, "--to", "card.img", "--size", "16MiB"])
            .expect(4)
            .says(&["a.", "is encrypted", "password"]);
        assert!(!bench.path("card.img").exists());
    }
}

#[test]
fn an_archive_without_an_image() {
    let bench = bench();
    if pack(&bench, "zip -q a.zip read-me.txt hut.img.sha256") {
        bench
            .run(&["inspect", "a.zip"])
            .expect(4)
            .says(&["a.zip contains no image", "read-me.txt"]);
    }
}

/// Names that climb out of the folder do nothing: no member is ever unpacked to a path.
#[test]
fn names_that_climb_are_only_names() {
    let bench = bench();
    std::fs::create_dir(bench.path("inner")).unwrap();
    if !pack(&bench, "tar -C inner -P -cf a.tar ../hut.img") {
        return;
    }
    std::fs::remove_file(bench.path("hut.img")).unwrap();
    let json = bench.run(&["--json", "inspect", "a.tar"]).expect(0).json();
    assert_eq!(json["wrapping"][0]["member"], "../hut.img");
    assert!(!bench.path("hut.img").exists());
}

#[rstest]
#[case::zip("zip -q a.zip hut.img", "a.zip", "zip")]
#[case::sevenz("7z a a.7z hut.img", "a.7z", "7z")]
#[case::tar_gz("tar -czf a.tgz hut.img", "a.tgz", "gzip")]
#[case::tar("tar -cf a.tar hut.img", "a.tar", "tar")]
fn damaged_archives(#[case] packer: &str, #[case] archive: &str, #[case] layer: &str) {
    let bench = bench();
    if !pack(&bench, packer) {
        return;
    }
    let whole = bench.read(archive);
    let write = |name: &str| {
        let mut card = small_image();
        card.resize(16 << 20, 0x77);
        bench.write("card.img", card);
        let run = bench.run(&["write", name, "--to", "card.img", "--yes"]);
        (run.code, run.stderr)
    };
    bench.write("cut", &whole[..whole.len() * 9 / 10]);
    let (code, said) = write("cut");
    assert_eq!(code, 4, "{said}");
    assert!(said.contains("cut"), "{said}");
    let untouched = bench.read("card.img")[510] == 0x55;
    assert!(untouched || has_no_table(&bench.read("card.img")));

    // tar has no checksum of its members' contents.
    if layer != "tar" {
        let mut flipped = whole;
        let middle = flipped.len() * 9 / 10;
        flipped[middle] ^= 4;
        bench.write("flipped", flipped);
        let (code, said) = write("flipped");
        assert_eq!(code, 4, "{said}");
        assert!(
            said.contains(layer) && said.contains("no partition table"),
            "{said}"
        );
        assert!(has_no_table(&bench.read("card.img")));
    }
}
