//! Wireless networks.

use hmac::Hmac;
use sha1::Sha1;

use super::enterprise::{self, Enterprise};
use super::network::interface;
use super::password::{self, Secret, SecretField};
use super::regional::{country, quoted};
use crate::document::{At, Document, Fields, Wrong};

/// Wireless networks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wireless {
    /// The interface, usually `wlan0`.
    pub interface: String,
    /// Country (ISO 3166): without it, the radio stays off.
    pub country: String,
    /// Whether a start does not wait for it.
    pub is_optional: bool,
    /// The networks to join.
    pub networks: Vec<WirelessNetwork>,
}

/// One wireless network.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WirelessNetwork {
    /// Its name, 1 to 32 bytes.
    pub ssid: String,
    /// Whether its name is hidden.
    pub hidden: bool,
    /// How joining is secured.
    pub security: Security,
    /// Networks with a higher priority are joined first.
    pub priority: Option<i32>,
    /// Its key.
    pub key: WirelessKey,
}

/// How joining a wireless network is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Security {
    /// WPA2, with a key derived from the passphrase.
    #[default]
    Wpa2,
    /// WPA3, which needs the passphrase itself.
    Wpa3,
    /// WPA with an account or a certificate for each unit (IEEE 802.1X).
    Enterprise,
}

/// The key of a wireless network.
#[derive(Clone, PartialEq, Eq)]
pub enum WirelessKey {
    /// The key derived from passphrase and network name, 64 hexadecimal digits.
    Derived(Secret),
    /// The passphrase itself, for WPA3.
    Plain(Secret),
    /// What is sent to the network's server.
    Enterprise(Box<Enterprise>),
    /// To be asked for once everything else is checked; holds the line that requests it.
    Ask(usize),
}

impl std::fmt::Debug for WirelessKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("WirelessKey(hidden)")
    }
}

const WIRELESS: &[&str] = &["interface", "country", "optional", "networks"];
const NETWORK: &[&str] = &[
    "ssid",
    "passphrase",
    "passphrase-env",
    "passphrase-file",
    "passphrase-prompt",
    "hidden",
    "security",
    "priority",
    "eap",
    "identity",
    "anonymous-identity",
    "password-env",
    "password-file",
    "password-prompt",
    "server-name",
    "ca-file",
    "certificate-file",
    "key-file",
    "key-password-env",
    "key-password-file",
];
/// The positions of the keys for a passphrase, and of the first one for an account.
const PASSPHRASE: std::ops::Range<usize> = 1..5;
const ACCOUNT: usize = 8;

pub(crate) fn read_wireless(document: &Document<'_>, top: &Fields<'_, '_>) -> Option<Wireless> {
    let fields = top.table("wireless", WIRELESS)?;
    fields.must_have(
        "country",
        "[wireless] has no country, so the radio would stay off",
        "add country = \"AT\", for example: the country where the unit is used",
    );
    let country = fields.checked("country", country);
    let networks = fields.tables("networks", "wireless.networks", NETWORK);
    if networks.is_empty() && !fields.has("networks") {
        document.mistake(
            fields.line(),
            "[wireless] has no network",
            "add [[wireless.networks]] with ssid and passphrase-env",
        );
    }
    let interface = if fields.has("interface") {
        fields.checked("interface", interface)
    } else {
        Some("wlan0".to_owned())
    };
    let networks = networks
        .iter()
        .filter_map(|fields| read_network(document, fields))
        .collect();
    Some(Wireless {
        interface: interface?,
        country: country?,
        is_optional: fields.boolean("optional").is_some_and(|at| at.value),
        networks,
    })
}

fn read_network(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<WirelessNetwork> {
    fields.must_have(
        "ssid",
        "a wireless network without a name",
        "add ssid = \"…\"",
    );
    let ssid = fields.checked("ssid", ssid);
    let hidden = fields.boolean("hidden").is_some_and(|at| at.value);
    let security = fields.checked("security", security).unwrap_or_default();
    let priority = fields.number("priority", 0..=999);
    let key = match security {
        Security::Enterprise => {
            if let Some(key) = NETWORK[PASSPHRASE].iter().find(|key| fields.has(key)) {
                let what = format!("`{key}`, where each unit has an account");
                document.mistake(
                    fields.line(),
                    what,
                    "identity, and password-env or key-file",
                );
            }
            let account = enterprise::read(document, fields);
            account.map(|account| WirelessKey::Enterprise(Box::new(account)))
        }
        _ => {
            if let Some(key) = NETWORK[ACCOUNT..].iter().find(|key| fields.has(key)) {
                let what = format!("`{key}`, where all units share a passphrase");
                document.mistake(fields.line(), what, "security = \"enterprise\", or omit it");
            }
            read_passphrase(document, fields, ssid.as_deref(), security)
        }
    };
    let key = key?;
    Some(WirelessNetwork {
        ssid: ssid?,
        hidden,
        security,
        priority: priority.and_then(|priority| i32::try_from(priority).ok()),
        key,
    })
}

fn read_passphrase(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    ssid: Option<&str>,
    security: Security,
) -> Option<WirelessKey> {
    let secret = match fields.string("passphrase") {
        Some(At { value, line }) => Some(SecretField::Text(At {
            value: Secret::new(value),
            line,
        })),
        None => password::read_secret(document, fields, "passphrase"),
    };
    if !NETWORK[PASSPHRASE].iter().any(|key| fields.has(key)) {
        document.mistake(
            fields.line(),
            "a wireless network without a passphrase",
            "add passphrase-env, passphrase-file, passphrase-prompt or passphrase",
        );
    }
    match secret? {
        SecretField::Ask(line) => Some(WirelessKey::Ask(line)),
        SecretField::Text(secret) => {
            let key = key_of(&secret.value, ssid.unwrap_or("unknown"), security);
            document.accept(secret.line, key)
        }
    }
}

/// Asks for the passphrases to be typed.
pub(crate) fn ask_passphrases(document: &Document<'_>, wireless: Option<&mut Wireless>) {
    let networks = wireless.map(|wireless| &mut wireless.networks);
    for network in networks.into_iter().flatten() {
        let line = match &mut network.key {
            WirelessKey::Ask(line) => *line,
            WirelessKey::Enterprise(account) => {
                enterprise::ask_password(document, account, &network.ssid);
                continue;
            }
            _ => continue,
        };
        let what = format!("passphrase of the network {}", quoted(&network.ssid));
        if let Some(secret) = password::ask(document, line, &what) {
            let key = key_of(&secret, &network.ssid, network.security);
            if let Some(key) = document.accept(line, key) {
                network.key = key;
            }
        }
    }
}

fn ssid(name: &str) -> Result<String, Wrong> {
    match name.len() {
        1..=32 if !name.chars().any(char::is_control) => Ok(name.to_owned()),
        1..=32 => Err(Wrong::new(
            "the network name contains control characters",
            "type it as the router shows it",
        )),
        length => Err(Wrong::new(
            format!("the network name has {length} bytes"),
            "1 to 32 are allowed",
        )),
    }
}

fn security(text: &str) -> Result<Security, Wrong> {
    match text {
        "wpa2" => Ok(Security::Wpa2),
        "wpa3" => Ok(Security::Wpa3),
        "enterprise" => Ok(Security::Enterprise),
        _ => Err(Wrong::new(
            format!("{} is not a security type", quoted(text)),
            "\"wpa2\", \"wpa3\" or \"enterprise\"",
        )),
    }
}

/// The key in the form that the network needs. A passphrase is checked in either case.
fn key_of(passphrase: &Secret, ssid: &str, security: Security) -> Result<WirelessKey, Wrong> {
    let derived = derive_key(passphrase.reveal(), ssid)?;
    match security {
        Security::Wpa2 | Security::Enterprise => Ok(WirelessKey::Derived(derived)),
        Security::Wpa3 if passphrase.reveal().len() == 64 => Err(Wrong::new(
            "WPA3 needs the passphrase, not a key derived from it",
            "the passphrase as the router has it",
        )),
        Security::Wpa3 => Ok(WirelessKey::Plain(passphrase.clone())),
    }
}

/// The key of WPA2: PBKDF2 with HMAC-SHA-1, 4096 rounds, over passphrase and network name (IEEE
/// 802.11-2020, annex J.4). 64 hexadecimal digits are already a key.
fn derive_key(passphrase: &str, ssid: &str) -> Result<Secret, Wrong> {
    let is_key = passphrase.len() == 64 && passphrase.bytes().all(|b| b.is_ascii_hexdigit());
    if is_key {
        return Ok(Secret::new(passphrase.to_ascii_lowercase()));
    }
    let length = passphrase.chars().count();
    if !passphrase.bytes().all(|b| (0x20..0x7f).contains(&b)) {
        return Err(Wrong::new(
            "the passphrase contains non-ASCII characters",
            "only characters of a US keyboard are allowed",
        ));
    }
    if !(8..=63).contains(&length) {
        return Err(Wrong::new(
            format!("the passphrase has {length} characters"),
            "8 to 63 are allowed",
        ));
    }
    let mut key = [0; 32];
    pbkdf2::pbkdf2::<Hmac<Sha1>>(passphrase.as_bytes(), ssid.as_bytes(), 4096, &mut key)
        .map_err(|_| Wrong::new("the key could not be derived", "try again"))?;
    Ok(Secret::new(hex::encode(key)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_derived_key_is_the_standards() {
        // IEEE 802.11-2020, annex J.4.2, first test vector.
        let key = derive_key("password", "IEEE").ok().unwrap();
        assert_eq!(
            key.reveal(),
            "f42c6fc52df0ebef9ebb4b90b38a5f902e83fe1b135a70e23aed762e9710a12e"
        );
    }
}
