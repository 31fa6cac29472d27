//! The shelf: a catalogue of one's own, a team's on a server, and what may go wrong with it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::HashMap;
use std::process::Command;
use std::sync::{Arc, Mutex};

use common::server::{Answer, Server, Then};
use common::{Bench, Run, agree_with_schema, demo, has_no_table, small_image};
use rstest::rstest;
use sha2::{Digest, Sha256};

const CARD: [&str; 5] = ["--to", "card.img", "--size", "64MB", "--yes"];

fn sha256(bytes: &[u8]) -> String {
    let digest = Sha256::digest(bytes);
    digest.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// An image with another content.
fn image(seed: u8) -> Vec<u8> {
    let mut image = small_image();
    image[9_500_000] = seed;
    image
}

/// Runs a command without spaces in its arguments.
#[track_caller]
fn run(bench: &Bench, line: &str, code: i32) -> Run {
    let words: Vec<&str> = line.split(' ').collect();
    bench.run(&words).expect(code)
}

fn write(bench: &Bench, image: &str, more: &[&str]) -> Run {
    let _ = std::fs::remove_file(bench.path("card.img"));
    bench.run(&[&["write", image], &CARD[..], more].concat())
}

/// A bench with `shelf.toml` in its folder, and two versions of an image on it.
fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("shelf.toml", "# the huts' images\n");
    for (version, seed) in [("2.9", 9), ("2.10", 10)] {
        let name = format!("larkfell-os-{version}.img");
        bench.write(&name, image(seed));
        bench.run(&["shelf", "add", &name]).expect(0);
    }
    bench
}

#[test]
fn an_image_is_found_by_its_name() {
    let bench = bench();
    let text = String::from_utf8(bench.read("shelf.toml")).unwrap();
    assert!(text.starts_with("# the huts' images\n"), "{text}");
    assert!(text.contains(&sha256(&image(10))), "{text}");
    let listed = run(&bench, "--json shelf list", 0).json();
    let images = listed["images"].as_array().unwrap();
    assert_eq!(images.len(), 1, "{listed:#}");
    assert_eq!(images[0]["version"], "2.10");
    assert_eq!(images[0]["unpacked_bytes"], small_image().len());
    let all = run(&bench, "--json shelf list --all", 0);
    assert_eq!(all.json()["images"].as_array().unwrap().len(), 2);

    write(&bench, "shelf:larkfell-os", &["--receipt", "r.json"])
        .expect(0)
        .says(&["larkfell-os@2.10", "of larkfell-os@2.10 on the shelf"]);
    assert_eq!(bench.read("card.img")[..14 << 20], image(10));
    let receipt: serde_json::Value = serde_json::from_slice(&bench.read("r.json")).unwrap();
    assert_eq!(receipt["image"]["listed"], "larkfell-os@2.10");
    write(&bench, "shelf:larkfell-os@2.9", &[])
        .expect(0)
        .says(&["larkfell-os@2.10 is newer"]);
    assert_eq!(bench.read("card.img")[..14 << 20], image(9));
    for args in [
        &["inspect", "shelf:larkfell-os"][..],
        &["verify", "card.img", "--image", "shelf:larkfell-os@2.9"],
        &["estimate", "fit", "shelf:larkfell-os"],
        &[
            "estimate",
            "time",
            "shelf:larkfell-os",
            "--card",
            "16GB@20MB/s",
        ],
        &[
            "clone",
            "shelf:larkfell-os",
            "--to",
            "clone.img",
            "--size",
            "64MB",
            "--yes",
        ],
        &["files", "list", "shelf:larkfell-os", "1:/"],
        &["shelf", "show", "larkfell-os"],
        &["shelf", "get", "shelf:larkfell-os@2.9"],
        &["shelf", "check", "--full"],
    ] {
        bench.run(args).expect(0);
    }
}

#[test]
fn names_that_mean_nothing_are_told_with_what_is_like_them() {
    let bench = bench();
    let cases = [
        ("shelf:larkfel-os", "did you mean shelf:larkfell-os?"),
        ("shelf:larkfell-os@2.8", "2.10, 2.9"),
    ];
    for (name, remedy) in cases {
        write(&bench, name, &[]).expect(4).says(&[remedy]);
    }
    write(&bench, "shelf:../os", &[]).expect(2);
    assert!(!bench.path("card.img").exists());
    let empty = Bench::new();
    write(&empty, "shelf:os", &[])
        .expect(4)
        .says(&["pinewrit shelf use ADDRESS"]);
    empty
        .run(&["shelf", "list"])
        .expect(8)
        .says(&["pinewrit shelf add IMAGE"]);
}

#[test]
fn all_mistakes_of_a_catalogue_are_told() {
    let bench = Bench::new();
    bench.write(
        "shelf.toml",
        "[[image]]\nname = \"lark fell\"\nversion = \"2\"\nsource = \"a.img\"\nchecksum = \"12\"\nunpaked = 3\n",
    );
    run(&bench, "shelf list", 7).says(&[
        "shelf.toml has 3 mistakes",
        "line 2",
        "line 5",
        "line 6",
        "`unpacked`",
    ]);
    bench.write("a.img", small_image());
    run(&bench, "shelf add a.img --version 1", 7);
}

#[test]
fn what_is_added_is_looked_into() {
    let bench = Bench::with_hut();
    std::fs::create_dir_all(bench.path("config/pinewrit/boards")).unwrap();
    let board = "name = \"Hut board\"\narchitecture = \"arm64\"\n[[way]]\nloader = \"listed\"\n\
        scheme = \"gpt\"\n";
    bench.write("config/pinewrit/boards/hut-board.toml", board);
    // The version is the system's, as nothing else says one.
    run(&bench, "shelf add hut.img", 0).shows(&["hut@4.2"]);
    let add = "shelf add hut.img --version 4.3 --date 2026-10-02 --notes huts --smallest 8GB";
    let added = run(&bench, &format!("--json {add}"), 0).json();
    let row = &added["images"][0];
    assert_eq!(row["name"], "hut");
    assert_eq!(row["date"], "2026-10-02");
    assert_eq!(row["smallest_bytes"], 8_000_000_000_u64);
    assert!(row["intake"].is_string(), "{row:#}");
    // Without a shelf.toml here, it is in the configuration.
    assert!(bench.path("config/pinewrit/shelf.toml").exists());
    run(&bench, add, 2).says(&["is in", "already"]);
    write(&bench, "shelf:hut", &[])
        .expect(3)
        .says(&["asked for", "8.00 GB", "--as-it-is"]);
    run(&bench, "shelf list --fits 4GB", 8);
    run(&bench, "shelf list --fits 8GB", 0);
    run(&bench, "shelf remove hut", 3).says(&["2 versions", "--yes"]);
    run(&bench, "shelf remove hut@4.2", 0);
    run(&bench, "shelf remove hut --yes", 0);
    run(&bench, "shelf list", 8);
}

#[test]
fn an_image_that_is_not_what_its_publisher_lists_is_not_added() {
    let bench = Bench::new();
    bench.write("shelf.toml", "");
    bench.write("os-1.img", image(1));
    bench.write("SHA256SUMS", format!("{}  os-1.img\n", sha256(&image(2))));
    run(&bench, "shelf add os-1.img", 4).says(&["not the file that its publisher"]);
    run(&bench, "shelf list", 8);
}

#[test]
fn units_with_older_versions_are_found() {
    let bench = bench();
    let make = |host: &str, version: &str| {
        let settings = format!("hostname = \"{host}\"\n");
        bench.write("hut.toml", settings);
        let image = format!("shelf:larkfell-os@{version}");
        let card = format!("{host}.img");
        let args = ["write", &image, "--to", &card, "--size", "64MB", "--yes"];
        bench
            .run(&[&args[..], &["--settings", "hut.toml"]].concat())
            .expect(0);
    };
    for (host, version) in [
        ("larkfell-01", "2.9"),
        ("larkfell-02", "2.10"),
        ("larkfell-03", "2.9"),
    ] {
        make(host, version);
    }
    let older = run(&bench, "ledger list --older", 0);
    older.shows(&[
        "larkfell-01",
        "larkfell-03",
        "2 units with larkfell-os@2.9; larkfell-os@2.10 is newer",
    ]);
    std::fs::remove_file(bench.path("larkfell-01.img")).unwrap();
    // Records have whole seconds: what is made in the same one has no order.
    std::thread::sleep(std::time::Duration::from_millis(1100));
    make("larkfell-01", "2.10");
    let older = run(&bench, "--json ledger list --older", 0);
    assert_eq!(older.json()["count"], 1);
    run(&bench, "shelf show larkfell-os", 0).shows(&["2 units", "1 unit"]);
    run(&bench, "ledger find larkfell-os@2.9", 0).shows(&["larkfell-03"]);
}

/// A team's server, whose files can be changed.
struct Team {
    server: Server,
    files: Arc<Mutex<HashMap<String, Vec<u8>>>>,
}

impl Team {
    fn new() -> Self {
        let files: Arc<Mutex<HashMap<String, Vec<u8>>>> = Arc::default();
        let served = Arc::clone(&files);
        let server = Server::start(move |asked| {
            let files = served.lock().unwrap();
            match files.get(asked.path.trim_start_matches('/')) {
                Some(file) => {
                    let tag = format!("\"{}\"", &sha256(file)[..8]);
                    Answer::part(asked, file).with("ETag", &tag)
                }
                None => Answer::status(404),
            }
        });
        let team = Self { server, files };
        team.put("os.img", image(1));
        team.list("1.0", &image(1), "");
        team
    }

    fn put(&self, name: &str, file: impl Into<Vec<u8>>) {
        self.files
            .lock()
            .unwrap()
            .insert(name.to_owned(), file.into());
    }

    fn take(&self, name: &str) {
        self.files.lock().unwrap().remove(name);
    }

    fn list(&self, version: &str, image: &[u8], more: &str) {
        let text = format!(
            "name = \"Larkfell images\"\n[[image]]\nname = \"larkfell-os\"\nversion = \"{version}\"\n\
             source = \"os.img\"\npacked = {}\nchecksum = \"sha256:{}\"\n{more}",
            image.len(),
            sha256(image)
        );
        self.put("shelf.toml", text);
    }

    fn url(&self) -> String {
        self.server.url("/shelf.toml")
    }
}

#[test]
fn a_team_s_catalogue_is_followed() {
    let (bench, team) = (Bench::new(), Team::new());
    bench
        .run(&["shelf", "use", &team.url()])
        .expect(0)
        .shows(&["Larkfell images"]);
    let text = String::from_utf8(bench.read("config/pinewrit/shelf.toml")).unwrap();
    assert!(text.contains(&team.url()), "{text}");
    write(&bench, "shelf:larkfell-os", &[]).expect(0);
    run(&bench, "shelf get larkfell-os", 0).shows(&["matches", "kept in"]);
    let row = run(&bench, "--json shelf list", 0).json();
    assert_eq!(row["images"][0]["here"], true);
    // A newer version is there as soon as the team has it.
    team.put("os.img", image(2));
    team.list("1.1", &image(2), "");
    write(&bench, "shelf:larkfell-os", &[])
        .expect(0)
        .says(&["larkfell-os@1.1"]);
    assert_eq!(bench.read("card.img")[..14 << 20], image(2));
    run(&bench, "shelf remove larkfell-os", 2).says(&["somebody else keeps"]);
    run(&bench, "shelf get larkfell-os", 0);
    // Without the server, both are used as they were.
    let url = team.url();
    drop(team);
    std::thread::sleep(std::time::Duration::from_millis(100));
    write(&bench, "shelf:larkfell-os", &[])
        .expect(0)
        .says(&["it is used as it was on"]);
    bench.run(&["shelf", "remove", &url]).expect(0);
    run(&bench, "shelf list", 8);
    bench
        .run(&["shelf", "use", &url])
        .expect(4)
        .says(&["cannot be read"]);
}

#[test]
fn an_image_that_was_changed_on_the_server_is_found() {
    let (bench, team) = (Bench::new(), Team::new());
    bench.run(&["shelf", "use", &team.url()]).expect(0);
    run(&bench, "shelf check --full", 0).shows(&["verified"]);
    team.put("os.img", image(7));
    write(&bench, "shelf:larkfell-os", &[])
        .expect(4)
        .says(&["checksum"]);
    assert!(!bench.path("card.img").exists() || has_no_table(&bench.read("card.img")));
    let clone = "clone shelf:larkfell-os --to clone.img --size 64MB --yes";
    run(&bench, clone, 4).says(&["checksum"]);
    assert!(!bench.path("clone.img").exists() || has_no_table(&bench.read("clone.img")));
    run(&bench, "shelf get larkfell-os", 4).says(&["not the file that the shelf lists"]);
    let row = run(&bench, "--json shelf list", 0).json();
    assert_eq!(row["images"][0]["here"], false, "a bad file is not kept");
    // A quick look sees what the server itself says.
    run(&bench, "shelf check", 0);
    run(&bench, "shelf check --full", 6).shows(&["changed", "content"]);
    team.put("SHA256SUMS", format!("{}  os.img\n", sha256(&image(7))));
    run(&bench, "shelf check", 6).shows(&["published checksum", "SHA256SUMS"]);
    team.put("os.img", vec![0; 100]);
    run(&bench, "shelf check", 6).shows(&["size", "100 bytes"]);
    team.take("os.img");
    run(&bench, "shelf check", 4).shows(&["missing", "404"]);
}

#[test]
fn a_version_that_becomes_another_file_is_an_alarm() {
    let (bench, team) = (Bench::new(), Team::new());
    bench.run(&["shelf", "use", &team.url()]).expect(0);
    team.put("os.img", image(7));
    team.list("1.0", &image(7), "");
    for args in [
        &["shelf", "list"][..],
        &["shelf", "check"],
        &["shelf", "use", &team.url()],
    ] {
        bench
            .run(args)
            .expect(4)
            .says(&["larkfell-os@1.0 is another file than before", "--accept"]);
    }
    write(&bench, "shelf:larkfell-os", &[]).expect(4);
    assert!(!bench.path("card.img").exists());
    bench
        .run(&["shelf", "use", &team.url(), "--accept"])
        .expect(0);
    write(&bench, "shelf:larkfell-os", &[]).expect(0);
}

fn minisign(bench: &Bench, args: &[&str]) {
    let mut command = Command::new("minisign");
    let done = command
        .args(args)
        .current_dir(bench.folder())
        .output()
        .unwrap();
    assert!(
        done.status.success(),
        "{}",
        String::from_utf8_lossy(&done.stderr)
    );
}

#[test]
fn a_signed_catalogue_cannot_be_changed_on_its_server() {
    pinewrit_judges::needs!["minisign"];
    let (bench, team) = (Bench::new(), Team::new());
    for name in ["larkfell", "other"] {
        let (public, secret) = (format!("{name}.pub"), format!("{name}.key"));
        minisign(&bench, &["-G", "-W", "-p", &public, "-s", &secret]);
    }
    let sign = |key: &str| {
        let text = team.files.lock().unwrap()["shelf.toml"].clone();
        bench.write("list", text);
        minisign(&bench, &["-S", "-s", key, "-m", "list"]);
        team.put("shelf.toml.minisig", bench.read("list.minisig"));
    };
    let using = ["shelf", "use", &team.url(), "--signed-by", "larkfell.pub"];
    bench.run(&using).expect(4).says(&["is not signed"]);
    sign("other.key");
    bench
        .run(&using)
        .expect(4)
        .says(&["not signed by a key that you have"]);
    sign("larkfell.key");
    bench.run(&using).expect(0).shows(&["by larkfell, key"]);
    write(&bench, "shelf:larkfell-os", &[]).expect(0);
    // Whoever changes image and catalogue cannot sign it.
    team.put("os.img", image(7));
    team.list("1.0", &image(7), "");
    let refused = write(&bench, "shelf:larkfell-os", &[]).expect(4);
    refused.says(&["the signature of shelf.toml is not good"]);
    assert!(!bench.path("card.img").exists());
    team.take("shelf.toml.minisig");
    write(&bench, "shelf:larkfell-os", &[])
        .expect(4)
        .says(&["is not signed"]);
    // A new version, signed, is fine.
    team.list("1.1", &image(7), "");
    sign("larkfell.key");
    write(&bench, "shelf:larkfell-os", &[]).expect(0);
}

#[test]
fn a_key_that_is_named_later_counts() {
    pinewrit_judges::needs!["minisign"];
    let (bench, team) = (Bench::new(), Team::new());
    let keys = ["-G", "-W", "-p", "larkfell.pub", "-s", "larkfell.key"];
    minisign(&bench, &keys);
    run(&bench, &format!("shelf use {}", team.url()), 0);
    let with_key = format!("shelf use {} --signed-by larkfell.pub", team.url());
    run(&bench, &with_key, 4).says(&["is not signed"]);
    bench.write("list", team.files.lock().unwrap()["shelf.toml"].clone());
    minisign(&bench, &["-S", "-s", "larkfell.key", "-m", "list"]);
    team.put("shelf.toml.minisig", bench.read("list.minisig"));
    run(&bench, &with_key, 0);
    let text = String::from_utf8(bench.read("config/pinewrit/shelf.toml")).unwrap();
    assert_eq!(text.matches("[[follow]]").count(), 1, "{text}");
    // Used again without its key, it is still asked for.
    team.take("shelf.toml.minisig");
    run(&bench, &format!("shelf use {}", team.url()), 4).says(&["is not signed"]);
    run(&bench, "shelf list", 4).says(&["is not signed"]);
}

#[test]
fn a_path_is_followed_from_the_catalogue_that_names_it() {
    let bench = bench();
    for folder in ["team", "config/pinewrit"] {
        std::fs::create_dir_all(bench.path(folder)).unwrap();
    }
    std::fs::rename(bench.path("shelf.toml"), bench.path("team/shelf.toml")).unwrap();
    for version in ["2.9", "2.10"] {
        let name = format!("larkfell-os-{version}.img");
        std::fs::rename(bench.path(&name), bench.path(&format!("team/{name}"))).unwrap();
    }
    let own = "[[follow]]\naddress = \"../../team/shelf.toml\"\n";
    bench.write("config/pinewrit/shelf.toml", own);
    write(&bench, "shelf:larkfell-os", &[]).expect(0);
    assert_eq!(bench.read("card.img")[..14 << 20], image(10));
    run(&bench, "shelf use team/shelf.toml", 0);
}

/// A connection that breaks in the middle: the next command goes on there.
#[test]
fn a_download_that_breaks_is_resumed() {
    let bench = Bench::new();
    let os = image(1);
    let list = format!(
        "[[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"os.img\"\nchecksum = \"sha256:{}\"\n",
        sha256(&os)
    );
    let broken = Arc::new(std::sync::atomic::AtomicBool::new(true));
    let is_broken = Arc::clone(&broken);
    let server = Server::start(move |asked| match asked.path.as_str() {
        "/shelf.toml" => Answer::part(asked, list.as_bytes()),
        "/os.img" => {
            let from = asked.range(os.len()).map_or(0, |range| range.start);
            match is_broken.load(std::sync::atomic::Ordering::Relaxed) {
                true if from >= 6_000_000 => Answer::status(503),
                true => Answer::part(asked, &os).then(Then::Cut(6_000_000 - from)),
                false => Answer::part(asked, &os),
            }
        }
        _ => Answer::status(404),
    });
    run(
        &bench,
        &format!("shelf use {}", server.url("/shelf.toml")),
        0,
    );
    run(&bench, "shelf get os --patience 1", 4).says(&["503"]);
    broken.store(false, std::sync::atomic::Ordering::Relaxed);
    run(&bench, "shelf get os", 0).shows(&["matches", "kept from earlier"]);
}

/// What cannot be kept is not here, however well it was fetched.
#[test]
fn an_image_for_which_there_is_no_room_is_not_here() {
    let (bench, team) = (Bench::new(), Team::new());
    run(&bench, &format!("shelf use {}", team.url()), 0);
    std::fs::create_dir_all(bench.path("cache")).unwrap();
    let args = ["-t", "tmpfs", "-o", "size=2m", "tmpfs", "cache"];
    if bench.judge("mount", &args).is_none_or(|run| run.code != 0) {
        common::say_skipped("small file systems (root is needed)");
        return;
    }
    let got = bench.run(&["shelf", "get", "larkfell-os"]);
    let listed = bench.run(&["--json", "shelf", "list"]);
    bench.judge("umount", &["cache"]).unwrap().expect(0);
    got.expect(3)
        .says(&["os.img could not be kept", "free space"]);
    assert_eq!(listed.expect(0).json()["images"][0]["here"], false);
}

/// An image that was cut off before it was listed is refused as one that is named by its path.
#[test]
fn a_truncated_image_is_refused_by_its_name_too() {
    let bench = Bench::new();
    bench.write("shelf.toml", "");
    bench.write("os-1.img", &small_image()[..6 << 20]);
    run(&bench, "shelf add os-1.img", 0);
    write(&bench, "shelf:os", &[])
        .expect(4)
        .says(&["truncated"]);
    bench.write("os-1.img", &small_image()[..5 << 20]);
    run(&bench, "shelf check", 6).shows(&["changed", "size"]);
}

#[rstest]
#[case::of_one_image("", "signed = true\n")]
#[case::of_all("signed = true\n", "")]
fn a_catalogue_demands_signatures_of_its_images(#[case] head: &str, #[case] of_image: &str) {
    pinewrit_judges::needs!["minisign"];
    let bench = Bench::new();
    bench.write("os.img", image(1));
    bench.write(
        "shelf.toml",
        format!(
            "{head}[[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"os.img\"\n\
             checksum = \"sha256:{}\"\n{of_image}",
            sha256(&image(1))
        ),
    );
    write(&bench, "shelf:os", &[])
        .expect(4)
        .says(&["os.img is not signed"]);
    run(&bench, "shelf check", 6).shows(&["signature"]);
    minisign(
        &bench,
        &["-G", "-W", "-p", "larkfell.pub", "-s", "larkfell.key"],
    );
    minisign(&bench, &["-S", "-s", "larkfell.key", "-m", "os.img"]);
    write(&bench, "shelf:os", &["--signed-by", "larkfell.pub"]).expect(0);
    std::fs::create_dir_all(bench.path("config/pinewrit/keys")).unwrap();
    std::fs::copy(
        bench.path("larkfell.pub"),
        bench.path("config/pinewrit/keys/larkfell.pub"),
    )
    .unwrap();
    write(&bench, "shelf:os", &[]).expect(0);
    // The publisher's list and the catalogue must mean the same file.
    bench.write("SHA256SUMS", format!("{}  os.img\n", sha256(&image(2))));
    minisign(&bench, &["-S", "-s", "larkfell.key", "-m", "SHA256SUMS"]);
    write(&bench, "shelf:os", &[])
        .expect(4)
        .says(&["the shelf and the signed list have different files"]);
}

/// What a server says must not lead to the files of whoever reads it.
#[test]
fn a_server_s_catalogue_names_no_files_here() {
    let (bench, team) = (Bench::new(), Team::new());
    let secret = bench.write("secret.img", image(3)).display().to_string();
    team.put(
        "shelf.toml",
        format!("[[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"{secret}\"\n"),
    );
    bench.run(&["shelf", "use", &team.url()]).expect(0);
    write(&bench, "shelf:os", &[]).expect(4);
    assert_eq!(team.server.asked(&secret).len(), 1);
}

#[test]
fn catalogues_that_contradict_each_other_are_told() {
    let (bench, team) = (Bench::new(), Team::new());
    bench.write("shelf.toml", "");
    bench.write("larkfell-os-1.0.img", image(9));
    run(&bench, "shelf add larkfell-os-1.0.img", 0);
    bench.run(&["shelf", "use", &team.url()]).expect(0);
    let refused = write(&bench, "shelf:larkfell-os", &[]).expect(4);
    refused.says(&[
        "two catalogues have different files for larkfell-os@1.0",
        "shelf.toml",
    ]);
}

#[test]
fn a_roster_names_the_version() {
    let bench = bench();
    let roster = |image: &str| {
        format!("image = \"{image}\"\n[count]\nunits = 2\nname = \"larkfell-{{n}}\"\n")
    };
    bench.write("huts.toml", roster("shelf:larkfell-os"));
    let refused = run(&bench, "batch huts.toml --dry-run", 7);
    refused.says(&["has no version", "shelf:larkfell-os@VERSION"]);
    bench.write("huts.toml", roster("shelf:larkfell-os@2.9"));
    run(&bench, "batch huts.toml --dry-run", 0);
}

const ALL_KEYS: &str = "name = \"Larkfell images\"\nsigned = false\n[[image]]\nname = \"larkfell-os\"\n\
    version = \"2.4~rc1\"\ndate = \"2026-10-02\"\nsource = \"os.img.xz\"\npacked = 1000\n\
    unpacked = \"4 GB\"\narchitecture = \"arm64\"\nboards = [\"Brindle B2\"]\nsmallest = \"8GB\"\n\
    intake = \"cloud-init\"\nnotes = \"made up\"\nreplaced-by = \"hut-os@3\"\nsigned = false\n\
    checksum = \"sha256:6b1c0d5e9f3a42718c64be20d7f59a831e06c2b49d5873fa1e8b40c67d92a5f3\"\n";

/// What the schema accepts is what the program accepts.
#[test]
fn the_schema_says_what_the_program_says() {
    let bench = Bench::new();
    let is_accepted = |text: &str| {
        bench.write("shelf.toml", text);
        bench.run(&["shelf", "list"]).code == 0
    };
    assert!(is_accepted(
        &std::fs::read_to_string(demo("shelf.toml")).unwrap()
    ));
    let wrong = [
        ("name = \"larkfell-os\"\n", ""),
        ("version = \"2.4~rc1\"\n", ""),
        ("source = \"os.img.xz\"\n", ""),
        ("larkfell-os", "lark fell"),
        ("2.4~rc1", "2.4 rc1"),
        ("2026-10-02", "autumn"),
        ("os.img.xz", ""),
        ("packed = 1000", "packed = -1"),
        ("4 GB", "four"),
        ("arm64", "arm65"),
        ("\"8GB\"", "8"),
        ("hut-os@3", "hut-os@"),
        ("signed = false", "signed = \"no\""),
        ("sha256:6b1c", "sha256:6b1"),
        ("sha256", "sha3"),
        ("intake", "intakes"),
        ("[[image]]", "[[follow]]\n[[image]]"),
    ];
    agree_with_schema("shelf", ALL_KEYS, &wrong, is_accepted);
}
