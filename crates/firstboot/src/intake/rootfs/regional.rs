//! Host name, time, language and keyboard.

use pinewrit_settings::CheckedSettings;
use pinewrit_volume::files::{Edit, Files, FilesError, Rights, TextKind, edit_text_as};

use super::services;
use super::writer::{Secrecy, Writer};
use crate::intake::first_start::{Step, When};

const OPEN: Rights = Rights {
    mode: 0o644,
    uid: 0,
    gid: 0,
};

/// Sets host name, time zone, locale, keyboard and time servers. Returns the steps for the first
/// start.
pub(super) fn apply(
    writer: &mut Writer<'_, '_>,
    settings: &CheckedSettings,
) -> Result<Vec<Step>, FilesError> {
    if let Some(name) = &settings.host_name {
        put_host_name(writer, name)?;
    }
    if let Some(zone) = &settings.time_zone {
        put_time_zone(writer, zone)?;
    }
    if let Some(layout) = &settings.keyboard {
        put_keyboard(writer, layout, settings.keyboard_variant.as_deref())?;
    }
    if !settings.time_servers.is_empty() {
        put_time_servers(writer, &settings.time_servers)?;
    }
    match &settings.locale {
        Some(locale) => put_locale(writer, locale),
        None => Ok(Vec::new()),
    }
}

fn put_host_name(writer: &mut Writer<'_, '_>, name: &str) -> Result<(), FilesError> {
    let before = writer.text("/etc/hostname")?.unwrap_or_default();
    if writer.old.is_none() && before.trim() == name {
        writer.note(format!(
            "{name} is the image's own host name, which every such card has"
        ));
    }
    writer.shared("/etc/hostname", OPEN, &format!("{name}\n"), Secrecy::Open)?;
    let short = name.split('.').next().unwrap_or(name);
    let names = if short == name {
        name.to_owned()
    } else {
        format!("{name} {short}")
    };
    // Without its own line, sudo warns on each call.
    let line = format!("127.0.1.1\t{names}");
    let hosts = writer.text("/etc/hosts")?;
    let hosts = hosts.unwrap_or_else(|| "127.0.0.1\tlocalhost\n::1\tlocalhost\n".to_owned());
    let is_own = |line: &str| line.split_whitespace().next() == Some("127.0.1.1");
    let mut lines: Vec<&str> = hosts.lines().filter(|line| !is_own(line)).collect();
    let first = hosts.lines().position(is_own);
    let after = lines
        .iter()
        .position(|line| line.trim_start().starts_with("127.0.0.1"));
    let at = first.or(after.map(|at| at + 1)).unwrap_or(lines.len());
    lines.insert(at.min(lines.len()), &line);
    let text: String = lines.iter().map(|line| format!("{line}\n")).collect();
    writer.shared("/etc/hosts", OPEN, &text, Secrecy::Open)
}

fn put_time_zone(writer: &mut Writer<'_, '_>, zone: &str) -> Result<(), FilesError> {
    let place = format!("/usr/share/zoneinfo/{zone}");
    if !writer.has(&place)? {
        writer.note(format!("the image has no time zone {zone}; its own stays"));
        return Ok(());
    }
    writer.lead("/etc/localtime", &place)?;
    if writer.has("/etc/timezone")? {
        writer.shared("/etc/timezone", OPEN, &format!("{zone}\n"), Secrecy::Open)?;
    }
    Ok(())
}

fn set(text: &str, key: &str, value: &str) -> String {
    let edit = Edit::Set {
        key: key.to_owned(),
        value: value.to_owned(),
        section: None,
    };
    self::edit(text, edit)
}

/// A text with one change.
pub(super) fn edit(text: &str, edit: Edit) -> String {
    let kind = match &edit {
        Edit::Set {
            section: Some(_), ..
        } => Some(TextKind::Sections),
        _ => Some(TextKind::Assignments),
    };
    let edited = edit_text_as(text.as_bytes(), &[edit], kind).unwrap_or_default();
    String::from_utf8_lossy(&edited).into_owned()
}

/// Whether a Debian-like image has nothing that reads the keyboard layout; cloud-init then fails to
/// set it.
pub(crate) fn lacks_keyboard(files: &Files<'_>) -> Result<bool, FilesError> {
    let readers = [
        "/usr/lib/systemd/system/console-setup.service",
        "/lib/systemd/system/console-setup.service",
        "/etc/init.d/console-setup.sh",
    ];
    for path in readers {
        if files.has(path)? {
            return Ok(false);
        }
    }
    files.has("/var/lib/dpkg/status")
}

fn put_keyboard(
    writer: &mut Writer<'_, '_>,
    layout: &str,
    variant: Option<&str>,
) -> Result<(), FilesError> {
    let usual = "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"us\"\nXKBVARIANT=\"\"\nXKBOPTIONS=\"\"\n";
    let has_console = writer.has_any(&["/etc/vconsole.conf", "/usr/share/kbd"])?;
    if writer.has("/etc/default/keyboard")? || !has_console {
        let text = writer.text("/etc/default/keyboard")?;
        let text = set(
            text.as_deref().unwrap_or(usual),
            "XKBLAYOUT",
            &format!("\"{layout}\""),
        );
        let variant = format!("\"{}\"", variant.unwrap_or_default());
        let text = set(&text, "XKBVARIANT", &variant);
        writer.shared("/etc/default/keyboard", OPEN, &text, Secrecy::Open)?;
    }
    if has_console {
        let map = console_map(writer, layout, variant)?;
        let text = writer.text("/etc/vconsole.conf")?.unwrap_or_default();
        let text = set(&text, "KEYMAP", &map);
        writer.shared("/etc/vconsole.conf", OPEN, &text, Secrecy::Open)?;
    }
    Ok(())
}

/// The console has its own maps; those derived from XKB are named `layout-variant`.
fn console_map(
    writer: &mut Writer<'_, '_>,
    layout: &str,
    variant: Option<&str>,
) -> Result<String, FilesError> {
    let Some(variant) = variant else {
        return Ok(layout.to_owned());
    };
    let map = format!("{layout}-{variant}");
    for folder in ["/usr/share/kbd/keymaps/xkb", "/usr/lib/kbd/keymaps/xkb"] {
        if writer.has(&format!("{folder}/{map}.map.gz"))? {
            return Ok(map);
        }
    }
    writer.note(format!(
        "the console of the image has no map {map}: it has {layout}"
    ));
    Ok(layout.to_owned())
}

fn put_locale(writer: &mut Writer<'_, '_>, locale: &str) -> Result<Vec<Step>, FilesError> {
    let path = if writer.has("/etc/default")? {
        "/etc/default/locale"
    } else {
        "/etc/locale.conf"
    };
    let text = writer.text(path)?.unwrap_or_default();
    writer.shared(path, OPEN, &set(&text, "LANG", locale), Secrecy::Open)?;
    let is_built_in = locale.starts_with("C.") || locale.starts_with("POSIX") || locale == "C";
    let Some(list) = writer.text("/etc/locale.gen")?.filter(|_| !is_built_in) else {
        return Ok(Vec::new());
    };
    let is_named = |line: &str| line.split_whitespace().next() == Some(locale);
    let mut lines: Vec<String> = list.lines().map(str::to_owned).collect();
    let off = lines
        .iter()
        .position(|line| is_named(line.trim_start_matches(['#', ' '])));
    match off {
        Some(index) => lines[index] = lines[index].trim_start_matches(['#', ' ']).to_owned(),
        None => {
            let charset = locale
                .split_once('.')
                .map_or("UTF-8", |(_, charset)| charset);
            let charset = charset.split('@').next().unwrap_or(charset);
            lines.push(format!("{locale} {charset}"));
        }
    }
    let text: String = lines.iter().map(|line| format!("{line}\n")).collect();
    writer.shared("/etc/locale.gen", OPEN, &text, Secrecy::Open)?;
    let generator = "/usr/sbin/locale-gen";
    Ok(if writer.has(generator)? {
        // The list of existing locales has `de_AT.utf8` for `de_AT.UTF-8`.
        let shown = locale.replace(".UTF-8", ".utf8");
        let test = format!("locale -a | grep -qixF '{shown}'");
        // It keeps a board's processor busy for a while; the start must not wait for it.
        let is_patient = writer.has_any(&["/usr/bin/chrt", "/bin/chrt"])?;
        let prefix = if is_patient { "chrt -i 0 " } else { "" };
        let command = format!("{prefix}{generator}");
        vec![Step::new(&command, When::Unless(test))]
    } else {
        Vec::new()
    })
}

fn put_time_servers(writer: &mut Writer<'_, '_>, servers: &[String]) -> Result<(), FilesError> {
    if writer.has_any(&["/usr/sbin/chronyd", "/usr/bin/chronyd"])? {
        let lines: String = servers
            .iter()
            .map(|name| format!("server {name} iburst\n"))
            .collect();
        let text = format!("# Written by Pinewrit.\n{lines}");
        let folder = if writer.has("/etc/chrony/sources.d")? {
            ("/etc/chrony/sources.d", "sources")
        } else {
            ("/etc/chrony/conf.d", "conf")
        };
        let path = format!("{}/pinewrit.{}", folder.0, folder.1);
        return writer.file(&path, OPEN, &text, Secrecy::Open);
    }
    let text = format!(
        "# Written by Pinewrit.\n[Time]\nNTP={}\n",
        servers.join(" ")
    );
    let path = "/etc/systemd/timesyncd.conf.d/pinewrit.conf";
    if services::enable(writer, &["systemd-timesyncd"])? {
        writer.file(path, OPEN, &text, Secrecy::Open)
    } else {
        writer.note("the image has no time client; the time servers are ignored");
        Ok(())
    }
}
