//! What commands share: the user interface, the media, the places of records; and opening, asking,
//! and settling interrupted work.

pub(crate) mod change;
mod folders;
pub(crate) mod medium;
pub(crate) mod rescue;
pub(crate) mod settings;
pub(crate) mod source;
pub(crate) mod workshop;

use pinewrit_core::state::StateFolder;
use pinewrit_core::write::Surroundings;
use pinewrit_host::Readers;

pub(crate) use folders::{Folders, spool};
use pinewrit_ui::Ui;

/// The context of a command.
pub(crate) struct Context {
    /// The user interface.
    pub(crate) ui: Ui,
    /// The media of the computer, or of a rack.
    pub(crate) readers: Readers,
    /// Where records and downloads are kept.
    pub(crate) folders: Folders,
    /// Where the ledger is, if that was chosen.
    pub(crate) ledger: Option<String>,
}

impl Context {
    /// With these readers, and this user's own folders.
    pub(crate) fn new(ui: Ui, readers: Readers) -> Self {
        Self {
            ui,
            readers,
            folders: Folders::default(),
            ledger: None,
        }
    }

    /// The part that a job needs.
    pub(crate) fn surroundings<'a>(&'a self, store: Option<&'a StateFolder>) -> Surroundings<'a> {
        Surroundings {
            store,
            readers: &self.readers,
        }
    }
}
