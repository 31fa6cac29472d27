//! `network-config`, version 2: wired and wireless networks.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::settings::{CheckedSettings, Wired, Wireless, WirelessKey};

#[derive(Serialize)]
pub(super) struct NetworkConfig {
    version: u8,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    ethernets: BTreeMap<String, Ethernet>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    wifis: BTreeMap<String, Wifi>,
}

#[derive(Serialize)]
struct Ethernet {
    #[serde(rename = "match", skip_serializing_if = "Option::is_none")]
    matching: Option<Match>,
    dhcp4: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    addresses: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    routes: Vec<Route>,
    #[serde(skip_serializing_if = "Option::is_none")]
    nameservers: Option<NameServers>,
    optional: bool,
}

#[derive(Serialize)]
struct Match {
    name: &'static str,
}

#[derive(Serialize)]
struct Route {
    to: &'static str,
    via: String,
}

#[derive(Serialize)]
struct NameServers {
    addresses: Vec<String>,
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
    password: String,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    hidden: bool,
}

/// `None` where the settings name no network: then cloud-init asks for addresses by DHCP on the
/// wired interface.
pub(super) fn network_config(settings: &CheckedSettings) -> Option<NetworkConfig> {
    let wireless = settings.wireless.as_ref();
    // A file with wireless networks alone would switch the wired one off.
    let default_wired = Wired {
        interface: None,
        addresses: Vec::new(),
        gateway: None,
        dns: Vec::new(),
    };
    let wired = match (&settings.wired, wireless) {
        (None, None) => return None,
        (Some(wired), _) => wired,
        (None, Some(_)) => &default_wired,
    };
    Some(NetworkConfig {
        version: 2,
        ethernets: BTreeMap::from([ethernet(wired)]),
        wifis: wireless.map(wifi).into_iter().collect(),
    })
}

fn ethernet(wired: &Wired) -> (String, Ethernet) {
    let name = wired.interface.clone().unwrap_or_else(|| "wired".into());
    let to = match wired.gateway {
        Some(gateway) if gateway.is_ipv6() => "::/0",
        _ => "0.0.0.0/0",
    };
    let ethernet = Ethernet {
        matching: wired.interface.is_none().then_some(Match { name: "e*" }),
        dhcp4: wired.addresses.is_empty(),
        addresses: wired.addresses.iter().map(ToString::to_string).collect(),
        routes: wired
            .gateway
            .map(|gateway| Route {
                to,
                via: gateway.to_string(),
            })
            .into_iter()
            .collect(),
        nameservers: (!wired.dns.is_empty()).then(|| NameServers {
            addresses: wired.dns.iter().map(ToString::to_string).collect(),
        }),
        // Without this a start with the cable unplugged waits for two minutes.
        optional: true,
    };
    (name, ethernet)
}

fn wifi(wireless: &Wireless) -> (String, Wifi) {
    let access_points = wireless.networks.iter().filter_map(|network| {
        let WirelessKey::Derived(key) = &network.key else {
            return None;
        };
        let point = AccessPoint {
            password: key.reveal().to_owned(),
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
