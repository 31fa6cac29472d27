//! Boards in the network: by multicast DNS, leases, neighbours, recorded addresses, and a bounded look for SSH servers.

mod greeter;
mod leases;
mod mdns;
mod neighbours;

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use ipnet::IpNet;
use pinewrit_core::Cancel;
use schemars::JsonSchema;
use serde::Serialize;

use crate::ssh::{Greeting, PORT, fingerprint_in};
use greeter::{Door, Greeter};
use mdns::Asker;

pub use leases::{Lease, LeasesError, leases};
pub use mdns::SERVICE;

/// How often everything is looked at.
const ROUND: Duration = Duration::from_millis(200);
/// How often files and tables are read again.
const READ_AGAIN: Duration = Duration::from_secs(1);
/// How often the same door is knocked at.
const KNOCK_AGAIN: Duration = Duration::from_secs(3);
/// How long the right one is looked for after another board of its name has answered.
const RIGHT_ONE: Duration = Duration::from_secs(3);
/// The most addresses of a network that is looked through.
const MOST: u32 = 12;

/// A board that is looked for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Target {
    /// Its name, without a domain.
    pub name: String,
    /// Its recorded addresses.
    pub addresses: Vec<IpAddr>,
    /// Its recorded hardware addresses, in small letters with colons.
    pub hardware: Vec<String>,
    /// The line for `known_hosts` with its host key.
    pub known_hosts: Option<String>,
    /// The port of its SSH server.
    pub port: Option<u16>,
}

impl Target {
    /// Fingerprint of the host key that it should have.
    fn fingerprint(&self) -> Option<String> {
        self.known_hosts.as_deref().and_then(fingerprint_in)
    }

    /// Names of hosts have no case (RFC 1035, section 2.3.3).
    fn key(&self) -> String {
        self.name.to_ascii_lowercase()
    }
}

/// What is looked for, and where.
#[derive(Clone, Debug)]
pub struct FindRequest {
    /// The boards.
    pub targets: Vec<Target>,
    /// Files with leases.
    pub leases: Vec<PathBuf>,
    /// A network to look through.
    pub net: Option<IpNet>,
    /// How long.
    pub wait: Duration,
    /// Whether only this computer is asked: boards of a rack are in here.
    pub is_loopback: bool,
    /// Whether it is over as soon as one of them is found.
    pub is_one_enough: bool,
    /// The time here, in seconds since 1970.
    pub now: fn() -> i64,
}

/// How a board was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// It answers to its name by multicast DNS.
    MulticastDns,
    /// A DHCP server has given it an address.
    Lease,
    /// The kernel knows its hardware address.
    Neighbour,
    /// By its recorded address.
    Record,
    /// By its host key, in a network that was looked through.
    HostKey,
}

/// Whether a host key is the recorded one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KeyVerdict {
    /// It is.
    Matches,
    /// It is another one.
    Differs,
    /// None is recorded, or no SSH server answers.
    #[default]
    Unknown,
}

/// A board, as far as it was found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Found {
    /// Its name.
    pub name: String,
    /// Its addresses.
    #[schemars(with = "Vec<String>")]
    pub addresses: BTreeSet<IpAddr>,
    /// The address at which it answers.
    #[schemars(with = "Option<String>")]
    pub answers_at: Option<IpAddr>,
    /// The port of its SSH server.
    pub port: Option<u16>,
    /// How it was found.
    pub by: BTreeSet<Way>,
    /// Its hardware address.
    pub hardware: Option<String>,
    /// What its SSH server calls itself.
    pub banner: Option<String>,
    /// Fingerprint of its host key.
    pub fingerprint: Option<String>,
    /// Whether that is the recorded one.
    pub host_key: KeyVerdict,
    /// When it asked for an address, in seconds since 1970.
    pub asked: Option<i64>,
}

impl Found {
    /// Whether it is in the network now: a lease alone says only that it was.
    pub fn is_there(&self) -> bool {
        self.answers_at.is_some() || self.by.contains(&Way::MulticastDns)
    }

    /// Whether nothing more is to be found out. Behind another key may be another board of that
    /// name, or one that has its recorded address.
    fn is_complete(&self) -> bool {
        let is_known = self.answers_at.is_some() && self.fingerprint.is_some();
        is_known && self.host_key != KeyVerdict::Differs
    }
}

/// What happens while boards are looked for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "news")]
pub enum News {
    /// A board asked for an address.
    Asked {
        /// Its name.
        name: String,
        /// How long ago, in seconds.
        seconds: i64,
    },
    /// A board has an address, and its SSH server does not answer yet.
    NoSsh {
        /// Its name.
        name: String,
        /// The address.
        address: String,
    },
    /// A board answers.
    Answers {
        /// Its name.
        name: String,
        /// The address.
        address: String,
    },
}

/// Why nobody can be looked for.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// A file of leases cannot be used.
    #[error(transparent)]
    Leases(#[from] LeasesError),
    /// A network is not one's own.
    #[error("{0} is not a private network")]
    NotPrivate(IpNet),
    /// A network is too large to be looked through.
    #[error("{net} has too many addresses to be looked through")]
    TooLarge {
        /// The network.
        net: IpNet,
        /// The most bits for hosts.
        bits: u32,
    },
}

/// Looks for boards until all are found, or the time is over. `tell` hears of news.
///
/// # Errors
/// [`FindError`].
pub fn find(
    request: &FindRequest,
    tell: &mut dyn FnMut(&News),
    cancel: &Cancel,
) -> Result<Vec<Found>, FindError> {
    if let Some(net) = request.net {
        allowed(net)?;
    }
    let mut search = Search::new(request)?;
    let begun = Instant::now();
    loop {
        search.round(tell)?;
        let is_late = begun.elapsed() >= request.wait;
        if search.is_complete() || is_late || cancel.is_cancelled() {
            break;
        }
        std::thread::sleep(ROUND);
    }
    // Who was connected to is a neighbour now.
    search.read_neighbours();
    Ok(search.found.into_values().collect())
}

/// Only small networks of one's own are looked through (RFC 1918, RFC 3927, RFC 4193, RFC 6598).
fn allowed(net: IpNet) -> Result<(), FindError> {
    let is_private = match net {
        IpNet::V4(net) => {
            let address = net.network();
            let [first, second, ..] = address.octets();
            address.is_private()
                || address.is_link_local()
                || address.is_loopback()
                || first == 100 && second & 0xc0 == 64
        }
        IpNet::V6(net) => {
            let address = net.network();
            address.is_unique_local() || address.is_unicast_link_local() || address.is_loopback()
        }
    };
    if !is_private {
        return Err(FindError::NotPrivate(net));
    }
    let bits = u32::from(net.max_prefix_len() - net.prefix_len());
    match bits > MOST {
        true => Err(FindError::TooLarge { net, bits: MOST }),
        false => Ok(()),
    }
}

struct Search<'r> {
    request: &'r FindRequest,
    found: BTreeMap<String, Found>,
    asker: Option<Asker>,
    greeter: Greeter,
    /// Where each board may be, by its name. Two boards of one name are told apart by their keys.
    doors: BTreeMap<String, BTreeSet<Door>>,
    /// When somebody knocked at which door.
    knocked: BTreeMap<Door, Instant>,
    /// The rest of the network that is looked through: each address, at the ports of those who are missing.
    net: Option<Box<dyn Iterator<Item = Door>>>,
    /// Doors of that network.
    of_net: BTreeSet<Door>,
    read: Option<Instant>,
    /// When a board of this name with another key answered first.
    strange: BTreeMap<String, Instant>,
    told: BTreeSet<(String, &'static str)>,
}

impl<'r> Search<'r> {
    fn new(request: &'r FindRequest) -> Result<Self, FindError> {
        // Without multicast the other ways are left.
        let mut asker = Asker::new(request.is_loopback).ok();
        let mut found = BTreeMap::new();
        for target in &request.targets {
            if let Some(asker) = &mut asker {
                asker.ask(&target.name);
            }
            let one = Found {
                name: target.name.clone(),
                ..Found::default()
            };
            found.insert(target.key(), one);
        }
        let ports: BTreeSet<u16> = request
            .targets
            .iter()
            .map(|target| target.port.unwrap_or(PORT))
            .collect();
        let net = request.net.map(|net| -> Box<dyn Iterator<Item = Door>> {
            let of_address = move |address| {
                ports
                    .clone()
                    .into_iter()
                    .map(move |port| Door { address, port })
            };
            Box::new(net.hosts().flat_map(of_address))
        });
        Ok(Self {
            request,
            found,
            asker,
            greeter: Greeter::new(),
            doors: BTreeMap::new(),
            knocked: BTreeMap::new(),
            net,
            of_net: BTreeSet::new(),
            read: None,
            strange: BTreeMap::new(),
            told: BTreeSet::new(),
        })
    }

    fn is_complete(&self) -> bool {
        let is_over = |found: &Found| {
            let since = self.strange.get(&found.name.to_ascii_lowercase());
            let is_named = found.by.iter().any(|way| *way != Way::Record);
            let is_strange = is_named && since.is_some_and(|since| since.elapsed() >= RIGHT_ONE);
            found.is_complete() || is_strange
        };
        let mut all = self.found.values();
        match self.request.is_one_enough {
            true => all.any(is_over),
            false => all.all(is_over),
        }
    }

    fn round(&mut self, tell: &mut dyn FnMut(&News)) -> Result<(), FindError> {
        self.hear_names();
        if self.read.is_none_or(|read| read.elapsed() >= READ_AGAIN) {
            self.read = Some(Instant::now());
            self.read_leases(tell)?;
            self.read_neighbours();
        }
        self.knock();
        self.look_through();
        for (door, greeted) in self.greeter.heard() {
            self.greeted(door, greeted, tell);
        }
        Ok(())
    }

    fn hear_names(&mut self) {
        let answers = self.asker.as_ref().map(Asker::answers).unwrap_or_default();
        for answer in answers {
            let first = answer.name.split('.').next().unwrap_or(&answer.name);
            let Some(found) = self.found.get_mut(first) else {
                continue;
            };
            found.addresses.insert(answer.address);
            found.by.insert(Way::MulticastDns);
            if let Some(port) = answer.port {
                let door = Door {
                    address: answer.address,
                    port,
                };
                self.doors.entry(first.to_owned()).or_default().insert(door);
            }
        }
    }

    fn read_leases(&mut self, tell: &mut dyn FnMut(&News)) -> Result<(), FindError> {
        let now = (self.request.now)();
        for path in &self.request.leases {
            for lease in leases(path)? {
                if lease.ends.is_some_and(|ends| ends < now) {
                    continue;
                }
                let Some(name) = self.whose(&lease) else {
                    continue;
                };
                let Some(found) = self.found.get_mut(&name) else {
                    continue;
                };
                found.addresses.insert(lease.address);
                found.by.insert(Way::Lease);
                found.hardware = lease.hardware.or(found.hardware.take());
                if let Some(asked) = lease.asked
                    && found.asked.is_none_or(|before| asked > before)
                {
                    found.asked = Some(asked);
                    tell(&News::Asked {
                        name: found.name.clone(),
                        seconds: now.saturating_sub(asked),
                    });
                }
            }
        }
        Ok(())
    }

    /// The board that has a lease.
    fn whose(&self, lease: &Lease) -> Option<String> {
        let name = lease
            .name
            .as_deref()
            .and_then(|name| name.split('.').next());
        let is_its = |target: &&Target| {
            name.is_some_and(|name| name.eq_ignore_ascii_case(&target.name))
                || lease
                    .hardware
                    .as_ref()
                    .is_some_and(|one| target.hardware.contains(one))
        };
        let target = self.request.targets.iter().find(is_its)?;
        Some(target.key())
    }

    fn read_neighbours(&mut self) {
        if self.request.is_loopback {
            return;
        }
        for neighbour in neighbours::neighbours().unwrap_or_default() {
            for target in &self.request.targets {
                let key = target.key();
                let Some(found) = self.found.get_mut(&key) else {
                    continue;
                };
                if target.hardware.contains(&neighbour.hardware) {
                    found.addresses.insert(neighbour.address);
                    found.by.insert(Way::Neighbour);
                }
                if found.addresses.contains(&neighbour.address) {
                    found.hardware = Some(neighbour.hardware.clone());
                }
            }
        }
    }

    /// Where a board may be: at what it announces, else at the recorded or the usual port.
    fn doors_of(&self, target: &Target) -> BTreeSet<Door> {
        let key = target.key();
        let mut doors = self.doors.get(&key).cloned().unwrap_or_default();
        let found = self.found.get(&key).map(|found| &found.addresses);
        let port = target.port.unwrap_or(PORT);
        for address in found.into_iter().flatten().chain(&target.addresses) {
            if !doors.iter().any(|door| door.address == *address) {
                doors.insert(Door {
                    address: *address,
                    port,
                });
            }
        }
        doors
    }

    /// Knocks where boards may be.
    fn knock(&mut self) {
        let is_missing = |target: &&Target| {
            let found = self.found.get(&target.key());
            found.is_some_and(|found| !found.is_complete())
        };
        let missing = self.request.targets.iter().filter(is_missing);
        let doors: Vec<Door> = missing.flat_map(|target| self.doors_of(target)).collect();
        for door in doors {
            let is_allowed = !self.request.is_loopback || door.address.is_loopback();
            let is_due = self
                .knocked
                .get(&door)
                .is_none_or(|at| at.elapsed() >= KNOCK_AGAIN);
            if is_allowed && is_due {
                self.knocked.insert(door, Instant::now());
                self.greeter.greet(door);
            }
        }
    }

    /// Knocks at the next doors of the network, not at many at once.
    fn look_through(&mut self) {
        let Some(net) = &mut self.net else { return };
        for _ in 0..greeter::A_ROUND {
            let Some(door) = net.next() else {
                self.net = None;
                return;
            };
            self.of_net.insert(door);
            if self.knocked.insert(door, Instant::now()).is_none() {
                self.greeter.greet(door);
            }
        }
    }

    fn greeted(&mut self, door: Door, greeted: Option<Greeting>, tell: &mut dyn FnMut(&News)) {
        let request = self.request;
        for target in &request.targets {
            let Some(found) = self.found.get(&target.key()) else {
                continue;
            };
            let wanted = target.fingerprint();
            let seen = greeted
                .as_ref()
                .and_then(|greeting| greeting.host_key.as_ref());
            let has_key = wanted.is_some() && wanted.as_ref() == seen;
            let is_its = self.doors_of(target).contains(&door);
            let way = match is_its {
                true if found.addresses.contains(&door.address) => None,
                true => Some(Way::Record),
                false if has_key && self.of_net.contains(&door) => Some(Way::HostKey),
                false => continue,
            };
            self.take(target, door, way, greeted.as_ref(), tell);
        }
    }

    fn take(
        &mut self,
        target: &Target,
        door: Door,
        way: Option<Way>,
        greeted: Option<&Greeting>,
        tell: &mut dyn FnMut(&News),
    ) {
        let key = target.key();
        let Some(found) = self.found.get_mut(&key) else {
            return;
        };
        let name = found.name.clone();
        let address = door.address.to_string();
        let Some(greeting) = greeted else {
            if found.by.contains(&Way::MulticastDns) && self.told.insert((name.clone(), "no ssh")) {
                tell(&News::NoSsh { name, address });
            }
            return;
        };
        let verdict = match (target.fingerprint(), &greeting.host_key) {
            (Some(wanted), Some(seen)) if wanted == *seen => KeyVerdict::Matches,
            (Some(_), Some(_)) => KeyVerdict::Differs,
            _ => KeyVerdict::Unknown,
        };
        // The right one is not given up for another one at a second address.
        if found.host_key == KeyVerdict::Matches && verdict != KeyVerdict::Matches {
            return;
        }
        if verdict == KeyVerdict::Differs {
            self.strange.entry(key).or_insert_with(Instant::now);
        }
        found.addresses.insert(door.address);
        found.by.extend(way);
        found.answers_at = Some(door.address);
        found.port = Some(door.port);
        found.banner = Some(greeting.banner.clone());
        found.fingerprint.clone_from(&greeting.host_key);
        found.host_key = verdict;
        if self.told.insert((name.clone(), "answers")) {
            tell(&News::Answers { name, address });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("10.77.0.0/20", None)]
    #[case("100.64.0.0/24", None)]
    #[case("fd00:77::/120", None)]
    #[case(
        "10.77.0.0/19",
        Some("10.77.0.0/19 has too many addresses to be looked through")
    )]
    #[case("203.0.113.0/24", Some("203.0.113.0/24 is not a private network"))]
    #[case(
        "fd00:77::/64",
        Some("fd00:77::/64 has too many addresses to be looked through")
    )]
    #[case("2001:db8::/120", Some("2001:db8::/120 is not a private network"))]
    fn networks_that_are_looked_through(#[case] net: &str, #[case] expected: Option<&str>) {
        let found = allowed(net.parse().unwrap())
            .err()
            .map(|error| error.to_string());
        assert_eq!(found.as_deref(), expected);
    }
}
