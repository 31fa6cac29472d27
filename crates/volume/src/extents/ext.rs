//! What is in use in an ext2, ext3 or ext4 file system, from its block bitmaps.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use pinewrit_disk::{ByteRange, runs_of_ones};
use pinewrit_ext4::{GroupDescriptor, Incompatible, ReadOnlyCompatible, Superblock};

use super::{Doubt, Request, Token};

/// Features whose effect on the used ranges is known.
const INCOMPATIBLE: &[Incompatible] = &[
    Incompatible::FILETYPE,
    Incompatible::META_BG,
    Incompatible::EXTENTS,
    Incompatible::BIT64,
    Incompatible::MMP,
    Incompatible::FLEX_BG,
    Incompatible::EA_INODE,
    Incompatible::CSUM_SEED,
    Incompatible::LARGEDIR,
    Incompatible::INLINE_DATA,
    Incompatible::ENCRYPT,
    Incompatible::CASEFOLD,
];
const READ_ONLY: &[ReadOnlyCompatible] = &[
    ReadOnlyCompatible::SPARSE_SUPER,
    ReadOnlyCompatible::LARGE_FILE,
    ReadOnlyCompatible::HUGE_FILE,
    ReadOnlyCompatible::GDT_CSUM,
    ReadOnlyCompatible::DIR_NLINK,
    ReadOnlyCompatible::EXTRA_ISIZE,
    ReadOnlyCompatible::QUOTA,
    ReadOnlyCompatible::BIGALLOC,
    ReadOnlyCompatible::METADATA_CSUM,
    ReadOnlyCompatible::READONLY,
    ReadOnlyCompatible::PROJECT,
    ReadOnlyCompatible::VERITY,
];
/// `s_state`: unmounted cleanly, and no errors found.
const STATE_CLEAN: u16 = 1;
/// The most bytes of bitmaps kept at once: those of a file system of 1 TB with all bitmaps at the
/// front.
const MAX_BITMAPS: u64 = 40 << 20;

/// What is known about a group.
enum Group {
    /// Nothing: every byte.
    Unknown,
    /// Only metadata is in it.
    Unwritten,
    /// Its block bitmap.
    Bitmap(Vec<u8>),
}

pub(super) struct ExtScan {
    sb: Superblock,
    descriptors: Vec<Option<GroupDescriptor>>,
    groups: Vec<Group>,
    /// First block and end of metadata, wherever it lies.
    metadata: BTreeMap<u64, u64>,
    /// First block and end of inode tables that have never been written, and need not be.
    free_tables: BTreeMap<u64, u64>,
    bitmap_places: BTreeSet<u64>,
    kept: u64,
    descriptor_blocks: Vec<u64>,
    descriptor_blocks_seen: usize,
    pub(super) doubt: Option<Doubt>,
}

impl ExtScan {
    /// A scan of the file system with this superblock, in a partition of `len` bytes.
    pub(super) fn begin(sb: Superblock, len: u64) -> (Self, Vec<Request>) {
        let groups = sb.groups() as usize;
        let mut scan = Self {
            descriptors: vec![None; groups],
            groups: (0..groups).map(|_| Group::Unknown).collect(),
            metadata: BTreeMap::new(),
            free_tables: BTreeMap::new(),
            bitmap_places: BTreeSet::new(),
            kept: 0,
            descriptor_blocks: sb.descriptor_locations(),
            descriptor_blocks_seen: 0,
            doubt: doubt_of(&sb, len),
            sb,
        };
        if scan.doubt.is_some() {
            scan.groups.clear();
            return (scan, Vec::new());
        }
        let mut requests = Vec::new();
        for (index, block) in scan.descriptor_blocks.iter().enumerate() {
            let range = scan.bytes(*block..*block + 1);
            requests.push((range, Token::Descriptors(index)));
        }
        (scan, requests)
    }

    /// Its free bytes, according to the superblock.
    pub(super) fn free(&self) -> u64 {
        match self.doubt {
            Some(_) => 0,
            None => self.sb.free_blocks * self.sb.block_size,
        }
    }

    fn bytes(&self, blocks: Range<u64>) -> ByteRange {
        ByteRange {
            start: blocks.start * self.sb.block_size,
            end: blocks.end * self.sb.block_size,
        }
    }

    pub(super) fn take(&mut self, token: Token, bytes: Vec<u8>) -> Vec<Request> {
        match token {
            Token::Descriptors(index) => self.take_descriptors(index, &bytes),
            Token::Bitmap(group) => {
                self.take_bitmap(group, bytes);
                Vec::new()
            }
            _ => Vec::new(),
        }
    }

    fn take_descriptors(&mut self, index: usize, bytes: &[u8]) -> Vec<Request> {
        self.descriptor_blocks_seen += 1;
        let first = index as u64 * self.sb.descriptors_per_block();
        let mut requests = Vec::new();
        for (group, raw) in (first..).zip(bytes.chunks_exact(self.sb.descriptor_size as usize)) {
            if group >= self.sb.groups() {
                break;
            }
            let Some(found) = GroupDescriptor::parse(&self.sb, group, raw) else {
                self.doubt
                    .get_or_insert(Doubt::Damaged("a group descriptor"));
                continue;
            };
            let [blocks, inodes, table] = found.metadata(&self.sb);
            let of_table = if found.is_inode_table_free {
                &mut self.free_tables
            } else {
                &mut self.metadata
            };
            of_table.insert(table.start, table.end);
            for place in [blocks, inodes] {
                let end = self.metadata.entry(place.start).or_insert(place.end);
                *end = place.end.max(*end);
            }
            if !self.bitmap_places.insert(found.block_bitmap) {
                self.doubt
                    .get_or_insert(Doubt::Damaged("a group descriptor"));
                continue;
            }
            self.descriptors[group as usize] = Some(found);
            if found.is_block_bitmap_unwritten {
                self.groups[group as usize] = Group::Unwritten;
                continue;
            }
            let range = self.bytes(found.block_bitmap..found.block_bitmap + 1);
            requests.push((range, Token::Bitmap(group)));
        }
        requests
    }

    fn take_bitmap(&mut self, group: u64, bitmap: Vec<u8>) {
        let Some(descriptor) = self.descriptors[group as usize] else {
            return;
        };
        if !descriptor.fits_bitmap(&self.sb, group, &bitmap) {
            self.doubt.get_or_insert(Doubt::Damaged("a block bitmap"));
            return;
        }
        if self.kept + self.sb.block_size <= MAX_BITMAPS {
            self.kept += self.sb.block_size;
            self.groups[group as usize] = Group::Bitmap(bitmap);
        }
    }

    /// The used parts of `range`, in bytes from the start of the file system.
    pub(super) fn used(&mut self, range: ByteRange) -> Vec<ByteRange> {
        let end = self.sb.size();
        if self.doubt.is_some() {
            return vec![range];
        }
        let mut used = Vec::new();
        // The boot block, and what follows the file system.
        let first = self.sb.first_data_block * self.sb.block_size;
        used.extend(
            ByteRange {
                start: 0,
                end: first,
            }
            .intersection(range),
        );
        used.extend(
            ByteRange {
                start: end,
                end: u64::MAX,
            }
            .intersection(range),
        );
        let block = self.sb.block_size;
        let mut at = (range.start / block).max(self.sb.first_data_block);
        let last = range.end.div_ceil(block).min(self.sb.blocks);
        while at < last {
            let Some(group) = self.sb.group_of(at) else {
                break;
            };
            let own = self.sb.group_blocks(group);
            let part = at..own.end.min(last);
            for blocks in self.used_in_group(group, part.clone()) {
                used.extend(self.bytes(blocks).intersection(range));
            }
            at = part.end;
            if at == own.end {
                self.forget(group);
            }
        }
        used
    }

    fn used_in_group(&self, group: u64, part: Range<u64>) -> Vec<Range<u64>> {
        let start = self.sb.group_blocks(group).start;
        let ratio = self.sb.cluster_ratio;
        let mut used = match &self.groups[group as usize] {
            Group::Unknown => return vec![part],
            // With spread descriptors, it may hold metadata of groups that are not known yet.
            Group::Unwritten if self.descriptor_blocks_seen < self.descriptor_blocks.len() => {
                return vec![part];
            }
            Group::Unwritten => Vec::new(),
            Group::Bitmap(bitmap) => {
                let clusters = (part.start - start) / ratio..(part.end - start).div_ceil(ratio);
                let clusters = clusters.start..clusters.end.min(self.sb.group_clusters(group));
                let runs = runs_of_ones(bitmap, clusters).into_iter();
                runs.map(|run| start + run.start * ratio..start + run.end * ratio)
                    .collect()
            }
        };
        // Bitmaps include these as well; they are never skipped.
        used = self.without_free_tables(used);
        used.push(self.sb.base_blocks(group));
        let before = self.metadata.range(..part.end).rev();
        // Inode tables are the longest pieces of metadata.
        let reach = self.sb.inode_table_blocks().max(1);
        let near = before.take_while(|(first, _)| **first + reach > part.start);
        used.extend(near.map(|(first, end)| *first..*end));
        used.retain(|blocks| blocks.start < part.end && blocks.end > part.start);
        used
    }

    /// Bitmaps mark tables as used even if they were never written.
    fn without_free_tables(&self, used: Vec<Range<u64>>) -> Vec<Range<u64>> {
        let mut left = Vec::new();
        for mut run in used {
            let reach = self.sb.inode_table_blocks().max(1);
            let near = self
                .free_tables
                .range(run.start.saturating_sub(reach)..run.end);
            for (&start, &end) in near {
                if end <= run.start {
                    continue;
                }
                if start > run.start {
                    left.push(run.start..start);
                }
                run.start = end.min(run.end);
            }
            if run.start < run.end {
                left.push(run);
            }
        }
        left
    }

    /// The group has passed: its bitmap is no longer needed.
    fn forget(&mut self, group: u64) {
        if let Group::Bitmap(_) = self.groups[group as usize] {
            self.groups[group as usize] = Group::Unknown;
            self.kept = self.kept.saturating_sub(self.sb.block_size);
        }
    }
}

/// Why the used ranges cannot be told.
fn doubt_of(sb: &Superblock, len: u64) -> Option<Doubt> {
    let unknown = sb.incompatible.beyond(INCOMPATIBLE) - Incompatible::RECOVER;
    if sb.incompatible.has(Incompatible::RECOVER) {
        return Some(Doubt::Unclean("its journal needs replay"));
    }
    if sb.state != STATE_CLEAN {
        return Some(Doubt::Unclean("it was not unmounted, or has errors"));
    }
    if !unknown.is_empty() || !sb.read_only.beyond(READ_ONLY).is_empty() {
        return Some(Doubt::Unknown("a feature of it"));
    }
    if sb.size() > len {
        return Some(Doubt::Damaged("its size"));
    }
    None
}
