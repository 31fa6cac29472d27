//! The first boot with stand-ins for boards: they are switched on, watched, found, and compared with their settings.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::os::unix::fs::PermissionsExt;

use common::{Bench, Run, demo};
use rstest::rstest;
use serde_json::Value;

/// A bench with a rack: a card in a slot, and a board that takes it.
struct Hut {
    bench: Bench,
    /// Each test's board has a name of its own: they all are on one link.
    name: &'static str,
}

impl Hut {
    fn new(name: &'static str, intake: &str, faults: &str) -> Self {
        let bench = Bench::with_hut();
        let hut = Self { bench, name };
        hut.rack(faults);
        std::fs::copy(demo("keys/warden"), hut.bench.path("key")).unwrap();
        let mode = std::fs::Permissions::from_mode(0o600);
        std::fs::set_permissions(hut.bench.path("key"), mode).unwrap();
        hut.settings("settings.toml", &[]);
        let write = ["write", "hut.img", "--to", "rack:slot", "--grow", "--yes"];
        let settings = ["--settings", "settings.toml", "--intake", intake];
        hut.run(&[&write[..], &settings].concat()).expect(0);
        hut
    }

    fn rack(&self, faults: &str) {
        let board = demo("boards/brindle-b2.toml").display().to_string();
        self.bench.write(
            "rack.toml",
            format!(
                "state = \"state\"\nclock = \"instant\"\n\
                 [[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
                 [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"256MiB\"\n\
                 [[boards]]\nname = \"board\"\nkind = \"{board}\"\nreader = \"slot\"\nfaults = [{faults}]\n"
            ),
        );
    }

    /// The settings of hut 3, with some lines changed.
    fn settings(&self, file: &str, changes: &[(&str, &str)]) {
        let mut text = std::fs::read_to_string(demo("hut-03.toml")).unwrap();
        text = text.replace("larkfell-03", self.name);
        text = text.replace(
            "keyboard = \"de\"\n",
            "keyboard = \"de\"\ngrow-root = true\nswap = \"8MiB\"\n",
        );
        for (from, to) in changes {
            assert!(text.contains(from), "{from}");
            text = text.replace(from, to);
        }
        self.bench.write(file, text);
    }

    fn run(&self, args: &[&str]) -> Run {
        self.bench.run(&[&["--rack", "rack.toml"], args].concat())
    }

    fn power_on(&self) -> Value {
        let run = self.run(&["--json", "rack", "power-on", "board", "--background"]);
        run.expect(0).described().json()
    }

    fn commission(&self, more: &[&str]) -> Run {
        let command = ["--json", "commission", self.name, "--key", "key"];
        self.run(&[&command[..], more].concat())
    }
}

impl Drop for Hut {
    fn drop(&mut self) {
        // It may be off.
        let _ = self.run(&["rack", "power-off", "board"]);
    }
}

/// The points of the result.
fn points(run: &Run) -> Vec<Value> {
    let lines = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap());
    let mut results = lines.filter(|line| line["event"] == "result");
    results.next().unwrap()["points"]
        .as_array()
        .unwrap()
        .clone()
}

/// The points that are not as they should be.
fn differing(run: &Run) -> Vec<String> {
    let points = points(run);
    let differs = points.iter().filter(|point| point["met"] == "no");
    differs
        .map(|point| point["point"].as_str().unwrap().to_owned())
        .collect()
}

#[rstest]
#[case::cloud_init("larkfell-31", "cloud-init")]
#[case::rootfs("larkfell-32", "rootfs")]
fn a_board_is_found_and_commissioned(#[case] name: &'static str, #[case] intake: &str) {
    let hut = Hut::new(name, intake, "");
    let on = hut.power_on();
    assert_eq!(on["up"], true);
    hut.run(&["rack", "show"])
        .expect(0)
        .shows(&["board, on, takes the card in slot"]);
    // The ledger knows who waits for a board.
    let found = hut.run(&["--json", "find"]).expect(0).described().json();
    let board = &found["boards"][0];
    assert_eq!(board["name"], name);
    assert_eq!(board["by"][0], "multicast-dns");
    assert_eq!(board["host_key"], "matches");
    assert_eq!(board["answers_at"], "127.0.0.1");
    let run = hut
        .commission(&["--settings", "settings.toml"])
        .expect(0)
        .described();
    assert_eq!(differing(&run), [""; 0]);
    assert!(points(&run).len() >= 20, "{}", run.stdout);
    hut.run(&["ledger", "show", name])
        .expect(0)
        .shows(&["commission"]);
    hut.run(&["find"]).expect(8).says(&["no unit that waits"]);
    // One thing is another than wanted, each time.
    let cases = [
        ("hostname = \"larkfell", "hostname = \"other", "host-name"),
        ("Europe/Vienna", "Europe/Oslo", "time-zone"),
        ("de_AT.UTF-8", "nl_NL.UTF-8", "locale"),
        ("keyboard = \"de\"", "keyboard = \"fi\"", "keyboard"),
        ("swap = \"8MiB\"", "swap = \"64MiB\"", "swap"),
        ("sudo = true", "sudo = true\nuid = 1900", "user"),
        (
            "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJHua3omRfSvriPnZBLaM/JkzNU/nWhKPg0LxhgD7Muw",
            "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp",
            "keys",
        ),
        (
            "password-login = false",
            "password-login = true",
            "password-login",
        ),
        ("10.77.3.10/24", "10.77.3.11/24", "address"),
        (
            "gateway = \"10.77.3.1\"",
            "gateway = \"10.77.3.2\"",
            "route",
        ),
        ("10.77.0.53", "10.77.0.54", "name-servers"),
        ("country = \"AT\"", "country = \"NO\"", "wireless-country"),
        (
            "ssid = \"larkfell-valley\"",
            "ssid = \"larkfell-ridge\"",
            "wireless-network",
        ),
    ];
    for (from, to, point) in cases {
        hut.settings("other.toml", &[(from, to)]);
        let run = hut
            .commission(&["--settings", "other.toml", "--unit", name])
            .expect(6);
        assert_eq!(differing(&run), [point], "{from} → {to}");
    }
    let told = hut.run(&[
        "commission",
        name,
        "--unit",
        name,
        "--key",
        "key",
        "--settings",
        "other.toml",
    ]);
    told.expect(6).says(&[
        &format!("{name} differs in 1 of"),
        "larkfell-valley instead of larkfell-ridge",
    ]);
    hut.run(&["rack", "power-off", "board"]).expect(0);
    hut.run(&["rack", "power-off", "board"])
        .expect(2)
        .says(&["is not on"]);
    hut.run(&["find", name])
        .expect(8)
        .says(&["was not found", "--wait"]);
}

#[test]
fn a_board_with_another_key_is_another_board() {
    let hut = Hut::new("larkfell-33", "rootfs", "\"other-host-key\"");
    hut.power_on();
    let run = hut.run(&["find", "larkfell-33"]).expect(6);
    run.shows(&["differs"]).says(&["another host key"]);
    let run = hut.commission(&["--settings", "settings.toml"]).expect(6);
    run.says(&["has another host key", "recorded", "found"]);
}

/// It calls itself otherwise than the ledger has it: its host key, at its port, is what is left.
#[test]
fn a_board_with_another_name_is_found_by_its_key() {
    let hut = Hut::new("larkfell-37", "rootfs", "");
    hut.bench.write("name", "larkfell-38\n");
    let put = [
        "files",
        "put",
        "rack:slot",
        "2:/etc/hostname",
        "name",
        "--yes",
    ];
    hut.run(&put).expect(0);
    let port = hut.power_on()["ssh_port"].to_string();
    hut.run(&["find", "larkfell-37"]).expect(8);
    let near = ["--net", "127.0.0.1/32", "--port", &port];
    let run = hut.run(&[&["--json", "find", "larkfell-37"], &near[..]].concat());
    let board = &run.expect(0).json()["boards"][0];
    assert_eq!(board["by"][0], "host-key");
    assert_eq!(board["host_key"], "matches");
    // An address here leads to it as well; the name is what differs.
    let login = ["--json", "commission", "127.0.0.1", "--port", &port];
    let more = [
        "--unit",
        "larkfell-37",
        "--settings",
        "settings.toml",
        "--key",
        "key",
    ];
    let run = hut.run(&[&login[..], &more].concat()).expect(6);
    assert_eq!(differing(&run), ["host-name"]);
}

#[test]
fn what_keeps_a_board_from_starting_is_told_on_its_console() {
    let hut = Hut::new("larkfell-34", "rootfs", "\"loose-card\"");
    for (faults, why) in [
        ("\"loose-card\"", "no card is seen"),
        ("\"wrong-loader\"", "the loader is for another processor"),
    ] {
        hut.rack(faults);
        let on = hut.power_on();
        assert_eq!(on["stopped"], why);
        hut.run(&["watch", on["console"].as_str().unwrap()])
            .expect(5)
            .says(&["finds nothing to boot", why]);
        hut.run(&["rack", "power-off", "board"]).expect(0);
    }
    // The loader is not where the board looks for it.
    hut.rack("");
    let mut card = std::fs::read(hut.bench.path("card.img")).unwrap();
    card[8192..8200].fill(0);
    std::fs::write(hut.bench.path("card.img"), card).unwrap();
    let stopped = hut.power_on()["stopped"].as_str().unwrap().to_owned();
    assert!(stopped.contains("Brindle B2 starts from"), "{stopped}");
}

/// One byte of the card is another, each time.
#[test]
fn what_a_board_cannot_start_from() {
    const FAT: usize = 4 << 20;
    let hut = Hut::new("larkfell-36", "rootfs", "");
    let good = std::fs::read(hut.bench.path("card.img")).unwrap();
    // Signature of the table, the active partition, its start, and the FAT that the loader reads.
    let cases: [(usize, &[u8]); 4] = [
        (510, &[0, 0]),
        (0x1be, &[0]),
        (0x1be + 8, &[0, 0x21]),
        (FAT + 510, &[0, 0]),
    ];
    for (at, bytes) in cases {
        let mut card = good.clone();
        card[at..at + bytes.len()].copy_from_slice(bytes);
        std::fs::write(hut.bench.path("card.img"), card).unwrap();
        let stopped = hut.power_on()["stopped"].as_str().unwrap().to_owned();
        assert!(
            stopped.contains("nothing that a Brindle B2 starts from"),
            "{at}: {stopped}"
        );
        hut.run(&["rack", "power-off", "board"]).expect(0);
    }
    std::fs::write(hut.bench.path("card.img"), good).unwrap();
    assert_eq!(hut.power_on()["up"], true);
}

#[test]
fn a_board_without_a_cable_and_one_at_work() {
    let hut = Hut::new("larkfell-35", "rootfs", "\"no-network\"");
    let on = hut.power_on();
    assert_eq!(on["up"], true);
    let console = on["console"].as_str().unwrap();
    hut.run(&["watch", console, "--until", "login:", "--timeout", "20"])
        .expect(0);
    hut.run(&["find", "larkfell-35"]).expect(8);
    hut.commission(&["--settings", "settings.toml"]).expect(8);
    hut.run(&["rack", "power-off", "board"]).expect(0);
    hut.rack("\"garbage\"");
    let on = hut.power_on();
    hut.run(&["watch", on["console"].as_str().unwrap(), "--timeout", "3"])
        .says(&["is no text"]);
    hut.run(&["rack", "power-off", "board"]).expect(0);
    hut.rack("\"endless-first-start\"");
    hut.power_on();
    let waited = hut
        .commission(&["--settings", "settings.toml", "--wait", "1"])
        .expect(6);
    assert!(differing(&waited).contains(&"first-start".to_owned()));
}

#[test]
fn what_is_not_known_is_not_compared() {
    let bench = Bench::new();
    let unknown = bench.run(&["commission", "larkfell-99"]).expect(2);
    unknown.says(&["there is nothing to compare with", "--settings FILE"]);
    let refused = bench
        .run(&["find", "larkfell-99", "--net", "10.0.0.0/8"])
        .expect(2);
    refused.says(&["too many addresses", "/20"]);
    bench.write("leases", "a text");
    bench
        .run(&["find", "larkfell-99", "--leases", "leases"])
        .expect(2)
        .says(&["no leases of a known server"]);
    bench.write("settings.toml", "hostname = \"larkfell-99\"\n");
    let with = ["commission", "larkfell-99", "--settings", "settings.toml"];
    let cases: [(&[&str], i32, &[&str]); 3] = [
        (&["--key", "none"], 2, &["the key none cannot be read"]),
        (
            &["--receipt", "leases"],
            4,
            &["the receipt leases cannot be used"],
        ),
        (&["--wait", "0"], 2, &["1..=86400"]),
    ];
    for (more, exit, said) in cases {
        bench
            .run(&[&with[..], more].concat())
            .expect(exit)
            .says(said);
    }
}
