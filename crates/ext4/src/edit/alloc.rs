//! Allocating and freeing blocks and inodes.

use std::ops::Range;

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bits::{best_run, clear, free_run, is_set, set};
use pinewrit_ext4_layout::ExtError;
use pinewrit_ext4_layout::fields::{bg, sb};
use pinewrit_ext4_layout::inode::InodeNumber;

use super::{EditError, Editor};

/// A run of this many blocks is long enough: no longer one is searched for.
const LONG_RUN: u64 = 2048;

impl<D: BlockDevice> Editor<D> {
    pub(crate) fn no_space(&mut self, blocks: u64) -> EditError {
        EditError::NoSpace {
            needed: blocks.saturating_mul(self.sb.block_size),
            free: self.free_bytes(),
        }
    }

    /// Takes `want` blocks in as few runs as possible, near `goal` if there is room.
    pub(crate) fn allocate(&mut self, goal: u64, want: u64) -> Result<Vec<Range<u64>>, EditError> {
        if want > self.free_blocks() {
            return Err(self.no_space(want));
        }
        let mut runs: Vec<Range<u64>> = Vec::new();
        let (mut left, mut goal) = (want, goal);
        while left > 0 {
            let Some(run) = self.find_run(goal, left)? else {
                return Err(self.no_space(want));
            };
            self.mark_used(run.clone())?;
            left -= run.end - run.start;
            goal = run.end;
            match runs.last_mut() {
                Some(last) if last.end == run.start => last.end = run.end,
                _ => runs.push(run),
            }
        }
        Ok(runs)
    }

    /// Takes one block near `goal`.
    pub(crate) fn allocate_block(&mut self, goal: u64) -> Result<u64, EditError> {
        let runs = self.allocate(goal, 1)?;
        runs.first()
            .map(|run| run.start)
            .ok_or_else(|| self.no_space(1))
    }

    fn find_run(&mut self, goal: u64, want: u64) -> Result<Option<Range<u64>>, EditError> {
        let limit = self.limit.unwrap_or(self.sb.blocks);
        let goal = goal.clamp(self.sb.first_data_block, limit - 1);
        let home = self.sb.group_of(goal).unwrap_or(0);
        let groups = self.groups_in_use();
        let enough = want.min(LONG_RUN);
        let mut best: Option<Range<u64>> = None;
        for group in (home..groups).chain(0..home) {
            if self.group_count(group, bg::FREE_BLOCKS)? == 0 {
                continue;
            }
            let own = self.sb.group_blocks(group);
            let from = if group == home { goal - own.start } else { 0 };
            let len = own.end.min(limit) - own.start;
            let place = self.block_bitmap(group)?;
            let bitmap = self.cache.block(place)?;
            let mut found = best_run(bitmap, from..len, want);
            let is_short = |run: &Option<Range<u64>>| {
                run.as_ref().is_none_or(|run| run.end - run.start < enough)
            };
            if from > 0 && is_short(&found) {
                let before = best_run(bitmap, 0..len, want);
                found = if is_short(&before) {
                    found.or(before)
                } else {
                    before
                };
            }
            let found = found.map(|run| own.start + run.start..own.start + run.end);
            if !is_short(&found) {
                return Ok(found);
            }
            let len_of =
                |run: &Option<Range<u64>>| run.as_ref().map_or(0, |run| run.end - run.start);
            if len_of(&found) > len_of(&best) {
                best = found;
            }
        }
        Ok(best)
    }

    /// Takes blocks that follow one another, near `goal` if there is room.
    pub(crate) fn allocate_whole(&mut self, goal: u64, want: u64) -> Result<u64, EditError> {
        let run = self.find_run(goal, want)?;
        let Some(run) = run.filter(|run| run.end - run.start == want) else {
            return Err(self.no_space(want));
        };
        self.mark_used(run.clone())?;
        Ok(run.start)
    }

    /// Groups that are not about to go away.
    fn groups_in_use(&self) -> u64 {
        let last = self.limit.and_then(|limit| self.sb.group_of(limit - 1));
        last.map_or(self.sb.groups(), |last| last + 1)
    }

    /// Marks a run inside one group.
    fn mark_used(&mut self, run: Range<u64>) -> Result<(), EditError> {
        let group = self.group_of(run.start)?;
        let start = self.sb.group_blocks(group).start;
        let place = self.block_bitmap(group)?;
        set(self.cache.edit(place)?, run.start - start..run.end - start);
        let len = run.end - run.start;
        self.add_group_count(group, bg::FREE_BLOCKS, -(len as i64))?;
        self.add_free_blocks(-(len as i64))?;
        self.cursors.insert(group, run.end);
        Ok(())
    }

    pub(crate) fn group_of(&self, block: u64) -> Result<u64, EditError> {
        let group = self.sb.group_of(block);
        Ok(group.ok_or(ExtError::Damaged("a block number"))?)
    }

    /// Frees blocks, which may span several groups. What is about to go away need not be freed.
    pub(crate) fn release(&mut self, blocks: Range<u64>) -> Result<(), EditError> {
        let limit = self
            .limit
            .unwrap_or(u64::MAX)
            .clamp(blocks.start, blocks.end);
        for block in limit..blocks.end {
            self.cache.forget(block);
        }
        let blocks = blocks.start..limit;
        let mut at = blocks.start;
        while at < blocks.end {
            let group = self.group_of(at)?;
            let own = self.sb.group_blocks(group);
            let end = own.end.min(blocks.end);
            let place = self.block_bitmap(group)?;
            let bits = at - own.start..end - own.start;
            let bitmap = self.cache.edit(place)?;
            if !bits.clone().all(|bit| is_set(bitmap, bit)) {
                return Err(ExtError::Damaged("a block bitmap, or the map of a file,").into());
            }
            clear(bitmap, bits);
            self.add_group_count(group, bg::FREE_BLOCKS, (end - at) as i64)?;
            self.add_free_blocks((end - at) as i64)?;
            for block in at..end {
                self.cache.forget(block);
            }
            self.cache.note_freed(at..end);
            at = end;
        }
        Ok(())
    }

    /// The best place to start the content of an inode in this group.
    pub(crate) fn goal_in(&self, group: u64) -> u64 {
        let start = self.sb.group_blocks(group).start;
        self.cursors.get(&group).copied().unwrap_or(start)
    }

    pub(crate) fn group_of_inode(&self, number: InodeNumber) -> u64 {
        u64::from((number.0.max(1) - 1) / self.sb.inodes_per_group)
    }

    /// Takes an inode, from the folder's group if it has one left.
    pub(crate) fn allocate_inode(
        &mut self,
        folder: InodeNumber,
        is_directory: bool,
    ) -> Result<InodeNumber, EditError> {
        let home = self.group_of_inode(folder);
        let groups = self.groups_in_use();
        for group in (home..groups).chain(0..home) {
            if self.group_count(group, bg::FREE_INODES)? == 0 {
                continue;
            }
            let place = self.inode_bitmap(group)?;
            // If groups have few inodes, the system's own extend into the second group.
            let per_group = u64::from(self.sb.inodes_per_group);
            let first = u64::from(self.sb.first_inode) - 1;
            let first = first.saturating_sub(group.saturating_mul(per_group));
            let bits = first.min(per_group)..per_group;
            let Some(free) = free_run(self.cache.block(place)?, bits, 1) else {
                continue;
            };
            let index = free.start;
            set(self.cache.edit(place)?, free);
            self.use_table_up_to(group, index as u32)?;
            self.add_group_count(group, bg::FREE_INODES, -1)?;
            self.add_sb(sb::FREE_INODES, -1)?;
            if is_directory {
                self.add_group_count(group, bg::DIRECTORIES, 1)?;
            }
            let first = group as u32 * self.sb.inodes_per_group;
            return Ok(InodeNumber(first + index as u32 + 1));
        }
        Err(EditError::NoInodes {
            inodes: self.sb.inodes,
        })
    }

    /// Shrinks the part of the inode table that was never used, and zeroes what is now used of it.
    pub(crate) fn use_table_up_to(&mut self, group: u64, index: u32) -> Result<(), EditError> {
        if !self.sb.has_group_flags() {
            return Ok(());
        }
        let unused = self.group_count(group, bg::UNUSED_INODES)?;
        let per_group = self.sb.inodes_per_group;
        let first_unused = per_group.saturating_sub(unused);
        if index < first_unused {
            return Ok(());
        }
        let table = self.groups[group as usize].inode_table;
        let per_block = (self.sb.block_size / self.sb.inode_size) as u32;
        let size = self.sb.inode_size as usize;
        for slot in first_unused / per_block..=index / per_block {
            let first = first_unused.max(slot * per_block) - slot * per_block;
            let block = table + u64::from(slot);
            match first {
                // It was never used: it need not be read.
                0 => self.cache.put(block, vec![0; self.sb.block_size as usize]),
                _ => self.cache.edit(block)?[first as usize * size..].fill(0),
            }
        }
        // The rest of the last block is now zero as well.
        let change = i64::from(per_group - (index + 1)) - i64::from(unused);
        self.add_group_count(group, bg::UNUSED_INODES, change)?;
        Ok(())
    }

    pub(crate) fn is_inode_used(&mut self, number: InodeNumber) -> Result<bool, EditError> {
        let index = u64::from((number.0 - 1) % self.sb.inodes_per_group);
        let place = self.inode_bitmap(self.group_of_inode(number))?;
        Ok(is_set(self.cache.block(place)?, index))
    }

    pub(crate) fn release_inode(
        &mut self,
        number: InodeNumber,
        is_directory: bool,
    ) -> Result<(), EditError> {
        let group = self.group_of_inode(number);
        let index = u64::from((number.0 - 1) % self.sb.inodes_per_group);
        let place = self.inode_bitmap(group)?;
        let bitmap = self.cache.edit(place)?;
        if !is_set(bitmap, index) {
            return Err(ExtError::Damaged("an inode bitmap").into());
        }
        clear(bitmap, index..index + 1);
        self.add_group_count(group, bg::FREE_INODES, 1)?;
        self.add_sb(sb::FREE_INODES, 1)?;
        if is_directory {
            self.add_group_count(group, bg::DIRECTORIES, -1)?;
        }
        Ok(())
    }
}
