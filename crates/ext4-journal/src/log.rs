//! The log: what was committed, and what of it still counts.
//!
//! It is read twice, as the system does: where it ends and which blocks are revoked, then the blocks.

use std::collections::{BTreeMap, HashMap};

use crc::{CRC_32_MPEG_2, Crc};

use crate::head::{Features, Head};
use crate::{JournalError, MAGIC, ReplayError, big, crc32c, crc32c_without};

const DESCRIPTOR: u32 = 1;
const COMMIT: u32 = 2;
const REVOKE: u32 = 5;

/// The block begins with the magic number, which was replaced by zeros.
const ESCAPED: u32 = 1;
/// The identifier of the file system is that of the tag before.
const SAME_UUID: u32 = 2;
const LAST_TAG: u32 = 8;

/// Length of what begins every block of the log that is not data.
const HEADER: usize = 12;
/// Where the entries of a list of revoked blocks begin.
const REVOKED: usize = 16;
/// Offsets in a commit block.
const COMMIT_SUM_KIND: usize = 12;
const COMMIT_SUM: usize = 16;
const COMMIT_SECONDS: usize = 48;
const COMMIT_NANOSECONDS: usize = 56;

/// "Fast commits": the tag at the start of their part, and where the transaction's number is.
const FAST_HEAD: u16 = 9;
const FAST_TRANSACTION: usize = 8;

/// The older checksum of commit blocks: not reflected, without a last inversion.
const OLD_SUM: Crc<u32> = Crc::<u32>::new(&CRC_32_MPEG_2);

/// Where the journal keeps a block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Saved {
    /// The block of the journal.
    pub place: u32,
    /// Its first four bytes have to be [replaced](Saved::restore).
    pub is_escaped: bool,
}

impl Saved {
    /// Gives a block back what the journal does not let it begin with.
    pub fn restore(self, block: &mut [u8]) {
        if self.is_escaped {
            block[..4].copy_from_slice(&MAGIC.to_be_bytes());
        }
    }
}

/// Fills a buffer with a block of the journal.
pub type ReadBlock<'r, E> = dyn FnMut(u32, &mut [u8]) -> Result<(), E> + 'r;

/// What a file system has to be given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Replay {
    /// Transactions that were committed.
    pub transactions: u32,
    /// The number of the next transaction.
    pub next: u32,
    /// The last content of each block, by its number in the file system.
    pub blocks: BTreeMap<u64, Saved>,
}

impl Replay {
    /// Finds it. `read` fills a buffer with a block of the journal.
    ///
    /// # Errors
    /// [`JournalError`], or that of `read`.
    pub fn find<E>(head: &Head, read: &mut ReadBlock<'_, E>) -> Result<Self, ReplayError<E>> {
        let mut log = Log::new(head, read);
        if head.start != 0 {
            log.scan()?;
            log.refuse_fast_commits()?;
        }
        let mut replay = Self {
            transactions: log.end.wrapping_sub(head.sequence),
            next: log.end,
            blocks: BTreeMap::new(),
        };
        if replay.transactions > 0 {
            log.gather(&mut replay.blocks)?;
        }
        Ok(replay)
    }
}

/// What a descriptor block says of the block that follows.
struct Tag {
    block: u64,
    flags: u32,
    sum: u32,
}

struct Log<'l, E> {
    head: &'l Head,
    read: &'l mut ReadBlock<'l, E>,
    seed: u32,
    /// Number of the first transaction that was not committed.
    end: u32,
    /// Blocks that are revoked, with the last transaction that did so.
    revoked: HashMap<u64, u32>,
}

/// Whether a number of a transaction is that of a later one; they wrap around.
fn is_later(one: u32, other: u32) -> bool {
    (one.wrapping_sub(other) as i32) > 0
}

/// How a scan goes on.
enum Next {
    Block,
    End,
}

/// What is known of the transaction that is being scanned.
struct Scan {
    sequence: u32,
    place: u32,
    /// Blocks of the log that were looked at.
    looked: u32,
    old_sum: u32,
    /// A block of it has a wrong checksum.
    is_doubtful: bool,
    last_time: (u64, u32),
    revoked: Vec<u64>,
}

impl<'l, E> Log<'l, E> {
    fn new(head: &'l Head, read: &'l mut ReadBlock<'l, E>) -> Self {
        Self {
            head,
            read,
            seed: head.seed(),
            end: head.sequence,
            revoked: HashMap::new(),
        }
    }

    fn block(&mut self, place: u32) -> Result<Vec<u8>, ReplayError<E>> {
        let mut block = vec![0; self.head.block_size];
        (self.read)(place, &mut block).map_err(ReplayError::Read)?;
        Ok(block)
    }

    /// The block `count` blocks behind another one: the log is a ring.
    fn behind(&self, place: u32, count: u32) -> u32 {
        let len = u64::from(self.head.end() - self.head.first);
        let offset = u64::from(place - self.head.first) + u64::from(count);
        self.head.first + (offset % len) as u32
    }

    /// Finds where the log ends, and what is revoked.
    fn scan(&mut self) -> Result<(), ReplayError<E>> {
        let mut scan = Scan {
            sequence: self.head.sequence,
            place: self.head.start,
            looked: 0,
            old_sum: !0,
            is_doubtful: false,
            last_time: (0, 0),
            revoked: Vec::new(),
        };
        while scan.looked < self.head.end() - self.head.first {
            let block = self.block(scan.place)?;
            let kind = big(&block, 4);
            if big(&block, 0) != MAGIC || big(&block, 8) != scan.sequence {
                break;
            }
            scan.place = self.behind(scan.place, 1);
            scan.looked += 1;
            let next = match kind {
                DESCRIPTOR => self.pass(&block, &mut scan)?,
                REVOKE => self.pass_revoked(&block, &mut scan)?,
                COMMIT => self.commit(&block, &mut scan)?,
                _ => Next::End,
            };
            if matches!(next, Next::End) {
                break;
            }
        }
        Ok(())
    }

    fn damaged(sequence: u32, what: &'static str) -> ReplayError<E> {
        JournalError::Damaged { sequence, what }.into()
    }

    /// Whether the checksum at a block's end is right, if it has one.
    fn has_right_tail(&self, block: &[u8]) -> bool {
        let at = block.len() - 4;
        !self.head.has_block_sums() || crc32c_without(self.seed, block, at) == big(block, at)
    }

    /// Passes the blocks of a descriptor.
    fn pass(&mut self, block: &[u8], scan: &mut Scan) -> Result<Next, ReplayError<E>> {
        scan.is_doubtful |= !self.has_right_tail(block);
        let count = self.tags(block).len() as u32;
        if self.head.has_commit_sums {
            let mut digest = OLD_SUM.digest_with_initial(scan.old_sum);
            digest.update(block);
            for index in 0..count {
                let place = self.behind(scan.place, index);
                digest.update(&self.block(place)?);
            }
            scan.old_sum = digest.finalize();
        }
        scan.place = self.behind(scan.place, count);
        scan.looked = scan.looked.saturating_add(count);
        Ok(Next::Block)
    }

    fn pass_revoked(&mut self, block: &[u8], scan: &mut Scan) -> Result<Next, ReplayError<E>> {
        scan.is_doubtful |= !self.has_right_tail(block);
        let tail = if self.head.has_block_sums() { 4 } else { 0 };
        let len = big(block, HEADER) as usize;
        if len > block.len() - tail {
            return Err(Self::damaged(scan.sequence, "a list of revoked blocks"));
        }
        let is_wide = self.head.features.contains(Features::WIDE);
        let entries = block.get(REVOKED..len).unwrap_or_default();
        scan.revoked.extend(
            entries
                .chunks_exact(if is_wide { 8 } else { 4 })
                .map(|entry| {
                    if is_wide {
                        u64::from(big(entry, 0)) << 32 | u64::from(big(entry, 4))
                    } else {
                        u64::from(big(entry, 0))
                    }
                }),
        );
        Ok(Next::Block)
    }

    /// Ends a transaction, if its commit block is good.
    fn commit(&mut self, block: &[u8], scan: &mut Scan) -> Result<Next, ReplayError<E>> {
        let seconds =
            u64::from(big(block, COMMIT_SECONDS)) << 32 | u64::from(big(block, COMMIT_SECONDS + 4));
        let time = (seconds, big(block, COMMIT_NANOSECONDS));
        if scan.is_doubtful {
            // What an earlier lap has left here is older than what was committed before it.
            return if time >= scan.last_time {
                Err(Self::damaged(scan.sequence, "a checksum is wrong"))
            } else {
                Ok(Next::End)
            };
        }
        if !self.is_summed_right(block, scan.old_sum) {
            return Ok(Next::End);
        }
        for block in scan.revoked.drain(..) {
            self.revoked.insert(block, scan.sequence);
        }
        scan.old_sum = !0;
        scan.last_time = time;
        scan.sequence = scan.sequence.wrapping_add(1);
        self.end = scan.sequence;
        Ok(Next::Block)
    }

    /// Whether the checksum of a commit block is right.
    fn is_summed_right(&self, block: &[u8], old_sum: u32) -> bool {
        let found = big(block, COMMIT_SUM);
        if self.head.has_block_sums() {
            return crc32c_without(self.seed, block, COMMIT_SUM) == found;
        }
        if !self.head.has_commit_sums {
            return true;
        }
        // Kind 1 with four bytes, or none at all.
        match block[COMMIT_SUM_KIND..COMMIT_SUM_KIND + 2] {
            [1, 4] => old_sum == found,
            [0, 0] => found == 0,
            _ => false,
        }
    }

    /// "Journal Block Tags": what a descriptor block describes, in order.
    fn tags(&self, block: &[u8]) -> Vec<Tag> {
        let features = self.head.features;
        let is_wide = features.contains(Features::WIDE);
        let is_third = features.contains(Features::SUMS_V3);
        let len = match (is_third, features.contains(Features::SUMS_V2), is_wide) {
            (true, _, _) => 16,
            (false, true, true) => 14,
            (false, true, false) => 10,
            (false, false, true) => 12,
            (false, false, false) => 8,
        };
        let end = block.len() - if self.head.has_block_sums() { 4 } else { 0 };
        let mut tags = Vec::new();
        let mut at = HEADER;
        while at + len <= end {
            let (flags, sum) = if is_third {
                (big(block, at + 4), big(block, at + 12))
            } else {
                let both = big(block, at + 4);
                (both & 0xffff, both >> 16)
            };
            let high = if is_wide {
                u64::from(big(block, at + 8))
            } else {
                0
            };
            tags.push(Tag {
                block: high << 32 | u64::from(big(block, at)),
                flags,
                sum,
            });
            at += len + if flags & SAME_UUID == 0 { 16 } else { 0 };
            if flags & LAST_TAG != 0 {
                break;
            }
        }
        tags
    }

    /// Gathers the blocks of all transactions that were committed.
    fn gather(&mut self, blocks: &mut BTreeMap<u64, Saved>) -> Result<(), ReplayError<E>> {
        let (mut sequence, mut place) = (self.head.sequence, self.head.start);
        while sequence != self.end {
            let block = self.block(place)?;
            place = self.behind(place, 1);
            match big(&block, 4) {
                COMMIT => sequence = sequence.wrapping_add(1),
                DESCRIPTOR => {
                    for tag in self.tags(&block) {
                        self.take(&tag, place, sequence, blocks)?;
                        place = self.behind(place, 1);
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn take(
        &mut self,
        tag: &Tag,
        place: u32,
        sequence: u32,
        blocks: &mut BTreeMap<u64, Saved>,
    ) -> Result<(), ReplayError<E>> {
        // Revoked by this transaction or a later one.
        let is_revoked = |by: &u32| !is_later(sequence, *by);
        if self.revoked.get(&tag.block).is_some_and(is_revoked) {
            return Ok(());
        }
        if self.head.has_block_sums() {
            let data = self.block(place)?;
            let sum = crc32c(crc32c(self.seed, &sequence.to_be_bytes()), &data);
            let kept = if self.head.features.contains(Features::SUMS_V3) {
                sum
            } else {
                sum & 0xffff
            };
            if kept != tag.sum {
                return Err(Self::damaged(sequence, "the checksum of a block is wrong"));
            }
        }
        let saved = Saved {
            place,
            is_escaped: tag.flags & ESCAPED != 0,
        };
        blocks.insert(tag.block, saved);
        Ok(())
    }

    /// Fast commits follow the last whole transaction.
    fn refuse_fast_commits(&mut self) -> Result<(), ReplayError<E>> {
        let Some(place) = self.head.first_fast() else {
            return Ok(());
        };
        let block = self.block(place)?;
        // Unlike the rest, these are little-endian.
        let tag = block.first_chunk().map(|raw| u16::from_le_bytes(*raw));
        if tag == Some(FAST_HEAD) && big(&block, FAST_TRANSACTION).swap_bytes() == self.end {
            return Err(JournalError::FastCommits.into());
        }
        Ok(())
    }
}
