//! A rack, a running batch, and somebody who moves the cards.

use std::collections::VecDeque;
use std::fmt::Write;
use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};
use std::sync::{LazyLock, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_host::Rack;
use pinewrit_judges::Server;
use serde_json::Value;

use crate::common::{Bench, PROGRAM, Run, demo};

pub(crate) static SERVER: LazyLock<Option<Server>> = LazyLock::new(Server::start);

/// How long a batch may take.
pub(crate) const PATIENCE: Duration = Duration::from_secs(300);

/// A rack with empty readers and blank cards; `odd` adds lines to some cards.
pub(crate) fn rack(readers: usize, cards: usize, odd: &[(usize, &str)]) -> String {
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

pub(crate) const BAD: &str =
    "faults = [{ kind = \"lost-writes\", at = \"68MiB\", len = \"8MiB\" }]";

/// A roster of so many huts, with the demo's image.
pub(crate) fn roster(units: usize) -> String {
    let key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp w";
    format!(
        "image = \"hut.img.zst\"\ngrow = true\n[[settings.users]]\nname = \"warden\"\n\
         ssh-keys = [\"{key}\"]\n[settings.wired]\ngateway = \"10.77.0.1\"\n[each]\n\
         wired.addresses = [\"{{address}}\"]\n[count]\nunits = {units}\nname = \"larkfell-{{n:03}}\"\n\
         address = \"10.77.0.21/16\"\n"
    )
}

/// A bench with the packed image, a roster and a rack.
pub(crate) fn bench(units: usize, rack: &str) -> Bench {
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
pub(crate) struct Running {
    pub(crate) child: Child,
    pub(crate) lines: mpsc::Receiver<Value>,
    pub(crate) seen: Vec<Value>,
}

impl Running {
    pub(crate) fn start(bench: &Bench, rack: &str, args: &[&str]) -> Self {
        Self::start_by(bench, None, rack, args)
    }

    /// Starts one whose clock is wrong.
    pub(crate) fn start_by(bench: &Bench, clock: Option<&str>, rack: &str, args: &[&str]) -> Self {
        let all = [&["--rack", rack, "--json", "batch", "huts.toml"], args].concat();
        let mut command = match clock {
            None => bench.command(&all),
            Some(clock) => {
                let mut command = bench.program("faketime");
                command.args(["-f", clock, PROGRAM]).args(&all);
                command
            }
        };
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
    pub(crate) fn hear(&mut self) -> Vec<Value> {
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
    pub(crate) fn wait_for(&mut self, event: &str) -> Value {
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
    pub(crate) fn wait_until_it_waits(&mut self) {
        let begun = Instant::now();
        let waits = |line: &Value| line["event"] == "waiting" || line["event"] == "result";
        while !self.seen.iter().any(waits) {
            self.hear();
            assert!(begun.elapsed() < PATIENCE, "{:#?}", self.seen);
            thread::sleep(Duration::from_millis(10));
        }
    }

    pub(crate) fn is_over(&mut self) -> bool {
        self.child.try_wait().unwrap().is_some()
    }

    /// The exit code; all lines have been heard.
    pub(crate) fn end(&mut self) -> i32 {
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

    pub(crate) fn signal(&self, name: &str) {
        // A shell has it built in; a bare machine has no program for it.
        let script = format!("kill {name} {}", self.child.id());
        let sent = std::process::Command::new("sh")
            .args(["-c", &script])
            .status();
        assert!(sent.unwrap().success());
    }

    /// Units of lines of this kind.
    pub(crate) fn units(&self, event: &str) -> Vec<String> {
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
pub(crate) struct Person {
    pub(crate) rack: std::path::PathBuf,
    pub(crate) cards: VecDeque<String>,
}

impl Person {
    pub(crate) fn new(bench: &Bench, rack: &str, cards: std::ops::RangeInclusive<usize>) -> Self {
        Self {
            rack: bench.path(rack),
            cards: cards.map(|number| format!("c{number:03}")).collect(),
        }
    }

    pub(crate) fn look(&mut self, news: &[Value]) {
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
    pub(crate) fn serve(&mut self, running: &mut Running) -> i32 {
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
pub(crate) fn host_on(bench: &Bench, card: &str) -> String {
    let run = bench
        .run(&["files", "read", card, "1:/meta-data"])
        .expect(0);
    let line = run
        .stdout
        .lines()
        .find_map(|line| line.strip_prefix("local-hostname: "));
    line.unwrap_or_default().trim_matches('\'').to_owned()
}

pub(crate) fn records(bench: &Bench, args: &[&str]) -> Vec<Value> {
    let all = [args, &["ledger", "export", "--as", "json"]].concat();
    let run = bench.run(&all).expect(0);
    run.stdout
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect()
}
