//! What goes wrong on the way of a copy: nothing half done has a name, or a table.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::Stdio;
use std::time::Instant;

use rstest::rstest;

use crate::common::Bench;
use crate::{is_sound, lived, text};

/// Directories of unfinished images.
fn left_behind(bench: &Bench) -> usize {
    let entries = fs::read_dir(bench.folder()).unwrap();
    let is_ours = |name: &std::ffi::OsStr| name.to_string_lossy().starts_with(".pinewrit-");
    entries
        .filter(|entry| is_ours(&entry.as_ref().unwrap().file_name()))
        .count()
}

#[rstest]
#[case::onto_itself(&["clone", "hut.img", "--to", "./hut.img", "--yes"], 3, "")]
#[case::into_itself(&["save", "hut.img", "--to", "./hut.img", "--yes"], 3, "what is saved")]
#[case::other_name(&["save", "hut.img", "--to", "hut.bin"], 2, "a name that ends in .img")]
#[case::nothing_there(&["clone", "missing.img", "--to", "x.img", "--size", "1GB"], 2, "there is no medium missing.img")]
#[case::small_pieces(&["save", "hut.img", "--to", "x.img", "--pieces", "4096"], 2, "1 MiB")]
#[case::existing(&["save", "hut.img", "--to", "there.img"], 3, "another name, or --yes")]
fn what_is_refused(#[case] args: &[&str], #[case] code: i32, #[case] said: &str) {
    let bench = Bench::with_hut();
    bench.write("there.img", "there");
    let before = bench.read("hut.img");
    let run = bench.run(args);
    assert_eq!(run.code, code, "{} {}", run.stdout, run.stderr);
    assert!(run.stderr.contains(said), "{}", run.stderr);
    assert!(bench.read("hut.img") == before);
    assert_eq!(bench.read("there.img"), b"there");
    assert_eq!(left_behind(&bench), 0);
}

/// Kills a command at moments that are spread over its whole run, and looks at what it left.
fn kill_at_any_moment(bench: &Bench, args: &[&str], prepare: &dyn Fn(), look: &dyn Fn(&str)) {
    let start = || {
        let mut command = bench.command(args);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().unwrap()
    };
    prepare();
    let began = Instant::now();
    assert!(start().wait().unwrap().success());
    let usual = began.elapsed();
    for step in 1..=12 {
        prepare();
        let mut child = start();
        let delay = usual.mul_f64(f64::from(step) / 12.0);
        std::thread::sleep(delay);
        child.kill().unwrap();
        child.wait().unwrap();
        look(&format!("after {delay:?} of {usual:?}"));
    }
}

#[test]
fn a_killed_save_leaves_no_image_and_the_next_one_goes_on() {
    let bench = lived();
    let save = ["save", "hut.img", "--to", "gold.img.zst", "--yes", "-q"];
    let prepare = || {
        let _ = fs::remove_file(bench.path("gold.img.zst"));
    };
    kill_at_any_moment(&bench, &save, &prepare, &|when| {
        if bench.path("gold.img.zst").exists() {
            let run = bench.run(&["verify", "hut.img", "--image", "gold.img.zst"]);
            assert_eq!(run.code, 0, "{when}: {}", run.stderr);
        }
    });
    bench.run(&save).expect(0);
    assert_eq!(left_behind(&bench), 0);
}

#[test]
fn a_killed_clone_leaves_no_table_and_the_next_one_goes_on() {
    let bench = lived();
    let clone = ["clone", "hut.img", "--to", "card.img", "--yes", "-q"];
    let prepare = || {
        let card = bench.write("card.img", vec![0x77; 1 << 20]);
        let card = fs::File::options().write(true).open(card).unwrap();
        card.set_len(200 << 20).unwrap();
    };
    kill_at_any_moment(&bench, &clone, &prepare, &|when| {
        let card = bench.read("card.img");
        let is_begun = card[1000] != 0x77;
        let has_table = card[0x1be..0x1fe].iter().any(|byte| *byte != 0);
        if is_begun && has_table {
            let kept = text(&bench, "card.img", "root:/opt/larkfell/kept.txt");
            assert_eq!(kept.as_deref(), Some("kept\n"), "{when}");
            is_sound(&bench, "card.img");
        }
    });
    bench
        .run(&[&clone[..], &["--only-changes"]].concat())
        .expect(0);
    is_sound(&bench, "card.img");
}

#[rstest]
#[case::save(&["save", "hut.img", "--to", "gold.img.xz"], "there is no gold.img.xz")]
#[case::clone(&["clone", "hut.img", "--to", "card.img", "--size", "1GiB"], "no partition table")]
fn what_is_stopped_says_so(#[case] args: &[&str], #[case] said: &str) {
    let bench = lived();
    let noise = pinewrit_judges::noise(60 << 20, 7);
    bench.write("noise", noise);
    bench
        .run(&["files", "put", "hut.img", "root:/noise", "noise"])
        .expect(0);
    let mut command = bench.command(&[args, &["--json", "--yes"]].concat());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let is_working = |line: &str| line.contains("\"progress\"") || line.contains("\"stage\"");
    assert!(lines.any(|line| is_working(&line.unwrap())));
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let rest: Vec<String> = lines.map_while(Result::ok).collect();
    let output = child.wait_with_output().unwrap();
    let stderr = String::from_utf8_lossy(&output.stderr).into_owned() + &rest.join("\n");
    assert_eq!(output.status.code(), Some(130), "{stderr}");
    assert!(stderr.contains(said), "{stderr}");
    assert_eq!(left_behind(&bench), 0);
}

/// A rack with the demo's card in one reader, and others to copy to.
pub(crate) fn rack(bench: &Bench, target: &str) {
    let text = format!(
        "clock = \"instant\"\nstate = \"rack-state\"\n\
         [[readers]]\nname = \"left\"\nbus = \"usb\"\nspeed = 480\nholds = \"from\"\n\
         [[readers]]\nname = \"right\"\nbus = \"usb\"\nspeed = 480\nholds = \"to\"\n\
         [[readers]]\nname = \"inside\"\nbus = \"nvme\"\nholds = \"laptop\"\n\
         [[cards]]\nname = \"from\"\nfile = \"hut.img\"\nsize = \"150MiB\"\nmaker = \"Larch\"\nmodel = \"Needle\"\nserial = \"1\"\n\
         [[cards]]\nname = \"to\"\nfile = \"to.img\"\nsize = \"200MiB\"\nmaker = \"Larch\"\nmodel = \"Needle\"\nserial = \"2\"\n{target}\
         [[cards]]\nname = \"laptop\"\nfile = \"laptop.img\"\nsize = \"1GB\"\nsystem = [\"/\"]\n"
    );
    bench.write("rack.toml", text);
}

#[test]
fn a_rack_is_cloned_from_reader_to_reader() {
    let bench = lived();
    rack(&bench, "");
    bench
        .run(&[
            "--rack",
            "rack.toml",
            "clone",
            "rack:left",
            "--to",
            "rack:right",
            "--yes",
        ])
        .expect(0);
    is_sound(&bench, "to.img");
    let refused = bench.run(&[
        "--rack",
        "rack.toml",
        "clone",
        "rack:inside",
        "--to",
        "rack:right",
        "--yes",
    ]);
    assert_eq!(refused.code, 3, "{}", refused.stderr);
}

#[rstest]
#[case::pulled("faults = [{ kind = \"pulled\", after = \"5MB\" }]\n")]
#[case::bad("faults = [{ kind = \"write-error\", at = \"9MB\", len = 4096 }]\n")]
#[case::flipped("faults = [{ kind = \"flipped-bit\", at = \"9000000\" }]\n")]
fn a_target_that_fails_has_no_table(#[case] fault: &str) {
    let bench = lived();
    rack(&bench, fault);
    let run = bench.run(&[
        "--rack",
        "rack.toml",
        "clone",
        "rack:left",
        "--to",
        "rack:right",
        "--yes",
    ]);
    assert_eq!(run.code, 5, "{}", run.stderr);
    let bytes = bench.read("to.img");
    assert!(bytes[..512].iter().all(|byte| *byte == 0));
}

#[test]
fn a_source_that_fails_leaves_nothing() {
    let bench = lived();
    rack(&bench, "");
    let path = bench.path("rack.toml");
    let text = fs::read_to_string(&path).unwrap();
    let text = text.replace(
        "serial = \"1\"\n",
        "serial = \"1\"\nfaults = [{ kind = \"read-error\", at = \"9MB\", len = 65536 }]\n",
    );
    fs::write(&path, text).unwrap();
    let to_rack = [
        "--rack",
        "rack.toml",
        "clone",
        "rack:left",
        "--to",
        "rack:right",
        "--yes",
    ];
    let run = bench.run(&to_rack);
    assert_ne!(run.code, 0, "{}", run.stderr);
    let head = fs::read(bench.path("to.img")).unwrap_or(vec![0; 512]);
    assert!(head[..512].iter().all(|byte| *byte == 0));
    let run = bench.run(&[
        "--rack",
        "rack.toml",
        "save",
        "rack:left",
        "--to",
        "gold.img.zst",
    ]);
    assert_ne!(run.code, 0, "{}", run.stderr);
    assert!(!Path::new(&bench.path("gold.img.zst")).exists());
}
