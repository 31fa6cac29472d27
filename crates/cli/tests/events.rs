//! Every command with `--json`: each line fits the description of all, and each kind of line is seen.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::BTreeSet;

use common::{Bench, Run, description};
use serde_json::Value;

/// `event`, or `event command`, of each line that the description has.
fn described() -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    for one in description()["anyOf"].as_array().unwrap() {
        let own = &one["allOf"][1]["properties"];
        let event = own["event"]["const"].as_str().unwrap();
        match own["command"]["enum"].as_array() {
            None => all.extend([event.to_owned()]),
            Some(commands) => all.extend(
                commands
                    .iter()
                    .map(|command| format!("{event} {}", command.as_str().unwrap())),
            ),
        }
    }
    all
}

fn seen(run: &Run) -> impl Iterator<Item = String> {
    run.stdout.lines().map(|line| {
        let line: Value = serde_json::from_str(line).unwrap();
        let event = line["event"].as_str().unwrap();
        match line["command"].as_str() {
            Some(command) if event == "result" => format!("{event} {command}"),
            _ => event.to_owned(),
        }
    })
}

#[test]
fn every_line_of_every_command_is_described() {
    let bench = Bench::new();
    let demo = bench.run(&["--json", "demo", "--dir", "demo"]).expect(0);
    bench.run(&["rack", "new", "desk"]).expect(0);
    bench.write("files.tar", tar_of_one_file());
    bench.write("note.txt", "snow 0.4\n");
    let settings =
        "hostname = \"larkfell-04\"\n[[users]]\nname = \"warden\"\npassword-env = \"HUT\"\n";
    bench.write("hut.toml", settings);
    bench.write("wrong.toml", "hostname = \"a b\"\nswap = \"much\"\n");
    let (image, rack) = ("demo/larkfell-os.img.zst", "demo/rack.toml");
    let (shop, huts) = ("demo/bench.toml", "demo/huts.toml");
    let card = "card.img";
    let runs: &[(i32, &[&str])] = &[
        (0, &["rack", "new", "other"]),
        (0, &["--rack", rack, "rack", "show"]),
        (0, &["--rack", rack, "media", "--all"]),
        (0, &["estimate", "net", "10.77.3.0/24"]),
        (0, &["estimate", "fit", image]),
        (0, &["estimate", "time", image, "--card", "8GB@20MB/s"]),
        (0, &["inspect", image]),
        (
            0,
            &[
                "write", image, "--to", "b2.img", "--size", "300MiB", "--board", BOARD,
            ],
        ),
        (0, &["measure", "b2.img"]),
        (0, &["boards", "show", BOARD]),
        (0, &["shelf", "add", image]),
        (0, &["shelf", "show", "larkfell-os"]),
        (0, &["shelf", "get", "larkfell-os"]),
        (0, &["shelf", "check", "larkfell-os"]),
        (0, &["shelf", "use", CATALOGUE]),
        (0, &["shelf", "remove", CATALOGUE]),
        (0, &["inspect", image]),
        (
            0,
            &[
                "build",
                "demo/layout.toml",
                "--to",
                "built.img",
                "--size",
                "150MiB",
            ],
        ),
        (
            0,
            &[
                "build",
                "demo/layout.toml",
                "--to",
                "built.img.zst",
                "--size",
                "150MiB",
            ],
        ),
        (
            0,
            &[
                "build",
                "demo/layout.toml",
                "--to",
                "dry.img",
                "--size",
                "150MiB",
                "--dry-run",
            ],
        ),
        (
            0,
            &[
                "write",
                image,
                "--to",
                card,
                "--size",
                "300MiB",
                "--settings",
                "hut.toml",
            ],
        ),
        (
            0,
            &[
                "--rack",
                desk(),
                "write",
                image,
                "--to",
                "rack:slot",
                "--to",
                "rack:hub-1",
                "--unmount",
                "--yes",
            ],
        ),
        (0, &["verify", card]),
        (6, &["verify", card, "--image", image]),
        (0, &["configure", card, "--settings", "hut.toml"]),
        (0, &["clone", card, "--to", "copy.img", "--size", "300MiB"]),
        (0, &["save", card, "--to", "saved.img.zst"]),
        (
            0,
            &["save", card, "--to", "whole.img", "--rescue", "card.rescue"],
        ),
        (
            0,
            &["save", card, "--to", "new.img", "--as-new", "--shrink"],
        ),
        (7, &["configure", card, "--settings", "wrong.toml"]),
        (0, &["table", "show", card]),
        (0, &["table", "renew", card]),
        (
            0,
            &[
                "table",
                "create",
                "empty.img",
                "--size",
                "64MiB",
                "--scheme",
                "gpt",
            ],
        ),
        (
            0,
            &[
                "table",
                "add",
                "empty.img",
                "--type",
                "linux",
                "--size",
                "rest",
            ],
        ),
        (0, &["table", "type", "empty.img", "1", "linux"]),
        (0, &["table", "name", "empty.img", "1", "hut"]),
        (0, &["table", "resize", "empty.img", "1", "--size", "32MiB"]),
        (
            0,
            &["table", "move", "empty.img", "1", "--to", "16MiB", "--yes"],
        ),
        (0, &["table", "convert", "empty.img", "--scheme", "mbr"]),
        (0, &["table", "activate", "empty.img", "1"]),
        (0, &["format", "empty.img", "1", "--as", "ext4"]),
        (0, &["files", "list", card, "root:/etc"]),
        (0, &["files", "list", card, "root:/etc", "--expected"]),
        (0, &["files", "tree", card, "boot:/"]),
        (0, &["files", "read", card, "root:/etc/hostname"]),
        (
            0,
            &[
                "files",
                "read",
                card,
                "root:/etc/hostname",
                "--to",
                "name.txt",
            ],
        ),
        (0, &["files", "put", card, "root:/var/note.txt", "note.txt"]),
        (0, &["files", "unpack", card, "root:/var", "files.tar"]),
        (
            0,
            &[
                "files",
                "edit",
                card,
                "root:/var/note.txt",
                "--line",
                "wind 7",
            ],
        ),
        (0, &["files", "make-folder", card, "root:/var/more"]),
        (
            0,
            &["files", "move", card, "root:/var/note.txt", "/var/more/"],
        ),
        (
            0,
            &[
                "files",
                "move",
                card,
                "root:/var/more/note.txt",
                "/var/note.txt",
            ],
        ),
        (0, &["files", "remove", card, "root:/var/note.txt", "--yes"]),
        (0, &["table", "remove", "empty.img", "1", "--yes"]),
        (0, &["table", "wipe", "empty.img", "--yes"]),
        (0, &["--rack", rack, "eject", "rack:slot"]),
        (0, &["check", card]),
        (0, &["--rack", shop, "batch", huts, "--dry-run"]),
        (0, &["--rack", shop, "batch", huts]),
        (0, &["--rack", shop, "ledger", "list"]),
        (0, &["--rack", shop, "ledger", "find", "larkfell-07"]),
        (
            0,
            &[
                "--rack",
                shop,
                "ledger",
                "note",
                "larkfell-07",
                "on the roof",
            ],
        ),
        (0, &["--rack", shop, "ledger", "verify", "demo/box-01.img"]),
        (
            0,
            &[
                "--rack", shop, "ledger", "export", "--as", "receipts", "--to", "out",
            ],
        ),
        (0, &["--rack", shop, "ledger", "import", "out/receipts"]),
        (0, &["--rack", shop, "ledger", "page", "--to", "page.html"]),
        (
            0,
            &["--rack", shop, "ledger", "labels", "--to", "labels.html"],
        ),
        (0, &["--rack", shop, "ledger", "sync"]),
        (
            0,
            &[
                "--rack",
                shop,
                "rack",
                "power-on",
                "hut-board-3",
                "--background",
            ],
        ),
        (0, &["--rack", shop, "rack", "power-off", "hut-board-3"]),
        (2, &["write", "--colour"]),
        (4, &["inspect", "nothing.img"]),
    ];
    let mut found: BTreeSet<String> = seen(&demo).collect();
    for (code, args) in runs {
        let args = [&["--json"], *args].concat();
        let run = Run::from({
            let mut command = bench.command(&args);
            command.env("HUT", "made up sample words").output().unwrap()
        });
        let run = run.expect(*code).described();
        found.extend(seen(&run));
    }
    let listed = bench
        .run(&["files", "list", card, "root:/etc", "--expected"])
        .expect(0);
    bench.write("list.txt", listed.stdout);
    let check = ["--json", "files", "check", card, "root:/etc", "list.txt"];
    found.extend(seen(&bench.run(&check).expect(0)));
    let mut missing = described();
    missing.retain(|one| !found.contains(one));
    // Those need a server, a board or an emulator, somebody who plugs media in, and a file system that was cut off.
    let elsewhere = [
        "download",
        "replug",
        "new",
        "gone",
        "recovered",
        "away",
        "left-alone",
        "closing",
        "ledger",
        "clock",
        "console",
        "boot-stage",
        "hint",
        "result watch",
        "trial-news",
        "result trial",
    ];
    let missing: Vec<&String> = missing
        .iter()
        .filter(|one| !elsewhere.contains(&one.as_str()))
        .collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// A board of the demo.
const BOARD: &str = concat!(
    env!("CARGO_MANIFEST_DIR"),
    "/../../demo/boards/brindle-b2.toml"
);

/// The catalogue of the demo.
const CATALOGUE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/shelf.toml");

fn desk() -> &'static str {
    "desk/rack.toml"
}

fn tar_of_one_file() -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(5);
    header.set_mode(0o644);
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(1_767_225_600);
    tar.append_data(&mut header, "depth", &b"0.37\n"[..])
        .unwrap();
    tar.into_inner().unwrap()
}
