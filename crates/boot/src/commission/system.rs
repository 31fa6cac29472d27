//! Points of the system: its name, accounts, region, medium, and state.

use pinewrit_settings::{CheckedSettings, PEOPLE, StockUser, User};

use super::points::Wanted;
use super::seen::{Account, PasswordState, Root};
use super::{Met, Point, Seen, Topic};
use crate::ssh::Session;

/// A clock may be so far off, in seconds.
const CLOCK: i64 = 5 * 60;
/// What is left free behind the last partition at most, in bytes: a backup of the table, alignment.
const LEFT_FREE: u64 = 16 << 20;
/// So much of a partition is usable at least, in percent: the rest is the file system's own.
const USABLE: u64 = 85;
/// A swap file is that much smaller than asked for, in bytes: its header, and rounding.
const SWAP_HEADER: u64 = 1 << 20;

pub(super) fn host_name(wanted: &Wanted<'_>, seen: &Seen) -> Option<Point> {
    let found = seen.first("hostname").map(str::to_owned);
    let of_settings = wanted
        .settings
        .and_then(|settings| settings.host_name.as_deref());
    let of_receipt = wanted.receipt.and_then(|receipt| receipt.settings.as_ref());
    let of_receipt = of_receipt.and_then(|settings| settings.host_name.as_deref());
    let Some(name) = of_settings.or(of_receipt).or(wanted.host_name) else {
        return Point::noted(Topic::HostName, found);
    };
    let is_met = found.as_deref().is_some_and(|found| {
        // The kernel may know the short form only.
        found == name || name.split('.').next() == Some(found)
    });
    Some(Point::judged(Topic::HostName, name, found, is_met))
}

pub(super) fn accounts(
    settings: &CheckedSettings,
    seen: &Seen,
    session: &Session,
    points: &mut Vec<Point>,
) {
    let accounts = seen.accounts();
    for user in &settings.users {
        points.push(account(user, &accounts, seen));
        points.push(keys(user, seen));
    }
    points.extend(other_accounts(settings, &accounts, seen));
    if let Some(wanted) = settings.ssh_password_login {
        let word = |is_on: bool| if is_on { "accepted" } else { "refused" };
        let found = accepts_passwords(seen, session);
        let is_met = found == Some(wanted);
        let found = found.map(|is_on| word(is_on).to_owned());
        points.push(Point::judged(
            Topic::PasswordLogin,
            word(wanted),
            found,
            is_met,
        ));
    }
}

fn account(user: &User, accounts: &[Account], seen: &Seen) -> Point {
    let mut wanted = Vec::new();
    wanted.extend(user.uid.map(|uid| format!("uid {uid}")));
    wanted.extend(user.shell.clone());
    if !user.groups.is_empty() {
        wanted.push(format!("groups {}", user.groups.join(", ")));
    }
    let wanted = match wanted.is_empty() {
        true => "an account".to_owned(),
        false => wanted.join("; "),
    };
    let found = accounts.iter().find(|account| account.name == user.name);
    let Some(account) = found else {
        let found = (!accounts.is_empty()).then(|| "no account".to_owned());
        return Point::judged(Topic::User, wanted, found, false).of(user.name.clone());
    };
    let groups = seen.groups(account);
    let missing: Vec<&str> = user
        .groups
        .iter()
        .map(String::as_str)
        .filter(|group| !groups.contains(group))
        .collect();
    let mut text = format!("uid {}", account.uid);
    if user.shell.is_some() {
        text += &format!("; {}", account.shell);
    }
    match (missing.is_empty(), user.groups.is_empty()) {
        (false, _) => text += &format!("; not in {}", missing.join(", ")),
        (true, false) => text += &format!("; groups {}", user.groups.join(", ")),
        (true, true) => {}
    }
    let is_met = missing.is_empty()
        && user.uid.is_none_or(|uid| uid == account.uid)
        && user
            .shell
            .as_ref()
            .is_none_or(|shell| *shell == account.shell);
    Point::judged(Topic::User, wanted, Some(text), is_met).of(user.name.clone())
}

fn keys(user: &User, seen: &Seen) -> Point {
    let counted = |count: usize| match count {
        1 => "1 key".to_owned(),
        count => format!("{count} keys"),
    };
    let wanted = counted(user.ssh_keys.len());
    let Some(lines) = seen.keys(&user.name) else {
        // Without keys there is no file.
        let is_met = user.ssh_keys.is_empty();
        let found = is_met.then(|| "0 keys".to_owned());
        return Point::judged(Topic::Keys, wanted, found, is_met).of(user.name.clone());
    };
    let keys: Vec<&str> = lines.iter().filter_map(|line| key_in(line)).collect();
    let asked: Vec<&str> = user
        .ssh_keys
        .iter()
        .filter_map(|line| key_in(line))
        .collect();
    let missing = asked.iter().filter(|key| !keys.contains(key)).count();
    let more = keys.iter().filter(|key| !asked.contains(key)).count();
    let mut found = counted(keys.len());
    if missing > 0 {
        found += &format!(", {missing} of the wanted missing");
    }
    if more > 0 {
        found += &format!(", {more} that nobody asked for");
    }
    Point::judged(Topic::Keys, wanted, Some(found), missing + more == 0).of(user.name.clone())
}

/// The key of a line in `authorized_keys`, without options and comment (sshd(8)).
fn key_in(line: &str) -> Option<&str> {
    if line.trim_start().starts_with('#') {
        return None;
    }
    let mut words = line.split_whitespace();
    words.find(|word| word.starts_with("AAAA") && word.len() > 16)
}

/// Accounts of people that the settings do not name.
fn other_accounts(settings: &CheckedSettings, all: &[Account], seen: &Seen) -> Option<Point> {
    let is_named = |account: &&Account| settings.users.iter().any(|user| user.name == account.name);
    let is_person = |account: &&Account| PEOPLE.contains(&account.uid);
    let others: Vec<&Account> = all
        .iter()
        .filter(|account| is_person(account) && !is_named(account))
        .collect();
    let states = others.iter().map(|account| seen.password(&account.name));
    let told: Vec<String> = others
        .iter()
        .zip(states.clone())
        .map(|(account, state)| match state {
            Some(PasswordState::Locked) => format!("{}, locked", account.name),
            Some(PasswordState::Set) => format!("{}, with a password", account.name),
            Some(PasswordState::Empty) => format!("{}, without a password", account.name),
            None => account.name.clone(),
        })
        .collect();
    let found = match told.is_empty() {
        true => "none".to_owned(),
        false => told.join("; "),
    };
    let Some(wish) = settings.stock_user else {
        let point = Point::noted(Topic::OtherAccounts, Some(found));
        return point.filter(|_| !others.is_empty());
    };
    let wanted = match wish {
        StockUser::Lock => "locked",
        StockUser::Rename => "none",
    };
    let states: Vec<Option<PasswordState>> = states.collect();
    let is_open = |state: &Option<PasswordState>| {
        matches!(state, Some(PasswordState::Set | PasswordState::Empty))
    };
    let mut point = Point::judged(
        Topic::OtherAccounts,
        wanted,
        (!all.is_empty()).then_some(found),
        !states.iter().any(is_open),
    );
    if point.met == Met::Yes && states.contains(&None) {
        point.met = Met::NotTold;
    }
    Some(point)
}

/// By what the server offers; otherwise by its configuration.
fn accepts_passwords(seen: &Seen, session: &Session) -> Option<bool> {
    let is_one = |method: &String| matches!(method.as_str(), "password" | "keyboard-interactive");
    if !session.methods.is_empty() {
        return Some(session.methods.iter().any(is_one));
    }
    let lines = seen.lines("ssh");
    (!lines.is_empty()).then(|| lines.iter().any(|line| line.trim_end().ends_with(" yes")))
}

pub(super) fn regional(settings: &CheckedSettings, seen: &Seen, points: &mut Vec<Point>) {
    if let Some(zone) = &settings.time_zone {
        let found = seen.first("timezone").map(|path| {
            let name = path.rsplit_once("zoneinfo/").map_or(path, |(_, name)| name);
            name.to_owned()
        });
        let is_met = found.as_ref() == Some(zone);
        points.push(Point::judged(Topic::TimeZone, zone, found, is_met));
    }
    if let Some(locale) = &settings.locale {
        let found = seen.variable("locale", "LANG");
        let plain = |name: &str| name.to_ascii_lowercase().replace("utf-8", "utf8");
        let is_met = found.as_deref().map(plain) == Some(plain(locale));
        points.push(Point::judged(Topic::Locale, locale, found, is_met));
    }
    if let Some(layout) = &settings.keyboard {
        let found = seen.variable("keyboard", "XKBLAYOUT");
        // The console's own names are longer: `de-latin1`.
        let found = found.or_else(|| seen.variable("keyboard", "KEYMAP"));
        let is_met = found.as_deref().is_some_and(|found| {
            found == layout
                || found
                    .strip_prefix(layout.as_str())
                    .is_some_and(|rest| rest.starts_with('-'))
        });
        points.push(Point::judged(Topic::Keyboard, layout, found, is_met));
    }
}

pub(super) fn swap(settings: &CheckedSettings, seen: &Seen) -> Option<Point> {
    let lines = seen.lines("swap").iter().skip(1);
    let sizes: Vec<(&str, u64)> = lines
        .filter_map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            let kilobytes: u64 = words.get(2)?.parse().ok()?;
            Some((*words.first()?, kilobytes.saturating_mul(1024)))
        })
        .collect();
    let told = !seen.lines("swap").is_empty();
    let found = |empty: &str| {
        let texts = sizes
            .iter()
            .map(|(name, size)| format!("{name}, {}", mebibytes(*size)));
        let texts: Vec<String> = texts.collect();
        told.then(|| match texts.is_empty() {
            true => empty.to_owned(),
            false => texts.join("; "),
        })
    };
    if let Some(size) = settings.swap {
        let is_it = |found: u64| found <= size && found + SWAP_HEADER >= size;
        let is_met = sizes.iter().any(|(_, found)| is_it(*found));
        return Some(Point::judged(
            Topic::Swap,
            mebibytes(size),
            found("none"),
            is_met,
        ));
    }
    if settings.zram == Some(false) {
        let is_met = !sizes.iter().any(|(name, _)| name.contains("zram"));
        return Some(Point::judged(
            Topic::Swap,
            "not in memory",
            found("none"),
            is_met,
        ));
    }
    None
}

/// A size as on a medium's package: `7.82 GB`.
fn short(bytes: u64) -> String {
    match bytes {
        0..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.2} GB", bytes as f64 / 1e9),
    }
}

/// The same with its bytes: media of one size on the package differ in them.
fn size_of(bytes: u64) -> String {
    format!("{} ({bytes} bytes)", short(bytes))
}

fn mebibytes(bytes: u64) -> String {
    format!("{} MiB", (bytes + (1 << 19)) >> 20)
}

pub(super) fn medium(wanted: &Wanted<'_>, seen: &Seen, points: &mut Vec<Point>) {
    let root = seen.root();
    let described = root.as_ref().map(|root| match root.disk {
        Some(disk) => format!("{}, {}", root.name, size_of(disk)),
        None => root.name.clone(),
    });
    let receipt = wanted.receipt.filter(|one| one.medium.partition.is_none());
    match receipt.filter(|_| !wanted.is_trial) {
        Some(receipt) => {
            let size = receipt.medium.size;
            let disk = root.as_ref().and_then(|root| root.disk);
            let is_met = disk == Some(size);
            let found = described.filter(|_| disk.is_some());
            points.push(Point::judged(Topic::Medium, size_of(size), found, is_met));
        }
        None => points.extend(Point::noted(Topic::Medium, described)),
    }
    if let Some(receipt) = wanted.receipt {
        points.extend(identifiers(receipt, seen));
    }
    if let Some(root) = &root {
        points.push(root_size(wanted, root));
    }
}

fn identifiers(receipt: &pinewrit_core::receipt::Receipt, seen: &Seen) -> Vec<Point> {
    let mut points = Vec::new();
    if let Some(table) = &receipt.identifiers.table {
        let id = table.to_ascii_lowercase();
        let id = id.strip_prefix("0x").unwrap_or(&id).to_owned();
        let found = seen.identifiers("table-identifiers");
        // Partitions of an MBR are named by its signature (`root=PARTUUID=` in the kernel).
        let of_partition = |one: &String| {
            one.strip_prefix(&id)
                .is_some_and(|rest| rest.starts_with('-'))
        };
        let is_met = found.iter().any(|one| *one == id || of_partition(one));
        let told = (!found.is_empty()).then(|| match is_met {
            true => table.clone(),
            false => found[0].clone(),
        });
        points.push(Point::judged(Topic::TableIdentifier, table, told, is_met));
    }
    let wanted: Vec<String> = receipt
        .identifiers
        .filesystems
        .iter()
        .map(|(_, id)| id.to_ascii_lowercase())
        .collect();
    if !wanted.is_empty() {
        let all = seen.identifiers("identifiers");
        let missing: Vec<&String> = wanted.iter().filter(|id| !all.contains(id)).collect();
        let found = (!all.is_empty()).then(|| match missing.len() {
            0 => format!("{} of {}", wanted.len(), wanted.len()),
            count => format!("{} of {}", wanted.len() - count, wanted.len()),
        });
        let text = match wanted.as_slice() {
            [one] => one.clone(),
            all => format!("{} of {}", all.len(), all.len()),
        };
        let point = Point::judged(
            Topic::FilesystemIdentifiers,
            text,
            found,
            missing.is_empty(),
        );
        points.push(point);
    }
    points
}

fn root_size(wanted: &Wanted<'_>, root: &Root) -> Point {
    let found = match (root.disk, root.usable) {
        (Some(disk), Some(usable)) => Some(format!("{} of {} usable", short(usable), short(disk))),
        (Some(disk), None) => Some(format!(
            "the partition ends at {} of {}",
            short(root.end),
            short(disk)
        )),
        (None, _) => None,
    };
    let must_grow = wanted.settings.is_some_and(|settings| settings.grows_root);
    let is_met = root.disk.is_some_and(|disk| {
        let is_filled = root.end.saturating_add(LEFT_FREE.max(disk / 100)) >= disk;
        let is_usable = |usable: u64| usable >= root.size / 100 * USABLE;
        is_filled && root.usable.is_none_or(is_usable)
    });
    let point = Point::judged(Topic::RootSize, "the whole medium", found, is_met);
    match must_grow {
        true => point,
        false => Point {
            wanted: None,
            met: Met::NotAsked,
            ..point
        },
    }
}

pub(super) fn failed_units(seen: &Seen) -> Option<Point> {
    let lines = seen.lines("units");
    let state = seen.first("units");
    let names: Vec<&str> = lines
        .iter()
        .skip(1)
        .filter_map(|line| {
            line.trim_start_matches(['●', ' '])
                .split_whitespace()
                .next()
        })
        .collect();
    let found = state.map(|state| match names.is_empty() {
        true if state == "degraded" => state.to_owned(),
        true => "none".to_owned(),
        false => names.join(", "),
    });
    let is_met = found.as_deref() == Some("none");
    // Without systemd nobody counts them.
    found
        .is_some()
        .then(|| Point::judged(Topic::FailedUnits, "none", found, is_met))
}

pub(super) fn first_start(wanted: &Wanted<'_>, seen: &Seen) -> Option<Point> {
    let is_asked = wanted
        .settings
        .is_some_and(|one| !one.first_start.is_empty());
    let failed = seen
        .word("first-start", "failed")
        .and_then(|count| count.parse::<u64>().ok());
    let cloud = seen.word("first-start", "cloud-init");
    let service = seen.word("first-start", "service");
    let state = match (seen.is_at_first_start(), failed, cloud) {
        (Some(true), ..) => Some("still at work".to_owned()),
        (_, Some(count @ 1..), _) => Some(match count {
            1 => "1 step failed".to_owned(),
            count => format!("{count} steps failed"),
        }),
        (_, _, Some(state)) if state.contains("error") => Some(format!("cloud-init: {state}")),
        (None, None, _) => None,
        // The script of the settings has left no log.
        _ if is_asked && failed.is_none() && cloud.is_none() && service.is_none() => {
            Some("nothing was done".to_owned())
        }
        _ => Some("finished".to_owned()),
    };
    let is_met = state.as_deref() == Some("finished");
    Some(Point::judged(Topic::FirstStart, "finished", state, is_met))
}

pub(super) fn clock(seen: &Seen, now: i64) -> Point {
    let off = seen.clock().map(|time| time.saturating_sub(now));
    let found = off.map(|off| match off.unsigned_abs() {
        0..=1 => "right".to_owned(),
        seconds => {
            let side = if off < 0 { "behind" } else { "ahead" };
            match seconds {
                0..120 => format!("{seconds} s {side}"),
                120..7200 => format!("{} min {side}", seconds / 60),
                7200..172_800 => format!("{} h {side}", seconds / 3600),
                _ => format!("{} days {side}", seconds / 86_400),
            }
        }
    });
    let is_met = off.is_some_and(|off| off.unsigned_abs() <= CLOCK.unsigned_abs());
    Point::judged(Topic::Clock, "within 5 minutes", found, is_met)
}
