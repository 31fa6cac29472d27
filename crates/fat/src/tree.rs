//! Files and folders, to be read.

use std::io::Write;

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, ByteRange};

use crate::directory::Entry;
use crate::error::FatError;
use crate::geometry::Geometry;
use crate::name::oem_text;
use crate::store::{REQUEST, Source, Store};
use crate::table::{Link, count_free};

/// Something in a file system: the root directory, a folder, or a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// Its name; empty for the root. It has no `/` and no control characters.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Size in bytes; of folders always 0.
    pub size: u64,
    /// When its content was last changed, in seconds since 1970; `None` if that is not recorded.
    pub modified: Option<i64>,
    /// First cluster; 0 for empty files, and for the root of FAT12 and FAT16.
    pub(crate) first: u32,
}

impl Node {
    pub(crate) fn of(entry: Entry, zone: &TimeZone) -> Self {
        Self {
            name: entry.name,
            is_folder: entry.is_folder,
            size: u64::from(entry.size),
            modified: entry.modified.seconds(zone),
            first: match entry.cluster {
                // 0 would be the root; only `..` may say so.
                0 if entry.is_folder => NOWHERE,
                first => first,
            },
        }
    }
}

/// A number that no cluster has.
const NOWHERE: u32 = 1;

/// The names of a path, from the root on.
pub(crate) fn names(path: &str) -> impl DoubleEndedIterator<Item = &str> {
    path.split('/').filter(|name| !name.is_empty())
}

/// All files and folders of a file system, as they are now.
#[derive(Clone, Copy)]
pub struct Tree<'v> {
    source: &'v dyn Source,
}

impl<'v> Tree<'v> {
    pub(crate) fn new(source: &'v dyn Source) -> Self {
        Self { source }
    }

    /// The root directory.
    pub fn root(self) -> Node {
        Node {
            name: String::new(),
            is_folder: true,
            size: 0,
            modified: None,
            first: self.source.geometry().root_cluster,
        }
    }

    /// What is at a path. Case does not matter.
    ///
    /// # Errors
    /// [`FatError::NotFound`] and others.
    pub fn find(self, path: &str) -> Result<Node, FatError> {
        let mut at = self.root();
        for name in names(path) {
            if !at.is_folder {
                return Err(FatError::NotFound(path.to_owned()));
            }
            let found = self.source.folder(at.first)?.find(name);
            let entry = found.ok_or_else(|| FatError::NotFound(path.to_owned()))?;
            at = Node::of(entry, self.source.zone());
        }
        Ok(at)
    }

    /// What is in a folder, in the order in which it stands there.
    ///
    /// # Errors
    /// [`FatError`].
    pub fn list(self, folder: &Node) -> Result<Vec<Node>, FatError> {
        if !folder.is_folder {
            return Err(FatError::NotFolder(folder.name.clone()));
        }
        let found = self.source.folder(folder.first)?;
        let zone = self.source.zone();
        Ok(found.entries().map(|entry| Node::of(entry, zone)).collect())
    }

    /// The label, which is an entry of the root directory.
    ///
    /// # Errors
    /// [`FatError`].
    pub fn label(self) -> Result<Option<String>, FatError> {
        let root = self.source.folder(self.source.geometry().root_cluster)?;
        Ok(root.label().map(|raw| oem_text(&raw)))
    }

    /// Whether a file's clusters follow each other: loaders in ROMs often read no others.
    ///
    /// # Errors
    /// [`FatError`].
    pub fn is_in_one_piece(self, file: &Node) -> Result<bool, FatError> {
        let (mut left, mut next, mut end) = (file.size, Some(file.first), None);
        while left > 0 {
            let range;
            (range, next) = self.run(next, left)?;
            if end.is_some_and(|end| end != range.start) {
                return Ok(false);
            }
            end = Some(range.end);
            left = left.saturating_sub(range.len());
        }
        Ok(true)
    }

    /// Passes on at most the first `limit` bytes of a file.
    ///
    /// # Errors
    /// [`FatError`].
    pub fn read_to(self, file: &Node, limit: u64, taker: &mut dyn Write) -> Result<(), FatError> {
        if file.is_folder {
            return Err(FatError::IsFolder(file.name.clone()));
        }
        let mut left = file.size.min(limit);
        let mut buffer = Vec::new();
        let mut next = Some(file.first);
        while left > 0 {
            let range;
            (range, next) = self.run(next, left)?;
            let len = range.len().min(left);
            buffer.resize(len as usize, 0);
            self.source.read_at(range.start, &mut buffer)?;
            taker.write_all(&buffer).map_err(FatError::Taker)?;
            left -= len;
        }
        Ok(())
    }

    /// Neighbouring clusters of a chain, at most as many as one request needs, and what follows
    /// them.
    fn run(self, first: Option<u32>, wanted: u64) -> Result<(ByteRange, Option<u32>), FatError> {
        let geometry = self.source.geometry();
        let damaged = FatError::Damaged("a file whose clusters end before it does");
        let Some(first) = first.filter(|first| geometry.has(*first)) else {
            return Err(damaged);
        };
        let mut range = geometry.place(first);
        let mut last = first;
        loop {
            if range.len() >= wanted {
                return Ok((range, None));
            }
            let next = match self.source.link(last)? {
                Link::Next(next) => Some(next),
                _ => None,
            };
            match next {
                Some(next) if next == last + 1 && range.len() < REQUEST as u64 => {
                    range.end += geometry.cluster;
                    last = next;
                }
                next => return Ok((range, next)),
            }
        }
    }
}

/// An open FAT file system, to be read.
pub struct Volume<D> {
    store: Store<D>,
}

impl<D: BlockDevice> Volume<D> {
    /// Opens the file system at the start of `device`.
    ///
    /// # Errors
    /// [`FatError`].
    pub fn open(device: D) -> Result<Self, FatError> {
        let geometry = Geometry::read(&device)?.ok_or(FatError::NotFat)?;
        Ok(Self {
            store: Store::new(device, geometry),
        })
    }

    /// Interprets its times as local time in this zone, instead of UTC.
    #[must_use]
    pub fn with_zone(mut self, zone: TimeZone) -> Self {
        self.store.zone = zone;
        self
    }

    /// Its geometry.
    pub fn geometry(&self) -> &Geometry {
        &self.store.geometry
    }

    /// Its files.
    pub fn tree(&self) -> Tree<'_> {
        Tree::new(&self.store)
    }

    /// Counts the free bytes in the allocation table.
    ///
    /// # Errors
    /// The device failed.
    pub fn count_free(&self) -> Result<u64, FatError> {
        let geometry = &self.store.geometry;
        Ok(count_free(&self.store.device, geometry)? * geometry.cluster)
    }

    /// The label in the root directory, or if that cannot be read, the one in the boot sector.
    pub fn label(&self) -> Option<String> {
        let in_root = self.tree().label();
        let in_boot_sector = || Some(oem_text(&self.store.geometry.label));
        let label = in_root.unwrap_or_else(|_| in_boot_sector());
        let label = label.map(|label| label.trim_end_matches([' ', '\0']).to_owned());
        label.filter(|label| !label.is_empty() && label != "NO NAME")
    }
}
