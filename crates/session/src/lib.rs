//! What commands share: the user interface, the media, the places of records; opening, asking, and
//! settling interrupted work; the clock, secrets and signals.
//!
//! ```
//! use pinewrit_host::{Readers, SystemRoots};
//! use pinewrit_session::Context;
//! use pinewrit_ui::Ui;
//!
//! let ui = Ui { json: false, quiet: true, verbose: false };
//! let cx = Context::new(ui, Readers::Computer(SystemRoots::default()));
//! assert!(!cx.folders.are_given());
//! ```

pub mod boards;
pub mod change;
pub mod clock;
mod folders;
pub mod measure;
pub mod medium;
pub mod rescue;
pub mod secrets;
pub mod settings;
pub mod shelf;
pub mod signals;
pub mod source;
pub mod trust;
pub mod unit;
pub mod workshop;

use std::path::PathBuf;
use std::sync::{Arc, OnceLock};

use pinewrit_core::state::StateFolder;
use pinewrit_core::write::Surroundings;
use pinewrit_host::Readers;
use pinewrit_shelf::Shelf;

pub use folders::{Folders, spool};
use pinewrit_ui::Ui;

/// The context of a command.
pub struct Context {
    /// The user interface.
    pub ui: Ui,
    /// The media of the computer, or of a rack.
    pub readers: Readers,
    /// Where records and downloads are kept.
    pub folders: Folders,
    /// Where the ledger is, if that was chosen.
    pub ledger: Option<String>,
    /// The user's catalogue, if it is not at its usual places.
    pub own_shelf: Option<PathBuf>,
    /// The catalogues, once they have been read.
    pub shelf: OnceLock<Arc<Shelf>>,
}

impl Context {
    /// With these readers, and this user's own folders.
    pub fn new(ui: Ui, readers: Readers) -> Self {
        Self {
            ui,
            readers,
            folders: Folders::default(),
            ledger: None,
            own_shelf: None,
            shelf: OnceLock::new(),
        }
    }

    /// The part that a job needs.
    pub fn surroundings<'a>(&'a self, store: Option<&'a StateFolder>) -> Surroundings<'a> {
        Surroundings {
            store,
            readers: &self.readers,
        }
    }
}

/// The result of a command: success, or the message that ends it.
pub type Outcome = Result<(), pinewrit_ui::Message>;
