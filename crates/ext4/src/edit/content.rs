//! The content of files.

use std::io::{ErrorKind, Read};
use std::ops::Range;

use pinewrit_disk::{BlockDevice, is_zero};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::fields::node;
use pinewrit_ext4_layout::inode::{Inode, InodeNumber, Run};

use super::{EditError, Editor};

/// Bytes per read from a source.
const PIECE: usize = 1 << 20;

/// What happens to blocks of zeros in a new file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Zeros {
    /// They are kept like other bytes.
    Written,
    /// They become holes, which take no space.
    Holes,
}

/// Reads until the buffer is full or the source ends.
fn read_full(source: &mut dyn Read, buffer: &mut [u8]) -> Result<usize, EditError> {
    let mut done = 0;
    while done < buffer.len() {
        match source.read(&mut buffer[done..]) {
            Ok(0) => break,
            Ok(len) => done += len,
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(EditError::Source(error)),
        }
    }
    Ok(done)
}

impl<D: BlockDevice> Editor<D> {
    /// Puts `size` bytes into new blocks, as the file's content from block `first` on.
    pub(super) fn fill(
        &mut self,
        goal: u64,
        first: u64,
        size: u64,
        source: &mut dyn Read,
        zeros: Zeros,
    ) -> Result<Vec<Run>, EditError> {
        let block = self.sb.block_size;
        // No map reaches further; a size from an archive can be anything.
        if size.div_ceil(block) > (1 << 32) - first.min(1 << 32) {
            return Err(EditError::TooLarge(format!("a file of {size} bytes")));
        }
        let mut places = Places {
            free: match zeros {
                Zeros::Written => self.allocate(goal, size.div_ceil(block))?,
                Zeros::Holes => Vec::new(),
            },
            runs: Vec::new(),
            goal,
        };
        places.free.reverse();
        let mut buffer = vec![0; PIECE.min(size.next_multiple_of(block) as usize)];
        let mut done = 0;
        while done < size {
            let len = (size - done).min(buffer.len() as u64) as usize;
            let found = read_full(source, &mut buffer[..len])?;
            if found < len {
                return Err(EditError::SourceShort {
                    found: done + found as u64,
                    expected: size,
                });
            }
            let whole = len.next_multiple_of(block as usize);
            buffer[len..whole].fill(0);
            let logical = first + done / block;
            self.place(&mut places, logical, &buffer[..whole], zeros)?;
            done += len as u64;
        }
        Ok(places.runs)
    }

    /// Writes whole blocks of a file where blocks have been taken.
    fn place(
        &mut self,
        places: &mut Places,
        logical: u64,
        bytes: &[u8],
        zeros: Zeros,
    ) -> Result<(), EditError> {
        let block = self.sb.block_size as usize;
        if zeros == Zeros::Written {
            return self.place_used(places, logical, bytes);
        }
        let kinds: Vec<bool> = bytes.chunks(block).map(is_zero).collect();
        let mut at = 0;
        for group in kinds.chunk_by(|a, b| a == b) {
            let end = at + group.len();
            if !group[0] {
                let goal = places.goal;
                places.free = self.allocate(goal, group.len() as u64)?;
                places.free.reverse();
                let part = &bytes[at * block..end * block];
                self.place_used(places, logical + at as u64, part)?;
            }
            at = end;
        }
        Ok(())
    }

    fn place_used(
        &mut self,
        places: &mut Places,
        mut logical: u64,
        mut bytes: &[u8],
    ) -> Result<(), EditError> {
        let block = self.sb.block_size;
        while !bytes.is_empty() {
            let Some(free) = places.free.last_mut() else {
                return Err(self.no_space(1));
            };
            let len = (free.end - free.start).min(bytes.len() as u64 / block);
            let start = free.start;
            free.start += len;
            if free.start == free.end {
                places.free.pop();
            }
            let (now, later) = bytes.split_at((len * block) as usize);
            self.cache.put_content(start * block, now)?;
            places.goal = start + len;
            places.runs.push(Run::written(logical, start, len));
            logical += len;
            bytes = later;
        }
        Ok(())
    }

    pub(super) fn release_runs(&mut self, runs: &[Run]) -> Result<(), EditError> {
        for run in runs {
            self.release(run.blocks())?;
        }
        Ok(())
    }

    /// An inode no longer holds its content itself. The caller gives it a map.
    pub(super) fn clear_inline(&mut self, inode: &mut Inode) -> Result<(), EditError> {
        let mut kept = self.tree().kept_xattrs(inode)?;
        kept.retain(|one| !one.is_inline_data());
        inode.raw[node::MAP..node::MAP + node::MAP_LEN].fill(0);
        inode.set_flag(node::FLAG_INLINE, false);
        self.put_xattrs(inode, &kept)
    }

    /// Moves a file's content from its inode into a block, if it is there.
    pub(super) fn content_out_of_inode(
        &mut self,
        number: InodeNumber,
        inode: &mut Inode,
    ) -> Result<(), EditError> {
        if !inode.has(node::FLAG_INLINE) {
            return Ok(());
        }
        let mut bytes = vec![0; inode.size().min(self.sb.block_size) as usize];
        self.tree().read_at(number, 0, &mut bytes)?;
        self.clear_inline(inode)?;
        let goal = self.goal_in(self.group_of_inode(number));
        let size = bytes.len() as u64;
        let runs = self.fill(goal, 0, size, &mut &bytes[..], Zeros::Written)?;
        self.put_map(number, inode, &runs)
    }

    /// Cuts a file's map after a number of blocks, and frees the rest.
    pub(super) fn cut(&mut self, runs: &mut Vec<Run>, blocks: u64) -> Result<(), EditError> {
        let first = runs.partition_point(|run| run.logical_end() <= blocks);
        let mut rest = runs.split_off(first);
        if let Some(run) = rest.first_mut()
            && run.logical < blocks
        {
            let kept = blocks - run.logical;
            runs.push(Run { len: kept, ..*run });
            run.start += kept;
            run.logical += kept;
            run.len -= kept;
        }
        self.release_runs(&rest)
    }

    /// Changes bytes of the block in which a file ends: zeros from `within` on, then `bytes`
    /// there. Does nothing where the file has a hole.
    pub(super) fn edit_last_block(
        &mut self,
        runs: &mut Vec<Run>,
        logical: u64,
        within: usize,
        bytes: &[u8],
    ) -> Result<bool, EditError> {
        let Some(index) = runs
            .iter()
            .position(|run| (run.logical..run.logical_end()).contains(&logical))
        else {
            return Ok(false);
        };
        let run = runs[index];
        let place = run.start + (logical - run.logical);
        let mut block = if run.is_unwritten {
            vec![0; self.sb.block_size as usize]
        } else {
            self.read_block(place)?
        };
        block[within..].fill(0);
        block[within..within + bytes.len()].copy_from_slice(bytes);
        self.cache.put(place, block);
        if run.is_unwritten {
            runs.splice(index..=index, split_out(run, logical));
        }
        Ok(true)
    }
}

/// An unwritten run in which one block becomes written.
fn split_out(run: Run, logical: u64) -> Vec<Run> {
    let part = |range: Range<u64>, is_unwritten| Run {
        logical: range.start,
        start: run.start + (range.start - run.logical),
        len: range.end - range.start,
        is_unwritten,
    };
    let mut parts = vec![
        part(run.logical..logical, true),
        part(logical..logical + 1, false),
        part(logical + 1..run.logical_end(), true),
    ];
    parts.retain(|part| part.len > 0);
    parts
}

/// Where content goes.
struct Places {
    /// Runs that are taken but not yet filled; the next one is last.
    free: Vec<Range<u64>>,
    runs: Vec<Run>,
    goal: u64,
}
