//! A check that a FAT file system holds together: every file's chain of clusters ends, is its own,
//! and is long enough.

use std::collections::VecDeque;

use pinewrit_disk::{BlockDevice, DiskError};

use super::fat_owner::{MAX_ENTRIES, entries};
use super::{FatGeometry, FatWidth};

/// What does not hold together.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub(crate) enum FatCheckError {
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// A chain leads out of the file system, to a free cluster, or round in a circle.
    #[error("the clusters of {0} lead nowhere")]
    Chain(String),
    /// Two chains meet.
    #[error("{0} shares clusters with another file")]
    Shared(String),
    /// A file says that it is longer than its clusters are.
    #[error("{path} says that it has {size} bytes, and has room for {room}")]
    Short {
        /// Its path.
        path: String,
        /// Its size, in bytes.
        size: u64,
        /// What its clusters hold, in bytes.
        room: u64,
    },
}

/// Entries of the allocation table that are read at once; a FAT12 has no more than these.
const PIECE: u64 = 16384;

/// The allocation table, read in pieces.
struct Table<'d> {
    device: &'d dyn BlockDevice,
    geometry: &'d FatGeometry,
    first: u64,
    piece: Vec<u8>,
    /// Clusters that belong to a file, one bit each.
    taken: Vec<u64>,
}

impl Table<'_> {
    fn next(&mut self, cluster: u64) -> Result<u32, DiskError> {
        let width = self.geometry.width;
        let first = cluster - cluster % PIECE;
        if self.piece.is_empty() || first != self.first {
            let entries = PIECE.min(self.geometry.clusters + 2 - first);
            let start = self.geometry.table.start + width.table_bytes(first);
            // The last entry of a FAT12 may end in the middle of a byte.
            let odd = u64::from(width == FatWidth::Fat12);
            let len = (width.table_bytes(entries) + odd).min(self.geometry.table.end - start);
            self.piece.resize(len as usize, 0);
            self.device.read_at(start, &mut self.piece)?;
            self.first = first;
        }
        Ok(width.entry(&self.piece, cluster - first))
    }

    /// Follows a chain and takes its clusters; returns how many there are.
    fn take(&mut self, path: &str, start: u32) -> Result<Vec<u32>, FatCheckError> {
        let mut chain = Vec::new();
        let mut cluster = start;
        while cluster < self.geometry.width.end_mark() {
            let index = u64::from(cluster);
            if !(2..self.geometry.clusters + 2).contains(&index) {
                return Err(FatCheckError::Chain(path.to_owned()));
            }
            let (word, bit) = ((index / 64) as usize, 1 << (index % 64));
            if self.taken[word] & bit != 0 {
                return Err(match chain.contains(&cluster) {
                    true => FatCheckError::Chain(path.to_owned()),
                    false => FatCheckError::Shared(path.to_owned()),
                });
            }
            self.taken[word] |= bit;
            chain.push(cluster);
            cluster = self.next(index)?;
        }
        Ok(chain)
    }

    fn read(&self, chain: &[u32]) -> Result<Vec<u8>, DiskError> {
        let size = self.geometry.cluster as usize;
        let mut bytes = vec![0; chain.len() * size];
        for (cluster, part) in chain.iter().zip(bytes.chunks_mut(size)) {
            self.device
                .read_at(self.geometry.cluster_offset(*cluster), part)?;
        }
        Ok(bytes)
    }
}

/// Checks the file system at the start of a device.
///
/// # Errors
/// [`FatCheckError`]: the first thing that is wrong.
pub(crate) fn check(device: &dyn BlockDevice, geometry: &FatGeometry) -> Result<(), FatCheckError> {
    let mut table = Table {
        device,
        geometry,
        first: 0,
        piece: Vec::new(),
        taken: vec![0; (geometry.clusters + 2).div_ceil(64) as usize],
    };
    let root = match geometry.root_cluster {
        0 => {
            let mut bytes = vec![0; geometry.root_directory.len() as usize];
            device.read_at(geometry.root_directory.start, &mut bytes)?;
            bytes
        }
        first => {
            let chain = folder_chain(&mut table, "the root directory", first)?;
            table.read(&chain)?
        }
    };
    let mut open = VecDeque::from([(String::new(), root)]);
    let mut left = MAX_ENTRIES;
    while let Some((above, bytes)) = open.pop_front() {
        for entry in entries(&bytes) {
            left = left.saturating_sub(1);
            if left == 0 {
                return Ok(());
            }
            let path = format!("{above}/{}", entry.name);
            if entry.is_directory {
                let chain = folder_chain(&mut table, &path, entry.cluster)?;
                open.push_back((path, table.read(&chain)?));
                continue;
            }
            // An empty file has no cluster.
            let chain = match entry.cluster {
                0 => Vec::new(),
                first => table.take(&path, first)?,
            };
            let (size, room) = (u64::from(entry.size), chain.len() as u64 * geometry.cluster);
            if size > room {
                return Err(FatCheckError::Short { path, size, room });
            }
        }
    }
    Ok(())
}

/// The chain of a folder, which is never empty and never longer than one can be.
fn folder_chain(table: &mut Table<'_>, path: &str, first: u32) -> Result<Vec<u32>, FatCheckError> {
    let chain = table.take(path, first)?;
    // 65536 entries of 32 bytes are the most there can be.
    let most = (65536 * 32 / table.geometry.cluster).max(1);
    match chain.is_empty() || chain.len() as u64 > most {
        true => Err(FatCheckError::Chain(path.to_owned())),
        false => Ok(chain),
    }
}
