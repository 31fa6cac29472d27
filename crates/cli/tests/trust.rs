//! Images that somebody has signed.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::collections::HashMap;
use std::process::Command;

use common::server::{Answer, Server};
use common::{Bench, Run, small_image};
use sha2::{Digest, Sha256};

const WRITE: [&str; 5] = ["--to", "card.img", "--size", "64MB", "--yes"];

/// An image, a list with its checksum, and signatures of both by two publishers.
fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let digest: String = Sha256::digest(small_image())
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    bench.write("SHA256SUMS", format!("{digest}  hut.img\n"));
    for name in ["larkfell", "other"] {
        let (public, secret) = (format!("{name}.pub"), format!("{name}.key"));
        by(
            &bench,
            "minisign",
            &["-G", "-W", "-p", &public, "-s", &secret],
        );
    }
    by(
        &bench,
        "minisign",
        &["-S", "-s", "larkfell.key", "-m", "SHA256SUMS"],
    );
    bench
}

fn by(bench: &Bench, program: &str, args: &[&str]) {
    let mut command = Command::new(program);
    let done = command
        .args(args)
        .current_dir(bench.folder())
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&done.stderr);
    assert!(done.status.success(), "{program} {args:?}: {told}");
}

/// The identifier of the key, as its own file says it.
fn key_of(bench: &Bench) -> String {
    let file = String::from_utf8(bench.read("larkfell.pub")).unwrap();
    let comment = file.lines().next().unwrap().to_owned();
    let id = comment.rsplit(' ').next().unwrap();
    // Leading zeros are left out there.
    format!("{id:0>16}")
}

fn write(bench: &Bench, image: &str, more: &[&str]) -> Run {
    let _ = std::fs::remove_file(bench.path("card.img"));
    bench.run(&[&["write", image], &WRITE[..], more].concat())
}

#[test]
fn a_signed_list_vouches_for_its_image() {
    pinewrit_judges::needs!["minisign"];
    let bench = bench();
    let good = write(&bench, "hut.img", &["--signed-by", "larkfell.pub"]).expect(0);
    good.says(&[
        &format!("by larkfell, key {}", key_of(&bench)),
        "SHA256SUMS.minisig",
    ]);
    let foreign = write(&bench, "hut.img", &["--signed-by", "other.pub"]).expect(4);
    foreign.says(&["not signed by a key that you have", "nothing was written"]);
    assert!(!bench.path("card.img").exists());
    // A key in the configuration is used without being named; a foreign signature is only told.
    std::fs::create_dir_all(bench.path("config/pinewrit/keys")).unwrap();
    let put = |name: &str| {
        std::fs::copy(bench.path(name), bench.path("config/pinewrit/keys/key.pub")).unwrap()
    };
    put("other.pub");
    write(&bench, "hut.img", &[])
        .expect(0)
        .says(&["by a key that you do not have"]);
    put("larkfell.pub");
    bench
        .run(&["inspect", "hut.img"])
        .expect(0)
        .shows(&["signed", &format!("by key, key {}", key_of(&bench))]);
    // Whoever changes the image changes the list as well, but cannot sign it.
    let list = bench.read("SHA256SUMS");
    bench.write(
        "SHA256SUMS",
        list.iter()
            .map(|byte| match byte {
                b'0' => b'1',
                byte => *byte,
            })
            .collect::<Vec<u8>>(),
    );
    let altered = write(&bench, "hut.img", &[]).expect(4);
    altered.says(&[
        "the signature of SHA256SUMS is not good",
        "was changed after it was signed",
    ]);
    assert!(!bench.path("card.img").exists());
    std::fs::remove_file(bench.path("SHA256SUMS.minisig")).unwrap();
    let unsigned = write(&bench, "hut.img", &["--signed-by", "larkfell.pub"]).expect(4);
    unsigned.says(&["hut.img is not signed"]);
    write(&bench, "hut.img", &["--signed-by", "hut.img"]).expect(2);
}

#[test]
fn an_image_can_be_signed_itself() {
    pinewrit_judges::needs!["gpg"];
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let home = bench.folder().display().to_string();
    let gpg = |args: &[&str]| {
        let common = ["--homedir", &home, "--batch", "--pinentry-mode", "loopback"];
        by(
            &bench,
            "gpg",
            &[&common[..], &["--passphrase", ""], args].concat(),
        );
    };
    gpg(&[
        "--quick-generate-key",
        "Larkfell <os@larkfell.example>",
        "ed25519",
        "sign",
        "never",
    ]);
    gpg(&[
        "--armor",
        "--output",
        "hut.img.asc",
        "--detach-sign",
        "hut.img",
    ]);
    gpg(&["--armor", "--output", "larkfell.asc", "--export"]);
    let by_larkfell = ["--signed-by", "larkfell.asc"];
    let good = write(&bench, "hut.img", &by_larkfell).expect(0);
    good.says(&[
        "signed",
        "Larkfell <os@larkfell.example>, key ",
        "hut.img.asc",
    ]);
    let clone = [
        "clone",
        "hut.img",
        "--to",
        "clone.img",
        "--size",
        "64MB",
        "--yes",
    ];
    let clone = [&clone[..], &by_larkfell].concat();
    bench.run(&clone).expect(0);
    std::fs::remove_file(bench.path("clone.img")).unwrap();
    let mut image = small_image();
    image[9_000_000] ^= 1;
    bench.write("hut.img", image);
    bench
        .run(&clone)
        .expect(4)
        .says(&["the signature of hut.img is not good"]);
    assert!(!bench.path("clone.img").exists());
    write(&bench, "hut.img", &by_larkfell)
        .expect(4)
        .says(&["the signature of hut.img is not good"]);
    let mut stop = Command::new("gpgconf");
    let _ = stop.args(["--homedir", &home, "--kill", "all"]).status();
}

/// A server that gives another image, and the list that belongs to it.
#[test]
fn tampering_on_a_server_is_found() {
    pinewrit_judges::needs!["minisign"];
    let bench = bench();
    let names = ["hut.img", "SHA256SUMS", "SHA256SUMS.minisig"];
    let files: HashMap<String, Vec<u8>> = names
        .into_iter()
        .map(|name| (format!("/os/{name}"), bench.read(name)))
        .collect();
    let serve = |files: HashMap<String, Vec<u8>>| {
        Server::start(move |asked| match files.get(&asked.path) {
            Some(file) => Answer::part(asked, file),
            None => Answer::status(404),
        })
    };
    let signed = ["--signed-by", "larkfell.pub"];
    let honest = serve(files.clone());
    write(&bench, &honest.url("/os/hut.img"), &signed).expect(0);
    let mut image = files.clone();
    image.get_mut("/os/hut.img").unwrap()[9_000_000] ^= 1;
    let tampered = serve(image.clone());
    let url = tampered.url("/os/hut.img");
    write(&bench, &url, &signed).expect(4).says(&["checksum"]);
    let digest: String = Sha256::digest(&image["/os/hut.img"])
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    image.insert(
        "/os/SHA256SUMS".to_owned(),
        format!("{digest}  hut.img\n").into_bytes(),
    );
    let thorough = serve(image);
    let url = thorough.url("/os/hut.img");
    write(&bench, &url, &signed)
        .expect(4)
        .says(&["the signature of SHA256SUMS is not good"]);
}

#[test]
fn a_roster_demands_a_signature() {
    pinewrit_judges::needs!["minisign"];
    let bench = bench();
    let roster = |key: &str| {
        format!(
            "image = \"hut.img\"\nsigned-by = \"{key}\"\n[count]\nunits = 2\nname = \"larkfell-{{n}}\"\n"
        )
    };
    bench.write("huts.toml", roster("larkfell.pub"));
    bench.run(&["batch", "huts.toml", "--dry-run"]).expect(0);
    bench.write("huts.toml", roster("other.pub"));
    let refused = bench.run(&["batch", "huts.toml", "--dry-run"]).expect(4);
    refused.says(&[
        "the roster huts has 1 mistake",
        "not signed by a key that you have",
    ]);
}
