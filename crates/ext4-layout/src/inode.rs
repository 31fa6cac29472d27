//! Inodes and the blocks of files: extents, and the older block maps.

use std::ops::Range;

use pinewrit_disk::bytes::{high, low, put16, put32, u16le, u32le};

use crate::blocks::{ExtError, Source};
use crate::checksum::crc32c;
use crate::fields::node;
pub use crate::time::Timestamp;
use crate::{ReadOnlyCompatible, Superblock};

/// "Extent Tree", `eh_magic`.
pub const EXTENT_MAGIC: u16 = 0xf30a;
/// The kernel's own limit for trees of extents.
pub const MAX_DEPTH: u16 = 5;

/// The number of an inode, counted from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InodeNumber(pub u32);

impl InodeNumber {
    /// The root directory.
    pub const ROOT: Self = Self(2);
    /// Blocks kept for more group descriptors.
    pub const RESIZE: Self = Self(7);
    /// The journal.
    pub const JOURNAL: Self = Self(8);
}

/// The type of a file, from the upper bits of `i_mode`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileKind {
    /// A file with content.
    Regular,
    /// A directory.
    Directory,
    /// A symbolic link.
    Symlink,
    /// A character device.
    CharacterDevice,
    /// A block device.
    BlockDevice,
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
    /// None of these: a damaged or unused inode.
    Unknown,
}

impl FileKind {
    const MODES: [(u16, Self); 7] = [
        (0x1000, Self::Fifo),
        (0x2000, Self::CharacterDevice),
        (0x4000, Self::Directory),
        (0x6000, Self::BlockDevice),
        (0x8000, Self::Regular),
        (0xa000, Self::Symlink),
        (0xc000, Self::Socket),
    ];

    fn of_mode(mode: u16) -> Self {
        let found = Self::MODES.iter().find(|(bits, _)| *bits == mode & 0xf000);
        found.map_or(Self::Unknown, |(_, kind)| *kind)
    }

    /// The bits of `i_mode` for this kind.
    pub fn mode(self) -> u16 {
        let found = Self::MODES.iter().find(|(_, kind)| *kind == self);
        found.map_or(0, |(bits, _)| *bits)
    }

    /// The byte for this kind in directory entries.
    pub fn entry_byte(self) -> u8 {
        match self {
            Self::Unknown => 0,
            Self::Regular => 1,
            Self::Directory => 2,
            Self::CharacterDevice => 3,
            Self::BlockDevice => 4,
            Self::Fifo => 5,
            Self::Socket => 6,
            Self::Symlink => 7,
        }
    }
}

/// A piece of a file: neighbouring blocks of the file in neighbouring blocks of the medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Run {
    /// First block in the file.
    pub logical: u64,
    /// First block on the medium.
    pub start: u64,
    /// Number of blocks.
    pub len: u64,
    /// Reserved but not written: reads as zeros.
    pub is_unwritten: bool,
}

impl Run {
    /// A run with content.
    pub fn written(logical: u64, start: u64, len: u64) -> Self {
        Self {
            logical,
            start,
            len,
            is_unwritten: false,
        }
    }

    /// "Extent Tree", `ext4_extent`, of 12 bytes.
    pub fn parse(entry: &[u8]) -> Self {
        let raw = u16le(entry, 4);
        // A length above 32768 marks an extent as reserved but not yet written.
        let is_unwritten = raw > 0x8000;
        Self {
            logical: u64::from(u32le(entry, 0)),
            start: u64::from(u16le(entry, 6)) << 32 | u64::from(u32le(entry, 8)),
            len: u64::from(if is_unwritten { raw - 0x8000 } else { raw }),
            is_unwritten,
        }
    }

    /// One behind its last block in the file.
    pub fn logical_end(&self) -> u64 {
        self.logical + self.len
    }

    /// Its blocks on the medium.
    pub fn blocks(&self) -> Range<u64> {
        self.start..self.start + self.len
    }
}

/// What a walk through a file's map finds.
pub enum Piece {
    /// A run of the file's data.
    Data(Run),
    /// A block of the map itself.
    Map(u64),
}

/// Whether an inode is large enough for this field of four bytes after the first 128.
pub fn has_extra(raw: &[u8], field: usize) -> bool {
    let first = node::OLD_SIZE;
    raw.len() > first
        && field + 4 <= first + usize::from(u16le(raw, node::EXTRA_SIZE))
        && field + 4 <= raw.len()
}

/// The seed for the checksums of an inode and its structures.
pub fn inode_seed(sb: &Superblock, number: InodeNumber, generation: u32) -> u32 {
    let seed = crc32c(sb.seed, &number.0.to_le_bytes());
    crc32c(seed, &generation.to_le_bytes())
}

/// The most blocks of a file with the older kind of map: 12 in its inode, and three levels.
pub fn most_in_block_map(sb: &Superblock) -> u64 {
    let each = sb.block_size / 4;
    (12 + each + each * each + each * each * each).min(1 << 32)
}

/// "Index Nodes", `i_checksum_lo` and `i_checksum_hi`: the checksum computed for an inode, and
/// whether there is room for its upper half.
pub fn inode_checksum(sb: &Superblock, number: InodeNumber, raw: &[u8]) -> (u32, bool) {
    let has_high = has_extra(raw, node::EXTRA_SIZE);
    let seed = inode_seed(sb, number, u32le(raw, node::GENERATION));
    // The checksum itself counts as zeros.
    let sum = crc32c(seed, &raw[..node::CHECKSUM]);
    let mut sum = crc32c(sum, &[0; 2]);
    let mut rest = node::CHECKSUM + 2;
    if has_high {
        sum = crc32c(sum, &raw[rest..node::CHECKSUM_HIGH]);
        sum = crc32c(sum, &[0; 2]);
        rest = node::CHECKSUM_HIGH + 2;
    }
    (crc32c(sum, &raw[rest..]), has_high)
}

/// Whether an inode matches its checksum, if it has one; unused inodes have none.
pub fn is_intact(sb: &Superblock, number: InodeNumber, raw: &[u8]) -> bool {
    if !sb.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
        return true;
    }
    let (sum, has_high) = inode_checksum(sb, number, raw);
    let fits = u16le(raw, node::CHECKSUM) == sum as u16
        && (!has_high || u16le(raw, node::CHECKSUM_HIGH) == (sum >> 16) as u16);
    fits || raw.iter().all(|byte| *byte == 0)
}

/// An inode, "Index Nodes".
#[derive(Clone, Debug)]
pub struct Inode {
    /// The inode as stored.
    pub raw: Vec<u8>,
}

impl Inode {
    /// `raw` are at least 128 bytes.
    pub fn new(raw: Vec<u8>) -> Self {
        Self { raw }
    }

    /// What it is, by its mode.
    pub fn kind(&self) -> FileKind {
        FileKind::of_mode(self.mode())
    }

    /// Type and permissions.
    pub fn mode(&self) -> u16 {
        u16le(&self.raw, node::MODE)
    }

    /// Bytes of content.
    pub fn size(&self) -> u64 {
        let high = match self.kind() {
            FileKind::Regular | FileKind::Directory => u32le(&self.raw, node::SIZE_HIGH),
            _ => 0,
        };
        u64::from(high) << 32 | u64::from(u32le(&self.raw, node::SIZE))
    }

    /// How many names it has.
    pub fn links(&self) -> u16 {
        u16le(&self.raw, node::LINKS)
    }

    /// Flags, see [`node`].
    pub fn flags(&self) -> u32 {
        u32le(&self.raw, node::FLAGS)
    }

    /// Whether it has one of these flags.
    pub fn has(&self, flag: u32) -> bool {
        self.flags() & flag != 0
    }

    /// A number that its checksums begin with.
    pub fn generation(&self) -> u32 {
        u32le(&self.raw, node::GENERATION)
    }

    /// The owner.
    pub fn uid(&self) -> u32 {
        let high = u32::from(u16le(&self.raw, node::UID_HIGH));
        high << 16 | u32::from(u16le(&self.raw, node::UID))
    }

    /// The group.
    pub fn gid(&self) -> u32 {
        let high = u32::from(u16le(&self.raw, node::GID_HIGH));
        high << 16 | u32::from(u16le(&self.raw, node::GID))
    }

    /// When its content was changed last.
    pub fn modified(&self) -> Timestamp {
        Timestamp::parse(&self.raw, node::MODIFY_TIME, node::MODIFY_TIME_EXTRA)
    }

    /// `i_block`.
    pub fn map(&self) -> &[u8] {
        &self.raw[node::MAP..node::MAP + node::MAP_LEN]
    }

    /// `i_file_acl`: a block of extended attributes; 0 for none.
    pub fn xattr_block(&self) -> u64 {
        let high = u64::from(u16le(&self.raw, node::XATTR_BLOCK_HIGH));
        high << 32 | u64::from(u32le(&self.raw, node::XATTR_BLOCK))
    }

    /// The number of a device, "Device Numbers": the old form, or the one with more bits.
    pub fn device_number(&self) -> Option<(u32, u32)> {
        if !matches!(
            self.kind(),
            FileKind::CharacterDevice | FileKind::BlockDevice
        ) {
            return None;
        }
        Some(match (u32le(self.map(), 0), u32le(self.map(), 4)) {
            (0, new) => (new >> 8 & 0xfff, new & 0xff | new >> 12 & 0xf_ff00),
            (old, _) => (old >> 8 & 0xff, old & 0xff),
        })
    }

    /// `i_blocks`: blocks of the file's data, map and attributes, according to the inode; a
    /// fraction of a block becomes a number that no file has.
    pub fn blocks(&self, sb: &Superblock) -> u64 {
        let high = if sb.read_only.has(ReadOnlyCompatible::HUGE_FILE) {
            u64::from(u16le(&self.raw, node::SECTORS_HIGH))
        } else {
            0
        };
        let count = high << 32 | u64::from(u32le(&self.raw, node::SECTORS));
        let per_block = sb.block_size / 512;
        match self.has(node::FLAG_HUGE) && sb.read_only.has(ReadOnlyCompatible::HUGE_FILE) {
            true => count,
            false if count.is_multiple_of(per_block) => count / per_block,
            false => u64::MAX,
        }
    }

    /// A short link's text is stored in place of the map.
    pub fn is_short_link(&self) -> bool {
        self.kind() == FileKind::Symlink
            && self.size() < 60
            && !self.has(node::FLAG_EXTENTS | node::FLAG_INLINE)
    }

    /// Whether `i_block` is a map.
    pub fn has_map(&self) -> bool {
        let kind = self.kind();
        let can = matches!(
            kind,
            FileKind::Regular | FileKind::Directory | FileKind::Symlink
        );
        // The inode that reserves descriptors may have any mode.
        (can || kind == FileKind::Unknown) && !self.has(node::FLAG_INLINE) && !self.is_short_link()
    }

    /// Calls `visit` with all pieces of the file's map, in the order of the file. Ends early when
    /// `visit` returns `true`.
    pub fn for_each_piece(
        &self,
        source: &dyn Source,
        visit: &mut dyn FnMut(Piece) -> bool,
    ) -> Result<bool, ExtError> {
        if !self.has_map() {
            return Ok(false);
        }
        let mut budget = Budget::of(source);
        if self.has(node::FLAG_EXTENTS) {
            let depth = u16le(self.map(), 6);
            if depth > MAX_DEPTH && u16le(self.map(), 2) > 0 {
                return Err(ExtError::Damaged("a tree of extents"));
            }
            return walk_extents(source, self.map(), depth, &mut budget, visit);
        }
        let mut walk = BlockMap {
            source,
            visit,
            logical: 0,
            open: None,
            budget,
        };
        for slot in 0..15usize {
            let block = u64::from(u32le(self.map(), slot * 4));
            let level = slot.saturating_sub(11) as u32;
            if walk.visit_pointer(block, level)? {
                return Ok(true);
            }
        }
        Ok(walk.close())
    }

    /// All runs of a file in order, checked: inside the file system, and ascending.
    pub fn runs(&self, source: &dyn Source) -> Result<Vec<Run>, ExtError> {
        let sb = source.superblock();
        let mut runs: Vec<Run> = Vec::new();
        let mut is_wrong = false;
        self.for_each_piece(source, &mut |piece| {
            let Piece::Data(run) = piece else {
                return false;
            };
            let before = runs.last().map_or(0, Run::logical_end);
            let is_inside = run.start >= sb.first_data_block.max(1)
                && run
                    .start
                    .checked_add(run.len)
                    .is_some_and(|end| end <= sb.blocks);
            is_wrong = run.logical < before || !is_inside || run.len == 0;
            if !is_wrong {
                runs.push(run);
            }
            is_wrong
        })?;
        if is_wrong {
            Err(ExtError::Damaged("the map of a file"))
        } else {
            Ok(runs)
        }
    }
}

/// The most blocks in the map of a file: no more than exist. Otherwise a map that leads to the same
/// blocks again and again would not end.
struct Budget {
    map: u64,
    data: u64,
}

impl Budget {
    /// The most blocks of a map to read, 4 GiB with the usual block size.
    const MOST: u64 = 1 << 20;

    fn of(source: &dyn Source) -> Self {
        let blocks = source.superblock().blocks;
        Self {
            map: blocks.min(Self::MOST),
            data: blocks,
        }
    }

    fn take(left: &mut u64, count: u64) -> Result<(), ExtError> {
        let rest = left.checked_sub(count);
        *left = rest.ok_or(ExtError::Damaged("the map of a file"))?;
        Ok(())
    }
}

/// "Extent Tree": a node of 12 byte entries after a head of 12 bytes. `depth` is that of the inode,
/// less one for each level; what nodes below say about it is not needed.
fn walk_extents(
    source: &dyn Source,
    tree: &[u8],
    depth: u16,
    budget: &mut Budget,
    visit: &mut dyn FnMut(Piece) -> bool,
) -> Result<bool, ExtError> {
    let entries = u16le(tree, 2);
    if u16le(tree, 0) != EXTENT_MAGIC || usize::from(entries) > tree.len() / 12 - 1 {
        return Err(ExtError::Damaged("a tree of extents"));
    }
    for entry in tree[12..].chunks_exact(12).take(usize::from(entries)) {
        if depth == 0 {
            let run = Run::parse(entry);
            Budget::take(&mut budget.data, run.len)?;
            if visit(Piece::Data(run)) {
                return Ok(true);
            }
            continue;
        }
        let block = u64::from(u16le(entry, 8)) << 32 | u64::from(u32le(entry, 4));
        Budget::take(&mut budget.map, 1)?;
        if visit(Piece::Map(block)) {
            return Ok(true);
        }
        let child = source.read_block(block)?;
        // Each level is lower, so a loop cannot continue.
        if walk_extents(source, &child, depth - 1, budget, visit)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// "Direct/Indirect Block Addressing".
struct BlockMap<'v> {
    source: &'v dyn Source,
    visit: &'v mut dyn FnMut(Piece) -> bool,
    logical: u64,
    /// A run that may continue.
    open: Option<Run>,
    budget: Budget,
}

impl BlockMap<'_> {
    fn visit_pointer(&mut self, block: u64, level: u32) -> Result<bool, ExtError> {
        let per_block = self.source.superblock().block_size / 4;
        if block == 0 {
            self.logical += per_block.pow(level);
            return Ok(false);
        }
        if level == 0 {
            Budget::take(&mut self.budget.data, 1)?;
            return Ok(self.take(block));
        }
        Budget::take(&mut self.budget.map, 1)?;
        if (self.visit)(Piece::Map(block)) {
            return Ok(true);
        }
        let pointers = self.source.read_block(block)?;
        for pointer in pointers.chunks_exact(4) {
            if self.visit_pointer(u64::from(u32le(pointer, 0)), level - 1)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn take(&mut self, block: u64) -> bool {
        let logical = self.logical;
        self.logical += 1;
        if let Some(run) = &mut self.open
            && run.logical_end() == logical
            && run.blocks().end == block
        {
            run.len += 1;
            return false;
        }
        let is_done = self.close();
        self.open = Some(Run::written(logical, block, 1));
        is_done
    }

    fn close(&mut self) -> bool {
        let visit = &mut self.visit;
        self.open.take().is_some_and(|run| visit(Piece::Data(run)))
    }
}

impl Inode {
    /// Sets or clears a flag.
    pub fn set_flag(&mut self, flag: u32, is_on: bool) {
        let flags = if is_on {
            self.flags() | flag
        } else {
            self.flags() & !flag
        };
        put32(&mut self.raw, node::FLAGS, flags);
    }

    /// Sets the bytes of content.
    pub fn set_size(&mut self, size: u64) {
        put32(&mut self.raw, node::SIZE, low(size));
        put32(&mut self.raw, node::SIZE_HIGH, high(size));
    }

    /// Sets how many names it has.
    pub fn set_links(&mut self, links: u16) {
        put16(&mut self.raw, node::LINKS, links);
    }

    /// Sets the block of its extended attributes; 0 for none.
    pub fn set_xattr_block(&mut self, block: u64) {
        put32(&mut self.raw, node::XATTR_BLOCK, low(block));
        put16(&mut self.raw, node::XATTR_BLOCK_HIGH, high(block) as u16);
    }

    /// Sets owner and group.
    pub fn set_owner(&mut self, uid: u32, gid: u32) {
        put16(&mut self.raw, node::UID, uid as u16);
        put16(&mut self.raw, node::UID_HIGH, (uid >> 16) as u16);
        put16(&mut self.raw, node::GID, gid as u16);
        put16(&mut self.raw, node::GID_HIGH, (gid >> 16) as u16);
    }

    /// Sets its type and permissions.
    pub fn set_mode(&mut self, kind: FileKind, permissions: u16) {
        put16(&mut self.raw, node::MODE, kind.mode() | permissions & 0xfff);
    }

    /// Sets a time by its field and, where the inode has room, by the field of its nanoseconds.
    pub fn set_time(&mut self, field: usize, extra: usize, time: Timestamp) {
        let (seconds, more) = time.fields();
        put32(&mut self.raw, field, seconds);
        if has_extra(&self.raw, extra) {
            put32(&mut self.raw, extra, more);
        }
    }

    /// Sets when its content was changed last.
    pub fn set_modified(&mut self, time: Timestamp) {
        self.set_time(node::MODIFY_TIME, node::MODIFY_TIME_EXTRA, time);
    }

    /// Sets when it was changed last itself.
    pub fn set_changed(&mut self, time: Timestamp) {
        self.set_time(node::CHANGE_TIME, node::CHANGE_TIME_EXTRA, time);
    }
}
