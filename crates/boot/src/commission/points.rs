//! The points of a comparison.

use pinewrit_core::receipt::Receipt;
use pinewrit_settings::{CheckedSettings, Sudo};
use schemars::JsonSchema;
use serde::Serialize;

use super::Seen;
use super::{network, system};
use crate::ssh::Session;

/// What a point is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// The SSH server's key.
    HostKey,
    /// The host name.
    HostName,
    /// An account.
    User,
    /// The keys that may log in as a user.
    Keys,
    /// Accounts that the settings do not name.
    OtherAccounts,
    /// Whether SSH accepts passwords.
    PasswordLogin,
    /// Addresses of an interface.
    Address,
    /// The maximum transmission unit of an interface, in bytes.
    Mtu,
    /// A route.
    Route,
    /// Name servers.
    NameServers,
    /// Country of the wireless interface.
    WirelessCountry,
    /// The wireless network that it has joined.
    WirelessNetwork,
    /// The time zone.
    TimeZone,
    /// The locale.
    Locale,
    /// The keyboard's layout.
    Keyboard,
    /// Swap space.
    Swap,
    /// The medium with the root file system.
    Medium,
    /// Its disk signature or GUID.
    TableIdentifier,
    /// Identifiers of its file systems.
    FilesystemIdentifiers,
    /// The size of the root file system.
    RootSize,
    /// The system and its version.
    System,
    /// The kernel.
    Kernel,
    /// Services that have failed.
    FailedUnits,
    /// Work of the first start.
    FirstStart,
    /// The clock.
    Clock,
}

/// Whether a point is as it should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Met {
    /// It is.
    Yes,
    /// It is not.
    No,
    /// The board does not tell.
    NotTold,
    /// Nothing is known of how it should be.
    NotAsked,
}

/// A point: what was wanted, and what was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Point {
    /// What it is about.
    pub point: Topic,
    /// Of which of several: a user, an interface, a network.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// What was wanted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wanted: Option<String>,
    /// What was found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
    /// Whether it is as it should be.
    pub met: Met,
}

impl Point {
    /// A point whose wanted and found values say whether it is met.
    pub(crate) fn judged(
        point: Topic,
        wanted: impl Into<String>,
        found: Option<String>,
        is_met: bool,
    ) -> Self {
        Self {
            point,
            of: None,
            wanted: Some(wanted.into()),
            met: match (&found, is_met) {
                (None, _) => Met::NotTold,
                (Some(_), true) => Met::Yes,
                (Some(_), false) => Met::No,
            },
            found,
        }
    }

    /// A point about which nothing was wanted.
    pub(crate) fn noted(point: Topic, found: Option<String>) -> Option<Self> {
        Some(Self {
            point,
            of: None,
            wanted: None,
            found: Some(found?),
            met: Met::NotAsked,
        })
    }

    pub(crate) fn of(self, of: impl Into<String>) -> Self {
        Self {
            of: Some(of.into()),
            ..self
        }
    }
}

/// What a board should be.
#[derive(Clone, Debug, Default)]
pub struct Wanted<'a> {
    /// Its settings.
    pub settings: Option<&'a CheckedSettings>,
    /// What was put on its medium.
    pub receipt: Option<&'a Receipt>,
    /// Its host name, where the settings are not known.
    pub host_name: Option<&'a str>,
    /// The line for `known_hosts` with its host key.
    pub known_hosts: Option<&'a str>,
    /// Whether it is a trial: the medium's size is the emulator's.
    pub is_trial: bool,
}

impl Wanted<'_> {
    /// The users whose keys are asked for.
    pub fn users(&self) -> Vec<&str> {
        let users = self.settings.iter().flat_map(|settings| &settings.users);
        users.map(|user| user.name.as_str()).collect()
    }

    /// Whether this user may read everything without being asked for a password.
    pub fn has_sudo(&self, name: Option<&str>) -> bool {
        let users = self.settings.iter().flat_map(|settings| &settings.users);
        let mut users = users.filter(|user| name.is_none_or(|name| user.name == name));
        users
            .next()
            .is_some_and(|user| user.sudo == Sudo::WithoutPassword)
    }
}

/// Compares a board's answers with what was wanted, in the order in which people look. `now` is
/// the time here, in seconds since 1970.
pub fn compare(wanted: &Wanted<'_>, session: &Session, now: i64) -> Vec<Point> {
    let seen = &Seen::parse(&session.output);
    let mut points = Vec::new();
    points.extend(host_key(wanted, session));
    points.extend(system::host_name(wanted, seen));
    if let Some(settings) = wanted.settings {
        system::accounts(settings, seen, session, &mut points);
        network::wired(settings, seen, &mut points);
        network::wireless(settings, seen, &mut points);
        system::regional(settings, seen, &mut points);
        points.extend(system::swap(settings, seen));
    }
    system::medium(wanted, seen, &mut points);
    points.extend(Point::noted(Topic::System, seen.system()));
    points.extend(Point::noted(
        Topic::Kernel,
        seen.kernel().map(str::to_owned),
    ));
    points.extend(system::failed_units(seen));
    points.extend(system::first_start(wanted, seen));
    points.push(system::clock(seen, now));
    points
}

fn host_key(wanted: &Wanted<'_>, session: &Session) -> Option<Point> {
    let found = session.host_key.clone();
    match wanted.known_hosts {
        // Nobody would have been logged in with another one.
        Some(line) => {
            let fingerprint = crate::ssh::fingerprint_in(line)?;
            let found = found.or_else(|| Some(fingerprint.clone()));
            let is_met = found.as_ref() == Some(&fingerprint);
            Some(Point::judged(Topic::HostKey, fingerprint, found, is_met))
        }
        None => Point::noted(Topic::HostKey, found),
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use pinewrit_settings::document::NoSecrets;
    use rstest::rstest;

    const NOW: i64 = 1_790_000_000;
    const SETTINGS: &str = r#"
hostname = "larkfell-03"
timezone = "Europe/Vienna"
locale = "de_AT.UTF-8"
keyboard = "de"
swap = "64MiB"
grow-root = true
stock-user = "lock"
[[users]]
name = "warden"
uid = 1500
shell = "/bin/bash"
groups = ["dialout"]
ssh-keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp"]
[ssh]
enabled = true
password-login = false
[wired]
interface = "eth0"
addresses = ["10.77.3.10/24"]
gateway = "10.77.3.1"
dns = ["10.77.3.53"]
mtu = 1400
[wireless]
country = "AT"
[[wireless.networks]]
ssid = "larkfell-valley"
passphrase = "made-up words"
[first-start]
commands = ["true"]
"#;
    const ANSWERS: &str = "@@hostname
larkfell-03
@@passwd
root:x:0:0:root:/root:/bin/bash
warden:x:1500:1500::/home/warden:/bin/bash
hut:x:1000:1000::/home/hut:/bin/bash
@@group
dialout:x:20:warden
@@shadow
hut locked
@@keys warden
read
ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp warden
@@link
2: eth0: <UP> mtu 1400 qdisc fq state UP \\    link/ether 02:00:00:00:00:03 brd ff:ff:ff:ff:ff:ff
@@address
2: eth0    inet 10.77.3.10/24 brd 10.77.3.255 scope global eth0
@@route
default via 10.77.3.1 dev eth0
@@dns
nameserver 10.77.3.53
@@wireless
country AT: DFS-ETSI
\tSSID: larkfell-valley
@@timezone
/usr/share/zoneinfo/Europe/Vienna
@@locale
LANG=de_AT.UTF-8
@@keyboard
XKBLAYOUT=\"de\"
@@swap
Filename Type Size Used Priority
/swapfile file 65532 0 -2
@@root
path ../../devices/mmcblk0/mmcblk0p2
partition 2
start 133120
sectors 15136768
disk 15269888
used /dev/root 7300000 1 2 3% /
@@units
running
@@first-start
failed 0
@@ssh
passwordauthentication no
@@clock
1790000003
@@end
";

    fn compared(answers: &str) -> Vec<Point> {
        let settings = pinewrit_settings::check(SETTINGS, Path::new(""), &NoSecrets).unwrap();
        let wanted = Wanted {
            settings: Some(&settings),
            ..Wanted::default()
        };
        let session = Session {
            output: answers.to_owned(),
            ..Session::default()
        };
        compare(&wanted, &session, NOW)
    }

    fn differing(answers: &str) -> Vec<Topic> {
        let points = compared(answers);
        let differs = points.iter().filter(|point| point.met == Met::No);
        differs.map(|point| point.point).collect()
    }

    #[test]
    fn a_board_that_is_as_it_should_be() {
        let points = compared(ANSWERS);
        assert_eq!(differing(ANSWERS), []);
        let met = points.iter().filter(|point| point.met == Met::Yes);
        assert_eq!(met.count(), 19, "{points:#?}");
    }

    #[rstest]
    #[case("larkfell-03\n", "larkfell-04\n", Topic::HostName)]
    #[case("warden:x:1500", "warden:x:1501", Topic::User)]
    #[case("dialout:x:20:warden", "dialout:x:20:", Topic::User)]
    #[case("warden:x:1500:1500::/home/warden:/bin/bash\n", "", Topic::User)]
    #[case("GGtoNp warden", "GGtoNq warden", Topic::Keys)]
    #[case("hut locked", "hut set", Topic::OtherAccounts)]
    #[case("hut locked", "hut empty", Topic::OtherAccounts)]
    #[case("authentication no", "authentication yes", Topic::PasswordLogin)]
    #[case("inet 10.77.3.10/24", "inet 10.77.3.11/24", Topic::Address)]
    #[case("inet 10.77.3.10/24", "inet 10.77.3.10/16", Topic::Address)]
    #[case("mtu 1400", "mtu 1500", Topic::Mtu)]
    #[case("via 10.77.3.1 ", "via 10.77.3.2 ", Topic::Route)]
    #[case("nameserver 10.77.3.53", "nameserver 10.77.3.54", Topic::NameServers)]
    #[case("country AT", "country 00", Topic::WirelessCountry)]
    #[case("SSID: larkfell-valley", "SSID: other", Topic::WirelessNetwork)]
    #[case("Europe/Vienna", "Etc/UTC", Topic::TimeZone)]
    #[case("LANG=de_AT.UTF-8", "LANG=C.UTF-8", Topic::Locale)]
    #[case("XKBLAYOUT=\"de\"", "XKBLAYOUT=\"us\"", Topic::Keyboard)]
    #[case("/swapfile file 65532 0 -2\n", "", Topic::Swap)]
    #[case("sectors 15136768", "sectors 7000000", Topic::RootSize)]
    #[case("used /dev/root 7300000", "used /dev/root 3300000", Topic::RootSize)]
    #[case(
        "running\n",
        "degraded\nhut.service loaded failed failed\n",
        Topic::FailedUnits
    )]
    #[case("failed 0", "failed 2", Topic::FirstStart)]
    #[case("1790000003", "1790000400", Topic::Clock)]
    fn one_thing_is_wrong(#[case] right: &str, #[case] wrong: &str, #[case] topic: Topic) {
        assert!(ANSWERS.contains(right));
        assert_eq!(differing(&ANSWERS.replacen(right, wrong, 1)), [topic]);
    }

    #[test]
    fn what_a_board_does_not_tell_is_not_called_wrong() {
        let silent = "@@hostname\nlarkfell-03\n@@end\n";
        assert_eq!(differing(silent), []);
        let points = compared(silent);
        let told = points.iter().filter(|point| point.met != Met::NotTold);
        assert_eq!(told.count(), 1, "{points:#?}");
    }
}
