//! The SSH server: on or off, its settings, and host keys known before the first start.

use pinewrit_settings::CheckedSettings;
use pinewrit_volume::files::{FilesError, Rights};

use super::writer::{Secrecy, Writer, block, without_block};
use super::{RootError, services};
use crate::intake::host_key::{HostKey, KeyOrigin, described, make_host_key};

const PRIVATE: &str = "/etc/ssh/ssh_host_ed25519_key";
const CONFIG: &str = "/etc/ssh/sshd_config";
const OWN: &str = "/etc/ssh/sshd_config.d/10-pinewrit.conf";
/// The names of OpenSSH's service.
const NAMES: [&str; 2] = ["ssh", "sshd"];

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Option<HostKey>, RootError> {
    let has_server = writer.has_any(&["/usr/sbin/sshd", "/usr/bin/sshd"])?;
    match settings.ssh_enabled {
        Some(true) if !has_server => {
            writer.note("the image has no SSH server to enable");
        }
        // Its service would be in the way.
        Some(true) if listening_socket(writer)?.is_some() => {}
        Some(true) if services::enable(writer, &NAMES)? => {}
        Some(true) => writer.note("it is not known how this image starts its SSH server"),
        Some(false) => services::disable(writer, &NAMES)?,
        None => {}
    }
    if !has_server {
        return Ok(None);
    }
    put_options(writer, settings)?;
    put_socket_port(writer, settings)?;
    if settings.ssh_enabled != Some(false) && settings.ssh_host_keys != Some(false) {
        put_host_key(writer, settings)
    } else {
        Ok(None)
    }
}

/// The socket through which systemd starts the server on demand, if it is enabled.
fn listening_socket(writer: &Writer<'_, '_>) -> Result<Option<String>, FilesError> {
    let wants = "/etc/systemd/system/sockets.target.wants";
    for name in NAMES {
        let unit = format!("{name}.socket");
        if writer.files.has_name(&format!("{wants}/{unit}"))? {
            return Ok(Some(unit));
        }
    }
    Ok(None)
}

/// Then the socket determines the port, whatever the server's own settings say.
fn put_socket_port(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<(), FilesError> {
    let (Some(port), Some(socket)) = (settings.ssh_port, listening_socket(writer)?) else {
        return Ok(());
    };
    // An empty value clears the earlier list: systemd.socket(5).
    let text = format!("# Written by Pinewrit.\n[Socket]\nListenStream=\nListenStream={port}\n");
    let path = format!("/etc/systemd/system/{socket}.d/10-pinewrit.conf");
    writer.file(&path, Rights::root(0o644), &text, Secrecy::Open)
}

fn options(settings: &CheckedSettings) -> String {
    let mut lines = String::new();
    if let Some(is_on) = settings.ssh_password_login {
        let word = if is_on { "yes" } else { "no" };
        lines += &format!("PasswordAuthentication {word}\n");
        if !is_on {
            lines += "KbdInteractiveAuthentication no\n";
        }
    }
    if let Some(port) = settings.ssh_port {
        lines += &format!("Port {port}\n");
    }
    lines
}

/// The first value of a setting counts, so ours come first; ports would add up.
fn put_options(writer: &mut Writer<'_, '_>, settings: &CheckedSettings) -> Result<(), FilesError> {
    let lines = options(settings);
    let config = writer.text(CONFIG)?.unwrap_or_default();
    let includes = config.lines().any(|line| {
        let line = line.trim();
        line.starts_with("Include") && line.contains("sshd_config.d")
    });
    let mut plain = without_block(&config);
    if settings.ssh_port.is_some() {
        let is_port = |line: &str| line.trim_start().starts_with("Port ");
        let off = |line: &str| {
            if is_port(line) {
                format!("# {line}\n")
            } else {
                format!("{line}\n")
            }
        };
        plain = plain.lines().map(off).collect();
    }
    if !includes {
        plain = block(&lines) + &plain;
    }
    if plain != config && writer.has(CONFIG)? {
        writer.shared(CONFIG, Rights::root(0o644), &plain, Secrecy::Open)?;
    }
    if includes && !lines.is_empty() {
        let text = format!("# Written by Pinewrit.\n{lines}");
        writer.file(OWN, Rights::root(0o644), &text, Secrecy::Open)
    } else {
        Ok(())
    }
}

fn put_host_key(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Option<HostKey>, RootError> {
    let public_path = format!("{PRIVATE}.pub");
    let before = writer.old.clone().unwrap_or_default();
    // A key that an earlier run made for this unit stays: clients already know it.
    if before.files.contains_key(PRIVATE) && writer.has(PRIVATE)? {
        for path in [PRIVATE, &public_path] {
            let known = before.files.get(path).cloned().unwrap_or_default();
            writer.state.files.insert(path.to_owned(), known);
        }
        let public = writer.text(&public_path)?.unwrap_or_default();
        return Ok(described(&public, settings, KeyOrigin::Kept));
    }
    // Keys from the image are on every card made from it.
    for name in writer.files.names("/etc/ssh")?.unwrap_or_default() {
        if name.starts_with("ssh_host_") {
            writer.remove(&format!("/etc/ssh/{name}"))?;
        }
    }
    let comment = settings.host_name.as_deref().unwrap_or("host");
    let (private, public) = make_host_key(&format!("root@{comment}")).ok_or(RootError::NoKey)?;
    writer.file(PRIVATE, Rights::root(0o600), &private, Secrecy::Secret)?;
    let line = format!("{public}\n");
    writer.file(&public_path, Rights::root(0o644), &line, Secrecy::Open)?;
    Ok(described(&public, settings, KeyOrigin::New))
}
