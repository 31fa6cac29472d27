//! wpa_supplicant.conf(5).

use pinewrit_settings::{EapMethod, Enterprise, Wireless, WirelessKey, WirelessNetwork};
use pinewrit_volume::files::FilesError;

use crate::intake::certificates::Paths;
use crate::intake::rootfs::writer::Writer;

pub(super) fn config(writer: &Writer<'_, '_>, wireless: &Wireless) -> Result<String, FilesError> {
    let groups = writer.text("/etc/group")?.unwrap_or_default();
    let group = if groups.lines().any(|line| line.starts_with("netdev:")) {
        " GROUP=netdev"
    } else {
        ""
    };
    let mut text = format!(
        "# Written by Pinewrit.\nctrl_interface=DIR=/run/wpa_supplicant{group}\ncountry={}\n",
        wireless.country
    );
    for (index, found) in wireless.networks.iter().enumerate() {
        text += &network(found, &Paths::of(index));
    }
    Ok(text)
}

fn network(network: &WirelessNetwork, paths: &Paths) -> String {
    // Hexadecimal digits need no escapes.
    let mut text = format!("\n# {}\nnetwork={{\n", shown(&network.ssid));
    text += &format!("\tssid={}\n", hex::encode(&network.ssid));
    match &network.key {
        WirelessKey::Derived(key) => {
            text += &format!("\tkey_mgmt=WPA-PSK\n\tpsk={}\n", key.reveal());
        }
        WirelessKey::Plain(key) => {
            // The last quotation mark ends it, whatever is in between.
            let key = key.reveal();
            text += &format!("\tkey_mgmt=SAE\n\tieee80211w=2\n\tsae_password=\"{key}\"\n");
        }
        WirelessKey::Enterprise(account) => text += &enterprise(account, paths),
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

fn enterprise(account: &Enterprise, paths: &Paths) -> String {
    let mut text = String::from("\tkey_mgmt=WPA-EAP\n");
    let mut line = |key: &str, value: String| text += &format!("\t{key}={value}\n");
    // Hexadecimal digits here too.
    line("identity", hex::encode(&account.identity));
    if let Some(name) = &account.anonymous_identity {
        line("anonymous_identity", hex::encode(name));
    }
    if let Some(name) = &account.server_name {
        line("domain_suffix_match", format!("\"{name}\""));
    }
    if account.authority.is_some() {
        line("ca_cert", format!("\"{}\"", paths.authority));
    }
    match &account.method {
        EapMethod::Peap(password) => {
            line("eap", "PEAP".to_owned());
            line("phase2", "\"auth=MSCHAPV2\"".to_owned());
            line("password", hex::encode(password.reveal()));
        }
        EapMethod::Tls { key_password, .. } => {
            line("eap", "TLS".to_owned());
            line("client_cert", format!("\"{}\"", paths.certificate));
            line("private_key", format!("\"{}\"", paths.key));
            if let Some(password) = key_password {
                line("private_key_passwd", hex::encode(password.reveal()));
            }
        }
    }
    text
}

fn shown(ssid: &str) -> String {
    ssid.chars().map(pinewrit_volume::printable).collect()
}
