//! Images that were cut into pieces by strangers: put together, and told when they are not whole.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Bench, has_no_table, small_image};
use rstest::rstest;

/// A folder `in` with the image packed and cut by `commands`.
fn cut(commands: &str) -> Option<Bench> {
    for tool in ["split", "xz", "zip", "7z"] {
        if !common::has(tool) {
            return None;
        }
    }
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    fs::create_dir(bench.path("in")).unwrap();
    bench.judge("sh", &["-c", commands]).unwrap().expect(0);
    Some(bench)
}

fn write(bench: &Bench, image: &str) -> common::Run {
    bench.run(&[
        "write", image, "--to", "card.img", "--size", "16MiB", "--yes",
    ])
}

fn holds_image(bench: &Bench) -> bool {
    bench.read("card.img")[..14 << 20] == small_image()
}

fn names(bench: &Bench) -> Vec<String> {
    let entries = fs::read_dir(bench.path("in")).unwrap();
    let name =
        |entry: std::io::Result<fs::DirEntry>| entry.unwrap().file_name().into_string().unwrap();
    let mut names: Vec<String> = entries.map(name).collect();
    names.sort();
    names
}

const SPLIT_RAW: &str = "split -b 3M hut.img in/hut.img-";
const SPLIT_XZ: &str = "xz -k hut.img; split -b 1M hut.img.xz in/hut.img.xz.";
const SEVENZ: &str = "7z a -v1m in/hut.7z hut.img";
const ZIP_TAR: &str = "zip -q -s 1m in/hut.zip hut.img";

#[rstest]
#[case::split(SPLIT_RAW)]
#[case::split_digits("split -d -b 3M hut.img in/hut.img.")]
#[case::split_three_digits("split --numeric-suffixes=1 -a 3 -b 3M hut.img in/hut.img.")]
#[case::many("split -b 20000 hut.img in/hut.img.")]
#[case::xz(SPLIT_XZ)]
#[case::parts("xz -k hut.img; split --numeric-suffixes=1 -a 1 -b 1M hut.img.xz in/hut.img.xz.part")]
#[case::sevenz(SEVENZ)]
#[case::sevenz_zip("7z a -tzip -v1m in/hut.zip hut.img")]
#[case::zip_disks(ZIP_TAR)]
#[case::zip_disks_two_members("cp hut.img b.txt; zip -q -s 1m in/hut.zip b.txt hut.img")]
fn pieces_are_one_image(#[case] commands: &str) {
    let Some(bench) = cut(commands) else {
        return;
    };
    let names = names(&bench);
    assert!(names.len() > 2, "{names:?}");
    for given in [&names[0], &names[names.len() / 2], &names[names.len() - 1]] {
        let given = format!("in/{given}");
        let json = bench.run(&["--json", "inspect", &given]).expect(0).json();
        assert_eq!(json["pieces"], names.len());
        assert_eq!(json["unpacked_bytes"], 14 << 20);
        assert_eq!(json["partitions"][0]["filesystem"]["label"], "HUT BOOT");
    }
    let first = format!("in/{}", names[0]);
    write(&bench, &first).expect(0);
    assert!(holds_image(&bench));
    // The folder is the image as well, with a read-me beside.
    bench.write("in/read-me.txt", "Larkfell OS");
    write(&bench, "in").expect(0);
    assert!(holds_image(&bench));
}

#[rstest]
#[case::split(SPLIT_RAW, "hut.img-ac")]
#[case::split_first(SPLIT_RAW, "hut.img-aa")]
#[case::xz(SPLIT_XZ, "hut.img.xz.ab")]
#[case::sevenz(SEVENZ, "hut.7z.002")]
#[case::zip(ZIP_TAR, "hut.z02")]
#[case::zip_last(ZIP_TAR, "hut.zip")]
fn a_missing_piece_is_named(#[case] commands: &str, #[case] missing: &str) {
    let Some(bench) = cut(commands) else {
        return;
    };
    fs::remove_file(bench.path("in").join(missing)).unwrap();
    let names = names(&bench);
    for given in [&names[0], &names[names.len() - 1]] {
        write(&bench, &format!("in/{given}")).expect(4).says(&[
            "pieces are missing",
            missing,
            "into the same directory",
        ]);
    }
    write(&bench, "in")
        .expect(4)
        .says(&["pieces are missing", missing]);
    assert!(!bench.path("card.img").exists());
}

/// The last one's name does not tell that another should follow; its content does.
#[rstest]
#[case::xz(SPLIT_XZ, "ends too early")]
#[case::sevenz(SEVENZ, "hut.7z")]
fn a_missing_end_is_told(#[case] commands: &str, #[case] words: &str) {
    let Some(bench) = cut(commands) else {
        return;
    };
    let names = names(&bench);
    fs::remove_file(bench.path("in").join(names.last().unwrap())).unwrap();
    write(&bench, &format!("in/{}", names[0]))
        .expect(4)
        .says(&[words]);
    assert!(!bench.path("card.img").exists() || has_no_table(&bench.read("card.img")));
}

#[test]
fn a_zip_without_its_other_disks_is_not_taken_for_an_image() {
    let Some(bench) = cut(ZIP_TAR) else {
        return;
    };
    fs::rename(bench.path("in/hut.zip"), bench.path("hut.zip")).unwrap();
    write(&bench, "hut.zip").expect(4).says(&[
        "pieces are missing",
        "hut.z01",
        "there     1 piece",
    ]);
}

#[test]
fn a_short_piece_is_named() {
    let Some(bench) = cut(SPLIT_RAW) else {
        return;
    };
    let piece = bench.path("in/hut.img-ac");
    let content = fs::read(&piece).unwrap();
    fs::write(&piece, &content[..content.len() - 1]).unwrap();
    write(&bench, "in/hut.img-aa").expect(4).says(&[
        "too short",
        "hut.img-ac",
        "3 145 727",
        "3 145 728",
    ]);
}

#[rstest]
#[case::xz(SPLIT_XZ, "hut.img.xz.ab", "hut.img.xz.ac")]
#[case::sevenz(SEVENZ, "hut.7z.001", "hut.7z.002")]
#[case::zip(ZIP_TAR, "hut.z01", "hut.z02")]
fn pieces_out_of_order_are_noticed(#[case] commands: &str, #[case] a: &str, #[case] b: &str) {
    let Some(bench) = cut(commands) else {
        return;
    };
    let path = |name: &str| bench.path("in").join(name);
    fs::rename(path(a), path("aside")).unwrap();
    fs::rename(path(b), path(a)).unwrap();
    fs::rename(path("aside"), path(b)).unwrap();
    write(&bench, &format!("in/{a}")).expect(4);
    assert!(!bench.path("card.img").exists() || !holds_image(&bench));
}

#[test]
fn a_folder_with_other_things() {
    let bench = Bench::new();
    fs::create_dir(bench.path("in")).unwrap();
    bench.write("in/hut.img", small_image());
    bench.write("in/b4.img", small_image());
    write(&bench, "in").expect(4).says(&[
        "is a directory",
        "b4.img",
        "hut.img",
        "name the image inside",
    ]);
}

#[test]
fn a_checksum_of_the_whole_is_found_beside_the_pieces() {
    let Some(bench) = cut(SPLIT_XZ) else {
        return;
    };
    bench
        .judge("sh", &["-c", "sha256sum hut.img.xz > in/hut.img.xz.sha256"])
        .unwrap()
        .expect(0);
    let run = write(&bench, "in").expect(0);
    assert!(
        run.stdout.contains("sha256 of the packed file matches"),
        "{}",
        run.stdout
    );
}
