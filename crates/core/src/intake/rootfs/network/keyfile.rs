//! NetworkManager's keyfiles: nm-settings-keyfile(5).

use std::net::IpAddr;

use super::HIDDEN;
use crate::files::FilesError;
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer};
use crate::settings::{Wired, Wireless, WirelessKey, WirelessNetwork};

const FOLDER: &str = "/etc/NetworkManager/system-connections";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    services::enable(writer, &["NetworkManager"])?;
    for one in wired {
        let id = one.name().unwrap_or_else(|| "wired".to_owned());
        put(writer, &id, &connection(&id, one))?;
    }
    let Some(wireless) = wireless else {
        return Ok(());
    };
    for (index, network) in wireless.networks.iter().enumerate() {
        let id = format!("{}-{}", wireless.interface, index + 1);
        put(writer, &id, &wifi(&id, &wireless.interface, network))?;
    }
    Ok(())
}

/// NetworkManager reads only what nobody else can.
fn put(writer: &mut Writer<'_, '_>, id: &str, text: &str) -> Result<(), FilesError> {
    let path = format!("{FOLDER}/pinewrit-{id}.nmconnection");
    let text = format!("# Written by Pinewrit.\n{text}");
    writer.file(&path, HIDDEN, &text, Secrecy::Secret)
}

/// The same for the same name, so that a connection stays the same one.
fn uuid(id: &str) -> uuid::Uuid {
    let digest = blake3::hash(format!("pinewrit connection {id}").as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&digest.as_bytes()[..16]);
    uuid::Builder::from_random_bytes(bytes).into_uuid()
}

fn head(id: &str, kind: &str, interface: Option<&str>) -> String {
    let mut text = format!(
        "[connection]\nid=pinewrit-{id}\nuuid={}\ntype={kind}\n",
        uuid(id)
    );
    if let Some(interface) = interface {
        text += &format!("interface-name={interface}\n");
    }
    text
}

fn connection(id: &str, wired: &Wired) -> String {
    let name = wired.name();
    let mut text = match wired.vlan {
        None => head(id, "ethernet", name.as_deref()) + "\n[ethernet]\n",
        Some(vlan) => {
            let below = wired.interface.as_deref().unwrap_or_default();
            let head = head(id, "vlan", name.as_deref());
            format!("{head}\n[vlan]\nflags=1\nid={vlan}\nparent={below}\n")
        }
    };
    text += &family(wired, "ipv4", |address| address.is_ipv4());
    text += &family(wired, "ipv6", |address| address.is_ipv6());
    text
}

fn family(wired: &Wired, name: &str, is_own: impl Fn(IpAddr) -> bool) -> String {
    let nets = wired.addresses.iter().filter(|net| is_own(net.addr()));
    let nets: Vec<String> = nets.map(ToString::to_string).collect();
    let method = match (wired.is_dhcp(), nets.is_empty(), name) {
        (true, ..) => "auto",
        (false, false, _) => "manual",
        (false, true, "ipv4") => "disabled",
        (false, true, _) => "link-local",
    };
    let mut text = format!("\n[{name}]\nmethod={method}\n");
    for (index, net) in nets.iter().enumerate() {
        text += &format!("address{}={net}\n", index + 1);
    }
    if let Some(gateway) = wired.gateways.iter().find(|gateway| is_own(**gateway)) {
        text += &format!("gateway={gateway}\n");
    }
    let routes = wired.routes.iter().filter(|route| is_own(route.via));
    for (index, route) in routes.enumerate() {
        text += &format!("route{}={},{}\n", index + 1, route.to, route.via);
    }
    let dns = wired.dns.iter().filter(|server| is_own(**server));
    let dns: String = dns.map(|server| format!("{server};")).collect();
    if !dns.is_empty() {
        text += &format!("dns={dns}\n");
    }
    if !wired.search.is_empty() && method != "disabled" {
        let search: String = wired.search.iter().map(|name| format!("{name};")).collect();
        text += &format!("dns-search={search}\n");
    }
    text
}

fn wifi(id: &str, interface: &str, network: &WirelessNetwork) -> String {
    let mut text = head(id, "wifi", Some(interface));
    if let Some(priority) = network.priority {
        text += &format!("autoconnect-priority={priority}\n");
    }
    // A list of bytes needs no escapes.
    let ssid: String = network
        .ssid
        .bytes()
        .map(|byte| format!("{byte};"))
        .collect();
    text += &format!("\n[wifi]\nmode=infrastructure\nssid={ssid}\n");
    if network.hidden {
        text += "hidden=true\n";
    }
    let (management, key) = match &network.key {
        WirelessKey::Derived(key) => ("wpa-psk", key.reveal()),
        WirelessKey::Plain(key) => ("sae", key.reveal()),
        WirelessKey::Ask(_) => ("wpa-psk", ""),
    };
    let key = escaped(key);
    text += &format!("\n[wifi-security]\nkey-mgmt={management}\npsk={key}\n");
    text + "\n[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=auto\n"
}

/// Backslashes, and blanks at the start, are escaped in keyfiles.
fn escaped(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\");
    let bare = escaped.trim_start_matches(' ');
    format!("{}{bare}", "\\s".repeat(escaped.len() - bare.len()))
}
