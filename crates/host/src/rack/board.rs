//! The rack's boards.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::file::{BoardEntry, BoardFault, Clock};
use super::{Rack, RackError, block_name};

/// A simulated board, as the rack file describes it.
#[derive(Clone, Debug, PartialEq)]
pub struct RackBoard {
    /// Its name.
    pub name: String,
    /// What it is: the path of a board file, or the name of a known kind.
    pub kind: Option<String>,
    /// The reader whose card it takes.
    pub reader: String,
    /// The path of that reader's medium; `None` if it is empty.
    pub card: Option<PathBuf>,
    /// The rate of its console, in bits a second.
    pub rate: Option<u32>,
    /// How long its start takes.
    pub start: Duration,
    /// Its hardware address.
    pub hardware: String,
    /// How it misbehaves.
    pub faults: BTreeSet<BoardFault>,
    /// The file that says where it is, while it is switched on.
    pub running: PathBuf,
}

impl Rack {
    /// The boards.
    pub fn boards(&self) -> Vec<RackBoard> {
        self.file
            .boards
            .iter()
            .map(|board| self.described(board))
            .collect()
    }

    /// The board of this name.
    ///
    /// # Errors
    /// [`RackError::NoBoard`].
    pub fn board(&self, name: &str) -> Result<RackBoard, RackError> {
        let found = self.file.boards.iter().find(|board| board.name == name);
        found
            .map(|board| self.described(board))
            .ok_or_else(|| RackError::NoBoard {
                name: name.to_owned(),
                known: self
                    .file
                    .boards
                    .iter()
                    .map(|board| board.name.clone())
                    .collect(),
            })
    }

    fn described(&self, board: &BoardEntry) -> RackBoard {
        let folder = self.path.parent().unwrap_or(Path::new(""));
        // A path is relative to the rack file.
        let kind = board
            .kind
            .as_ref()
            .map(|kind| match kind.ends_with(".toml") {
                true => folder.join(kind).display().to_string(),
                false => kind.clone(),
            });
        let mut readers = self.file.readers.iter();
        let reader = readers.find(|reader| reader.name == board.reader);
        let card = reader.filter(|reader| reader.holds.is_some());
        RackBoard {
            name: board.name.clone(),
            kind,
            reader: board.reader.clone(),
            card: card.map(|reader| block_name(reader).path()),
            rate: board.rate,
            start: match self.file.clock {
                Clock::Real => Duration::from_secs_f64(board.start),
                Clock::Instant => Duration::ZERO,
            },
            hardware: board.mac.to_ascii_lowercase(),
            faults: board.faults.clone(),
            running: folder.join(format!("{}.board.json", board.name)),
        }
    }
}
