//! Where state is kept: receipts, notes of unfinished writes, undo files, kept downloads.

use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use pinewrit_core::state::{Owner, StateFolder, UnsafePlace, make_private};
use pinewrit_ui::{Exit, Message};

/// The folders for this user's records and downloads. Each is determined when it is first needed.
#[derive(Clone, Default)]
pub struct Folders {
    state: Arc<OnceLock<StateFolder>>,
    is_given: bool,
}

impl Folders {
    /// Keeps all records in this folder, and not in the user's own.
    pub fn in_folder(folder: &Path) -> Result<Self, Message> {
        let folder = StateFolder::open(folder).map_err(|e| unusable(&e))?;
        Ok(Self {
            state: Arc::new(OnceLock::from(folder)),
            is_given: true,
        })
    }

    /// Whether they are not this user's own, as those of a rack.
    pub fn are_given(&self) -> bool {
        self.is_given
    }

    /// The state folder: according to the XDG Base Directory Specification, or in the home from the
    /// user database, or for root that of the system. Never one that others can write to.
    pub fn state(&self) -> Result<StateFolder, Message> {
        if let Some(known) = self.state.get() {
            return Ok(known.clone());
        }
        let found = match callers_folder() {
            Some(found) => found,
            None => open_first(own_folders("XDG_STATE_HOME", ".local/state", "/var/lib"))?,
        };
        Ok(self.state.get_or_init(|| found).clone())
    }

    /// The state folder, for commands that work without it as well.
    pub fn state_if_any(&self) -> Option<StateFolder> {
        self.state().ok()
    }

    /// The state folder for a write: a full or broken disk is no reason not to write a card, but
    /// the place must belong to this user.
    pub fn state_for_writing(&self) -> Result<Option<StateFolder>, Message> {
        match self.state() {
            Ok(state) => Ok(Some(state)),
            Err(message) if message.exit == Exit::Internal => Ok(None),
            Err(message) => Err(message),
        }
    }

    /// Where kept downloads are.
    ///
    /// # Errors
    /// Why there is no place for them.
    pub fn cache(&self) -> Result<PathBuf, String> {
        cache()
    }
}

/// The folder of the user who called this program through sudo(8): a card written this way can be
/// verified without it. `None` without sudo, or if the folder cannot be used.
fn callers_folder() -> Option<StateFolder> {
    let number = |name: &str| std::env::var(name).ok()?.parse::<u32>().ok();
    let is_own_choice = std::env::var_os("XDG_STATE_HOME").is_some();
    if !nix::unistd::geteuid().is_root() || is_own_choice {
        return None;
    }
    let (uid, gid) = (number("SUDO_UID")?, number("SUDO_GID")?);
    let account = nix::unistd::User::from_uid(nix::unistd::Uid::from_raw(uid)).ok()??;
    if uid == 0 || !account.dir.is_dir() {
        return None;
    }
    let folder = account.dir.join(".local/state/pinewrit");
    StateFolder::open_for(&folder, Owner { uid, gid }).ok()
}

/// Where kept downloads are.
///
/// # Errors
/// Why there is no place for them.
fn cache() -> Result<PathBuf, String> {
    let folders = own_folders("XDG_CACHE_HOME", ".cache", "/var/cache");
    let mut why = "this user has no home".to_owned();
    for folder in folders {
        match make_private(&folder) {
            Ok(made) => return Ok(made.join("downloads")),
            Err(error) => why = error.to_string(),
        }
    }
    Err(why)
}

/// Where to unpack archives that cannot be read as a stream.
pub fn spool() -> Option<PathBuf> {
    Some(cache().ok()?.with_file_name("spool"))
}

fn open_first(folders: Vec<PathBuf>) -> Result<StateFolder, Message> {
    let mut first = None;
    for folder in folders {
        match StateFolder::open(&folder) {
            Ok(state) => return Ok(state),
            Err(error) => first = first.or(Some(unusable(&error))),
        }
    }
    Err(first.unwrap_or_else(|| {
        nowhere("this user has no home, neither in HOME nor in the user database".to_owned())
    }))
}

fn unusable(error: &UnsafePlace) -> Message {
    let mut message = nowhere(error.to_string());
    if let UnsafePlace::Io { source, .. } = error {
        message.exit = Exit::Internal;
        message = message.fact("system", source.to_string());
    }
    message
}

fn nowhere(because: String) -> Message {
    let what = "there is no private place to keep receipts and undo files";
    Message::new(Exit::Usage, what)
        .fact("found", because)
        .fact("state", "nothing was changed")
        .remedy("set XDG_STATE_HOME to a directory that only you can write to")
}

/// Folders to try in order: only that of `variable`, if it is set.
fn own_folders(variable: &str, in_home: &str, of_root: &str) -> Vec<PathBuf> {
    let absolute = |name: &str| {
        let path = PathBuf::from(std::env::var_os(name)?);
        path.is_absolute().then_some(path)
    };
    if let Some(base) = absolute(variable) {
        return vec![base.join("pinewrit")];
    }
    let user = nix::unistd::geteuid();
    let account = nix::unistd::User::from_uid(user).ok().flatten();
    // `nobody` and the like have homes that do not exist, and that they cannot create.
    let account = account.map(|account| account.dir);
    let account = account.filter(|home| home.is_absolute() && home.is_dir());
    let homes = [absolute("HOME"), account].into_iter().flatten();
    let mut folders: Vec<PathBuf> = homes.map(|home| home.join(in_home)).collect();
    if user.is_root() {
        folders.push(PathBuf::from(of_root));
    }
    folders
        .into_iter()
        .map(|base| base.join("pinewrit"))
        .collect()
}
