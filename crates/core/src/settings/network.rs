//! Wired and wireless networks.

use std::net::IpAddr;

use hmac::Hmac;
use ipnet::IpNet;
use sha1::Sha1;

use super::document::{At, Document, Fields, Wrong};
use super::nets;
use super::password::{self, Secret, SecretField};
use super::regional::{country, quoted};

/// A wired network interface.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wired {
    /// The interface; `None` for whichever is there.
    pub interface: Option<String>,
    /// Number of the VLAN on it (IEEE 802.1Q), from 1 to 4094.
    pub vlan: Option<u16>,
    /// Fixed addresses with their prefixes; empty for DHCP.
    pub addresses: Vec<IpNet>,
    /// Where everything else goes, of each family one at most.
    pub gateways: Vec<IpAddr>,
    /// Where some networks are reached.
    pub routes: Vec<RouteTo>,
    /// Name servers.
    pub dns: Vec<IpAddr>,
    /// Domains in which short names are looked for.
    pub search: Vec<String>,
}

/// A network that is reached by a router.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RouteTo {
    /// The network.
    pub to: IpNet,
    /// The router.
    pub via: IpAddr,
}

impl Wired {
    /// Whether addresses are asked for by DHCP.
    pub fn is_dhcp(&self) -> bool {
        self.addresses.is_empty()
    }

    /// The interface's name: that of its VLAN, if it is one.
    pub fn name(&self) -> Option<String> {
        let interface = self.interface.as_ref()?;
        Some(match self.vlan {
            Some(vlan) => format!("{interface}.{vlan}"),
            None => interface.clone(),
        })
    }

    /// All routes, the default ones as `0.0.0.0/0` and `::/0`.
    pub fn all_routes(&self) -> Vec<RouteTo> {
        let default = |gateway: &IpAddr| RouteTo {
            to: match gateway {
                IpAddr::V4(_) => IpNet::V4(ipnet::Ipv4Net::default()),
                IpAddr::V6(_) => IpNet::V6(ipnet::Ipv6Net::default()),
            },
            via: *gateway,
        };
        let gateways = self.gateways.iter().map(default);
        gateways.chain(self.routes.iter().cloned()).collect()
    }
}

/// Wireless networks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wireless {
    /// The interface, usually `wlan0`.
    pub interface: String,
    /// Country, ISO 3166: without it the radio stays off.
    pub country: String,
    /// The networks to join.
    pub networks: Vec<WirelessNetwork>,
}

/// One wireless network.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WirelessNetwork {
    /// Its name, 1 to 32 bytes.
    pub ssid: String,
    /// Whether it does not tell its name.
    pub hidden: bool,
    /// How joining is secured.
    pub security: Security,
    /// Higher ones are joined first.
    pub priority: Option<i32>,
    /// Its key.
    pub key: WirelessKey,
}

/// How joining a wireless network is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Security {
    /// WPA2, with a key that is derived from the passphrase.
    #[default]
    Wpa2,
    /// WPA3, which needs the passphrase itself.
    Wpa3,
}

/// The key of a wireless network.
#[derive(Clone, PartialEq, Eq)]
pub enum WirelessKey {
    /// The key derived from passphrase and network name, 64 hexadecimal digits.
    Derived(Secret),
    /// The passphrase itself, for WPA3.
    Plain(Secret),
    /// To be asked for once all else is checked; holds the line of the wish.
    Ask(usize),
}

impl std::fmt::Debug for WirelessKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("WirelessKey(hidden)")
    }
}

const WIRED: &[&str] = &[
    "interface",
    "vlan",
    "dhcp",
    "addresses",
    "gateway",
    "routes",
    "dns",
    "search",
];
const WIRELESS: &[&str] = &["interface", "country", "networks"];
const NETWORK: &[&str] = &[
    "ssid",
    "passphrase",
    "passphrase-env",
    "passphrase-file",
    "passphrase-prompt",
    "hidden",
    "security",
    "priority",
];

pub(super) fn read_wired(document: &Document<'_>, top: &Fields<'_, '_>) -> Vec<Wired> {
    let tables = top.one_or_more("wired", WIRED);
    let mut all = Vec::new();
    for fields in &tables {
        let wired = read_interface(document, fields);
        if tables.len() > 1 && wired.interface.is_none() && !fields.has("interface") {
            document.mistake(
                fields.line(),
                "one of several wired interfaces without its name",
                "interface = \"eth1\"",
            );
        }
        all.push((fields.line(), wired));
    }
    compare_interfaces(document, &all);
    warn_without_gateway(document, &all);
    all.into_iter().map(|(_, wired)| wired).collect()
}

fn read_interface(document: &Document<'_>, fields: &Fields<'_, '_>) -> Wired {
    let dhcp = fields.boolean("dhcp").map(|at| at.value);
    let mut addresses = Vec::new();
    for at in fields.strings("addresses") {
        let Some(net) = document.accept(at.line, address(&at.value)) else {
            continue;
        };
        refuse_unusable(document, &net, at.line);
        for note in nets::doubts(net, &[]) {
            document.warn(at.line, note.what, note.remedy);
        }
        addresses.push(net);
    }
    let asked_for_addresses = fields.has("addresses");
    if dhcp == Some(true) && asked_for_addresses {
        document.mistake(
            fields.line(),
            "[wired] asks for DHCP and for fixed addresses",
            "keep one of dhcp and addresses",
        );
    }
    if dhcp == Some(false) && !asked_for_addresses {
        document.mistake(
            fields.line(),
            "[wired] has neither DHCP nor an address",
            "add addresses = [\"10.77.3.10/24\"], or leave dhcp out",
        );
    }
    let gateways = read_gateways(document, fields, &addresses);
    let dns = fields.strings("dns").into_iter();
    let dns = dns
        .filter_map(|at| document.accept(at.line, ip(&at.value, "name server")))
        .collect();
    let routes = fields.strings("routes").into_iter();
    let routes = routes
        .filter_map(|at| document.accept(at.line, route(&at.value)))
        .collect();
    let search = fields.strings("search").into_iter();
    let search = search
        .filter_map(|at| document.accept(at.line, super::extras::time_server(&at.value)))
        .collect();
    let vlan = fields.number("vlan", 1..=4094);
    if vlan.is_some() && !fields.has("interface") {
        document.mistake(
            fields.line(),
            "a VLAN without the interface that it is on",
            "interface = \"eth0\"",
        );
    }
    Wired {
        interface: fields.checked("interface", interface),
        vlan: vlan.and_then(|vlan| u16::try_from(vlan).ok()),
        addresses,
        gateways,
        routes,
        dns,
        search,
    }
}

/// One way out is enough for all interfaces; none at all has surprised people.
fn warn_without_gateway(document: &Document<'_>, all: &[(usize, Wired)]) {
    let leads_out = |(_, wired): &(usize, Wired)| wired.is_dhcp() || !wired.gateways.is_empty();
    let is_fixed = |(_, wired): &&(usize, Wired)| !wired.addresses.is_empty();
    let first = all.iter().find(is_fixed);
    if let Some((line, _)) = first.filter(|_| !all.iter().any(leads_out)) {
        document.warn(
            *line,
            "a fixed address without a gateway reaches its own network only",
            "add gateway = \"…\" if it should reach more",
        );
    }
}

/// What two interfaces of a unit must not have in common.
fn compare_interfaces(document: &Document<'_>, all: &[(usize, Wired)]) {
    let mut seen: Vec<IpNet> = Vec::new();
    let mut names = Vec::new();
    for (line, wired) in all {
        if let Some(name) = wired.name() {
            if names.contains(&name) {
                let what = format!("the interface {name} is there twice");
                document.mistake(
                    *line,
                    what,
                    "one [[wired]] for each, with all of its addresses",
                );
            }
            names.push(name);
        }
        for net in &wired.addresses {
            if let Some(same) = seen.iter().find(|other| other.addr() == net.addr()) {
                let what = format!("the address {} is there twice", same.addr());
                document.mistake(*line, what, "each interface has its own");
            } else if let Some(other) = seen.iter().find(|other| nets::overlap(other, net)) {
                let what = format!("the networks {} and {} overlap", other.trunc(), net.trunc());
                document.mistake(
                    *line,
                    what,
                    "networks apart from each other, one an interface",
                );
            }
        }
        seen.extend(&wired.addresses);
    }
    let v4: Vec<u8> = seen
        .iter()
        .filter(|net| net.addr().is_ipv4())
        .map(IpNet::prefix_len)
        .collect();
    for (line, wired) in all {
        for net in wired.addresses.iter().filter(|net| net.addr().is_ipv4()) {
            let alike = v4
                .iter()
                .filter(|other| **other == net.prefix_len())
                .count();
            if alike == 1 && v4.len() > 2 {
                document.warn(
                    *line,
                    format!("/{} stands alone among other prefixes", net.prefix_len()),
                    "check that it is no slip",
                );
            }
        }
    }
}

fn route(text: &str) -> Result<RouteTo, Wrong> {
    let wrong = || {
        Wrong::new(
            format!("{} is no route", quoted(text)),
            "as in \"10.78.0.0/16 via 10.77.3.2\"",
        )
    };
    let (to, via) = text.split_once(" via ").ok_or_else(wrong)?;
    let to: IpNet = to.trim().parse().map_err(|_| wrong())?;
    let via: IpAddr = via.trim().parse().map_err(|_| wrong())?;
    match to.addr().is_ipv4() == via.is_ipv4() && to == to.trunc() {
        true => Ok(RouteTo { to, via }),
        false => Err(wrong()),
    }
}

fn read_gateways(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    addresses: &[IpNet],
) -> Vec<IpAddr> {
    let mut given = fields.string_or_strings("gateway");
    if given.len() > 2 {
        given.truncate(2);
        let what = "more than two gateways";
        document.mistake(fields.line(), what, "one for IPv4 and one for IPv6");
    }
    let mut gateways: Vec<IpAddr> = Vec::new();
    for at in given {
        let Some(gateway) = document.accept(at.line, ip(&at.value, "gateway")) else {
            continue;
        };
        if gateways
            .iter()
            .any(|other| other.is_ipv4() == gateway.is_ipv4())
        {
            let what = "two gateways of one kind";
            document.mistake(at.line, what, "one for IPv4 and one for IPv6");
        }
        check_gateway(document, fields, addresses, gateway, at.line);
        gateways.push(gateway);
    }
    gateways
}

fn check_gateway(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    addresses: &[IpNet],
    gateway: IpAddr,
    line: usize,
) {
    if addresses.is_empty() {
        if !fields.has("addresses") {
            document.mistake(
                line,
                "a gateway without a fixed address",
                "with DHCP the gateway comes by itself; leave it out, or add addresses",
            );
        }
    } else if addresses.iter().any(|net| net.addr() == gateway) {
        document.mistake(
            line,
            format!("the gateway {gateway} is the unit's own address"),
            "the gateway is the router's address",
        );
    } else if !addresses.iter().any(|net| net.contains(&gateway)) && !nets::is_link_local(gateway) {
        let nets: Vec<_> = addresses
            .iter()
            .map(|net| net.trunc().to_string())
            .collect();
        document.mistake(
            line,
            format!("the gateway {gateway} is outside of {}", nets.join(" and ")),
            "it must be an address of the unit's own network",
        );
    }
}

fn address(text: &str) -> Result<IpNet, Wrong> {
    let wrong = |remedy: &str| {
        Err(Wrong::new(
            format!("{} is not an address with its prefix", quoted(text)),
            remedy,
        ))
    };
    let Some((addr, prefix)) = text.split_once('/') else {
        return match text.parse::<IpAddr>() {
            Ok(addr) => wrong(&format!("add the prefix, as in \"{addr}/24\"")),
            Err(_) => wrong("as in \"10.77.3.10/24\""),
        };
    };
    match (addr.parse::<IpAddr>(), prefix.parse::<u8>()) {
        (Err(_), _) => wrong("an IPv4 address is four numbers from 0 to 255"),
        (Ok(addr), Ok(prefix)) => IpNet::new(addr, prefix).or_else(|_| {
            let most = if addr.is_ipv4() { 32 } else { 128 };
            wrong(&format!("the prefix is a number from 1 to {most}"))
        }),
        (Ok(addr), Err(_)) => wrong(&format!(
            "the prefix is a number, as in \"{addr}/24\" for 255.255.255.0"
        )),
    }
}

/// Addresses that are legal in form, but that no unit can have.
fn refuse_unusable(document: &Document<'_>, net: &IpNet, line: usize) {
    let IpNet::V4(v4) = net else { return };
    if v4.prefix_len() >= 31 {
        return;
    }
    let role = if v4.addr() == v4.network() {
        "network"
    } else if v4.addr() == v4.broadcast() {
        "broadcast"
    } else {
        return;
    };
    let hosts = v4.hosts();
    let first = hosts.into_iter().next().unwrap_or(v4.addr());
    document.mistake(
        line,
        format!("{} is the {role} address of {}", v4.addr(), v4.trunc()),
        format!("the first usable one is {first}"),
    );
}

fn ip(text: &str, role: &str) -> Result<IpAddr, Wrong> {
    text.parse().map_err(|_| {
        Wrong::new(
            format!("{} is not the address of a {role}", quoted(text)),
            "an address without a prefix, as in \"10.77.3.1\"",
        )
    })
}

/// The kernel takes up to 15 bytes without blanks and slashes.
fn interface(name: &str) -> Result<String, Wrong> {
    let fits = (1..=15).contains(&name.len())
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b));
    match fits {
        true => Ok(name.to_owned()),
        false => Err(Wrong::new(
            format!("{} is not the name of an interface", quoted(name)),
            "as in \"eth0\" or \"wlan0\"",
        )),
    }
}

pub(super) fn read_wireless(document: &Document<'_>, top: &Fields<'_, '_>) -> Option<Wireless> {
    let fields = top.table("wireless", WIRELESS)?;
    if !fields.has("country") {
        document.mistake(
            fields.line(),
            "[wireless] has no country, so the radio would stay off",
            "add country = \"AT\" with the two letters of where the unit stands",
        );
    }
    let country = fields.checked("country", country);
    let networks = fields.tables("networks", "wireless.networks", NETWORK);
    if networks.is_empty() && !fields.has("networks") {
        document.mistake(
            fields.line(),
            "[wireless] has no network",
            "add [[wireless.networks]] with ssid and passphrase-env",
        );
    }
    let interface = match fields.has("interface") {
        true => fields.checked("interface", interface),
        false => Some("wlan0".to_owned()),
    };
    let networks = networks
        .iter()
        .filter_map(|fields| read_network(document, fields))
        .collect();
    Some(Wireless {
        interface: interface?,
        country: country?,
        networks,
    })
}

fn read_network(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<WirelessNetwork> {
    if !fields.has("ssid") {
        document.mistake(
            fields.line(),
            "a wireless network without a name",
            "add ssid = \"…\"",
        );
    }
    let ssid = fields.checked("ssid", ssid);
    let secret = match fields.string("passphrase") {
        Some(At { value, line }) => Some(SecretField::Text(At {
            value: Secret::new(value),
            line,
        })),
        None => password::read_secret(document, fields, "passphrase"),
    };
    if !NETWORK[1..5].iter().any(|key| fields.has(key)) {
        document.mistake(
            fields.line(),
            "a wireless network without a passphrase",
            "add passphrase-env, passphrase-file, passphrase-prompt or passphrase",
        );
    }
    let hidden = fields.boolean("hidden").is_some_and(|at| at.value);
    let security = fields.checked("security", security).unwrap_or_default();
    let priority = fields.number("priority", 0..=999);
    let key = match secret? {
        SecretField::Ask(line) => WirelessKey::Ask(line),
        SecretField::Text(secret) => {
            let ssid = ssid.as_deref().unwrap_or("unknown");
            let key = key_of(&secret.value, ssid, security);
            document.accept(secret.line, key)?
        }
    };
    Some(WirelessNetwork {
        ssid: ssid?,
        hidden,
        security,
        priority: priority.and_then(|priority| i32::try_from(priority).ok()),
        key,
    })
}

/// Asks for the passphrases that a person is to type.
pub(super) fn ask_passphrases(document: &Document<'_>, wireless: Option<&mut Wireless>) {
    let networks = wireless.map(|wireless| &mut wireless.networks);
    for network in networks.into_iter().flatten() {
        let WirelessKey::Ask(line) = network.key else {
            continue;
        };
        let what = format!("passphrase of the network {}", quoted(&network.ssid));
        if let Some(secret) = password::ask(document, line, &what) {
            let key = key_of(&secret, &network.ssid, network.security);
            if let Some(key) = document.accept(line, key) {
                network.key = key;
            }
        }
    }
}

fn ssid(name: &str) -> Result<String, Wrong> {
    match name.len() {
        1..=32 if !name.chars().any(char::is_control) => Ok(name.to_owned()),
        1..=32 => Err(Wrong::new(
            "the network's name holds control characters",
            "type it as the router shows it",
        )),
        length => Err(Wrong::new(
            format!("the network's name has {length} bytes"),
            "1 to 32 are allowed",
        )),
    }
}

fn security(text: &str) -> Result<Security, Wrong> {
    match text {
        "wpa2" => Ok(Security::Wpa2),
        "wpa3" => Ok(Security::Wpa3),
        _ => Err(Wrong::new(
            format!("{} is no way to secure a network", quoted(text)),
            "\"wpa2\" or \"wpa3\"",
        )),
    }
}

/// The key in the form that the network's kind needs. A passphrase is checked in either case.
fn key_of(passphrase: &Secret, ssid: &str, security: Security) -> Result<WirelessKey, Wrong> {
    let derived = derive_key(passphrase.reveal(), ssid)?;
    match security {
        Security::Wpa2 => Ok(WirelessKey::Derived(derived)),
        Security::Wpa3 if passphrase.reveal().len() == 64 => Err(Wrong::new(
            "WPA3 needs the passphrase, not a key that was derived from it",
            "the passphrase as the router has it",
        )),
        Security::Wpa3 => Ok(WirelessKey::Plain(passphrase.clone())),
    }
}

/// The key of WPA2: PBKDF2 with HMAC-SHA-1, 4096 rounds, over passphrase and network name
/// (IEEE 802.11-2020, annex J.4). 64 hexadecimal digits are a key already.
fn derive_key(passphrase: &str, ssid: &str) -> Result<Secret, Wrong> {
    let is_key = passphrase.len() == 64 && passphrase.bytes().all(|b| b.is_ascii_hexdigit());
    if is_key {
        return Ok(Secret::new(passphrase.to_ascii_lowercase()));
    }
    let length = passphrase.chars().count();
    if !passphrase.bytes().all(|b| (0x20..0x7f).contains(&b)) {
        return Err(Wrong::new(
            "the passphrase holds signs outside of ASCII",
            "only letters, digits and signs of a US keyboard are allowed",
        ));
    }
    if !(8..=63).contains(&length) {
        return Err(Wrong::new(
            format!("the passphrase has {length} characters"),
            "8 to 63 are allowed",
        ));
    }
    let mut key = [0; 32];
    pbkdf2::pbkdf2::<Hmac<Sha1>>(passphrase.as_bytes(), ssid.as_bytes(), 4096, &mut key)
        .map_err(|_| Wrong::new("the key could not be derived", "try again"))?;
    Ok(Secret::new(hex::encode(key)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_derived_key_is_the_standards() {
        // IEEE 802.11-2020, annex J.4.2, first test vector.
        let key = derive_key("password", "IEEE").ok().unwrap();
        assert_eq!(
            key.reveal(),
            "f42c6fc52df0ebef9ebb4b90b38a5f902e83fe1b135a70e23aed762e9710a12e"
        );
    }
}
