//! Changing files: worked out in memory, and written as one.

mod alloc;
mod commit;
mod error;
mod resize;
mod settle;

use std::io::Read;
use std::ops::Range;

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, Spans};

use alloc::FreeMap;
pub use alloc::Placement;
pub(crate) use commit::info;
pub use error::EditError;
pub use resize::Resized;
pub use settle::{FatSettled, settle};

use crate::directory::{
    ENTRY, Entry, MAX_ENTRIES, New, attribute, long_entries, put_short, refresh,
};
use crate::error::FatError;
use crate::folder::Folder;
use crate::geometry::Geometry;
use crate::name::{self, Short};
use crate::store::{REQUEST, Source, Store, chain};
use crate::time::Stamp;
use crate::tree::{Node, Tree, names};

/// Where clusters are larger than this, content is written in whole pieces of this size, so that no
/// block has to be read first.
const PIECE: u64 = 4096;

/// A FAT file system being changed. The content of files goes straight to free clusters on the
/// device, everything else follows with [`Editor::commit`].
pub struct Editor<D> {
    store: Store<D>,
    free: FreeMap,
    /// Clusters that were in use when the work began and are now free.
    freed: Spans,
    /// Content on the device that a failure has made unusable.
    is_spoiled: bool,
    /// A new identifier.
    id: Option<u32>,
    has_changed: bool,
}

/// Where something is kept: the folder, and its entry.
struct Found {
    folder: u32,
    entry: Entry,
}

impl<D: BlockDevice> Editor<D> {
    /// Opens the file system at the start of `device`.
    ///
    /// # Errors
    /// [`EditError::Unclean`] and others.
    pub fn open(device: D) -> Result<Self, EditError> {
        let editor = Self::open_unclean(device)?;
        if is_clean(&editor.store)? {
            Ok(editor)
        } else {
            Err(EditError::Unclean)
        }
    }

    fn open_unclean(device: D) -> Result<Self, EditError> {
        let geometry = Geometry::read(&device)?.ok_or(FatError::NotFat)?;
        let mut free = FreeMap::read(&device, &geometry)?;
        let store = Store::new(device, geometry);
        free.hint = commit::hint(&store)?.unwrap_or(2);
        Ok(Self {
            store,
            free,
            freed: Spans::default(),
            is_spoiled: false,
            id: None,
            has_changed: false,
        })
    }

    /// Reads and writes times as local time in this zone, instead of UTC.
    #[must_use]
    pub fn with_zone(mut self, zone: TimeZone) -> Self {
        self.store.zone = zone;
        self
    }

    /// Its files, with all changes.
    pub fn tree(&self) -> Tree<'_> {
        Tree::new(&self.store)
    }

    /// Its geometry.
    pub fn geometry(&self) -> &Geometry {
        &self.store.geometry
    }

    /// Bytes that are free.
    pub fn free(&self) -> u64 {
        self.free.count * self.store.geometry.cluster
    }

    /// Bytes of memory that directories take until the next commit, roughly.
    pub fn weight(&self) -> usize {
        self.store.weight()
    }

    /// Gives it another identifier.
    pub fn set_id(&mut self, id: [u8; 4]) {
        self.id = Some(u32::from_le_bytes(id));
        self.has_changed = true;
    }

    /// Makes a file of `size` bytes, or replaces its content. `modified` is in seconds since 1970.
    ///
    /// # Errors
    /// [`EditError`]. The file is as it was, unless there is not enough room for the old and the new
    /// content together: then [`Editor::commit`] refuses to write anything.
    pub fn write_file(
        &mut self,
        path: &str,
        size: u64,
        content: &mut dyn Read,
        modified: i64,
        placement: Placement,
    ) -> Result<(), EditError> {
        if self.is_spoiled {
            return Err(EditError::Spoiled);
        }
        let (folder, name) = self.place_of(path)?;
        let bytes = u32::try_from(size).map_err(|_| EditError::TooLarge {
            path: path.to_owned(),
            size,
        })?;
        let old = self.store.folder(folder)?.find(name);
        if old.as_ref().is_some_and(|entry| entry.is_folder) {
            return Err(FatError::IsFolder(path.to_owned()).into());
        }
        let growth = match old {
            Some(_) => 0,
            None => self.growth(folder, name, path)?,
        };
        let old_first = old.as_ref().map_or(0, |entry| entry.cluster);
        let first = self.replace_content(path, (size, content), placement, (old_first, growth))?;
        let stamp = Stamp::at(modified, &self.store.zone);
        match old {
            Some(entry) => {
                let raw = self.store.folder_mut(folder)?;
                refresh(raw.short_entry(&entry), first, bytes, stamp);
            }
            None => {
                let new = New {
                    short: Short::default(),
                    attributes: attribute::ARCHIVE,
                    cluster: first,
                    size: bytes,
                    stamp,
                };
                self.insert(folder, name, path, new)?;
            }
        }
        self.has_changed = true;
        Ok(())
    }

    /// Takes clusters for new content and frees those of the old, which begin with `old_first`;
    /// returns the first. `growth` clusters must stay free.
    fn replace_content(
        &mut self,
        path: &str,
        (size, content): (u64, &mut dyn Read),
        placement: Placement,
        (old_first, growth): (u32, u64),
    ) -> Result<u32, EditError> {
        let old_chain = match old_first {
            0 => Vec::new(),
            first => self.chain(first)?,
        };
        let old = old_chain.len() as u64;
        let wanted = size.div_ceil(self.store.geometry.cluster);
        if wanted + growth > self.free.count + old {
            return Err(self.no_space(path, wanted + growth, old));
        }
        if wanted + growth <= self.free.count {
            let first = self.put_content(path, size, content, wanted, placement)?;
            self.release(&old_chain)?;
            return Ok(first);
        }
        if size > MAX_REPLACED {
            return Err(self.no_space(path, wanted + growth, 0));
        }
        // From here on the old content cannot be restored.
        self.is_spoiled = true;
        self.release(&old_chain)?;
        let first = self.put_content(path, size, content, wanted, placement)?;
        self.is_spoiled = false;
        Ok(first)
    }

    /// Makes a folder. `modified` is in seconds since 1970.
    ///
    /// # Errors
    /// [`EditError::Exists`] and others.
    pub fn make_folder(&mut self, path: &str, modified: i64) -> Result<(), EditError> {
        let (folder, name) = self.place_of(path)?;
        if self.store.folder(folder)?.find(name).is_some() {
            return Err(EditError::Exists(path.to_owned()));
        }
        let growth = self.growth(folder, name, path)?;
        if growth + 1 > self.free.count {
            return Err(self.no_space(path, growth + 1, 0));
        }
        let cluster = self.take_cluster(path)?;
        let stamp = Stamp::at(modified, &self.store.zone);
        let new = |short: Short, cluster: u32| New {
            short,
            attributes: attribute::DIRECTORY,
            cluster,
            size: 0,
            stamp,
        };
        // "Directory Creation": the root is 0 for those in it, whatever its number.
        let parent = match folder {
            root if root == self.store.geometry.root_cluster => 0,
            other => other,
        };
        let dots = [new(*b".          ", cluster), new(*b"..         ", parent)];
        let room = self.store.geometry.cluster as usize / ENTRY;
        let width = self.store.geometry.width;
        let made = Folder::new(width, cluster, room, dots.map(|dot| dot.bytes()));
        self.store.add_folder(cluster, made);
        self.insert(folder, name, path, new(Short::default(), cluster))?;
        self.has_changed = true;
        Ok(())
    }

    /// Removes a file, or an empty folder.
    ///
    /// # Errors
    /// [`EditError::NotEmpty`] and others.
    pub fn remove(&mut self, path: &str) -> Result<(), EditError> {
        let found = self.found(path)?;
        let entry = &found.entry;
        if entry.is_folder {
            let inside = self
                .store
                .folder(Node::of(entry.clone(), &self.store.zone).first)?;
            if !inside.is_empty() {
                return Err(EditError::NotEmpty(path.to_owned()));
            }
        }
        if entry.cluster != 0 {
            let chain = self.chain(entry.cluster)?;
            self.release(&chain)?;
            self.store.forget_folder(entry.cluster);
        }
        self.store.folder_mut(found.folder)?.remove(entry);
        self.has_changed = true;
        Ok(())
    }

    /// Moves what is at one path to another.
    ///
    /// # Errors
    /// [`EditError::Exists`] if something is already there; [`EditError::IntoItself`], and others.
    pub fn rename(&mut self, path: &str, to: &str) -> Result<(), EditError> {
        let found = self.found(path)?;
        let (folder, name) = self.place_of(to)?;
        let there = self.store.folder(folder)?.find(name);
        let is_itself = there
            .as_ref()
            .is_some_and(|there| folder == found.folder && there.at == found.entry.at);
        if there.is_some() && !is_itself {
            return Err(EditError::Exists(to.to_owned()));
        }
        let inside = format!("{}/", crate::folded(path.trim_end_matches('/')));
        if found.entry.is_folder && crate::folded(to).starts_with(&inside) {
            return Err(EditError::IntoItself(path.to_owned()));
        }
        let mut raw = [0; ENTRY];
        let known = self.store.folder_mut(found.folder)?;
        raw.copy_from_slice(known.short_entry(&found.entry));
        if is_itself {
            // Only the case of letters changes.
            known.remove(&found.entry);
            self.insert_raw(folder, name, to, raw)?;
        } else {
            self.insert_raw(folder, name, to, raw)?;
            // The folder may have been rebuilt.
            let found = self.found(path)?;
            self.store.folder_mut(found.folder)?.remove(&found.entry);
        }
        if found.entry.is_folder && folder != found.folder {
            let above = match folder {
                root if root == self.store.geometry.root_cluster => 0,
                other => other,
            };
            self.store
                .folder_mut(found.entry.cluster)?
                .set_parent(above);
        }
        self.has_changed = true;
        Ok(())
    }

    /// Makes something the first entry of its folder, even before the label: some boot code reads
    /// only that one.
    ///
    /// # Errors
    /// [`EditError`].
    pub fn move_to_front(&mut self, path: &str) -> Result<(), EditError> {
        let found = self.found(path)?;
        let folder = self.store.folder_mut(found.folder)?;
        folder.move_to_front(&found.entry);
        self.has_changed = true;
        Ok(())
    }

    /// The folder in which a path lies, and its last name.
    fn place_of<'p>(&self, path: &'p str) -> Result<(u32, &'p str), EditError> {
        let wrong = |why| EditError::Name {
            path: path.to_owned(),
            why,
        };
        name::check_path(path).map_err(wrong)?;
        let Some(last) = names(path).next_back() else {
            return Err(EditError::Exists("/".to_owned()));
        };
        let above = path.trim_end_matches('/');
        let above = &above[..above.len() - last.len()];
        let folder = self.tree().find(above)?;
        if folder.is_folder {
            Ok((folder.first, last))
        } else {
            Err(FatError::NotFolder(above.trim_end_matches('/').to_owned()).into())
        }
    }

    fn found(&self, path: &str) -> Result<Found, EditError> {
        let missing = || FatError::NotFound(path.to_owned());
        let name = names(path).next_back().ok_or_else(missing)?;
        let above = path.trim_end_matches('/');
        let folder = self.tree().find(&above[..above.len() - name.len()])?;
        if !folder.is_folder {
            return Err(missing().into());
        }
        let entry = self.store.folder(folder.first)?.find(name);
        Ok(Found {
            folder: folder.first,
            entry: entry.ok_or_else(missing)?,
        })
    }

    /// How many clusters a folder must grow by for one more name.
    fn growth(&self, folder: u32, name: &str, path: &str) -> Result<u64, EditError> {
        let long = if name::basis(name).is_whole {
            0
        } else {
            name::long_parts(name).len()
        };
        let known = self.store.folder(folder)?;
        let missing = known.missing(long + 1);
        let is_fixed = known.chain.is_empty();
        let full = |entries| EditError::FolderFull {
            path: path.to_owned(),
            entries,
        };
        match missing {
            None => Err(full(MAX_ENTRIES)),
            Some(0) => Ok(0),
            Some(_) if is_fixed => Err(full(known.room)),
            Some(entries) => {
                let in_cluster = self.store.geometry.cluster as usize / ENTRY;
                Ok(entries.div_ceil(in_cluster) as u64)
            }
        }
    }

    /// Puts an entry into a folder, which grows if necessary.
    fn insert(&mut self, folder: u32, name: &str, path: &str, new: New) -> Result<(), EditError> {
        self.insert_raw(folder, name, path, new.bytes())
    }

    /// The same with the bytes of a short entry, which gets another name.
    fn insert_raw(
        &mut self,
        folder: u32,
        name: &str,
        path: &str,
        mut raw: [u8; ENTRY],
    ) -> Result<(), EditError> {
        let growth = self.growth(folder, name, path)?;
        for _ in 0..growth {
            self.grow(folder, path)?;
        }
        let known = self.store.folder_mut(folder)?;
        let short = known.free_short(name);
        let mut entries = match name::basis(name) {
            basis if basis.is_whole && basis.short == short => Vec::new(),
            _ => long_entries(name, &short),
        };
        put_short(&mut raw, &short);
        entries.push(raw);
        known.insert(name, &entries);
        self.store.add_weight(Folder::weight_of(entries.len()));
        Ok(())
    }

    fn grow(&mut self, folder: u32, path: &str) -> Result<(), EditError> {
        let in_cluster = self.store.geometry.cluster as usize / ENTRY;
        let cluster = self.take_cluster(path)?;
        let known = self.store.folder_mut(folder)?;
        let last = known.chain.last().copied();
        known.grow(cluster, in_cluster);
        if let Some(last) = last {
            self.store.set_link(last, cluster)?;
        }
        Ok(())
    }

    /// Takes one cluster for a directory; nothing follows it yet.
    fn take_cluster(&mut self, path: &str) -> Result<u32, EditError> {
        let taken = self.free.take(1, Placement::Usual);
        let Some(run) = taken.and_then(|mut runs| runs.pop()) else {
            return Err(self.no_space(path, 1, 0));
        };
        let end = self.store.geometry.width.end_mark();
        self.store.set_link(run.start, end)?;
        Ok(run.start)
    }

    /// Takes clusters and writes a file's content into them; returns the first.
    fn put_content(
        &mut self,
        path: &str,
        size: u64,
        content: &mut dyn Read,
        wanted: u64,
        placement: Placement,
    ) -> Result<u32, EditError> {
        if wanted == 0 {
            return Ok(0);
        }
        let cluster = self.store.geometry.cluster;
        let Some(runs) = self.free.take(wanted, placement) else {
            return Err(EditError::Scattered {
                path: path.to_owned(),
                needed: wanted * cluster,
                largest: self.free.longest() * cluster,
            });
        };
        let written = self.copy(size, content, &runs);
        if let Err(error) = written.and_then(|()| self.link(&runs)) {
            for run in runs {
                self.free.set_free(run);
            }
            return Err(error);
        }
        Ok(runs.first().map_or(0, |run| run.start))
    }

    fn copy(
        &mut self,
        size: u64,
        content: &mut dyn Read,
        runs: &[Range<u32>],
    ) -> Result<(), EditError> {
        let cluster = self.store.geometry.cluster;
        let mut left = size;
        let mut buffer = Vec::new();
        for run in runs {
            let start = self.store.geometry.place(run.start).start;
            let end = start + u64::from(run.end - run.start) * cluster;
            let was_freed = self.freed.meets(u64::from(run.start)..u64::from(run.end));
            let mut at = start;
            while at < end && left > 0 {
                let len = left.min(end - at).min(REQUEST as u64);
                // Bytes after the end of a file are zero, up to the next whole piece.
                let filled = len.next_multiple_of(cluster.min(PIECE)).min(end - at);
                buffer.clear();
                buffer.resize(filled as usize, 0);
                fill(content, &mut buffer[..len as usize], size, left)?;
                self.store.put_content(at, &buffer, was_freed)?;
                at += len;
                left -= len;
            }
        }
        Ok(())
    }

    /// Makes a chain of runs.
    fn link(&mut self, runs: &[Range<u32>]) -> Result<(), EditError> {
        let end = self.store.geometry.width.end_mark();
        for (index, run) in runs.iter().enumerate() {
            let after = runs.get(index + 1).map_or(end, |next| next.start);
            for cluster in run.clone() {
                let next = if cluster + 1 == run.end {
                    after
                } else {
                    cluster + 1
                };
                self.store.set_link(cluster, next)?;
            }
        }
        Ok(())
    }

    fn chain(&self, first: u32) -> Result<Vec<u32>, FatError> {
        chain(&self.store, first, self.store.geometry.clusters)
    }

    /// Frees the clusters of a chain.
    fn release(&mut self, chain: &[u32]) -> Result<(), EditError> {
        for &cluster in chain {
            self.freed.add(u64::from(cluster)..u64::from(cluster) + 1);
            self.store.set_link(cluster, 0)?;
            self.free.set_free(cluster..cluster + 1);
        }
        Ok(())
    }

    fn no_space(&self, path: &str, wanted: u64, given_up: u64) -> EditError {
        let cluster = self.store.geometry.cluster;
        EditError::NoSpace {
            path: path.to_owned(),
            needed: wanted * cluster,
            free: (self.free.count + given_up) * cluster,
        }
    }
}

/// The largest file that may replace another where there is no room for both: it is kept in memory
/// until everything is on the device.
const MAX_REPLACED: u64 = 192 << 20;

/// Fills a buffer with the next bytes of content of `size` bytes, of which `left` remain.
fn fill(content: &mut dyn Read, buffer: &mut [u8], size: u64, left: u64) -> Result<(), EditError> {
    let mut done = 0;
    while done < buffer.len() {
        match content.read(&mut buffer[done..]) {
            Ok(0) => {
                return Err(EditError::SourceShort {
                    found: size - left + done as u64,
                    expected: size,
                });
            }
            Ok(len) => done += len,
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => return Err(EditError::Source(error)),
        }
    }
    Ok(())
}

/// Whether neither the boot sector nor the table says that the volume is mounted or has errors.
pub(crate) fn is_clean<D: BlockDevice>(store: &Store<D>) -> Result<bool, FatError> {
    let geometry = &store.geometry;
    let second = store.table.borrow_mut().get(&store.device, geometry, 1)?;
    Ok(geometry.state & 3 == 0 && geometry.width.is_sound_mark(second))
}
