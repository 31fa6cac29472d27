//! The passes of a rescue: first what reads at once, then ever closer to what does not.

use std::time::{Duration, Instant};

use pinewrit_core::{Observer, Progress, Stage};
use pinewrit_disk::{AlignedBuf, ByteRange, DiskError};

use crate::device::{BLOCK, Got, Rescue, pieces};
use crate::kept::KeptError;
use crate::map::State;

/// Bytes of a request of the first passes.
const LARGE: u64 = 1 << 20;
/// Bytes of a request where errors are near.
const MIDDLE: u64 = 64 << 10;
/// The most bytes that are left for later behind an error.
const FARTHEST: u64 = 64 << 20;
/// A request that takes longer than this is as good a reason to look elsewhere first as an error.
const SLOW: Duration = Duration::from_secs(2);

/// Why a rescue stopped before its end. What was read is kept.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RescueError {
    /// The medium is gone and has not come back, or what was read cannot be kept.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// The map could not be stored.
    #[error(transparent)]
    Kept(#[from] KeptError),
    /// It was stopped.
    #[error("stopped")]
    Cancelled,
}

/// Bounds of the passes.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// The most time that each pass takes after the first two.
    pub pass: Duration,
}

/// In which order a pass takes its pieces.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Way {
    Forward,
    Backward,
}

/// A pass over the wanted ranges.
struct Pass<'r> {
    rescue: &'r Rescue,
    wanted: &'r [ByteRange],
    observer: &'r dyn Observer,
    total: u64,
    /// Bytes that have been read.
    done: u64,
    deadline: Option<Instant>,
    buffer: AlignedBuf,
}

impl Rescue {
    /// Reads ascending ranges of the medium as far as they can be read. Two passes take what reads at once,
    /// from both ends, and stay away from errors; the next ones close in on the bad sectors, and the last
    /// one tries each of those once more.
    ///
    /// # Errors
    /// [`RescueError`].
    pub fn gather(
        &self,
        wanted: &[ByteRange],
        limits: &Limits,
        observer: &dyn Observer,
    ) -> Result<(), RescueError> {
        let bytes = |ranges: &[ByteRange]| -> u64 { ranges.iter().map(|one| one.len()).sum() };
        let total = bytes(wanted);
        if total == 0 {
            return Ok(());
        }
        let mut pass = Pass {
            rescue: self,
            wanted,
            observer,
            total,
            done: total - bytes(&self.unread(wanted)),
            deadline: None,
            buffer: AlignedBuf::new(LARGE as usize),
        };
        let done = pass.all(limits);
        self.save()?;
        done
    }
}

impl Pass<'_> {
    fn all(&mut self, limits: &Limits) -> Result<(), RescueError> {
        self.begin(Stage::Rescue);
        self.sweep(Way::Forward)?;
        self.sweep(Way::Backward)?;
        if self.rescue.unread(self.wanted).is_empty() {
            return Ok(());
        }
        self.begin(Stage::CloseIn);
        let sector = self.rescue.sector_bytes();
        let limit = limits.pass;
        self.limit(limit);
        self.each(None, MIDDLE, State::Failed)?;
        self.limit(limit);
        self.trim()?;
        self.limit(limit);
        self.each(Some(State::Failed), BLOCK, State::Failed)?;
        self.limit(limit);
        self.each(Some(State::Failed), sector, State::Missing)?;
        self.limit(limit);
        self.again(sector)
    }

    /// Every missing sector once more, in the other direction; once in a run, however often it is asked.
    fn again(&mut self, sector: u64) -> Result<(), RescueError> {
        let missing = self
            .rescue
            .map()
            .in_state(self.wanted, Some(State::Missing));
        let fresh = self.rescue.given_up().in_state(&missing, None);
        for part in fresh.iter().rev() {
            for piece in pieces(*part, sector).rev() {
                if self.is_late() {
                    return Ok(());
                }
                self.take(piece, State::Missing)?;
                self.rescue.given_up().set(piece, Some(State::Missing));
            }
        }
        Ok(())
    }

    fn limit(&mut self, time: Duration) {
        self.deadline = Instant::now().checked_add(time);
    }

    fn begin(&self, stage: Stage) {
        self.observer.stage(stage, Some(self.total));
        self.tell();
    }

    fn tell(&self) {
        self.observer.progress(Progress {
            done: self.done,
            total: Some(self.total),
            source_done: 0,
            source_total: 0,
            waiting_seconds: 0.0,
        });
    }

    fn is_late(&self) -> bool {
        self.deadline
            .is_some_and(|deadline| Instant::now() > deadline)
    }

    /// Reads a piece; one that fails gets a state.
    fn take(&mut self, range: ByteRange, failed: State) -> Result<Got, RescueError> {
        if self.rescue.means.cancel.is_cancelled() {
            return Err(RescueError::Cancelled);
        }
        let got = self
            .rescue
            .try_once(range, &mut self.buffer[..range.len() as usize])?;
        match got {
            Got::Bytes(_) => self.done += range.len(),
            Got::Nothing => self.rescue.map().set(range, Some(failed)),
        }
        self.rescue.save_if_due()?;
        self.tell();
        Ok(got)
    }

    /// What has not been tried, in large requests; after an error or a slow place, a stretch is left out
    /// that becomes longer with each.
    fn sweep(&mut self, way: Way) -> Result<(), RescueError> {
        let mut parts = self.rescue.map().in_state(self.wanted, None);
        if way == Way::Backward {
            parts.reverse();
        }
        let mut skip = 0;
        let mut skip_to: Option<u64> = None;
        for part in parts {
            let all: Box<dyn Iterator<Item = ByteRange>> = match way {
                Way::Forward => Box::new(pieces(part, LARGE)),
                Way::Backward => Box::new(pieces(part, LARGE).rev()),
            };
            for piece in all {
                let is_left = skip_to.is_some_and(|to| match way {
                    Way::Forward => piece.start < to,
                    Way::Backward => piece.end > to,
                });
                if is_left {
                    continue;
                }
                let got = self.take(piece, State::Failed)?;
                skip = match got {
                    Got::Bytes(time) if time < SLOW => 0,
                    _ => (skip * 2).clamp(LARGE, FARTHEST),
                };
                skip_to = (skip > 0).then(|| match way {
                    Way::Forward => piece.end.saturating_add(skip),
                    Way::Backward => piece.start.saturating_sub(skip),
                });
            }
        }
        Ok(())
    }

    /// Closes in on what failed, from both ends of each run until something fails.
    fn trim(&mut self) -> Result<(), RescueError> {
        let failed = self.rescue.map().in_state(self.wanted, Some(State::Failed));
        for run in failed {
            let mut from_behind = false;
            for piece in pieces(run, BLOCK) {
                if self.is_late() {
                    return Ok(());
                }
                if matches!(self.take(piece, State::Failed)?, Got::Nothing) {
                    from_behind = true;
                    break;
                }
            }
            if !from_behind {
                continue;
            }
            let left = self.rescue.map().in_state(&[run], Some(State::Failed));
            let blocks = left.into_iter().flat_map(|left| pieces(left, BLOCK));
            for piece in blocks.collect::<Vec<_>>().into_iter().rev() {
                if self.is_late() {
                    return Ok(());
                }
                if matches!(self.take(piece, State::Failed)?, Got::Nothing) {
                    break;
                }
            }
        }
        Ok(())
    }

    /// Everything in one state, in pieces of one size.
    fn each(&mut self, wanted: Option<State>, unit: u64, failed: State) -> Result<(), RescueError> {
        let parts = self.rescue.map().in_state(self.wanted, wanted);
        for piece in parts.into_iter().flat_map(|part| pieces(part, unit)) {
            if self.is_late() {
                return Ok(());
            }
            self.take(piece, failed)?;
        }
        Ok(())
    }
}
