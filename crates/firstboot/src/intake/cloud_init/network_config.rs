//! `network-config`, version 2: wired and wireless networks.

use std::collections::BTreeMap;

use pinewrit_settings::{
    CheckedSettings, EapMethod, Enterprise, Joined, Wired, Wireless, WirelessKey,
};
use serde::Serialize;

use crate::intake::certificates::Paths;

#[derive(Serialize)]
pub(crate) struct NetworkConfig {
    version: u8,
    #[serde(skip_serializing_if = "Option::is_none")]
    renderer: Option<&'static str>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    ethernets: BTreeMap<String, Ethernet>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    wifis: BTreeMap<String, Wifi>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    bridges: BTreeMap<String, Bridge>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    bonds: BTreeMap<String, Bond>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    vlans: BTreeMap<String, Vlan>,
}

/// The same, as in netplan's own files.
#[derive(Serialize)]
pub(crate) struct NetplanFile {
    network: NetworkConfig,
}

#[derive(Serialize)]
struct Addressing {
    dhcp4: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    mtu: Option<u32>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    addresses: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    routes: Vec<Route>,
    #[serde(skip_serializing_if = "Option::is_none")]
    nameservers: Option<NameServers>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    optional: bool,
}

#[derive(Serialize)]
struct Ethernet {
    #[serde(rename = "match", skip_serializing_if = "Option::is_none")]
    matching: Option<Match>,
    #[serde(rename = "set-name", skip_serializing_if = "Option::is_none")]
    set_name: Option<String>,
    #[serde(flatten)]
    addressing: Addressing,
}

#[derive(Serialize)]
struct Bridge {
    interfaces: Vec<String>,
    #[serde(flatten)]
    addressing: Addressing,
    parameters: BridgeParameters,
}

/// A single bridge needs no spanning tree protocol, which would delay it by half a minute.
#[derive(Serialize)]
struct BridgeParameters {
    stp: bool,
}

#[derive(Serialize)]
struct Bond {
    interfaces: Vec<String>,
    #[serde(flatten)]
    addressing: Addressing,
    parameters: BondParameters,
}

#[derive(Serialize)]
struct BondParameters {
    mode: &'static str,
    #[serde(rename = "mii-monitor-interval")]
    interval: u32,
}

#[derive(Serialize)]
struct Vlan {
    id: u16,
    link: String,
    #[serde(flatten)]
    addressing: Addressing,
}

#[derive(Serialize)]
struct Match {
    #[serde(skip_serializing_if = "Option::is_none")]
    name: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    macaddress: Option<String>,
}

#[derive(Serialize)]
struct Route {
    to: String,
    via: String,
}

#[derive(Serialize)]
struct NameServers {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    addresses: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    search: Vec<String>,
}

#[derive(Serialize)]
struct Wifi {
    dhcp4: bool,
    #[serde(rename = "regulatory-domain")]
    regulatory_domain: String,
    #[serde(rename = "access-points")]
    access_points: BTreeMap<String, AccessPoint>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    optional: bool,
}

#[derive(Serialize)]
struct AccessPoint {
    #[serde(skip_serializing_if = "Option::is_none")]
    password: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    auth: Option<Auth>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    hidden: bool,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Auth {
    key_management: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    password: Option<String>,
    #[serde(flatten)]
    account: Option<Account>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Account {
    method: &'static str,
    identity: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    anonymous_identity: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ca_certificate: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    client_certificate: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    client_key: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    client_key_password: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    phase2_auth: Option<&'static str>,
}

/// `None` if the settings name no network: then cloud-init uses DHCP on the wired interface.
pub(crate) fn network_config(
    settings: &CheckedSettings,
    knows_wpa3: bool,
) -> Option<NetworkConfig> {
    let wireless = settings.wireless.as_ref();
    if settings.wired.is_empty() && wireless.is_none() {
        return None;
    }
    // A file with wireless networks alone would disable the wired one.
    let usual = [Wired::default()];
    let wired = if settings.wired.is_empty() {
        &usual[..]
    } else {
        &settings.wired[..]
    };
    let is_hardware = |one: &&Wired| one.vlan.is_none() && one.joins.is_none();
    let mut ethernets: BTreeMap<_, _> = wired.iter().filter(is_hardware).map(ethernet).collect();
    let vlans: BTreeMap<_, _> = wired.iter().filter_map(vlan).collect();
    let bridges: BTreeMap<_, _> = wired.iter().filter_map(bridge).collect();
    let bonds: BTreeMap<_, _> = wired.iter().filter_map(bond).collect();
    let links = vlans.values().map(|vlan: &Vlan| &vlan.link);
    let ports = bridges
        .values()
        .flat_map(|bridge: &Bridge| &bridge.interfaces);
    let others = bonds.values().flat_map(|bond: &Bond| &bond.interfaces);
    for below in links.chain(ports).chain(others) {
        let is_known = wired.iter().any(|one| one.name().as_ref() == Some(below));
        if !is_known {
            // The interface below must be known, and has no address of its own.
            ethernets.insert(below.clone(), bare_ethernet());
        }
    }
    Some(NetworkConfig {
        version: 2,
        renderer: None,
        ethernets,
        wifis: wireless
            .map(|all| wifi(all, knows_wpa3))
            .into_iter()
            .collect(),
        bridges,
        bonds,
        vlans,
    })
}

/// The settings' networks for netplan, with its renderer.
pub(crate) fn netplan_file(
    settings: &CheckedSettings,
    renderer: &'static str,
    knows_wpa3: bool,
) -> Option<NetplanFile> {
    let mut network = network_config(settings, knows_wpa3)?;
    network.renderer = Some(renderer);
    Some(NetplanFile { network })
}

fn addressing(wired: &Wired) -> Addressing {
    let texts = |all: &[std::net::IpAddr]| all.iter().map(ToString::to_string).collect();
    Addressing {
        dhcp4: wired.is_dhcp(),
        mtu: wired.mtu,
        optional: wired.is_optional || wired.is_bare,
        addresses: wired.addresses.iter().map(ToString::to_string).collect(),
        routes: wired
            .all_routes()
            .into_iter()
            .map(|route| Route {
                to: route.to.to_string(),
                via: route.via.to_string(),
            })
            .collect(),
        nameservers: (!wired.dns.is_empty() || !wired.search.is_empty()).then(|| NameServers {
            addresses: texts(&wired.dns),
            search: wired.search.clone(),
        }),
    }
}

fn bare_ethernet() -> Ethernet {
    let bare = Wired {
        is_bare: true,
        ..Wired::default()
    };
    Ethernet {
        matching: None,
        set_name: None,
        addressing: addressing(&bare),
    }
}

fn ethernet(wired: &Wired) -> (String, Ethernet) {
    let matching = match (wired.mac, &wired.interface) {
        (Some(mac), _) => Some(Match {
            name: None,
            macaddress: Some(mac.to_string()),
        }),
        (None, None) => Some(Match {
            name: Some("e*"),
            macaddress: None,
        }),
        (None, Some(_)) => None,
    };
    let ethernet = Ethernet {
        matching,
        set_name: wired.mac.and(wired.interface.clone()),
        addressing: addressing(wired),
    };
    // YAML readers would take a key of digits alone for a number.
    let id = match wired.name() {
        Some(name) => name,
        None => wired
            .mac
            .map_or("wired".to_owned(), |mac| format!("mac-{}", mac.digits())),
    };
    (id, ethernet)
}

fn bridge(wired: &Wired) -> Option<(String, Bridge)> {
    let Some(Joined::Bridge(ports)) = wired.joins.as_ref().filter(|_| wired.vlan.is_none()) else {
        return None;
    };
    let bridge = Bridge {
        interfaces: ports.clone(),
        addressing: addressing(wired),
        parameters: BridgeParameters { stp: false },
    };
    Some((wired.name()?, bridge))
}

fn bond(wired: &Wired) -> Option<(String, Bond)> {
    let Some(Joined::Bond(ports, mode)) = wired.joins.as_ref().filter(|_| wired.vlan.is_none())
    else {
        return None;
    };
    let bond = Bond {
        interfaces: ports.clone(),
        addressing: addressing(wired),
        parameters: BondParameters {
            mode: mode.word(),
            interval: 100,
        },
    };
    Some((wired.name()?, bond))
}

fn vlan(wired: &Wired) -> Option<(String, Vlan)> {
    let vlan = Vlan {
        id: wired.vlan?,
        link: wired.interface.clone()?,
        addressing: addressing(wired),
    };
    Some((wired.name()?, vlan))
}

fn wifi(wireless: &Wireless, knows_wpa3: bool) -> (String, Wifi) {
    let networks = wireless.networks.iter().enumerate();
    let access_points = networks.filter_map(|(index, network)| {
        let (password, auth) = match &network.key {
            WirelessKey::Derived(key) => (Some(key.reveal().to_owned()), None),
            WirelessKey::Plain(key) if !knows_wpa3 => (Some(key.reveal().to_owned()), None),
            WirelessKey::Plain(key) => {
                let auth = Auth {
                    key_management: "sae",
                    password: Some(key.reveal().to_owned()),
                    account: None,
                };
                (None, Some(auth))
            }
            WirelessKey::Enterprise(account) => (None, Some(auth(account, &Paths::of(index)))),
            WirelessKey::Ask(_) => return None,
        };
        let point = AccessPoint {
            password,
            auth,
            hidden: network.hidden,
        };
        Some((network.ssid.clone(), point))
    });
    let wifi = Wifi {
        dhcp4: true,
        regulatory_domain: wireless.country.clone(),
        access_points: access_points.collect(),
        optional: wireless.is_optional,
    };
    (wireless.interface.clone(), wifi)
}

fn auth(account: &Enterprise, paths: &Paths) -> Auth {
    let is_tls = matches!(account.method, EapMethod::Tls { .. });
    let (password, key_password) = match &account.method {
        EapMethod::Peap(password) => (Some(password.reveal().to_owned()), None),
        EapMethod::Tls { key_password, .. } => (
            None,
            key_password.as_ref().map(|one| one.reveal().to_owned()),
        ),
    };
    Auth {
        key_management: "eap",
        password,
        account: Some(Account {
            method: if is_tls { "tls" } else { "peap" },
            identity: account.identity.clone(),
            anonymous_identity: account.anonymous_identity.clone(),
            ca_certificate: account.authority.as_ref().map(|_| paths.authority.clone()),
            client_certificate: is_tls.then(|| paths.certificate.clone()),
            client_key: is_tls.then(|| paths.key.clone()),
            client_key_password: key_password,
            phase2_auth: (!is_tls).then_some("MSCHAPV2"),
        }),
    }
}
