//! A check that a file system is consistent: the first fault is reported.
//!
//! Microsoft FAT specification 1.03. The counts of free clusters are hints and not looked at, nor is
//! the boot sector's copy.

use std::collections::HashSet;

use pinewrit_disk::{AlignedBuf, BlockDevice, DiskError};

use crate::directory::{ENTRY, Entry, Item, Items, Long, MAX_ENTRIES};
use crate::edit::is_clean;
use crate::error::FatError;
use crate::geometry::{FatWidth, Geometry};
use crate::name::{Short, is_short_name};
use crate::store::{Source, Store, requests};
use crate::table::{Link, SWEEP, for_each_entry};

/// What is inconsistent.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// The file system cannot be read.
    #[error(transparent)]
    Volume(#[from] FatError),
    /// It was not unmounted, or errors were found in it.
    #[error("the FAT file system was not unmounted cleanly, or has errors")]
    Unclean,
    /// The copies of the allocation table differ.
    #[error("the copies of the allocation table differ")]
    Copies,
    /// A chain leads out of the file system, to a free cluster, or round in a circle.
    #[error("the cluster chain of {0} is broken")]
    Chain(String),
    /// Two chains meet.
    #[error("{0} shares clusters with another file")]
    Shared(String),
    /// A file's clusters do not fit its size.
    #[error("{path} has {size} bytes according to its entry, but clusters for {room}")]
    Size {
        /// Its path.
        path: String,
        /// Its size in bytes.
        size: u64,
        /// What its clusters hold, in bytes.
        room: u64,
    },
    /// A folder has a size, or does not begin with `.` and `..` as it must.
    #[error("the directory {0} does not start with valid . and .. entries")]
    Folder(String),
    /// An invalid name, or a long name that belongs to no entry.
    #[error("{0} has a name that FAT does not allow")]
    Name(String),
    /// Two files in one folder have the same name.
    #[error("two entries share the name {0}")]
    Doubled(String),
    /// Clusters are marked as used, but nothing uses them.
    #[error("{0} clusters are marked as used, but belong to no file")]
    Lost(u64),
}

impl From<DiskError> for CheckError {
    fn from(error: DiskError) -> Self {
        Self::Volume(error.into())
    }
}

/// Checks the file system at the start of `device`.
///
/// # Errors
/// [`CheckError`]: the first thing that is wrong.
pub fn check(device: &dyn BlockDevice) -> Result<(), CheckError> {
    let geometry = Geometry::read(device)?.ok_or(FatError::NotFat)?;
    let store = Store::new(device, geometry);
    if !is_clean(&store)? {
        return Err(CheckError::Unclean);
    }
    match lost_clusters(&store)?.len() {
        0 => Ok(()),
        lost => Err(CheckError::Lost(lost as u64)),
    }
}

/// Checks everything but the flags, and finds the clusters that are marked as used, but belong to no
/// file.
pub(crate) fn lost_clusters(store: &Store<&dyn BlockDevice>) -> Result<Vec<u32>, CheckError> {
    compare_copies(store.device, &store.geometry)?;
    let mut check = Check {
        store,
        owned: Clusters::new(&store.geometry),
    };
    check.walk()?;
    check.lost()
}

fn compare_copies(device: &dyn BlockDevice, geometry: &Geometry) -> Result<(), CheckError> {
    let [first, others @ ..] = &geometry.written_tables()[..] else {
        return Ok(());
    };
    let end = geometry.table_bytes();
    let size = SWEEP.min(end) as usize;
    let (mut ours, mut other) = (AlignedBuf::new(size), AlignedBuf::new(size));
    for at in (0..end).step_by(SWEEP as usize) {
        let len = SWEEP.min(end - at) as usize;
        if !others.is_empty() {
            device.read_at(first + at, &mut ours[..len])?;
        }
        for start in others {
            device.read_at(start + at, &mut other[..len])?;
            if ours[..len] != other[..len] {
                return Err(CheckError::Copies);
            }
        }
    }
    Ok(())
}

/// A bit for each cluster.
struct Clusters {
    words: Vec<u64>,
}

impl Clusters {
    fn new(geometry: &Geometry) -> Self {
        Self {
            words: vec![0; (geometry.clusters as usize + 2).div_ceil(64)],
        }
    }

    fn has(&self, cluster: u32) -> bool {
        self.words[cluster as usize / 64] >> (cluster % 64) & 1 != 0
    }

    /// Adds one; `false` if it was already there.
    fn add(&mut self, cluster: u32) -> bool {
        let is_new = !self.has(cluster);
        self.words[cluster as usize / 64] |= 1 << (cluster % 64);
        is_new
    }
}

/// A directory still to be visited.
struct Open {
    path: String,
    clusters: Vec<u32>,
    /// The cluster that its `..` must name.
    parent: u32,
}

struct Check<'s, 'd> {
    store: &'s Store<&'d dyn BlockDevice>,
    owned: Clusters,
}

impl Check<'_, '_> {
    /// Goes through all directories.
    fn walk(&mut self) -> Result<(), CheckError> {
        let geometry = self.store.geometry;
        let root = match geometry.root_cluster {
            0 => Vec::new(),
            first => self.folder_chain("the root directory", first)?,
        };
        let mut open = vec![Open {
            path: String::new(),
            clusters: root,
            parent: 0,
        }];
        while let Some(folder) = open.pop() {
            let bytes = self.bytes(&folder.clusters)?;
            self.look_into(&folder, &bytes, &mut open)?;
        }
        Ok(())
    }

    fn bytes(&self, clusters: &[u32]) -> Result<Vec<u8>, CheckError> {
        let geometry = &self.store.geometry;
        let ranges = if clusters.is_empty() {
            vec![geometry.root_directory]
        } else {
            requests(geometry, clusters)
        };
        let mut bytes = Vec::new();
        for range in ranges {
            let from = bytes.len();
            bytes.resize(from + range.len() as usize, 0);
            self.store.read_at(range.start, &mut bytes[from..])?;
        }
        Ok(bytes)
    }

    fn look_into(
        &mut self,
        folder: &Open,
        bytes: &[u8],
        open: &mut Vec<Open>,
    ) -> Result<(), CheckError> {
        let geometry = self.store.geometry;
        let is_root = folder.path.is_empty();
        let own = match folder.clusters.first() {
            Some(first) if *first != geometry.root_cluster => *first,
            _ => 0,
        };
        if !is_root {
            check_dots(bytes, geometry.width, own, folder)?;
        }
        let mut has_label = false;
        let mut shorts: HashSet<Short> = HashSet::new();
        let mut longs: HashSet<String> = HashSet::new();
        for item in Items::of(bytes, geometry.width) {
            let entry = match item {
                Item::Entry(entry) => entry,
                Item::Orphan(_) => return Err(CheckError::Name(in_folder(&folder.path))),
                Item::Label(_, is_good) if is_good && is_root && !has_label => {
                    has_label = true;
                    continue;
                }
                Item::Label(..) => return Err(CheckError::Name(in_folder(&folder.path))),
                Item::Erased(_) => continue,
            };
            if entry.is_dots() && !is_root && entry.at < 2 {
                continue;
            }
            let path = format!("{}/{}", folder.path, entry.name);
            if entry.long == Long::Bad || !is_short_name(&entry.short) || entry.is_dots() {
                return Err(CheckError::Name(path));
            }
            let is_new_long =
                entry.long == Long::Missing || longs.insert(entry.name.to_ascii_uppercase());
            if !shorts.insert(entry.short) || !is_new_long {
                return Err(CheckError::Doubled(path));
            }
            if entry.is_folder {
                open.push(self.folder(path, &entry, own)?)
            } else {
                self.file(path, &entry)?
            }
        }
        Ok(())
    }

    fn folder(&mut self, path: String, entry: &Entry, parent: u32) -> Result<Open, CheckError> {
        if entry.size != 0 {
            return Err(CheckError::Folder(path));
        }
        let clusters = self.folder_chain(&path, entry.cluster)?;
        Ok(Open {
            path,
            clusters,
            parent,
        })
    }

    fn folder_chain(&mut self, path: &str, first: u32) -> Result<Vec<u32>, CheckError> {
        let most = ((MAX_ENTRIES * ENTRY) as u64 / self.store.geometry.cluster).max(1);
        let clusters = self.take(path, first)?;
        if clusters.len() as u64 > most {
            Err(CheckError::Chain(path.to_owned()))
        } else {
            Ok(clusters)
        }
    }

    fn file(&mut self, path: String, entry: &Entry) -> Result<(), CheckError> {
        let cluster = self.store.geometry.cluster;
        // An empty file has no cluster.
        let count = match entry.cluster {
            0 => 0,
            first => self.take(&path, first)?.len() as u64,
        };
        let size = u64::from(entry.size);
        if size.div_ceil(cluster) == count {
            Ok(())
        } else {
            Err(CheckError::Size {
                path,
                size,
                room: count * cluster,
            })
        }
    }

    /// Follows a chain and marks its clusters as taken.
    fn take(&mut self, path: &str, first: u32) -> Result<Vec<u32>, CheckError> {
        let nowhere = || CheckError::Chain(path.to_owned());
        let mut chain = Vec::new();
        let mut at = first;
        loop {
            if !self.store.geometry.has(at) {
                return Err(nowhere());
            }
            if !self.owned.add(at) {
                return Err(if chain.contains(&at) {
                    nowhere()
                } else {
                    CheckError::Shared(path.to_owned())
                });
            }
            chain.push(at);
            match self.store.link(at)? {
                Link::Next(next) => at = next,
                Link::End => return Ok(chain),
                _ => return Err(nowhere()),
            }
        }
    }

    /// Looks for clusters that nothing uses.
    fn lost(&self) -> Result<Vec<u32>, CheckError> {
        let geometry = &self.store.geometry;
        let mut lost = Vec::new();
        let start = geometry.table_start();
        for_each_entry(&self.store.device, geometry, start, &mut |cluster, raw| {
            let is_used = !matches!(geometry.link(raw), Link::Free | Link::Bad);
            if is_used && !self.owned.has(cluster) {
                lost.push(cluster);
            }
        })?;
        Ok(lost)
    }
}

fn in_folder(path: &str) -> String {
    match path {
        "" => "something in the root directory".to_owned(),
        path => format!("something in {path}"),
    }
}

/// The first two entries of every folder but the root are the folder itself and its parent.
fn check_dots(bytes: &[u8], width: FatWidth, own: u32, folder: &Open) -> Result<(), CheckError> {
    let mut items = Items::of(bytes, width);
    let mut is_good = |short: &Short, cluster: u32| {
        matches!(items.next(), Some(Item::Entry(entry))
            if entry.short == *short && entry.is_folder && entry.slots == 1
                && entry.cluster == cluster)
    };
    let both = is_good(b".          ", own) && is_good(b"..         ", folder.parent);
    if both {
        Ok(())
    } else {
        Err(CheckError::Folder(folder.path.clone()))
    }
}
