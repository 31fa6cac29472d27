//! The settings as templates see them.

use serde::Serialize;

use crate::settings::{CheckedSettings, HashError, Sudo, WirelessKey};

#[derive(Serialize)]
pub(super) struct Values {
    settings: Settings,
}

#[derive(Serialize)]
struct Settings {
    hostname: Option<String>,
    timezone: Option<String>,
    locale: Option<String>,
    keyboard: Option<String>,
    users: Vec<User>,
    ssh: Ssh,
    wired: Vec<Wired>,
    wireless: Option<Wireless>,
    time_servers: Vec<String>,
    packages: Vec<String>,
    commands: Vec<String>,
}

#[derive(Serialize)]
struct User {
    name: String,
    full_name: Option<String>,
    /// In the form of crypt(5).
    password_hash: Option<String>,
    ssh_keys: Vec<String>,
    sudo: bool,
    groups: Vec<String>,
}

#[derive(Serialize)]
struct Ssh {
    enabled: Option<bool>,
    password_login: Option<bool>,
    port: Option<u16>,
}

#[derive(Serialize)]
struct Wired {
    interface: Option<String>,
    vlan: Option<u16>,
    dhcp: bool,
    addresses: Vec<Address>,
    gateways: Vec<String>,
    dns: Vec<String>,
    search: Vec<String>,
}

#[derive(Serialize)]
struct Address {
    address: String,
    prefix: u8,
    netmask: String,
}

#[derive(Serialize)]
struct Wireless {
    interface: String,
    country: String,
    networks: Vec<Network>,
}

#[derive(Serialize)]
struct Network {
    ssid: String,
    hidden: bool,
    /// The derived key of WPA2, or the passphrase of WPA3.
    key: String,
    wpa3: bool,
    priority: Option<i32>,
}

pub(super) fn of(settings: &CheckedSettings) -> Result<Values, HashError> {
    let users = settings.users.iter().map(user);
    Ok(Values {
        settings: Settings {
            hostname: settings.host_name.clone(),
            timezone: settings.time_zone.clone(),
            locale: settings.locale.clone(),
            keyboard: settings.keyboard.clone(),
            users: users.collect::<Result<_, _>>()?,
            ssh: Ssh {
                enabled: settings.ssh_enabled,
                password_login: settings.ssh_password_login,
                port: settings.ssh_port,
            },
            wired: settings.wired.iter().map(wired).collect(),
            wireless: settings.wireless.as_ref().map(wireless),
            time_servers: settings.time_servers.clone(),
            packages: settings.first_start.packages.clone(),
            commands: settings.first_start.commands.clone(),
        },
    })
}

fn user(user: &crate::settings::User) -> Result<User, HashError> {
    let password = user.password.as_ref();
    Ok(User {
        name: user.name.clone(),
        full_name: user.full_name.clone(),
        password_hash: password.map(|password| password.hashed(None)).transpose()?,
        ssh_keys: user.ssh_keys.clone(),
        sudo: user.sudo != Sudo::No,
        groups: user.groups.clone(),
    })
}

fn wired(wired: &crate::settings::Wired) -> Wired {
    let texts = |all: &[std::net::IpAddr]| all.iter().map(ToString::to_string).collect();
    let address = |net: &ipnet::IpNet| Address {
        address: net.addr().to_string(),
        prefix: net.prefix_len(),
        netmask: net.netmask().to_string(),
    };
    Wired {
        interface: wired.interface.clone(),
        vlan: wired.vlan,
        dhcp: wired.is_dhcp(),
        addresses: wired.addresses.iter().map(address).collect(),
        gateways: texts(&wired.gateways),
        dns: texts(&wired.dns),
        search: wired.search.clone(),
    }
}

fn wireless(wireless: &crate::settings::Wireless) -> Wireless {
    let networks = wireless.networks.iter().map(|network| Network {
        ssid: network.ssid.clone(),
        hidden: network.hidden,
        key: match &network.key {
            WirelessKey::Derived(key) | WirelessKey::Plain(key) => key.reveal().to_owned(),
            WirelessKey::Ask(_) => String::new(),
        },
        wpa3: network.security == crate::settings::Security::Wpa3,
        priority: network.priority,
    });
    Wireless {
        interface: wireless.interface.clone(),
        country: wireless.country.clone(),
        networks: networks.collect(),
    }
}
