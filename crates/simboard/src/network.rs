//! What the files of network managers make of a board's interfaces: systemd.network(5), and netplan's version 2.

use serde_json::Value;

use crate::content::Content;

/// What a DHCP server would give; nobody gives anything here.
const BY_DHCP: &str = "10.77.250.77/16";
/// The router of that network.
const ROUTER: &str = "10.77.0.1";
/// The kernel's usual unit of transmission, in bytes.
const USUAL_MTU: u64 = 1500;

/// An interface, as a file describes it.
#[derive(Debug, Default)]
struct Interface {
    name: String,
    hardware: Option<String>,
    addresses: Vec<String>,
    is_dhcp: bool,
    gateways: Vec<String>,
    routes: Vec<(String, String)>,
    dns: Vec<String>,
    mtu: Option<u64>,
}

impl Interface {
    /// Puts it into the answers. `hardware` is the board's own address.
    fn tell(self, content: &mut Content, hardware: &str) {
        let number = content.lines("link").len() + 1;
        let name = if self.name.is_empty() {
            "eth0"
        } else {
            &self.name
        };
        let hardware = self.hardware.as_deref().unwrap_or(hardware);
        let mtu = self.mtu.unwrap_or(USUAL_MTU);
        content.say(
            "link",
            format!("{number}: {name}: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu {mtu} qdisc fq state UP\\    link/ether {hardware} brd ff:ff:ff:ff:ff:ff"),
        );
        let mut addresses = self.addresses;
        let mut gateways = self.gateways;
        if self.is_dhcp && addresses.is_empty() {
            addresses.push(BY_DHCP.to_owned());
            gateways.push(ROUTER.to_owned());
        }
        for address in addresses {
            let family = if address.contains(':') {
                "inet6"
            } else {
                "inet"
            };
            content.say(
                "address",
                format!("{number}: {name}    {family} {address} scope global {name}"),
            );
        }
        for gateway in gateways {
            content.say("route", format!("default via {gateway} dev {name}"));
        }
        for (to, via) in self.routes {
            content.say("route", format!("{to} via {via} dev {name}"));
        }
        for server in self.dns {
            content.say("dns", format!("nameserver {server}"));
        }
    }
}

/// A file of systemd-networkd.
pub(crate) fn networkd(text: &str, content: &mut Content, hardware: &str) {
    let mut section = String::new();
    let mut interface = Interface::default();
    let mut vlans = Vec::new();
    for line in text.lines().map(str::trim) {
        if let Some(name) = line.strip_prefix('[') {
            name.trim_end_matches(']').clone_into(&mut section);
            continue;
        }
        let Some((key, value)) = line.split_once('=') else {
            continue;
        };
        let value = value.trim().to_owned();
        match (section.as_str(), key.trim()) {
            ("Match", "Name") => interface.name = value,
            ("Match", "MACAddress" | "PermanentMACAddress") => {
                interface.hardware = Some(value.to_ascii_lowercase());
            }
            ("Link", "MTUBytes") => interface.mtu = value.parse().ok(),
            ("Network" | "Address", "Address") => interface.addresses.push(value),
            ("Network", "DHCP") => interface.is_dhcp = value != "no",
            ("Network", "DNS") => interface
                .dns
                .extend(value.split_whitespace().map(str::to_owned)),
            ("Network", "VLAN") => vlans.push(value),
            ("Network", "Gateway") => interface.gateways.push(value),
            ("Route", "Gateway") => interface.routes.push((String::new(), value)),
            ("Route", "Destination") => interface.routes.push((value, String::new())),
            _ => {}
        }
    }
    join_routes(&mut interface);
    interface.tell(content, hardware);
}

/// A route has its two lines in any order; one without a target is the default one.
fn join_routes(interface: &mut Interface) {
    let mut joined: Vec<(String, String)> = Vec::new();
    for (to, via) in interface.routes.drain(..) {
        match joined.last_mut() {
            Some(last) if last.0.is_empty() && via.is_empty() => last.0 = to,
            Some(last) if last.1.is_empty() && to.is_empty() => last.1 = via,
            _ => joined.push((to, via)),
        }
    }
    for (to, via) in joined {
        match to.as_str() {
            "" | "0.0.0.0/0" | "::/0" => interface.gateways.push(via),
            _ => interface.routes.push((to, via)),
        }
    }
}

/// A description in netplan's form, also cloud-init's `network-config`.
pub(crate) fn netplan(read: &Value, content: &mut Content, hardware: &str) {
    let network = read.get("network").unwrap_or(read);
    for kind in ["ethernets", "vlans", "bridges", "bonds"] {
        let Some(all) = network.get(kind).and_then(Value::as_object) else {
            continue;
        };
        for (name, one) in all {
            described(name, one).tell(content, hardware);
        }
    }
    let Some(all) = network.get("wifis").and_then(Value::as_object) else {
        return;
    };
    for one in all.values() {
        let country = one.get("regulatory-domain").and_then(Value::as_str);
        let networks = one.get("access-points").and_then(Value::as_object);
        let joined = networks.and_then(|all| all.keys().next());
        wireless(country, joined.map(String::as_str), content);
    }
}

fn described(name: &str, one: &Value) -> Interface {
    let texts = |value: Option<&Value>| -> Vec<String> {
        let all = value.and_then(Value::as_array).into_iter().flatten();
        all.filter_map(Value::as_str).map(str::to_owned).collect()
    };
    let mut interface = Interface {
        name: one
            .get("set-name")
            .and_then(Value::as_str)
            .unwrap_or(name)
            .to_owned(),
        hardware: one
            .pointer("/match/macaddress")
            .and_then(Value::as_str)
            .map(str::to_ascii_lowercase),
        addresses: texts(one.get("addresses")),
        is_dhcp: one.get("dhcp4").and_then(Value::as_bool) == Some(true),
        dns: texts(one.pointer("/nameservers/addresses")),
        mtu: one.get("mtu").and_then(Value::as_u64),
        ..Interface::default()
    };
    for route in one
        .get("routes")
        .and_then(Value::as_array)
        .into_iter()
        .flatten()
    {
        let word = |key| {
            route
                .get(key)
                .and_then(Value::as_str)
                .unwrap_or("")
                .to_owned()
        };
        match word("to").as_str() {
            "default" | "0.0.0.0/0" | "::/0" => interface.gateways.push(word("via")),
            to => interface.routes.push((to.to_owned(), word("via"))),
        }
    }
    for key in ["gateway4", "gateway6"] {
        let gateway = one.get(key).and_then(Value::as_str);
        interface.gateways.extend(gateway.map(str::to_owned));
    }
    interface
}

/// A file of wpa_supplicant.
pub(crate) fn wpa(text: &str, content: &mut Content) {
    let value = |key: &str| {
        let mut lines = text.lines().map(str::trim);
        lines.find_map(|line| {
            Some(
                line.strip_prefix(key)?
                    .strip_prefix('=')?
                    .trim_matches('"')
                    .to_owned(),
            )
        })
    };
    // A name without quotes is in hexadecimal digits (wpa_supplicant.conf(5)).
    let name = value("ssid").map(|name| match text.contains(&format!("ssid=\"{name}\"")) {
        true => name,
        false => from_hex(&name).unwrap_or(name),
    });
    wireless(value("country").as_deref(), name.as_deref(), content);
}

fn wireless(country: Option<&str>, name: Option<&str>, content: &mut Content) {
    if let Some(country) = country {
        content.say("wireless", format!("country {country}: DFS-ETSI"));
    }
    if let Some(name) = name {
        content.say("wireless", format!("\tSSID: {name}"));
    }
}

fn from_hex(digits: &str) -> Option<String> {
    let pairs = (0..digits.len()).step_by(2);
    let bytes: Option<Vec<u8>> = pairs
        .map(|at| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok())
        .collect();
    String::from_utf8(bytes?).ok()
}
