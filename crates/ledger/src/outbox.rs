//! Records that could not be sent: kept in files until the ledger can be reached.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use pinewrit_core::receipt::Receipt;
use pinewrit_core::state::save;
use serde::{Deserialize, Serialize};

use crate::{Claim, Entry, Ledger, LedgerError, Lost};

const ENDING: &str = "record.json";

/// A record on its way.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Parcel {
    /// What was done.
    pub entry: Entry,
    /// The finished medium's receipt.
    pub receipt: Option<Receipt>,
    /// The job that is done with it.
    #[serde(default)]
    pub claim: Option<Claim>,
}

impl Parcel {
    /// Records what is in it; a job is done with it.
    ///
    /// # Errors
    /// [`LedgerError`]: it was not recorded. Inside, [`Lost`]: the job is another station's.
    pub fn send(&self, ledger: &mut Ledger) -> Result<Result<(), Lost>, LedgerError> {
        match &self.claim {
            Some(claim) => ledger.finish(claim, &self.entry, self.receipt.as_ref()),
            None => ledger.record(&self.entry, self.receipt.as_ref()).map(Ok),
        }
    }
}

/// A folder of records to be sent.
#[derive(Clone, Debug)]
pub struct Outbox(PathBuf);

impl Outbox {
    /// The one in this folder, which is created when it is needed.
    pub fn in_folder(folder: &Path) -> Self {
        Self(folder.join("unsent"))
    }

    /// Keeps a record until it is sent.
    ///
    /// # Errors
    /// It could not be written.
    pub fn keep(&self, parcel: &Parcel) -> io::Result<()> {
        let json = serde_json::to_vec(parcel).map_err(io::Error::other)?;
        save(&self.path_of(parcel), &json)
    }

    /// The folder.
    pub fn folder(&self) -> &Path {
        &self.0
    }

    /// Where a record is kept.
    pub fn path_of(&self, parcel: &Parcel) -> PathBuf {
        self.0.join(format!("{}.{ENDING}", parcel.entry.id))
    }

    /// How many records wait.
    pub fn waiting(&self) -> usize {
        self.files().len()
    }

    fn files(&self) -> Vec<PathBuf> {
        let entries = fs::read_dir(&self.0).into_iter().flatten().flatten();
        let mut files: Vec<PathBuf> = entries
            .map(|entry| entry.path())
            .filter(|path| path.to_string_lossy().ends_with(ENDING))
            .collect();
        files.sort();
        files
    }

    /// Sends all records that wait; returns how many there were. What is no record stays.
    ///
    /// # Errors
    /// [`LedgerError`]: the rest still waits.
    pub fn send(&self, ledger: &mut Ledger) -> Result<usize, LedgerError> {
        let mut sent = 0;
        for path in self.files() {
            let json = fs::read(&path).unwrap_or_default();
            let Ok(parcel) = serde_json::from_slice::<Parcel>(&json) else {
                continue;
            };
            // Whoever has the job by now: what was made is on record, once.
            let _ = parcel.send(ledger)?;
            let _ = fs::remove_file(&path);
            sent += 1;
        }
        Ok(sent)
    }
}
