//! wpa_supplicant.conf(5).

use crate::files::FilesError;
use crate::intake::rootfs::writer::Writer;
use crate::settings::{Wireless, WirelessKey, WirelessNetwork};

pub(super) fn config(writer: &Writer<'_, '_>, wireless: &Wireless) -> Result<String, FilesError> {
    let groups = writer.text("/etc/group")?.unwrap_or_default();
    let group = match groups.lines().any(|line| line.starts_with("netdev:")) {
        true => " GROUP=netdev",
        false => "",
    };
    let mut text = format!(
        "# Written by Pinewrit.\nctrl_interface=DIR=/run/wpa_supplicant{group}\ncountry={}\n",
        wireless.country
    );
    for found in &wireless.networks {
        text += &network(found);
    }
    Ok(text)
}

fn network(network: &WirelessNetwork) -> String {
    // Hexadecimal digits need no escapes.
    let mut text = format!("\n# {}\nnetwork={{\n", shown(&network.ssid));
    text += &format!("\tssid={}\n", hex::encode(&network.ssid));
    match &network.key {
        WirelessKey::Derived(key) => {
            text += &format!("\tkey_mgmt=WPA-PSK\n\tpsk={}\n", key.reveal());
        }
        WirelessKey::Plain(key) => {
            // The last quotation mark ends it, whatever is between.
            let key = key.reveal();
            text += &format!("\tkey_mgmt=SAE\n\tieee80211w=2\n\tsae_password=\"{key}\"\n");
        }
        WirelessKey::Ask(_) => {}
    }
    if network.hidden {
        text += "\tscan_ssid=1\n";
    }
    if let Some(priority) = network.priority {
        text += &format!("\tpriority={priority}\n");
    }
    text + "}\n"
}

fn shown(ssid: &str) -> String {
    ssid.chars().map(crate::filesystem::printable).collect()
}
