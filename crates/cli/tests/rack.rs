//! The rack: commands against simulated readers and cards, with every fault there is.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::time::{Duration, Instant};

use common::{Bench, Run, has_no_table, small_image};
use rstest::rstest;

/// A rack with one reader that holds a card of 64 MB; `more` is added to the card.
fn bench(more: &str) -> Bench {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench.write(
        "rack.toml",
        format!(
            "clock = \"instant\"\n\
             [[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
             [[readers]]\nname = \"hub\"  # an empty one\n\
             [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MB\"\nserial = \"1\"\n{more}\n\
             [[cards]]\nname = \"other\"\nfile = \"other.img\"\nsize = \"32MiB\"\n"
        ),
    );
    bench
}

fn run(bench: &Bench, args: &[&str]) -> Run {
    bench.run(&[&["--rack", "rack.toml"], args].concat())
}

fn write(bench: &Bench, options: &[&str]) -> Run {
    let args = ["write", "hut.img", "--to", "rack:slot", "--yes"];
    run(bench, &[&args[..], options].concat())
}

fn tag(bench: &Bench, path: &str) -> String {
    let json = run(bench, &["--json", "media", "--all"]).expect(0).json();
    let media = json["media"].as_array().unwrap();
    let medium = media.iter().find(|medium| medium["path"] == path).unwrap();
    medium["tag"].as_str().unwrap().to_owned()
}

#[test]
fn every_command_works_on_the_rack() {
    let bench = bench("");
    let tag = tag(&bench, "rack:slot");
    run(&bench, &["write", "hut.img", "--to", &tag, "--yes"]).expect(0);
    assert!(bench.read("card.img")[..14 << 20] == small_image());
    run(&bench, &["verify", &tag, "--image", "hut.img"]).expect(0);
    let found = run(&bench, &["inspect", &tag]).expect(0);
    assert!(found.stdout.contains("HUT BOOT"), "{}", found.stdout);
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    run(
        &bench,
        &["configure", &tag, "--settings", "hut.toml", "--yes"],
    )
    .expect(0);
    // The environment names a rack as well.
    let mut command = bench.command(&["media"]);
    let listed = command.env("PINEWRIT_RACK", "rack.toml").output().unwrap();
    let listed = Run::from(listed).expect(0);
    assert!(listed.stdout.contains(&tag), "{}", listed.stdout);
}

#[test]
fn a_medium_in_a_reader_is_a_source() {
    let bench = bench("");
    let tag = tag(&bench, "rack:slot");
    run(&bench, &["write", "hut.img", "--to", &tag, "--yes"]).expect(0);
    let copy = ["write", &tag, "--to", "copy.img", "--size", "64MB"];
    run(&bench, &copy).expect(0);
    assert!(bench.read("copy.img")[..14 << 20] == small_image());
    run(&bench, &["verify", "copy.img", "--image", &tag]).expect(0);
    // Onto itself it is not written.
    let told = run(&bench, &["write", &tag, "--to", "rack:slot", "--yes"]).expect(3);
    told.says(&["cannot be written", "the image is on it"]);
}

#[rstest]
#[case::pulled(
    r#"faults = [{ kind = "pulled", after = "8MB" }]"#,
    &["is gone", "pulled out", "try another reader"]
)]
#[case::bad_block(
    r#"faults = [{ kind = "write-error", at = "10MB", len = 4096 }]"#,
    &["has write errors", "writing at 10.00 MB", "the medium is bad"]
)]
#[case::unreadable(
    r#"faults = [{ kind = "read-error", at = "10MB", len = 1 }]"#,
    &["has read errors", "reading at 10.00 MB"]
)]
#[case::lies_and_wraps(
    r#"faults = [{ kind = "smaller-than-told", real = "8MiB", beyond = "wraps" }]"#,
    &["is smaller than it says", "appeared at its start"]
)]
#[case::lies_and_loses(
    r#"faults = [{ kind = "smaller-than-told", real = "8MiB" }]"#,
    &["does not hold what was written", "at 9.44 MB", "2 chunks"]
)]
#[case::flipped(
    r#"faults = [{ kind = "flipped-bit", at = 10000000 }]"#,
    &["does not hold what was written", "1 chunk of 4 MiB"]
)]
#[case::lost(
    r#"faults = [{ kind = "lost-writes", at = "12MB", len = 10 }]"#,
    &["does not hold what was written"]
)]
fn a_fault_ends_a_write(#[case] fault: &str, #[case] words: &[&str]) {
    let bench = bench(fault);
    // What was on the card before must not look finished after.
    let mut card = small_image();
    card.truncate(4 << 20);
    card.resize(64_000_000, 0x77);
    bench.write("card.img", card);
    let run = write(&bench, &[]).expect(5).says(words);
    assert!(has_no_table(&bench.read("card.img")), "{}", run.stderr);
    assert!(
        run.stderr.contains("nothing on it looks finished"),
        "{}",
        run.stderr
    );
}

#[rstest]
#[case::slow_spot(r#"faults = [{ kind = "slow-spot", at = "11MB", len = "1MB", ms = 700 }]"#)]
#[case::stuck(r#"faults = [{ kind = "stuck-write", at = "11MB", ms = 1200 }]"#)]
#[case::latency("latency-ms = 30")]
#[case::speed("write-speed = \"5MB/s\"\nread-speed = \"200MB/s\"")]
fn slow_media_are_slow_and_come_to_a_good_end(#[case] more: &str) {
    let bench = bench(more);
    let text = String::from_utf8(bench.read("rack.toml")).unwrap();
    bench.write("rack.toml", text.replace("instant", "real"));
    let began = Instant::now();
    write(&bench, &[]).expect(0);
    assert!(
        began.elapsed() > Duration::from_secs(1),
        "{:?}",
        began.elapsed()
    );
    assert!(bench.read("card.img")[..14 << 20] == small_image());
}

#[rstest]
#[case::system("system = [\"/\"]", &["--unmount", "--confirm", "TAG"], "no option overrides this")]
#[case::locked("locked = true", &["--unmount", "--confirm", "TAG"], "write-protected")]
#[case::busy("mounted = \"/media/hut\"", &[], "rack:slot on /media/hut")]
#[case::unsure("removable = false\n", &["--confirm", "ZZZZ"], "may not be the medium")]
fn refusals(#[case] more: &str, #[case] options: &[&str], #[case] words: &str) {
    let bench = bench(more);
    if more.starts_with("removable") {
        let text = String::from_utf8(bench.read("rack.toml")).unwrap();
        bench.write("rack.toml", text.replace("\"sd\"", "\"sata\""));
    }
    let tag = tag(&bench, "rack:slot");
    let options: Vec<&str> = options
        .iter()
        .map(|option| {
            if *option == "TAG" {
                tag.as_str()
            } else {
                option
            }
        })
        .collect();
    write(&bench, &options).expect(3).says(&[words]);
    assert!(bench.read("card.img").iter().all(|byte| *byte == 0));
    if more.starts_with("removable") {
        write(&bench, &["--confirm", &tag, "--dry-run"]).expect(0);
        assert!(bench.read("card.img").iter().all(|byte| *byte == 0));
        write(&bench, &["--confirm", &tag]).expect(0);
    }
    if more.starts_with("mounted") {
        write(&bench, &["--unmount"])
            .expect(0)
            .says(&["unmounted /media/hut"]);
        // The rack remembers.
        write(&bench, &[]).expect(0);
    }
}

#[test]
fn cards_are_moved_as_by_hand() {
    let bench = bench("");
    let card = tag(&bench, "rack:slot");
    run(&bench, &["rack", "insert", "other", "slot"])
        .expect(2)
        .says(&["reader slot already holds card card", "rack remove card"]);
    run(&bench, &["rack", "insert", "other", "hub"]).expect(0);
    run(&bench, &["rack", "swap", "slot", "hub"]).expect(0);
    let shown = run(&bench, &["rack", "show"]).expect(0).stdout;
    let place = |name: &str| {
        shown
            .lines()
            .find(|line| line.contains(name))
            .unwrap()
            .to_owned()
    };
    assert!(place("slot").contains("other"), "{shown}");
    assert!(place("hub").contains("card, 64.00 MB"), "{shown}");
    // Its own serial number is all that the tag knows of the card, and the bus.
    assert_ne!(tag(&bench, "rack:hub"), card);
    run(&bench, &["rack", "remove", "card"]).expect(0);
    run(&bench, &["rack", "remove", "card"])
        .expect(2)
        .says(&["in no reader"]);
    run(&bench, &["rack", "insert", "card", "hbu"])
        .expect(2)
        .says(&["no reader hbu", "slot, hub"]);
    run(&bench, &["rack", "insert", "crad", "hub"])
        .expect(2)
        .says(&["no card crad", "card, other"]);
    let text = String::from_utf8(bench.read("rack.toml")).unwrap();
    assert!(text.contains("# an empty one"), "comments stay:\n{text}");
    run(&bench, &["write", "hut.img", "--to", "rack:hub", "--yes"])
        .expect(2)
        .says(&["no medium rack:hub"]);
}

#[rstest]
#[case::syntax("clock =", "rack.toml has 1 mistake", "line 1")]
#[case::several(
    "[[readers]]\nname = \"a b\"\nholds = \"nothing\"",
    "rack.toml has 2 mistakes",
    "line 3  "
)]
#[case::key("clock = \"instant\"\nspeed = 3\n", "unknown field `speed`", "line 2")]
#[case::clock("\nclock = \"fast\"\n", "fast", "line 2")]
#[case::size(
    "[[cards]]\nname = \"a\"\nfile = \"a\"\nsize = \"8XB\"\n",
    "`XB` is no unit",
    "line 4"
)]
#[case::card(
    "[[readers]]\nname = \"r\"\nholds = \"none\"\n",
    "there is no card none",
    "line 3"
)]
#[case::fault(
    "[[cards]]\nname = \"a\"\nfile = \"a\"\nsize = 512\nfaults = [{ kind = \"eaten\" }]\n",
    "eaten",
    "line 5"
)]
#[case::twice(
    "[[readers]]\nname = \"r\"\n[[readers]]\nname = \"r\"\n",
    "two readers are named r",
    "line 2"
)]
fn a_mistake_is_told_with_its_line(#[case] text: &str, #[case] what: &str, #[case] line: &str) {
    let bench = Bench::new();
    bench.write("rack.toml", text);
    run(&bench, &["media"])
        .expect(7)
        .says(&[what, line, "docs/formats.md"]);
}

#[test]
fn without_a_rack_file() {
    let bench = Bench::new();
    run(&bench, &["media"])
        .expect(7)
        .says(&["rack.toml cannot be used", "rack new"]);
    bench
        .run(&["rack", "show"])
        .expect(2)
        .says(&["which rack?", "PINEWRIT_RACK"]);
}

#[test]
fn a_new_rack_has_all_five_verdicts() {
    let bench = Bench::new();
    bench.run(&["rack", "new", "practice"]).expect(0);
    bench
        .run(&["rack", "new", "practice"])
        .expect(2)
        .says(&["already exists"]);
    let args = ["--rack", "practice/rack.toml", "--json", "media", "--all"];
    let json = bench.run(&args).expect(0).json();
    let media = json["media"].as_array().unwrap().iter();
    let mut verdicts: Vec<&str> = media
        .filter(|medium| medium["size"].as_u64() != Some(0))
        .map(|medium| medium["verdict"].as_str().unwrap())
        .collect();
    verdicts.dedup();
    assert_eq!(verdicts, ["ready", "busy", "locked", "unsure", "system"]);
}

/// In a rehearsal the computer's own devices are out of reach.
#[test]
fn the_computers_own_devices_are_not_there() {
    let bench = bench("");
    let behind = bench.write("behind.img", vec![0x5a; 32 << 20]);
    let Some(device) = common::Loop::over(&behind, &[]) else {
        return;
    };
    run(&bench, &["write", "hut.img", "--to", &device.path, "--yes"])
        .expect(2)
        .says(&["there is no device"]);
    assert!(bench.read("behind.img") == vec![0x5a; 32 << 20]);
    // Card files are files.
    run(
        &bench,
        &["write", "hut.img", "--to", "file.img", "--size", "16MiB"],
    )
    .expect(0);
}

/// Faults in the middle of changes: the card is as it was, or has nothing that looks finished.
#[rstest]
#[case::bad_first_sector("faults = [{ kind = \"write-error\", at = 0, len = 512 }]")]
#[case::pulled("faults = [{ kind = \"pulled\", after = 4096 }]")]
fn a_bad_card_keeps_its_table(#[case] fault: &str) {
    let bench = bench("");
    for args in [
        &["table", "create", "rack:slot", "--scheme", "gpt"][..],
        &[
            "table",
            "add",
            "rack:slot",
            "--type",
            "linux",
            "--size",
            "16MiB",
        ],
    ] {
        run(&bench, args).expect(0);
    }
    let before = bench.read("card.img");
    let rack = String::from_utf8(bench.read("rack.toml")).unwrap();
    let card = "serial = \"1\"";
    bench.write("rack.toml", rack.replace(card, &format!("{card}\n{fault}")));
    let add = [
        "table",
        "add",
        "rack:slot",
        "--type",
        "linux",
        "--size",
        "8MiB",
    ];
    run(&bench, &add).expect(5);
    let after = bench.read("card.img");
    // A pulled card cannot be put right; its first sector, which is written last, is the old one.
    assert!(after[..512] == before[..512]);
    let format = ["format", "rack:slot", "1", "--as", "ext4"];
    if fault.contains("pulled") {
        run(&bench, &format).expect(5);
    }
}

#[test]
fn a_file_system_on_a_bad_card_is_not_called_finished() {
    let bench = bench("");
    run(&bench, &["table", "create", "rack:slot"]).expect(0);
    run(
        &bench,
        &[
            "table",
            "add",
            "rack:slot",
            "--type",
            "linux",
            "--size",
            "32MiB",
        ],
    )
    .expect(0);
    let rack = String::from_utf8(bench.read("rack.toml")).unwrap();
    let fault =
        "serial = \"1\"\nfaults = [{ kind = \"write-error\", at = \"1100KiB\", len = 4096 }]";
    bench.write("rack.toml", rack.replace("serial = \"1\"", fault));
    let said = run(&bench, &["format", "rack:slot", "1", "--as", "ext4"]).expect(5);
    assert!(
        !said.stderr.contains("nothing was changed"),
        "{}",
        said.stderr
    );
    let build = "[[partition]]\nsize = \"16MiB\"\nfilesystem = \"ext4\"\n";
    bench.write("layout.toml", build);
    run(
        &bench,
        &["build", "layout.toml", "--to", "rack:slot", "--yes"],
    )
    .expect(5);
    assert!(has_no_table(&bench.read("card.img")));
}
