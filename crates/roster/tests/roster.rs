//! Rosters as people write them: units from tables, from a sheet, counted; and their mistakes.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::Path;

use pinewrit_roster::{Content, Roster, RosterError};
use pinewrit_settings::SecretSource;
use rstest::rstest;

#[derive(Default)]
struct Secrets {
    asked: RefCell<Vec<String>>,
}

impl SecretSource for Secrets {
    fn variable(&self, name: &str) -> Option<String> {
        (name == "PW_LARKFELL_02").then(|| "another made-up sentence 4 7".to_owned())
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        fs::read_to_string(path)
    }

    fn ask(&self, what: &str) -> io::Result<Option<String>> {
        self.asked.borrow_mut().push(what.to_owned());
        Ok(Some(format!("typed for {what}")))
    }
}

/// A roster with files beside it.
fn read(roster: &str, files: &[(&str, &str)]) -> Result<Roster, Vec<String>> {
    read_asking(roster, files, &Secrets::default())
}

fn read_asking(
    roster: &str,
    files: &[(&str, &str)],
    secrets: &Secrets,
) -> Result<Roster, Vec<String>> {
    let folder = tempfile::tempdir().unwrap();
    for (name, text) in files {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    let path = folder.path().join("huts.toml");
    fs::write(&path, roster).unwrap();
    let place = format!("{}/", folder.path().display());
    Roster::read(&path, secrets).map_err(|error| match error {
        RosterError::Mistakes(mistakes) => {
            let told = mistakes
                .iter()
                .map(|one| format!("{}: {}", one.place, one.what));
            told.map(|text| text.replace(&place, "")).collect()
        }
        error => panic!("{error:?}"),
    })
}

const USER: &str = "
[[settings.users]]
name = \"warden\"
password-hash = \"$6$saltsalt$XhNqVhq2fJ0P5oDhoy6mM4kgLsN/AfWVqGd0cLvS2E6u3vTnUm5oFjGl4Sm6xNlYcQZx6H4m8UuJb5w1b0b.M1\"
";

fn values(roster: &Roster, path: &str) -> Vec<String> {
    let units = roster.units.iter();
    units
        .map(|unit| unit.value(path).unwrap_or("-").to_owned())
        .collect()
}

#[test]
fn units_of_all_sources_get_shared_templates_and_their_own() {
    let roster = format!(
        "image = \"os.img\"
units = \"more.csv\"
[settings]
timezone = \"Europe/Vienna\"
wired.gateway = \"10.77.0.254\"
[each]
wired.addresses = [\"10.77.0.{{n}}/24\"]
wired.search = [\"{{my.site}}.example\"]
{USER}
[[unit]]
name = \"larkfell-05\"
my.site = \"north\"
settings.timezone = \"Europe/Zurich\"
[[unit]]
name = \"larkfell-06\"
my.site = \"south\"
settings.hostname = \"hut-six\"
settings.wired.addresses = [\"10.77.0.60/24\"]
"
    );
    let sheet = "\u{feff}unit;my.site;wired.addresses;wired.mtu;users.full-name\r\n\
        larkfell-07;east;10.77.0.70/24, 2001:db8::70/64;1400;Hut seven\r\n\
        larkfell-08;west;;;\r\n;;;;\r\n";
    let roster = read(&roster, &[("more.csv", sheet)]).unwrap();
    let addresses = [
        "10.77.0.1/24",
        "10.77.0.60/24",
        "10.77.0.70/24, 2001:db8::70/64",
        "10.77.0.4/24",
    ];
    assert_eq!(values(&roster, "wired.addresses"), addresses);
    let names = ["larkfell-05", "hut-six", "larkfell-07", "larkfell-08"];
    assert_eq!(values(&roster, "hostname"), names);
    assert_eq!(
        values(&roster, "timezone")[..2],
        ["Europe/Zurich", "Europe/Vienna"]
    );
    assert_eq!(values(&roster, "wired.mtu"), ["-", "-", "1400", "-"]);
    let sites = values(&roster, "wired.search");
    assert_eq!(
        sites,
        [
            "north.example",
            "south.example",
            "east.example",
            "west.example"
        ]
    );
    assert_eq!(values(&roster, "users.full-name")[2], "Hut seven");
}

#[test]
fn counted_units_have_addresses_in_their_network() {
    let roster = read(
        "image = \"os.img\"\n[count]\nunits = 3\nfirst = 9\nname = \"larkfell-{n:03}\"\n\
         address = \"10.77.0.253/16\"\n[each]\nhostname = \"{unit}-{n}\"\n\
         wired = { addresses = [\"{address}\"], gateway = \"10.77.0.1\" }\n",
        &[],
    )
    .unwrap();
    let names: Vec<&str> = roster.units.iter().map(|unit| unit.name.as_str()).collect();
    assert_eq!(names, ["larkfell-009", "larkfell-010", "larkfell-011"]);
    assert_eq!(values(&roster, "hostname")[2], "larkfell-011-11");
    let last: Vec<String> = roster.units[2]
        .addresses()
        .iter()
        .map(ToString::to_string)
        .collect();
    assert_eq!(last, ["10.77.0.255/16"]);
    assert_eq!(roster.differing(), ["hostname", "wired.addresses"]);
    assert_eq!(roster.name, "huts");
}

#[test]
fn a_unit_without_a_host_name_has_its_own() {
    let text = format!("image = \"os.img\"\n[count]\nunits = 2\nname = \"hut-{{n}}\"\n{USER}");
    let roster = read(&text, &[]).unwrap();
    let names: Vec<_> = roster
        .units
        .iter()
        .map(|unit| unit.host_name().unwrap())
        .collect();
    assert_eq!(names, ["hut-1", "hut-2"]);
}

#[test]
fn units_without_any_settings_get_none() {
    let roster = read(
        "image = \"os.img\"\n[count]\nunits = 2\nname = \"hut-{n}\"\n",
        &[],
    )
    .unwrap();
    assert!(roster.units.iter().all(|unit| unit.settings.is_none()));
}

#[test]
fn paths_of_a_settings_file_are_relative_to_it() {
    let settings = "[[users]]\nname = \"warden\"\nssh-key-files = [\"key.pub\"]\n";
    let key =
        "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp x\n";
    let roster = read(
        "image = \"os.img\"\nsettings = \"shared/hut.toml\"\n[count]\nunits = 1\nname = \"hut-{n}\"\n",
        &[("shared/hut.toml", settings), ("shared/key.pub", key)],
    )
    .unwrap();
    let settings = roster.units[0].settings.as_ref().unwrap();
    assert_eq!(settings.users[0].ssh_keys.len(), 1);
}

#[test]
fn media_have_roles_and_units_other_images() {
    let roster = read(
        "[[medium]]\nrole = \"firmware\"\nlayout = \"firmware.toml\"\n\
         [[medium]]\nrole = \"system\"\nimage = \"os.img\"\nleast = \"4GB\"\ngrow = true\n\
         [[unit]]\nname = \"a\"\nsettings.timezone = \"UTC\"\n[[unit]]\nname = \"b\"\nimage = \"other.img\"\n",
        &[],
    )
    .unwrap();
    let shown = |nth: usize| -> Vec<String> {
        let media = roster.units[nth].media.iter();
        media
            .map(|one| {
                format!(
                    "{} {} {} {}",
                    one.role, one.content, one.gets_settings, one.least
                )
            })
            .collect()
    };
    assert_eq!(
        shown(0),
        [
            "firmware firmware.toml false 0",
            "system os.img true 4000000000"
        ]
    );
    assert_eq!(shown(1)[1], "system other.img true 4000000000");
    assert!(matches!(
        roster.units[0].media[0].content,
        Content::Layout(_)
    ));
}

#[test]
fn what_all_share_is_asked_once_and_only_without_mistakes() {
    let text = "image = \"os.img\"\n[count]\nunits = 3\nname = \"hut-{n}\"\n\
        [[settings.users]]\nname = \"warden\"\npassword-prompt = true\n";
    let secrets = Secrets::default();
    let roster = read_asking(text, &[], &secrets).unwrap();
    assert_eq!(
        *secrets.asked.borrow(),
        ["all units: password of user warden"]
    );
    let hash = |nth: usize| {
        roster.units[nth].settings.as_ref().unwrap().users[0]
            .password
            .clone()
    };
    assert!(hash(0).is_some() && hash(0) == hash(2));

    let secrets = Secrets::default();
    let wrong = format!("{text}ssh-keys = [\"no key\"]\n");
    assert!(read_asking(&wrong, &[], &secrets).is_err());
    assert!(secrets.asked.borrow().is_empty());
}

#[test]
fn each_units_own_secret_is_asked_for_by_its_name() {
    let text = "image = \"os.img\"\n[[settings.users]]\nname = \"warden\"\n\
        [[unit]]\nname = \"larkfell-01\"\nsettings.users.password-prompt = true\n\
        [[unit]]\nname = \"larkfell-02\"\nsettings.users.password-env = \"PW_LARKFELL_02\"\n";
    let secrets = Secrets::default();
    read_asking(text, &[], &secrets).unwrap();
    assert_eq!(
        *secrets.asked.borrow(),
        ["larkfell-01: password of user warden"]
    );
}

#[rstest]
#[case::no_units("image = \"x\"\n", "huts.toml line 1: the roster has no units")]
#[case::no_image(
    "[count]\nunits = 1\nname = \"a\"\n",
    "huts.toml line 1: the roster names no image"
)]
#[case::template(
    "image = \"x\"\n[count]\nunits = 2\nname = \"a{n}\"\n[each]\nhostname = \"{no}\"\n",
    "huts.toml line 6: there is no placeholder {no}"
)]
#[case::same_name(
    "image = \"x\"\n[count]\nunits = 2\nname = \"a\"\n",
    "huts.toml line 4: all counted units would have the same name"
)]
#[case::same_host(
    "image = \"x\"\n[settings]\nhostname = \"hut\"\n[count]\nunits = 2\nname = \"a{n}\"\n",
    "huts.toml line 3: a2: the host name hut is a1's"
)]
#[case::full(
    "image = \"x\"\n[count]\nunits = 9\nname = \"a{n}\"\naddress = \"10.77.0.250/24\"\n",
    "huts.toml line 5: from 10.77.0.250/24 on there are 5 addresses, for 9 units"
)]
#[case::secret(
    "image = \"x\"\n[settings.wireless]\ncountry = \"AT\"\nnetworks = [{ ssid = \"s\", passphrase = \"twelve larks\" }]\n[[unit]]\nname = \"a\"\n",
    "huts.toml line 4: a roster goes to many people and stations, and has a passphrase in it"
)]
#[case::sheet(
    "image = \"x\"\nunits = \"no.csv\"\n",
    "huts.toml line 2: the table no.csv cannot be read"
)]
#[case::twice(
    "image = \"x\"\nimage2 = \"y\"\n[[unit]]\nname = \"a\"\n[[unit]]\nname = \"A\"\n",
    "huts.toml line 2: `image2` is not a known key in the roster; huts.toml line 5: a unit a is already"
)]
fn mistakes_have_their_places(#[case] roster: &str, #[case] wanted: &str) {
    let told = read(roster, &[]).unwrap_err();
    for (told, wanted) in told.iter().zip(wanted.split("; ")) {
        assert!(told.starts_with(wanted), "{told}");
    }
    assert_eq!(told.len(), wanted.split("; ").count(), "{told:?}");
}

#[test]
fn mistakes_in_other_files_have_their_names_and_lines() {
    let told = read(
        "image = \"os.img\"\nsettings = \"hut.toml\"\nunits = \"huts.csv\"\n",
        &[
            (
                "hut.toml",
                "timezone = \"Europe/Wien\"\n\nkeyboard = \"xx\"\n",
            ),
            (
                "huts.csv",
                "unit,hostnam,wired.addresses\nhut one,,\nhut-2,,10.77.0.2\n",
            ),
        ],
    )
    .unwrap_err();
    let places: BTreeMap<&str, usize> = told.iter().fold(BTreeMap::new(), |mut all, text| {
        *all.entry(text.split(": ").next().unwrap()).or_default() += 1;
        all
    });
    let wanted = [
        "hut.toml line 1",
        "hut.toml line 3",
        "huts.csv line 1",
        "huts.csv line 2",
        "huts.csv line 3",
    ];
    assert_eq!(
        places.keys().copied().collect::<Vec<_>>(),
        wanted,
        "{told:#?}"
    );
}

#[test]
fn many_like_mistakes_are_counted() {
    let text =
        "image = \"x\"\n[settings]\nhostname = \"hut\"\n[count]\nunits = 50\nname = \"a{n}\"\n";
    let told = read(text, &[]).unwrap_err();
    assert_eq!(told.len(), 2, "{told:?}");
    assert!(told[1].ends_with("(and 47 more like this)"), "{told:?}");
}

#[test]
fn addresses_are_checked_against_the_network() {
    let text = "image = \"x\"\n[network]\nrange = \"10.77.0.0/16\"\npool = \"10.77.0.100-10.77.0.199\"\n\
        reserved = [\"10.77.0.53\"]\n[settings.wired]\ngateway = \"10.77.0.1\"\n";
    let unit = |name: &str, address: &str| {
        format!("[[unit]]\nname = \"{name}\"\nsettings.wired.addresses = [\"{address}\"]\n")
    };
    let mut roster = text.to_owned();
    for (name, address) in [
        ("a", "10.77.0.120/24"),
        ("b", "10.77.0.53/24"),
        ("c", "10.77.0.7/24"),
        ("d", "10.77.0.7/24"),
    ] {
        roster += &unit(name, address);
    }
    let told = read(&roster, &[]).unwrap_err();
    let wanted = [
        "huts.toml line 10: a: 10.77.0.120 is in the DHCP pool, 10.77.0.100 to 10.77.0.199",
        "huts.toml line 13: b: 10.77.0.53 is reserved",
        "huts.toml line 19: d: the address 10.77.0.7 is c's",
    ];
    assert_eq!(told, wanted);
}
