//! Networks, in the files of the image's network manager.

mod ifupdown;
mod keyfile;
mod networkd;
mod wpa;

use pinewrit_settings::{CheckedSettings, Joined, Security, Wired, Wireless};
use pinewrit_volume::files::{Files, FilesError, Rights};

use super::RootError;
use super::services;
use super::writer::{Secrecy, Writer};
use crate::intake::online::{self, Awaited};
use crate::intake::{certificates, cloud_init};

const OPEN: Rights = Rights {
    mode: 0o644,
    uid: 0,
    gid: 0,
};
const HIDDEN: Rights = Rights {
    mode: 0o600,
    uid: 0,
    gid: 0,
};

/// What manages the networks of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Backend {
    Netplan,
    NetworkManager,
    Networkd,
    Ifupdown,
    Dhcpcd,
}

impl Backend {
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Netplan => "netplan",
            Self::NetworkManager => "NetworkManager",
            Self::Networkd => "systemd-networkd",
            Self::Ifupdown => "ifupdown",
            Self::Dhcpcd => "dhcpcd",
        }
    }

    /// Many images contain systemd-networkd without using it, so it only takes precedence if it is
    /// enabled.
    pub(super) fn of(writer: &Writer<'_, '_>) -> Result<Option<Self>, FilesError> {
        let wants = "/etc/systemd/system/multi-user.target.wants/systemd-networkd.service";
        let has_networkd = writer.has_any(&[
            "/usr/lib/systemd/systemd-networkd",
            "/lib/systemd/systemd-networkd",
        ])?;
        Ok(if writer.has("/usr/sbin/netplan")? {
            Some(Self::Netplan)
        } else if writer.has("/usr/sbin/NetworkManager")? {
            Some(Self::NetworkManager)
        } else if has_networkd && writer.files.has_name(wants)? {
            Some(Self::Networkd)
        } else if writer.has_any(&["/usr/sbin/ifup", "/sbin/ifup"])? {
            Some(Self::Ifupdown)
        } else if services::unit(writer, "dhcpcd.service")?.is_some()
            || writer.has("/etc/init.d/dhcpcd")?
        {
            // The program alone may be there for others to call.
            Some(Self::Dhcpcd)
        } else {
            has_networkd.then_some(Self::Networkd)
        })
    }
}

/// Writes the settings' networks; returns their manager.
pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Option<&'static str>, RootError> {
    if let Some(wireless) = &settings.wireless {
        // For radios whose driver is a module, whatever manages the network.
        let text = format!("options cfg80211 ieee80211_regdom={}\n", wireless.country);
        let path = "/etc/modprobe.d/wireless-country.conf";
        writer.file(path, OPEN, &text, Secrecy::Open)?;
    }
    if settings.wired.is_empty() && settings.wireless.is_none() {
        return Ok(None);
    }
    let backend = Backend::of(writer)?.ok_or(RootError::NoNetwork)?;
    // Wireless settings alone must not disable the cable.
    let usual = [Wired::default()];
    let wired = if settings.wired.is_empty() {
        &usual[..]
    } else {
        &settings.wired[..]
    };
    for file in settings.wireless.iter().flat_map(certificates::files) {
        let (rights, secrecy) = if file.is_secret {
            (HIDDEN, Secrecy::Secret)
        } else {
            (OPEN, Secrecy::Open)
        };
        writer.file(&file.path, rights, file.content, secrecy)?;
    }
    match backend {
        Backend::Netplan => netplan(writer, settings, wired)?,
        Backend::NetworkManager => keyfile::apply(writer, wired, settings.wireless.as_ref())?,
        Backend::Networkd => networkd::apply(writer, wired, settings.wireless.as_ref())?,
        Backend::Ifupdown => ifupdown::apply(writer, wired, settings.wireless.as_ref())?,
        Backend::Dhcpcd => ifupdown::apply_dhcpcd(writer, wired, settings.wireless.as_ref())?,
    }
    Ok(Some(backend.word()))
}

fn netplan(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
    wired: &[Wired],
) -> Result<(), RootError> {
    let renderer = if writer.has("/usr/sbin/NetworkManager")? {
        "NetworkManager"
    } else {
        "networkd"
    };
    if renderer == "networkd" {
        services::enable(writer, &["systemd-networkd"])?;
        limit_wait(writer, wired, settings.wireless.as_ref())?;
    }
    let knows_wpa3 = knows_wpa3(writer.files)?;
    if !knows_wpa3 {
        note_wpa3(settings, &mut writer.notes);
    }
    let text = cloud_init::netplan_text(settings, renderer, knows_wpa3)?;
    let text = format!("# Written by Pinewrit.\n{text}");
    let path = "/etc/netplan/90-pinewrit.yaml";
    Ok(writer.file(path, HIDDEN, &text, Secrecy::Secret)?)
}

/// Limits how long systemd-networkd lets a start wait.
fn limit_wait(
    writer: &mut Writer<'_, '_>,
    wired: &[Wired],
    wireless: Option<&Wireless>,
) -> Result<(), FilesError> {
    for program in online::WAIT_PROGRAMS {
        if writer.has(program)? {
            let text = Awaited::of(wired, wireless).limit(program);
            return writer.file(online::WAIT_FILE, OPEN, &text, Secrecy::Open);
        }
    }
    Ok(())
}

/// An interface identified by its hardware address gets its name from udev: systemd.link(5).
fn rename(writer: &mut Writer<'_, '_>, wired: &Wired) -> Result<(), FilesError> {
    let (Some(mac), Some(name), None) = (wired.mac, &wired.interface, wired.vlan) else {
        return Ok(());
    };
    let places = ["/usr/bin/udevadm", "/bin/udevadm", "/sbin/udevadm"];
    if !writer.has_any(&places)? {
        writer.note(format!(
            "nothing in the image gives {mac} the name {name}: it has no udev"
        ));
    }
    let text = format!(
        "# Written by Pinewrit.\n[Match]\nMACAddress={mac}\nType=ether\n\n[Link]\nName={name}\n"
    );
    let path = format!("/etc/systemd/network/10-pinewrit-{name}.link");
    writer.file(&path, OPEN, &text, Secrecy::Open)
}

/// Interfaces on top of others.
struct Stacks<'w> {
    /// The one below, the key for it in systemd.network(5), and the one above.
    all: Vec<(&'w str, &'static str, String)>,
}

impl<'w> Stacks<'w> {
    fn of(wired: &'w [Wired]) -> Self {
        let mut all = Vec::new();
        for one in wired {
            let name = one.name().unwrap_or_default();
            match (&one.interface, one.vlan, &one.joins) {
                (Some(below), Some(_), _) => all.push((below.as_str(), "VLAN", name)),
                (_, None, Some(joined)) => {
                    let key = match joined {
                        Joined::Bridge(_) => "Bridge",
                        Joined::Bond(..) => "Bond",
                    };
                    let ports = joined.ports().iter();
                    all.extend(ports.map(|port| (port.as_str(), key, name.clone())));
                }
                _ => {}
            }
        }
        Self { all }
    }

    /// What is on top of an interface, as lines in its file.
    fn lines_for(&self, below: Option<&str>) -> String {
        let own = self.all.iter().filter(|one| Some(one.0) == below);
        own.map(|(_, key, above)| format!("{key}={above}\n"))
            .collect()
    }

    /// Those below without settings of their own, each once.
    fn unnamed(&self, wired: &[Wired]) -> Vec<&'w str> {
        let mut names = Vec::new();
        for (below, ..) in &self.all {
            let is_named = wired
                .iter()
                .any(|one| one.name().as_deref() == Some(*below));
            if !is_named && !names.contains(below) {
                names.push(*below);
            }
        }
        names
    }
}

/// The first release of netplan with WPA3.
const WPA3_SINCE: (u32, u32) = (0, 107);
/// A distribution's package list is smaller than this.
const MAX_PACKAGES: u64 = 32 << 20;

/// Whether the image's netplan supports WPA3, according to its package list.
pub(crate) fn knows_wpa3(files: &Files<'_>) -> Result<bool, FilesError> {
    let list = files.small("/var/lib/dpkg/status", MAX_PACKAGES)?;
    let list = list.unwrap_or_default();
    let list = String::from_utf8_lossy(&list);
    let package = list.split("\n\n").find(|one| {
        let mut lines = one.lines();
        lines.any(|line| line == "Package: netplan.io")
    });
    let version = package.and_then(|one| {
        let line = one
            .lines()
            .find_map(|line| line.strip_prefix("Version: "))?;
        let (major, rest) = line.split_once('.')?;
        let minor: String = rest.chars().take_while(char::is_ascii_digit).collect();
        Some((major.parse().ok()?, minor.parse().ok()?))
    });
    Ok(version.is_none_or(|version: (u32, u32)| version >= WPA3_SINCE))
}

pub(crate) fn note_wpa3(settings: &CheckedSettings, notes: &mut Vec<String>) {
    let networks = settings.wireless.iter().flat_map(|all| &all.networks);
    for network in networks.filter(|network| network.security == Security::Wpa3) {
        let ssid: String = network
            .ssid
            .chars()
            .map(pinewrit_volume::printable)
            .collect();
        notes.push(format!(
            "the image's netplan does not support WPA3: {ssid} is joined with WPA2, if it allows that"
        ));
    }
}

/// Name servers for systems without a resolver service: a fixed text. A link belongs to whoever
/// made it.
fn put_name_servers(writer: &mut Writer<'_, '_>, wired: &[Wired]) -> Result<(), FilesError> {
    let servers = wired.iter().flat_map(|wired| &wired.dns);
    let mut text: String = servers
        .map(|server| format!("nameserver {server}\n"))
        .collect();
    let search: Vec<&str> = wired
        .iter()
        .flat_map(|wired| &wired.search)
        .map(String::as_str)
        .collect();
    if !search.is_empty() {
        text = format!("search {}\n{text}", search.join(" "));
    }
    let path = "/etc/resolv.conf";
    let is_link = writer
        .files
        .facts(path)?
        .is_some_and(|facts| facts.target.is_some());
    if text.is_empty() || is_link {
        return Ok(());
    }
    writer.shared(
        path,
        OPEN,
        &format!("# Written by Pinewrit.\n{text}"),
        Secrecy::Open,
    )
}
