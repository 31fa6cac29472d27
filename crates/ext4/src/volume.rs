//! A file system on a device: its groups, its inodes, and the owners of blocks.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::ops::Range;

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Sought};
use pinewrit_ext4_layout::blocks::{ExtError, Source};
use pinewrit_ext4_layout::inode::{Inode, InodeNumber, Piece};
use pinewrit_ext4_layout::{GroupDescriptor, Superblock};

use crate::tree::{Tree, shown};

/// Who owns a block.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Owner {
    /// Structures of the file system itself, in words.
    Metadata(&'static str),
    /// A file with its path, or what is known about it.
    File(String),
    /// Nothing owns it.
    Free,
}

/// An open file system.
pub struct Volume<D> {
    device: D,
    superblock: Superblock,
    groups: Vec<Option<GroupDescriptor>>,
}

pub(crate) const FIRST_OF_FILES: u32 = 11;
/// The most directory entries to search for a path; more than any board's system has.
const MAX_ENTRIES: usize = 4_000_000;

impl<D: BlockDevice> Source for Volume<D> {
    fn superblock(&self) -> &Superblock {
        &self.superblock
    }

    fn read_bytes(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError> {
        Ok(self.device.read_at(offset, buffer)?)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ExtError> {
        Ok(self.device.read_once(offset, buffer)?)
    }

    fn inode_table(&self, group: u32) -> Option<u64> {
        let group = (*self.groups.get(group as usize)?)?;
        Some(group.inode_table)
    }
}

/// The superblock of the file system at the start of a device, which has room for it.
pub(crate) fn read_superblock(device: &dyn BlockDevice) -> Result<Superblock, ExtError> {
    let mut raw = [0; Superblock::SIZE];
    device.read_at(Superblock::OFFSET, &mut raw)?;
    let superblock = Superblock::parse(&raw)?;
    superblock.check_room(device.size())?;
    Ok(superblock)
}

impl<D: BlockDevice> Volume<D> {
    /// Opens the file system at the start of a device.
    ///
    /// # Errors
    /// [`ExtError`].
    pub fn open(device: D) -> Result<Self, ExtError> {
        let superblock = read_superblock(&device)?;
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

    fn read_groups(&self) -> Result<Vec<Option<GroupDescriptor>>, ExtError> {
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

    /// The owner of the block at this offset of the file system.
    ///
    /// # Errors
    /// The device failed. Damaged structures are skipped.
    pub fn owner_at(&self, offset: u64) -> Result<Owner, DiskError> {
        let mut sought = Sought::new(vec![ByteRange {
            start: offset,
            end: offset.saturating_add(1),
        }]);
        let owners = self.owners(&mut sought)?;
        let first = owners.into_iter().map(|(_, owner)| owner).next();
        Ok(first.unwrap_or(Owner::Free))
    }

    /// Who owns the wanted places: each owner once, with the first of these bytes.
    ///
    /// # Errors
    /// The device failed. Damaged structures are skipped.
    pub fn owners(&self, sought: &mut Sought) -> Result<Vec<(u64, Owner)>, DiskError> {
        let mut found: Vec<(u64, Owner)> = Vec::new();
        for (blocks, what) in self.metadata() {
            if let Some(first) = self.bytes_of(blocks).and_then(|bytes| sought.take(bytes))
                && !found
                    .iter()
                    .any(|(_, known)| *known == Owner::Metadata(what))
            {
                found.push((first, Owner::Metadata(what)));
            }
        }
        let inodes = self.inodes_with(sought)?;
        let paths = self.paths_of(inodes.keys().copied().collect())?;
        for (inode, first) in inodes {
            let owner = match inode {
                InodeNumber::JOURNAL => Owner::Metadata("the journal"),
                InodeNumber::RESIZE => Owner::Metadata("room for more group descriptors"),
                inode => Owner::File(match paths.get(&inode) {
                    Some(path) => path.clone(),
                    None => format!("the file with inode {}", inode.0),
                }),
            };
            found.push((first, owner));
        }
        found.sort_by_key(|(first, _)| *first);
        Ok(found)
    }

    fn bytes_of(&self, blocks: Range<u64>) -> Option<ByteRange> {
        let size = self.superblock.block_size;
        ByteRange::new(
            blocks.start.checked_mul(size)?,
            blocks.end.checked_mul(size)?,
        )
    }

    /// The places of structures that belong to no inode.
    fn metadata(&self) -> impl Iterator<Item = (Range<u64>, &'static str)> {
        let sb = &self.superblock;
        let names = ["the block bitmaps", "the inode bitmaps", "the inode tables"];
        let base = (0..sb.groups()).map(|group| {
            let blocks = sb.base_blocks(group);
            (blocks, "the superblock and group descriptors")
        });
        let groups = self.groups.iter().flatten();
        let own = groups.flat_map(move |group| group.metadata(sb).into_iter().zip(names));
        [(0..sb.first_data_block, "the boot block")]
            .into_iter()
            .chain(base)
            .chain(own)
    }

    /// The inodes whose data or maps are wanted, and the first wanted byte of each.
    fn inodes_with(&self, sought: &mut Sought) -> Result<BTreeMap<InodeNumber, u64>, DiskError> {
        let mut found: BTreeMap<InodeNumber, u64> = BTreeMap::new();
        self.for_each_inode(&mut |number, inode| {
            let mut first: Option<u64> = None;
            let mut take = |blocks: Range<u64>| {
                let hit = self.bytes_of(blocks).and_then(|bytes| sought.take(bytes));
                first = first.into_iter().chain(hit).min();
            };
            let attributes = inode.xattr_block();
            if attributes != 0 {
                take(attributes..attributes.saturating_add(1));
            }
            let walked = inode.for_each_piece(self, &mut |piece| {
                take(match piece {
                    Piece::Data(run) => run.blocks(),
                    Piece::Map(block) => block..block.saturating_add(1),
                });
                false
            });
            if let Err(ExtError::Disk(error)) = walked {
                return Err(error);
            }
            // For a damaged file, what could be read.
            if let Some(first) = first {
                found.insert(number, first);
            }
            Ok(false)
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

    /// A path for each of these inodes, found by searching all directories, upper ones first.
    fn paths_of(
        &self,
        mut wanted: BTreeSet<InodeNumber>,
    ) -> Result<BTreeMap<InodeNumber, String>, DiskError> {
        let mut paths = BTreeMap::new();
        if wanted.remove(&InodeNumber::ROOT) {
            paths.insert(InodeNumber::ROOT, "/".to_owned());
        }
        wanted.retain(|inode| ![InodeNumber::JOURNAL, InodeNumber::RESIZE].contains(inode));
        let mut seen = BTreeSet::from([InodeNumber::ROOT]);
        let mut open = VecDeque::from([(InodeNumber::ROOT, String::new())]);
        let mut left = MAX_ENTRIES;
        while !wanted.is_empty()
            && let Some((directory, path)) = open.pop_front()
        {
            let found = match self.tree().list(directory) {
                Ok(found) => found,
                Err(ExtError::Disk(error)) => return Err(error),
                Err(_) => continue,
            };
            for entry in found {
                left = left.saturating_sub(1);
                let path = format!("{path}/{}", shown(&entry.name));
                if wanted.remove(&entry.inode) {
                    paths.insert(entry.inode, path.clone());
                }
                if left > 0 && seen.insert(entry.inode) {
                    open.push_back((entry.inode, path));
                }
            }
        }
        Ok(paths)
    }
}
