//! interfaces(5), and dhcpcd.conf(5).

use pinewrit_settings::{Joined, Wired, Wireless};
use pinewrit_volume::files::{Edit, FilesError, Spot, edit_text};

use super::{HIDDEN, OPEN, put_name_servers, wpa};
use crate::intake::online::PATIENCE;
use crate::intake::rootfs::RootError;
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer, block, without_block};

const MAIN: &str = "/etc/network/interfaces";
const OWN: &str = "/etc/network/interfaces.d/pinewrit";
const SUPPLICANT: &str = "/etc/wpa_supplicant/wpa_supplicant.conf";
/// Interfaces without a name get the kernel's usual one.
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
    check_programs(writer, wired)?;
    limit_dhcp(writer, wired)?;
    for one in wired {
        let one = &named(writer, one)?;
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
    if writer.has("/usr/sbin/resolvconf")? {
        Ok(())
    } else {
        put_name_servers(writer, wired)
    }
}

/// Everything here is keyed by names, so each interface gets one.
fn named(writer: &mut Writer<'_, '_>, wired: &Wired) -> Result<Wired, FilesError> {
    let mut named = wired.clone();
    match (&wired.interface, wired.mac) {
        (Some(_), _) => {}
        (None, Some(mac)) => {
            let name = format!("lan{}", &mac.digits()[6..]);
            writer.note(format!("the interface with {mac} is called {name}"));
            named.interface = Some(name);
        }
        (None, None) => {
            writer.note(format!(
                "this image needs a name for the wired interface: {USUAL} is taken"
            ));
            named.interface = Some(USUAL.to_owned());
        }
    }
    super::rename(writer, &named)?;
    Ok(named)
}

/// The programs that ifupdown calls for bridges, bonds and VLANs are in packages of their own.
fn check_programs(writer: &mut Writer<'_, '_>, wired: &[Wired]) -> Result<(), FilesError> {
    let wants =
        |joins: fn(&Joined) -> bool| wired.iter().filter_map(|one| one.joins.as_ref()).any(joins);
    let needs = [
        (
            wants(|one| matches!(one, Joined::Bridge(_))),
            "bridge",
            "bridge-utils",
        ),
        (
            wants(|one| matches!(one, Joined::Bond(..))),
            "ifenslave",
            "ifenslave",
        ),
    ];
    for (_, script, package) in needs.into_iter().filter(|(wanted, ..)| *wanted) {
        if !writer.has(&format!("/etc/network/if-pre-up.d/{script}"))? {
            writer.note(format!(
                "the image lacks the package {package}, which ifupdown needs here"
            ));
        }
    }
    Ok(())
}

/// dhclient.conf(5): by default, it delays a start by a minute if there is no cable.
fn limit_dhcp(writer: &mut Writer<'_, '_>, wired: &[Wired]) -> Result<(), FilesError> {
    let path = "/etc/dhcp/dhclient.conf";
    let Some(text) = writer
        .text(path)?
        .filter(|_| wired.iter().any(Wired::is_dhcp))
    else {
        return Ok(());
    };
    let is_limit = |line: &str| line.trim_start().starts_with("timeout ");
    if text.lines().any(is_limit) {
        return Ok(());
    }
    let newline = if text.is_empty() || text.ends_with('\n') {
        ""
    } else {
        "\n"
    };
    let text = format!("{text}{newline}timeout {PATIENCE};\n");
    writer.shared(path, OPEN, &text, Secrecy::Open)
}

fn put_supplicant(writer: &mut Writer<'_, '_>, wireless: &Wireless) -> Result<(), FilesError> {
    if !writer.has_any(&["/usr/sbin/wpa_supplicant", "/sbin/wpa_supplicant"])? {
        writer.note("the image has no wpa_supplicant, so wireless networks cannot be joined");
    }
    let config = wpa::config(writer, wireless)?;
    writer.file(SUPPLICANT, HIDDEN, &config, Secrecy::Secret)
}

/// Lines for the interface itself, whatever its addresses.
fn own_lines(wired: &Wired, name: &str) -> String {
    let mut text = String::new();
    if let Some(below) = wired.interface.as_ref().filter(|_| wired.vlan.is_some()) {
        text += &format!("\tvlan-raw-device {below}\n");
    }
    match &wired.joins {
        Some(Joined::Bridge(ports)) => {
            let ports = if ports.is_empty() {
                "none".to_owned()
            } else {
                ports.join(" ")
            };
            text += &format!("\tbridge_ports {ports}\n\tbridge_stp off\n\tbridge_fd 0\n");
        }
        Some(Joined::Bond(ports, mode)) => {
            let (ports, mode) = (ports.join(" "), mode.word());
            text += &format!("\tbond-slaves {ports}\n\tbond-mode {mode}\n\tbond-miimon 100\n");
        }
        None => {}
    }
    if let Some(mtu) = wired.mtu {
        text += &format!("\tpost-up ip link set dev {name} mtu {mtu}\n");
    }
    text
}

fn interface(wired: &Wired) -> String {
    let name = wired.name().unwrap_or_else(|| USUAL.to_owned());
    // What is plugged in later comes up later.
    let start = if wired.is_optional {
        "allow-hotplug"
    } else {
        "auto"
    };
    let mut text = format!("\n{start} {name}\n");
    if wired.addresses.is_empty() {
        let method = if wired.is_dhcp() { "dhcp" } else { "manual" };
        text += &format!("iface {name} inet {method}\n");
        return text + &own_lines(wired, &name);
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
        if family == "inet6" {
            // Duplicate address detection fails if there is no cable.
            text += "\tdad-attempts 0\n";
        }
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
            text += &own_lines(wired, &name);
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
) -> Result<(), RootError> {
    let mut lines = String::new();
    for one in wired {
        let (what, name) = (one.joins.as_ref(), one.id());
        match what {
            Some(Joined::Bridge(_)) => {
                return Err(RootError::NotByDhcpcd {
                    what: "bridge",
                    name,
                });
            }
            Some(Joined::Bond(..)) => return Err(RootError::NotByDhcpcd { what: "bond", name }),
            None => {}
        }
        if one.is_dhcp() && one.mac.is_none() && one.mtu.is_none() {
            continue;
        }
        let one = &named(writer, one)?;
        let name = one.name().unwrap_or_else(|| USUAL.to_owned());
        lines += &format!("interface {name}\n");
        if let Some(mtu) = one.mtu {
            lines += &format!("static interface_mtu={mtu}\n");
        }
        for net in &one.addresses {
            let key = if net.addr().is_ipv4() {
                "ip_address"
            } else {
                "ip6_address"
            };
            lines += &format!("static {key}={net}\n");
        }
        // IPv6 routers announce themselves.
        if let Some(router) = one.gateways.iter().find(|gateway| gateway.is_ipv4()) {
            lines += &format!("static routers={router}\n");
        }
        if one.vlan.is_some() || !one.routes.is_empty() {
            writer.note(format!(
                "dhcpcd supports neither VLANs nor routes: {name} lacks them"
            ));
        }
        if !one.dns.is_empty() {
            let dns: Vec<String> = one.dns.iter().map(ToString::to_string).collect();
            lines += &format!("static domain_name_servers={}\n", dns.join(" "));
        }
    }
    let path = "/etc/dhcpcd.conf";
    let old = writer.text(path)?.unwrap_or_default();
    // By default, it delays a start by half a minute if an interface gets no address. Options
    // before the first interface apply to all.
    let is_limit = |line: &str| line.trim_start().starts_with("timeout ");
    let plain = without_block(&old);
    let limit = if plain.lines().any(is_limit) {
        String::new()
    } else {
        format!("timeout {PATIENCE}\n")
    };
    let kept = block(&limit) + &plain + &block(&lines);
    writer.shared(path, OPEN, &kept, Secrecy::Open)?;
    services::enable(writer, &["dhcpcd"])?;
    match wireless {
        Some(wireless) => Ok(put_supplicant(writer, wireless)?),
        None => Ok(()),
    }
}
