//! What surrounds a batch: how it is steered, what it needs, how it ended.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use pinewrit_core::Cancel;
use pinewrit_core::state::StateFolder;
use pinewrit_host::Readers;
use pinewrit_ledger::{JobKey, Ledger, LedgerError, PlannedJob};

use crate::work::{Trouble, digest_of};
use crate::{BatchRequest, Sources, Tally};

/// How a batch is steered while it runs.
#[derive(Clone, Debug, Default)]
pub struct Control {
    /// No new media are begun.
    closing: Arc<AtomicBool>,
    /// Everything is stopped.
    pub cancel: Cancel,
    /// Tags of media whose content may be overwritten.
    confirmed: Arc<Mutex<BTreeSet<String>>>,
}

impl Control {
    /// Begins no new media.
    pub fn close(&self) {
        self.closing.store(true, Ordering::Relaxed);
    }

    /// A token that is cancelled as soon as no new media are to be begun.
    pub fn closing(&self) -> Cancel {
        Cancel::from_flag(Arc::clone(&self.closing))
    }

    /// What is on the medium with this tag may be overwritten.
    pub fn confirm(&self, tag: &str) {
        let mut confirmed = self.confirmed.lock().unwrap_or_else(|e| e.into_inner());
        confirmed.insert(tag.to_uppercase());
    }

    pub(crate) fn is_closing(&self) -> bool {
        self.closing.load(Ordering::Relaxed) || self.cancel.is_cancelled()
    }

    /// Whether a tag was confirmed; once only.
    pub(crate) fn take_confirmed(&self, tag: &str) -> bool {
        let mut confirmed = self.confirmed.lock().unwrap_or_else(|e| e.into_inner());
        confirmed.remove(tag)
    }
}

/// Why a batch ended early.
#[derive(Debug, thiserror::Error)]
pub enum BatchError {
    /// The ledger could not be used from the start.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The media of the computer cannot be listed.
    #[error("the computer's media cannot be listed")]
    Media(#[source] std::io::Error),
    /// An image is bad: its name, and why.
    #[error("the image {0} is bad")]
    Source(String, Trouble),
}

/// How a batch ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BatchReport {
    /// How far it is.
    pub tally: Tally,
    /// Whether it was stopped before all was done.
    pub was_closed: bool,
}

/// What surrounds a batch.
pub struct Place<'b> {
    /// The media.
    pub readers: &'b Readers,
    /// The records.
    pub ledger: &'b Mutex<Ledger>,
    /// The images.
    pub sources: &'b Sources,
    /// Receipts are kept here as well.
    pub state: Option<&'b StateFolder>,
    /// Where unpacked images are.
    pub spool: Option<&'b Path>,
}

/// The jobs that the roster asks for, in order.
pub(crate) fn planned(request: &BatchRequest) -> Vec<PlannedJob> {
    let units = request.roster.units.iter();
    let jobs = units.flat_map(|unit| {
        let settings = digest_of(unit);
        unit.media.iter().map(move |medium| PlannedJob {
            key: JobKey {
                unit: unit.name.clone(),
                role: medium.role.clone(),
            },
            digest: blake3::hash(format!("{settings} {medium:?}").as_bytes())
                .to_hex()
                .to_string(),
            least: medium.least,
        })
    });
    jobs.collect()
}
