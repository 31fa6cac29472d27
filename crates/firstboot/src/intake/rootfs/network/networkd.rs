//! systemd.network(5), systemd.netdev(5) and systemd.link(5).

use pinewrit_settings::{Joined, Wired, Wireless};
use pinewrit_volume::files::FilesError;

use super::{HIDDEN, OPEN, Stacks, put_name_servers, wpa};
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer};

const FOLDER: &str = "/etc/systemd/network";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    services::enable(writer, &["systemd-networkd"])?;
    let has_resolved = services::enable(writer, &["systemd-resolved"])?;
    super::limit_wait(writer, wired, wireless)?;
    let stacks = Stacks::of(wired);
    for one in wired {
        super::rename(writer, one)?;
        if let Some(device) = netdev(one) {
            let path = format!("{FOLDER}/10-pinewrit-{}.netdev", one.id());
            writer.file(&path, OPEN, &device, Secrecy::Open)?;
        }
        let lines = stacks.lines_for(one.interface.as_deref().filter(|_| one.vlan.is_none()));
        let path = format!("{FOLDER}/10-pinewrit-{}.network", one.id());
        writer.file(&path, OPEN, &network(one, &lines), Secrecy::Open)?;
    }
    for name in stacks.unnamed(wired) {
        let lines = stacks.lines_for(Some(name));
        let text = format!(
            "# Written by Pinewrit.\n[Match]\nName={name}\n\n[Link]\nRequiredForOnline=no\n\n\
             [Network]\nLinkLocalAddressing=no\n{lines}"
        );
        let path = format!("{FOLDER}/10-pinewrit-{name}.network");
        writer.file(&path, OPEN, &text, Secrecy::Open)?;
    }
    if has_resolved {
        lead_to_resolved(writer)?
    } else {
        put_name_servers(writer, wired)?
    }
    let Some(wireless) = wireless else {
        return Ok(());
    };
    let name = &wireless.interface;
    let needed = needed(!wireless.is_optional);
    let text =
        format!("# Written by Pinewrit.\n[Match]\nName={name}\n\n{needed}[Network]\nDHCP=yes\n");
    let path = format!("{FOLDER}/20-pinewrit-{name}.network");
    writer.file(&path, OPEN, &text, Secrecy::Open)?;
    let text = wpa::config(writer, wireless)?;
    let path = format!("/etc/wpa_supplicant/wpa_supplicant-{name}.conf");
    writer.file(&path, HIDDEN, &text, Secrecy::Secret)?;
    if !services::enable(writer, &[&format!("wpa_supplicant@{name}")])? {
        writer.note("the image has no wpa_supplicant, so wireless networks cannot be joined");
    }
    Ok(())
}

/// systemd-resolved(8), "/etc/resolv.conf": the link through which all programs use it. An existing
/// link belongs to whoever made it; a text is left from building the image.
fn lead_to_resolved(writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
    let path = "/etc/resolv.conf";
    let target = "../run/systemd/resolve/stub-resolv.conf";
    let facts = writer.files.facts(path)?;
    let is_own = writer
        .old
        .as_ref()
        .is_some_and(|old| old.led.contains_key(path));
    if facts.is_some_and(|facts| facts.target.is_some()) && !is_own {
        Ok(())
    } else {
        writer.lead(path, target)
    }
}

/// Every interface is required for being online, unless it is optional.
fn needed(is_needed: bool) -> &'static str {
    if is_needed {
        ""
    } else {
        "[Link]\nRequiredForOnline=no\n\n"
    }
}

/// The definition of a virtual interface.
fn netdev(wired: &Wired) -> Option<String> {
    let name = wired.name()?;
    let (kind, rest) = match (wired.vlan, &wired.joins) {
        (Some(vlan), _) => ("vlan", format!("\n[VLAN]\nId={vlan}\n")),
        (None, Some(Joined::Bridge(_))) => ("bridge", String::new()),
        (None, Some(Joined::Bond(_, mode))) => {
            let mode = mode.word();
            (
                "bond",
                format!("\n[Bond]\nMode={mode}\nMIIMonitorSec=100ms\n"),
            )
        }
        (None, None) => return None,
    };
    Some(format!(
        "# Written by Pinewrit.\n[NetDev]\nName={name}\nKind={kind}\n{rest}"
    ))
}

fn network(wired: &Wired, stacked: &str) -> String {
    let matching = match (wired.name(), wired.mac) {
        (Some(name), _) => format!("Name={name}\n"),
        // Interfaces on top of it have its address as well.
        (None, Some(mac)) => format!("MACAddress={mac}\nType=ether\n"),
        (None, None) => "Name=en* eth*\n".to_owned(),
    };
    let mut text = format!("# Written by Pinewrit.\n[Match]\n{matching}\n");
    let mtu = wired.mtu.map(|mtu| format!("MTUBytes={mtu}\n"));
    let needed = if wired.is_optional || wired.is_bare {
        "RequiredForOnline=no\n"
    } else {
        ""
    };
    let link = mtu.unwrap_or_default() + needed;
    if !link.is_empty() {
        text += &format!("[Link]\n{link}\n");
    }
    text += "[Network]\n";
    if wired.is_dhcp() {
        text += "DHCP=yes\n";
    }
    if wired.is_bare {
        text += "LinkLocalAddressing=no\n";
    }
    let mut line = |key: &str, value: String| text += &format!("{key}={value}\n");
    wired
        .addresses
        .iter()
        .for_each(|net| line("Address", net.to_string()));
    wired
        .gateways
        .iter()
        .for_each(|gateway| line("Gateway", gateway.to_string()));
    wired
        .dns
        .iter()
        .for_each(|server| line("DNS", server.to_string()));
    if !wired.search.is_empty() {
        line("Domains", wired.search.join(" "));
    }
    text += stacked;
    for route in &wired.routes {
        let (to, via) = (&route.to, &route.via);
        text += &format!("\n[Route]\nDestination={to}\nGateway={via}\n");
    }
    text
}
