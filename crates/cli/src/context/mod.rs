//! What commands share: who is spoken to, which media there are, where records are kept; and opening,
//! asking, and settling what was interrupted.

pub(crate) mod change;
mod folders;
pub(crate) mod medium;
pub(crate) mod settings;
pub(crate) mod source;

use pinewrit_core::state::StateFolder;
use pinewrit_core::write::Surroundings;
use pinewrit_host::Readers;

pub(crate) use folders::Folders;
use pinewrit_ui::Ui;

/// The surroundings of a command.
pub(crate) struct Context {
    /// Who is spoken to.
    pub(crate) ui: Ui,
    /// The media of the computer, or of a rack.
    pub(crate) readers: Readers,
    /// Where records and downloads are kept.
    pub(crate) folders: Folders,
}

impl Context {
    /// With the readers at hand, and this user's own folders.
    pub(crate) fn new(ui: Ui, readers: Readers) -> Self {
        Self {
            ui,
            readers,
            folders: Folders::default(),
        }
    }

    /// What a job needs of it.
    pub(crate) fn surroundings<'a>(&'a self, store: Option<&'a StateFolder>) -> Surroundings<'a> {
        Surroundings {
            store,
            readers: &self.readers,
        }
    }
}
