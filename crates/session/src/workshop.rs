//! The workshop: where its records are, and what this station is called.

use std::path::{Path, PathBuf};

use pinewrit_core::receipt::Receipt;
use pinewrit_core::state::{StateFolder, read_receipt};
use pinewrit_host::MediumFacts;
use pinewrit_ledger::{Entry, Kind, KnownSpeed, Ledger, LedgerError, Outbox, Parcel, Speed};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Exit, Message, units, words};
use serde::Deserialize;

use crate::Context;
use crate::clock;

/// The most receipts to take in at first use.
const MAX_TAKEN_IN: usize = 100_000;
/// So many are taken in at once.
const AT_ONCE: usize = 200;
const FILE: &str = "ledger.sqlite";

/// What the user's configuration file says.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Config {
    /// The ledger's place.
    pub ledger: Option<String>,
    /// This station's name.
    pub station: Option<String>,
}

/// Where users keep their configuration (XDG Base Directory Specification).
pub fn config_folder() -> Option<PathBuf> {
    let variable = |name| std::env::var_os(name).map(PathBuf::from);
    let base = variable("XDG_CONFIG_HOME").filter(|base| base.is_absolute());
    let base = base.or_else(|| Some(variable("HOME")?.join(".config")))?;
    Some(base.join("pinewrit"))
}

impl Config {
    /// The user's own.
    pub fn read() -> Result<Self, Message> {
        let Some(path) = config_folder().map(|folder| folder.join("config.toml")) else {
            return Ok(Self::default());
        };
        let Ok(text) = std::fs::read_to_string(&path) else {
            return Ok(Self::default());
        };
        toml::from_str(&text).map_err(|error| {
            let what = format!("the configuration {} cannot be used", path.display());
            Message::new(Exit::Settings, what)
                .fact("found", error.message().to_owned())
                .remedy("its keys are ledger and station")
        })
    }
}

/// The name of this station: configured, or that of the computer.
pub fn station() -> Result<String, Message> {
    let configured = Config::read()?.station;
    let of_computer = || {
        let name = rustix::system::uname()
            .nodename()
            .to_string_lossy()
            .into_owned();
        Some(name).filter(|name| !name.is_empty())
    };
    let name = configured.or_else(of_computer);
    Ok(name.unwrap_or_else(|| "this computer".to_owned()))
}

impl Context {
    /// The ledger: as chosen, configured, or in the state directory.
    pub fn ledger(&self) -> Result<Ledger, Message> {
        let opened = match self.chosen_ledger()? {
            Some(place) => open(&place),
            None => {
                let state = self.folders.state()?;
                let path = state.path().join(FILE);
                let is_new = !path.exists();
                let opened = Ledger::open_file(&path);
                give_to_owner(&state, &path);
                opened.and_then(|mut ledger| {
                    if is_new {
                        self.take_in(&mut ledger, &state)?;
                    }
                    Ok(ledger)
                })
            }
        };
        let mut ledger = opened.map_err(|e| words::ledger_error(&e))?;
        self.send_unsent(&mut ledger);
        Ok(ledger)
    }

    /// Begins the ledger of this computer, before the first medium that belongs into it is made.
    pub fn begin_ledger(&self) {
        if matches!(self.chosen_ledger(), Ok(None)) {
            // If it cannot be used, that is told with the first record.
            let _ = self.ledger();
        }
    }

    /// Where the ledger is, unless that is the state directory.
    fn chosen_ledger(&self) -> Result<Option<String>, Message> {
        Ok(match &self.ledger {
            Some(place) => Some(place.clone()),
            // What is practised on a rack is not recorded among real media.
            None if self.folders.are_given() => None,
            None => Config::read()?.ledger,
        })
    }

    /// Takes in the receipts of before there was a ledger, at its first use.
    fn take_in(&self, ledger: &mut Ledger, state: &StateFolder) -> Result<(), LedgerError> {
        let files = receipts_in(&state.receipts());
        if files.is_empty() {
            return Ok(());
        }
        let _waiting = Waiting::new(&self.ui, format!("taking in {} receipts", files.len()));
        let mut taken = 0;
        for many in files.chunks(AT_ONCE) {
            let receipts: Vec<Receipt> = many
                .iter()
                .filter_map(|path| read_receipt(path).ok())
                .collect();
            taken += ledger.take_in(&receipts)?;
        }
        if taken > 0 {
            let count = units::counted(taken as u64, "receipt");
            self.ui.say(format!(
                "note: the ledger begins with {count} from before\n"
            ));
        }
        Ok(())
    }

    /// Sends what was kept when the ledger could not be reached.
    fn send_unsent(&self, ledger: &mut Ledger) {
        let Some(outbox) = self.outbox() else { return };
        if outbox.waiting() == 0 {
            return;
        }
        match outbox.send(ledger) {
            Ok(0) => {}
            Ok(sent) => {
                let count = units::counted(sent as u64, "record");
                self.ui
                    .say(format!("note: {count} kept here were sent to the ledger\n"));
            }
            Err(error) => {
                let why = words::error_chain(&error);
                self.ui.say(format!(
                    "note: records kept here could not be sent: {why}\n"
                ));
            }
        }
    }

    /// Where records wait for the ledger.
    pub fn outbox(&self) -> Option<Outbox> {
        let state = self.folders.state_if_any()?;
        Some(Outbox::in_folder(state.path()))
    }

    /// Records what was done. A ledger that cannot be reached is no reason to call a good card bad:
    /// the record is kept here, and sent later.
    pub fn record(&self, entry: Entry, receipt: Option<&Receipt>) {
        let entry = Entry {
            station: entry.station.or_else(|| station().ok()),
            ..entry
        };
        let why = match self.ledger() {
            Ok(mut ledger) => match ledger.record(&entry, receipt) {
                Ok(()) => return,
                Err(error) => words::error_chain(&error),
            },
            // Without a place for records, that was said before.
            Err(message) if self.outbox().is_none() => {
                self.ui
                    .say(format!("note: not recorded: {}\n", message.what()));
                return;
            }
            Err(message) => message.what().to_owned(),
        };
        let parcel = Parcel {
            entry,
            receipt: receipt.cloned(),
            claim: None,
        };
        let kept = self.outbox().map(|outbox| outbox.keep(&parcel));
        if let Some(state) = self.folders.state_if_any() {
            let unsent = Outbox::in_folder(state.path());
            let own = unsent.path_of(&parcel);
            give_to_owner(&state, unsent.folder());
            give_to_owner(&state, &own);
        }
        self.ui.say(match kept {
            Some(Ok(())) => format!(
                "note: {why}; the record is kept here and sent with the next command, or by \
                 `pinewrit ledger sync`\n"
            ),
            _ => format!("note: not recorded: {why}\n"),
        });
    }
}

impl Context {
    /// Records what was found out about a medium with this receipt.
    pub fn record_about(&self, digest: &str, kind: Kind, remark: String) {
        let entry = Entry {
            station: station().ok(),
            remark: Some(remark),
            ..Entry::new(kind, clock::seconds())
        };
        if let Ok(mut ledger) = self.ledger()
            && let Err(error) = ledger.record_about(digest, &entry)
        {
            let why = words::error_chain(&error);
            self.ui.say(format!("note: not recorded: {why}\n"));
        }
    }

    /// Keeps a measurement of a medium.
    pub fn record_speed(&self, speed: &Speed) {
        if let Ok(mut ledger) = self.ledger()
            && let Err(error) = ledger.record_speed(speed)
        {
            let why = words::error_chain(&error);
            self.ui
                .say(format!("note: the speed is not recorded: {why}\n"));
        }
    }

    /// What is known of the speed of each of these media. A ledger that cannot be used knows
    /// nothing.
    pub fn known_speeds(&self, media: &[&MediumFacts]) -> Vec<Option<KnownSpeed>> {
        let mut ledger = self.ledger().ok();
        let known = media.iter().map(|facts| {
            let tag = facts.tag.as_ref().map(ToString::to_string);
            let ledger = ledger.as_mut()?;
            let known = ledger.known_speed(tag.as_deref(), Some(&model_of(facts)));
            known.ok()?
        });
        known.collect()
    }

    /// Whether there is a ledger in a file, which answers at once.
    pub fn has_ledger_here(&self) -> bool {
        match self.chosen_ledger() {
            Ok(Some(place)) => !place.contains("://") && Path::new(&place).exists(),
            Ok(None) => {
                let state = self.folders.state_if_any();
                state.is_some_and(|state| state.path().join(FILE).exists())
            }
            Err(_) => false,
        }
    }

    /// The ledger, if there is one: none is begun here. One that cannot be used is told of.
    pub fn ledger_if_any(&self) -> Option<Ledger> {
        let chosen = self.chosen_ledger();
        let is_server = matches!(chosen, Ok(Some(place)) if place.contains("://"));
        if !is_server && !self.has_ledger_here() {
            return None;
        }
        let opened = self.ledger().inspect_err(|message| {
            let why = message.what();
            self.ui
                .say(format!("note: nothing is known from the ledger: {why}\n"));
        });
        opened.ok()
    }

    /// Records that a medium was not finished.
    pub fn record_failure(&self, tag: Option<&str>, why: &str) {
        let entry = Entry {
            tag: tag.map(str::to_owned),
            remark: Some(why.to_owned()),
            ..Entry::new(Kind::Failure, clock::seconds())
        };
        self.record(entry, None);
    }

    /// Records a change of a medium with receipts: as they are now, each with its digest of before.
    pub fn record_change(&self, command: &str, files: &[String], receipts: &[(String, Receipt)]) {
        let Some((_, first)) = receipts.first() else {
            return;
        };
        let kind = match command {
            "configure" => Kind::Configure,
            _ => Kind::Change,
        };
        let count = units::counted(files.len() as u64, "file");
        let what = match (kind, files) {
            (Kind::Configure, _) => count,
            (_, []) => command.to_owned(),
            (_, [file]) => format!("{command} {file}"),
            _ => format!("{command}, {count}"),
        };
        let entry = Entry {
            tag: first.medium.tag.clone(),
            station: station().ok(),
            remark: Some(what),
            ..Entry::new(kind, clock::seconds())
        };
        let amended = match self.ledger() {
            Ok(mut ledger) => ledger
                .amend(&entry, receipts)
                .map_err(|e| words::error_chain(&e)),
            Err(message) => Err(message.what().to_owned()),
        };
        if let Err(why) = amended {
            self.ui.say(format!(
                "note: the ledger does not have this change: {why}\n"
            ));
        }
    }
}

/// Maker and model of a medium, as the ledger knows them.
pub fn model_of(facts: &MediumFacts) -> String {
    let named = [&facts.identity.maker, &facts.identity.model];
    let named: Vec<&str> = named.into_iter().flatten().map(String::as_str).collect();
    named.join(" ")
}

/// What this program makes through root rights belongs to the user who called it.
pub(crate) fn give_to_owner(state: &StateFolder, path: &Path) {
    let Some(owner) = state.owner() else { return };
    for ending in ["", "-wal", "-shm"] {
        let mut name = path.as_os_str().to_owned();
        name.push(ending);
        // What is not there needs no owner; what cannot be given away is still root's.
        let _ = std::os::unix::fs::lchown(name, Some(owner.uid), Some(owner.gid));
    }
}

fn open(place: &str) -> Result<Ledger, LedgerError> {
    if place.contains("://") {
        Ledger::open_server(place)
    } else {
        Ledger::open_file(Path::new(place))
    }
}

/// The receipts in a directory, by name.
pub fn receipts_in(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let is_receipt = |path: &PathBuf| path.to_string_lossy().ends_with(".receipt.json");
    let mut files: Vec<PathBuf> = entries
        .map(|entry| entry.path())
        .filter(is_receipt)
        .take(MAX_TAKEN_IN)
        .collect();
    files.sort();
    files
}
