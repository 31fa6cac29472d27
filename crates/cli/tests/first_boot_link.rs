//! Boards on a link: a real responder for multicast DNS, and a real SSH server, each in a network namespace.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use common::{Bench, PROGRAM, Run, demo, has, say_skipped};
use serde_json::Value;

const SCRIPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/common/hut-link.sh");

/// A link with two hosts, whose records are those of two media that were written.
struct Link {
    bench: Bench,
}

impl Link {
    /// `None`, and a word, where the system does not allow it.
    fn new() -> Option<Self> {
        if !["avahi-daemon", "sshd", "ssh", "ip", "unshare"]
            .into_iter()
            .all(has)
        {
            return None;
        }
        let mut unshare = pinewrit_judges::command("unshare");
        let may = unshare.args(["--net", "--mount", "true"]).status();
        if !may.is_ok_and(|status| status.success()) {
            say_skipped("network namespaces (root is needed)");
            return None;
        }
        let bench = Bench::with_hut();
        std::fs::copy(demo("keys/warden"), bench.path("key")).unwrap();
        let mode = std::fs::Permissions::from_mode(0o600);
        std::fs::set_permissions(bench.path("key"), mode).unwrap();
        let settings = std::fs::read_to_string(demo("hut-03.toml")).unwrap();
        let key = settings
            .lines()
            .find_map(|line| line.strip_prefix("ssh-keys = [\""))
            .unwrap();
        let key = key.trim_end_matches("\"]").to_owned();
        for name in ["larkfell-61", "larkfell-62"] {
            let number = name.trim_start_matches("larkfell-6");
            let text = text(name, &key).replace("9.11/24", &format!("9.1{number}/24"));
            bench.write(&format!("{name}.toml"), text);
            let card = format!("{name}.img");
            let write = [
                "write", "hut.img", "--to", &card, "--size", "160MiB", "--yes",
            ];
            let settings = ["--settings", &format!("{name}.toml"), "--intake", "rootfs"];
            bench.run(&[&write[..], &settings].concat()).expect(0);
        }
        let host_key = bench.run(&[
            "files",
            "read",
            "larkfell-61.img",
            "2:/etc/ssh/ssh_host_ed25519_key",
        ]);
        std::fs::create_dir(bench.path("link")).unwrap();
        bench.write("link/host_key", host_key.expect(0).stdout);
        bench.write("link/authorized_keys", format!("{key}\n"));
        Some(Self { bench })
    }

    /// Runs a command of the program on this link.
    fn run(&self, args: &[&str]) -> Run {
        let link = self.bench.path("link");
        let mut command = self.bench.program("unshare");
        command
            .args(["--net", "--mount", "sh", SCRIPT])
            .arg(&link)
            .arg(PROGRAM)
            .args(args)
            .env("HUT_1", "larkfell-61")
            .env("HUT_2", "larkfell-62");
        Run::from(command.output().unwrap())
    }
}

fn text(name: &str, key: &str) -> String {
    format!(
        "hostname = \"{name}\"\nlocale = \"de_AT.UTF-8\"\n\
         [[users]]\nname = \"warden\"\nuid = 1777\nssh-keys = [\"{key}\"]\n\
         [ssh]\nenabled = true\npassword-login = false\nhost-keys = true\n\
         [wired]\ninterface = \"eth0\"\naddresses = [\"10.77.9.11/24\"]\ngateway = \"10.77.9.1\"\n"
    )
}

/// The points that differ, but for those of the medium and of what is done at a start: the host is
/// the computer that runs the tests.
fn differing(run: &Run) -> Vec<String> {
    let lines = run
        .stdout
        .lines()
        .filter_map(|line| serde_json::from_str::<Value>(line).ok());
    let mut results = lines.filter(|line| line["event"] == "result");
    let result = results
        .next()
        .unwrap_or_else(|| panic!("{} {}", run.stdout, run.stderr));
    let differs = result["points"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|point| point["met"] == "no");
    let of_medium = [
        "medium",
        "table-identifier",
        "filesystem-identifiers",
        "root-size",
        "failed-units",
        "first-start",
    ];
    let named = differs.map(|point| point["point"].as_str().unwrap().to_owned());
    named
        .filter(|name| !of_medium.contains(&name.as_str()))
        .collect()
}

#[test]
fn hosts_are_found_by_their_names_and_by_their_keys() {
    let Some(link) = Link::new() else { return };
    let found = link.run(&[
        "--json",
        "find",
        "larkfell-61",
        "larkfell-62",
        "--wait",
        "20",
    ]);
    let boards = found.expect(0).described().json()["boards"].clone();
    assert_eq!(boards[0]["name"], "larkfell-61");
    assert_eq!(boards[0]["host_key"], "matches");
    assert_eq!(boards[0]["hardware"], "02:00:00:77:09:01");
    assert!(
        boards[0]["banner"]
            .as_str()
            .unwrap()
            .starts_with("SSH-2.0-OpenSSH"),
        "{boards}"
    );
    assert_eq!(boards[1]["by"][0], "multicast-dns");
    let addresses = boards[1]["addresses"].as_array().unwrap().clone();
    assert!(addresses.contains(&"10.77.9.12".into()), "{boards}");
    assert_eq!(boards[1]["host_key"], "unknown");
    // With another key it is another board.
    let other = link.bench.run(&[
        "files",
        "read",
        "larkfell-62.img",
        "2:/etc/ssh/ssh_host_ed25519_key",
    ]);
    let right = link.bench.read("link/host_key");
    link.bench.write("link/host_key", other.expect(0).stdout);
    link.run(&["find", "larkfell-61"])
        .expect(6)
        .shows(&["differs"])
        .says(&["another host key"]);
    link.bench.write("link/host_key", right);
    // By a lease, and by its key among all addresses.
    link.bench.write(
        "leases",
        "9999999999 02:00:00:77:09:02 10.77.9.12 larkfell-62 *\n",
    );
    let leased = link
        .run(&["--json", "find", "larkfell-62", "--leases", "leases"])
        .expect(0)
        .json();
    let by = leased["boards"][0]["by"].as_array().unwrap().clone();
    assert!(by.contains(&"lease".into()), "{leased}");
    let by_key = link
        .run(&["--json", "find", "larkfell-61", "--net", "10.77.9.0/28"])
        .expect(0)
        .json();
    assert_eq!(by_key["boards"][0]["host_key"], "matches");
}

#[test]
fn a_real_server_is_compared_with_settings() {
    let Some(link) = Link::new() else { return };
    let base = String::from_utf8(link.bench.read("larkfell-61.toml")).unwrap();
    let cases = [
        ("", "", None),
        ("larkfell-61", "larkfell-60", Some("host-name")),
        ("uid = 1777", "uid = 1776", Some("user")),
        ("de_AT", "nl_NL", Some("locale")),
        ("10.77.9.11/24", "10.77.9.13/24", Some("address")),
        (
            "gateway = \"10.77.9.1\"",
            "gateway = \"10.77.9.2\"",
            Some("route"),
        ),
        (
            "password-login = false",
            "password-login = true",
            Some("password-login"),
        ),
    ];
    for (from, to, point) in cases {
        let text = if from.is_empty() {
            base.clone()
        } else {
            base.replace(from, to)
        };
        link.bench.write("other.toml", text);
        let address = [
            "--json",
            "commission",
            "10.77.9.11",
            "--unit",
            "larkfell-61",
            "--key",
            "key",
        ];
        let run = link.run(&[&address[..], &["--settings", "other.toml"]].concat());
        let expected: Vec<&str> = point.into_iter().collect();
        assert_eq!(differing(&run), expected, "{from} → {to}\n{}", run.stderr);
    }
    // The server makes no files in the home directory, and no history.
    let home: Vec<_> = std::fs::read_dir(link.bench.path("link/home"))
        .unwrap()
        .flatten()
        .collect();
    assert_eq!(home.len(), 1, "{home:?}");
    let refused = link.run(&[
        "commission",
        "10.77.9.11",
        "--unit",
        "larkfell-61",
        "--user",
        "nobody",
        "--key",
        "key",
    ]);
    refused
        .expect(6)
        .says(&["lets nobody in as nobody", "offered", "publickey"]);
    assert!(Path::new(SCRIPT).exists());
}
