//! Changing a file system: in memory first, on the device when it is committed.

mod alloc;
mod cache;
mod content;
mod error;
mod extend;
mod folder;
mod groups;
mod index;
mod inode;
pub(crate) mod layout;
mod map;
mod names;
mod ops;
mod orphans;
mod shrink;

use std::collections::{BTreeSet, HashMap};
use std::ops::Range;

use cache::Cache;
use pinewrit_disk::bits;
use pinewrit_disk::bytes::{high, low, put32, u32le, wide};
use pinewrit_disk::{BlockDevice, ByteRange};
use pinewrit_ext4_layout::blocks::{ExtError, Source};
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::sb;
use pinewrit_ext4_layout::inode::{InodeNumber, Timestamp};
use pinewrit_ext4_layout::xattr::Kept;
use pinewrit_ext4_layout::{
    Compatible, GroupDescriptor, Incompatible, ReadOnlyCompatible, Superblock,
};

use crate::tree::Tree;
use crate::volume::read_superblock;
pub use content::Zeros;
pub use error::{EditError, SizeError};
use folder::Folder;
pub use ops::{Attributes, NodeKind};
pub use shrink::Shrinkage;

/// Features that are maintained when something is changed.
const INCOMPATIBLE: &[Incompatible] = &[
    Incompatible::FILETYPE,
    Incompatible::META_BG,
    Incompatible::EXTENTS,
    Incompatible::BIT64,
    Incompatible::FLEX_BG,
    Incompatible::CSUM_SEED,
    Incompatible::LARGEDIR,
    Incompatible::INLINE_DATA,
    Incompatible::ENCRYPT,
];
const READ_ONLY: &[ReadOnlyCompatible] = &[
    ReadOnlyCompatible::SPARSE_SUPER,
    ReadOnlyCompatible::LARGE_FILE,
    ReadOnlyCompatible::HUGE_FILE,
    ReadOnlyCompatible::GDT_CSUM,
    ReadOnlyCompatible::DIR_NLINK,
    ReadOnlyCompatible::EXTRA_ISIZE,
    ReadOnlyCompatible::METADATA_CSUM,
    ReadOnlyCompatible::VERITY,
];
/// `s_state`: unmounted cleanly, and no errors found.
const CLEAN: u16 = 1;

/// A file system that is being changed.
///
/// Each change is made completely or not at all. Only the content of new files, and zeros where new
/// structures will be, reach the device before [`Editor::commit`]. Content goes to blocks that are
/// free at that time, including those of files removed earlier: if changes may be dropped after a
/// removal, put an [`Overlay`](pinewrit_disk::Overlay) underneath.
pub struct Editor<D> {
    cache: Cache<D>,
    sb: Superblock,
    /// Block and offset of the superblock.
    sb_place: (u64, usize),
    descriptor_blocks: Vec<u64>,
    groups: Vec<GroupDescriptor>,
    touched_groups: BTreeSet<u64>,
    checked_bitmaps: BTreeSet<u64>,
    checked_inode_bitmaps: BTreeSet<u64>,
    /// Where the next content goes in a group.
    cursors: HashMap<u64, u64>,
    folders: HashMap<InodeNumber, Folder>,
    /// Folders by their path as requested.
    paths: HashMap<Vec<u8>, InodeNumber>,
    /// Folders that have gained names.
    grown_folders: BTreeSet<InodeNumber>,
    /// Blocks from here on are about to go away: nothing is put there any more.
    limit: Option<u64>,
    now: Timestamp,
}

impl<D: BlockDevice> Source for Editor<D> {
    fn superblock(&self) -> &Superblock {
        &self.sb
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError> {
        self.cache.read_at(offset, buffer)
    }

    fn inode_table(&self, group: u32) -> Option<u64> {
        Some(self.groups.get(group as usize)?.inode_table)
    }

    fn known_child(&self, folder: InodeNumber, name: &[u8]) -> Option<Option<InodeNumber>> {
        let names = &self.folders.get(&folder)?.names;
        Some(names.get(name).map(|(inode, _)| *inode))
    }
}

impl<D: BlockDevice> Editor<D> {
    /// Opens the file system at the start of a device. `now` is recorded as the time of all
    /// changes.
    ///
    /// # Errors
    /// [`EditError`] says why this file system is not changed here.
    pub fn open(device: D, now: Timestamp) -> Result<Self, EditError> {
        Self::open_with(device, now, refuse)
    }

    /// Opens a file system whose orphans wait to be finished, and in which there may be errors.
    pub(crate) fn open_unsettled(device: D, now: Timestamp) -> Result<Self, EditError> {
        Self::open_with(device, now, |superblock| {
            let mut settled = superblock.clone();
            settled.read_only.remove(ReadOnlyCompatible::ORPHAN_PRESENT);
            unknown_feature(&settled).map_or(Ok(()), |name| Err(EditError::Feature(name)))
        })
    }

    fn open_with(
        device: D,
        now: Timestamp,
        refuse: impl FnOnce(&Superblock) -> Result<(), EditError>,
    ) -> Result<Self, EditError> {
        let superblock = read_superblock(&device)?;
        refuse(&superblock)?;
        let mut editor = Self::with_superblock(device, superblock, now);
        for group in 0..editor.sb.groups() {
            let (sb, size) = (editor.sb.clone(), editor.sb.descriptor_size);
            let raw = editor.descriptor(group)?;
            let descriptor = GroupDescriptor::parse(&sb, group, raw);
            let block = editor.descriptor_blocks[(group / sb.descriptors_per_block()) as usize];
            let offset = block * sb.block_size + group % sb.descriptors_per_block() * size;
            let what = "a group descriptor";
            let descriptor = descriptor.ok_or(ExtError::DamagedAt { what, offset })?;
            editor.groups.push(descriptor);
        }
        editor.count_free()?;
        Ok(editor)
    }

    /// The superblock's own counts of what is free are only updated now and then; those of the
    /// groups are right. They reach the device with the first change.
    fn count_free(&mut self) -> Result<(), EditError> {
        let mut blocks = 0;
        let mut inodes = 0;
        for group in &self.groups {
            blocks += group.free_clusters;
            inodes += u64::from(group.free_inodes);
        }
        let (all_blocks, all_inodes) = (self.sb.blocks, u64::from(self.sb.inodes));
        if blocks > all_blocks || inodes > all_inodes {
            return Err(ExtError::Damaged("a group's count").into());
        }
        let is_wide = self.sb.incompatible.has(Incompatible::BIT64);
        let (place, at) = self.sb_place;
        let raw = &mut self.cache.amend(place)?[at..at + Superblock::SIZE];
        put32(raw, sb::FREE_BLOCKS, low(blocks));
        if is_wide {
            put32(raw, sb::FREE_BLOCKS_HIGH, high(blocks));
        }
        put32(raw, sb::FREE_INODES, low(inodes));
        self.sb.free_blocks = blocks;
        Ok(())
    }

    /// An editor without groups.
    pub(crate) fn with_superblock(device: D, superblock: Superblock, now: Timestamp) -> Self {
        let size = superblock.block_size;
        let sb_block = Superblock::OFFSET / size;
        Self {
            cache: Cache::new(device, size, superblock.blocks),
            sb_place: (sb_block, (Superblock::OFFSET - sb_block * size) as usize),
            descriptor_blocks: superblock.descriptor_locations(),
            groups: Vec::new(),
            touched_groups: BTreeSet::new(),
            checked_bitmaps: BTreeSet::new(),
            checked_inode_bitmaps: BTreeSet::new(),
            cursors: HashMap::new(),
            folders: HashMap::new(),
            paths: HashMap::new(),
            grown_folders: BTreeSet::new(),
            limit: None,
            sb: superblock,
            now,
        }
    }

    /// The superblock as it was when the file system was opened; sizes and features do not change.
    pub fn superblock(&self) -> &Superblock {
        &self.sb
    }

    /// Its files, with all changes.
    pub fn tree(&self) -> Tree<'_> {
        Tree { source: self }
    }

    /// Free bytes.
    pub fn free_bytes(&mut self) -> u64 {
        self.free_blocks() * self.sb.block_size
    }

    pub(super) fn free_blocks(&mut self) -> u64 {
        let is_wide = self.sb.incompatible.has(Incompatible::BIT64);
        match self.raw_sb() {
            Ok(raw) if is_wide => wide(raw, sb::FREE_BLOCKS, sb::FREE_BLOCKS_HIGH),
            Ok(raw) => u64::from(u32le(raw, sb::FREE_BLOCKS)),
            Err(_) => 0,
        }
    }

    /// Inodes that are free.
    pub fn free_inodes(&mut self) -> u32 {
        self.raw_sb().map_or(0, |raw| u32le(raw, sb::FREE_INODES))
    }

    pub(super) fn raw_sb(&mut self) -> Result<&[u8], ExtError> {
        let (block, at) = self.sb_place;
        Ok(&self.cache.block(block)?[at..at + Superblock::SIZE])
    }

    pub(super) fn edit_sb(&mut self) -> Result<&mut [u8], ExtError> {
        let (block, at) = self.sb_place;
        Ok(&mut self.cache.edit(block)?[at..at + Superblock::SIZE])
    }

    pub(crate) fn add_sb(&mut self, field: usize, change: i64) -> Result<(), ExtError> {
        let raw = self.edit_sb()?;
        let now = i64::from(u32le(raw, field)) + change;
        let now = u32::try_from(now).map_err(|_| ExtError::Damaged("the superblock"))?;
        put32(raw, field, now);
        Ok(())
    }

    pub(super) fn add_free_blocks(&mut self, change: i64) -> Result<(), ExtError> {
        let now = self.free_blocks() as i64 + change;
        let now = u64::try_from(now).map_err(|_| ExtError::Damaged("the superblock"))?;
        let is_wide = self.sb.incompatible.has(Incompatible::BIT64);
        let raw = self.edit_sb()?;
        put32(raw, sb::FREE_BLOCKS, low(now));
        if is_wide {
            put32(raw, sb::FREE_BLOCKS_HIGH, high(now));
        }
        Ok(())
    }

    pub(crate) fn now(&self) -> Timestamp {
        self.now
    }

    /// Sets another number of blocks, and forgets what lies behind them.
    pub(crate) fn take_size(&mut self, new: Superblock) {
        self.cache.set_blocks(new.blocks);
        let known = self.descriptor_blocks.len();
        self.descriptor_blocks = new.descriptor_locations();
        let size = new.block_size as usize;
        for block in self.descriptor_blocks.iter().skip(known) {
            self.cache.put(*block, vec![0; size]);
        }
        let groups = new.groups();
        self.groups.truncate(groups as usize);
        self.touched_groups.retain(|group| *group < groups);
        self.cursors.retain(|group, _| *group < groups);
        self.limit = None;
        self.sb = new;
    }

    /// Sets the UUID, with which the older checksums of descriptors begin.
    pub(crate) fn take_uuid(&mut self, uuid: [u8; 16]) {
        self.sb.uuid = uuid;
        if self.sb.read_only.has(ReadOnlyCompatible::GDT_CSUM) {
            self.touched_groups.extend(0..self.sb.groups());
        }
    }

    /// The first block, or two, of a new file system.
    pub(crate) fn put_first_superblock(&mut self, raw: &[u8; Superblock::SIZE]) {
        let size = self.sb.block_size as usize;
        let (block, at) = self.sb_place;
        for before in 0..block {
            self.cache.put(before, vec![0; size]);
        }
        let mut bytes = vec![0; size];
        bytes[at..at + raw.len()].copy_from_slice(raw);
        self.cache.put(block, bytes);
        for table in self.descriptor_blocks.clone() {
            self.cache.put(table, vec![0; size]);
        }
    }

    pub(crate) fn put_block(&mut self, block: u64, bytes: Vec<u8>) {
        self.cache.put(block, bytes);
    }

    pub(crate) fn zero_blocks(&mut self, range: ByteRange) -> Result<(), EditError> {
        Ok(self.cache.device().zero(range)?)
    }

    pub(crate) fn use_bits(&mut self, bitmap: u64, bits: Range<u64>) -> Result<(), EditError> {
        bits::set(self.cache.edit(bitmap)?, bits);
        Ok(())
    }

    pub(crate) fn free_bits(&mut self, bitmap: u64, bits: Range<u64>) -> Result<(), EditError> {
        bits::clear(self.cache.edit(bitmap)?, bits);
        Ok(())
    }

    /// Makes a change completely or not at all.
    pub(crate) fn step<T>(
        &mut self,
        change: impl FnOnce(&mut Self) -> Result<T, EditError>,
    ) -> Result<T, EditError> {
        self.cache.begin();
        let result = change(self);
        match result {
            Ok(_) => self.cache.keep(),
            Err(_) => {
                self.cache.take_back();
                self.folders.clear();
                self.paths.clear();
            }
        }
        result
    }

    /// Writes all changes to the device and flushes it.
    ///
    /// # Errors
    /// The device failed; then the file system on it may be partly changed.
    pub fn commit(mut self) -> Result<D, EditError> {
        self.index_folders()?;
        self.seal_groups()?;
        // If nothing was changed, not even the time of the last write is updated.
        if !self.cache.is_changed() {
            return Ok(self.cache.into_device());
        }
        let now = self.now.seconds as u32;
        let has_checksum = self.sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM);
        let raw = self.edit_sb()?;
        put32(raw, sb::WRITE_TIME, now);
        if has_checksum {
            let sum = crc32c(!0, &raw[..sb::CHECKSUM]);
            put32(raw, sb::CHECKSUM, sum);
        }
        self.cache.write_back()?;
        self.cache.device().flush()?;
        Ok(self.cache.into_device())
    }

    /// The seed of checksums of an inode's own structures.
    pub(super) fn inode_seed(
        &self,
        number: InodeNumber,
        inode: &pinewrit_ext4_layout::inode::Inode,
    ) -> u32 {
        pinewrit_ext4_layout::inode::inode_seed(&self.sb, number, inode.generation())
    }

    /// A file of 2 GiB or more needs a flag in the superblock.
    pub(super) fn note_large_file(&mut self, size: u64) -> Result<(), EditError> {
        // The block decides, because it is rolled back with a failed step.
        let flags = u32le(self.raw_sb()?, sb::READ_ONLY);
        let flag = ReadOnlyCompatible::LARGE_FILE.bits();
        if size > 0x7fff_ffff && flags & flag == 0 {
            if !self.sb.is_dynamic {
                return Err(EditError::TooLarge(format!("a file of {size} bytes")));
            }
            put32(self.edit_sb()?, sb::READ_ONLY, flags | flag);
        }
        Ok(())
    }

    /// Extended attributes need a flag in the superblock as well.
    pub(super) fn note_xattrs(&mut self, first: &Kept) -> Result<(), EditError> {
        let flags = u32le(self.raw_sb()?, sb::COMPATIBLE);
        let flag = Compatible::EXT_ATTR.bits();
        if flags & flag == 0 {
            if !self.sb.is_dynamic {
                let name = first.as_seen().map_or(String::new(), |seen| seen.name);
                return Err(EditError::Xattr(name));
            }
            put32(self.edit_sb()?, sb::COMPATIBLE, flags | flag);
        }
        Ok(())
    }
}

/// The name of a feature that is not understood well enough to check or change a file system.
pub(crate) fn unknown_feature(superblock: &Superblock) -> Option<String> {
    let hard = superblock.incompatible.beyond(INCOMPATIBLE);
    let soft = superblock.read_only.beyond(READ_ONLY);
    // With both flags set, neither kind of checksum is valid.
    let sums = [
        ReadOnlyCompatible::GDT_CSUM,
        ReadOnlyCompatible::METADATA_CSUM,
    ];
    let has_both = sums.iter().all(|flag| superblock.read_only.has(*flag));
    hard.first_name()
        .or(soft.first_name())
        .or(has_both.then(|| "uninit_bg beside metadata_csum".to_owned()))
        .or_else(|| {
            let stray = "flags in a file system of revision 0".to_owned();
            superblock.has_stray_features.then_some(stray)
        })
}

/// Says why a file system must not be changed.
fn refuse(superblock: &Superblock) -> Result<(), EditError> {
    if superblock.incompatible.has(Incompatible::RECOVER) {
        return Err(EditError::NeedsReplay);
    }
    if let Some(name) = unknown_feature(superblock) {
        return Err(EditError::Feature(name));
    }
    if superblock.state != CLEAN || superblock.last_orphan != 0 {
        return Err(EditError::Unclean);
    }
    Ok(())
}

/// Whether large folders get an index.
pub(crate) fn has_index(sb: &Superblock) -> bool {
    sb.compatible.has(Compatible::DIR_INDEX)
}
