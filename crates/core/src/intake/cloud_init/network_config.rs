//! `network-config`, version 2: wired and wireless networks.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::settings::{CheckedSettings, Wired, Wireless, WirelessKey};

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
    vlans: BTreeMap<String, Vlan>,
}

/// The same, as it stands in netplan's own files.
#[derive(Serialize)]
pub(crate) struct NetplanFile {
    network: NetworkConfig,
}

#[derive(Serialize)]
struct Addressing {
    dhcp4: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    addresses: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    routes: Vec<Route>,
    #[serde(skip_serializing_if = "Option::is_none")]
    nameservers: Option<NameServers>,
}

#[derive(Serialize)]
struct Ethernet {
    #[serde(rename = "match", skip_serializing_if = "Option::is_none")]
    matching: Option<Match>,
    #[serde(flatten)]
    addressing: Addressing,
    optional: bool,
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
    name: &'static str,
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
struct Auth {
    #[serde(rename = "key-management")]
    key_management: &'static str,
    password: String,
}

/// `None` where the settings name no network: then cloud-init asks for addresses by DHCP on the
/// wired interface.
pub(crate) fn network_config(
    settings: &CheckedSettings,
    knows_wpa3: bool,
) -> Option<NetworkConfig> {
    let wireless = settings.wireless.as_ref();
    if settings.wired.is_empty() && wireless.is_none() {
        return None;
    }
    // A file with wireless networks alone would switch the wired one off.
    let usual = [Wired::default()];
    let wired = match settings.wired.is_empty() {
        true => &usual[..],
        false => &settings.wired[..],
    };
    let mut ethernets: BTreeMap<_, _> = wired
        .iter()
        .filter(|one| one.vlan.is_none())
        .map(ethernet)
        .collect();
    let vlans: BTreeMap<_, _> = wired.iter().filter_map(vlan).collect();
    for vlan in vlans.values() {
        // The interface below must be known, and has no address of its own.
        ethernets.entry(vlan.link.clone()).or_insert(Ethernet {
            matching: None,
            addressing: Addressing {
                dhcp4: false,
                addresses: Vec::new(),
                routes: Vec::new(),
                nameservers: None,
            },
            optional: true,
        });
    }
    Some(NetworkConfig {
        version: 2,
        renderer: None,
        ethernets,
        wifis: wireless
            .map(|all| wifi(all, knows_wpa3))
            .into_iter()
            .collect(),
        vlans,
    })
}

/// The settings' networks for netplan, with what carries them out.
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

fn ethernet(wired: &Wired) -> (String, Ethernet) {
    let name = wired.interface.clone().unwrap_or_else(|| "wired".into());
    let ethernet = Ethernet {
        matching: wired.interface.is_none().then_some(Match { name: "e*" }),
        addressing: addressing(wired),
        // Without this a start with the cable unplugged waits for two minutes.
        optional: true,
    };
    (name, ethernet)
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
    let access_points = wireless.networks.iter().filter_map(|network| {
        let (password, auth) = match &network.key {
            WirelessKey::Derived(key) => (Some(key.reveal().to_owned()), None),
            WirelessKey::Plain(key) if !knows_wpa3 => (Some(key.reveal().to_owned()), None),
            WirelessKey::Plain(key) => {
                let auth = Auth {
                    key_management: "sae",
                    password: key.reveal().to_owned(),
                };
                (None, Some(auth))
            }
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
        optional: true,
    };
    (wireless.interface.clone(), wifi)
}
