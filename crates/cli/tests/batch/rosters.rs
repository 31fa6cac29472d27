//! Mistakes in rosters and wishes, told before a card is touched.

use std::collections::BTreeSet;
use std::path::Path;

use rstest::rstest;

use crate::workshop::{Person, Running, bench, rack, roster};

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
