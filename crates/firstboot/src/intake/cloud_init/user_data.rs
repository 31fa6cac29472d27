//! `user-data`: users, host name, SSH and the regional settings.

use pinewrit_settings::{CheckedSettings, HashError, StockUser, Sudo, User};
use serde::Serialize;

use super::{HostKeys, SeedContext, parse_user_data};
use crate::intake::certificates::{self, NetworkFile};
use crate::intake::first_start::{self, Step};
use crate::intake::host_key::HostKey;
use crate::intake::online::{self, Awaited};
use crate::intake::{host_key, rootfs};

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
    #[serde(skip_serializing_if = "Option::is_none")]
    ssh_deletekeys: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ssh_keys: Option<HostKeys>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ntp: Option<Ntp>,
    #[serde(skip_serializing_if = "Option::is_none")]
    swap: Option<Swap>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    users: Vec<UserEntry>,
    #[serde(skip_serializing_if = "Option::is_none")]
    package_update: Option<bool>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    packages: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    write_files: Vec<FileEntry>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    bootcmd: Vec<Vec<String>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    runcmd: Vec<Vec<String>>,
}

impl UserData {
    /// What a client needs to recognise the unit, if its key is in here.
    pub(super) fn host_key(&self, settings: &CheckedSettings) -> Option<HostKey> {
        let keys = self.ssh_keys.as_ref()?;
        host_key::described(&keys.ed25519_public, settings, keys.origin)
    }
}

#[derive(Serialize)]
struct Ntp {
    enabled: bool,
    servers: Vec<String>,
}

#[derive(Serialize)]
struct Swap {
    filename: &'static str,
    size: u64,
    maxsize: u64,
}

#[derive(Serialize)]
struct Keyboard {
    layout: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    variant: Option<String>,
}

#[derive(Serialize)]
struct UserEntry {
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    uid: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    gecos: Option<String>,
    shell: String,
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
    path: String,
    content: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    permissions: Option<&'static str>,
}

impl FileEntry {
    fn open(path: &str, content: String) -> Self {
        Self {
            path: path.to_owned(),
            content,
            permissions: None,
        }
    }
}

pub(super) fn user_data(
    settings: &CheckedSettings,
    context: &SeedContext<'_>,
) -> Result<UserData, HashError> {
    let existing = context.existing;
    let host_name = settings.host_name.as_deref();
    let short = host_name.map(|name| name.split('.').next().unwrap_or(name));
    let fqdn = host_name.filter(|name| name.contains('.'));
    let users = settings.users.iter().map(|user| entry(user, existing));
    Ok(UserData {
        hostname: short.map(str::to_owned),
        fqdn: fqdn.map(str::to_owned),
        // sudo resolves its host name; without a line for it, each call takes a while.
        manage_etc_hosts: host_name.map(|_| "localhost"),
        timezone: settings.time_zone.clone(),
        locale: settings.locale.clone(),
        keyboard: settings
            .keyboard
            .clone()
            .filter(|_| !context.lacks_keyboard)
            .map(|layout| Keyboard {
                layout,
                variant: settings.keyboard_variant.clone(),
            }),
        ssh_pwauth: settings.ssh_password_login,
        ssh_deletekeys: settings.ssh_host_keys.filter(|made| *made),
        ssh_keys: host_keys(settings, existing),
        ntp: (!settings.time_servers.is_empty()).then(|| Ntp {
            enabled: true,
            servers: settings.time_servers.clone(),
        }),
        swap: settings.swap.map(|size| Swap {
            filename: "/swapfile",
            size,
            maxsize: size,
        }),
        users: users.collect::<Result<_, _>>()?,
        package_update: (!settings.first_start.packages.is_empty()).then_some(true),
        packages: settings.first_start.packages.clone(),
        write_files: country_file(settings)
            .into_iter()
            .chain(port_file(settings))
            .chain(certificate_files(settings))
            .chain(autologin_files(settings))
            .chain(steps_file(settings))
            .collect(),
        bootcmd: locale_command(settings)
            .into_iter()
            .chain(wait_command(settings, context))
            .collect(),
        runcmd: commands(settings, context.stock_user),
    })
}

/// The host key of an earlier run stays: clients already know it.
fn host_keys(settings: &CheckedSettings, existing: Option<&str>) -> Option<HostKeys> {
    settings.ssh_host_keys.filter(|made| *made)?;
    let known = existing.and_then(parse_user_data);
    if let Some(keys) = known.and_then(|known| known.ssh_keys) {
        return Some(keys);
    }
    let name = settings.host_name.as_deref().unwrap_or("host");
    let (private, public) = host_key::make_host_key(&format!("root@{name}"))?;
    Some(HostKeys {
        ed25519_private: private.to_string(),
        ed25519_public: public,
        origin: host_key::KeyOrigin::New,
    })
}

/// Debian generates only the locales in its list, whatever cloud-init requests, so the list is
/// extended first. Without a list, the locales already exist.
fn locale_command(settings: &CheckedSettings) -> Option<Vec<String>> {
    let locale = settings.locale.as_deref()?;
    // These are built into the C library.
    if ["C", "POSIX"].contains(&locale.split('.').next()?) {
        return None;
    }
    let list = "/etc/locale.gen";
    let command = format!(
        "[ ! -e {list} ] || grep -q '^{locale} ' {list} || echo '{locale} UTF-8' >> {list}"
    );
    Some(vec!["sh".into(), "-c".into(), command])
}

fn port_file(settings: &CheckedSettings) -> Option<FileEntry> {
    let path = "/etc/ssh/sshd_config.d/10-pinewrit.conf";
    Some(FileEntry::open(
        path,
        format!("Port {}\n", settings.ssh_port?),
    ))
}

/// Commands for the first start, before the settings' own.
fn commands(settings: &CheckedSettings, stock_user: Option<&str>) -> Vec<Vec<String>> {
    let shell = |command: String| vec!["sh".to_owned(), "-c".to_owned(), command];
    let mut commands: Vec<_> = ssh_command(settings.ssh_enabled).into_iter().collect();
    if settings.ssh_port.is_some() {
        let command = "systemctl restart ssh.service || systemctl restart sshd.service";
        commands.push(shell(command.to_owned()));
    }
    if let (Some(StockUser::Lock), Some(name)) = (settings.stock_user, stock_user) {
        commands.push(shell(format!("usermod --lock --expiredate 1 {name}")));
    }
    if settings.zram == Some(false) {
        let command = "systemctl mask --now zramswap.service systemd-zram-setup@zram0.service";
        commands.push(shell(format!("{command} || true")));
    }
    commands.extend(autologin_command(settings).map(shell));
    commands
}

fn certificate_files(settings: &CheckedSettings) -> Vec<FileEntry> {
    let files = settings.wireless.iter().flat_map(certificates::files);
    let entry = |file: NetworkFile<'_>| FileEntry {
        permissions: file.is_secret.then_some("0600"),
        ..FileEntry::open(&file.path, file.content.to_owned())
    };
    files.map(entry).collect()
}

/// cloud-init runs it at each start, after installing packages; each of its steps runs once.
fn steps_file(settings: &CheckedSettings) -> Option<FileEntry> {
    let steps = Step::commands(&settings.first_start);
    // While cloud-init waited for it, the start would not complete; its service leaves processes
    // behind alone.
    let script = first_start::script_beside(&steps, first_start::LOG);
    let path = "/var/lib/cloud/scripts/per-boot/pinewrit";
    (!steps.is_empty()).then(|| FileEntry {
        permissions: Some("0700"),
        ..FileEntry::open(path, script)
    })
}

fn autologin_files(settings: &CheckedSettings) -> Vec<FileEntry> {
    let Some(wanted) = &settings.autologin else {
        return Vec::new();
    };
    let mut files = Vec::new();
    if wanted.on_console {
        let consoles = rootfs::CONSOLES.into_iter();
        files.extend(
            consoles.map(|(path, options)| {
                FileEntry::open(path, rootfs::console(&wanted.user, options))
            }),
        );
    }
    if wanted.on_desktop {
        let files_of = rootfs::desktop_files(&wanted.user, "");
        files.extend(
            files_of
                .into_iter()
                .map(|(_, path, text)| FileEntry::open(path, text)),
        );
    }
    files
}

/// Consoles that are already at their login prompt start again; gdm has one file for all its
/// settings.
fn autologin_command(settings: &CheckedSettings) -> Option<String> {
    let wanted = settings.autologin.as_ref()?;
    let mut command = String::from("systemctl daemon-reload\n");
    if wanted.on_console {
        command += "systemctl try-restart 'getty@*.service' 'serial-getty@*.service'\n";
    }
    if wanted.on_desktop {
        let user = &wanted.user;
        command += &format!(
            "for file in /etc/gdm3/daemon.conf /etc/gdm/custom.conf; do\n\
             [ -e $file ] || continue\n\
             sed -i -e '/^ *AutomaticLogin/d' \
             -e 's/^\\[daemon\\]/&\\nAutomaticLoginEnable=true\\nAutomaticLogin={user}/' $file\n\
             done\n\
             systemctl try-restart display-manager.service || true\n"
        );
    }
    Some(command)
}

/// If the root is out of reach, the limit on waiting for a network applies from the second start
/// on.
fn wait_command(settings: &CheckedSettings, context: &SeedContext<'_>) -> Option<Vec<String>> {
    if context.limits_wait {
        return None;
    }
    let awaited = Awaited::by(settings);
    let program = online::WAIT_PROGRAMS[0];
    let text = awaited.limit(program).replace('\n', "\\n");
    let file = online::WAIT_FILE;
    let folder = file.rsplit_once('/').map_or("", |(folder, _)| folder);
    let command =
        format!("[ ! -e {program} ] || {{ mkdir -p {folder}; printf '{text}' > {file}; }}");
    Some(vec!["sh".into(), "-c".into(), command])
}

fn entry(user: &User, existing: Option<&str>) -> Result<UserEntry, HashError> {
    let kept = existing.and_then(|text| existing_hash(text, &user.name));
    let password = user.password.as_ref();
    let hash = password.map(|p| p.hashed(kept.as_deref())).transpose()?;
    Ok(UserEntry {
        name: user.name.clone(),
        uid: user.uid,
        gecos: user.full_name.clone(),
        shell: user.shell.clone().unwrap_or_else(|| "/bin/bash".to_owned()),
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

/// The country for radios whose driver is a module: it applies from the second start on, whatever
/// manages the network. For the first start, it is in `network-config`.
fn country_file(settings: &CheckedSettings) -> Option<FileEntry> {
    let country = &settings.wireless.as_ref()?.country;
    let path = "/etc/modprobe.d/wireless-country.conf";
    let content = format!("options cfg80211 ieee80211_regdom={country}\n");
    Some(FileEntry::open(path, content))
}

/// The service is called `ssh` on Debian and its derivatives, `sshd` elsewhere.
fn ssh_command(enabled: Option<bool>) -> Option<Vec<String>> {
    let verb = if enabled? { "enable" } else { "disable" };
    let command =
        format!("systemctl {verb} --now ssh.service || systemctl {verb} --now sshd.service");
    Some(vec!["sh".into(), "-c".into(), command])
}
