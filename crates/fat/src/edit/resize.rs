//! A file system of another size: its tables and the start of its clusters stay where they are.

use pinewrit_disk::{BlockDevice, ByteRange};

use super::{EditError, Editor, Placement};
use crate::directory::{Entry, put_cluster};
use crate::error::FatError;
use crate::geometry::{FatWidth, LEAST_FAT16, LEAST_FAT32, MOST_CLUSTERS};
use crate::store::Source;

/// What another size changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Resized {
    /// Size before, in bytes.
    pub before: u64,
    /// Size after, in bytes: whole clusters.
    pub after: u64,
    /// Bytes of files and folders that moved.
    pub moved: u64,
}

/// What moving everything to the front has done.
struct Moving {
    /// The first cluster that goes away.
    end: u32,
    /// Bytes that moved.
    moved: u64,
    /// Clusters that no chain has had yet: in a damaged file system, chains meet.
    left: u64,
}

impl<D: BlockDevice> Editor<D> {
    /// The smallest size in bytes, by what it holds and by its width: with fewer clusters it would
    /// be read as another kind.
    pub fn smallest_size(&self) -> u64 {
        let geometry = &self.store.geometry;
        let used = geometry.clusters - self.free.count;
        let least = match geometry.width {
            FatWidth::Fat12 => 1,
            FatWidth::Fat16 => LEAST_FAT16,
            FatWidth::Fat32 if geometry.is_regular() => LEAST_FAT32,
            FatWidth::Fat32 => 1,
        };
        geometry.data_start + used.max(least) * geometry.cluster
    }

    /// The largest size in bytes, by the length of its tables and by its width.
    pub fn largest_size(&self) -> u64 {
        let geometry = &self.store.geometry;
        let entries = geometry.width.entries_in(geometry.table.len());
        let most = match geometry.width {
            FatWidth::Fat12 => LEAST_FAT16 - 1,
            FatWidth::Fat16 => LEAST_FAT32 - 1,
            FatWidth::Fat32 => MOST_CLUSTERS,
        };
        let clusters = entries.saturating_sub(2).min(most);
        geometry.data_start + clusters * geometry.cluster
    }

    /// Gives the file system another size, in whole clusters. What lies past a nearer end moves to
    /// the front; the content of files is copied at once, into clusters that are free.
    ///
    /// # Errors
    /// [`EditError::Size`]: it cannot have this size.
    pub fn resize(&mut self, size: u64) -> Result<Resized, EditError> {
        let geometry = &self.store.geometry;
        let before = geometry.size;
        let clusters = size.saturating_sub(geometry.data_start) / geometry.cluster;
        let after = geometry.data_start + clusters * geometry.cluster;
        let (least, most) = (self.smallest_size(), self.largest_size());
        if !(least..=most).contains(&after) {
            return Err(EditError::Size { size, least, most });
        }
        let mut moved = 0;
        if clusters != geometry.clusters {
            let end = (clusters + 2) as u32;
            if clusters < geometry.clusters {
                self.free.end_at(end);
                // Half of it must never be written.
                let was_spoiled = std::mem::replace(&mut self.is_spoiled, true);
                moved = self.move_all(end)?;
                self.is_spoiled = was_spoiled;
            } else {
                let first = (geometry.clusters + 2) as u32;
                for cluster in first..end {
                    self.store.set_link(cluster, 0)?;
                }
                self.free.end_at(end);
            }
            self.store.geometry.clusters = clusters;
            self.store.geometry.size = after;
            self.has_changed = true;
        }
        Ok(Resized {
            before,
            after,
            moved,
        })
    }

    /// Moves all chains out of the clusters from `end` on.
    fn move_all(&mut self, end: u32) -> Result<u64, EditError> {
        let mut work = Moving {
            end,
            moved: 0,
            left: self.store.geometry.clusters,
        };
        let root = self.store.geometry.root_cluster;
        let root = match root {
            0 => 0,
            first => {
                let now = self.move_folder(first, &mut work)?;
                self.store.geometry.root_cluster = now;
                now
            }
        };
        let mut open = vec![root];
        while let Some(folder) = open.pop() {
            let entries: Vec<Entry> = self.store.folder(folder)?.entries().collect();
            for entry in entries {
                if entry.cluster == 0 {
                    continue;
                }
                let now = if entry.is_folder {
                    let now = self.move_folder(entry.cluster, &mut work)?;
                    let above = if folder == root { 0 } else { folder };
                    let child = self.store.folder_mut(now)?;
                    child.set_own(now);
                    child.set_parent(above);
                    open.push(now);
                    now
                } else {
                    self.move_file(entry.cluster, &mut work)?
                };
                if now != entry.cluster {
                    let raw = self.store.folder_mut(folder)?.short_entry(&entry);
                    put_cluster(raw, now);
                }
            }
        }
        Ok(work.moved)
    }

    /// A chain, as long as all of them together have no more clusters than there are.
    fn own_chain(&mut self, first: u32, work: &mut Moving) -> Result<Vec<u32>, EditError> {
        let chain = self.chain(first)?;
        let left = work.left.checked_sub(chain.len() as u64);
        work.left = left.ok_or(FatError::Damaged("a cluster chain that two files share"))?;
        Ok(chain)
    }

    fn move_file(&mut self, first: u32, work: &mut Moving) -> Result<u32, EditError> {
        let chain = self.own_chain(first, work)?;
        let Some(now) = self.moved_chain(&chain, work.end)? else {
            return Ok(first);
        };
        let cluster = self.store.geometry.cluster;
        // Neighbours that stay neighbours are copied together.
        let mut at = 0;
        while at < chain.len() {
            if chain[at] == now[at] {
                at += 1;
                continue;
            }
            let mut len = 1;
            while at + len < chain.len()
                && chain[at + len] == chain[at] + len as u32
                && now[at + len] == now[at] + len as u32
            {
                len += 1;
            }
            let start = self.store.geometry.place(chain[at]).start;
            let bytes = len as u64 * cluster;
            let from = ByteRange {
                start,
                end: start + bytes,
            };
            let to = self.store.geometry.place(now[at]).start;
            self.store.device.copy_free(from, to)?;
            work.moved += bytes;
            at += len;
        }
        Ok(now[0])
    }

    /// A folder is written anew where it is now.
    fn move_folder(&mut self, first: u32, work: &mut Moving) -> Result<u32, EditError> {
        let chain = self.own_chain(first, work)?;
        // It is read while its chain still leads to it.
        self.store.folder(first)?;
        let Some(now) = self.moved_chain(&chain, work.end)? else {
            return Ok(first);
        };
        work.moved += chain.len() as u64 * self.store.geometry.cluster;
        let first_now = now[0];
        self.store.move_folder(first, now)?;
        Ok(first_now)
    }

    /// Links a chain without the clusters from `end` on; `None` if it has none of them.
    fn moved_chain(&mut self, chain: &[u32], end: u32) -> Result<Option<Vec<u32>>, EditError> {
        let past = chain.iter().filter(|cluster| **cluster >= end).count() as u64;
        if past == 0 {
            return Ok(None);
        }
        let runs = self.free.take(past, Placement::Usual);
        let Some(runs) = runs else {
            return Err(self.no_space("/", past, 0));
        };
        let mut places = runs.into_iter().flatten();
        let now: Vec<u32> = chain
            .iter()
            .map(|cluster| match cluster {
                past if *past >= end => places.next().unwrap_or(*past),
                kept => *kept,
            })
            .collect();
        let mark = self.store.geometry.width.end_mark();
        for (index, cluster) in now.iter().enumerate() {
            let next = now.get(index + 1).copied().unwrap_or(mark);
            self.store.set_link(*cluster, next)?;
        }
        for cluster in chain.iter().filter(|cluster| **cluster >= end) {
            self.store.set_link(*cluster, 0)?;
        }
        Ok(Some(now))
    }
}
