//! systemd.network(5) and systemd.netdev(5).

use std::collections::BTreeMap;

use super::{HIDDEN, OPEN, put_name_servers, wpa};
use crate::files::FilesError;
use crate::intake::rootfs::services;
use crate::intake::rootfs::writer::{Secrecy, Writer};
use crate::settings::{Wired, Wireless};

const FOLDER: &str = "/etc/systemd/network";

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    services::enable(writer, &["systemd-networkd"])?;
    let has_resolved = services::enable(writer, &["systemd-resolved"])?;
    // VLANs by the interface that they are on.
    let mut vlans: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for one in wired.iter().filter(|one| one.vlan.is_some()) {
        let below = one.interface.as_deref().unwrap_or_default();
        vlans.entry(below).or_default().extend(one.name());
    }
    for one in wired {
        let file = one.name().unwrap_or_else(|| "wired".to_owned());
        if let Some(vlan) = one.vlan {
            let text = format!(
                "# Written by Pinewrit.\n[NetDev]\nName={file}\nKind=vlan\n\n[VLAN]\nId={vlan}\n"
            );
            let path = format!("{FOLDER}/10-pinewrit-{file}.netdev");
            writer.file(&path, OPEN, &text, Secrecy::Open)?;
        }
        let own = match one.vlan {
            None => one.interface.as_deref().and_then(|name| vlans.remove(name)),
            Some(_) => None,
        };
        let text = network(one, &own.unwrap_or_default());
        let path = format!("{FOLDER}/10-pinewrit-{file}.network");
        writer.file(&path, OPEN, &text, Secrecy::Open)?;
    }
    for (below, names) in vlans {
        let lines: String = names.iter().map(|name| format!("VLAN={name}\n")).collect();
        let text = format!(
            "# Written by Pinewrit.\n[Match]\nName={below}\n\n[Link]\nRequiredForOnline=no\n\n\
             [Network]\nLinkLocalAddressing=no\n{lines}"
        );
        let path = format!("{FOLDER}/10-pinewrit-{below}.network");
        writer.file(&path, OPEN, &text, Secrecy::Open)?;
    }
    match has_resolved {
        true => lead_to_resolved(writer)?,
        false => put_name_servers(writer, wired)?,
    }
    let Some(wireless) = wireless else {
        return Ok(());
    };
    let name = &wireless.interface;
    let text = format!(
        "# Written by Pinewrit.\n[Match]\nName={name}\n\n[Link]\nRequiredForOnline=no\n\n\
         [Network]\nDHCP=yes\n"
    );
    let path = format!("{FOLDER}/20-pinewrit-{name}.network");
    writer.file(&path, OPEN, &text, Secrecy::Open)?;
    let text = wpa::config(writer, wireless)?;
    let path = format!("/etc/wpa_supplicant/wpa_supplicant-{name}.conf");
    writer.file(&path, HIDDEN, &text, Secrecy::Secret)?;
    if !services::enable(writer, &[&format!("wpa_supplicant@{name}")])? {
        writer.note("the image has no wpa_supplicant, so wireless networks are not joined");
    }
    Ok(())
}

/// systemd-resolved(8), "/etc/resolv.conf": the link by which all programs ask it. A link that is there
/// belongs to whoever made it; a text is what the image was built with.
fn lead_to_resolved(writer: &mut Writer<'_, '_>) -> Result<(), FilesError> {
    let path = "/etc/resolv.conf";
    let facts = writer.files.facts(path)?;
    match facts.is_some_and(|facts| facts.target.is_some()) {
        true => Ok(()),
        false => writer.plain_link(path, "../run/systemd/resolve/stub-resolv.conf"),
    }
}

fn network(wired: &Wired, vlans: &[String]) -> String {
    let name = wired.name().unwrap_or_else(|| "en* eth*".to_owned());
    let mut text = format!(
        "# Written by Pinewrit.\n[Match]\nName={name}\n\n[Link]\nRequiredForOnline=no\n\n[Network]\n"
    );
    if wired.is_dhcp() {
        text += "DHCP=yes\n";
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
    vlans.iter().for_each(|vlan| line("VLAN", vlan.clone()));
    for route in &wired.routes {
        let (to, via) = (&route.to, &route.via);
        text += &format!("\n[Route]\nDestination={to}\nGateway={via}\n");
    }
    text
}
