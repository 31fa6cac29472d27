//! Media by their tags: listed, chosen, confirmed, freed.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use common::{Bench, Loop, small_image};
use serde_json::Value;

/// A folder with an image and an attached device of 32 MiB.
fn bench(content: &[u8]) -> Option<(Bench, Loop, PathBuf)> {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let mut behind = content.to_vec();
    behind.resize(32 << 20, 0);
    let behind = bench.write("behind.img", behind);
    let device = Loop::over(&behind, &[])?;
    Some((bench, device, behind))
}

/// What `media` says of the device at `path`.
fn listed(bench: &Bench, path: &str) -> Value {
    let json = bench.run(&["--json", "media", "--all"]).expect(0).json();
    let media = json["media"].as_array().unwrap();
    media
        .iter()
        .find(|medium| medium["path"] == path)
        .unwrap()
        .clone()
}

fn tag(bench: &Bench, path: &str) -> String {
    listed(bench, path)["tag"].as_str().unwrap().to_owned()
}

fn mount(bench: &Bench, device: &str, point: &str) {
    fs::create_dir_all(bench.path(point)).unwrap();
    bench.judge("mount", &[device, point]).unwrap().expect(0);
}

#[test]
fn a_medium_is_listed_and_written_by_its_tag() {
    let Some((bench, device, behind)) = bench(&[]) else {
        return;
    };
    let medium = listed(&bench, &device.path);
    assert_eq!(medium["verdict"], "ready");
    assert_eq!(medium["size"], 32 << 20);
    assert_eq!(medium["bus"], "loop");
    let tag = medium["tag"].as_str().unwrap().to_lowercase();
    bench
        .run(&["write", "hut.img", "--to", &tag, "--yes", "--every-byte"])
        .expect(0);
    assert!(fs::read(behind).unwrap()[..14 << 20] == small_image());
    let run = bench.run(&["media"]).expect(0);
    assert!(
        run.stdout.contains("FAT16 \"HUT BOOT\" 8.39 MB"),
        "{}",
        run.stdout
    );
    bench.run(&["verify", &tag, "--image", "hut.img"]).expect(0);
}

#[test]
fn a_tag_that_nothing_has() {
    let Some((bench, device, _)) = bench(&[]) else {
        return;
    };
    let tag = tag(&bench, &device.path);
    let last = if tag.ends_with('Z') { 'Y' } else { 'Z' };
    let near = format!("{}{last}", &tag[..tag.len() - 1]);
    bench
        .run(&["write", "hut.img", "--to", &near, "--yes", "--every-byte"])
        .expect(2)
        .says(&[
            "no medium has the tag",
            "like it",
            &tag,
            &device.path,
            "pinewrit media",
        ]);
}

#[test]
fn a_file_of_the_tags_name_is_not_guessed_at() {
    let Some((bench, device, behind)) = bench(&[]) else {
        return;
    };
    let tag = tag(&bench, &device.path);
    bench.write(&tag, vec![7; 16 << 20]);
    bench
        .run(&["write", "hut.img", "--to", &tag, "--yes"])
        .expect(2)
        .says(&[
            "is a file here, and the tag of a medium",
            &format!("--to ./{tag}"),
            &device.path,
        ]);
    assert!(fs::read(behind).unwrap() == vec![0; 32 << 20]);
    bench
        .run(&[
            "write",
            "hut.img",
            "--to",
            &format!("./{tag}"),
            "--yes",
            "--every-byte",
        ])
        .expect(0);
}

#[test]
fn a_new_card_file_may_be_named_like_a_tag() {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench
        .run(&["write", "hut.img", "--to", "CARD", "--size", "16MiB"])
        .expect(0);
    assert!(bench.path("CARD").exists());
}

#[test]
fn a_mounted_medium_is_unmounted_when_asked() {
    let Some((bench, device, behind)) = bench(&[]) else {
        return;
    };
    let Some(made) = bench.judge("mkfs.ext4", &["-q", &device.path]) else {
        return;
    };
    made.expect(0);
    mount(&bench, &device.path, "first");
    mount(&bench, &device.path, "second place");
    let medium = listed(&bench, &device.path);
    assert_eq!(medium["verdict"], "busy");
    assert_eq!(medium["mounted"].as_array().unwrap().len(), 2);
    let args = [
        "write",
        "hut.img",
        "--to",
        &device.path,
        "--yes",
        "--every-byte",
    ];
    bench
        .run(&args)
        .expect(3)
        .says(&["is in use", "mounted", "second place", "--unmount"]);
    bench
        .run(&[&args[..], &["--unmount"]].concat())
        .expect(0)
        .says(&["unmounted", "first", "second place"]);
    assert!(fs::read(behind).unwrap()[..14 << 20] == small_image());
}

#[test]
fn who_keeps_it_mounted_is_named() {
    let Some((bench, device, behind)) = bench(&[]) else {
        return;
    };
    let Some(made) = bench.judge("mkfs.ext4", &["-q", &device.path]) else {
        return;
    };
    made.expect(0);
    mount(&bench, &device.path, "kept");
    let before = fs::read(&behind).unwrap();
    let mut keeper = std::process::Command::new("sleep")
        .arg("60")
        .current_dir(bench.path("kept"))
        .spawn()
        .unwrap();
    let args = [
        "write",
        "hut.img",
        "--to",
        &device.path,
        "--yes",
        "--every-byte",
        "--unmount",
    ];
    let run = bench.run(&args);
    keeper.kill().unwrap();
    keeper.wait().unwrap();
    let pid = format!("sleep (process {})", keeper.id());
    run.expect(3).says(&[
        "kept cannot be unmounted",
        &pid,
        "close the programs that use it",
    ]);
    bench.judge("umount", &["kept"]).unwrap().expect(0);
    assert!(fs::read(&behind).unwrap()[1080] == before[1080]);
    let checked = bench.judge("e2fsck", &["-fn", "behind.img"]);
    assert!(checked.is_none_or(|run| run.code == 0));
}

#[test]
fn what_belongs_to_an_array_needs_its_tag_once_more() {
    let mut content = vec![0; 512];
    content.extend(b"LABELONE");
    let Some((bench, device, behind)) = bench(&content) else {
        return;
    };
    let tag = tag(&bench, &device.path);
    assert_eq!(listed(&bench, &device.path)["verdict"], "unsure");
    let args = [
        "write",
        "hut.img",
        "--to",
        &device.path,
        "--yes",
        "--every-byte",
    ];
    let confirm = format!("--confirm {tag}");
    bench.run(&args).expect(3).says(&[
        "may not be the medium you mean",
        "is part of LVM",
        &confirm,
    ]);
    bench
        .run(&[&args[..], &["--confirm", "ZZZZ"]].concat())
        .expect(3)
        .says(&["may not be the medium", &confirm]);
    assert!(fs::read(&behind).unwrap()[512..520] == *b"LABELONE");
    bench
        .run(&[&args[..], &["--confirm", &tag]].concat())
        .expect(0);
    assert!(fs::read(behind).unwrap()[..14 << 20] == small_image());
}

/// The image is larger than any disk, so that even a wrong answer would write nothing.
#[test]
fn no_option_writes_the_disk_that_runs_the_computer() {
    let bench = Bench::new();
    let huge = fs::File::create(bench.path("huge.img")).unwrap();
    huge.set_len(8 << 40).unwrap();
    let json = bench.run(&["--json", "media", "--all"]).expect(0).json();
    let media = json["media"].as_array().unwrap().iter();
    let systems: Vec<&Value> = media
        .filter(|medium| medium["verdict"] == "system")
        .collect();
    if systems.is_empty() {
        common::say_skipped("disk below the system that can be seen");
        return;
    }
    for system in systems {
        let (path, tag) = (
            system["path"].as_str().unwrap(),
            system["tag"].as_str().unwrap(),
        );
        for named in [path, tag] {
            for options in [
                &[][..],
                &["--yes", "--every-byte"],
                &["--yes", "--unmount"],
                &["--yes", "--confirm", tag],
                &["--yes", "--unmount", "--confirm", tag, "--no-verify"],
                &["--dry-run"],
                &["--dry-run", "--unmount", "--confirm", tag],
            ] {
                let args = [&["write", "huge.img", "--to", named], options].concat();
                bench
                    .run(&args)
                    .expect(3)
                    .says(&["runs this computer", "no option overrides this"]);
            }
        }
        let run = bench.run(&["media"]).expect(0);
        assert!(!run.stdout.contains(path), "{}", run.stdout);
    }
}

#[test]
fn watching_shows_what_comes_and_goes() {
    let Some((bench, first, _)) = bench(&[]) else {
        return;
    };
    let log = bench.path("log");
    let mut child = bench
        .command(&["--json", "media", "--watch"])
        .stdout(fs::File::create(&log).unwrap())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let wait_for = |words: &[String]| {
        let until = Instant::now() + Duration::from_secs(20);
        loop {
            let text = fs::read_to_string(&log).unwrap();
            let found = |line: &str| words.iter().all(|word| line.contains(word));
            if text.lines().any(found) {
                return true;
            }
            if Instant::now() > until {
                return false;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    let event = |what: &str| format!("\"event\":\"{what}\"");
    assert!(wait_for(&[event("result"), first.path.clone()]));
    // The list is out; what comes now is new.
    std::thread::sleep(Duration::from_secs(1));
    let other = bench.write("other.img", vec![0; 8 << 20]);
    let second = Loop::over(&other, &[]).unwrap();
    let path = second.path.clone();
    assert!(wait_for(&[event("new"), path.clone()]));
    drop(second);
    assert!(wait_for(&[event("gone"), path]));
    let pid = child.id().to_string();
    bench
        .judge("sh", &["-c", &format!("kill -INT {pid}")])
        .unwrap()
        .expect(0);
    assert!(child.wait().unwrap().code().is_some());
}

#[test]
fn a_mount_that_only_others_see_is_found_and_undone() {
    let Some((bench, device, behind)) = bench(&[]) else {
        return;
    };
    let Some(made) = bench.judge("mkfs.ext4", &["-q", &device.path]) else {
        return;
    };
    made.expect(0);
    let point = bench.path("hidden");
    fs::create_dir_all(&point).unwrap();
    let script = format!(
        "mount {} {} && touch {} && exec sleep 60",
        device.path,
        point.display(),
        bench.path("mounted").display()
    );
    let mut keeper = std::process::Command::new("unshare")
        .args(["-m", "sh", "-c", &script])
        .spawn()
        .unwrap();
    let until = Instant::now() + Duration::from_secs(20);
    while !bench.path("mounted").exists() && Instant::now() < until {
        std::thread::sleep(Duration::from_millis(20));
    }
    let args = [
        "write",
        "hut.img",
        "--to",
        &device.path,
        "--yes",
        "--every-byte",
    ];
    let refused = bench.run(&args);
    let written = bench.run(&[&args[..], &["--unmount"]].concat());
    keeper.kill().unwrap();
    keeper.wait().unwrap();
    let pid = format!("only sleep (process {})", keeper.id());
    refused
        .expect(3)
        .says(&["is in use", "hidden", &pid, "--unmount"]);
    written.expect(0).says(&["unmounted", "hidden"]);
    assert!(fs::read(behind).unwrap()[..14 << 20] == small_image());
}
