//! Wired and wireless networks.

use std::net::IpAddr;

use hmac::Hmac;
use ipnet::IpNet;
use sha1::Sha1;

use super::document::{At, Document, Fields, Wrong};
use super::password::{self, Secret, SecretField};
use super::regional::{country, quoted};

/// The wired network.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wired {
    /// The interface; `None` for whichever is there.
    pub interface: Option<String>,
    /// Fixed addresses with their prefixes; empty for DHCP.
    pub addresses: Vec<IpNet>,
    /// Where everything else goes.
    pub gateway: Option<IpAddr>,
    /// Name servers.
    pub dns: Vec<IpAddr>,
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
    /// Its key.
    pub key: WirelessKey,
}

/// The key of a wireless network.
#[derive(Clone, PartialEq, Eq)]
pub enum WirelessKey {
    /// The key derived from passphrase and network name, 64 hexadecimal digits.
    Derived(Secret),
    /// To be asked for once all else is checked; holds the line of the wish.
    Ask(usize),
}

impl std::fmt::Debug for WirelessKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("WirelessKey(hidden)")
    }
}

const WIRED: &[&str] = &["interface", "dhcp", "addresses", "gateway", "dns"];
const WIRELESS: &[&str] = &["interface", "country", "networks"];
const NETWORK: &[&str] = &[
    "ssid",
    "passphrase",
    "passphrase-env",
    "passphrase-file",
    "passphrase-prompt",
    "hidden",
];

pub(super) fn read_wired(document: &Document<'_>, top: &Fields<'_, '_>) -> Option<Wired> {
    let fields = top.table("wired", WIRED)?;
    let dhcp = fields.boolean("dhcp").map(|at| at.value);
    let addresses: Vec<_> = fields
        .strings("addresses")
        .into_iter()
        .filter_map(|at| {
            let value = document.accept(at.line, address(&at.value))?;
            refuse_unusable(document, &value, at.line);
            Some(value)
        })
        .collect();
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
    let gateway = read_gateway(document, &fields, &addresses);
    let dns = fields.strings("dns").into_iter();
    let dns = dns
        .filter_map(|at| document.accept(at.line, ip(&at.value, "name server")))
        .collect();
    Some(Wired {
        interface: fields.checked("interface", interface),
        addresses,
        gateway,
        dns,
    })
}

fn read_gateway(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    addresses: &[IpNet],
) -> Option<IpAddr> {
    let Some(at) = fields.string("gateway") else {
        if fields.has("addresses") && !fields.has("gateway") {
            document.warn(
                fields.line(),
                "a fixed address without a gateway reaches its own network only",
                "add gateway = \"…\" if it should reach more",
            );
        }
        return None;
    };
    let gateway = document.accept(at.line, ip(&at.value, "gateway"))?;
    if addresses.is_empty() {
        if !fields.has("addresses") {
            document.mistake(
                at.line,
                "a gateway without a fixed address",
                "with DHCP the gateway comes by itself; leave it out, or add addresses",
            );
        }
        return None;
    }
    if addresses.iter().any(|net| net.addr() == gateway) {
        document.mistake(
            at.line,
            format!("the gateway {gateway} is the unit's own address"),
            "the gateway is the router's address",
        );
    } else if !addresses.iter().any(|net| net.contains(&gateway)) {
        let nets: Vec<_> = addresses
            .iter()
            .map(|net| net.trunc().to_string())
            .collect();
        document.mistake(
            at.line,
            format!("the gateway {gateway} is outside of {}", nets.join(" and ")),
            "it must be an address of the unit's own network",
        );
    }
    Some(gateway)
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
    let key = match secret? {
        SecretField::Ask(line) => WirelessKey::Ask(line),
        SecretField::Text(secret) => {
            let ssid = ssid.as_deref().unwrap_or("unknown");
            let derived = derive_key(secret.value.reveal(), ssid);
            WirelessKey::Derived(document.accept(secret.line, derived)?)
        }
    };
    Some(WirelessNetwork {
        ssid: ssid?,
        hidden,
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
            let derived = derive_key(secret.reveal(), &network.ssid);
            if let Some(derived) = document.accept(line, derived) {
                network.key = WirelessKey::Derived(derived);
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
