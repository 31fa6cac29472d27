//! The settings as templates see them.

use serde::Serialize;

use pinewrit_settings::{
    CheckedSettings, EapMethod, Enterprise, HashError, Joined, Sudo, WirelessKey,
};

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
    keyboard_variant: Option<String>,
    autologin: Option<Autologin>,
    users: Vec<User>,
    ssh: Ssh,
    wired: Vec<Wired>,
    wireless: Option<Wireless>,
    time_servers: Vec<String>,
    packages: Vec<String>,
    commands: Vec<String>,
}

#[derive(Serialize)]
struct Autologin {
    user: String,
    console: bool,
    desktop: bool,
}

#[derive(Serialize)]
struct User {
    name: String,
    uid: Option<u32>,
    full_name: Option<String>,
    /// In crypt(5) form.
    password_hash: Option<String>,
    ssh_keys: Vec<String>,
    sudo: bool,
    /// Whether sudo needs no password.
    sudo_without_password: bool,
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
    mac: Option<String>,
    vlan: Option<u16>,
    /// Ports of a bridge.
    bridge: Option<Vec<String>>,
    /// Ports of a bond.
    bond: Option<Vec<String>>,
    bond_mode: Option<&'static str>,
    mtu: Option<u32>,
    optional: bool,
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
    /// The account of an enterprise network, which has no key.
    account: Option<Account>,
}

#[derive(Serialize)]
struct Account {
    /// `peap` or `tls`.
    method: &'static str,
    identity: String,
    anonymous_identity: Option<String>,
    password: Option<String>,
    server_name: Option<String>,
    /// Texts in PEM.
    authority: Option<String>,
    certificate: Option<String>,
    private_key: Option<String>,
    private_key_password: Option<String>,
}

pub(super) fn of(settings: &CheckedSettings) -> Result<Values, HashError> {
    let users = settings.users.iter().map(user);
    Ok(Values {
        settings: Settings {
            hostname: settings.host_name.clone(),
            timezone: settings.time_zone.clone(),
            locale: settings.locale.clone(),
            keyboard: settings.keyboard.clone(),
            keyboard_variant: settings.keyboard_variant.clone(),
            autologin: settings.autologin.as_ref().map(|wanted| Autologin {
                user: wanted.user.clone(),
                console: wanted.on_console,
                desktop: wanted.on_desktop,
            }),
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
            commands: settings
                .first_start
                .commands
                .iter()
                .map(|command| command.run.clone())
                .collect(),
        },
    })
}

fn user(user: &pinewrit_settings::User) -> Result<User, HashError> {
    let password = user.password.as_ref();
    Ok(User {
        name: user.name.clone(),
        uid: user.uid,
        full_name: user.full_name.clone(),
        password_hash: password.map(|password| password.hashed(None)).transpose()?,
        ssh_keys: user.ssh_keys.clone(),
        sudo: user.sudo != Sudo::No,
        sudo_without_password: user.sudo == Sudo::WithoutPassword,
        groups: user.groups.clone(),
    })
}

fn wired(wired: &pinewrit_settings::Wired) -> Wired {
    let texts = |all: &[std::net::IpAddr]| all.iter().map(ToString::to_string).collect();
    let address = |net: &ipnet::IpNet| Address {
        address: net.addr().to_string(),
        prefix: net.prefix_len(),
        netmask: net.netmask().to_string(),
    };
    Wired {
        interface: wired.interface.clone(),
        mac: wired.mac.map(|mac| mac.to_string()),
        vlan: wired.vlan,
        bridge: match &wired.joins {
            Some(Joined::Bridge(ports)) => Some(ports.clone()),
            _ => None,
        },
        bond: match &wired.joins {
            Some(Joined::Bond(ports, _)) => Some(ports.clone()),
            _ => None,
        },
        bond_mode: match &wired.joins {
            Some(Joined::Bond(_, mode)) => Some(mode.word()),
            _ => None,
        },
        mtu: wired.mtu,
        optional: wired.is_optional,
        dhcp: wired.is_dhcp(),
        addresses: wired.addresses.iter().map(address).collect(),
        gateways: texts(&wired.gateways),
        dns: texts(&wired.dns),
        search: wired.search.clone(),
    }
}

fn wireless(wireless: &pinewrit_settings::Wireless) -> Wireless {
    let networks = wireless.networks.iter().map(|network| Network {
        ssid: network.ssid.clone(),
        hidden: network.hidden,
        key: match &network.key {
            WirelessKey::Derived(key) | WirelessKey::Plain(key) => key.reveal().to_owned(),
            WirelessKey::Enterprise(_) | WirelessKey::Ask(_) => String::new(),
        },
        account: match &network.key {
            WirelessKey::Enterprise(account) => Some(self::account(account)),
            _ => None,
        },
        wpa3: network.security == pinewrit_settings::Security::Wpa3,
        priority: network.priority,
    });
    Wireless {
        interface: wireless.interface.clone(),
        country: wireless.country.clone(),
        networks: networks.collect(),
    }
}

fn account(account: &Enterprise) -> Account {
    let (password, tls) = match &account.method {
        EapMethod::Peap(password) => (Some(password.reveal().to_owned()), None),
        EapMethod::Tls {
            certificate,
            key,
            key_password,
        } => (None, Some((certificate, key, key_password))),
    };
    Account {
        method: if tls.is_some() { "tls" } else { "peap" },
        identity: account.identity.clone(),
        anonymous_identity: account.anonymous_identity.clone(),
        password,
        server_name: account.server_name.clone(),
        authority: account.authority.clone(),
        certificate: tls.map(|(certificate, ..)| certificate.clone()),
        private_key: tls.map(|(_, key, _)| key.reveal().to_owned()),
        private_key_password: tls
            .and_then(|(.., password)| password.as_ref())
            .map(|password| password.reveal().to_owned()),
    }
}
