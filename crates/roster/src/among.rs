//! Mistakes between units: names and addresses that are there twice, or outside their network.

use std::collections::HashMap;
use std::net::IpAddr;

use ipnet::IpNet;

use crate::{AddressRange, Place, RosterMistake, Unit};

/// The network in which all units are.
#[derive(Clone, Debug, Default)]
pub(crate) struct CommonNetwork {
    /// All fixed addresses are in one of these; any if there are none.
    pub(crate) ranges: Vec<IpNet>,
    /// Addresses that a DHCP server gives out.
    pub(crate) pools: Vec<AddressRange>,
    /// Addresses of other devices.
    pub(crate) reserved: Vec<IpAddr>,
}

/// What is unique, and who has it.
#[derive(Default)]
struct Owners<'u> {
    known: HashMap<String, &'u Unit>,
}

impl<'u> Owners<'u> {
    /// The unit that already has it.
    fn claim(&mut self, key: String, unit: &'u Unit) -> Option<&'u Unit> {
        match self.known.get(&key) {
            Some(other) => Some(other),
            None => {
                self.known.insert(key, unit);
                None
            }
        }
    }
}

/// All mistakes between units. `place_of` tells where a setting of a unit was given.
pub(crate) fn check(
    units: &[Unit],
    network: &CommonNetwork,
    place_of: &dyn Fn(&Unit, &str) -> Place,
) -> Vec<RosterMistake> {
    let mut mistakes = Vec::new();
    let (mut names, mut hosts) = (Owners::default(), Owners::default());
    let (mut addresses, mut cards) = (Owners::default(), Owners::default());
    for unit in units {
        let mut add = |place: Place, what: String, remedy: &str| {
            mistakes.push(RosterMistake {
                place,
                what,
                remedy: remedy.to_owned(),
            });
        };
        if let Some(other) = names.claim(unit.name.to_lowercase(), unit) {
            let what = format!("a unit {} is already at {}", other.name, other.place);
            add(unit.place.clone(), what, "each unit has a name of its own");
        }
        let host = unit.host_name().map(str::to_lowercase);
        if let Some(other) = host.clone().and_then(|host| hosts.claim(host, unit)) {
            let host = host.unwrap_or_default();
            let what = format!("{}: the host name {host} is {}'s", unit.name, other.name);
            let remedy = "hostname = \"{unit}\" under [each] gives each unit its own";
            add(place_of(unit, "hostname"), what, remedy);
        }
        for net in unit.addresses() {
            let place = || place_of(unit, "wired");
            let address = net.addr();
            if let Some(other) = addresses.claim(address.to_string(), unit) {
                let what = format!("{}: the address {address} is {}'s", unit.name, other.name);
                add(
                    place(),
                    what,
                    "each address once; {n} or {address} counts them",
                );
            }
            for (what, remedy) in outside(unit, address, network) {
                add(place(), what, remedy);
            }
        }
        let wired = unit.settings.iter().flat_map(|settings| &settings.wired);
        for mac in wired.filter_map(|wired| wired.mac) {
            if let Some(other) = cards.claim(mac.to_string(), unit) {
                let what = format!(
                    "{}: the hardware address {mac} is {}'s",
                    unit.name, other.name
                );
                add(place_of(unit, "wired"), what, "each hardware address once");
            }
        }
    }
    let gateways: HashMap<IpAddr, &Unit> = gateways(units);
    for unit in units {
        for address in unit.addresses().iter().map(IpNet::addr) {
            if let Some(other) = gateways
                .get(&address)
                .filter(|other| other.name != unit.name)
            {
                mistakes.push(RosterMistake {
                    place: place_of(unit, "wired"),
                    what: format!("{}: {address} is the gateway of {}", unit.name, other.name),
                    remedy: "an address that is free".to_owned(),
                });
            }
        }
    }
    mistakes
}

fn gateways(units: &[Unit]) -> HashMap<IpAddr, &Unit> {
    let mut gateways = HashMap::new();
    for unit in units {
        let wired = unit.settings.iter().flat_map(|settings| &settings.wired);
        for gateway in wired.flat_map(|wired| &wired.gateways) {
            gateways.entry(*gateway).or_insert(unit);
        }
    }
    gateways
}

/// What speaks against an address in the common network.
fn outside(unit: &Unit, address: IpAddr, network: &CommonNetwork) -> Vec<(String, &'static str)> {
    let mut found = Vec::new();
    let same_kind = |net: &&IpNet| net.addr().is_ipv4() == address.is_ipv4();
    let mut ranges = network.ranges.iter().filter(same_kind).peekable();
    if ranges.peek().is_some() && !ranges.any(|range| range.contains(&address)) {
        let all: Vec<String> = network.ranges.iter().map(ToString::to_string).collect();
        let what = format!("{}: {address} is outside {}", unit.name, all.join(" and "));
        found.push((what, "an address inside, or another range under [network]"));
    }
    if let Some(pool) = network.pools.iter().find(|pool| pool.contains(address)) {
        let what = format!("{}: {address} is in the DHCP pool, {pool}", unit.name);
        found.push((what, "an address that the DHCP server does not give out"));
    }
    if network.reserved.contains(&address) {
        let what = format!("{}: {address} is reserved", unit.name);
        found.push((what, "an address that is free"));
    }
    found
}
