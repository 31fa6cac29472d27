//! Copies of other media than the usual card: other tables, other file systems last, packed images.

use std::fs;

use pinewrit_judges::needs;
use rstest::rstest;

use crate::common::{Bench, demo};
use crate::faults::rack;
use crate::{cut_out, identifiers, inspected, is_sound, lived, text};

/// A medium that is built from a layout, with 60 files of noise in its last partition.
fn built(scheme: &str, last: &str) -> Bench {
    let bench = Bench::new();
    let noise = pinewrit_judges::noise(9 << 20, 11);
    fs::create_dir(bench.path("readings")).unwrap();
    for (index, part) in noise.chunks(160_000).enumerate() {
        bench.write(&format!("readings/winter-{index}.bin"), part);
    }
    let layout = format!(
        "[medium]\nscheme = \"{scheme}\"\n\
         [[partition]]\nsize = \"20MiB\"\nfilesystem = \"ext4\"\nlabel = \"first\"\n\
         [[partition]]\nsize = \"rest\"\nfilesystem = \"{last}\"\nlabel = \"READINGS\"\n\
         [[partition.content]]\nfrom = \"readings\"\nto = \"/\"\n"
    );
    bench.write("layout.toml", layout);
    bench
        .run(&[
            "build",
            "layout.toml",
            "--to",
            "hut.img",
            "--size",
            "140MiB",
        ])
        .expect(0);
    bench
}

/// Each last file system is made smaller behind each table, and grows again.
#[rstest]
fn the_last_file_system_fits_a_smaller_medium(
    #[values("mbr", "gpt")] scheme: &str,
    #[values("fat16", "fat32", "ext4")] last: &str,
) {
    let bench = built(scheme, last);
    let small = ["clone", "hut.img", "--to", "small.img", "--size", "90MiB"];
    let large = [
        "clone",
        "small.img",
        "--to",
        "large.img",
        "--size",
        "200MiB",
        "--grow",
    ];
    bench.run(&small).expect(0);
    bench.run(&large).expect(0);
    for (image, most) in [("small.img", 90), ("large.img", 200)] {
        let found = inspected(&bench, image);
        assert_eq!(found["problems"].as_array().unwrap().len(), 0, "{found}");
        let part = &found["partitions"][1];
        let end = part["start"].as_u64().unwrap() + part["size"].as_u64().unwrap();
        assert!(end <= most << 20 && end > (most - 4) << 20, "{found}");
        let folder = image.trim_end_matches(".img");
        let read = ["files", "read", image, "2:/", "--to", folder];
        bench.run(&read).expect(0);
        for index in [0, 17, 58] {
            let name = format!("winter-{index}.bin");
            let got = bench.read(&format!("{folder}/{name}"));
            assert!(
                got == bench.read(&format!("readings/{name}")),
                "{image} {name}"
            );
        }
        let cut = cut_out(&bench, image, 2);
        let judge = match last {
            "fat16" | "fat32" => bench.judge("fsck.fat", &["-n", &cut]),
            _ => bench.judge("e2fsck", &["-fn", &cut]),
        };
        if let Some(judged) = judge {
            assert_eq!(judged.code, 0, "{image}: {}", judged.stdout);
        }
    }
}

/// A file system without a table is a medium, too.
#[rstest]
#[case::ext4("mkfs.ext4", &["-q", "-F"])]
#[case::fat("mkfs.fat", &["-F", "16"])]
fn a_medium_without_a_table_is_copied_and_shrunk(#[case] maker: &str, #[case] args: &[&str]) {
    needs!("mkfs.ext4", "mkfs.fat");
    let bench = Bench::new();
    bench.write("kept.txt", "kept\n");
    bench.write("whole.img", vec![0; 120 << 20]);
    let made = bench.judge(maker, &[args, &["whole.img"]].concat());
    made.unwrap().expect(0);
    bench
        .run(&["files", "put", "whole.img", "whole:/kept.txt", "kept.txt"])
        .expect(0);
    let save = [
        "save",
        "whole.img",
        "--to",
        "gold.img",
        "--shrink",
        "--spare",
        "1MiB",
    ];
    bench.run(&save).expect(0);
    assert!(bench.read("gold.img").len() <= 60 << 20);
    let kept = text(&bench, "gold.img", "whole:/kept.txt");
    assert_eq!(kept.as_deref(), Some("kept\n"));
    bench
        .run(&["clone", "whole.img", "--to", "copy.img", "--size", "130MiB"])
        .expect(0);
    let id = |image: &str| inspected(&bench, image)["filesystem"]["id"].clone();
    assert_ne!(id("whole.img"), id("copy.img"));
    assert_eq!(id("whole.img"), id("gold.img"));
}

/// One that fails does not hold up the other.
#[test]
fn the_second_target_is_finished_when_the_first_is_pulled() {
    let bench = lived();
    rack(
        &bench,
        "faults = [{ kind = \"pulled\", after = \"5MB\" }]\n",
    );
    let run = bench.run(&[
        "--rack",
        "rack.toml",
        "clone",
        "rack:left",
        "--to",
        "rack:right",
        "--to",
        "second.img",
        "--size",
        "200MiB",
        "--yes",
    ]);
    assert_eq!(run.code, 5, "{}", run.stderr);
    assert!(bench.read("to.img")[..512].iter().all(|byte| *byte == 0));
    is_sound(&bench, "second.img");
    let [old, new] = ["hut.img", "second.img"].map(|name| identifiers(&inspected(&bench, name)));
    assert!(!old.iter().any(|id| new.contains(id)));
}

/// A golden image becomes a unit in one step.
#[test]
fn a_packed_golden_image_is_cloned_with_settings() {
    let bench = lived();
    bench
        .run(&[
            "save",
            "hut.img",
            "--to",
            "gold.img.zst",
            "--as-new",
            "--shrink",
        ])
        .expect(0);
    bench.write("next.toml", fs::read(demo("hut-04.toml")).unwrap());
    bench
        .run(&[
            "clone",
            "gold.img.zst",
            "--to",
            "next.img",
            "--size",
            "180MiB",
            "--settings",
            "next.toml",
            "--grow",
        ])
        .expect(0);
    is_sound(&bench, "next.img");
    let receipt = bench.run(&["inspect", "next.img", "--json"]).expect(0);
    assert!(receipt.stdout.contains("larkfell-04"), "{}", receipt.stdout);
    assert_eq!(
        text(&bench, "next.img", "root:/etc/ssh/ssh_host_ed25519_key.pub"),
        None
    );
    let [old, new] = ["hut.img", "next.img"].map(|name| identifiers(&inspected(&bench, name)));
    assert!(!old.iter().any(|id| new.contains(id)));
}

/// A full disk under the image: nothing is left, and it is told.
#[test]
fn a_full_disk_is_told_and_nothing_is_left() {
    needs!("mount", "umount");
    let bench = lived();
    bench.write("noise", pinewrit_judges::noise(20 << 20, 7));
    bench
        .run(&["files", "put", "hut.img", "root:/noise", "noise"])
        .expect(0);
    fs::create_dir(bench.path("narrow")).unwrap();
    let mounted = bench.judge("mount", &["-t", "tmpfs", "-o", "size=8m", "none", "narrow"]);
    if mounted.is_none_or(|run| run.code != 0) {
        pinewrit_judges::say_skipped("a file system in memory (root is needed)");
        return;
    }
    let run = bench.run(&["save", "hut.img", "--to", "narrow/gold.img.zst"]);
    let left = fs::read_dir(bench.path("narrow")).unwrap().count();
    bench.judge("umount", &["narrow"]).unwrap().expect(0);
    assert_eq!(run.code, 5, "{}", run.stderr);
    assert!(run.stderr.contains("more room"), "{}", run.stderr);
    assert_eq!(left, 0, "{}", run.stderr);
}
