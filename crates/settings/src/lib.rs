//! First-boot settings: read from TOML, checked completely, every mistake reported at once.
//!
//! ```
//! use pinewrit_settings::{SecretSource, check};
//! use std::{io, path::Path};
//!
//! struct NoSecrets;
//! impl SecretSource for NoSecrets {
//!     fn variable(&self, _: &str) -> Option<String> {
//!         None
//!     }
//!     fn file(&self, _: &Path) -> io::Result<String> {
//!         Err(io::ErrorKind::NotFound.into())
//!     }
//!     fn ask(&self, _: &str) -> io::Result<Option<String>> {
//!         Ok(None)
//!     }
//! }
//!
//! let text = "hostname = \"larkfell 3\"\ntimezone = \"Europe/Wien\"\n";
//! let mistakes = check(text, Path::new(""), &NoSecrets).err().map_or(Vec::new(), |all| all.0);
//! assert_eq!(mistakes.iter().map(|one| one.line).collect::<Vec<_>>(), [1, 2]);
//! ```

pub mod document;
mod enterprise;
pub mod estimate;
mod extras;
mod hosts;
pub mod nets;
mod network;
mod password;
mod regional;
mod users;
mod wireless;

use std::path::Path;

use toml::de::DeTable;

use crate::document::{Document, Fields, Lines};
pub use crate::document::{Mistakes, Remark, SecretSource};
pub use enterprise::{AccountPassword, EapMethod, Enterprise};
pub use extras::{
    Autologin, EditOrRemoval, FirstCommand, FirstStart, PlacedEdit, PlacedFile, StockUser,
};
pub use network::{BondMode, Joined, MacAddress, RouteTo, Wired};
pub use password::{HashError, Password, Secret};
pub use users::{PEOPLE, Sudo, User};
pub use wireless::{Security, Wireless, WirelessKey, WirelessNetwork};

/// Settings in which no mistake was found.
#[derive(Clone, Debug, Default)]
pub struct CheckedSettings {
    /// Host name, RFC 1123.
    pub host_name: Option<String>,
    /// IANA time zone.
    pub time_zone: Option<String>,
    /// Locale, such as `de_AT.UTF-8`.
    pub locale: Option<String>,
    /// XKB keyboard layout, such as `de`.
    pub keyboard: Option<String>,
    /// Variant of that layout, such as `nodeadkeys`.
    pub keyboard_variant: Option<String>,
    /// Users to create.
    pub users: Vec<User>,
    /// Whether the SSH server runs; `None` leaves the image's choice.
    pub ssh_enabled: Option<bool>,
    /// Whether the SSH server accepts passwords; `None` leaves the image's choice.
    pub ssh_password_login: Option<bool>,
    /// The wired interfaces.
    pub wired: Vec<Wired>,
    /// Wireless networks.
    pub wireless: Option<Wireless>,
    /// Port of the SSH server; `None` leaves the image's choice.
    pub ssh_port: Option<u16>,
    /// Whether host keys are made beforehand; `None` lets the intake decide.
    pub ssh_host_keys: Option<bool>,
    /// What happens to the image's own user.
    pub stock_user: Option<StockUser>,
    /// Time servers.
    pub time_servers: Vec<String>,
    /// Size of a swap file, in bytes.
    pub swap: Option<u64>,
    /// Whether compressed memory may be used as swap; `None` leaves the image's choice.
    pub zram: Option<bool>,
    /// Whether the last partition grows to the end of the medium.
    pub grows_root: bool,
    /// Automatic login.
    pub autologin: Option<Autologin>,
    /// Changes to texts.
    pub edits: Vec<PlacedEdit>,
    /// Files to put on the medium.
    pub files: Vec<PlacedFile>,
    /// Work at the first start.
    pub first_start: FirstStart,
    /// The board that is to start with it: a name, or the path of a board file.
    pub board: Option<String>,
    /// The requested intake; recognised from the image if `None`.
    pub intake: Option<IntakeWish>,
    /// What is valid, but has caused trouble.
    pub warnings: Vec<Remark>,
}

/// A requested intake.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum IntakeWish {
    /// cloud-init.
    CloudInit,
    /// Files in the root file system.
    Root,
    /// A described intake, with its text.
    Described(String),
}

/// The keys of a settings file.
pub const TOP: &[&str] = &[
    "board",
    "hostname",
    "timezone",
    "locale",
    "keyboard",
    "keyboard-variant",
    "users",
    "stock-user",
    "ssh",
    "wired",
    "wireless",
    "time-servers",
    "swap",
    "zram",
    "grow-root",
    "autologin",
    "edit",
    "file",
    "first-start",
];

const SSH: &[&str] = &["enabled", "password-login", "port", "host-keys"];

/// Reads and checks a settings file. Paths in it are relative to `folder`.
///
/// # Errors
/// [`Mistakes`]: all of them, whatever their kind. The user is only asked for secrets if there are
/// no other mistakes.
pub fn check(
    text: &str,
    folder: &Path,
    secrets: &dyn SecretSource,
) -> Result<CheckedSettings, Mistakes> {
    let document = Document::new(text, folder, secrets);
    match document.parse() {
        Some(root) => check_document(document, &root, 1),
        None => Err(document.into_mistakes()),
    }
}

/// As [`check`], for a table that was put together from parts of a text with these lines; `line` is
/// where mistakes about the whole are reported.
///
/// # Errors
/// As [`check`].
pub fn check_table(
    root: &DeTable<'_>,
    (lines, line): (&Lines, usize),
    folder: &Path,
    secrets: &dyn SecretSource,
) -> Result<CheckedSettings, Mistakes> {
    check_document(Document::of_lines(lines, folder, secrets), root, line)
}

fn check_document<'t>(
    document: Document<'t>,
    root: &DeTable<'t>,
    line: usize,
) -> Result<CheckedSettings, Mistakes> {
    let top = Fields::new(&document, root, line, "the settings", TOP);
    let mut settings = CheckedSettings {
        host_name: top.checked("hostname", hosts::host_name),
        time_zone: top.checked("timezone", regional::time_zone),
        locale: top.checked("locale", regional::locale),
        keyboard: top.checked("keyboard", regional::keyboard),
        ..CheckedSettings::default()
    };
    settings.board = top
        .string("board")
        .map(|at| place_of_board(&at.value, document.folder()));
    settings.keyboard_variant = read_variant(&document, &top, settings.keyboard.as_deref());
    settings.users = users::read(&document, &top);
    read_ssh(&document, &top, &mut settings);
    settings.wired = network::read_wired(&document, &top);
    settings.wireless = wireless::read_wireless(&document, &top);
    read_extras(&document, &top, &mut settings);
    warn_of_missing(&document, &settings, line);

    if document.has_mistakes() {
        return Err(document.into_mistakes());
    }
    users::ask_passwords(&document, &mut settings.users);
    wireless::ask_passphrases(&document, settings.wireless.as_mut());
    if document.has_mistakes() {
        return Err(document.into_mistakes());
    }
    settings.warnings = document.into_warnings();
    Ok(settings)
}

/// A board as a settings file or a roster in `folder` names it: a path is relative to that.
pub fn place_of_board(text: &str, folder: &Path) -> String {
    if text.contains('/') || text.ends_with(".toml") {
        folder.join(text).display().to_string()
    } else {
        text.to_owned()
    }
}

fn read_variant(
    document: &Document<'_>,
    top: &Fields<'_, '_>,
    layout: Option<&str>,
) -> Option<String> {
    let variant = top.string("keyboard-variant")?;
    if !top.has("keyboard") {
        let what = "a keyboard-variant without its layout";
        document.mistake(variant.line, what, "keyboard = \"de\"");
    }
    let checked = regional::keyboard_variant(layout?, &variant.value);
    document.accept(variant.line, checked)
}

fn read_extras(document: &Document<'_>, top: &Fields<'_, '_>, settings: &mut CheckedSettings) {
    settings.stock_user = top.checked("stock-user", extras::stock_user);
    if settings.stock_user == Some(StockUser::Rename) && settings.users.is_empty() {
        document.mistake(
            top.string("stock-user").map_or(1, |at| at.line),
            "the stock user is to be renamed, but there is no user to rename it to",
            "add [[users]] with a name",
        );
    }
    let servers = top.strings("time-servers").into_iter();
    settings.time_servers = servers
        .filter_map(|at| document.accept(at.line, extras::time_server(&at.value)))
        .collect();
    settings.swap = top.checked("swap", extras::swap);
    settings.zram = top.boolean("zram").map(|at| at.value);
    settings.grows_root = top.boolean("grow-root").is_some_and(|at| at.value);
    settings.autologin = extras::read_autologin(document, top, &settings.users);
    settings.edits = extras::read_edits(document, top);
    settings.files = extras::read_files(document, top);
    settings.first_start = extras::read_first_start(document, top);
}

fn read_ssh(document: &Document<'_>, top: &Fields<'_, '_>, settings: &mut CheckedSettings) {
    let Some(ssh) = top.table("ssh", SSH) else {
        return;
    };
    settings.ssh_enabled = ssh.boolean("enabled").map(|at| at.value);
    let password_login = ssh.boolean("password-login");
    settings.ssh_password_login = password_login.as_ref().map(|at| at.value);
    let port = ssh.number("port", 1..=65535);
    settings.ssh_port = port.and_then(|port| u16::try_from(port).ok());
    settings.ssh_host_keys = ssh.boolean("host-keys").map(|at| at.value);
    if settings.ssh_enabled == Some(false) && settings.ssh_password_login == Some(true) {
        document.warn(
            ssh.line(),
            "SSH is off, but password login is on",
            "set enabled = true, or omit password-login",
        );
    }
}

/// Whether settings would leave no login.
fn warn_of_missing(document: &Document<'_>, settings: &CheckedSettings, line: usize) {
    if settings.host_name.is_none() {
        document.warn(
            line,
            "no hostname: the unit keeps the image's, like every other",
            "add hostname = \"larkfell-03\"",
        );
    }
    if settings.users.is_empty() {
        document.warn(
            line,
            "no users: the image's own accounts stay",
            "add [[users]] with a name and ssh-keys",
        );
    }
    let only_passwords =
        !settings.users.is_empty() && settings.users.iter().all(|user| user.ssh_keys.is_empty());
    if only_passwords && settings.ssh_password_login != Some(true) {
        document.warn(
            line,
            "no user has an SSH key, and SSH accepts no passwords",
            "add ssh-keys to a user, or password-login = true under [ssh]",
        );
    }
}
