//! The rack file: readers and cards as a person describes them.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use pinewrit_disk::parse_size;
use serde::{Deserialize, Deserializer};

use super::RackError;

/// No board starts for longer, in seconds.
const MAX_START: f64 = 3600.0;
/// A rack file larger than this was not written by a person.
const MAX_FILE: u64 = 1 << 20;

/// The whole file.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct RackFile {
    /// Whether the speeds are simulated.
    #[serde(default)]
    pub(crate) clock: Clock,
    /// Folder for records, relative to the rack file; those of real media are kept elsewhere.
    pub(crate) state: Option<PathBuf>,
    #[serde(default)]
    pub(crate) readers: Vec<Reader>,
    #[serde(default)]
    pub(crate) cards: Vec<Card>,
    #[serde(default)]
    pub(crate) boards: Vec<BoardEntry>,
}

/// A simulated board.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct BoardEntry {
    pub(crate) name: String,
    /// What it is: a board file relative to the rack file, or the name of a known kind.
    pub(crate) kind: Option<String>,
    /// The reader whose card it takes.
    pub(crate) reader: String,
    /// The rate of its console, in bits a second.
    pub(crate) rate: Option<u32>,
    /// How long its start takes, in seconds.
    #[serde(default = "usual_start")]
    pub(crate) start: f64,
    /// Its hardware address.
    #[serde(default = "usual_mac")]
    pub(crate) mac: String,
    #[serde(default)]
    pub(crate) faults: BTreeSet<BoardFault>,
}

fn usual_start() -> f64 {
    3.0
}

/// Of those that everybody may give out (IEEE 802, "locally administered").
fn usual_mac() -> String {
    "02:00:00:77:00:01".to_owned()
}

/// One way in which a board misbehaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BoardFault {
    /// What it would start is for another processor.
    WrongLoader,
    /// It does not see its card.
    LooseCard,
    /// Its cable is not plugged in.
    NoNetwork,
    /// Nobody can read its console.
    Garbage,
    /// It has made a host key of its own.
    OtherHostKey,
    /// The work of its first start does not end.
    EndlessFirstStart,
}

/// Whether simulated media take time.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Clock {
    /// As long as a real one would.
    #[default]
    Real,
    /// No time at all.
    Instant,
}

/// A place for a card.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Reader {
    pub(crate) name: String,
    #[serde(default)]
    pub(crate) bus: BusWord,
    /// Of USB, in Mbit/s.
    pub(crate) speed: Option<u32>,
    /// The name of the card in it.
    pub(crate) holds: Option<String>,
}

/// A reader's bus.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum BusWord {
    #[default]
    Usb,
    Sd,
    Emmc,
    Sata,
    Nvme,
}

/// A simulated medium, backed by a file.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Card {
    pub(crate) name: String,
    /// Relative to the rack file; created when it is first used.
    pub(crate) file: PathBuf,
    pub(crate) size: Bytes,
    pub(crate) maker: Option<String>,
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    #[serde(default = "usual_sector")]
    pub(crate) sector: u32,
    /// Whether it is removable; if omitted, its bus decides.
    pub(crate) removable: Option<bool>,
    #[serde(default)]
    pub(crate) locked: bool,
    /// Where it is mounted.
    pub(crate) mounted: Option<PathBuf>,
    /// The part of the computer's own system that is on it.
    #[serde(default)]
    pub(crate) system: Vec<String>,
    /// In bytes a second.
    pub(crate) read_speed: Option<Bytes>,
    pub(crate) write_speed: Option<Bytes>,
    /// Of each request.
    #[serde(default)]
    pub(crate) latency_ms: u64,
    #[serde(default)]
    pub(crate) faults: Vec<FaultEntry>,
}

fn usual_sector() -> u32 {
    512
}

/// One way in which a card misbehaves.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", tag = "kind")]
pub(crate) enum FaultEntry {
    /// Reading there fails.
    ReadError { at: Bytes, len: Bytes },
    /// Reading there fails so many times, then it succeeds.
    FlakyRead { at: Bytes, len: Bytes, times: u32 },
    /// The card disappears after this many read bytes, until it is opened again.
    Gone { after: Bytes },
    /// Writing there fails.
    WriteError { at: Bytes, len: Bytes },
    /// The card disappears after this many written bytes.
    Pulled { after: Bytes },
    /// The byte there is stored with one bit flipped.
    FlippedBit { at: Bytes },
    /// Writes there are acknowledged and lost.
    LostWrites { at: Bytes, len: Bytes },
    /// It has fewer bytes than it claims.
    SmallerThanTold {
        real: Bytes,
        #[serde(default)]
        beyond: Beyond,
    },
    /// What it has said was written is lost with its power: so many bytes, the last ones.
    Forgets { bytes: Bytes },
    /// Every request there takes this much longer.
    SlowSpot { at: Bytes, len: Bytes, ms: u64 },
    /// The first write there hangs for this long.
    StuckWrite { at: Bytes, ms: u64 },
}

/// What happens to writes past the real capacity.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Beyond {
    /// They are lost.
    #[default]
    Lost,
    /// They overwrite the start.
    Wraps,
    /// They fail, as reading does.
    Errors,
}

/// A number of bytes, as `8GB`, `512MiB`, `2048s`, or a bare number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Bytes(pub(crate) u64);

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Typed {
            Number(u64),
            Text(String),
        }
        match Typed::deserialize(deserializer) {
            Ok(Typed::Number(bytes)) => Ok(Self(bytes)),
            Ok(Typed::Text(text)) => {
                // `20MB/s` is a speed.
                let amount = text.strip_suffix("/s").unwrap_or(&text);
                parse_size(amount)
                    .map(Self)
                    .map_err(serde::de::Error::custom)
            }
            Err(_) => Err(serde::de::Error::custom(
                "this is not a size; for example \"8GB\", \"512MiB\" or 2048",
            )),
        }
    }
}

impl RackFile {
    /// Reads and checks a rack file; returns its text as well.
    pub(crate) fn read(path: &Path) -> Result<(Self, String), RackError> {
        let io = |source| RackError::Io {
            path: path.to_owned(),
            source,
        };
        let size = fs::metadata(path).map_err(io)?.len();
        if size > MAX_FILE {
            return Err(RackError::Io {
                path: path.to_owned(),
                source: std::io::Error::other("too large for a rack file"),
            });
        }
        let text = fs::read_to_string(path).map_err(io)?;
        let file = Self::parse(&text).map_err(|mistakes| RackError::Mistakes {
            path: path.to_owned(),
            mistakes,
        })?;
        Ok((file, text))
    }

    /// The file, or its mistakes with their lines.
    pub(crate) fn parse(text: &str) -> Result<Self, Vec<(usize, String)>> {
        let file: Self = toml::from_str(text).map_err(|error| {
            let at = error.span().map_or(0, |span| span.start);
            let line = text
                .get(..at)
                .map_or(1, |before| before.matches('\n').count() + 1);
            vec![(line, error.message().to_owned())]
        })?;
        let mut mistakes = Mistakes {
            text,
            found: Vec::new(),
        };
        file.check_cards(&mut mistakes);
        file.check_readers(&mut mistakes);
        file.check_boards(&mut mistakes);
        if mistakes.found.is_empty() {
            Ok(file)
        } else {
            Err(mistakes.found)
        }
    }

    fn check_cards(&self, mistakes: &mut Mistakes<'_>) {
        for (index, card) in self.cards.iter().enumerate() {
            let before = &self.cards[..index];
            if before.iter().any(|other| other.name == card.name) {
                mistakes.add(&card.name, format!("two cards are named {}", card.name));
            }
            if card.size.0 == 0 || !card.size.0.is_multiple_of(512) {
                let what = format!("{} bytes are not a whole number of sectors", card.size.0);
                mistakes.add(&card.name, what);
            }
            if pinewrit_disk::SectorSize::new(card.sector).is_none() {
                let what = format!("a sector has 512 or 4096 bytes, not {}", card.sector);
                mistakes.add(&card.name, what);
            }
        }
    }

    fn check_readers(&self, mistakes: &mut Mistakes<'_>) {
        for (index, reader) in self.readers.iter().enumerate() {
            let before = &self.readers[..index];
            if !is_plain(&reader.name) {
                let what = "a reader's name has letters, digits and hyphens".to_owned();
                mistakes.add(&reader.name, what);
            }
            if before.iter().any(|other| other.name == reader.name) {
                let what = format!("two readers are named {}", reader.name);
                mistakes.add(&reader.name, what);
            }
            let Some(holds) = &reader.holds else {
                continue;
            };
            if !self.cards.iter().any(|card| card.name == *holds) {
                mistakes.add(holds, format!("there is no card {holds}"));
            }
            let holds_it = |other: &Reader| other.holds.as_ref() == Some(holds);
            if before.iter().any(holds_it) {
                mistakes.add(holds, format!("card {holds} is in two readers"));
            }
        }
    }
}

impl RackFile {
    fn check_boards(&self, mistakes: &mut Mistakes<'_>) {
        for (index, board) in self.boards.iter().enumerate() {
            let before = &self.boards[..index];
            if before.iter().any(|other| other.name == board.name) {
                mistakes.add(&board.name, format!("two boards are named {}", board.name));
            }
            if !is_plain(&board.name) {
                let what = "a board's name has letters, digits and hyphens".to_owned();
                mistakes.add(&board.name, what);
            }
            if !self
                .readers
                .iter()
                .any(|reader| reader.name == board.reader)
            {
                let what = format!("there is no reader {}", board.reader);
                mistakes.add(&board.reader, what);
            }
            if !(0.0..=MAX_START).contains(&board.start) {
                let what = format!(
                    "a start takes up to {MAX_START} seconds, not {}",
                    board.start
                );
                mistakes.add(&board.name, what);
            }
        }
    }
}

/// Whether a name can be part of a path.
fn is_plain(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    !name.is_empty() && name.chars().all(plain)
}

/// What the types alone do not check, with line numbers.
struct Mistakes<'t> {
    text: &'t str,
    found: Vec<(usize, String)>,
}

impl Mistakes<'_> {
    /// A mistake in a line with this name.
    fn add(&mut self, name: &str, what: String) {
        let quoted = format!("\"{name}\"");
        let line = self.text.lines().position(|line| line.contains(&quoted));
        self.found.push((line.map_or(1, |line| line + 1), what));
    }
}
