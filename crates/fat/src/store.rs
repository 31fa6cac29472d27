//! The device with a cache of what was read, and with changes that are not on it yet.

use std::cell::{Cell, Ref, RefCell};
use std::collections::HashMap;
use std::rc::Rc;

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError};

use crate::directory::{ENTRY, MAX_ENTRIES};
use crate::error::FatError;
use crate::folder::Folder;
use crate::geometry::Geometry;
use crate::table::{Link, Table};

/// The most bytes in one request.
pub(crate) const REQUEST: usize = 1 << 20;
/// How many bytes of directories are kept in memory for later.
const MOST_KEPT: usize = 24 << 20;

/// Where a tree reads from.
pub(crate) trait Source {
    fn geometry(&self) -> &Geometry;
    /// The zone whose local time directory entries keep.
    fn zone(&self) -> &TimeZone;
    /// What follows a cluster.
    fn link(&self, cluster: u32) -> Result<Link, FatError>;
    /// The directory that begins at a cluster; 0 is the root of FAT12 and FAT16.
    fn folder(&self, first: u32) -> Result<Rc<Folder>, FatError>;
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), FatError>;
}

/// All clusters of a chain, which must end after `most` of them.
pub(crate) fn chain(source: &dyn Source, first: u32, most: u64) -> Result<Vec<u32>, FatError> {
    let mut clusters = Vec::new();
    let mut at = first;
    loop {
        if !source.geometry().has(at) {
            return Err(FatError::Damaged("a first cluster that there is not"));
        }
        clusters.push(at);
        match source.link(at)? {
            Link::Next(next) if (clusters.len() as u64) < most => at = next,
            Link::Next(_) => return Err(FatError::Damaged("a chain that does not end")),
            Link::End => return Ok(clusters),
            _ => return Err(FatError::Damaged("a chain that leads nowhere")),
        }
    }
}

/// Neighbouring clusters joined, as byte ranges of one request each.
pub(crate) fn requests(geometry: &Geometry, clusters: &[u32]) -> Vec<ByteRange> {
    let mut ranges: Vec<ByteRange> = Vec::new();
    for cluster in clusters {
        let place = geometry.place(*cluster);
        match ranges.last_mut() {
            Some(last) if last.end == place.start && last.len() < REQUEST as u64 => {
                last.end = place.end;
            }
            _ => ranges.push(place),
        }
    }
    ranges
}

/// Directories in memory, by their first cluster.
pub(crate) type Folders = HashMap<u32, Rc<Folder>>;

pub(crate) struct Store<D> {
    pub(crate) device: D,
    pub(crate) geometry: Geometry,
    pub(crate) zone: TimeZone,
    pub(crate) table: RefCell<Table>,
    folders: RefCell<Folders>,
    kept: Cell<usize>,
    /// How much may accumulate before the cache is pruned.
    most_kept: Cell<usize>,
    /// File content that is written to the device together, and its offset.
    pending: (u64, Vec<u8>),
    /// Whether its clusters were in use when the work began.
    pending_was_freed: bool,
}

impl<D: BlockDevice> Store<D> {
    pub(crate) fn new(device: D, geometry: Geometry) -> Self {
        Self {
            device,
            geometry,
            zone: TimeZone::UTC,
            table: RefCell::default(),
            folders: RefCell::default(),
            kept: Cell::new(0),
            most_kept: Cell::new(MOST_KEPT),
            pending: (0, Vec::new()),
            pending_was_freed: false,
        }
    }

    pub(crate) fn set_link(&self, cluster: u32, value: u32) -> Result<(), DiskError> {
        let mut table = self.table.borrow_mut();
        table.set(&self.device, &self.geometry, cluster, value)
    }

    /// A directory that is in memory.
    pub(crate) fn folder_mut(&mut self, first: u32) -> Result<&mut Folder, FatError> {
        // It was just inserted.
        self.folder(first)?;
        let folder = self.folders.get_mut().get_mut(&first);
        let folder = folder.and_then(Rc::get_mut);
        folder.ok_or(FatError::Damaged(
            "a directory that is read while it changes",
        ))
    }

    pub(crate) fn add_folder(&mut self, first: u32, folder: Folder) {
        self.add_weight(folder.weight());
        self.folders.get_mut().insert(first, Rc::new(folder));
    }

    /// Accounts for the memory of a directory.
    pub(crate) fn add_weight(&self, bytes: usize) {
        self.kept.set(self.kept.get() + bytes);
    }

    /// Puts a directory into other clusters.
    pub(crate) fn move_folder(&mut self, first: u32, chain: Vec<u32>) -> Result<(), FatError> {
        self.folder(first)?;
        let folders = self.folders.get_mut();
        let folder = folders.remove(&first).map(Rc::try_unwrap);
        let (Some(Ok(mut folder)), Some(now)) = (folder, chain.first().copied()) else {
            return Err(FatError::Damaged(
                "a directory that is read while it changes",
            ));
        };
        folder.move_to(chain);
        folders.insert(now, Rc::new(folder));
        Ok(())
    }

    /// Forgets a directory that no longer exists.
    pub(crate) fn forget_folder(&mut self, first: u32) {
        self.folders.get_mut().remove(&first);
    }

    pub(crate) fn folders(&self) -> Ref<'_, Folders> {
        self.folders.borrow()
    }

    /// All changes to directories are on the device; keeps only as many of them as are useful.
    pub(crate) fn settle(&mut self) {
        self.table.get_mut().settle();
        let kept = self.folders.get_mut();
        if self.kept.get() > MOST_KEPT {
            kept.clear();
            self.kept.set(0);
            self.most_kept.set(MOST_KEPT);
        }
        for folder in kept.values_mut() {
            if let Some(folder) = Rc::get_mut(folder) {
                folder.changed = 0..0;
            }
        }
    }

    /// Bytes of memory that directories take, roughly.
    pub(crate) fn weight(&self) -> usize {
        self.kept.get()
    }

    /// Queues content of a file for writing. `was_freed`: its clusters were in use when the work
    /// began.
    pub(crate) fn put_content(
        &mut self,
        offset: u64,
        bytes: &[u8],
        was_freed: bool,
    ) -> Result<(), DiskError> {
        let (start, pending) = &self.pending;
        let goes_on = start + pending.len() as u64 == offset
            && pending.len() < REQUEST
            && was_freed == self.pending_was_freed;
        if !goes_on {
            self.write_content()?;
            self.pending.0 = offset;
            self.pending_was_freed = was_freed;
        }
        self.pending.1.extend_from_slice(bytes);
        Ok(())
    }

    /// Writes what was queued to the device.
    pub(crate) fn write_content(&mut self) -> Result<(), DiskError> {
        let (start, pending) = &mut self.pending;
        if !pending.is_empty() {
            if self.pending_was_freed {
                self.device.write_at(*start, pending)?
            } else {
                self.device.write_free(*start, pending)?
            }
            pending.clear();
        }
        Ok(())
    }

    fn load(&self, first: u32) -> Result<Folder, FatError> {
        let geometry = &self.geometry;
        let (clusters, ranges) = match (first, geometry.root_cluster) {
            (0, 0) => (Vec::new(), vec![geometry.root_directory]),
            _ => {
                let most = ((MAX_ENTRIES * ENTRY) as u64 / geometry.cluster).max(1);
                let clusters = chain(self, first, most)?;
                let ranges = requests(geometry, &clusters);
                (clusters, ranges)
            }
        };
        let mut bytes = Vec::new();
        for range in ranges {
            let from = bytes.len();
            bytes.resize(from + range.len() as usize, 0);
            self.read_at(range.start, &mut bytes[from..])?;
        }
        Ok(Folder::read(geometry.width, clusters, bytes))
    }
}

impl<D: BlockDevice> Source for Store<D> {
    fn geometry(&self) -> &Geometry {
        &self.geometry
    }

    fn zone(&self) -> &TimeZone {
        &self.zone
    }

    fn link(&self, cluster: u32) -> Result<Link, FatError> {
        let mut table = self.table.borrow_mut();
        let raw = table.get(&self.device, &self.geometry, cluster)?;
        Ok(self.geometry.link(raw))
    }

    fn folder(&self, first: u32) -> Result<Rc<Folder>, FatError> {
        if let Some(known) = self.folders.borrow().get(&first) {
            return Ok(Rc::clone(known));
        }
        let folder = Rc::new(self.load(first)?);
        let mut folders = self.folders.borrow_mut();
        if self.kept.get() > self.most_kept.get() {
            // What is not on the device yet must stay.
            folders.retain(|_, folder| !folder.changed.is_empty());
            let left = folders.values().map(|folder| folder.weight()).sum();
            self.kept.set(left);
            self.most_kept.set(MOST_KEPT.max(2 * left));
        }
        self.add_weight(folder.weight());
        folders.insert(first, Rc::clone(&folder));
        Ok(folder)
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), FatError> {
        self.device.read_at(offset, buffer)?;
        let (start, pending) = &self.pending;
        let own = ByteRange::from_len(*start, pending.len() as u64);
        let asked = ByteRange::from_len(offset, buffer.len() as u64);
        let shared = own
            .zip(asked)
            .and_then(|(own, asked)| own.intersection(asked));
        if let Some(shared) = shared {
            let len = shared.len() as usize;
            let (to, from) = (
                (shared.start - offset) as usize,
                (shared.start - start) as usize,
            );
            buffer[to..to + len].copy_from_slice(&pending[from..from + len]);
        }
        Ok(())
    }
}
