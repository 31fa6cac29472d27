//! interfaces(5), and dhcpcd.conf(5).

use super::{HIDDEN, OPEN, put_name_servers, wpa};
use crate::files::{Edit, FilesError, Spot, edit_text};
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer, block, without_block};
use crate::settings::{Wired, Wireless};

const MAIN: &str = "/etc/network/interfaces";
const OWN: &str = "/etc/network/interfaces.d/pinewrit";
const SUPPLICANT: &str = "/etc/wpa_supplicant/wpa_supplicant.conf";
/// What has no name gets the kernel's usual one.
const USUAL: &str = "eth0";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    let main = writer.text(MAIN)?;
    let main = main.unwrap_or_else(|| "auto lo\niface lo inet loopback\n".to_owned());
    let takes_others = main.lines().any(|line| {
        let line = line.trim();
        line.starts_with("source") && line.contains("interfaces.d")
    });
    if !takes_others {
        let line = Edit::Line {
            text: "source /etc/network/interfaces.d/*".to_owned(),
            spot: Spot::End,
        };
        let text = edit_text(main.as_bytes(), &[line]).unwrap_or_default();
        let text = String::from_utf8_lossy(&text).into_owned();
        writer.shared(MAIN, OPEN, &text, Secrecy::Open)?;
    }
    let mut text = String::from("# Written by Pinewrit.\n");
    for one in wired {
        if one.interface.is_none() {
            writer.note(format!(
                "ifupdown needs a name for the wired interface: {USUAL} is taken"
            ));
        }
        text += &interface(one);
    }
    if let Some(wireless) = wireless {
        let name = &wireless.interface;
        text +=
            &format!("\nallow-hotplug {name}\niface {name} inet dhcp\n\twpa-conf {SUPPLICANT}\n");
        put_supplicant(writer, wireless)?;
    }
    writer.file(OWN, OPEN, &text, Secrecy::Open)?;
    services::enable(writer, &["networking"])?;
    match writer.has("/usr/sbin/resolvconf")? {
        true => Ok(()),
        false => put_name_servers(writer, wired),
    }
}

fn put_supplicant(writer: &mut Writer<'_, '_>, wireless: &Wireless) -> Result<(), FilesError> {
    if !writer.has_any(&["/usr/sbin/wpa_supplicant", "/sbin/wpa_supplicant"])? {
        writer.note("the image has no wpa_supplicant, so wireless networks are not joined");
    }
    let config = wpa::config(writer, wireless)?;
    writer.file(SUPPLICANT, HIDDEN, &config, Secrecy::Secret)
}

fn interface(wired: &Wired) -> String {
    let name = wired.name().unwrap_or_else(|| USUAL.to_owned());
    let mut text = format!("\nauto {name}\n");
    if wired.is_dhcp() {
        text += &format!("iface {name} inet dhcp\n");
        if let Some(below) = wired.interface.as_ref().filter(|_| wired.vlan.is_some()) {
            text += &format!("\tvlan-raw-device {below}\n");
        }
        return text;
    }
    let mut is_first = true;
    for net in &wired.addresses {
        let family = if net.addr().is_ipv4() {
            "inet"
        } else {
            "inet6"
        };
        let alike = |address: &std::net::IpAddr| address.is_ipv4() == net.addr().is_ipv4();
        text += &format!("iface {name} {family} static\n\taddress {net}\n");
        let earlier = wired.addresses.iter().take_while(|other| *other != net);
        // One gateway for each family, with its first address.
        if !earlier.map(|other| other.addr()).any(|other| alike(&other)) {
            if let Some(gateway) = wired.gateways.iter().find(|gateway| alike(gateway)) {
                text += &format!("\tgateway {gateway}\n");
            }
            for route in wired.routes.iter().filter(|route| alike(&route.via)) {
                let command = if route.via.is_ipv4() { "ip" } else { "ip -6" };
                let (to, via) = (&route.to, &route.via);
                text += &format!("\tup {command} route add {to} via {via} dev {name} || true\n");
            }
        }
        if std::mem::take(&mut is_first) {
            if let Some(below) = wired.interface.as_ref().filter(|_| wired.vlan.is_some()) {
                text += &format!("\tvlan-raw-device {below}\n");
            }
            let dns: Vec<String> = wired.dns.iter().map(ToString::to_string).collect();
            if !dns.is_empty() {
                text += &format!("\tdns-nameservers {}\n", dns.join(" "));
            }
            if !wired.search.is_empty() {
                text += &format!("\tdns-search {}\n", wired.search.join(" "));
            }
        }
    }
    text
}

pub(super) fn apply_dhcpcd(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    let mut lines = String::new();
    for one in wired.iter().filter(|one| !one.is_dhcp()) {
        let name = one.name().unwrap_or_else(|| USUAL.to_owned());
        lines += &format!("interface {name}\n");
        for net in &one.addresses {
            let key = if net.addr().is_ipv4() {
                "ip_address"
            } else {
                "ip6_address"
            };
            lines += &format!("static {key}={net}\n");
        }
        // IPv6 routers tell of themselves.
        if let Some(router) = one.gateways.iter().find(|gateway| gateway.is_ipv4()) {
            lines += &format!("static routers={router}\n");
        }
        if one.vlan.is_some() || !one.routes.is_empty() {
            writer.note(format!(
                "dhcpcd makes no VLANs and no routes: {name} lacks them"
            ));
        }
        if !one.dns.is_empty() {
            let dns: Vec<String> = one.dns.iter().map(ToString::to_string).collect();
            lines += &format!("static domain_name_servers={}\n", dns.join(" "));
        }
    }
    let path = "/etc/dhcpcd.conf";
    let old = writer.text(path)?.unwrap_or_default();
    let kept = without_block(&old) + &block(&lines);
    writer.shared(path, OPEN, &kept, Secrecy::Open)?;
    services::enable(writer, &["dhcpcd"])?;
    match wireless {
        Some(wireless) => put_supplicant(writer, wireless),
        None => Ok(()),
    }
}
