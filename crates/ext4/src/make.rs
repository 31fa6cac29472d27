//! Creating a file system.

use pinewrit_disk::bytes::{high, low, put16, put32};
use pinewrit_disk::{BlockDevice, ByteRange};
use pinewrit_ext4_journal::Head;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::{bg, node, sb};
use pinewrit_ext4_layout::inode::{FileKind, InodeNumber, Run};
use pinewrit_ext4_layout::{Compatible, Incompatible, ReadOnlyCompatible, Superblock, Timestamp};

use crate::edit::{Attributes, EditError, Editor, SizeError, layout};

/// What a file system should be like.
#[derive(Clone, Debug)]
pub struct MakeOptions {
    /// Its label, up to [`MakeOptions::MAX_LABEL`] bytes.
    pub label: String,
    /// Its UUID.
    pub uuid: [u8; 16],
    /// The seed for the order of names in large folders; random, or fixed for reproducible results.
    pub hash_seed: [u8; 16],
    /// Bytes in a block, 1024, 2048 or 4096; by its size if `None`.
    pub block_size: Option<u32>,
    /// How many files it can have at least; by its size if `None`.
    pub inodes: Option<u32>,
    /// Whether all metadata has checksums, which kernels support since 3.18.
    pub has_checksums: bool,
    /// Whether there is a journal; the smallest file systems never have one.
    pub has_journal: bool,
    /// Its time of creation.
    pub now: Timestamp,
}

impl MakeOptions {
    /// The most bytes in a label.
    pub const MAX_LABEL: usize = 16;
}

/// From this size in bytes on, blocks have 4096 bytes.
const LARGE_BLOCKS_FROM: u64 = 64 << 20;
/// Bytes per inode, in small file systems and in larger ones.
const BYTES_PER_INODE: [u64; 2] = [8192, 16384];
const MANY_BYTES: u64 = 512 << 20;
const INODE_SIZE: u64 = 256;
const FIRST_FREE_INODE: u32 = 11;
const LEAST_INODES: u64 = 16;
/// Percentage of blocks that only root may use.
const RESERVED_PERCENT: u64 = 5;
/// Room is reserved to grow by this factor, up to [`MOST_RESERVE`] blocks of descriptors.
const GROWTH: u64 = 1024;
const MOST_RESERVE: u64 = 256;
/// A file system with fewer blocks gets no journal.
const LEAST_WITH_JOURNAL: u64 = 2 * 1024;
/// Bytes of fields after the first 128 bytes of inodes.
const EXTRA_SIZE: u16 = 32;

/// Creates a file system that fills a device, with an empty root folder and `lost+found`. Before
/// [`Editor::commit`], only zeros where the journal will be reach the device.
///
/// # Errors
/// [`EditError::Size`], or the device's own.
pub fn make<D: BlockDevice>(device: D, options: &MakeOptions) -> Result<Editor<D>, EditError> {
    let size = device.size();
    let raw = superblock(size, options)?;
    let parsed = Superblock::parse(&raw)?;
    let mut editor = Editor::with_superblock(device, parsed.clone(), options.now);
    editor.put_first_superblock(&raw);
    editor.add_groups(0..parsed.groups())?;
    editor.take_reserved_inodes()?;
    editor.put_root()?;
    let attributes = Attributes::root(0o700, options.now);
    editor.make_folder(b"/lost+found", &attributes)?;
    editor.put_reserve()?;
    if parsed.compatible.has(Compatible::HAS_JOURNAL) {
        editor.put_journal()?;
    }
    editor.put_copies()?;
    Ok(editor)
}

/// Sizes that depend on each other.
struct Geometry {
    block: u64,
    blocks: u64,
    groups: u64,
    inodes_per_group: u64,
    is_wide: bool,
}

impl Geometry {
    fn of(size: u64, options: &MakeOptions) -> Result<Self, EditError> {
        let block = match options.block_size {
            Some(bytes) => u64::from(bytes),
            None if size < LARGE_BLOCKS_FROM => 1024,
            None => 4096,
        };
        let per_group = block * 8;
        let least = 64 * block;
        if size < least {
            return Err(SizeError::TooSmall { size, least }.into());
        }
        let blocks = size / block;
        let first = u64::from(block == 1024);
        let groups = (blocks - first).div_ceil(per_group);
        let each = BYTES_PER_INODE[usize::from(size >= MANY_BYTES)];
        let wanted = options.inodes.map_or(size / each, u64::from);
        let in_block = block / INODE_SIZE;
        let most = groups * per_group;
        if let Some(wanted) = options
            .inodes
            .map(u64::from)
            .filter(|wanted| *wanted > most)
        {
            return Err(SizeError::TooManyInodes { wanted, most }.into());
        }
        let inodes_per_group = wanted
            .div_ceil(groups)
            // All of the system's own inodes fit in the first group.
            .max(LEAST_INODES)
            .next_multiple_of(in_block.max(8))
            .min(per_group);
        let fits = groups * inodes_per_group <= u64::from(u32::MAX) && groups < 1 << 20;
        if !fits {
            return Err(SizeError::TooLarge { size }.into());
        }
        Ok(Self {
            block,
            blocks,
            groups,
            inodes_per_group,
            is_wide: blocks > u64::from(u32::MAX),
        })
    }

    fn descriptor_size(&self) -> u64 {
        if self.is_wide { 64 } else { 32 }
    }

    /// Blocks to reserve for more descriptors.
    fn reserve(&self) -> u64 {
        let per_block = self.block / self.descriptor_size();
        let tables = self.groups.div_ceil(per_block);
        let most = (self.groups * GROWTH).min((1 << 32) / (self.block * 8));
        let later = most.div_ceil(per_block).saturating_sub(tables);
        later.min(MOST_RESERVE).min(self.block / 4)
    }
}

/// The first superblock, with nothing free and no inodes in use.
fn superblock(size: u64, options: &MakeOptions) -> Result<[u8; Superblock::SIZE], EditError> {
    let mut geometry = Geometry::of(size, options)?;
    loop {
        let raw = superblock_of(&geometry, options);
        let parsed = Superblock::parse(&raw)?;
        match layout::useful_blocks(&parsed) {
            None => {
                let least = 2 * parsed.size();
                return Err(SizeError::TooSmall { size, least }.into());
            }
            Some(blocks) if blocks < geometry.blocks => {
                geometry.blocks = blocks;
                geometry.groups -= 1;
            }
            Some(_) => return Ok(raw),
        }
    }
}

fn superblock_of(geometry: &Geometry, options: &MakeOptions) -> [u8; Superblock::SIZE] {
    let mut raw = [0; Superblock::SIZE];
    let per_group = geometry.block * 8;
    let log = (geometry.block / 1024).trailing_zeros();
    let inodes = (geometry.groups * geometry.inodes_per_group) as u32;
    let reserved = geometry.blocks / 100 * RESERVED_PERCENT;
    put32(&mut raw, sb::INODES, inodes);
    put32(&mut raw, sb::BLOCKS, low(geometry.blocks));
    put32(&mut raw, sb::BLOCKS_HIGH, high(geometry.blocks));
    put32(&mut raw, sb::RESERVED_BLOCKS, low(reserved));
    put32(&mut raw, sb::RESERVED_BLOCKS_HIGH, high(reserved));
    let first = u32::from(geometry.block == 1024);
    put32(&mut raw, sb::FIRST_DATA_BLOCK, first);
    put32(&mut raw, sb::LOG_BLOCK_SIZE, log);
    put32(&mut raw, sb::LOG_CLUSTER_SIZE, log);
    put32(&mut raw, sb::BLOCKS_PER_GROUP, per_group as u32);
    put32(&mut raw, sb::CLUSTERS_PER_GROUP, per_group as u32);
    let per_group = geometry.inodes_per_group as u32;
    put32(&mut raw, sb::INODES_PER_GROUP, per_group);
    // No check after a number of mounts; clean; continue after errors.
    put16(&mut raw, sb::MAX_MOUNTS, 0xffff);
    put16(&mut raw, sb::MAGIC, pinewrit_ext4_layout::superblock::MAGIC);
    put16(&mut raw, sb::STATE, 1);
    put16(&mut raw, sb::ON_ERRORS, 1);
    let now = options.now.seconds as u32;
    put32(&mut raw, sb::WRITE_TIME, now);
    put32(&mut raw, sb::LAST_CHECK, now);
    put32(&mut raw, sb::MADE_TIME, now);
    put32(&mut raw, sb::REVISION, 1);
    put32(&mut raw, sb::FIRST_INODE, FIRST_FREE_INODE);
    put16(&mut raw, sb::INODE_SIZE, INODE_SIZE as u16);
    put_features(&mut raw, geometry, options);
    raw[sb::UUID..sb::UUID + 16].copy_from_slice(&options.uuid);
    let label = options.label.as_bytes();
    let label = &label[..label.len().min(MakeOptions::MAX_LABEL)];
    raw[sb::LABEL..sb::LABEL + label.len()].copy_from_slice(label);
    let reserve = geometry.reserve() as u16;
    put16(&mut raw, sb::RESERVED_DESCRIPTORS, reserve);
    raw[sb::HASH_SEED..sb::HASH_SEED + 16].copy_from_slice(&options.hash_seed);
    raw[sb::HASH_VERSION] = 1;
    if geometry.is_wide {
        put16(
            &mut raw,
            sb::DESCRIPTOR_SIZE,
            geometry.descriptor_size() as u16,
        );
    }
    // `user_xattr` and `acl`, as everywhere.
    put32(&mut raw, sb::MOUNT_OPTIONS, 0xc);
    put16(&mut raw, sb::MIN_EXTRA_SIZE, EXTRA_SIZE);
    put16(&mut raw, sb::WANT_EXTRA_SIZE, EXTRA_SIZE);
    // Names are hashed with signed bytes.
    put32(&mut raw, sb::FLAGS, 1);
    raw[sb::LOG_GROUPS_PER_FLEX] = layout::LOG_FLEX;
    if options.has_checksums {
        raw[sb::CHECKSUM_KIND] = 1;
        let sum = crc32c(!0, &raw[..sb::CHECKSUM]);
        put32(&mut raw, sb::CHECKSUM, sum);
    }
    raw
}

/// Features that boot loaders and kernels since 4.0 support.
fn put_features(raw: &mut [u8], geometry: &Geometry, options: &MakeOptions) {
    let extended_attributes = 0x8;
    let mut compatible = Compatible::DIR_INDEX.bits() | extended_attributes;
    if geometry.reserve() > 0 {
        compatible |= Compatible::RESIZE_INODE.bits();
    }
    if options.has_journal && geometry.blocks >= LEAST_WITH_JOURNAL {
        compatible |= Compatible::HAS_JOURNAL.bits();
    }
    let mut incompatible =
        Incompatible::FILETYPE.bits() | Incompatible::EXTENTS.bits() | Incompatible::FLEX_BG.bits();
    if geometry.is_wide {
        incompatible |= Incompatible::BIT64.bits();
    }
    let sums = if options.has_checksums {
        ReadOnlyCompatible::METADATA_CSUM
    } else {
        ReadOnlyCompatible::GDT_CSUM
    };
    let read_only = ReadOnlyCompatible::SPARSE_SUPER.bits()
        | ReadOnlyCompatible::LARGE_FILE.bits()
        | ReadOnlyCompatible::HUGE_FILE.bits()
        | ReadOnlyCompatible::DIR_NLINK.bits()
        | ReadOnlyCompatible::EXTRA_ISIZE.bits()
        | sums.bits();
    put32(raw, sb::COMPATIBLE, compatible);
    put32(raw, sb::INCOMPATIBLE, incompatible);
    put32(raw, sb::READ_ONLY, read_only);
}

impl<D: BlockDevice> Editor<D> {
    /// Inodes 1 to 10 are never free.
    fn take_reserved_inodes(&mut self) -> Result<(), EditError> {
        let place = self.inode_bitmap(0)?;
        self.use_bits(place, 0..u64::from(FIRST_FREE_INODE) - 1)?;
        self.use_table_up_to(0, FIRST_FREE_INODE - 2)?;
        let taken = i64::from(FIRST_FREE_INODE) - 1;
        self.add_group_count(0, bg::FREE_INODES, -taken)?;
        self.add_sb(sb::FREE_INODES, -taken)?;
        Ok(())
    }

    fn put_root(&mut self) -> Result<(), EditError> {
        let root = InodeNumber::ROOT;
        let attributes = Attributes::root(0o755, self.now());
        let mut inode = self.new_inode(root, FileKind::Directory, &attributes)?;
        let start = self.allocate_block(self.goal_in(0))?;
        let run = Run::written(0, start, 1);
        self.put_map(root, &mut inode, &[run])?;
        inode.set_size(self.superblock().block_size);
        inode.set_links(2);
        let block = self.first_folder_block(root, root);
        self.put_folder_block(root, &inode, start, block);
        self.add_group_count(0, bg::DIRECTORIES, 1)?;
        self.put_inode(root, &inode)
    }

    /// An empty journal, "Journal (jbd2)": a superblock that says there is nothing to replay.
    fn put_journal(&mut self) -> Result<(), EditError> {
        let number = InodeNumber::JOURNAL;
        let (block, blocks) = (self.superblock().block_size, self.superblock().blocks);
        let len = journal_blocks(blocks);
        let places = self.allocate(self.goal_in(0), len)?;
        let mut runs = Vec::new();
        let mut logical = 0;
        for place in places {
            self.zero_blocks(ByteRange {
                start: place.start * block,
                end: place.end * block,
            })?;
            let len = place.end - place.start;
            runs.push(Run::written(logical, place.start, len));
            logical += len;
        }
        let attributes = Attributes::root(0o600, self.now());
        let mut inode = self.new_inode(number, FileKind::Regular, &attributes)?;
        self.put_map(number, &mut inode, &runs)?;
        inode.set_size(len * block);
        self.put_inode(number, &inode)?;
        if let Some(first) = runs.first() {
            let head = Head::empty(block as usize, len as u32);
            self.put_block(first.start, head.to_block());
        }
        let copy = inode.map().to_vec();
        let raw = self.edit_sb()?;
        put32(raw, sb::JOURNAL_INODE, number.0);
        // "s_jnl_blocks": the map and the size once more.
        raw[sb::JOURNAL_BACKUP_KIND] = 1;
        raw[sb::JOURNAL_BACKUP..sb::JOURNAL_BACKUP + node::MAP_LEN].copy_from_slice(&copy);
        put32(raw, sb::JOURNAL_BACKUP + 60, high(len * block));
        put32(raw, sb::JOURNAL_BACKUP + 64, low(len * block));
        Ok(())
    }
}

/// Blocks in the journal: the kernel requires at least 1024.
fn journal_blocks(blocks: u64) -> u64 {
    match blocks {
        0..32_768 => 1024,
        32_768..262_144 => 4096,
        262_144..1_048_576 => 8192,
        _ => 16_384,
    }
}
