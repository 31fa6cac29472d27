//! All catalogues together: which image a name means.

use std::collections::{HashMap, HashSet};

use pinewrit_image::{Checksum, Location};
use pinewrit_settings::document::nearest;

use crate::versions::order;
use crate::{Base, Catalogue, Image, ImageName};

/// Catalogues, the user's own before those of others.
#[derive(Clone, Debug, Default)]
pub struct Shelf {
    /// Each, and where it is.
    pub catalogues: Vec<(Base, Catalogue)>,
}

/// An image, and the catalogue that it is in.
#[derive(Clone, Copy, Debug)]
pub struct Found<'s> {
    /// Where the catalogue is.
    pub base: &'s Base,
    /// The catalogue.
    pub catalogue: &'s Catalogue,
    /// The image.
    pub image: &'s Image,
}

/// Why a name means no image.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotFound {
    /// No catalogue has it.
    #[error("no image on the shelf is called {name}")]
    Name {
        /// The name.
        name: String,
        /// One that is like it.
        near: Option<String>,
    },
    /// There are others of its versions.
    #[error("the shelf has no version {version} of {name}")]
    Version {
        /// The name.
        name: String,
        /// The version.
        version: String,
        /// Those that there are, the newest first.
        known: Vec<String>,
    },
    /// Two catalogues have different files for it.
    #[error("two catalogues have different files for {name}")]
    Contradiction {
        /// Name and version.
        name: ImageName,
        /// Where each catalogue is, and the checksum that it gives.
        each: Vec<(Location, Checksum)>,
    },
}

impl<'s> Found<'s> {
    /// Where the image is.
    pub fn location(&self) -> Location {
        self.base.location(&self.image.source)
    }

    /// Whether it must be signed by a key that the user has.
    pub fn must_be_signed(&self) -> bool {
        self.catalogue.signed || self.image.signed
    }

    fn order(&self) -> crate::Order<'s> {
        (&self.image.version, self.image.date)
    }
}

impl Shelf {
    /// Of these catalogues.
    pub fn new(catalogues: Vec<(Base, Catalogue)>) -> Self {
        Self { catalogues }
    }

    /// All images of all catalogues, by name, the newest version first. What several catalogues have
    /// is there once.
    pub fn images(&self) -> Vec<Found<'_>> {
        sorted(self.each())
    }

    fn each(&self) -> impl Iterator<Item = Found<'_>> {
        self.catalogues.iter().flat_map(|(base, catalogue)| {
            catalogue.images.iter().map(move |image| Found {
                base,
                catalogue,
                image,
            })
        })
    }

    /// The versions of an image, the newest first.
    pub fn versions(&self, name: &str) -> Vec<Found<'_>> {
        sorted(self.each().filter(|found| found.image.name == name))
    }

    /// The image with a name: of this version, or the newest.
    ///
    /// # Errors
    /// [`NotFound`].
    pub fn find(&self, wanted: &ImageName) -> Result<Found<'_>, NotFound> {
        let versions = self.versions(&wanted.name);
        let of_version = |version: &String| {
            let mut all = versions.iter();
            all.find(|found| found.image.version == *version)
        };
        let found = match &wanted.version {
            None => versions.first(),
            Some(version) => of_version(version),
        };
        let found = *found.ok_or_else(|| self.missing(wanted, &versions))?;
        self.must_agree(found)?;
        Ok(found)
    }

    fn missing(&self, wanted: &ImageName, versions: &[Found<'_>]) -> NotFound {
        match &wanted.version {
            Some(version) if !versions.is_empty() => NotFound::Version {
                name: wanted.name.clone(),
                version: version.clone(),
                known: versions
                    .iter()
                    .map(|found| found.image.version.clone())
                    .collect(),
            },
            _ => {
                let all: Vec<&str> = self.each().map(|one| one.image.name.as_str()).collect();
                NotFound::Name {
                    name: wanted.name.clone(),
                    near: nearest(&wanted.name, all).map(str::to_owned),
                }
            }
        }
    }

    /// One version is one file, whoever lists it.
    fn must_agree(&self, found: Found<'_>) -> Result<(), NotFound> {
        let own = self.each().filter(|one| {
            (&one.image.name, &one.image.version) == (&found.image.name, &found.image.version)
        });
        let mut each: Vec<(Location, Checksum)> = Vec::new();
        for one in own {
            if let Some(checksum) = &one.image.checksum {
                each.push((one.base.place(), checksum.clone()));
            }
        }
        let differs = |(_, a): &(Location, Checksum)| {
            let mut others = each.iter();
            others.any(|(_, b)| a.kind == b.kind && a.digest != b.digest)
        };
        if each.iter().any(differs) {
            let name = found.image.full_name();
            return Err(NotFound::Contradiction { name, each });
        }
        Ok(())
    }
}

/// By name, the newest version first; of the same version, the first alone.
fn sorted<'s>(images: impl Iterator<Item = Found<'s>>) -> Vec<Found<'s>> {
    let mut known = HashSet::new();
    let is_new = |found: &Found<'s>| known.insert((&found.image.name, &found.image.version));
    let mut all: Vec<Found<'s>> = images.filter(is_new).collect();
    all.sort_by(|a, b| {
        let names = a.image.name.cmp(&b.image.name);
        names.then_with(|| order(b.order(), a.order()))
    });
    all
}

/// What a newer form of a catalogue says of an image that was in the older one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The image and its version.
    pub name: ImageName,
    /// Its checksum of before.
    pub before: Checksum,
    /// The one that it has now.
    pub now: Option<Checksum>,
}

/// The images whose files have changed although their versions have not.
pub fn changes(before: &Catalogue, now: &Catalogue) -> Vec<Change> {
    let now: HashMap<_, _> = now
        .images
        .iter()
        .map(|image| ((&image.name, &image.version), image))
        .collect();
    let changed = before.images.iter().filter_map(|old| {
        let new = now.get(&(&old.name, &old.version))?;
        let before = old.checksum.clone()?;
        (new.checksum.as_ref() != Some(&before)).then(|| Change {
            name: old.full_name(),
            before,
            now: new.checksum.clone(),
        })
    });
    changed.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn catalogue(images: &[(&str, &str, &str)]) -> Catalogue {
        let mut text = String::new();
        for (name, version, digit) in images {
            let digest = digit.repeat(64);
            text += &format!(
                "[[image]]\nname = \"{name}\"\nversion = \"{version}\"\nsource = \"a.img\"\n\
                 checksum = \"sha256:{digest}\"\n"
            );
        }
        Catalogue::parse(&text).unwrap()
    }

    fn find(shelf: &Shelf, name: &str) -> Result<String, NotFound> {
        let found = shelf.find(&ImageName::parse(name).unwrap())?;
        Ok(found.image.full_name().to_string())
    }

    #[test]
    fn the_newest_is_meant_unless_one_is_named() {
        let own = catalogue(&[("os", "2.9", "1"), ("os", "2.10", "2")]);
        let team = catalogue(&[("os", "2.11-rc1", "3"), ("rescue", "1", "4")]);
        let shelf = Shelf::new(vec![(Base::of("a.toml"), own), (Base::of("b.toml"), team)]);
        assert_eq!(find(&shelf, "os"), Ok("os@2.11-rc1".to_owned()));
        assert_eq!(find(&shelf, "os@2.9"), Ok("os@2.9".to_owned()));
        let missing = find(&shelf, "os@2.8").unwrap_err();
        assert!(matches!(missing, NotFound::Version { known, .. } if known.len() == 3));
        let missing = find(&shelf, "rescu").unwrap_err();
        assert!(matches!(missing, NotFound::Name { near: Some(near), .. } if near == "rescue"));
    }

    #[test]
    fn catalogues_must_agree() {
        let (one, same) = (
            catalogue(&[("os", "1", "1")]),
            catalogue(&[("os", "1", "1")]),
        );
        let other = catalogue(&[("os", "1", "2")]);
        let both = |a, b| Shelf::new(vec![(Base::of("a.toml"), a), (Base::of("b.toml"), b)]);
        assert!(find(&both(one.clone(), same), "os").is_ok());
        let refused = find(&both(one, other), "os").unwrap_err();
        assert!(matches!(refused, NotFound::Contradiction { each, .. } if each.len() == 2));
    }

    #[test]
    fn a_file_that_changes_under_its_version_is_told() {
        let before = catalogue(&[("os", "1", "1"), ("os", "2", "2")]);
        let now = catalogue(&[("os", "1", "1"), ("os", "2", "3"), ("os", "3", "4")]);
        let found = changes(&before, &now);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].name.to_string(), "os@2");
        assert!(changes(&before, &before).is_empty());
    }
}
