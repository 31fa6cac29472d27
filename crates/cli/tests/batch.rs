//! Batches on a rack, with somebody who moves the cards.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![allow(
    clippy::print_stdout,
    reason = "a long run says what it did in the test's own output"
)]

mod common;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::fmt::Write;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Stdio};
use std::sync::{LazyLock, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use common::{Bench, Run, demo};
use pinewrit_host::Rack;
use pinewrit_judges::Server;
use rstest::rstest;
use serde_json::Value;

static SERVER: LazyLock<Option<Server>> = LazyLock::new(Server::start);

/// How long a batch may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// A rack with empty readers and blank cards; `odd` adds lines to some cards.
fn rack(readers: usize, cards: usize, odd: &[(usize, &str)]) -> String {
    let mut text = "clock = \"instant\"\nstate = \"records\"\n".to_owned();
    for number in 1..=readers {
        write!(text, "[[readers]]\nname = \"r{number}\"\nbus = \"usb\"\n").unwrap();
    }
    for number in 1..=cards {
        let more = odd.iter().find(|(odd, _)| *odd == number);
        let more = more.map_or("", |(_, lines)| lines);
        write!(
            text,
            "[[cards]]\nname = \"c{number:03}\"\nfile = \"c{number:03}.img\"\nsize = \"192MiB\"\n\
             maker = \"Moraine\"\nmodel = \"Scree\"\nserial = \"{number:05}\"\n{more}\n"
        )
        .unwrap();
    }
    text
}

const BAD: &str = "faults = [{ kind = \"lost-writes\", at = \"68MiB\", len = \"8MiB\" }]";

/// A roster of so many huts, with the demo's image.
fn roster(units: usize) -> String {
    let key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp w";
    format!(
        "image = \"hut.img.zst\"\ngrow = true\n[[settings.users]]\nname = \"warden\"\n\
         ssh-keys = [\"{key}\"]\n[settings.wired]\ngateway = \"10.77.0.1\"\n[each]\n\
         wired.addresses = [\"{{address}}\"]\n[count]\nunits = {units}\nname = \"larkfell-{{n:03}}\"\n\
         address = \"10.77.0.21/16\"\n"
    )
}

/// A bench with the packed image, a roster and a rack.
fn bench(units: usize, rack: &str) -> Bench {
    let bench = Bench::new();
    let layout = demo("layout.toml");
    let build = [
        "build",
        layout.to_str().unwrap(),
        "--to",
        "hut.img.zst",
        "--size",
        "128MiB",
    ];
    bench.run(&build).expect(0);
    bench.write("huts.toml", roster(units));
    bench.write("rack.toml", rack);
    bench
}

/// A running batch, and what it has said.
struct Running {
    child: Child,
    lines: mpsc::Receiver<Value>,
    seen: Vec<Value>,
}

impl Running {
    fn start(bench: &Bench, rack: &str, args: &[&str]) -> Self {
        let all = [&["--rack", rack, "--json", "batch", "huts.toml"], args].concat();
        let mut command = bench.command(&all);
        command.stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().unwrap();
        let (told, lines) = mpsc::channel();
        let out = BufReader::new(child.stdout.take().unwrap());
        thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                if told.send(serde_json::from_str(&line).unwrap()).is_err() {
                    break;
                }
            }
        });
        Self {
            child,
            lines,
            seen: Vec::new(),
        }
    }

    /// What was said since the last time.
    fn hear(&mut self) -> Vec<Value> {
        let news: Vec<Value> = self.lines.try_iter().collect();
        for line in &news {
            Run {
                code: 0,
                stdout: line.to_string(),
                stderr: String::new(),
            }
            .described();
        }
        self.seen.extend(news.iter().cloned());
        news
    }

    /// Waits for a line.
    fn wait_for(&mut self, event: &str) -> Value {
        let begun = Instant::now();
        loop {
            if let Some(found) = self.hear().into_iter().find(|line| line["event"] == event) {
                return found;
            }
            assert!(begun.elapsed() < PATIENCE, "no {event}: {:#?}", self.seen);
            thread::sleep(Duration::from_millis(10));
        }
    }

    /// Waits until it has looked at all readers for the first time, or has nothing to do.
    fn wait_until_it_waits(&mut self) {
        let begun = Instant::now();
        let waits = |line: &Value| line["event"] == "waiting" || line["event"] == "result";
        while !self.seen.iter().any(waits) {
            self.hear();
            assert!(begun.elapsed() < PATIENCE, "{:#?}", self.seen);
            thread::sleep(Duration::from_millis(10));
        }
    }

    fn is_over(&mut self) -> bool {
        self.child.try_wait().unwrap().is_some()
    }

    /// The exit code; all lines have been heard.
    fn end(&mut self) -> i32 {
        let begun = Instant::now();
        while !self.is_over() {
            self.hear();
            assert!(
                begun.elapsed() < PATIENCE,
                "it does not end: {:#?}",
                self.seen
            );
            thread::sleep(Duration::from_millis(10));
        }
        thread::sleep(Duration::from_millis(50));
        self.hear();
        self.child.wait().unwrap().code().unwrap_or(-1)
    }

    fn signal(&self, name: &str) {
        // A shell has it built in; a bare machine has no program for it.
        let script = format!("kill {name} {}", self.child.id());
        let sent = std::process::Command::new("sh")
            .args(["-c", &script])
            .status();
        assert!(sent.unwrap().success());
    }

    /// Units of lines of this kind.
    fn units(&self, event: &str) -> Vec<String> {
        let lines = self.seen.iter().filter(|line| line["event"] == event);
        lines
            .map(|line| line["unit"].as_str().unwrap().to_owned())
            .collect()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Somebody with a box of cards: puts one into each empty reader, and takes failed ones out.
struct Person {
    rack: std::path::PathBuf,
    cards: VecDeque<String>,
}

impl Person {
    fn new(bench: &Bench, rack: &str, cards: std::ops::RangeInclusive<usize>) -> Self {
        Self {
            rack: bench.path(rack),
            cards: cards.map(|number| format!("c{number:03}")).collect(),
        }
    }

    fn look(&mut self, news: &[Value]) {
        let Ok(mut rack) = Rack::open(&self.rack) else {
            return;
        };
        for line in news {
            let event = line["event"].as_str().unwrap();
            if matches!(event, "unit-failed" | "left-alone") && line["because"] != "no-job" {
                let reader = line["medium"]
                    .as_str()
                    .unwrap()
                    .trim_start_matches("rack:")
                    .to_owned();
                let held = rack.readers().into_iter().find(|(name, _)| *name == reader);
                if let Some((_, Some(card))) = held {
                    rack.remove(&card).unwrap();
                }
            }
        }
        for (reader, held) in rack.readers() {
            if held.is_none()
                && let Some(card) = self.cards.pop_front()
                && rack.insert(&card, &reader).is_err()
            {
                self.cards.push_front(card);
            }
        }
    }

    /// Works until the batch is over. Only what is inserted after its start is written.
    fn serve(&mut self, running: &mut Running) -> i32 {
        let begun = Instant::now();
        running.wait_until_it_waits();
        while !running.is_over() {
            let news = running.hear();
            self.look(&news);
            assert!(begun.elapsed() < PATIENCE, "{:#?}", running.seen);
            thread::sleep(Duration::from_millis(20));
        }
        running.end()
    }
}

/// The host name that a card gives its board.
fn host_on(bench: &Bench, card: &str) -> String {
    let run = bench
        .run(&["files", "read", card, "1:/meta-data"])
        .expect(0);
    let line = run
        .stdout
        .lines()
        .find_map(|line| line.strip_prefix("local-hostname: "));
    line.unwrap_or_default().trim_matches('\'').to_owned()
}

fn records(bench: &Bench, args: &[&str]) -> Vec<Value> {
    let all = [args, &["ledger", "export", "--as", "json"]].concat();
    let run = bench.run(&all).expect(0);
    run.stdout
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect()
}

#[test]
fn a_hundred_units_over_eight_readers_with_five_bad_cards() {
    let bad: Vec<(usize, &str)> = [3, 17, 40, 41, 77].map(|number| (number, BAD)).to_vec();
    let bench = bench(100, &rack(8, 105, &bad));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=105);
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen.last());
    let done: BTreeSet<String> = running.units("unit-done").into_iter().collect();
    assert_eq!(done.len(), 100);
    assert_eq!(running.units("unit-done").len(), 100);
    let failed = running.units("unit-failed");
    assert_eq!(failed.len(), 5, "{failed:?}");
    let result = running.seen.last().unwrap();
    assert_eq!(result["failed"], 5);
    let records = records(&bench, &["--rack", "rack.toml"]);
    let of: BTreeMap<&str, &Value> = records
        .iter()
        .map(|record| (record["unit"].as_str().unwrap(), record))
        .collect();
    assert_eq!((records.len(), of.len()), (100, 100));
    let ids: BTreeSet<&str> = records
        .iter()
        .map(|one| one["table_id"].as_str().unwrap())
        .collect();
    assert_eq!(ids.len(), 100, "each card has an identifier of its own");
    // A card taken out of the box tells who it is, and is what the ledger says.
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    for card in ["c001", "c060", "c105"] {
        rack.insert(card, "r1").unwrap();
        let verified = bench.run(&[
            "--rack",
            "rack.toml",
            "--json",
            "ledger",
            "verify",
            "rack:r1",
        ]);
        let told = verified.expect(0).json();
        let unit = told["record"]["unit"].as_str().unwrap();
        assert_eq!(host_on(&bench, &format!("{card}.img")), unit);
        rack.remove(card).unwrap();
    }
}

#[test]
fn a_finished_card_is_recognised_and_a_bad_one_refused() {
    let bench = bench(3, &rack(1, 6, &[(2, BAD)]));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    running.wait_until_it_waits();
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    rack.insert("c001", "r1").unwrap();
    running.wait_for("unit-done");
    rack.insert("c001", "r1").unwrap();
    let made = running.wait_for("left-alone");
    assert_eq!(
        (&made["because"], &made["unit"]),
        (&"made".into(), &"larkfell-001".into())
    );
    rack.remove("c001").unwrap();
    thread::sleep(Duration::from_millis(150));
    rack.insert("c002", "r1").unwrap();
    running.wait_for("unit-failed");
    rack.remove("c002").unwrap();
    thread::sleep(Duration::from_millis(150));
    rack.insert("c002", "r1").unwrap();
    let bad = running.wait_for("left-alone");
    assert_eq!(bad["because"], "bad", "{bad}");
    rack.remove("c002").unwrap();
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    // The next evening.
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 3..=4);
    assert_eq!(person.serve(&mut running), 0);
    assert_eq!(running.units("unit-done"), ["larkfell-002", "larkfell-003"]);
    // And one of them anew.
    let mut running = Running::start(&bench, "rack.toml", &["--again", "larkfell-002"]);
    let mut person = Person::new(&bench, "rack.toml", 5..=5);
    assert_eq!(person.serve(&mut running), 0);
    assert_eq!(running.units("unit-done"), ["larkfell-002"]);
    assert_eq!(host_on(&bench, "c005.img"), "larkfell-002");
}

#[test]
fn only_new_or_named_media_without_files_are_written() {
    let system = "system = [\"/\"]\nremovable = false";
    let mounted = "mounted = \"/media/hut\"";
    let odd = [
        (1, ""),
        (2, system),
        (3, "locked = true"),
        (4, mounted),
        (5, ""),
    ];
    let bench = bench(2, &rack(3, 7, &odd));
    // Somebody's card, with files.
    bench
        .run(&[
            "write",
            "hut.img.zst",
            "--to",
            "c005.img",
            "--yes",
            "--size",
            "192MiB",
        ])
        .expect(0);
    let mut rack = Rack::open(&bench.path("rack.toml")).unwrap();
    rack.insert("c001", "r1").unwrap();
    let mut running = Running::start(&bench, "rack.toml", &[]);
    running.wait_for("waiting");
    for (card, because) in [
        ("c002", "verdict"),
        ("c003", "verdict"),
        ("c004", "mounted"),
        ("c005", "holds"),
    ] {
        rack.insert(card, "r2").unwrap();
        let left = running.wait_for("left-alone");
        assert_eq!(left["because"], because, "{card}: {left}");
        rack.remove(card).unwrap();
        thread::sleep(Duration::from_millis(150));
    }
    // What was there before the start is left alone.
    thread::sleep(Duration::from_millis(300));
    running.hear();
    assert_eq!(running.units("unit-started"), [""; 0]);
    let left = std::fs::read(bench.path("c001.img")).unwrap_or_default();
    assert!(left.iter().all(|byte| *byte == 0));
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    let args = ["--to", "rack:r1", "--over", "any", "--unmount"];
    let mut running = Running::start(&bench, "rack.toml", &args);
    assert_eq!(running.wait_for("unit-done")["medium"], "rack:r1");
    rack.insert("c004", "r2").unwrap();
    assert_eq!(running.wait_for("unit-done")["medium"], "rack:r2");
    assert_eq!(running.end(), 0);
}

#[test]
fn the_second_interruption_leaves_no_table() {
    let slow = "write-speed = \"4MB\"";
    let odd: Vec<(usize, &str)> = (1..=2).map(|number| (number, slow)).collect();
    let text = rack(2, 2, &odd).replace("clock = \"instant\"\n", "");
    let bench = bench(3, &text);
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=2);
    running.wait_for("waiting");
    person.look(&[]);
    while running.units("unit-started").len() < 2 {
        running.hear();
        thread::sleep(Duration::from_millis(10));
    }
    thread::sleep(Duration::from_millis(500));
    running.signal("-INT");
    assert_eq!(running.wait_for("closing")["running"], 2);
    running.signal("-INT");
    assert_eq!(running.end(), 130);
    for card in ["c001.img", "c002.img"] {
        assert!(
            bench.read(card)[..512].iter().all(|byte| *byte == 0),
            "{card}"
        );
    }
    let jobs = bench.run(&[
        "--rack",
        "rack.toml",
        "--json",
        "ledger",
        "list",
        "--batch",
        "huts",
    ]);
    let units = jobs.expect(0).json()["units"].clone();
    assert!(
        units
            .as_array()
            .unwrap()
            .iter()
            .all(|unit| unit["state"] == "open"),
        "{units}"
    );
}

#[test]
fn two_media_of_a_unit_are_not_mixed_up() {
    let bench = bench(2, &rack(1, 4, &[]));
    let text = bench.read("huts.toml");
    let text = String::from_utf8(text).unwrap();
    let text = text.replace("image = \"hut.img.zst\"\ngrow = true\n", "");
    bench.write("logs.toml", "[medium]\nscheme = \"gpt\"\n[[partition]]\nsize = \"16MiB\"\nfilesystem = \"ext4\"\nlabel = \"logs\"\n");
    let media = "[[medium]]\nrole = \"system\"\nimage = \"hut.img.zst\"\n[[medium]]\nrole = \"logs\"\nlayout = \"logs.toml\"\ngrow = true\n";
    bench.write("huts.toml", format!("{media}{text}"));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    let mut person = Person::new(&bench, "rack.toml", 1..=4);
    assert_eq!(person.serve(&mut running), 0);
    let done: Vec<String> = running
        .seen
        .iter()
        .filter(|line| line["event"] == "unit-done")
        .map(|line| {
            format!(
                "{} {}",
                line["unit"].as_str().unwrap(),
                line["role"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(
        done,
        [
            "larkfell-001 system",
            "larkfell-001 logs",
            "larkfell-002 system",
            "larkfell-002 logs"
        ]
    );
    assert_eq!(host_on(&bench, "c003.img"), "larkfell-002");
    let logs = bench
        .run(&["--json", "inspect", "c004.img"])
        .expect(0)
        .json();
    assert!(logs.to_string().contains("\"logs\""), "{logs}");
}

#[test]
fn a_bad_image_ends_the_batch_and_not_the_cards() {
    let bench = bench(2, &rack(1, 2, &[]));
    let mut image = bench.read("hut.img.zst");
    let middle = image.len() / 2;
    image[middle..middle + 64].fill(0x5a);
    bench.write("hut.img.zst", image);
    let run = bench.run(&["--rack", "rack.toml", "batch", "huts.toml"]);
    assert!(matches!(run.code, 4 | 7), "{}", run.stderr);
    let sum = "0".repeat(64);
    let text = String::from_utf8(bench.read("huts.toml")).unwrap();
    bench.write("huts.toml", format!("checksum = \"sha256:{sum}\"\n{text}"));
    let run = bench.run(&["--rack", "rack.toml", "batch", "huts.toml", "--dry-run"]);
    assert_eq!(run.expect(4).stdout, "");
}

#[test]
fn twenty_mistakes_are_told_with_their_lines() {
    let bench = bench(1, &rack(1, 1, &[]));
    bench.write(
        "hut.toml",
        "timezone = \"Europe/Wien\"\nlocale = \"german\"\nkeyboard = \"xx\"\n",
    );
    bench.write(
        "more.csv",
        "unit,hostnam,wired.addresses\nlarkfell-01,,10.77.0.9/24\nlark fell,,10.77.0.8/24\nlarkfell-03,,10.77.0.7\n",
    );
    bench.write(
        "huts.toml",
        "image = \"hut.img.zst\"
settings = \"hut.toml\"
units = \"more.csv\"
chekcsum = \"sha256:00\"
[network]
range = \"10.77.0.0/99\"
pool = \"10.77.0.100\"
reserved = [\"here\"]
[each]
wired.mtu = 12
wired.gateway = \"10.77.0\"
swap = \"lots\"
ssh.port = 99999
time-servers = [\"not a host\"]
stock-user = \"shout\"
[[unit]]
nam = \"larkfell-20\"
[[unit]]
name = \"larkfell-21\"
settings.hostname = \"no_host\"
[count]
units = 0
name = \"larkfell-{n\"
",
    );
    let run = bench.run(&["--json", "batch", "huts.toml", "--dry-run"]);
    let mistakes = run.expect(7).json()["mistakes"].clone();
    let mistakes = mistakes.as_array().unwrap();
    let places: BTreeSet<(String, u64)> = mistakes
        .iter()
        .map(|one| {
            let file = Path::new(one["file"].as_str().unwrap())
                .file_name()
                .unwrap();
            (
                file.to_string_lossy().into_owned(),
                one["line"].as_u64().unwrap(),
            )
        })
        .collect();
    let wanted = [
        ("hut.toml", 1),
        ("hut.toml", 2),
        ("hut.toml", 3),
        ("huts.toml", 4),
        ("huts.toml", 6),
        ("huts.toml", 7),
        ("huts.toml", 8),
        ("huts.toml", 10),
        ("huts.toml", 11),
        ("huts.toml", 12),
        ("huts.toml", 13),
        ("huts.toml", 14),
        ("huts.toml", 15),
        ("huts.toml", 17),
        ("huts.toml", 16),
        ("huts.toml", 20),
        ("huts.toml", 22),
        ("more.csv", 1),
        ("more.csv", 3),
        ("more.csv", 4),
    ];
    let wanted: BTreeSet<(String, u64)> = wanted.map(|(file, line)| (file.to_owned(), line)).into();
    assert_eq!(places, wanted, "{mistakes:#?}");
}

#[rstest]
#[case::name(&["--only", "larkfell-1"], 2, "did you mean larkfell-001?")]
#[case::file(&["--to", "hut.img.zst"], 2, "is not a medium in a reader")]
fn wishes_that_make_no_sense_are_refused(
    #[case] args: &[&str],
    #[case] code: i32,
    #[case] told: &str,
) {
    let bench = bench(2, &rack(1, 1, &[]));
    let run = bench.run(&[&["--rack", "rack.toml", "batch", "huts.toml"], args].concat());
    let run = run.expect(code);
    assert!(run.stderr.contains(told), "{}", run.stderr);
}

#[test]
fn addresses_of_other_units_in_the_ledger_are_mistakes() {
    let bench = bench(1, &rack(1, 2, &[]));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    assert_eq!(
        Person::new(&bench, "rack.toml", 1..=1).serve(&mut running),
        0
    );
    let other = roster(2).replace("larkfell-{n:03}", "shed-{n}");
    bench.write("sheds.toml", other);
    let run = bench.run(&[
        "--rack",
        "rack.toml",
        "--json",
        "batch",
        "sheds.toml",
        "--dry-run",
    ]);
    let what = run.expect(7).json()["mistakes"][0]["what"]
        .as_str()
        .unwrap()
        .to_owned();
    assert!(
        what.starts_with("shed-1: 10.77.0.21 belongs to larkfell-001"),
        "{what}"
    );
}

/// Two stations, each with readers of its own, on one ledger; one is killed in the middle.
#[rstest]
#[case::file(None)]
#[case::server(Some(()))]
fn two_stations_make_forty_units_once_though_one_is_killed(#[case] server: Option<()>) {
    let address = match server {
        None => None,
        Some(()) => match SERVER.as_ref() {
            Some(server) => Some(server.database()),
            None => return,
        },
    };
    let bench = bench(40, &rack(3, 30, &[]));
    let second = rack(3, 60, &[])
        .replace("file = \"c", "file = \"d")
        .replace("serial = \"0", "serial = \"1");
    bench.write("second.toml", second);
    let file = bench.path("shared.sqlite").display().to_string();
    let ledger = address.unwrap_or(file);
    let args = ["--ledger", ledger.as_str(), "--lease", "3"];
    let mut first = Running::start(&bench, "rack.toml", &args);
    let mut other = Running::start(&bench, "second.toml", &args);
    let mut people = [
        Person::new(&bench, "rack.toml", 1..=30),
        Person::new(&bench, "second.toml", 1..=60),
    ];
    let begun = Instant::now();
    first.wait_until_it_waits();
    other.wait_until_it_waits();
    while first.units("unit-done").len() < 8 {
        let news = [first.hear(), other.hear()];
        for (person, news) in people.iter_mut().zip(&news) {
            person.look(news);
        }
        assert!(begun.elapsed() < PATIENCE, "{:#?}", first.seen);
        thread::sleep(Duration::from_millis(20));
    }
    first.signal("-KILL");
    first.child.wait().unwrap();
    first.hear();
    let mut code = people[1].serve(&mut other);
    assert_eq!(code, 0, "{:#?}", other.seen);
    let records = records(&bench, &["--ledger", &ledger]);
    let mut of: BTreeMap<String, usize> = BTreeMap::new();
    for record in &records {
        *of.entry(record["unit"].as_str().unwrap().to_owned())
            .or_default() += 1;
    }
    assert_eq!(of.len(), 40, "none is lost");
    assert!(
        of.values().all(|count| *count == 1),
        "none is made twice: {of:?}"
    );
    // Whoever comes later has nothing to do.
    let mut late = Running::start(&bench, "rack.toml", &args);
    code = late.end();
    assert_eq!((code, late.units("unit-started").len()), (0, 0));
}

#[test]
fn a_ledger_that_cannot_be_reached_makes_no_card_bad() {
    let Some(server) = Server::start() else {
        return;
    };
    let bench = bench(2, &rack(1, 2, &[]));
    let ledger = server.database();
    server.stop();
    let args = [
        "--ledger",
        ledger.as_str(),
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
    ];
    let run = bench.run(&[&args[..], &["--size", "192MiB"]].concat());
    let run = run.expect(0);
    assert!(
        run.stderr.contains("the record is kept here"),
        "{}",
        run.stderr
    );
    bench
        .run(&["--ledger", &ledger, "ledger", "sync"])
        .expect(1);
    server.resume();
    let run = bench.run(&["--ledger", &ledger, "ledger", "list"]);
    let run = run.expect(0);
    assert!(
        run.stderr.contains("1 record kept here were sent"),
        "{}",
        run.stderr
    );
    assert!(run.stdout.contains("card.img"), "{}", run.stdout);
}

#[test]
fn a_server_that_is_restarted_in_a_batch_costs_nothing() {
    let Some(server) = Server::start() else {
        return;
    };
    let slow = "write-speed = \"25MB\"";
    let odd: Vec<(usize, &str)> = (1..=6).map(|number| (number, slow)).collect();
    let text = rack(2, 6, &odd).replace("clock = \"instant\"\n", "");
    let bench = bench(6, &text);
    let ledger = server.database();
    let mut running = Running::start(&bench, "rack.toml", &["--ledger", &ledger]);
    let mut person = Person::new(&bench, "rack.toml", 1..=6);
    let begun = Instant::now();
    running.wait_until_it_waits();
    while running.units("unit-started").len() < 2 {
        let news = running.hear();
        person.look(&news);
        assert!(begun.elapsed() < PATIENCE, "{:#?}", running.seen);
        thread::sleep(Duration::from_millis(20));
    }
    server.stop();
    thread::sleep(Duration::from_secs(4));
    server.resume();
    assert_eq!(person.serve(&mut running), 0, "{:#?}", running.seen);
    assert!(
        running
            .seen
            .iter()
            .any(|line| line["event"] == "ledger" && line["reached"] == false)
    );
    let done: BTreeSet<String> = running.units("unit-done").into_iter().collect();
    assert_eq!(
        (done.len(), records(&bench, &["--ledger", &ledger]).len()),
        (6, 6)
    );
}

#[test]
fn no_secret_is_in_the_ledger() {
    let bench = bench(1, &rack(1, 1, &[]));
    let secrets = ["made-up sentence 7 of 9", "made-up passphrase 8"];
    bench.write("word.txt", secrets[0]);
    let text = String::from_utf8(bench.read("huts.toml")).unwrap();
    let text = text.replace(
        "[settings.wired]",
        "password-file = \"word.txt\"\n[settings.wired]",
    );
    let wireless = "[settings.wireless]\ncountry = \"AT\"\n[[settings.wireless.networks]]\n\
        ssid = \"larkfell\"\npassphrase-file = \"phrase.txt\"\n";
    bench.write("phrase.txt", secrets[1]);
    bench.write("huts.toml", text + wireless);
    let mut running = Running::start(&bench, "rack.toml", &[]);
    assert_eq!(
        Person::new(&bench, "rack.toml", 1..=1).serve(&mut running),
        0
    );
    let card = bench.read("c001.img");
    let shadow = bench.run(&["files", "read", "c001.img", "2:/etc/shadow"]);
    let hash = shadow
        .stdout
        .lines()
        .find(|line| line.starts_with("warden:"));
    let hash = hash
        .and_then(|line| line.split(':').nth(1))
        .unwrap_or_default()
        .to_owned();
    let mut searched = vec![("the card".to_owned(), card)];
    let mut folders = vec![bench.path("records")];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            match entry.path() {
                path if path.is_dir() => folders.push(path),
                path => searched.push((path.display().to_string(), std::fs::read(path).unwrap())),
            }
        }
    }
    let export = bench
        .run(&["--rack", "rack.toml", "ledger", "export", "--as", "json"])
        .stdout;
    searched.push(("the export".to_owned(), export.into_bytes()));
    let holds = |bytes: &[u8], secret: &str| {
        bytes
            .windows(secret.len())
            .any(|part| part == secret.as_bytes())
    };
    assert!(
        searched.len() > 3,
        "{:?}",
        searched.iter().map(|(name, _)| name).collect::<Vec<_>>()
    );
    for (name, bytes) in &searched[1..] {
        for secret in secrets
            .iter()
            .copied()
            .chain([hash.as_str(), "BEGIN OPENSSH PRIVATE KEY"])
        {
            assert!(
                secret.is_empty() || !holds(bytes, secret),
                "{name} has {secret}"
            );
        }
    }
}

#[test]
fn labels_and_the_page_are_read_by_strangers() {
    pinewrit_judges::needs!["chromium", "zbarimg"];
    let bench = bench(3, &rack(1, 4, &[(2, BAD)]));
    let mut running = Running::start(&bench, "rack.toml", &[]);
    assert_eq!(
        Person::new(&bench, "rack.toml", 1..=4).serve(&mut running),
        0
    );
    let labels = [
        "--rack",
        "rack.toml",
        "ledger",
        "labels",
        "--batch",
        "huts",
        "--to",
        "labels.html",
    ];
    bench.run(&labels).expect(0);
    let chromium = |args: &[&str], page: &str| {
        let page = format!("file://{}", bench.path(page).display());
        let output = pinewrit_judges::command("chromium")
            .args([
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--disable-dev-shm-usage",
            ])
            .arg(format!(
                "--user-data-dir={}",
                bench.path("profile").display()
            ))
            .args(args)
            .arg(page)
            .env("HOME", bench.folder())
            .output();
        String::from_utf8(output.unwrap().stdout).unwrap()
    };
    let shot = format!("--screenshot={}", bench.path("labels.png").display());
    chromium(
        &[
            &shot,
            "--window-size=820,1160",
            "--force-device-scale-factor=3",
        ],
        "labels.html",
    );
    let read = bench
        .judge("zbarimg", &["-q", "--raw", "labels.png"])
        .unwrap();
    let codes: BTreeMap<String, Value> = read
        .stdout
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .map(|code| (code["unit"].as_str().unwrap().to_owned(), code))
        .collect();
    let records = records(&bench, &["--rack", "rack.toml"]);
    assert_eq!(codes.len(), 3, "{}", read.stdout);
    for record in &records {
        let code = &codes[record["unit"].as_str().unwrap()];
        let id = record["id"].as_str().unwrap();
        assert!(id.starts_with(code["record"].as_str().unwrap()));
        assert_eq!(code["tag"], record["tag"]);
        let shown = bench.run(&[
            "--rack",
            "rack.toml",
            "ledger",
            "show",
            code["record"].as_str().unwrap(),
        ]);
        assert!(shown.expect(0).stdout.contains(id));
    }
    bench
        .run(&["--rack", "rack.toml", "ledger", "page", "--to", "page.html"])
        .expect(0);
    let page = chromium(&["--dump-dom"], "page.html");
    // Sorting is there only if the page's script ran.
    assert!(page.contains("class=\"sorts\""), "{page}");
    assert_eq!(page.matches("<svg").count(), 2);
    for record in &records {
        assert!(page.contains(record["unit"].as_str().unwrap()));
    }
    assert!(page.contains("Failures"));
}

/// A number from the environment.
fn wanted(name: &str, usual: usize) -> usize {
    let text = std::env::var(name).ok();
    text.and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Numbers that look random (SplitMix64).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        (z ^ (z >> 31)) % sides
    }
}

/// A station that is killed now and then, and started again.
struct Station {
    rack: String,
    running: Running,
    person: Person,
}

impl Station {
    /// Everything that is in a reader is taken out, and tried again: what is left of a killed
    /// station's work has no table.
    fn restart(&mut self, bench: &Bench, args: &[&str]) {
        self.running.signal("-KILL");
        self.running.child.wait().unwrap();
        let mut rack = Rack::open(&self.person.rack).unwrap();
        for (_, held) in rack.readers() {
            if let Some(card) = held {
                rack.remove(&card).unwrap();
                self.person.cards.push_back(card);
            }
        }
        self.running = Running::start(bench, &self.rack, args);
        self.running.wait_until_it_waits();
    }
}

/// Three stations with bad cards and random kills; then each card is compared with its record.
/// `PINEWRIT_UNITS=500 PINEWRIT_READERS=8` for a long run.
#[test]
fn a_long_batch_on_three_stations_loses_and_doubles_nothing() {
    let (units, readers) = (wanted("PINEWRIT_UNITS", 18), wanted("PINEWRIT_READERS", 2));
    let mut dice = Dice(wanted("PINEWRIT_SEED", 7) as u64);
    let cards = units + units / 4 + 12;
    let kinds = [
        BAD,
        "faults = [{ kind = \"write-error\", at = \"69MiB\", len = \"1MiB\" }]",
        "faults = [{ kind = \"read-error\", at = \"68MiB\", len = \"64KiB\" }]",
        "faults = [{ kind = \"pulled\", after = \"9MB\" }]",
    ];
    let bench = bench(units, "");
    let server = Server::start();
    let ledger = match &server {
        Some(server) => server.database(),
        None => bench.path("shared.sqlite").display().to_string(),
    };
    let args = ["--ledger", ledger.as_str(), "--lease", "4"];
    let mut stations: Vec<Station> = (1..=3)
        .map(|number| {
            let odd: Vec<(usize, &str)> = (1..=cards)
                .filter(|_| dice.roll(12) == 0)
                .map(|card| (card, kinds[card % kinds.len()]))
                .collect();
            let text = rack(readers, cards, &odd)
                .replace("file = \"c", &format!("file = \"s{number}-c"))
                .replace("serial = \"0", &format!("serial = \"{number}"))
                .replace("\"records\"", &format!("\"records{number}\""));
            let name = format!("rack{number}.toml");
            bench.write(&name, text);
            let running = Running::start(&bench, &name, &args);
            let person = Person::new(&bench, &name, 1..=cards);
            Station {
                rack: name,
                running,
                person,
            }
        })
        .collect();
    stations
        .iter_mut()
        .for_each(|station| station.running.wait_until_it_waits());
    let (begun, mut kills, mut failed) = (Instant::now(), 0, 0);
    let patience = PATIENCE * 2 + Duration::from_secs(2) * units as u32;
    let mut next_kill = Instant::now() + Duration::from_secs(2);
    while !stations.iter_mut().all(|station| station.running.is_over()) {
        for station in &mut stations {
            let news = station.running.hear();
            failed += news
                .iter()
                .filter(|line| line["event"] == "unit-failed")
                .count();
            if !station.running.is_over() {
                station.person.look(&news);
            }
        }
        if Instant::now() > next_kill {
            let station = &mut stations[dice.roll(3) as usize];
            if !station.running.is_over() && kills < units / 6 {
                station.restart(&bench, &args);
                kills += 1;
            }
            next_kill = Instant::now() + Duration::from_millis(1000 + dice.roll(2500));
        }
        assert!(
            begun.elapsed() < patience,
            "{:#?}",
            stations[0].running.seen.last()
        );
        thread::sleep(Duration::from_millis(20));
    }
    let took = begun.elapsed().as_secs_f64();
    let records = records(&bench, &["--ledger", &ledger]);
    let mut of: BTreeMap<&str, Vec<&Value>> = BTreeMap::new();
    for record in &records {
        of.entry(record["unit"].as_str().unwrap())
            .or_default()
            .push(record);
    }
    assert_eq!(of.len(), units, "none is lost");
    let doubled: Vec<_> = of.iter().filter(|(_, all)| all.len() != 1).collect();
    assert!(doubled.is_empty(), "{doubled:#?}");
    let mut verified = BTreeSet::new();
    for station in &stations {
        let mut rack = Rack::open(&station.person.rack).unwrap();
        for (_, held) in rack.readers() {
            if let Some(card) = held {
                rack.remove(&card).unwrap();
            }
        }
        for place in rack.cards() {
            let is_made = std::fs::read(&place.file)
                .is_ok_and(|bytes| bytes.get(510..512) == Some(&[0x55, 0xaa]));
            if !is_made {
                continue;
            }
            rack.insert(&place.card, "r1").unwrap();
            let rack_file = station.rack.as_str();
            let args = [
                "--rack", rack_file, "--ledger", &ledger, "--json", "ledger", "verify", "rack:r1",
            ];
            let run = bench.run(&args);
            rack.remove(&place.card).unwrap();
            if run.code == 8 {
                // Killed after its last byte and before its record: made anew by another.
                continue;
            }
            let told = run.expect(0).json();
            let unit = told["record"]["unit"].as_str().unwrap().to_owned();
            assert_eq!(host_on(&bench, place.file.to_str().unwrap()), unit);
            assert!(verified.insert(unit.clone()), "{unit} is on two cards");
        }
    }
    assert_eq!(verified.len(), units, "each card is what the ledger says");
    println!("{units} units in {took:.0} s, {kills} kills, {failed} failed cards");
}

/// A station that sleeps while another makes its unit: it notices before its card is finished.
#[test]
fn a_station_that_was_too_slow_leaves_its_card_without_a_table() {
    let slow = "write-speed = \"6MB\"";
    let text = rack(1, 1, &[(1, slow)]).replace("clock = \"instant\"\n", "");
    let bench = bench(1, &text);
    bench.write(
        "second.toml",
        rack(1, 1, &[])
            .replace("c001.img", "d001.img")
            .replace("00001", "10001"),
    );
    let ledger = bench.path("shared.sqlite").display().to_string();
    let args = ["--ledger", ledger.as_str(), "--lease", "1"];
    let mut first = Running::start(&bench, "rack.toml", &args);
    first.wait_until_it_waits();
    Person::new(&bench, "rack.toml", 1..=1).look(&[]);
    first.wait_for("unit-started");
    thread::sleep(Duration::from_millis(500));
    first.signal("-STOP");
    let mut other = Running::start(&bench, "second.toml", &args);
    // It is held by the first one until its lease has run out.
    other.wait_until_it_waits();
    assert_eq!(
        Person::new(&bench, "second.toml", 1..=1).serve(&mut other),
        0
    );
    assert_eq!(other.units("unit-done"), ["larkfell-001"]);
    first.signal("-CONT");
    assert_eq!(first.end(), 0);
    assert_eq!(
        first.units("unit-failed"),
        ["larkfell-001"],
        "{:#?}",
        first.seen
    );
    assert_eq!(first.units("unit-done"), [""; 0]);
    assert!(bench.read("c001.img")[..512].iter().all(|byte| *byte == 0));
    assert_eq!(records(&bench, &["--ledger", &ledger]).len(), 1);
}

/// The disk with the ledger is full: the card is good all the same.
#[test]
fn a_ledger_on_a_full_disk_makes_no_card_bad() {
    let bench = bench(1, &rack(1, 1, &[]));
    let write = [
        "--ledger",
        "/dev/full",
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
        "--size",
        "192MiB",
    ];
    let run = bench.run(&write).expect(0);
    assert!(
        run.stderr.contains("the record is kept here"),
        "{}",
        run.stderr
    );
    let run = bench.run(&["ledger", "list"]).expect(0);
    assert!(run.stdout.contains("card.img"), "{}", run.stdout);
}
