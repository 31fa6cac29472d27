//! A check that a file system is consistent: groups, inodes, maps, directories, extended
//! attributes, and that each block and each name belongs to something.
//!
//! It reports the first fault. A file system that passes is clean to other checkers as well; what
//! only matters once it is mounted (times, reserved blocks, hints) is not examined.

mod folders;
mod inodes;
mod map;
mod system;
mod used;

use std::collections::HashMap;
use std::ops::Range;

use folders::Directory;
use pinewrit_disk::BlockDevice;
use pinewrit_disk::bits::is_set;
use pinewrit_ext4_layout::blocks::{ExtError, Source};
use pinewrit_ext4_layout::inode::FileKind;
use pinewrit_ext4_layout::{
    Compatible, GroupDescriptor, Incompatible, ReadOnlyCompatible, Superblock,
};
use used::Used;

use pinewrit_ext4_journal::JournalError;

use crate::edit::unknown_feature;
use crate::volume::Volume;

/// What is inconsistent.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckError {
    /// The file system cannot be read.
    #[error(transparent)]
    Volume(#[from] ExtError),
    /// A feature is not understood well enough to check it.
    #[error("the file system has the feature {0}, which Pinewrit can only read")]
    Feature(String),
    /// Its journal was not replayed, or files are waiting to be removed at the next mount.
    #[error("its journal has changes that are not yet in the file system")]
    NeedsReplay,
    /// The journal cannot be used.
    #[error("its journal: {0}")]
    Journal(&'static str),
    /// The journal's superblock is damaged, or not understood.
    #[error("its journal: {0}")]
    JournalHead(#[from] JournalError),
    /// The superblock contradicts itself.
    #[error("the superblock: {0}")]
    Superblock(&'static str),
    /// A group's descriptor is damaged.
    #[error("the descriptor of group {0} is damaged")]
    Descriptor(u64),
    /// A group's bitmap of blocks does not fit its descriptor.
    #[error("the block bitmap of group {0} does not fit its descriptor")]
    Bitmap(u64),
    /// A group's bitmap of inodes does not fit its descriptor.
    #[error("the inode bitmap of group {0} does not fit its descriptor")]
    InodeBitmap(u64),
    /// A group is damaged.
    #[error("group {group}: {what}")]
    Group {
        /// Its number.
        group: u64,
        /// What is wrong, in words.
        what: &'static str,
    },
    /// An inode is damaged.
    #[error("inode {number}: {what}")]
    Inode {
        /// Its number.
        number: u32,
        /// What is wrong, in words.
        what: &'static str,
    },
    /// A directory is damaged.
    #[error("the directory with inode {number}: {what}")]
    Directory {
        /// The number of its inode.
        number: u32,
        /// What is wrong, in words.
        what: &'static str,
    },
    /// A name in a directory is damaged, or leads somewhere impossible.
    #[error("the name {name:?} in the directory with inode {number}: {what}")]
    Name {
        /// The number of the directory's inode.
        number: u32,
        /// The name, as far as it can be shown.
        name: String,
        /// What is wrong, in words.
        what: &'static str,
    },
    /// A block of extended attributes counts its files wrongly.
    #[error("the extended attributes in block {0} count other files than they have")]
    Attributes(u64),
    /// A block belongs to two files.
    #[error("block {0} belongs to two files")]
    Shared(u64),
    /// A block of a file is marked as free.
    #[error("block {0} belongs to a file, and its bitmap says that it is free")]
    Unmarked(u64),
    /// A block is marked as used, but belongs to nothing.
    #[error("block {0} belongs to nothing, and its bitmap says that it is in use")]
    Lost(u64),
}

/// Checks the file system at the start of a device.
///
/// Memory grows with its size: some 16 bytes per file and 1 bit per block.
///
/// # Errors
/// [`CheckError`]: the first thing that is wrong.
pub fn check<D: BlockDevice>(device: D) -> Result<(), CheckError> {
    let volume = Volume::open(device)?;
    superblock(volume.superblock())?;
    let mut check = Check {
        used: Used::new(volume.superblock()),
        metadata: Vec::new(),
        source: &volume,
        seen: Vec::new(),
        directories: Vec::new(),
        shared_attributes: HashMap::new(),
    };
    let mut groups = Vec::new();
    for (group, descriptor) in (0..).zip(volume.groups()) {
        groups.push(descriptor.ok_or(CheckError::Descriptor(group))?);
    }
    check.take_metadata(&groups)?;
    for (group, descriptor) in (0..).zip(&groups) {
        check.group_inodes(group, descriptor)?;
    }
    check.tree()?;
    check.links()?;
    check.bitmaps(&groups)
}

/// An inode that is in use by a file.
struct Seen {
    number: u32,
    kind: FileKind,
    /// The number of names according to the inode.
    links: u16,
    /// A directory with very many folders has an index, and need not count them.
    has_index: bool,
    /// Names that lead to it; for directories, how many directories are in it.
    names: u32,
    /// The directory that a directory is in; 0 for none.
    above: u32,
}

struct Check<'v> {
    source: &'v dyn Source,
    /// Blocks that belong to something.
    used: Used,
    /// How many blocks of each group belong to the file system itself.
    metadata: Vec<u64>,
    /// By number.
    seen: Vec<Seen>,
    directories: Vec<Directory>,
    /// Blocks of extended attributes: how many files they count, and how many there are.
    shared_attributes: HashMap<u64, (u32, u32)>,
}

/// Reads a block.
fn read(source: &dyn Source, block: u64) -> Result<Vec<u8>, CheckError> {
    Ok(source.read_block(block)?)
}

/// Reads blocks that were found to lie inside the file system.
fn read_blocks(source: &dyn Source, blocks: Range<u64>) -> Result<Vec<u8>, CheckError> {
    let size = source.superblock().block_size;
    let mut bytes = vec![0; ((blocks.end - blocks.start) * size) as usize];
    source.read_bytes(blocks.start * size, &mut bytes)?;
    Ok(bytes)
}

/// Checks numbers and features of the superblock against each other.
fn superblock(sb: &Superblock) -> Result<(), CheckError> {
    if let Some(name) = unknown_feature(sb) {
        return Err(CheckError::Feature(name));
    }
    if sb.incompatible.has(Incompatible::RECOVER) || sb.last_orphan != 0 {
        return Err(CheckError::NeedsReplay);
    }
    let has_reserve = sb.compatible.has(Compatible::RESIZE_INODE);
    let tables = sb.descriptor_locations().len() as u64;
    let has_meta = sb.incompatible.has(Incompatible::META_BG);
    let faults = [
        (
            sb.reserved_blocks > sb.blocks / 2,
            "more than half of the blocks are reserved",
        ),
        (
            has_meta && has_reserve,
            "two ways to keep more group descriptors",
        ),
        (
            has_meta && sb.first_meta_bg > tables,
            "the first group with its own descriptors is behind the last",
        ),
        (!has_right_sizes(sb), "the size of group descriptors"),
        (!sb.has_right_clusters, "the size of clusters"),
        (
            sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) && sb.checksum_kind != 1,
            "its kind of checksums is unknown",
        ),
    ];
    match faults.into_iter().find(|(is_wrong, _)| *is_wrong) {
        Some((_, what)) => Err(CheckError::Superblock(what)),
        None => Ok(()),
    }
}

fn has_right_sizes(sb: &Superblock) -> bool {
    if sb.incompatible.has(Incompatible::BIT64) {
        sb.descriptor_size >= 64
    } else {
        sb.raw_descriptor_size == 0 || sb.raw_descriptor_size.is_power_of_two()
    }
}

impl<'v> Check<'v> {
    fn sb(&self) -> &'v Superblock {
        self.source.superblock()
    }

    /// Marks what belongs to the file system itself; no two structures may overlap.
    fn take_metadata(&mut self, groups: &[GroupDescriptor]) -> Result<(), CheckError> {
        let sb = self.source.superblock();
        let is_free = sb.incompatible.has(Incompatible::FLEX_BG);
        for (group, descriptor) in (0..).zip(groups) {
            let base = sb.base_blocks(group);
            let own = sb.group_blocks(group);
            let fault = |what| Err(CheckError::Group { group, what });
            if base.end > own.end || self.used.take(base).is_some() {
                return fault("its descriptors lie on other structures");
            }
            for place in descriptor.metadata(sb) {
                if !is_free && (place.start < own.start || place.end > own.end) {
                    return fault("its bitmaps or inode table lie in another group");
                }
                if self.used.take(place).is_some() {
                    return fault("its bitmaps or inode table lie on other structures");
                }
            }
        }
        let counts = (0..sb.groups()).map(|group| self.used.count(group));
        self.metadata = counts.collect();
        Ok(())
    }

    /// Checks that what the groups mark as used is what was found in use.
    fn bitmaps(&self, groups: &[GroupDescriptor]) -> Result<(), CheckError> {
        let sb = self.sb();
        let mut lost = None;
        for (group, descriptor) in (0..).zip(groups) {
            let own = sb.group_blocks(group);
            if descriptor.is_block_bitmap_unwritten {
                self.unwritten(group, descriptor)?;
                continue;
            }
            let mut found = vec![0; (sb.blocks_per_group / 8) as usize];
            if let Some(used) = self.used.group(group) {
                found.copy_from_slice(used);
            }
            let bitmap = read(self.source, descriptor.block_bitmap)?;
            if !descriptor.fits_bitmap(sb, group, &bitmap) || !has_full_end(sb, group, &bitmap) {
                return Err(CheckError::Bitmap(group));
            }
            // Whole bytes first: most are equal.
            let count = own.end - own.start;
            let bytes = (0..count.div_ceil(8)).filter(|byte| {
                let byte = *byte as usize;
                found[byte] != bitmap[byte]
            });
            for bit in bytes.flat_map(|byte| byte * 8..(byte * 8 + 8).min(count)) {
                match (is_set(&found, bit), is_set(&bitmap, bit)) {
                    (true, false) => return Err(CheckError::Unmarked(own.start + bit)),
                    (false, true) => drop(lost.get_or_insert(own.start + bit)),
                    _ => {}
                }
            }
        }
        match lost {
            Some(block) => Err(CheckError::Lost(block)),
            None => Ok(()),
        }
    }

    /// A group without a bitmap has only metadata in use; it is never the last one.
    fn unwritten(&self, group: u64, descriptor: &GroupDescriptor) -> Result<(), CheckError> {
        let sb = self.sb();
        let blocks = sb.group_blocks(group);
        let used = self.used.count(group);
        let is_right = group + 1 < sb.groups()
            && self.metadata.get(group as usize) == Some(&used)
            && blocks.end - blocks.start == used + descriptor.free_clusters;
        if is_right {
            Ok(())
        } else {
            Err(CheckError::Bitmap(group))
        }
    }
}

/// "The bits behind the last block are set."
fn has_full_end(sb: &Superblock, group: u64, bitmap: &[u8]) -> bool {
    let own = sb.group_blocks(group);
    let count = own.end - own.start;
    (count..bitmap.len() as u64 * 8).all(|bit| is_set(bitmap, bit))
}
