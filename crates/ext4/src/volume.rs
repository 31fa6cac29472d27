//! A file system on a device: its groups, its inodes, and whose a block is.

use std::collections::{BTreeSet, VecDeque};

use pinewrit_disk::{BlockDevice, DiskError};

use crate::blocks::{Source, VolumeError};
use crate::inode::{Inode, InodeNumber};
use crate::tree::{Tree, shown};
use crate::{GroupDescriptor, Superblock};

/// Whose a block is.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Owner {
    /// Structures of the file system itself, in words.
    Metadata(&'static str),
    /// A file with its path, or what is known of it.
    File(String),
    /// Nobody's.
    Free,
}

/// An open file system.
pub struct Volume<D> {
    device: D,
    superblock: Superblock,
    groups: Vec<Option<GroupDescriptor>>,
}

pub(crate) const FIRST_OF_FILES: u32 = 11;
/// Directory entries that are looked at for a path; more than any board's system has.
const MAX_ENTRIES: usize = 4_000_000;

impl<D: BlockDevice> Source for Volume<D> {
    fn superblock(&self) -> &Superblock {
        &self.superblock
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        Ok(self.device.read_at(offset, buffer)?)
    }

    fn inode_table(&self, group: u32) -> Option<u64> {
        let group = (*self.groups.get(group as usize)?)?;
        Some(group.inode_table)
    }
}

impl<D: BlockDevice> Volume<D> {
    /// Opens the file system at the start of a device.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn open(device: D) -> Result<Self, VolumeError> {
        let mut raw = [0; Superblock::SIZE];
        device.read_at(Superblock::OFFSET, &mut raw)?;
        let superblock = Superblock::parse(&raw)?;
        superblock.check_room(device.size())?;
        let mut volume = Self {
            device,
            superblock,
            groups: Vec::new(),
        };
        volume.groups = volume.read_groups()?;
        Ok(volume)
    }

    /// The superblock.
    pub fn superblock(&self) -> &Superblock {
        &self.superblock
    }

    pub(crate) fn groups(&self) -> &[Option<GroupDescriptor>] {
        &self.groups
    }

    /// Its files.
    pub fn tree(&self) -> Tree<'_> {
        Tree { source: self }
    }

    fn read_groups(&self) -> Result<Vec<Option<GroupDescriptor>>, VolumeError> {
        let sb = &self.superblock;
        let mut groups = Vec::new();
        for block in sb.descriptor_locations() {
            let raw = self.read_block(block)?;
            for descriptor in raw.chunks_exact(sb.descriptor_size as usize) {
                let group = groups.len() as u64;
                if group < sb.groups() {
                    groups.push(GroupDescriptor::parse(sb, group, descriptor));
                }
            }
        }
        Ok(groups)
    }

    /// Whose the block at this offset of the file system is.
    ///
    /// # Errors
    /// The device failed. Damaged structures are passed over.
    pub fn owner_at(&self, offset: u64) -> Result<Owner, DiskError> {
        let block = offset / self.superblock.block_size;
        if let Some(what) = self.metadata_at(block) {
            return Ok(Owner::Metadata(what));
        }
        let Some(inode) = self.inode_with(block)? else {
            return Ok(Owner::Free);
        };
        Ok(match inode {
            InodeNumber::JOURNAL => Owner::Metadata("the journal"),
            InodeNumber::RESIZE => Owner::Metadata("room for more group descriptors"),
            inode => match self.path_of(inode)? {
                Some(path) => Owner::File(path),
                None => Owner::File(format!("the file with inode {}", inode.0)),
            },
        })
    }

    fn metadata_at(&self, block: u64) -> Option<&'static str> {
        let sb = &self.superblock;
        let Some(group) = sb.group_of(block) else {
            return Some("the boot block");
        };
        if sb.base_blocks(group).contains(&block) {
            return Some("the superblock and group descriptors");
        }
        let names = ["the block bitmaps", "the inode bitmaps", "the inode tables"];
        self.groups.iter().flatten().find_map(|group| {
            let places = group.metadata(sb);
            let place = places.iter().position(|place| place.contains(&block))?;
            Some(names[place])
        })
    }

    /// The inode whose data or map is in `block`.
    fn inode_with(&self, block: u64) -> Result<Option<InodeNumber>, DiskError> {
        let mut found = None;
        self.for_each_inode(&mut |number, inode| {
            match inode.owns(self, block) {
                Ok(hit) => {
                    found = hit.then_some(number);
                    Ok(hit)
                }
                Err(VolumeError::Disk(error)) => Err(error),
                // A damaged file owns nothing.
                Err(_) => Ok(false),
            }
        })?;
        Ok(found)
    }

    /// Calls `visit` with every used inode until it returns `true`.
    fn for_each_inode(
        &self,
        visit: &mut dyn FnMut(InodeNumber, &Inode) -> Result<bool, DiskError>,
    ) -> Result<(), DiskError> {
        let sb = &self.superblock;
        let per_block = sb.block_size / sb.inode_size;
        let mut block = vec![0; sb.block_size as usize];
        for (group, descriptor) in self.groups.iter().enumerate() {
            let Some(descriptor) = descriptor.filter(|found| !found.is_inode_table_unwritten)
            else {
                continue;
            };
            let first = group as u64 * u64::from(sb.inodes_per_group) + 1;
            let end = first + u64::from(sb.inodes_per_group);
            for index in 0..sb.inode_table_blocks() {
                let start = (descriptor.inode_table + index) * sb.block_size;
                self.device.read_at(start, &mut block)?;
                let numbers = first + index * per_block..end;
                for (number, raw) in numbers.zip(block.chunks_exact(sb.inode_size as usize)) {
                    let (number, inode) = (number as u32, Inode::new(raw.to_vec()));
                    let is_used = inode.links() > 0 || (number < FIRST_OF_FILES && number != 1);
                    if is_used && visit(InodeNumber(number), &inode)? {
                        return Ok(());
                    }
                }
            }
        }
        Ok(())
    }

    /// The path of an inode, found by looking through all directories, the upper ones first.
    fn path_of(&self, wanted: InodeNumber) -> Result<Option<String>, DiskError> {
        if wanted == InodeNumber::ROOT {
            return Ok(Some("/".to_owned()));
        }
        let mut seen = BTreeSet::from([InodeNumber::ROOT]);
        let mut open = VecDeque::from([(InodeNumber::ROOT, String::new())]);
        let mut left = MAX_ENTRIES;
        while let Some((directory, path)) = open.pop_front() {
            let found = match self.tree().list(directory) {
                Ok(found) => found,
                Err(VolumeError::Disk(error)) => return Err(error),
                Err(_) => continue,
            };
            for entry in found {
                left = left.saturating_sub(1);
                let path = format!("{path}/{}", shown(&entry.name));
                if entry.inode == wanted {
                    return Ok(Some(path));
                }
                if left > 0 && seen.insert(entry.inode) {
                    open.push_back((entry.inode, path));
                }
            }
        }
        Ok(None)
    }
}
