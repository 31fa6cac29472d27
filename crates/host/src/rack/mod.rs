//! The rack: readers and cards that are simulated, for rehearsals and tests.
//!
//! It replaces the computer's own readers as a whole ([`Readers`](crate::Readers)); nothing
//! else knows which of them it works with.

mod board;
mod device;
mod file;
mod slot;

use std::collections::BTreeSet;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use pinewrit_disk::{BlockDevice, Forgetful};
use rustix::fs::FlockOperation;
use toml_edit::{DocumentMut, Item, value};

use crate::medium::{check_permits, open_elsewhere};
use crate::survey::tags;
use crate::sysfs::RACK_PREFIX;
use crate::verdict::doubts_of;
use crate::{
    BlockName, Bus, EjectError, Hold, Identity, Medium, MediumError, MediumFacts, MediumKind,
    Permits, Place, Power, Verdict,
};
use file::{BusWord, Card, RackFile, Reader};
use slot::Slot;

pub use board::RackBoard;
pub use file::BoardFault;

/// Why a rack cannot be used, or not changed as requested.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RackError {
    /// The rack file could not be read or written.
    #[error("the rack file {} could not be read or written", path.display())]
    Io {
        /// Its path.
        path: PathBuf,
        /// The system's answer.
        source: io::Error,
    },
    /// The rack file has mistakes.
    #[error("{} has mistakes", path.display())]
    Mistakes {
        /// Its path.
        path: PathBuf,
        /// The line of each, from 1, and what is wrong there.
        mistakes: Vec<(usize, String)>,
    },
    /// There is no reader of this name.
    #[error("the rack has no reader {name}")]
    NoReader {
        /// The name.
        name: String,
        /// The readers that exist.
        known: Vec<String>,
    },
    /// There is no card of this name.
    #[error("the rack has no card {name}")]
    NoCard {
        /// The name.
        name: String,
        /// The cards that exist.
        known: Vec<String>,
    },
    /// There is no board of this name.
    #[error("the rack has no board {name}")]
    NoBoard {
        /// The name.
        name: String,
        /// The boards that exist.
        known: Vec<String>,
    },
    /// The reader holds another card.
    #[error("reader {reader} holds {card}")]
    Occupied {
        /// The reader.
        reader: String,
        /// The card in it.
        card: String,
    },
    /// The card is in no reader.
    #[error("card {card} is in no reader")]
    NotInside {
        /// The card.
        card: String,
    },
}

/// Simulated readers and cards.
#[derive(Clone, Debug)]
pub struct Rack {
    path: PathBuf,
    file: RackFile,
    /// Cards that were unmounted since the file was read.
    unmounted: Arc<Mutex<BTreeSet<String>>>,
}

/// A card and where it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CardPlace {
    /// The card's name.
    pub card: String,
    /// The reader that holds it, if one does.
    pub reader: Option<String>,
    /// Its size in bytes.
    pub size: u64,
    /// Its backing file.
    pub file: PathBuf,
    /// How many faults it has.
    pub faults: usize,
}

impl Rack {
    /// Reads a rack file.
    ///
    /// # Errors
    /// [`RackError`].
    pub fn open(path: &Path) -> Result<Self, RackError> {
        let (file, _) = RackFile::read(path)?;
        Ok(Self {
            path: path.to_owned(),
            file,
            unmounted: Arc::default(),
        })
    }

    /// Where records of its media are kept, if not with those of real media.
    pub fn state(&self) -> Option<PathBuf> {
        let folder = self.path.parent().unwrap_or(Path::new(""));
        self.file.state.as_ref().map(|state| folder.join(state))
    }

    /// Names of the readers, and what they hold.
    pub fn readers(&self) -> Vec<(String, Option<String>)> {
        let readers = self.file.readers.iter();
        readers
            .map(|reader| (reader.name.clone(), reader.holds.clone()))
            .collect()
    }

    /// All cards, and where they are.
    pub fn cards(&self) -> Vec<CardPlace> {
        let holder = |card: &Card| {
            let holds = |reader: &&Reader| reader.holds.as_ref() == Some(&card.name);
            self.file.readers.iter().find(holds)
        };
        let place = |card: &Card| CardPlace {
            card: card.name.clone(),
            reader: holder(card).map(|reader| reader.name.clone()),
            size: card.size.0,
            file: self.backing(card),
            faults: card.faults.len(),
        };
        self.file.cards.iter().map(place).collect()
    }

    fn backing(&self, card: &Card) -> PathBuf {
        self.path.parent().unwrap_or(Path::new("")).join(&card.file)
    }

    fn card_in(&self, reader: &Reader) -> Option<&Card> {
        let holds = reader.holds.as_ref()?;
        self.file.cards.iter().find(|card| card.name == *holds)
    }

    /// All media and readers of the rack, as [`SystemRoots::media`](crate::SystemRoots::media)
    /// lists those of the computer.
    pub fn media(&self) -> Vec<MediumFacts> {
        let readers = &self.file.readers;
        let identities: Vec<Identity> =
            readers.iter().map(|reader| self.identity(reader)).collect();
        let tags = tags(&identities);
        let mut media = Vec::new();
        for ((reader, identity), (tag, has_twin)) in readers.iter().zip(identities).zip(tags) {
            let name = block_name(reader);
            let card = self.card_in(reader);
            let point = card.and_then(|card| self.mount_point(card));
            let points = point.clone().into_iter().collect();
            media.push(MediumFacts {
                path: name.path(),
                verdict: card.map_or(Verdict::Ready, |card| {
                    verdict(card, point, &name, &identity)
                }),
                places: vec![Place {
                    name: name.clone(),
                    points,
                }],
                name,
                identity,
                tag,
                has_twin,
            });
        }
        media.sort_by_key(MediumFacts::order);
        media
    }

    fn identity(&self, reader: &Reader) -> Identity {
        let bus = match reader.bus {
            BusWord::Usb => Bus::Usb(reader.speed),
            BusWord::Sd => Bus::Sd,
            BusWord::Emmc => Bus::Emmc,
            BusWord::Sata => Bus::Sata,
            BusWord::Nvme => Bus::Nvme,
        };
        let card = self.card_in(reader);
        Identity {
            bus,
            size: card.map_or(0, |card| card.size.0),
            maker: card.and_then(|card| card.maker.clone()),
            model: card.and_then(|card| card.model.clone()),
            serial: card.and_then(|card| card.serial.clone()),
            is_own_serial: card.is_some_and(|card| card.serial.is_some()),
            is_removable: card
                .and_then(|card| card.removable)
                .unwrap_or(bus.is_hot_plugged()),
            port: reader.name.clone(),
            classes: None,
            mode: None,
        }
    }

    /// The reader that a path such as `rack:left` names.
    pub(crate) fn reader_at(&self, path: &Path) -> Option<BlockName> {
        let text = path.to_str()?;
        let names = self.file.readers.iter().map(block_name);
        names.into_iter().find(|name| name.0 == text)
    }

    /// Where a card is mounted.
    fn mount_point(&self, card: &Card) -> Option<PathBuf> {
        let unmounted = self.unmounted.lock().unwrap_or_else(|e| e.into_inner());
        let point = card.mounted.clone();
        point.filter(|_| !unmounted.contains(&card.name))
    }

    fn reader(&self, name: &BlockName) -> Option<&Reader> {
        self.file
            .readers
            .iter()
            .find(|reader| block_name(reader) == *name)
    }

    /// The file behind the card in the reader that a path names.
    pub(crate) fn backing_at(&self, path: &Path) -> Option<PathBuf> {
        let reader = self.reader(&self.reader_at(path)?)?;
        Some(self.backing(self.card_in(reader)?))
    }

    /// Opens the medium at `path`; for writing only if `permits` allow it.
    pub(crate) fn open_medium(
        &self,
        path: &Path,
        permits: Option<&Permits>,
    ) -> Result<Medium, MediumError> {
        let missing = || MediumError::Missing {
            path: path.to_owned(),
        };
        let name = self.reader_at(path).ok_or_else(missing)?;
        let reader = self.reader(&name).ok_or_else(missing)?;
        let card = self.card_in(reader).ok_or_else(missing)?;
        if let Some(permits) = permits {
            let facts = self.media().into_iter().find(|medium| medium.name == name);
            check_permits(path, facts.as_ref(), permits)?;
        }
        let backing = self.backing(card);
        let failed = |source| MediumError::Io {
            path: path.to_owned(),
            source,
        };
        let bus = self.identity(reader).bus.carries();
        let device = device::open(card, &backing, (self.file.clock, bus)).map_err(failed)?;
        let device = Slot::new(device, self.path.clone(), &reader.name, &card.name);
        let device: Box<dyn BlockDevice> = match device::forgets(card) {
            None => Box::new(device),
            Some(bytes) => Box::new(Forgetful::new(device, bytes)),
        };
        let lock = fs::File::open(&backing).map_err(failed)?;
        if permits.is_some() {
            let operation = rustix::fs::FlockOperation::NonBlockingLockExclusive;
            rustix::fs::flock(&lock, operation).map_err(|_| open_elsewhere(path))?;
        }
        Ok(Medium {
            device,
            opened: lock,
            is_direct: false,
            kind: MediumKind::Simulated,
            draft: None,
            path: path.to_owned(),
        })
    }

    /// Reads the file again.
    pub(crate) fn refresh(&mut self) {
        if let Ok(now) = Self::open(&self.path) {
            *self = now;
        }
    }

    /// Takes the card out of a reader, as far as its bus lets it.
    pub(crate) fn eject(&self, name: &BlockName) -> Result<Power, EjectError> {
        let failed = |error: RackError| EjectError::Rack(io::Error::other(error));
        // Somebody may have moved cards since.
        let mut now = Self::open(&self.path).map_err(failed)?;
        let reader = now.reader(name).cloned();
        let Some((reader, held)) = reader.and_then(|r| Some((r.clone(), r.holds?))) else {
            return Ok(Power::NotNeeded);
        };
        if now.identity(&reader).is_built_in() {
            return Err(EjectError::BuiltIn);
        }
        now.remove(&held).map_err(failed)?;
        Ok(match reader.bus {
            BusWord::Usb => Power::Off,
            _ => Power::NotNeeded,
        })
    }

    /// Unmounts the card in a reader, which the rack file remembers.
    pub(crate) fn unmount(&self, name: &BlockName) -> io::Result<Vec<PathBuf>> {
        let card = self.reader(name).and_then(|reader| self.card_in(reader));
        let Some((card, point)) = card.and_then(|card| Some((card, self.mount_point(card)?)))
        else {
            return Ok(Vec::new());
        };
        let name = card.name.clone();
        let edited = self.clone().edit(|document| {
            if let Some(table) = entry(document, "cards", &name) {
                table.remove("mounted");
            }
        });
        edited.map_err(io::Error::other)?;
        let mut unmounted = self.unmounted.lock().unwrap_or_else(|e| e.into_inner());
        unmounted.insert(name);
        Ok(vec![point])
    }

    /// Puts a card into a reader, out of the one where it is.
    ///
    /// # Errors
    /// [`RackError`]: no such card or reader, or the reader holds another one.
    pub fn insert(&mut self, card: &str, reader: &str) -> Result<(), RackError> {
        self.must_have_card(card)?;
        let held = self.held(reader)?;
        if let Some(other) = held.filter(|held| held != card) {
            return Err(RackError::Occupied {
                reader: reader.to_owned(),
                card: other,
            });
        }
        let place = self.cards().into_iter().find(|place| place.card == card);
        if let Some(before) = place.and_then(|place| place.reader) {
            self.put(&before, None)?;
        }
        self.put(reader, Some(card))
    }

    /// Takes a card out of the reader that holds it.
    ///
    /// # Errors
    /// [`RackError`]: no such card, or it is in no reader.
    pub fn remove(&mut self, card: &str) -> Result<String, RackError> {
        self.must_have_card(card)?;
        let place = self.cards().into_iter().find(|place| place.card == card);
        let reader = place.and_then(|place| place.reader);
        let reader = reader.ok_or_else(|| RackError::NotInside {
            card: card.to_owned(),
        })?;
        self.put(&reader, None)?;
        Ok(reader)
    }

    /// Swaps the cards of two readers.
    ///
    /// # Errors
    /// [`RackError`]: no such reader.
    pub fn swap(&mut self, first: &str, second: &str) -> Result<(), RackError> {
        let (one, other) = (self.held(first)?, self.held(second)?);
        self.put(first, None)?;
        self.put(second, one.as_deref())?;
        self.put(first, other.as_deref())
    }

    fn held(&self, reader: &str) -> Result<Option<String>, RackError> {
        let found = self.file.readers.iter().find(|known| known.name == reader);
        let found = found.ok_or_else(|| RackError::NoReader {
            name: reader.to_owned(),
            known: self.readers().into_iter().map(|(name, _)| name).collect(),
        })?;
        Ok(found.holds.clone())
    }

    fn must_have_card(&self, card: &str) -> Result<(), RackError> {
        if self.file.cards.iter().any(|known| known.name == card) {
            Ok(())
        } else {
            Err(RackError::NoCard {
                name: card.to_owned(),
                known: self.cards().into_iter().map(|place| place.card).collect(),
            })
        }
    }

    /// Changes the card in a reader, in the file as well; comments and order stay.
    fn put(&mut self, reader: &str, card: Option<&str>) -> Result<(), RackError> {
        self.edit(|document| {
            if let Some(table) = entry(document, "readers", reader) {
                match card {
                    Some(card) => table["holds"] = value(card),
                    None => {
                        table.remove("holds");
                    }
                }
            }
        })
    }

    /// Changes the file as it is now: other programs move cards too, one at a time, and nobody
    /// reads half of it.
    fn edit(&mut self, change: impl FnOnce(&mut DocumentMut)) -> Result<(), RackError> {
        let failed = |source: io::Error| RackError::Io {
            path: self.path.clone(),
            source,
        };
        let folder = match self.path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        let lock = fs::File::open(folder).map_err(failed)?;
        rustix::fs::flock(&lock, FlockOperation::LockExclusive).map_err(|e| failed(e.into()))?;
        let text = fs::read_to_string(&self.path).map_err(failed)?;
        let document = text.parse::<DocumentMut>();
        let mut document = document.map_err(|error| failed(io::Error::other(error)))?;
        change(&mut document);
        let text = document.to_string();
        let wrong = |mistakes| RackError::Mistakes {
            path: self.path.clone(),
            mistakes,
        };
        self.file = RackFile::parse(&text).map_err(wrong)?;
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(failed)?;
        file.write_all(text.as_bytes()).map_err(failed)?;
        if let Ok(facts) = fs::metadata(&self.path) {
            let kept = file.as_file().set_permissions(facts.permissions());
            kept.map_err(failed)?;
        }
        file.persist(&self.path)
            .map_err(|error| failed(error.error))?;
        Ok(())
    }
}

/// The table with this name in a list of tables.
fn entry<'d>(
    document: &'d mut DocumentMut,
    list: &str,
    name: &str,
) -> Option<&'d mut toml_edit::Table> {
    let tables = document
        .get_mut(list)
        .and_then(Item::as_array_of_tables_mut)?;
    tables
        .iter_mut()
        .find(|table| table.get("name").and_then(Item::as_str) == Some(name))
}

fn block_name(reader: &Reader) -> BlockName {
    BlockName(format!("{RACK_PREFIX}{}", reader.name))
}

fn verdict(
    card: &Card,
    mounted: Option<PathBuf>,
    name: &BlockName,
    identity: &Identity,
) -> Verdict {
    if !card.system.is_empty() {
        return Verdict::System(card.system.clone());
    }
    if let Some(point) = mounted {
        return Verdict::Busy(vec![Hold::Mounted {
            device: name.clone(),
            point,
            is_read_only: false,
        }]);
    }
    if card.locked {
        return Verdict::Locked;
    }
    match doubts_of(identity) {
        doubts if doubts.is_empty() => Verdict::Ready,
        doubts => Verdict::Unsure(doubts),
    }
}
