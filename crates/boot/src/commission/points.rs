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
