//! Users, their passwords and SSH public keys.

use std::collections::BTreeSet;

use ssh_key::{Algorithm, PublicKey};

use super::password::{self, Password, SecretField};
use super::regional::quoted;
use crate::document::{Document, Fields, Wrong};

/// A user to create.
#[derive(Clone, Debug)]
pub struct User {
    /// Login name.
    pub name: String,
    /// Full name.
    pub full_name: Option<String>,
    /// Number; the next free one if `None`.
    pub uid: Option<u32>,
    /// Password; without one, only a key allows login.
    pub password: Option<Password>,
    /// SSH public keys, one line each.
    pub ssh_keys: Vec<String>,
    /// Whether and how the user may become root.
    pub sudo: Sudo,
    /// Further groups.
    pub groups: Vec<String>,
    /// Login shell; the image's default if `None`.
    pub shell: Option<String>,
}

/// Whether and how a user may become root.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Sudo {
    /// Not at all.
    #[default]
    No,
    /// With the user's own password.
    WithPassword,
    /// Without a password.
    WithoutPassword,
}

const KEYS: &[&str] = &[
    "name",
    "full-name",
    "password-hash",
    "password-env",
    "password-file",
    "password-prompt",
    "ssh-keys",
    "ssh-key-files",
    "sudo",
    "groups",
    "shell",
    "uid",
];

/// The range of ordinary user ids (login.defs(5), `UID_MIN` and `UID_MAX`).
pub const PEOPLE: std::ops::RangeInclusive<u32> = 1000..=59_999;

/// Names of system accounts.
const TAKEN: &[&str] = &[
    "root", "daemon", "bin", "sys", "sync", "games", "man", "lp", "mail", "news", "uucp", "proxy",
    "www-data", "backup", "list", "irc", "nobody", "sshd",
];

pub(crate) fn read(document: &Document<'_>, top: &Fields<'_, '_>) -> Vec<User> {
    let mut names = BTreeSet::new();
    let mut users = Vec::new();
    for fields in top.tables("users", "users", KEYS) {
        let Some(user) = read_user(document, &fields) else {
            continue;
        };
        if !names.insert(user.name.clone()) {
            document.mistake(
                fields.line(),
                format!("the user {} appears twice", user.name),
                "define each user once, with all keys in one list",
            );
        }
        let taken = |other: &&User| user.uid.is_some() && other.uid == user.uid;
        if let (Some(other), Some(uid)) = (users.iter().find(taken), user.uid) {
            let what = format!("{} and {} have the same uid {uid}", other.name, user.name);
            document.mistake(fields.line(), what, "a separate uid for each");
        }
        warn_of_reuse(document, &users, &user, fields.line());
        users.push(user);
    }
    users
}

/// Two users with the same password share one secret.
fn warn_of_reuse(document: &Document<'_>, others: &[User], user: &User, line: usize) {
    let Some(Password::Plain(own)) = &user.password else {
        return;
    };
    let same = others
        .iter()
        .find(|other| matches!(&other.password, Some(Password::Plain(secret)) if secret == own));
    if let Some(other) = same {
        document.warn(
            line,
            format!("{} and {} have the same password", other.name, user.name),
            "use a separate one for each",
        );
    }
}

/// Asks for the passwords to be typed.
pub(crate) fn ask_passwords(document: &Document<'_>, users: &mut [User]) {
    for user in users {
        if let Some(Password::Ask(line)) = user.password {
            let shown = format!("user {}", user.name);
            let what = format!("password of {shown}");
            user.password = password::ask(document, line, &what).map(|secret| {
                password::warn_if_weak(document, line, &shown, &secret);
                Password::Plain(secret)
            });
        }
    }
}

fn read_user(document: &Document<'_>, fields: &Fields<'_, '_>) -> Option<User> {
    let before = fields.string("name");
    if before.is_none() {
        document.mistake(
            fields.line(),
            "a user without a name",
            "add name = \"warden\"",
        );
    }
    let name = before.and_then(|at| document.accept(at.line, user_name(&at.value)));
    let shown = match &name {
        Some(name) => format!("user {name}"),
        None => "this user".to_owned(),
    };
    let wants_password = KEYS[2..6].iter().any(|key| fields.has(key));
    let wants_keys = fields.has("ssh-keys") || fields.has("ssh-key-files");
    let password = read_password(document, fields, &shown);
    let ssh_keys = read_keys(document, fields);
    if !wants_password && !wants_keys {
        document.mistake(
            fields.line(),
            format!("{shown} has neither a password nor an SSH key, and could never log in"),
            "add ssh-keys = [\"ssh-ed25519 …\"]",
        );
    }
    let sudo = read_sudo(fields, wants_password);
    let people = i64::from(*PEOPLE.start())..=i64::from(*PEOPLE.end());
    let uid = fields.number("uid", people);
    let full_name = fields.checked("full-name", full_name);
    let groups = fields
        .strings("groups")
        .into_iter()
        .filter_map(|at| document.accept(at.line, group_name(&at.value)))
        .collect();
    Some(User {
        name: name?,
        uid: uid.and_then(|uid| u32::try_from(uid).ok()),
        full_name,
        password,
        ssh_keys,
        sudo,
        groups,
        shell: fields.checked("shell", shell),
    })
}

/// `true` asks for the user's password, if there is one.
fn read_sudo(fields: &Fields<'_, '_>, has_password: bool) -> Sudo {
    let wish = if fields.has_text("sudo") {
        fields.checked("sudo", |text| match text {
            "without-password" => Ok(Sudo::WithoutPassword),
            "with-password" if has_password => Ok(Sudo::WithPassword),
            "with-password" => Err(Wrong::new(
                "sudo asks for a password, and the user has none",
                "give the user a password, or \"without-password\"",
            )),
            _ => Err(Wrong::new(
                format!("{} is not a way to become root", quoted(text)),
                "true, false, \"with-password\" or \"without-password\"",
            )),
        })
    } else {
        fields
            .boolean("sudo")
            .map(|at| match (at.value, has_password) {
                (false, _) => Sudo::No,
                (true, true) => Sudo::WithPassword,
                (true, false) => Sudo::WithoutPassword,
            })
    };
    wish.unwrap_or_default()
}

fn read_password(document: &Document<'_>, fields: &Fields<'_, '_>, user: &str) -> Option<Password> {
    let given: Vec<_> = KEYS[2..6].iter().filter(|key| fields.has(key)).collect();
    if let [first, second, ..] = given[..] {
        document.mistake(
            fields.line(),
            format!("{user} has both {first} and {second}"),
            "keep one of them",
        );
        return None;
    }
    if fields.has("password-hash") {
        return fields
            .checked("password-hash", password::password_hash)
            .map(Password::Hash);
    }
    match password::read_secret(document, fields, "password")? {
        SecretField::Ask(line) => Some(Password::Ask(line)),
        SecretField::Text(secret) => {
            password::warn_if_weak(document, secret.line, user, &secret.value);
            Some(Password::Plain(secret.value))
        }
    }
}

fn read_keys(document: &Document<'_>, fields: &Fields<'_, '_>) -> Vec<String> {
    let mut keys = Vec::new();
    for given in fields.strings("ssh-keys") {
        keys.extend(document.accept(given.line, public_key(&given.value)));
    }
    for path in fields.strings("ssh-key-files") {
        let content = document.read_file(&path.value).map_err(|error| {
            Wrong::new(
                format!("{} cannot be read: {error}", path.value),
                "paths are relative to the settings file",
            )
        });
        let Some(content) = document.accept(path.line, content) else {
            continue;
        };
        if content.contains("PRIVATE KEY") {
            document.accept::<()>(path.line, Err(private_key()));
            continue;
        }
        let lines = content
            .lines()
            .map(str::trim)
            .filter(|line| !line.is_empty() && !line.starts_with('#'));
        for line in lines {
            keys.extend(document.accept(path.line, public_key(line)));
        }
    }
    keys.dedup();
    keys
}

fn private_key() -> Wrong {
    Wrong::new(
        "this is a private key, which must never leave its owner",
        "give the file that ends in .pub, or its one line",
    )
}

/// One line of OpenSSH's public key format, of a kind that current servers accept.
fn public_key(line: &str) -> Result<String, Wrong> {
    if line.contains("PRIVATE KEY") {
        return Err(private_key());
    }
    let line = line.trim();
    let key = PublicKey::from_openssh(line).map_err(|_| {
        let kind = line.split_whitespace().next().unwrap_or_default();
        Wrong::new(
            if kind.starts_with("ssh-") || kind.contains("-sha2-") || kind.starts_with("sk-") {
                format!("this {kind} key is damaged or cut off")
            } else {
                "this is not an SSH public key".to_owned()
            },
            "copy the one line of the .pub file, as in \"ssh-ed25519 AAAA… name\"",
        )
    })?;
    match key.algorithm() {
        Algorithm::Dsa => Err(Wrong::new(
            "SSH servers no longer accept DSA keys",
            "create a new one: ssh-keygen -t ed25519",
        )),
        Algorithm::Rsa { .. } if rsa_bits(&key) < 2048 => Err(Wrong::new(
            format!("this RSA key has only {} bits", rsa_bits(&key)),
            "create a new one: ssh-keygen -t ed25519",
        )),
        _ => Ok(line.to_owned()),
    }
}

fn rsa_bits(key: &PublicKey) -> usize {
    let modulus = key
        .key_data()
        .rsa()
        .and_then(|rsa| rsa.n.as_positive_bytes());
    modulus.map_or(0, |n| {
        n.len() * 8 - n.first().map_or(0, |b| b.leading_zeros() as usize)
    })
}

/// A name that `useradd` accepts, and that no system account has.
fn user_name(name: &str) -> Result<String, Wrong> {
    let first = name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_');
    let rest = name
        .chars()
        .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-.".contains(c));
    if !first || !rest || name.len() > 32 || name.ends_with('.') {
        return Err(Wrong::new(
            format!("{} is not a user name", quoted(name)),
            "a lowercase letter, then lowercase letters, digits, `_`, `-` or `.`; at most 32",
        ));
    }
    if TAKEN.contains(&name) {
        return Err(Wrong::new(
            format!("{name} is a system account"),
            "choose a name of your own, with sudo = true if necessary",
        ));
    }
    Ok(name.to_owned())
}

fn shell(path: &str) -> Result<String, Wrong> {
    let fits = path.starts_with('/')
        && path
            .bytes()
            .all(|b| b.is_ascii_alphanumeric() || b"/-_.".contains(&b));
    if fits {
        Ok(path.to_owned())
    } else {
        Err(Wrong::new(
            format!("{} is not a shell", quoted(path)),
            "its full path, as in \"/bin/bash\"",
        ))
    }
}

fn group_name(name: &str) -> Result<String, Wrong> {
    let fits = name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name
            .chars()
            .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-".contains(c))
        && name.len() <= 32;
    if fits {
        Ok(name.to_owned())
    } else {
        Err(Wrong::new(
            format!("{} is not a group name", quoted(name)),
            "a lowercase letter, then lowercase letters, digits, `_` or `-`",
        ))
    }
}

/// In `passwd`, the comment field ends at a colon, and commas separate its parts.
fn full_name(name: &str) -> Result<String, Wrong> {
    match name.chars().find(|c| c.is_control() || ":,".contains(*c)) {
        None => Ok(name.to_owned()),
        Some(bad) => Err(Wrong::new(
            format!("`{}` is not allowed in a full name", bad.escape_default()),
            "letters, spaces and other characters are fine",
        )),
    }
}
