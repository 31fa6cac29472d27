//! cloud-init's NoCloud seed: `user-data`, `meta-data` and `network-config` in the root of the
//! FAT boot partition.
//!
//! Forms: cloud-init's documentation, "NoCloud", "Module reference" and "Networking config
//! version 2".

mod network_config;
mod user_data;

use pinewrit_disk::BlockDevice;
use serde::{Deserialize, Serialize};

use crate::filesystem::{FatGeometry, FatVolume};
use crate::settings::{CheckedSettings, HashError};

/// The three files of a seed.
pub(crate) const USER_DATA: &str = "user-data";
const META_DATA: &str = "meta-data";
const NETWORK_CONFIG: &str = "network-config";

/// The label of file systems on which cloud-init looks for a seed by itself, in either case.
pub(crate) const LABEL: &str = "CIDATA";

/// A seed file larger than this was not made by anybody.
pub(crate) const MAX_FILE: u64 = 1 << 20;

/// One file of the seed, and its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SeedFile {
    pub(crate) name: &'static str,
    pub(crate) content: String,
}

/// A seed that was found on a medium.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SeedFacts {
    /// The intake: `cloud-init`.
    pub intake: &'static str,
    /// Number of the partition that holds it; `None` where the medium has no table.
    pub partition: Option<u32>,
    /// The host name that it sets.
    pub host_name: Option<String>,
    /// The users that it makes.
    pub users: Vec<String>,
}

/// Why a seed could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SeedError {
    /// A password could not be hashed.
    #[error(transparent)]
    Hash(#[from] HashError),
    /// A file could not be put in YAML.
    #[error("{file} could not be put in YAML")]
    Yaml {
        /// The file.
        file: &'static str,
        /// The cause.
        source: serde_saphyr::ser::Error,
    },
}

/// Makes the seed. `existing` is the `user-data` that is on the medium now: hashes in it that fit
/// are kept.
pub(crate) fn seed(
    settings: &CheckedSettings,
    existing: Option<&str>,
) -> Result<Vec<SeedFile>, SeedError> {
    let user_data = format!(
        "#cloud-config\n{}",
        yaml(USER_DATA, &user_data::user_data(settings, existing)?)?
    );
    let network = network_config::network_config(settings);
    let network = network.map(|n| yaml(NETWORK_CONFIG, &n)).transpose()?;
    let meta_data = yaml(
        META_DATA,
        &MetaData {
            instance_id: instance_id(settings, &user_data, network.as_deref()),
            local_hostname: settings.host_name.clone(),
        },
    )?;
    let mut files = vec![
        SeedFile {
            name: USER_DATA,
            content: user_data,
        },
        SeedFile {
            name: META_DATA,
            content: meta_data,
        },
    ];
    files.extend(network.map(|content| SeedFile {
        name: NETWORK_CONFIG,
        content,
    }));
    Ok(files)
}

#[derive(Serialize)]
struct MetaData {
    #[serde(rename = "instance-id")]
    instance_id: String,
    #[serde(rename = "local-hostname", skip_serializing_if = "Option::is_none")]
    local_hostname: Option<String>,
}

/// The same settings give the same id; other settings another one, so that cloud-init runs again.
fn instance_id(settings: &CheckedSettings, user_data: &str, network: Option<&str>) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(user_data.as_bytes());
    hasher.update(network.unwrap_or_default().as_bytes());
    let digest = hasher.finalize().to_hex();
    let name = settings.host_name.as_deref().unwrap_or("unit");
    format!("{name}-{}", &digest[..12])
}

/// Every string is quoted: cloud-init reads YAML 1.1, where `no`, `12:30:45` and `0755` are no
/// strings.
fn yaml(file: &'static str, value: &impl Serialize) -> Result<String, SeedError> {
    let options = serde_saphyr::ser_options! { quote_all: true };
    serde_saphyr::to_string_with_options(value, options)
        .map_err(|source| SeedError::Yaml { file, source })
}

/// Looks for a seed in a FAT file system. What cannot be read counts as not there.
pub(crate) fn find_seed(device: &dyn BlockDevice, partition: Option<u32>) -> Option<SeedFacts> {
    let geometry = FatGeometry::read(device).ok()??;
    let volume = FatVolume::open(device, &geometry).ok()?;
    let user_data = volume.read(USER_DATA, MAX_FILE).ok()??;
    let meta_data = volume.read(META_DATA, MAX_FILE).ok()??;
    let user_data = parse_user_data(std::str::from_utf8(&user_data).ok()?)?;
    let names: MetaNames = serde_saphyr::from_slice(&meta_data).unwrap_or_default();
    let clean =
        |text: String| -> String { text.chars().map(crate::filesystem::printable).collect() };
    let users = user_data.users.into_iter().flatten();
    Some(SeedFacts {
        intake: "cloud-init",
        partition,
        host_name: user_data.hostname.or(names.local_hostname).map(clean),
        users: users.filter_map(|user| user.name).map(clean).collect(),
    })
}

#[derive(Default, Deserialize)]
struct MetaNames {
    #[serde(rename = "local-hostname")]
    local_hostname: Option<String>,
}

/// The parts of a `user-data` that are looked at.
#[derive(Default, Deserialize)]
struct FoundUserData {
    hostname: Option<String>,
    users: Option<Vec<FoundUser>>,
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

/// Hides hashes and keys in a seed file, for showing it. Works on any text: everything after such
/// a key on its line is hidden.
pub(crate) fn redact(content: &str) -> String {
    const HIDDEN: &[&str] = &[
        "passwd:",
        "hashed_passwd:",
        "plain_text_passwd:",
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
