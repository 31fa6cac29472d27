//! Wired networks.

use std::net::IpAddr;

use ipnet::IpNet;

use super::nets;
use super::regional::quoted;
use crate::document::{Document, Fields, Wrong};

/// A wired network interface.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wired {
    /// The interface; `None` for whichever exists, or for the one with `mac`.
    pub interface: Option<String>,
    /// The hardware address of the interface; the interface is renamed to `interface`, if that is
    /// given too.
    pub mac: Option<MacAddress>,
    /// Number of the VLAN on it (IEEE 802.1Q), from 1 to 4094.
    pub vlan: Option<u16>,
    /// The interfaces that it joins, if it is not a hardware interface.
    pub joins: Option<Joined>,
    /// MTU in bytes; the usual one if `None`.
    pub mtu: Option<u32>,
    /// Whether a start does not wait for it.
    pub is_optional: bool,
    /// Whether it has no addresses of its own, as a bridge port.
    pub is_bare: bool,
    /// Fixed addresses with their prefixes; empty for DHCP.
    pub addresses: Vec<IpNet>,
    /// The default gateways, at most one of each family.
    pub gateways: Vec<IpAddr>,
    /// Routes to further networks.
    pub routes: Vec<RouteTo>,
    /// Name servers.
    pub dns: Vec<IpAddr>,
    /// Search domains for short names.
    pub search: Vec<String>,
}

/// A network behind a router.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RouteTo {
    /// The network.
    pub to: IpNet,
    /// The router.
    pub via: IpAddr,
}

/// Interfaces joined into one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Joined {
    /// A bridge (IEEE 802.1D) over these ports.
    Bridge(Vec<String>),
    /// A bond of these ports, in one of the kernel's modes.
    Bond(Vec<String>, BondMode),
}

impl Joined {
    /// Names of the interfaces below.
    pub fn ports(&self) -> &[String] {
        match self {
            Self::Bridge(ports) | Self::Bond(ports, _) => ports,
        }
    }
}

/// The mode of a bond (Linux, `Documentation/networking/bonding.rst`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BondMode(&'static str);

impl BondMode {
    const ALL: [&'static str; 7] = [
        "active-backup",
        "802.3ad",
        "balance-rr",
        "balance-xor",
        "balance-tlb",
        "balance-alb",
        "broadcast",
    ];

    /// The kernel's name for it.
    pub fn word(self) -> &'static str {
        self.0
    }
}

/// A hardware address of one interface (IEEE 802, EUI-48).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct MacAddress([u8; 6]);

impl MacAddress {
    /// Its digits without separators.
    pub fn digits(self) -> String {
        hex::encode(self.0)
    }
}

impl std::fmt::Display for MacAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

impl Wired {
    /// Whether addresses come from DHCP.
    pub fn is_dhcp(&self) -> bool {
        self.addresses.is_empty() && !self.is_bare
    }

    /// Its name in files: the interface, otherwise the hardware address, otherwise `wired`.
    pub fn id(&self) -> String {
        let by_mac = || self.mac.map(MacAddress::digits);
        self.name()
            .or_else(by_mac)
            .unwrap_or_else(|| "wired".to_owned())
    }

    /// The interface's name, or that of its VLAN.
    pub fn name(&self) -> Option<String> {
        let interface = self.interface.as_ref()?;
        Some(match self.vlan {
            Some(vlan) => format!("{interface}.{vlan}"),
            None => interface.clone(),
        })
    }

    /// All routes, with default ones as `0.0.0.0/0` and `::/0`.
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

const WIRED: &[&str] = &[
    "interface",
    "mac",
    "vlan",
    "bridge",
    "bond",
    "bond-mode",
    "mtu",
    "optional",
    "dhcp",
    "addresses",
    "gateway",
    "routes",
    "dns",
    "search",
];

pub(crate) fn read_wired(document: &Document<'_>, top: &Fields<'_, '_>) -> Vec<Wired> {
    let tables = top.one_or_more("wired", WIRED);
    let mut all = Vec::new();
    for fields in &tables {
        let wired = read_interface(document, fields);
        if tables.len() > 1 && !fields.has("interface") && !fields.has("mac") {
            document.mistake(
                fields.line(),
                "one of several wired interfaces has no name",
                "interface = \"eth1\", or its hardware address: mac = \"…\"",
            );
        }
        all.push((fields.line(), wired));
    }
    compare_interfaces(document, &all);
    check_ports(document, &all);
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
            "[wired] asks for both DHCP and static addresses",
            "keep one of dhcp and addresses",
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
            "a VLAN without its interface",
            "interface = \"eth0\"",
        );
    }
    let mac = fields.checked("mac", mac_address);
    let name = fields.checked("interface", interface);
    if let (Some(name), Some(mac)) = (&name, mac)
        && name.starts_with("eth")
    {
        document.warn(
            fields.line(),
            format!("{mac} is to be called {name}, which the kernel may give to another"),
            "a name of your own, such as \"uplink0\"",
        );
    }
    Wired {
        interface: name,
        mac,
        joins: read_joined(document, fields),
        mtu: read_mtu(document, fields, &addresses),
        is_optional: fields.boolean("optional").is_some_and(|at| at.value),
        is_bare: dhcp == Some(false) && !asked_for_addresses,
        vlan: vlan.and_then(|vlan| u16::try_from(vlan).ok()),
        addresses,
        gateways,
        routes,
        dns,
        search,
    }
}

fn read_mtu(document: &Document<'_>, fields: &Fields<'_, '_>, nets: &[IpNet]) -> Option<u32> {
    let mtu = fields.number("mtu", 68..=65_535)?;
    // RFC 8200, section 5.
    if mtu < 1280 && nets.iter().any(|net| net.addr().is_ipv6()) {
        let what = format!("an MTU of {mtu} bytes, where IPv6 needs 1280");
        document.mistake(fields.line(), what, "1280 or more, or no IPv6 address");
    }
    u32::try_from(mtu).ok()
}

fn read_joined(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<Joined> {
    let ports = |key: &str| -> Vec<String> {
        let names = fields.strings(key).into_iter();
        names
            .filter_map(|at| document.accept(at.line, interface(&at.value)))
            .collect()
    };
    let mode = fields.checked("bond-mode", |text| {
        let known = BondMode::ALL.into_iter().find(|known| *known == text);
        known.map(BondMode).ok_or_else(|| {
            let what = format!("{} is not a bond mode", quoted(text));
            Wrong::new(what, BondMode::ALL.join(", "))
        })
    });
    let joined = match (fields.has("bridge"), fields.has("bond")) {
        (false, false) => {
            if fields.has("bond-mode") {
                let remedy = "bond = [\"eth0\", \"eth1\"]";
                document.mistake(fields.line(), "a bond-mode without its bond", remedy);
            }
            return None;
        }
        (true, true) => {
            let remedy = "a bond of its own, and the bridge over it";
            document.mistake(fields.line(), "[wired] is both a bridge and a bond", remedy);
            return None;
        }
        (true, false) => Joined::Bridge(ports("bridge")),
        (false, true) => Joined::Bond(ports("bond"), mode.unwrap_or(BondMode(BondMode::ALL[0]))),
    };
    let unnamed = "a bridge or a bond without its name";
    fields.must_have("interface", unnamed, "interface = \"br0\"");
    for other in ["vlan", "mac"].into_iter().filter(|key| fields.has(key)) {
        document.mistake(
            fields.line(),
            format!("a bridge or a bond with `{other}`"),
            "a [[wired]] of its own for that",
        );
    }
    if fields.has("bond") && joined.ports().is_empty() {
        let remedy = "bond = [\"eth0\", \"eth1\"]";
        document.mistake(fields.line(), "a bond without ports", remedy);
    }
    Some(joined)
}

/// A port belongs to one interface and has no addresses; only ports may go without settings.
fn check_ports(document: &Document<'_>, all: &[(usize, Wired)]) {
    let mut taken: Vec<(&str, &str)> = Vec::new();
    for (line, wired) in all {
        let above = wired.interface.as_deref().unwrap_or_default();
        let ports = wired.joins.as_ref().map_or(&[][..], Joined::ports);
        for port in ports {
            if let Some((_, other)) = taken.iter().find(|(known, _)| known == port) {
                let what = format!("{port} is a port of {other} and of {above}");
                document.mistake(*line, what, "each port belongs to one of them");
            }
            taken.push((port, above));
            let own = all
                .iter()
                .find(|(_, one)| one.name().as_ref() == Some(port));
            if port == above || own.is_some_and(|(_, one)| !one.is_bare && one.joins.is_none()) {
                let what = format!("{port} is a port of {above}, and has addresses of its own");
                document.mistake(*line, what, format!("the addresses belong to {above}"));
            }
        }
    }
    for (line, wired) in all.iter().filter(|(_, wired)| wired.is_bare) {
        let name = wired.interface.as_deref();
        let is_below = |(_, other): &(usize, Wired)| {
            other.vlan.is_some() && other.interface.as_deref() == name
        };
        let is_port = taken.iter().any(|(port, _)| Some(*port) == name);
        if wired.joins.is_none() && !is_port && !all.iter().any(is_below) {
            document.mistake(
                *line,
                "[wired] has neither DHCP nor an address",
                "add addresses = [\"10.77.3.10/24\"], or omit dhcp",
            );
        }
    }
}

/// One gateway is enough for all interfaces; having none has surprised people.
fn warn_without_gateway(document: &Document<'_>, all: &[(usize, Wired)]) {
    let leads_out = |(_, wired): &(usize, Wired)| wired.is_dhcp() || !wired.gateways.is_empty();
    let is_fixed = |(_, wired): &&(usize, Wired)| !wired.addresses.is_empty();
    let first = all.iter().find(is_fixed);
    if let Some((line, _)) = first.filter(|_| !all.iter().any(leads_out)) {
        document.warn(
            *line,
            "a static address without a gateway reaches only its own network",
            "add gateway = \"…\" if it should reach more",
        );
    }
}

/// What two interfaces of a unit must not share.
fn compare_interfaces(document: &Document<'_>, all: &[(usize, Wired)]) {
    let mut seen: Vec<IpNet> = Vec::new();
    let mut names = Vec::new();
    for (line, wired) in all {
        if let Some(name) = wired.name() {
            if names.contains(&name) {
                let what = format!("the interface {name} appears twice");
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
                let what = format!("the address {} appears twice", same.addr());
                document.mistake(*line, what, "each interface has its own");
            } else if let Some(other) = seen.iter().find(|other| nets::overlap(other, net)) {
                let what = format!("the networks {} and {} overlap", other.trunc(), net.trunc());
                document.mistake(*line, what, "separate networks, one per interface");
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
                    format!("/{} differs from the other prefixes", net.prefix_len()),
                    "check it for a typo",
                );
            }
        }
    }
}

fn route(text: &str) -> Result<RouteTo, Wrong> {
    let wrong = || {
        Wrong::new(
            format!("{} is not a route", quoted(text)),
            "as in \"10.78.0.0/16 via 10.77.3.2\"",
        )
    };
    let (to, via) = text.split_once(" via ").ok_or_else(wrong)?;
    let to: IpNet = to.trim().parse().map_err(|_| wrong())?;
    let via: IpAddr = via.trim().parse().map_err(|_| wrong())?;
    if to.addr().is_ipv4() == via.is_ipv4() && to == to.trunc() {
        Ok(RouteTo { to, via })
    } else {
        Err(wrong())
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
            let what = "two gateways of the same family";
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
                "a gateway without a static address",
                "DHCP provides the gateway; omit it, or add addresses",
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
            format!("the gateway {gateway} is outside {}", nets.join(" and ")),
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

/// Addresses that are well-formed, but that no unit can have.
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

/// Six pairs of hexadecimal digits; a unicast address.
fn mac_address(text: &str) -> Result<MacAddress, Wrong> {
    let wrong = |what: String| {
        let remedy = "as on the board's label or in `ip link`: \"02:00:5e:10:00:01\"";
        Wrong::new(what, remedy)
    };
    let is_form = text.len() == 17
        && text
            .bytes()
            .enumerate()
            .all(|(index, byte)| match index % 3 {
                2 => byte == b':' || byte == b'-',
                _ => byte.is_ascii_hexdigit(),
            });
    let digits = text.replace([':', '-'], "");
    let mut bytes = [0; 6];
    if !is_form || hex::decode_to_slice(digits, &mut bytes).is_err() {
        return Err(wrong(format!("{} is not a hardware address", quoted(text))));
    }
    if bytes[0] & 1 == 1 || bytes == [0; 6] {
        Err(wrong(format!(
            "{text} is not the address of a single interface"
        )))
    } else {
        Ok(MacAddress(bytes))
    }
}

/// The kernel takes up to 15 bytes without blanks and slashes.
pub(crate) fn interface(name: &str) -> Result<String, Wrong> {
    let fits = (1..=15).contains(&name.len())
        && name
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b));
    if fits {
        Ok(name.to_owned())
    } else {
        Err(Wrong::new(
            format!("{} is not the name of an interface", quoted(name)),
            "as in \"eth0\" or \"wlan0\"",
        ))
    }
}
