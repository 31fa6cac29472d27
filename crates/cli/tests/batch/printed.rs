//! What is kept and printed: no secrets, and codes and pages that others can read.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::workshop::{BAD, Person, Running, bench, rack, records};

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
