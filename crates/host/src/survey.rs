//! All media of the computer, each with its tag and verdict.

use std::io;
use std::path::PathBuf;

use crate::tag::{LONG, SHORT};
use crate::{BlockName, Bus, Identity, SystemRoots, Tag, Verdict};

/// A medium, or a reader that holds none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MediumFacts {
    /// The kernel's name of it.
    pub name: BlockName,
    /// Where it is opened.
    pub path: PathBuf,
    /// What it is.
    pub identity: Identity,
    /// Its tag; `None` for a reader that holds no medium.
    pub tag: Option<Tag>,
    /// Another medium reports the same identity, so the tag depends on the port.
    pub has_twin: bool,
    /// Whether it may be written.
    pub verdict: Verdict,
    /// Its partitions as the kernel knows them, and where they are mounted.
    pub places: Vec<Place>,
}

/// A partition, or the medium itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The kernel's name of it.
    pub name: BlockName,
    /// Where it is mounted, every time.
    pub points: Vec<PathBuf>,
}

impl SystemRoots {
    /// All media and readers, the most useful first: writable ones, the most recently plugged in
    /// before others.
    ///
    /// # Errors
    /// What is mounted cannot be found out.
    pub fn media(&self) -> io::Result<Vec<MediumFacts>> {
        let names = self.wholes();
        let identities: Vec<Identity> = names.iter().map(|name| self.identity(name)).collect();
        let tags = tags(&identities);
        let mounts = self.mounts()?;
        let mut media = Vec::new();
        for ((name, identity), (tag, has_twin)) in names.into_iter().zip(identities).zip(tags) {
            let mut own = vec![name.clone()];
            own.extend(self.partitions(&name));
            let places = own.into_iter().map(|name| {
                let own = mounts.iter().filter(|mount| mount.device == name);
                let points = own.map(|mount| mount.point.clone()).collect();
                Place { name, points }
            });
            media.push(MediumFacts {
                path: name.path(),
                verdict: self.judge(&name)?,
                places: places.collect(),
                name,
                identity,
                tag,
                has_twin,
            });
        }
        media.sort_by_key(MediumFacts::order);
        Ok(media)
    }

    /// The medium at this whole device, with its tag among all media.
    ///
    /// # Errors
    /// As [`SystemRoots::media`].
    pub fn medium(&self, name: &BlockName) -> io::Result<Option<MediumFacts>> {
        let media = self.media()?;
        Ok(media.into_iter().find(|medium| medium.name == *name))
    }
}

impl MediumFacts {
    /// Writable media first, then empty readers, then what is never written.
    pub(crate) fn order(&self) -> (u8, bool, bool, BlockName) {
        let rank = match self.verdict {
            _ if self.identity.size == 0 => 4,
            Verdict::Ready => 0,
            Verdict::Busy(_) => 1,
            Verdict::Locked => 2,
            Verdict::Unsure(_) => 3,
            Verdict::System(_) => 5,
        };
        let is_loop = self.identity.bus == Bus::Loop;
        (
            rank,
            is_loop,
            !self.identity.is_removable,
            self.name.clone(),
        )
    }
}

/// A tag for each, no two alike; and whether another reports the same identity.
pub(crate) fn tags(identities: &[Identity]) -> Vec<(Option<Tag>, bool)> {
    let keys: Vec<String> = identities.iter().map(Identity::key).collect();
    let present = |index: usize| identities[index].size > 0;
    let tag = |index: usize| {
        if !present(index) {
            return (None, false);
        }
        let others = || (0..keys.len()).filter(|other| *other != index && present(*other));
        let has_twin = others().any(|other| keys[other] == keys[index]);
        if has_twin {
            // The usual number of characters for its identity, then as many for its port.
            let port = format!("{}|{}", keys[index], identities[index].port);
            let (what, place) = (Tag::of(&keys[index], SHORT), Tag::of(&port, SHORT));
            return (Tag::parse(&format!("{what}{place}")), true);
        }
        let is_unique = |len: &usize| {
            let own = Tag::of(&keys[index], *len);
            others().all(|other| Tag::of(&keys[other], *len) != own)
        };
        let len = (SHORT..=LONG).find(is_unique).unwrap_or(LONG);
        (Some(Tag::of(&keys[index], len)), false)
    };
    (0..keys.len()).map(tag).collect()
}
