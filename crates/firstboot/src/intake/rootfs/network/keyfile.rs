//! NetworkManager's keyfiles: nm-settings-keyfile(5).

use std::net::IpAddr;

use pinewrit_settings::{
    EapMethod, Enterprise, Joined, Wired, Wireless, WirelessKey, WirelessNetwork,
};
use pinewrit_volume::files::FilesError;

use super::{HIDDEN, Stacks};
use crate::intake::certificates::Paths;
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer};

const FOLDER: &str = "/etc/NetworkManager/system-connections";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    services::enable(writer, &["NetworkManager"])?;
    let stacks = Stacks::of(wired);
    for one in wired {
        super::rename(writer, one)?;
        put(writer, &one.id(), &connection(one, &stacks))?;
    }
    for name in stacks.unnamed(wired) {
        // The interface below a VLAN comes up automatically.
        if let Some((kind, above)) = joined_in(&stacks, name) {
            let head = head(name, "ethernet", Some(name));
            put(
                writer,
                name,
                &format!("{head}master={above}\nslave-type={kind}\n"),
            )?;
        }
    }
    let Some(wireless) = wireless else {
        return Ok(());
    };
    for (index, network) in wireless.networks.iter().enumerate() {
        let id = format!("{}-{}", wireless.interface, index + 1);
        let paths = Paths::of(index);
        put(
            writer,
            &id,
            &wifi(&id, &wireless.interface, network, &paths),
        )?;
    }
    Ok(())
}

/// NetworkManager only reads files that nobody else can read.
fn put(writer: &mut Writer<'_, '_>, id: &str, text: &str) -> Result<(), FilesError> {
    let path = format!("{FOLDER}/pinewrit-{id}.nmconnection");
    let text = format!("# Written by Pinewrit.\n{text}");
    writer.file(&path, HIDDEN, &text, Secrecy::Secret)
}

/// Equal names give the same UUID, so that a connection keeps its identity.
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

/// The bridge or bond of which an interface is a port.
fn joined_in<'s>(stacks: &'s Stacks<'_>, name: &str) -> Option<(&'static str, &'s str)> {
    stacks.all.iter().find_map(|(below, key, above)| {
        let kind = match *key {
            "Bridge" => "bridge",
            "Bond" => "bond",
            _ => return None,
        };
        (*below == name).then_some((kind, above.as_str()))
    })
}

fn connection(wired: &Wired, stacks: &Stacks<'_>) -> String {
    let name = wired.name();
    let kind = match (wired.vlan, &wired.joins) {
        (Some(_), _) => "vlan",
        (None, Some(Joined::Bridge(_))) => "bridge",
        (None, Some(Joined::Bond(..))) => "bond",
        (None, None) => "ethernet",
    };
    let mut text = head(&wired.id(), kind, name.as_deref());
    let port = name.as_deref().and_then(|name| joined_in(stacks, name));
    if let Some((kind, above)) = port {
        text += &format!("master={above}\nslave-type={kind}\n");
    }
    match (wired.vlan, &wired.joins) {
        (Some(vlan), _) => {
            let below = wired.interface.as_deref().unwrap_or_default();
            text += &format!("\n[vlan]\nflags=1\nid={vlan}\nparent={below}\n");
        }
        // A single bridge needs no spanning tree protocol, which would delay it by half a minute.
        (None, Some(Joined::Bridge(_))) => text += "\n[bridge]\nstp=false\n",
        (None, Some(Joined::Bond(_, mode))) => {
            text += &format!("\n[bond]\nmode={}\nmiimon=100\n", mode.word());
        }
        (None, None) => {}
    }
    text += "\n[ethernet]\n";
    if let (Some(mac), None) = (wired.mac, &name) {
        text += &format!("mac-address={mac}\n");
    }
    if let Some(mtu) = wired.mtu {
        text += &format!("mtu={mtu}\n");
    }
    if port.is_some() {
        return text;
    }
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
        (false, true, _) if wired.is_bare => "disabled",
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

fn wifi(id: &str, interface: &str, network: &WirelessNetwork, paths: &Paths) -> String {
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
    text += &match &network.key {
        WirelessKey::Derived(key) => shared_key("wpa-psk", key.reveal()),
        WirelessKey::Plain(key) => shared_key("sae", key.reveal()),
        WirelessKey::Enterprise(account) => enterprise(account, paths),
        WirelessKey::Ask(_) => String::new(),
    };
    text + "\n[ipv4]\nmethod=auto\n\n[ipv6]\nmethod=auto\n"
}

fn shared_key(management: &str, key: &str) -> String {
    let key = escaped(key);
    format!("\n[wifi-security]\nkey-mgmt={management}\npsk={key}\n")
}

fn enterprise(account: &Enterprise, paths: &Paths) -> String {
    let mut text = String::from("\n[wifi-security]\nkey-mgmt=wpa-eap\n\n[802-1x]\n");
    let mut line = |key: &str, value: &str| text += &format!("{key}={}\n", escaped(value));
    line("identity", &account.identity);
    if let Some(name) = &account.anonymous_identity {
        line("anonymous-identity", name);
    }
    if let Some(name) = &account.server_name {
        line("domain-suffix-match", name);
    }
    if account.authority.is_some() {
        line("ca-cert", &paths.authority);
    }
    match &account.method {
        EapMethod::Peap(password) => {
            line("eap", "peap;");
            line("phase2-auth", "mschapv2");
            line("password", password.reveal());
        }
        EapMethod::Tls { key_password, .. } => {
            line("eap", "tls;");
            line("client-cert", &paths.certificate);
            line("private-key", &paths.key);
            match key_password {
                Some(password) => line("private-key-password", password.reveal()),
                // 4: there is none to ask for.
                None => line("private-key-password-flags", "4"),
            }
        }
    }
    text
}

/// Keyfiles escape backslashes and leading blanks.
fn escaped(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\");
    let bare = escaped.trim_start_matches(' ');
    format!("{}{bare}", "\\s".repeat(escaped.len() - bare.len()))
}
