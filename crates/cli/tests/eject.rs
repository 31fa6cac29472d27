//! Ejecting: what is said must be true.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Bench, Loop, Run, small_image};
use rstest::rstest;

const RACK: &str = r#"
clock = "instant"
[[readers]]
name = "slot"
bus = "sd"
holds = "card"
[[readers]]
name = "hub"
holds = "stick"
[[readers]]
name = "spare"
[[readers]]
name = "bay"
bus = "sata"
holds = "data"
[[readers]]
name = "inner"
bus = "nvme"
holds = "laptop"
[[cards]]
name = "card"
file = "card.img"
size = "32MiB"
locked = true
[[cards]]
name = "stick"
file = "stick.img"
size = "32MiB"
mounted = "/media/warden/stick"
[[cards]]
name = "data"
file = "data.img"
size = "64MiB"
[[cards]]
name = "laptop"
file = "laptop.img"
size = "128MiB"
system = ["/"]
"#;

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("rack.toml", RACK);
    bench.write("hut.img", small_image());
    bench
}

fn run(bench: &Bench, args: &[&str]) -> Run {
    bench.run(&[&["--rack", "rack.toml"], args].concat())
}

fn holds(bench: &Bench, reader: &str) -> bool {
    let json = run(bench, &["--json", "rack", "show"]).expect(0).json();
    let readers = json["readers"].as_array().unwrap();
    let found = readers.iter().find(|found| found["reader"] == reader);
    !found.unwrap()["holds"].is_null()
}

#[rstest]
#[case::slot("rack:slot", "everything is flushed", false)]
#[case::stick("rack:hub", "powered down", true)]
fn a_medium_is_ejected(#[case] path: &str, #[case] how: &str, #[case] powered_down: bool) {
    let bench = bench();
    let media = run(&bench, &["--json", "media", "--all"]).expect(0).json();
    let media = media["media"].as_array().unwrap();
    let medium = media.iter().find(|medium| medium["path"] == path).unwrap();
    let tag = medium["tag"].as_str().unwrap();
    let said = run(&bench, &["eject", tag, "--json"]).expect(0).json();
    assert_eq!(said["tag"], tag);
    assert_eq!(said["powered_down"], powered_down);
    assert!(!holds(&bench, &path[5..]));
    let back = match path {
        "rack:slot" => ["rack", "insert", "card", "slot"],
        _ => ["rack", "insert", "stick", "hub"],
    };
    run(&bench, &back).expect(0);
    let run = run(&bench, &["eject", path]).expect(0);
    assert!(
        run.stdout.contains(&format!("you can take {tag} out")) && run.stdout.contains(how),
        "{}",
        run.stdout
    );
}

#[test]
fn what_is_mounted_is_unmounted_first() {
    let bench = bench();
    run(&bench, &["eject", "rack:hub"])
        .expect(0)
        .says(&["unmounted /media/warden/stick"]);
    run(&bench, &["rack", "insert", "stick", "hub"]).expect(0);
    let json = run(&bench, &["--json", "media"]).expect(0).json();
    let media = json["media"].as_array().unwrap();
    let stick = media.iter().find(|medium| medium["path"] == "rack:hub");
    assert_eq!(stick.unwrap()["verdict"], "ready");
}

#[rstest]
#[case::built_in("rack:bay", 3, &["is built into this computer", "switch the computer off"])]
#[case::system("rack:inner", 3, &["runs this computer"])]
#[case::empty("rack:spare", 2, &["there is no medium in rack:spare", "pinewrit media"])]
#[case::file("hut.img", 2, &["is a file", "nothing to eject"])]
#[case::nothing("nothing.img", 2, &["there is no medium nothing.img"])]
fn what_cannot_be_ejected(#[case] named: &str, #[case] code: i32, #[case] says: &[&str]) {
    let bench = bench();
    let run = run(&bench, &["eject", named]).expect(code).says(says);
    assert!(!run.stdout.contains("you can take"), "{}", run.stdout);
    assert!(holds(&bench, "bay") && holds(&bench, "inner"));
}

#[test]
fn a_written_medium_is_ejected_at_the_end() {
    let bench = bench();
    let args = ["write", "hut.img", "--to", "rack:hub", "--unmount"];
    let run = run(
        &bench,
        &[&args[..], &["--yes", "--eject", "--every-byte"]].concat(),
    )
    .expect(0);
    assert!(run.stdout.contains("you can take"), "{}", run.stdout);
    assert!(!run.stdout.contains("next"), "{}", run.stdout);
    assert!(!holds(&bench, "hub"));
    assert!(bench.read("stick.img")[..14 << 20] == small_image());
}

#[test]
fn an_attached_device_is_unmounted_and_flushed() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0; 16 << 20]);
    let Some(device) = Loop::over(&behind, &[]) else {
        return;
    };
    let Some(made) = bench.judge("mkfs.ext4", &["-q", &device.path]) else {
        return;
    };
    made.expect(0);
    fs::create_dir(bench.path("point")).unwrap();
    bench
        .judge("mount", &[&device.path, "point"])
        .unwrap()
        .expect(0);
    fs::write(bench.path("point/note"), "snow 40 cm").unwrap();
    let run = bench.run(&["eject", &device.path]).expect(0);
    assert!(run.stdout.contains("you can take"), "{}", run.stdout);
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap();
    assert!(!mounts.contains(&*bench.path("point").to_string_lossy()));
    let found = bench.judge("debugfs", &["-R", "cat note", "behind.img"]);
    assert!(found.is_none_or(|run| run.stdout.contains("snow 40 cm")));
}
