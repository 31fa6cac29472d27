//! What makes a system one unit, by where systems keep it.

use pinewrit_volume::files::{Files, FilesError, Kind, Rights, above, join};

use super::{Done, How, Taker};
use crate::intake::rootfs::CLOUD_INIT_OFF;

/// Whether a file system holds the random seed of a boot loader (Boot Loader Interface,
/// `loader/random-seed`).
pub(super) fn has_boot_seed(files: &Files<'_>) -> Result<bool, FilesError> {
    files.has_name(BOOT_SEED)
}

const BOOT_SEED: &str = "/loader/random-seed";

pub(super) fn boot_seed(taker: &mut Taker<'_, '_>) -> Done {
    taker.remove(BOOT_SEED, "random seed")
}

/// Everything that is known of a root file system.
pub(super) fn all(taker: &mut Taker<'_, '_>) -> Done {
    identity(taker)?;
    host_keys(taker)?;
    leases(taker)?;
    cloud_init(taker)?;
    interface_names(taker)?;
    logs(taker)?;
    homes(taker)?;
    packages(taker)?;
    for folder in ["/var/mail", "/var/spool/mail"] {
        taker.remove_below(folder, "mail")?;
    }
    for folder in ["/var/crash", "/var/lib/systemd/coredump"] {
        taker.remove_below(folder, "crash dump")?;
    }
    for path in ["/swapfile", "/swap.img", "/var/swap", "/var/swapfile"] {
        if taker.files.size_of(path)?.is_some_and(|size| size > 0) {
            taker.note(format!(
                "{path} may hold memory of the earlier unit; it stays"
            ));
        }
    }
    Ok(())
}

/// machine-id(5): empty counts as new, and systems expect the file. The bus has a copy, or a link.
fn identity(taker: &mut Taker<'_, '_>) -> Done {
    taker.empty("/etc/machine-id", "machine id")?;
    let bus = "/var/lib/dbus/machine-id";
    let facts = taker.files.facts(bus)?;
    if facts.is_some_and(|facts| facts.kind == Kind::File) {
        taker.remove(bus, "machine id")?;
    }
    for path in [
        "/var/lib/systemd/random-seed",
        "/var/lib/urandom/random-seed",
        "/var/lib/random-seed",
        "/var/lib/misc/random-seed",
        "/var/lib/seedrng/seed.credit",
        "/var/lib/seedrng/seed.no-credit",
    ] {
        taker.remove(path, "random seed")?;
    }
    taker.remove("/var/lib/systemd/credential.secret", "host secret")
}

const SSH: &str = "/etc/ssh";
const KEY_MAKER: &str = "/etc/systemd/system/pinewrit-host-keys.service";

fn host_keys(taker: &mut Taker<'_, '_>) -> Done {
    let is_key = |name: &str| name.starts_with("ssh_host_") && name.contains("_key");
    let before = taker.report.taken.len();
    taker.remove_named(SSH, is_key, "host key")?;
    for folder in ["/etc/dropbear", "/etc/dropbear-initramfs"] {
        taker.remove_named(folder, |name| name.ends_with("_host_key"), "host key")?;
    }
    if taker.report.taken.len() == before {
        return Ok(());
    }
    make_host_keys(taker)
}

/// Without a host key the server does not start, and most systems make them only when its package
/// is installed. Some make them at each start where there are none.
fn make_host_keys(taker: &mut Taker<'_, '_>) -> Done {
    let files = &taker.files;
    let has_cloud_init = files.has("/usr/bin/cloud-init")? && !files.has(CLOUD_INIT_OFF)?;
    let makers = [
        "/usr/lib/systemd/system/sshd-keygen@.service",
        "/usr/lib/systemd/system/sshd-keygen.target",
        "/usr/lib/systemd/system/sshdgenkeys.service",
    ];
    let mut makes_keys = has_cloud_init || files.has("/sbin/openrc-run")?;
    for maker in makers {
        makes_keys |= files.has(maker)?;
    }
    let program = "/usr/bin/ssh-keygen";
    if makes_keys || !files.has(program)? || taker.is_kept(KEY_MAKER) {
        return Ok(());
    }
    let has_systemd =
        taker.files.has("/usr/lib/systemd/systemd")? || taker.files.has("/lib/systemd/systemd")?;
    if !has_systemd {
        taker.note(
            "nothing on this system makes new SSH host keys: settings can bring one, or run \
             ssh-keygen -A on the unit",
        );
        return Ok(());
    }
    let text = format!(
        "# Written by Pinewrit: host keys of its own for each copy of this system.\n[Unit]\n\
         Description=SSH host keys\nConditionPathExistsGlob=!{SSH}/ssh_host_*_key\n\
         Before=ssh.service sshd.service ssh.socket sshd.socket\n\n[Service]\nType=oneshot\n\
         ExecStart={program} -A\n\n[Install]\nWantedBy=multi-user.target\n"
    );
    let rights = Rights::root(0o644);
    taker
        .files
        .make_folders(above(KEY_MAKER), Rights::root(0o755))?;
    taker.files.put(KEY_MAKER, rights, text.as_bytes())?;
    taker.told(KEY_MAKER, 0, "makes host keys", How::Added);
    let wants = "/etc/systemd/system/multi-user.target.wants";
    taker.files.make_folders(wants, Rights::root(0o755))?;
    taker
        .files
        .link(&join(wants, "pinewrit-host-keys.service"), KEY_MAKER)
}

fn leases(taker: &mut Taker<'_, '_>) -> Done {
    let what = "DHCP lease";
    for folder in [
        "/var/lib/dhcp",
        "/var/lib/dhclient",
        "/var/lib/dhcpcd",
        "/var/lib/dhcpcd5",
    ] {
        taker.remove_below(folder, what)?;
    }
    for path in ["/etc/dhcpcd.duid", "/etc/dhcpcd.secret"] {
        taker.remove(path, what)?;
    }
    let is_lease = |name: &str| {
        name.ends_with(".lease")
            || name.ends_with(".leases")
            || ["secret_key", "seen-bssids", "timestamps"].contains(&name)
    };
    for folder in [
        "/var/lib/NetworkManager",
        "/var/lib/misc",
        "/var/lib/systemd/network",
    ] {
        taker.remove_named(folder, is_lease, what)?;
    }
    Ok(())
}

/// What cloud-init remembers of an instance; seeds and its settings stay.
fn cloud_init(taker: &mut Taker<'_, '_>) -> Done {
    let what = "cloud-init's instance";
    for name in [
        "instance",
        "instances",
        "data",
        "sem",
        "handlers",
        "scripts/per-instance",
    ] {
        let path = join("/var/lib/cloud", name);
        match taker.files.facts(&path)?.map(|facts| facts.kind) {
            None => {}
            Some(Kind::Folder) => {
                taker.remove_below(&path, what)?;
                taker.remove_empty_folders(&path)?;
            }
            Some(_) => taker.remove(&path, what)?,
        }
    }
    // Made for an instance, from its seed.
    taker.remove("/etc/netplan/50-cloud-init.yaml", what)?;
    taker.remove("/etc/network/interfaces.d/50-cloud-init", what)
}

/// Names of interfaces that belong to hardware addresses.
fn interface_names(taker: &mut Taker<'_, '_>) -> Done {
    let is_rule = |name: &str| {
        name.ends_with("-persistent-net.rules") || name.ends_with("-persistent-cd.rules")
    };
    taker.remove_named("/etc/udev/rules.d", is_rule, "interface name")?;
    let folder = "/etc/systemd/network";
    for name in taker.files.names(folder)?.unwrap_or_default() {
        let path = join(folder, &name);
        if name.ends_with(".link")
            && let Some(text) = taker.files.text(&path)?
            && text
                .lines()
                .any(|line| line.trim().starts_with("MACAddress="))
        {
            taker.remove(&path, "interface name")?;
        }
    }
    Ok(())
}

/// Current logs become empty, since some programs cannot make them; older ones go.
fn logs(taker: &mut Taker<'_, '_>) -> Done {
    taker.remove_below("/var/log/journal", "journal")?;
    taker.remove_empty_folders("/var/log/journal")?;
    for path in taker.below("/var/log", |_| true)? {
        if path.starts_with("/var/log/journal/") {
            continue;
        }
        if is_old_log(&path) {
            taker.remove(&path, "log")?;
        } else {
            taker.empty(&path, "log")?;
        }
    }
    Ok(())
}

fn is_old_log(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    let (_, ending) = name.rsplit_once('.').unwrap_or((name, ""));
    let is_number = !ending.is_empty() && ending.bytes().all(|byte| byte.is_ascii_digit());
    let dated = name
        .rsplit_once('-')
        .is_some_and(|(_, date)| date.len() == 8 && date.bytes().all(|byte| byte.is_ascii_digit()));
    is_number || dated || ["gz", "xz", "zst", "bz2", "old"].contains(&ending)
}

/// Histories and known hosts of everybody with a home.
fn homes(taker: &mut Taker<'_, '_>) -> Done {
    let people = taker.files.names("/home")?.unwrap_or_default();
    let homes = people.iter().map(|name| join("/home", name));
    for home in homes.chain(["/root".to_owned()]) {
        let is_history = |name: &str| {
            name.starts_with('.') && (name.ends_with("_history") || name.ends_with("hist"))
                || [".lesshst", ".viminfo", ".wget-hsts", ".python_history"].contains(&name)
        };
        taker.remove_named(&home, is_history, "history")?;
        for path in [
            ".local/share/fish/fish_history",
            ".local/state/bash/history",
        ] {
            taker.remove(&join(&home, path), "history")?;
        }
        for name in ["known_hosts", "known_hosts.old"] {
            taker.remove(&join(&home, &format!(".ssh/{name}")), "known hosts")?;
        }
    }
    taker.remove("/etc/ssh/ssh_known_hosts", "known hosts")
}

/// What package managers fetch again.
fn packages(taker: &mut Taker<'_, '_>) -> Done {
    let what = "package cache";
    for folder in [
        "/var/lib/apt/lists",
        "/var/cache/dnf",
        "/var/cache/yum",
        "/var/cache/zypp/packages",
        "/var/cache/pacman/pkg",
        "/var/cache/apk",
    ] {
        taker.remove_below(folder, what)?;
    }
    let is_package = |path: &str| path.ends_with(".deb") || path.contains("/partial/");
    for path in taker.below("/var/cache/apt/archives", is_package)? {
        taker.remove(&path, what)?;
    }
    taker.remove_named("/var/cache/apt", |name| name.ends_with(".bin"), what)
}

#[cfg(test)]
mod tests {
    use super::is_old_log;

    #[test]
    fn old_logs_are_told_from_current_ones() {
        for name in ["syslog.1", "dpkg.log.2.gz", "cron-20260101", "boot.log.old"] {
            assert!(is_old_log(&format!("/var/log/{name}")), "{name}");
        }
        for name in ["syslog", "dpkg.log", "apt/history.log", "hut-3"] {
            assert!(!is_old_log(&format!("/var/log/{name}")), "{name}");
        }
    }
}
