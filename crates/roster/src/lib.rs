//! Rosters: many units in one file, each with settings and media of its own.
//!
//! A roster is TOML; units are tables in it, rows of a CSV file, or counted. All mistakes are found
//! at once, each with its file and line; mistakes between units too.
//!
//! ```
//! use pinewrit_roster::{Roster, RosterError};
//! use pinewrit_settings::SecretSource;
//! use std::{io, path::Path};
//!
//! struct NoSecrets;
//! impl SecretSource for NoSecrets {
//!     fn variable(&self, _: &str) -> Option<String> {
//!         None
//!     }
//!     fn file(&self, _: &Path) -> io::Result<String> {
//!         Err(io::ErrorKind::NotFound.into())
//!     }
//!     fn ask(&self, _: &str) -> io::Result<Option<String>> {
//!         Ok(None)
//!     }
//! }
//!
//! let text = r#"
//! image = "larkfell-os.img.zst"
//! [count]
//! units = 12
//! name = "larkfell-{n:02}"
//! address = "10.77.0.21/24"
//! [each]
//! wired.addresses = ["{address}"]
//! "#;
//! let roster = Roster::parse(text, Path::new("huts.toml"), &NoSecrets)?;
//! assert_eq!(roster.units[11].name, "larkfell-12");
//! assert_eq!(roster.units[11].addresses()[0].to_string(), "10.77.0.32/24");
//! # Ok::<(), RosterError>(())
//! ```

mod among;
mod count;
mod fill;
mod head;
mod merge;
mod read;
mod sheet;
mod source;
mod texts;

use std::fmt;
use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

use ipnet::IpNet;
use pinewrit_image::Location;
use pinewrit_settings::{CheckedSettings, SecretSource};

/// The most units of a roster.
pub const MAX_UNITS: usize = 100_000;

/// A checked roster.
#[derive(Clone, Debug)]
pub struct Roster {
    /// The batch's name: given, or the file's name without its ending.
    pub name: String,
    /// The board that is to start with it: a name, or the path of a board file.
    pub board: Option<String>,
    /// The file with the key that must have signed all images.
    pub signed_by: Option<PathBuf>,
    /// The units, in the order in which they are made.
    pub units: Vec<Unit>,
    /// What is valid, but has caused trouble.
    pub warnings: Vec<RosterMistake>,
}

/// One board with its media.
#[derive(Clone, Debug)]
pub struct Unit {
    /// Its name, unique in the roster.
    pub name: String,
    /// Where it is in the roster.
    pub place: Place,
    /// Its settings; `None` if it gets none.
    pub settings: Option<CheckedSettings>,
    /// Its media, in the order in which they are made.
    pub media: Vec<UnitMedium>,
    /// Its settings in one line each, by their paths, without secrets.
    pub values: Vec<(String, String)>,
}

/// A medium of a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnitMedium {
    /// What it is for; empty if the units have one medium each.
    pub role: String,
    /// What is put on it.
    pub content: Content,
    /// Whether it gets the unit's settings.
    pub gets_settings: bool,
    /// Whether its last partition grows to the end of the medium.
    pub grows: bool,
    /// The intake for the settings; `None` if it is recognised.
    pub intake: Option<String>,
    /// The smallest medium that may be used, in bytes.
    pub least: u64,
}

/// What is put on a medium.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// An image.
    Image {
        /// Where it is.
        location: Location,
        /// Its checksum, as given: `sha256:…`.
        checksum: Option<String>,
    },
    /// What a layout describes.
    Layout(PathBuf),
}

impl fmt::Display for Content {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Image { location, .. } => f.write_str(&location.name()),
            Self::Layout(path) => {
                let name = path.file_name().unwrap_or(path.as_os_str());
                f.write_str(&name.to_string_lossy())
            }
        }
    }
}

/// A place in one of the roster's files.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// The file's name, as given.
    pub file: String,
    /// The line, from 1.
    pub line: usize,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} line {}", self.file, self.line)
    }
}

/// A mistake or a warning in a roster.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RosterMistake {
    /// Where it is.
    pub place: Place,
    /// What is wrong. Never contains a secret.
    pub what: String,
    /// What would be right.
    pub remedy: String,
}

/// Why a roster cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum RosterError {
    /// The roster itself could not be read.
    #[error("{} cannot be read", path.display())]
    Read {
        /// Its path.
        path: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// It has mistakes: all of them, in the order of their places.
    #[error("{} mistakes in the roster", .0.len())]
    Mistakes(Vec<RosterMistake>),
}

impl Roster {
    /// Reads a roster and the files that it names, and checks everything. The user is only asked
    /// for secrets if there are no mistakes.
    ///
    /// # Errors
    /// [`RosterError`].
    pub fn read(path: &Path, secrets: &dyn SecretSource) -> Result<Self, RosterError> {
        let failed = |source| RosterError::Read {
            path: path.to_owned(),
            source,
        };
        let bytes = read::file(path).map_err(failed)?;
        let text = String::from_utf8(bytes)
            .map_err(|_| failed(io::Error::other("it is not text in UTF-8")))?;
        Self::parse(&text, path, secrets)
    }

    /// As [`Roster::read`], for the text of the roster at `path`.
    ///
    /// # Errors
    /// As [`Roster::read`].
    pub fn parse(text: &str, path: &Path, secrets: &dyn SecretSource) -> Result<Self, RosterError> {
        read::roster(text, path, secrets).map_err(RosterError::Mistakes)
    }

    /// The settings in which units differ, by their paths, in the order of the settings.
    pub fn differing(&self) -> Vec<String> {
        let Some((first, others)) = self.units.split_first() else {
            return Vec::new();
        };
        let mut paths: Vec<&str> = Vec::new();
        for (path, _) in self.units.iter().flat_map(|unit| &unit.values) {
            if !paths.contains(&path.as_str()) {
                paths.push(path);
            }
        }
        let is_same = |path: &str| {
            others
                .iter()
                .all(|unit| unit.value(path) == first.value(path))
        };
        let differing = paths.into_iter().filter(|path| !is_same(path));
        differing.map(str::to_owned).collect()
    }

    /// The unit of this name.
    pub fn unit(&self, name: &str) -> Option<&Unit> {
        self.units.iter().find(|unit| unit.name == name)
    }
}

impl Unit {
    /// A setting in one line, by its path.
    pub fn value(&self, path: &str) -> Option<&str> {
        let found = self.values.iter().find(|(known, _)| known == path);
        found.map(|(_, value)| value.as_str())
    }

    /// Its host name.
    pub fn host_name(&self) -> Option<&str> {
        self.settings.as_ref()?.host_name.as_deref()
    }

    /// Its fixed addresses.
    pub fn addresses(&self) -> Vec<IpNet> {
        let wired = self.settings.iter().flat_map(|settings| &settings.wired);
        wired.flat_map(|wired| wired.addresses.clone()).collect()
    }

    /// The medium for a role.
    pub fn medium(&self, role: &str) -> Option<&UnitMedium> {
        self.media.iter().find(|medium| medium.role == role)
    }
}

/// Addresses from one to another, both included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct AddressRange {
    first: IpAddr,
    last: IpAddr,
}

impl AddressRange {
    /// Reads `10.77.0.100-10.77.0.199`, or a network.
    fn parse(text: &str) -> Option<Self> {
        if let Ok(net) = text.trim().parse::<IpNet>() {
            let (first, last) = (net.network(), net.broadcast());
            return Some(Self { first, last });
        }
        let (first, last) = text.split_once('-')?;
        let (first, last): (IpAddr, IpAddr) =
            (first.trim().parse().ok()?, last.trim().parse().ok()?);
        (first.is_ipv4() == last.is_ipv4() && first <= last).then_some(Self { first, last })
    }

    fn contains(&self, address: IpAddr) -> bool {
        address.is_ipv4() == self.first.is_ipv4() && (self.first..=self.last).contains(&address)
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} to {}", self.first, self.last)
    }
}
