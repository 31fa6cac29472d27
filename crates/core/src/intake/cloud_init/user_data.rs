//! `user-data`: users, host name, SSH and the regional settings.

use serde::Serialize;

use super::parse_user_data;
use crate::settings::{CheckedSettings, HashError, Sudo, User};

#[derive(Serialize)]
pub(super) struct UserData {
    #[serde(skip_serializing_if = "Option::is_none")]
    hostname: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    fqdn: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    manage_etc_hosts: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    timezone: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    locale: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    keyboard: Option<Keyboard>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ssh_pwauth: Option<bool>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    users: Vec<UserEntry>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    write_files: Vec<FileEntry>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    runcmd: Vec<Vec<String>>,
}

#[derive(Serialize)]
struct Keyboard {
    layout: String,
}

#[derive(Serialize)]
struct UserEntry {
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    gecos: Option<String>,
    shell: &'static str,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    groups: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    sudo: Option<&'static str>,
    lock_passwd: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    hashed_passwd: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    ssh_authorized_keys: Vec<String>,
}

#[derive(Serialize)]
struct FileEntry {
    path: &'static str,
    content: String,
}

pub(super) fn user_data(
    settings: &CheckedSettings,
    existing: Option<&str>,
) -> Result<UserData, HashError> {
    let host_name = settings.host_name.as_deref();
    let short = host_name.map(|name| name.split('.').next().unwrap_or(name));
    let fqdn = host_name.filter(|name| name.contains('.'));
    let users = settings.users.iter().map(|user| entry(user, existing));
    Ok(UserData {
        hostname: short.map(str::to_owned),
        fqdn: fqdn.map(str::to_owned),
        // sudo looks its host up; without a line for it each call takes a while.
        manage_etc_hosts: host_name.map(|_| "localhost"),
        timezone: settings.time_zone.clone(),
        locale: settings.locale.clone(),
        keyboard: settings.keyboard.clone().map(|layout| Keyboard { layout }),
        ssh_pwauth: settings.ssh_password_login,
        users: users.collect::<Result<_, _>>()?,
        write_files: country_file(settings).into_iter().collect(),
        runcmd: ssh_command(settings.ssh_enabled).into_iter().collect(),
    })
}

fn entry(user: &User, existing: Option<&str>) -> Result<UserEntry, HashError> {
    let kept = existing.and_then(|text| existing_hash(text, &user.name));
    let password = user.password.as_ref();
    let hash = password.map(|p| p.hashed(kept.as_deref())).transpose()?;
    Ok(UserEntry {
        name: user.name.clone(),
        gecos: user.full_name.clone(),
        shell: "/bin/bash",
        groups: user.groups.clone(),
        sudo: match user.sudo {
            Sudo::No => None,
            Sudo::WithPassword => Some("ALL=(ALL:ALL) ALL"),
            Sudo::WithoutPassword => Some("ALL=(ALL:ALL) NOPASSWD:ALL"),
        },
        lock_passwd: hash.is_none(),
        hashed_passwd: hash,
        ssh_authorized_keys: user.ssh_keys.clone(),
    })
}

fn existing_hash(text: &str, name: &str) -> Option<String> {
    let users = parse_user_data(text)?.users?;
    let user = users
        .into_iter()
        .find(|user| user.name.as_deref() == Some(name))?;
    user.hashed_passwd
}

/// The country for radios whose driver is a module: it holds from the second start on, whatever
/// manages the network. For the first start the country is in `network-config`.
fn country_file(settings: &CheckedSettings) -> Option<FileEntry> {
    let country = &settings.wireless.as_ref()?.country;
    Some(FileEntry {
        path: "/etc/modprobe.d/wireless-country.conf",
        content: format!("options cfg80211 ieee80211_regdom={country}\n"),
    })
}

/// The service is called `ssh` on Debian and its kin, `sshd` elsewhere.
fn ssh_command(enabled: Option<bool>) -> Option<Vec<String>> {
    let verb = if enabled? { "enable" } else { "disable" };
    let command =
        format!("systemctl {verb} --now ssh.service || systemctl {verb} --now sshd.service");
    Some(vec!["sh".into(), "-c".into(), command])
}
