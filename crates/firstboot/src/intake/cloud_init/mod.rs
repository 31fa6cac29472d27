//! cloud-init's NoCloud seed: `user-data`, `meta-data` and `network-config` in the root of the
//! FAT boot partition.
//!
//! Forms: cloud-init's documentation, "NoCloud", "Module reference" and "Networking config
//! version 2".

mod network_config;
mod user_data;

use pinewrit_settings::{CheckedSettings, HashError};
use pinewrit_volume::files::Files;
use serde::{Deserialize, Serialize};

use super::SettingsFacts;
use crate::intake::host_key::HostKey;
use crate::intake::host_key::KeyOrigin;

/// The three files of a seed.
pub(crate) const USER_DATA: &str = "user-data";
pub(crate) const META_DATA: &str = "meta-data";
pub(crate) const NETWORK_CONFIG: &str = "network-config";

/// The label of file systems on which cloud-init looks for a seed, in upper or lower case.
pub(crate) const LABEL: &str = "CIDATA";

/// A larger seed file was not written by a person.
pub(crate) const MAX_FILE: u64 = 1 << 20;

/// One file of the seed, and its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SeedFile {
    pub(crate) name: &'static str,
    pub(crate) content: String,
}

/// Why a seed could not be created.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SeedError {
    /// A password could not be hashed.
    #[error(transparent)]
    Hash(#[from] HashError),
    /// A file could not be converted to YAML.
    #[error("{file} could not be put in YAML")]
    Yaml {
        /// The file.
        file: &'static str,
        /// The cause.
        source: serde_saphyr::ser::Error,
    },
}

/// The inputs of a seed besides the settings.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct SeedContext<'a> {
    /// The current `user-data`: its host keys and matching hashes are kept.
    pub(crate) existing: Option<&'a str>,
    /// The image's own user.
    pub(crate) stock_user: Option<&'a str>,
    /// The image's netplan, if its version is known, does not support WPA3.
    pub(crate) lacks_wpa3: bool,
    /// Nothing in the image, as far as known, sets the console's keyboard.
    pub(crate) lacks_keyboard: bool,
    /// The wait for a network is already limited, by a file in the root.
    pub(crate) limits_wait: bool,
}

/// A seed's files, and its host key.
pub(crate) struct Seed {
    pub(crate) files: Vec<SeedFile>,
    pub(crate) host_key: Option<HostKey>,
}

/// Creates the seed.
pub(crate) fn seed(
    settings: &CheckedSettings,
    context: &SeedContext<'_>,
) -> Result<Seed, SeedError> {
    let data = user_data::user_data(settings, context)?;
    let host_key = data.host_key(settings);
    let user_data = format!("#cloud-config\n{}", yaml(USER_DATA, &data)?);
    let network = network_config::network_config(settings, !context.lacks_wpa3);
    let network = network.map(|n| yaml(NETWORK_CONFIG, &n)).transpose()?;
    let meta_data = yaml(
        META_DATA,
        &MetaData {
            instance_id: instance_id(settings, &user_data, network.as_deref()),
            local_hostname: settings.host_name.clone(),
        },
    )?;
    let file = |name, content| SeedFile { name, content };
    let mut files = vec![file(USER_DATA, user_data), file(META_DATA, meta_data)];
    files.extend(network.map(|content| file(NETWORK_CONFIG, content)));
    Ok(Seed { files, host_key })
}

/// The settings' networks as netplan's own file.
pub(crate) fn netplan_text(
    settings: &CheckedSettings,
    renderer: &'static str,
    knows_wpa3: bool,
) -> Result<String, SeedError> {
    match network_config::netplan_file(settings, renderer, knows_wpa3) {
        Some(file) => yaml(NETWORK_CONFIG, &file),
        None => Ok(String::new()),
    }
}

#[derive(Serialize)]
struct MetaData {
    #[serde(rename = "instance-id")]
    instance_id: String,
    #[serde(rename = "local-hostname", skip_serializing_if = "Option::is_none")]
    local_hostname: Option<String>,
}

/// Equal settings give the same id; different ones another, so that cloud-init runs again.
fn instance_id(settings: &CheckedSettings, user_data: &str, network: Option<&str>) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(user_data.as_bytes());
    hasher.update(network.unwrap_or_default().as_bytes());
    let digest = hasher.finalize().to_hex();
    let name = settings.host_name.as_deref().unwrap_or("unit");
    format!("{name}-{}", &digest[..12])
}

/// Every string is quoted: cloud-init reads YAML 1.1, where `no`, `12:30:45` and `0755` are not
/// strings.
fn yaml(file: &'static str, value: &impl Serialize) -> Result<String, SeedError> {
    let options = serde_saphyr::ser_options! { quote_all: true };
    serde_saphyr::to_string_with_options(value, options)
        .map_err(|source| SeedError::Yaml { file, source })
}

/// Looks for a seed in a folder of a file system. What cannot be read counts as absent.
pub(crate) fn find_seed(
    files: &Files<'_>,
    folder: &str,
    partition: Option<u32>,
) -> Option<SettingsFacts> {
    let read = |name: &str| files.read(&format!("{folder}/{name}"), MAX_FILE).ok()?;
    let user_data = read(USER_DATA)?;
    let meta_data = read(META_DATA)?;
    let user_data = parse_user_data(std::str::from_utf8(&user_data).ok()?)?;
    let names: MetaNames = serde_saphyr::from_slice(&meta_data).unwrap_or_default();
    let clean = |text: String| -> String { text.chars().map(pinewrit_volume::printable).collect() };
    let users = user_data.users.into_iter().flatten();
    let network = read(NETWORK_CONFIG).unwrap_or_default();
    Some(SettingsFacts {
        intake: "cloud-init".to_owned(),
        partition,
        host_name: user_data.hostname.or(names.local_hostname).map(clean),
        users: users.filter_map(|user| user.name).map(clean).collect(),
        networks: crate::intake::networks::in_netplan(&String::from_utf8_lossy(&network)),
    })
}

#[derive(Default, Deserialize)]
struct MetaNames {
    #[serde(rename = "local-hostname")]
    local_hostname: Option<String>,
}

/// The examined parts of a `user-data`.
#[derive(Default, Deserialize)]
#[serde(default)]
struct FoundUserData {
    hostname: Option<String>,
    users: Option<Vec<FoundUser>>,
    ssh_keys: Option<HostKeys>,
}

/// The host keys in a `user-data`.
#[derive(Clone, Serialize, Deserialize)]
struct HostKeys {
    ed25519_private: String,
    ed25519_public: String,
    #[serde(skip)]
    origin: KeyOrigin,
}

#[derive(Default, Deserialize)]
#[serde(default)]
struct FoundUser {
    name: Option<String>,
    hashed_passwd: Option<String>,
}

fn parse_user_data(text: &str) -> Option<FoundUserData> {
    if !text.starts_with("#cloud-config") {
        return None;
    }
    serde_saphyr::from_str(text).ok()
}

/// What an earlier seed requested and this one does not, in words.
pub(crate) fn dropped(existing: Option<&str>, seed: &Seed) -> Vec<String> {
    use serde_json::Value;
    let read = |text: &str| -> Value { serde_saphyr::from_str(text).unwrap_or_default() };
    let old = read(existing.unwrap_or_default());
    let new = seed.files.iter().find(|file| file.name == USER_DATA);
    let new = read(new.map_or("", |file| &file.content));
    let names = |data: &Value| -> Vec<String> {
        let users = data.get("users").and_then(Value::as_array);
        let names = users.into_iter().flatten();
        let names = names.filter_map(|user| user.get("name")?.as_str());
        names
            .map(|name| name.chars().map(pinewrit_volume::printable).collect())
            .collect()
    };
    let kept = names(&new);
    let users = names(&old).into_iter().filter(|name| !kept.contains(name));
    let keys = ["timezone", "locale", "keyboard", "ntp", "swap", "packages"];
    let keys = keys.into_iter().filter(|key| {
        let key: &str = key;
        old.get(key).is_some() && new.get(key).is_none()
    });
    let users = users.map(|name| format!("user {name}"));
    users.chain(keys.map(str::to_owned)).collect()
}

/// Hides hashes and keys in a seed file for display. Works on any text: everything after such a key
/// on its line is hidden.
pub(crate) fn redact(content: &str) -> String {
    const HIDDEN: &[&str] = &[
        "passwd:",
        "hashed_passwd:",
        "plain_text_passwd:",
        "ed25519_private:",
        "password:",
    ];
    let redact_line = |line: &str| {
        let trimmed = line.trim_start_matches([' ', '-', '"', '\'']);
        let bare = trimmed.replace(['"', '\''], "");
        let key = HIDDEN.iter().find(|key| bare.starts_with(**key));
        match key.and_then(|_| line.split_once(':')) {
            Some((key, _)) => format!("{key}: (hidden)\n"),
            None => format!("{line}\n"),
        }
    };
    content.lines().map(redact_line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_hidden_whatever_the_quotes() {
        let shown = redact("  - \"hashed_passwd\": \"$6$abc\"\n    password: abc\nname: x\n");
        assert_eq!(
            shown,
            "  - \"hashed_passwd\": (hidden)\n    password: (hidden)\nname: x\n"
        );
    }

    #[test]
    fn only_cloud_configs_are_read() {
        assert!(parse_user_data("#!/bin/sh\n").is_none());
        let found = parse_user_data("#cloud-config\nhostname: a\nusers: [{name: b}]\n").unwrap();
        assert_eq!(found.hostname.as_deref(), Some("a"));
    }
}
