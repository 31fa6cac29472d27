//! Moving the bytes, a round at a time: after each, the note says so before anything else is overwritten.

use std::fs::File;
use std::io::{self, Write};

use pinewrit_core::{Cancel, Observer, Progress, Stage};
use pinewrit_disk::{AlignedBuf, ByteRange};

use crate::error::MoveError;
use crate::note::{Desk, Note};

/// The most bytes of a round.
pub(crate) const LARGEST: u64 = 8 << 20;
/// Rounds that would be shorter go through a file.
pub(crate) const SHORTEST: u64 = 1 << 20;

pub(crate) struct Mover<'m> {
    pub(crate) desk: Desk<'m>,
    pub(crate) note: Note,
    pub(crate) observer: &'m dyn Observer,
    pub(crate) cancel: &'m Cancel,
}

impl Mover<'_> {
    /// Moves what is left.
    ///
    /// # Errors
    /// [`MoveError`]; the note says how far it came.
    pub(crate) fn run(&mut self) -> Result<(), MoveError> {
        let total = self.used_bytes();
        self.observer.stage(Stage::Move, Some(total));
        let mut done = (0..self.note.done).map(|round| self.bytes_of(round)).sum();
        while self.note.done < self.note.rounds() {
            self.tell(done, total);
            if self.cancel.is_cancelled() {
                return Err(MoveError::Cancelled);
            }
            done += self.round(self.note.done)?;
            self.note.done += 1;
            self.note.spare = None;
            self.desk.keep(&mut self.note)?;
        }
        self.tell(done, total);
        Ok(())
    }

    fn tell(&self, done: u64, total: u64) {
        self.observer.progress(Progress {
            done,
            total: Some(total),
            source_done: 0,
            source_total: 0,
            waiting_seconds: 0.0,
        });
    }

    pub(crate) fn used_bytes(&self) -> u64 {
        (0..self.note.rounds())
            .map(|round| self.bytes_of(round))
            .sum()
    }

    fn bytes_of(&self, round: u64) -> u64 {
        self.pieces(round).iter().map(|one| one.len()).sum()
    }

    /// What a round moves, from the partition's first byte. A round never reaches what a later one has to
    /// read: forward if the partition moves to the front, else backward.
    fn pieces(&self, round: u64) -> Vec<ByteRange> {
        let note = &self.note;
        let (start, end) = if note.to < note.from {
            (round * note.round, ((round + 1) * note.round).min(note.len))
        } else {
            let end = note.len - round * note.round;
            (end.saturating_sub(note.round), end)
        };
        let whole = ByteRange { start, end };
        let Some(used) = &note.used else {
            return vec![whole];
        };
        let first = used.partition_point(|one| one[1] <= start);
        let ranges = used[first..].iter().take_while(|one| one[0] < end);
        let ranges = ranges.map(|&[start, end]| ByteRange { start, end });
        ranges.filter_map(|one| one.intersection(whole)).collect()
    }

    /// Moves the bytes of a round, and reads them back; returns how many.
    fn round(&mut self, round: u64) -> Result<u64, MoveError> {
        let pieces = self.pieces(round);
        let len: u64 = pieces.iter().map(|one| one.len()).sum();
        let mut bytes = AlignedBuf::new(len as usize);
        match self.note.spare.clone() {
            Some(sum) => self.load(&sum, &mut bytes)?,
            None => {
                each(&pieces, &mut bytes, |piece, part| {
                    self.desk.medium.read_at(self.note.from + piece.start, part)
                })?;
                if self.note.needs_spare {
                    self.store(&bytes)?;
                }
            }
        }
        let medium = self.desk.medium;
        let to = self.note.to;
        each(&pieces, &mut bytes, |piece, part| {
            medium.write_at(to + piece.start, part)
        })?;
        medium.flush()?;
        let mut back = AlignedBuf::new(bytes.len());
        each(&pieces, &mut back, |piece, part| {
            let range = ByteRange {
                start: to + piece.start,
                end: to + piece.end,
            };
            medium.forget_cache(range);
            medium.read_at(range.start, part)
        })?;
        if back[..] != bytes[..] {
            let offset = to + pieces.first().map_or(0, |one| one.start);
            return Err(MoveError::ReadBack { offset });
        }
        Ok(len)
    }

    /// Puts the bytes of a round where they survive their own overwriting.
    fn store(&mut self, bytes: &[u8]) -> Result<(), MoveError> {
        let write = || {
            let mut file = File::create(self.desk.spare())?;
            file.write_all(bytes)?;
            file.sync_all()
        };
        write()?;
        self.note.spare = Some(blake3::hash(bytes).to_hex().to_string());
        self.desk.keep(&mut self.note)?;
        Ok(())
    }

    fn load(&self, sum: &str, bytes: &mut [u8]) -> Result<(), MoveError> {
        let found = std::fs::read(self.desk.spare())?;
        if found.len() != bytes.len() || blake3::hash(&found).to_hex().as_str() != sum {
            return Err(io::Error::other("the bytes of the last round are damaged").into());
        }
        bytes.copy_from_slice(&found);
        Ok(())
    }
}

/// Calls with each piece and its part of a buffer that holds them one after the other.
fn each<E>(
    pieces: &[ByteRange],
    buffer: &mut [u8],
    mut act: impl FnMut(ByteRange, &mut [u8]) -> Result<(), E>,
) -> Result<(), E> {
    let mut rest = buffer;
    for piece in pieces {
        let (part, behind) = rest.split_at_mut(piece.len() as usize);
        act(*piece, part)?;
        rest = behind;
    }
    Ok(())
}
