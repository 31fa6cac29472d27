//! Where media come from: the computer's own readers, or a rack in their place.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use pinewrit_disk::BlockDevice;

use crate::medium::check_ejectable;
use crate::{
    BlockName, EjectError, Footing, Medium, MediumError, MediumFacts, Permits, Power, Rack,
    SystemRoots, Target, UnmountError,
};

/// The readers that commands work with.
#[derive(Clone, Debug)]
pub enum Readers {
    /// Those of the computer.
    Computer(SystemRoots),
    /// Simulated ones.
    Rack(Rack),
}

impl Readers {
    /// Reads the rack file again: somebody may have moved cards in it. A file that is unreadable at
    /// the moment changes nothing.
    pub fn refresh(&mut self) {
        if let Self::Rack(rack) = self {
            rack.refresh();
        }
    }

    /// All media and readers, the most useful first.
    ///
    /// # Errors
    /// What is mounted cannot be found out.
    pub fn media(&self) -> io::Result<Vec<MediumFacts>> {
        match self {
            Self::Computer(roots) => roots.media(),
            Self::Rack(rack) => Ok(rack.media()),
        }
    }

    /// The medium in this reader.
    ///
    /// # Errors
    /// As [`Readers::media`].
    pub fn medium(&self, name: &BlockName) -> io::Result<Option<MediumFacts>> {
        let media = self.media()?;
        Ok(media.into_iter().find(|medium| medium.name == *name))
    }

    /// The whole medium that a path leads to, if it leads to one and not to a card file.
    pub fn whole_at(&self, path: &Path) -> Option<BlockName> {
        match self {
            Self::Computer(roots) => roots.whole_at(path),
            Self::Rack(rack) => rack.reader_at(path),
        }
    }

    /// Unmounts all of a medium; returns where it was mounted.
    ///
    /// # Errors
    /// [`UnmountError`].
    pub fn unmount(&self, name: &BlockName) -> Result<Vec<PathBuf>, UnmountError> {
        match self {
            Self::Computer(roots) => roots.unmount(name),
            Self::Rack(rack) => rack.unmount(name).map_err(|source| UnmountError::Io {
                point: PathBuf::from(&name.0),
                source,
            }),
        }
    }

    /// Makes a medium that nothing uses safe to take out.
    ///
    /// # Errors
    /// [`EjectError`]: it must not be taken out.
    pub fn eject(&self, path: &Path, permits: &Permits) -> Result<Power, EjectError> {
        match self {
            Self::Rack(rack) => {
                let name = rack.reader_at(path);
                let media = rack.media();
                let found = media
                    .iter()
                    .find(|medium| Some(&medium.name) == name.as_ref());
                check_ejectable(path, found, permits)?;
                let medium = rack.open_medium(path, None)?;
                self.eject_open(&medium)
            }
            Self::Computer(roots) => {
                let medium = Medium::open_to_eject(roots, path, permits)?;
                self.eject_open(&medium)
            }
        }
    }

    /// As [`Readers::eject`], for a medium that is still open after writing.
    ///
    /// # Errors
    /// [`EjectError`]: it must not be taken out.
    pub fn eject_open(&self, medium: &Medium) -> Result<Power, EjectError> {
        match self {
            Self::Rack(rack) => {
                medium.device.flush()?;
                match rack.reader_at(&medium.path) {
                    Some(name) => rack.eject(&name),
                    None => Ok(Power::NotNeeded),
                }
            }
            Self::Computer(roots) => roots.eject(medium),
        }
    }

    /// Opens a medium for reading.
    ///
    /// # Errors
    /// [`MediumError`].
    pub fn open_for_reading(&self, path: &Path) -> Result<Medium, MediumError> {
        match self {
            Self::Rack(rack) if rack.reader_at(path).is_some() => rack.open_medium(path, None),
            readers => {
                readers.must_not_be_real(path)?;
                Medium::open_for_reading(path)
            }
        }
    }

    /// Opens a medium for writing, or plans a new card file.
    ///
    /// # Errors
    /// As [`Target::open`].
    pub fn open_target(
        &self,
        path: &Path,
        size: Option<u64>,
        permits: &Permits,
    ) -> Result<Target, MediumError> {
        match self {
            Self::Rack(rack) if rack.reader_at(path).is_some() => {
                rack.open_medium(path, Some(permits)).map(Target::Existing)
            }
            Self::Rack(_) => {
                self.must_not_be_real(path)?;
                Target::open(&SystemRoots::default(), path, size, permits)
            }
            Self::Computer(roots) => Target::open(roots, path, size, permits),
        }
    }

    /// What the medium, file or folder at `path` is made of and lies on.
    pub fn footing(&self, path: &Path) -> Footing {
        match self {
            Self::Computer(roots) => roots.footing(path),
            Self::Rack(rack) => {
                let backing = rack.backing_at(path);
                SystemRoots::default().footing(backing.as_deref().unwrap_or(path))
            }
        }
    }

    /// As [`Readers::footing`], for an open file.
    pub fn footing_of_file(&self, file: &File) -> Footing {
        match self {
            Self::Computer(roots) => roots.footing_of_file(file),
            Self::Rack(_) => SystemRoots::default().footing_of_file(file),
        }
    }

    /// In a rehearsal, the computer's own devices do not exist, but card files do.
    fn must_not_be_real(&self, path: &Path) -> Result<(), MediumError> {
        match (self, SystemRoots::default().whole_at(path)) {
            (Self::Rack(_), Some(_)) => Err(MediumError::Missing {
                path: path.to_owned(),
            }),
            _ => Ok(()),
        }
    }

    /// The file or device that has a medium's bytes: for programs that open it by themselves.
    pub fn bytes_of(&self, path: &Path) -> PathBuf {
        let of_rack = match self {
            Self::Computer(_) => None,
            Self::Rack(rack) => rack.backing_at(path),
        };
        of_rack.unwrap_or_else(|| path.to_owned())
    }
}
