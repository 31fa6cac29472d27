//! Which networks a file sets up, in the formats that intakes write: for showing what is on a
//! medium.

use ipnet::IpNet;

/// Networks in a file that an intake wrote, by its path.
pub(crate) fn in_file(path: &str, text: &str) -> Vec<String> {
    let name = path.rsplit('/').next().unwrap_or(path);
    if path.starts_with("/etc/netplan/") {
        in_netplan(text)
    } else if let Some(file) = name.strip_suffix(".network") {
        in_networkd(file, text)
    } else if name.ends_with(".nmconnection") {
        in_keyfile(text)
    } else if path.starts_with("/etc/network/interfaces") {
        in_interfaces(text)
    } else if name.starts_with("wpa_supplicant") {
        let interface = name.strip_prefix("wpa_supplicant-");
        let interface = interface.and_then(|rest| rest.strip_suffix(".conf"));
        in_supplicant(interface.unwrap_or("wlan0"), text)
    } else {
        Vec::new()
    }
}

fn clean(text: &str) -> String {
    text.chars().map(pinewrit_volume::printable).collect()
}

fn is_net(text: &str) -> bool {
    text.contains('/') && text.parse::<IpNet>().is_ok()
}

/// Networks in netplan's format, which is also cloud-init's.
pub(crate) fn in_netplan(text: &str) -> Vec<String> {
    use serde_json::Value;
    let Ok(found) = serde_saphyr::from_str::<Value>(text) else {
        return Vec::new();
    };
    let found = found.get("network").unwrap_or(&found);
    let mut networks = Vec::new();
    for kind in ["ethernets", "vlans"] {
        for (name, one) in found
            .get(kind)
            .and_then(Value::as_object)
            .into_iter()
            .flatten()
        {
            let addresses = one.get("addresses").and_then(Value::as_array);
            for address in addresses.into_iter().flatten().filter_map(Value::as_str) {
                networks.push(clean(&format!("{name} {address}")));
            }
            if one.get("dhcp4") == Some(&Value::Bool(true)) {
                networks.push(clean(&format!("{name} DHCP")));
            }
        }
    }
    for (name, one) in found
        .get("wifis")
        .and_then(Value::as_object)
        .into_iter()
        .flatten()
    {
        let points = one.get("access-points").and_then(Value::as_object);
        for ssid in points.into_iter().flatten().map(|(ssid, _)| ssid) {
            networks.push(clean(&format!("{name} {ssid}")));
        }
    }
    networks.sort();
    networks
}

/// Values of `key=value` lines.
fn values<'t>(text: &'t str, key: &'t str) -> impl Iterator<Item = &'t str> {
    text.lines().filter_map(move |line| {
        let (found, value) = line.trim().split_once('=')?;
        (found == key).then_some(value)
    })
}

fn in_networkd(file: &str, text: &str) -> Vec<String> {
    // Wireless networks are listed by their supplicant.
    if file.starts_with("20-") {
        return Vec::new();
    }
    let name = match values(text, "Name").next() {
        Some(name) if !name.contains(' ') => name,
        _ => "wired",
    };
    let addresses = values(text, "Address").filter(|address| is_net(address));
    let mut networks: Vec<String> = addresses
        .map(|address| clean(&format!("{name} {address}")))
        .collect();
    if values(text, "DHCP").any(|value| value == "yes") {
        networks.push(clean(&format!("{name} DHCP")));
    }
    networks
}

fn in_keyfile(text: &str) -> Vec<String> {
    let name = values(text, "interface-name").next().unwrap_or("wired");
    if let Some(ssid) = values(text, "ssid").next() {
        let bytes: Option<Vec<u8>> = ssid
            .split_terminator(';')
            .map(|byte| byte.parse().ok())
            .collect();
        let ssid = bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
        return vec![clean(&format!("{name} {}", ssid.unwrap_or_default()))];
    }
    let is_address = |line: &&str| line.starts_with("address");
    let addresses = text.lines().filter(is_address).filter_map(|line| {
        let (_, address) = line.split_once('=')?;
        is_net(address).then(|| clean(&format!("{name} {address}")))
    });
    let mut networks: Vec<String> = addresses.collect();
    let v4 = text.split("[ipv4]").nth(1).unwrap_or_default();
    if values(v4, "method").next() == Some("auto") {
        networks.push(clean(&format!("{name} DHCP")));
    }
    networks
}

fn in_interfaces(text: &str) -> Vec<String> {
    let mut networks = Vec::new();
    let mut name = "";
    for line in text.lines() {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[..] {
            ["iface", interface, _, method] => {
                name = interface;
                // Wireless networks are listed by their supplicant.
                if method == "dhcp" && !name.starts_with("wl") {
                    networks.push(clean(&format!("{name} DHCP")));
                }
            }
            ["address", address] if is_net(address) => {
                networks.push(clean(&format!("{name} {address}")));
            }
            _ => {}
        }
    }
    networks
}

fn in_supplicant(interface: &str, text: &str) -> Vec<String> {
    values(text, "ssid")
        .filter_map(|digits| hex::decode(digits).ok())
        .map(|ssid| clean(&format!("{interface} {}", String::from_utf8_lossy(&ssid))))
        .collect()
}
