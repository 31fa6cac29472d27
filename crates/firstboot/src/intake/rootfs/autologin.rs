//! Automatic login of one user: on consoles by agetty(8), on desktops by the usual display
//! managers.

use pinewrit_settings::{Autologin, CheckedSettings};
use pinewrit_volume::files::{Edit, FilesError, Rights};

use super::regional::edit;
use super::services::Init;
use super::writer::{Secrecy, Writer};

const OPEN: Rights = Rights {
    mode: 0o644,
    uid: 0,
    gid: 0,
};

/// Drop-ins of systemd's services for screens and for serial lines.
pub(crate) const CONSOLES: [(&str, &str); 2] = [
    (
        "/etc/systemd/system/getty@tty1.service.d/10-pinewrit.conf",
        "--noclear %I $TERM",
    ),
    (
        "/etc/systemd/system/serial-getty@.service.d/10-pinewrit.conf",
        "--keep-baud 115200,57600,38400,9600 %I $TERM",
    ),
];

/// The text of such a drop-in.
pub(crate) fn console(user: &str, options: &str) -> String {
    format!(
        "# Written by Pinewrit.\n[Service]\nExecStart=\n\
         ExecStart=-/sbin/agetty --autologin {user} {options}\n"
    )
}

/// Files of display managers that are entirely ours, with their content.
pub(crate) fn desktop_files(
    user: &str,
    session: &str,
) -> [(&'static str, &'static str, String); 2] {
    [
        (
            "/usr/sbin/lightdm",
            "/etc/lightdm/lightdm.conf.d/60-pinewrit.conf",
            format!(
                "# Written by Pinewrit.\n[Seat:*]\nautologin-user={user}\nautologin-user-timeout=0\n"
            ),
        ),
        (
            "/usr/bin/sddm",
            "/etc/sddm.conf.d/60-pinewrit.conf",
            format!("# Written by Pinewrit.\n[Autologin]\nUser={user}\nSession={session}\n"),
        ),
    ]
}

pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<(), FilesError> {
    let Some(wanted) = &settings.autologin else {
        return Ok(());
    };
    if wanted.on_console {
        put_consoles(writer, wanted)?;
    }
    if wanted.on_desktop {
        put_desktop(writer, wanted)?;
    }
    Ok(())
}

fn put_consoles(writer: &mut Writer<'_, '_>, wanted: &Autologin) -> Result<(), FilesError> {
    if Init::of(writer)? == Init::Systemd {
        for (path, options) in CONSOLES {
            writer.file(path, OPEN, &console(&wanted.user, options), Secrecy::Open)?;
        }
        return Ok(());
    }
    // inittab(5): the lines that start agetty.
    let path = "/etc/inittab";
    let table = writer.text(path)?.unwrap_or_default();
    let is_login = |line: &str| line.contains("agetty ") && !line.trim_start().starts_with('#');
    if !table.lines().any(is_login) {
        writer.note("this image's consoles do not support automatic login");
        return Ok(());
    }
    let with = format!("agetty --autologin {} ", wanted.user);
    let line = |line: &str| {
        if is_login(line) && !line.contains("--autologin") {
            line.replacen("agetty ", &with, 1) + "\n"
        } else {
            format!("{line}\n")
        }
    };
    let text: String = table.lines().map(line).collect();
    writer.shared(path, OPEN, &text, Secrecy::Open)
}

/// Session files: the first one is used if a session must be named.
const SESSIONS: [&str; 2] = ["/usr/share/wayland-sessions", "/usr/share/xsessions"];

fn put_desktop(writer: &mut Writer<'_, '_>, wanted: &Autologin) -> Result<(), FilesError> {
    let user = &wanted.user;
    let mut has_any = false;
    for (path, folder) in [
        ("/etc/gdm3/daemon.conf", "gdm3"),
        ("/etc/gdm/custom.conf", "gdm"),
    ] {
        if !writer.has_any(&[&format!("/usr/sbin/{folder}"), path])? {
            continue;
        }
        let mut text = writer.text(path)?.unwrap_or_default();
        for (key, value) in [("AutomaticLoginEnable", "true"), ("AutomaticLogin", user)] {
            text = edit(
                &text,
                Edit::Set {
                    key: key.to_owned(),
                    value: value.to_owned(),
                    section: Some("daemon".to_owned()),
                },
            );
        }
        writer.shared(path, OPEN, &text, Secrecy::Open)?;
        has_any = true;
    }
    let mut session = None;
    for folder in SESSIONS {
        let names = writer.files.names(folder)?.unwrap_or_default();
        let mut names: Vec<_> = names
            .iter()
            .filter_map(|name| name.strip_suffix(".desktop"))
            .filter(|name| super::accounts::is_plain(name))
            .map(str::to_owned)
            .collect();
        names.sort();
        session = session.or(names.into_iter().next());
    }
    let session = session.unwrap_or_default();
    for (program, path, text) in desktop_files(user, &session) {
        if writer.has(program)? {
            writer.file(path, OPEN, &text, Secrecy::Open)?;
            has_any = true;
        }
    }
    if !has_any {
        writer.note("the image has no known display manager: no automatic login on a desktop");
    }
    let default = writer.files.facts("/etc/systemd/system/default.target")?;
    let target = default.and_then(|facts| facts.target).unwrap_or_default();
    if target.ends_with("/multi-user.target") {
        writer.note("the image starts without its desktop: /etc/systemd/system/default.target");
    }
    Ok(())
}
