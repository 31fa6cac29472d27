//! A file system on a device: its groups, its inodes, and whose a block is.

use std::collections::{BTreeSet, VecDeque};

use pinewrit_disk::{BlockDevice, DiskError};

use crate::blocks::{Blocks, VolumeError};
use crate::directory::entries;
use crate::inode::{FileKind, Inode};
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
    blocks: Blocks<D>,
    groups: Vec<Option<GroupDescriptor>>,
}

const ROOT: u32 = 2;
const RESIZE: u32 = 7;
const JOURNAL: u32 = 8;
const FIRST_OF_FILES: u32 = 11;
/// Directory entries that are looked at for a path; more than any board's system has.
const MAX_ENTRIES: usize = 4_000_000;
/// Deeper paths are not made by anybody.
const MAX_BLOCKS_OF_DIRECTORY: u64 = 1 << 18;

impl<D: BlockDevice> Volume<D> {
    /// Opens the file system at the start of a device.
    ///
    /// # Errors
    /// [`VolumeError`].
    pub fn open(device: D) -> Result<Self, VolumeError> {
        let mut raw = [0; Superblock::SIZE];
        device.read_at(Superblock::OFFSET, &mut raw)?;
        let superblock = Superblock::parse(&raw)?;
        let mut volume = Self {
            blocks: Blocks { device, superblock },
            groups: Vec::new(),
        };
        volume.groups = volume.read_groups()?;
        Ok(volume)
    }

    /// The superblock.
    pub fn superblock(&self) -> &Superblock {
        &self.blocks.superblock
    }

    fn read_groups(&self) -> Result<Vec<Option<GroupDescriptor>>, VolumeError> {
        let sb = &self.blocks.superblock;
        let mut groups = Vec::new();
        for block in sb.descriptor_locations() {
            let raw = self.blocks.read(block)?;
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
        let block = offset / self.blocks.superblock.block_size;
        if let Some(what) = self.metadata_at(block) {
            return Ok(Owner::Metadata(what));
        }
        let Some(inode) = self.inode_with(block)? else {
            return Ok(Owner::Free);
        };
        Ok(match inode {
            JOURNAL => Owner::Metadata("the journal"),
            RESIZE => Owner::Metadata("room for more group descriptors"),
            inode => match self.path_of(inode)? {
                Some(path) => Owner::File(path),
                None => Owner::File(format!("the file with inode {inode}")),
            },
        })
    }

    fn metadata_at(&self, block: u64) -> Option<&'static str> {
        let sb = &self.blocks.superblock;
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
    fn inode_with(&self, block: u64) -> Result<Option<u32>, DiskError> {
        let mut found = None;
        self.for_each_inode(&mut |number, inode| {
            let hit = inode.for_each_run(&self.blocks, &mut |_, run| run.contains(&block));
            match hit {
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
        visit: &mut dyn FnMut(u32, &Inode) -> Result<bool, DiskError>,
    ) -> Result<(), DiskError> {
        let sb = &self.blocks.superblock;
        let table_bytes = (u64::from(sb.inodes_per_group) * sb.inode_size) as usize;
        for (group, descriptor) in self.groups.iter().enumerate() {
            let Some(descriptor) = descriptor.filter(|found| !found.is_inode_table_unwritten)
            else {
                continue;
            };
            let mut table = vec![0; table_bytes];
            let start = descriptor.inode_table * sb.block_size;
            self.blocks.device.read_at(start, &mut table)?;
            let first = group as u32 * sb.inodes_per_group + 1;
            let raw = table.chunks_exact(sb.inode_size as usize);
            for (number, raw) in (first..).zip(raw) {
                let inode = Inode::parse(raw);
                let is_used = inode.links > 0 || (number < FIRST_OF_FILES && number != 1);
                if is_used && visit(number, &inode)? {
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    fn inode(&self, number: u32) -> Result<Inode, VolumeError> {
        let sb = &self.blocks.superblock;
        let index = number
            .checked_sub(1)
            .ok_or(VolumeError::Damaged("an inode number"))?;
        let group = self.groups.get((index / sb.inodes_per_group) as usize);
        let Some(Some(group)) = group else {
            return Err(VolumeError::Damaged("an inode number"));
        };
        let within = u64::from(index % sb.inodes_per_group) * sb.inode_size;
        let mut raw = [0; 128];
        let at = group.inode_table * sb.block_size + within;
        self.blocks.device.read_at(at, &mut raw)?;
        Ok(Inode::parse(&raw))
    }

    /// The path of an inode, found by looking through all directories, the upper ones first.
    fn path_of(&self, wanted: u32) -> Result<Option<String>, DiskError> {
        if wanted == ROOT {
            return Ok(Some("/".to_owned()));
        }
        let mut seen = BTreeSet::from([ROOT]);
        let mut open = VecDeque::from([(ROOT, String::new())]);
        let mut left = MAX_ENTRIES;
        while let Some((directory, path)) = open.pop_front() {
            let found = match self.list(directory) {
                Ok(found) => found,
                Err(VolumeError::Disk(error)) => return Err(error),
                Err(_) => continue,
            };
            for entry in found {
                left = left.saturating_sub(1);
                let name: String = String::from_utf8_lossy(&entry.name)
                    .chars()
                    .map(|c| if c.is_control() { '\u{fffd}' } else { c })
                    .collect();
                let path = format!("{path}/{name}");
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

    /// What is in a directory; nothing for what is none.
    fn list(&self, number: u32) -> Result<Vec<crate::directory::Entry>, VolumeError> {
        let inode = self.inode(number)?;
        if inode.kind != FileKind::Directory {
            return Ok(Vec::new());
        }
        if let Some(data) = inode.inline_data() {
            // The number of the folder above comes first.
            return Ok(entries(&data[4..]));
        }
        let mut blocks = Vec::new();
        inode.for_each_run(&self.blocks, &mut |logical, run| {
            if logical.is_some() && run.end - run.start <= MAX_BLOCKS_OF_DIRECTORY {
                blocks.extend(run);
            }
            blocks.len() as u64 > MAX_BLOCKS_OF_DIRECTORY
        })?;
        let mut found = Vec::new();
        for block in blocks {
            found.extend(entries(&self.blocks.read(block)?));
        }
        Ok(found)
    }
}
