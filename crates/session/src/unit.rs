//! What is known of a unit whose board is running: its settings, its receipt, its record.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use pinewrit_boot::commission::Wanted;
use pinewrit_boot::find::Target;
use pinewrit_boot::ssh::{Login, is_public_key};
use pinewrit_core::receipt::{Identifiers, Receipt};
use pinewrit_core::state::read_receipt;
use pinewrit_disk::BlockDevice;
use pinewrit_ledger::{Entry, Kind, Ledger, Record};
use pinewrit_roster::Roster;
use pinewrit_settings::{CheckedSettings, SecretSource};
use pinewrit_ui::{Exit, Message, words};

use crate::secrets::UserSecrets;
use crate::{Context, clock, settings};

/// In place of secrets: nothing is compared with them.
const NO_SECRET: &str = "not needed in order to compare it";
/// As many records are looked at.
const MOST: i64 = 50;

/// Settings are read without their secrets, so nobody is asked for one.
struct WithoutSecrets;

impl SecretSource for WithoutSecrets {
    fn variable(&self, _name: &str) -> Option<String> {
        Some(NO_SECRET.to_owned())
    }

    fn file(&self, path: &Path) -> io::Result<String> {
        // Keys are compared; a password's file may be elsewhere.
        UserSecrets.file(path).or_else(|error| match error.kind() {
            io::ErrorKind::NotFound | io::ErrorKind::PermissionDenied => Ok(NO_SECRET.to_owned()),
            _ => Err(error),
        })
    }

    fn ask(&self, _what: &str) -> io::Result<Option<String>> {
        Ok(Some(NO_SECRET.to_owned()))
    }
}

/// A unit, as far as it is known.
#[derive(Debug, Default)]
pub struct KnownUnit {
    /// Its name.
    pub name: String,
    /// Its latest record.
    pub record: Option<Record>,
    /// What was put on its medium.
    pub receipt: Option<Receipt>,
    /// Its settings.
    pub settings: Option<CheckedSettings>,
}

impl KnownUnit {
    /// What its board should be.
    pub fn wanted(&self) -> Wanted<'_> {
        Wanted {
            settings: self.settings.as_ref(),
            receipt: self.receipt.as_ref(),
            host_name: self
                .record
                .as_ref()
                .and_then(|record| record.host_name.as_deref()),
            known_hosts: self.known_hosts(),
            is_trial: false,
        }
    }

    /// Whether there is anything to compare with.
    pub fn is_known(&self) -> bool {
        self.settings.is_some() || self.receipt.is_some() || self.record.is_some()
    }

    /// The line for `known_hosts`, if its host key was put on the medium.
    pub fn known_hosts(&self) -> Option<&str> {
        let of_receipt = self
            .receipt
            .as_ref()
            .and_then(|receipt| receipt.settings.as_ref());
        let of_receipt = of_receipt.and_then(|settings| settings.known_hosts.as_deref());
        let of_record = self
            .record
            .as_ref()
            .and_then(|record| record.known_hosts.as_deref());
        of_receipt.or(of_record)
    }

    /// The port of its SSH server, if it is not the usual one.
    pub fn port(&self) -> Option<u16> {
        let of_settings = self
            .settings
            .as_ref()
            .and_then(|settings| settings.ssh_port);
        of_settings.or_else(|| self.known_hosts().and_then(port_in))
    }

    /// Who logs in: the first user with a key.
    pub fn user(&self) -> Option<&str> {
        let users = self.settings.iter().flat_map(|settings| &settings.users);
        let mut with_keys = users.filter(|user| !user.ssh_keys.is_empty());
        with_keys.next().map(|user| user.name.as_str())
    }

    /// How it is looked for in the network.
    pub fn target(&self) -> Target {
        let wired = self.settings.iter().flat_map(|settings| &settings.wired);
        let wired: Vec<_> = wired.collect();
        let of_record = self
            .record
            .as_ref()
            .and_then(|record| record.addresses.as_deref());
        let recorded = of_record.unwrap_or_default().split(' ');
        let recorded = recorded.filter_map(|net| net.split('/').next()?.parse().ok());
        let fixed = wired
            .iter()
            .flat_map(|one| &one.addresses)
            .map(|net| net.addr());
        let mut addresses: Vec<_> = fixed.chain(recorded).collect();
        addresses.sort_unstable();
        addresses.dedup();
        let of_settings = self
            .settings
            .as_ref()
            .and_then(|settings| settings.host_name.clone());
        let of_record = self
            .record
            .as_ref()
            .and_then(|record| record.host_name.clone());
        let name = of_settings
            .or(of_record)
            .unwrap_or_else(|| self.name.clone());
        Target {
            name: name.split('.').next().unwrap_or(&name).to_owned(),
            addresses,
            hardware: wired
                .iter()
                .filter_map(|one| Some(one.mac?.to_string()))
                .collect(),
            known_hosts: self.known_hosts().map(str::to_owned),
            port: self.port(),
        }
    }

    /// An entry of the ledger about what its record tells of, if there is one.
    pub fn entry(&self, kind: Kind, remark: String) -> Option<Entry> {
        let record = self.record.as_ref()?;
        Some(Entry {
            unit: record.unit.clone().or_else(|| record.host_name.clone()),
            role: record.role.clone(),
            batch: record.batch.clone(),
            tag: record.tag.clone(),
            record: Some(record.id.clone()),
            remark: Some(remark),
            ..Entry::new(kind, clock::seconds())
        })
    }

    /// A login on its board, by this name.
    pub fn login(&self, host: &str) -> Login {
        Login {
            user: self.user().map(str::to_owned),
            port: self.port(),
            known_hosts: self.known_hosts().map(str::to_owned),
            ..Login::new(host)
        }
    }
}

/// The port in the first name of a line of `known_hosts`.
fn port_in(line: &str) -> Option<u16> {
    line.strip_prefix('[')?
        .split_once("]:")?
        .1
        .split([',', ' '])
        .next()?
        .parse()
        .ok()
}

/// Where a unit's settings and its receipt are.
#[derive(Clone, Copy, Debug, Default)]
pub struct Papers<'a> {
    /// A settings file.
    pub settings: Option<&'a Path>,
    /// A roster with the unit.
    pub roster: Option<&'a Path>,
    /// A receipt.
    pub receipt: Option<&'a Path>,
}

/// What is known of a unit with this name, host name or address.
///
/// # Errors
/// A file that is named cannot be used.
pub fn known(cx: &Context, name: &str, papers: Papers<'_>) -> Result<KnownUnit, Message> {
    let mut unit = KnownUnit {
        name: name.to_owned(),
        settings: settings_of(papers, name)?,
        receipt: papers.receipt.map(receipt_in).transpose()?,
        record: None,
    };
    // Without records, the files are enough.
    if let Some(mut ledger) = cx.ledger_if_any() {
        unit.record = record_of(&mut ledger, name, &unit);
        if let (Some(record), None) = (&unit.record, &unit.receipt) {
            unit.receipt = ledger.receipt(&record.id).ok().flatten();
        }
    }
    Ok(unit)
}

/// What is known of the unit whose medium this is: by the medium's identifier.
///
/// # Errors
/// A file that is named cannot be used.
pub fn of_medium(
    cx: &Context,
    device: &dyn BlockDevice,
    name: Option<&str>,
    papers: Papers<'_>,
) -> Result<KnownUnit, Message> {
    let record = record_of_medium(cx, device);
    let of_record = record.as_ref().and_then(|(record, _)| {
        let named = record.host_name.clone().or_else(|| record.unit.clone())?;
        Some(named)
    });
    let name = name.map(str::to_owned).or(of_record);
    let settings = settings_of(papers, name.as_deref().unwrap_or_default())?;
    let of_settings = settings
        .as_ref()
        .and_then(|settings| settings.host_name.clone());
    let (record, receipt) = record.unzip();
    Ok(KnownUnit {
        name: name.or(of_settings).unwrap_or_default(),
        receipt: match papers.receipt {
            Some(path) => Some(receipt_in(path)?),
            None => receipt,
        },
        record,
        settings,
    })
}

fn record_of_medium(cx: &Context, device: &dyn BlockDevice) -> Option<(Record, Receipt)> {
    let table = Identifiers::of(device).table?;
    let mut ledger = cx.ledger_if_any()?;
    let mut records = ledger.with_table(&table).ok()?.into_iter();
    records.find_map(|record| {
        let receipt = ledger.receipt(&record.id).ok()??;
        (receipt.medium.size == device.size()).then_some((record, receipt))
    })
}

fn settings_of(papers: Papers<'_>, name: &str) -> Result<Option<CheckedSettings>, Message> {
    if let Some(path) = papers.settings {
        return settings::load(path, &WithoutSecrets).map(Some);
    }
    let Some(path) = papers.roster else {
        return Ok(None);
    };
    let roster = Roster::read(path, &WithoutSecrets)
        .map_err(|e| words::roster_error(&path.display().to_string(), &e))?;
    let by_name = roster.unit(name);
    let found = by_name.or_else(|| {
        roster
            .units
            .iter()
            .find(|unit| unit.host_name() == Some(name))
    });
    match found {
        Some(unit) => Ok(unit.settings.clone()),
        None => Err(Message::new(
            Exit::Usage,
            format!("{} has no unit {name}", path.display()),
        )
        .remedy("--unit NAME says which of its units it is")),
    }
}

/// Refuses a file that ssh could not use as a private key, before anything is started.
///
/// # Errors
/// It cannot be read, is something else, or others may read it.
pub fn must_be_key(path: &Path) -> Result<(), Message> {
    let name = path.display();
    let text = UserSecrets.file(path).map_err(|error| {
        Message::new(Exit::Usage, format!("the key {name} cannot be read"))
            .fact("system", error.to_string())
    })?;
    if text.contains("PRIVATE KEY-----") {
        let own = rustix::process::getuid().as_raw();
        let facts = std::fs::metadata(path).ok();
        // Of a file that is another user's, ssh does not ask that.
        let mode = facts
            .filter(|facts| facts.uid() == own)
            .map_or(0, |facts| facts.mode());
        return match mode & 0o077 {
            0 => Ok(()),
            _ => Err(
                Message::new(Exit::Usage, format!("others may read the key {name}"))
                    .fact("mode", format!("{:04o}", mode & 0o7777))
                    .remedy(format!("chmod 600 {name}; ssh uses no other")),
            ),
        };
    }
    let is_public = is_public_key(&text);
    // By a public key, one of the agent's is chosen (ssh(1), "-i").
    if is_public && std::env::var_os("SSH_AUTH_SOCK").is_some() {
        return Ok(());
    }
    let message = Message::new(Exit::Usage, format!("{name} is not a private key"));
    let private = path.with_extension("");
    Err(match is_public && private.exists() {
        true => message.remedy(format!(
            "{}, the private one of the pair",
            private.display()
        )),
        false => message.remedy("`ssh-keygen -t ed25519` makes a pair"),
    })
}

fn receipt_in(path: &Path) -> Result<Receipt, Message> {
    read_receipt(path).map_err(|error| words::receipt_error(path, &error))
}

/// The latest record of a unit: by its name, its host name, or an address.
fn record_of(ledger: &mut Ledger, name: &str, unit: &KnownUnit) -> Option<Record> {
    let host_name = unit
        .settings
        .as_ref()
        .and_then(|settings| settings.host_name.as_deref());
    let first = name.strip_suffix(".local").unwrap_or(name);
    let mut names = vec![name, first];
    names.extend(host_name);
    for name in names {
        let of_unit = ledger.of(name).ok()?;
        let mut found = of_unit.into_iter().chain(ledger.find(name, MOST).ok()?);
        let is_it = |record: &Record| {
            let is_name = |one: &Option<String>| one.as_deref() == Some(name);
            let addresses = record.addresses.as_deref().unwrap_or_default().split(' ');
            let mut bare = addresses.filter_map(|net| net.split('/').next());
            is_name(&record.unit) || is_name(&record.host_name) || bare.any(|one| one == name)
        };
        if let Some(record) = found.find(is_it) {
            return Some(record);
        }
    }
    None
}

/// All units that were written and whose boards nobody has looked at.
///
/// # Errors
/// The ledger cannot be used.
pub fn waiting(cx: &Context) -> Result<Vec<KnownUnit>, Message> {
    let mut ledger = cx.ledger()?;
    let current = ledger.current().map_err(|e| words::ledger_error(&e))?;
    let waiting = current
        .into_iter()
        .filter(|record| record.commissioned.is_none());
    let named = waiting.filter_map(|record| {
        let name = record.host_name.clone().or_else(|| record.unit.clone())?;
        Some(KnownUnit {
            name,
            record: Some(record),
            ..KnownUnit::default()
        })
    });
    Ok(named.collect())
}
