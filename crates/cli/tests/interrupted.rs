//! Changes of a medium that were killed halfway: put back or finished, by whatever comes next.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::time::Duration;

use common::{Bench, PROGRAM, small_image};
use rstest::rstest;

const CONFIGURE: [&str; 4] = ["configure", "card.img", "--settings", "hut.toml"];

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("card.img", small_image());
    bench.write("hut.toml", include_str!("../../../demo/hut-03.toml"));
    bench
}

/// An undo file as an interrupted run leaves it: of two blocks the first was changed.
fn interrupt(bench: &Bench) {
    let state = bench.path("state/pinewrit");
    std::fs::create_dir_all(&state).unwrap();
    let mut image = small_image();
    let mut undo = b"PINEUNDO\x02\0\0\0".to_vec();
    undo.extend((image.len() as u64).to_le_bytes());
    for block in [1usize << 20, 3 << 20] {
        let before = image[block..][..4096].to_vec();
        let mut after = before.clone();
        after[100] ^= 0xff;
        undo.push(1);
        undo.extend((block as u64).to_le_bytes());
        undo.extend(4096u32.to_le_bytes());
        undo.extend(&before);
        undo.extend(&after);
    }
    undo.push(0);
    let digest = blake3::hash(&undo);
    undo.extend(digest.as_bytes());
    // The name comes from the medium's full path.
    let card = std::fs::canonicalize(bench.path("card.img")).unwrap();
    let name = card
        .to_str()
        .unwrap()
        .replace(|c: char| !c.is_ascii_alphanumeric(), "_");
    std::fs::write(state.join(format!("{name}.undo")), undo).unwrap();
    image[(1 << 20) + 100] ^= 0xff;
    bench.write("card.img", image);
}

/// What would be a change, and comes to nothing.
const NOTHING: [&str; 4] = ["files", "remove", "card.img", "1:/none"];

#[test]
fn an_interrupted_run_is_put_back_by_the_next() {
    let bench = bench();
    interrupt(&bench);
    bench.run(&NOTHING).says(&[
        "an earlier change of card.img was interrupted: 512 B of it is on the medium, 512 B",
        "it was rolled back",
    ]);
    assert!(bench.read("card.img") == small_image());
    bench.run(&CONFIGURE).expect(0);
}

#[test]
fn an_interrupted_run_is_finished_where_somebody_says_so() {
    let bench = bench();
    // It has a receipt, which the change was to go into.
    bench.write("hut.img", small_image());
    bench
        .run(&["write", "hut.img", "--to", "card.img", "--yes"])
        .expect(0);
    interrupt(&bench);
    let mut finished = small_image();
    finished[(1 << 20) + 100] ^= 0xff;
    finished[(3 << 20) + 100] ^= 0xff;
    // What is asked after it is answered no: the end of the input.
    let command = format!("{PROGRAM} files remove card.img 1:/none");
    let mut script = std::process::Command::new("script");
    script.args(["-qec", &command, "/dev/null"]);
    script.current_dir(bench.folder());
    script.env("XDG_STATE_HOME", bench.path("state"));
    script.stdin(std::process::Stdio::piped());
    script.stdout(std::process::Stdio::piped());
    let Ok(mut running) = script.spawn() else {
        common::say_skipped("script");
        return;
    };
    std::io::Write::write_all(&mut running.stdin.take().unwrap(), b"y\n").unwrap();
    let output = running.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&output.stdout);
    assert!(
        told.contains("it is finished; card.img has all of it"),
        "{told}"
    );
    assert!(bench.read("card.img") == finished);
    bench
        .run(&["verify", "card.img"])
        .expect(0)
        .shows(&["changes", "finish"]);
}

#[rstest]
#[case::inspect(&["inspect", "card.img"])]
#[case::verify(&["verify", "card.img", "--image", "card.img"])]
#[case::table(&["table", "show", "card.img"])]
#[case::dry_run(&["configure", "card.img", "--settings", "hut.toml", "--dry-run"])]
#[case::files(&["files", "list", "card.img", "1:/"])]
fn commands_that_change_nothing_tell_of_an_interrupted_run(#[case] args: &[&str]) {
    let bench = bench();
    interrupt(&bench);
    let before = bench.read("card.img");
    let run = bench.run(args);
    run.says(&["an earlier change of card.img was interrupted halfway"]);
    assert!(bench.read("card.img") == before);
}

/// The undo file of a card that was pulled waits for it while others take its place.
#[test]
fn an_undo_file_of_another_card_is_kept_for_it() {
    let bench = bench();
    interrupt(&bench);
    let halfway = bench.read("card.img");
    let mut other = small_image();
    other[(1 << 20) + 40] = 0x5c;
    bench.write("card.img", &other);
    let run = bench.run(&CONFIGURE).expect(0);
    assert!(!run.stderr.contains("rolled back"), "{}", run.stderr);
    assert_eq!(bench.read("card.img")[(1 << 20) + 40], 0x5c);
    bench.write("card.img", halfway);
    bench
        .run(&CONFIGURE)
        .expect(0)
        .says(&["it was rolled back"]);
}

/// A rack with a card of a slow reader, or one that takes no time.
fn rack(bench: &Bench, clock: &str) {
    bench.write(
        "rack.toml",
        format!(
            "clock = \"{clock}\"\n[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
             [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = {}\nserial = \"1\"\nlatency-ms = 10\n",
            small_image().len()
        ),
    );
}

/// Whatever the moment: the next command makes the medium what it was, or all of it is there.
#[test]
fn a_change_killed_at_any_moment_is_put_back() {
    let on_rack = |args: &[&'static str]| [&["--rack", "rack.toml"], args].concat();
    let configure = on_rack(&["configure", "rack:slot", "--settings", "hut.toml", "--yes"]);
    let nothing = on_rack(&["files", "remove", "rack:slot", "1:/none", "--yes"]);
    let bench = bench();
    let image = small_image();
    let mut halfway = 0;
    for step in 0..8 {
        bench.write("card.img", &image);
        rack(&bench, "real");
        let mut child = bench.command(&configure).spawn().unwrap();
        while bench.read("card.img") == image && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        std::thread::sleep(Duration::from_millis(step * 20));
        child.kill().unwrap();
        child.wait().unwrap();
        rack(&bench, "instant");
        let run = bench.run(&nothing);
        let is_back = run.stderr.contains("it was rolled back");
        assert_eq!(
            bench.read("card.img") == image,
            is_back,
            "{step}: {}",
            run.stderr
        );
        halfway += u32::from(is_back);
        let run = bench.run(&configure).expect(0);
        let word = if is_back { "done:" } else { "unchanged:" };
        assert!(run.stdout.starts_with(word), "{step}: {}", run.stdout);
    }
    assert!(halfway > 0, "no kill met a change that was on its way");
}
