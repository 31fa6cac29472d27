//! Writing what was gathered, with a way back.

use super::{FreeWrites, Overlay, merged};
use crate::undo::UndoEntry;
use crate::{AlignedBuf, BlockDevice, ByteRange, DiskError, UndoError, UndoLog};

/// What a commit wrote.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CommitReport {
    /// Bytes that differed from the medium and were written, in whole blocks.
    pub written: u64,
}

/// Why a commit did not succeed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CommitError {
    /// The device failed. What was written so far has been taken back if `rolled_back`.
    #[error("the changes could not be written")]
    Disk {
        /// The device's error.
        #[source]
        source: DiskError,
        /// Whether the medium is back to its previous content.
        rolled_back: bool,
    },
    /// The undo file could not be made; the medium is unchanged.
    #[error("the undo file could not be written")]
    Undo(#[from] UndoError),
    /// What was read back is not what was written.
    #[error("the block at offset {offset} reads back differently from what was written")]
    ReadBack {
        /// Offset of the first such run of blocks, in bytes.
        offset: u64,
        /// Whether the medium is back to its previous content.
        rolled_back: bool,
    },
}

enum Failure {
    Disk(DiskError),
    ReadBack(u64),
}

impl From<DiskError> for Failure {
    fn from(error: DiskError) -> Self {
        Self::Disk(error)
    }
}

impl<D: BlockDevice> Overlay<D> {
    /// Writes all changes to the device below, flushes, and reads them back.
    ///
    /// Blocks that touch one of the `last` ranges are written after all others are flushed and
    /// verified, range after range: metadata after the data that it points to. With an undo log,
    /// the former contents are kept in it until everything is on the medium; they are put back at
    /// once if the commit fails.
    ///
    /// # Errors
    /// [`CommitError`] says whether the medium is as it was before.
    pub fn commit(
        &self,
        last: &[ByteRange],
        undo: Option<&UndoLog>,
    ) -> Result<CommitReport, CommitError> {
        if self.free == FreeWrites::Referenced {
            return Err(CommitError::Disk {
                source: DiskError::ReadOnly,
                rolled_back: true,
            });
        }
        let changed = self.changed_blocks().map_err(|source| CommitError::Disk {
            source,
            rolled_back: true,
        })?;
        if changed.is_empty() {
            return Ok(CommitReport::default());
        }
        // Nothing leads there yet, so nothing has to be taken back.
        self.check_direct().map_err(|failure| match failure {
            Failure::Disk(source) => CommitError::Disk {
                source,
                rolled_back: true,
            },
            Failure::ReadBack(offset) => CommitError::ReadBack {
                offset,
                rolled_back: true,
            },
        })?;
        if let Some(undo) = undo {
            let runs = merged(changed.iter().copied()).into_iter();
            undo.write(self.size(), runs.map(|run| self.undo_entry(run)))?;
        }
        if let Err(failure) = self.write_phases(&changed, last) {
            let rolled_back = undo.is_some_and(|undo| undo.roll_back(self.below.below()).is_ok());
            return Err(match failure {
                Failure::Disk(source) => CommitError::Disk {
                    source,
                    rolled_back,
                },
                Failure::ReadBack(offset) => CommitError::ReadBack {
                    offset,
                    rolled_back,
                },
            });
        }
        if let Some(undo) = undo {
            // A file that stays behind is recognised as that of a finished commit.
            let _ = undo.remove();
        }
        Ok(CommitReport {
            written: changed.iter().map(|range| range.len()).sum(),
        })
    }

    /// Writes all changes to the device below, which is an overlay itself: part of a larger change that
    /// is made as a whole, or not at all.
    ///
    /// # Errors
    /// [`DiskError`].
    pub fn hand_down(&self) -> Result<(), DiskError> {
        for range in merged(self.changed_blocks()?) {
            let mut new = AlignedBuf::new(range.len() as usize);
            self.read_at(range.start, &mut new)?;
            self.below.below().write_at(range.start, &new)?;
        }
        Ok(())
    }

    fn undo_entry(&self, range: ByteRange) -> Result<UndoEntry, DiskError> {
        let mut old = AlignedBuf::new(range.len() as usize);
        self.below.below().read_at(range.start, &mut old)?;
        let mut new = AlignedBuf::new(range.len() as usize);
        self.read_at(range.start, &mut new)?;
        Ok(UndoEntry {
            offset: range.start,
            old: old.to_vec(),
            new: new.to_vec(),
        })
    }

    fn write_phases(&self, blocks: &[ByteRange], last: &[ByteRange]) -> Result<(), Failure> {
        // 0 for blocks that touch none of the ranges, else the place of the last one they touch.
        let phase = |block: ByteRange| {
            let touched = last.iter().rposition(|r| r.intersection(block).is_some());
            touched.map_or(0, |index| index + 1)
        };
        for current in 0..=last.len() {
            let blocks = blocks.iter().copied().filter(|b| phase(*b) == current);
            let ranges = merged(blocks);
            if !ranges.is_empty() {
                self.write_phase(&ranges)?;
            }
        }
        Ok(())
    }

    fn write_phase(&self, ranges: &[ByteRange]) -> Result<(), Failure> {
        let below = self.below.below();
        for &range in ranges {
            let mut new = AlignedBuf::new(range.len() as usize);
            self.read_at(range.start, &mut new)?;
            below.write_at(range.start, &new)?;
        }
        below.flush()?;
        for &range in ranges {
            let mut new = AlignedBuf::new(range.len() as usize);
            self.read_at(range.start, &mut new)?;
            let mut back = AlignedBuf::new(range.len() as usize);
            self.below.forget_cache(range);
            below.read_at(range.start, &mut back)?;
            if new[..] != back[..] {
                return Err(Failure::ReadBack(range.start));
            }
        }
        Ok(())
    }

    /// Flushes what went straight to the device, and reads it back.
    fn check_direct(&self) -> Result<(), Failure> {
        let direct = self.direct.lock().unwrap_or_else(|e| e.into_inner());
        if direct.is_empty() {
            return Ok(());
        }
        let below = self.below.below();
        below.flush()?;
        for (range, hash) in direct.iter() {
            let mut back = AlignedBuf::new(range.len() as usize);
            below.forget_cache(*range);
            below.read_at(range.start, &mut back)?;
            if blake3::hash(&back) != *hash {
                return Err(Failure::ReadBack(range.start));
            }
        }
        Ok(())
    }
}
