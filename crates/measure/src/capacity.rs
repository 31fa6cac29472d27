//! The fast look at a medium's size: marks in a few places, and everything put back.

use std::path::Path;

use pinewrit_core::{Cancel, Observer, Stage};
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange};
use schemars::JsonSchema;
use serde::Serialize;

use crate::keepsake::Keepsake;
use crate::marks::{SECTOR, Session};
use crate::places::{PLACE, Places};
use crate::verdict::{Capacity, Found, Look};
use crate::{Held, MeasureError, Power, Repower, go_on, pieces, size_of, told};

/// The places of a round that closes in on the real end.
const CLOSER: u64 = 16;

/// What was found out about a medium's size.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CapacityReport {
    /// What it claims, in bytes.
    pub claimed: u64,
    /// What it is.
    #[serde(flatten)]
    pub capacity: Capacity,
    /// Bytes that were looked at.
    pub looked_at: u64,
    /// Bytes that were written, with what was put back.
    pub written: u64,
    /// Whether its power was cut between writing and reading.
    pub repowered: bool,
    /// What it did not take when it was put back, in bytes.
    pub refused: u64,
}

/// What a look at a medium of `size` bytes writes, with what is put back, in bytes.
pub fn capacity_cost(size: u64) -> u64 {
    2 * Places::on(size).bytes()
}

/// Looks whether a medium has the bytes that it claims. What was there is in the file `keepsake`
/// until it is there again.
///
/// # Errors
/// [`MeasureError`]. What was overwritten has been put back, unless the medium is gone.
pub fn capacity(
    device: Held<'_>,
    (keepsake, session): (&Path, Session),
    (observer, power): (&dyn Observer, &dyn Power),
    cancel: &Cancel,
) -> Result<CapacityReport, MeasureError> {
    let size = size_of(&*device)?;
    let mut trial = Trial {
        size,
        device: Some(device),
        places: Places::on(size),
        keepsake: Keepsake::begin(keepsake, session, size)?,
        session,
        observer,
        power,
        cancel,
        closer: Vec::new(),
        refused: Vec::new(),
        written: 0,
    };
    let found = trial.run();
    trial.end(found)
}

struct Trial<'t, 'd> {
    size: u64,
    /// The medium, unless it has not come back.
    device: Option<Held<'d>>,
    places: Places,
    keepsake: Keepsake,
    session: Session,
    observer: &'t dyn Observer,
    power: &'t dyn Power,
    cancel: &'t Cancel,
    /// Places near the real end.
    closer: Vec<u64>,
    /// Places that could not be read or written.
    refused: Vec<u64>,
    written: u64,
}

/// A verdict, what was looked at, and whether the power was cut.
type Seen = (Capacity, u64, bool);

impl<'d> Trial<'_, 'd> {
    fn device(&self) -> Result<&(dyn BlockDevice + 'd), MeasureError> {
        self.device.as_deref().ok_or_else(gone)
    }

    fn run(&mut self) -> Result<Seen, MeasureError> {
        self.keep_all()?;
        self.mark_all()?;
        let before = self.look()?;
        let device = self.device.take().ok_or_else(gone)?;
        match self.power.cut(device)? {
            Repower::Kept(device) => {
                self.device = Some(device);
                return self.conclude(before, false);
            }
            Repower::Back(device) => self.device = Some(device),
        }
        let after = self.look()?;
        let lost = before.right().saturating_sub(after.right());
        let was_real = before.verdict(self.size, None) == Capacity::Real;
        if lost > 0 && was_real && (after.edge().is_none() || after.right() == 0) {
            let forgets = Capacity::Forgets { bytes: lost };
            return Ok((forgets, self.places.bytes(), true));
        }
        self.conclude(after, true)
    }

    /// The verdict; the real end is looked for more closely first.
    fn conclude(&mut self, look: Look, repowered: bool) -> Result<Seen, MeasureError> {
        let size = self.size;
        let wraps = matches!(
            look.verdict(size, None),
            Capacity::Smaller {
                beyond: crate::Beyond::Wraps,
                ..
            }
        );
        let edge = look.edge().filter(|_| !wraps);
        let Some((proven, _)) = edge else {
            return Ok((look.verdict(size, None), self.places.bytes(), repowered));
        };
        let look = self.close_in(look)?;
        let looked_at = self.places.bytes() + self.closer.len() as u64 * PLACE;
        Ok((look.verdict(size, Some(proven)), looked_at, repowered))
    }

    /// Keeps what is at all places.
    fn keep_all(&mut self) -> Result<(), MeasureError> {
        self.observer.stage(Stage::Keep, None);
        let sparse = self.places.sparse.clone();
        for &place in &sparse {
            self.keep(place, PLACE as usize)?;
        }
        for (start, len) in pieces(self.places.dense) {
            self.keep(start, len)?;
        }
        self.keepsake.sync()
    }

    /// Keeps what is there; what cannot be read is not marked either.
    fn keep(&mut self, start: u64, len: usize) -> Result<(), MeasureError> {
        go_on(self.cancel)?;
        let mut buffer = AlignedBuf::new(len);
        match self.device()?.read_once(start, &mut buffer) {
            Ok(()) => return self.keepsake.keep(start, &buffer),
            Err(error) if start == 0 && len as u64 == PLACE => return Err(error.into()),
            Err(_) => {}
        }
        if len as u64 <= PLACE {
            self.refused.push(start);
            return Ok(());
        }
        for part in (start..start + len as u64).step_by(PLACE as usize) {
            self.keep(part, PLACE as usize)?;
        }
        Ok(())
    }

    /// Marks all places: the farthest first, so that what comes after them drives them out of a
    /// cache, and shows where they have landed.
    fn mark_all(&mut self) -> Result<(), MeasureError> {
        let total = self.places.bytes();
        self.observer.stage(Stage::Mark, Some(total));
        let sparse = self.places.sparse.clone();
        for place in sparse.into_iter().rev() {
            self.mark(place, PLACE as usize)?;
            self.tell(self.written, total);
        }
        for (start, len) in pieces(self.places.dense) {
            self.mark(start, len)?;
            self.tell(self.written, total);
        }
        self.settle()
    }

    fn mark(&mut self, start: u64, len: usize) -> Result<(), MeasureError> {
        go_on(self.cancel)?;
        let end = start + len as u64;
        let is_refused = self.refused.iter().any(|bad| (start..end).contains(bad));
        if is_refused && len as u64 <= PLACE {
            return Ok(());
        }
        let mut buffer = AlignedBuf::new(len);
        self.session.mark(start, &mut buffer);
        if !is_refused && self.device()?.write_at(start, &buffer).is_ok() {
            self.written += len as u64;
            return Ok(());
        }
        if len as u64 <= PLACE {
            self.refused.push(start);
            return Ok(());
        }
        for part in (start..end).step_by(PLACE as usize) {
            self.mark(part, PLACE as usize)?;
        }
        Ok(())
    }

    fn settle(&self) -> Result<(), MeasureError> {
        let device = self.device()?;
        device.flush()?;
        device.forget_cache(ByteRange {
            start: 0,
            end: device.size(),
        });
        Ok(())
    }

    /// Reads all places.
    fn look(&self) -> Result<Look, MeasureError> {
        let total = self.places.bytes();
        self.observer.stage(Stage::ReadMarks, Some(total));
        let mut look = Look::default();
        let mut done = 0;
        for &place in &self.places.sparse {
            self.look_at(&mut look, place, PLACE as usize)?;
            done += PLACE;
            self.tell(done, total);
        }
        for (start, len) in pieces(self.places.dense) {
            self.look_at(&mut look, start, len)?;
            done += len as u64;
            self.tell(done, total);
        }
        Ok(look)
    }

    fn look_at(&self, look: &mut Look, start: u64, len: usize) -> Result<(), MeasureError> {
        go_on(self.cancel)?;
        let mut buffer = AlignedBuf::new(len);
        let end = start + len as u64;
        let is_refused = self.refused.iter().any(|bad| (start..end).contains(bad));
        if !is_refused && self.device()?.read_once(start, &mut buffer).is_ok() {
            look.at(&self.session, start, &buffer);
            return Ok(());
        }
        if len as u64 > PLACE {
            for part in (start..end).step_by(PLACE as usize) {
                self.look_at(look, part, PLACE as usize)?;
            }
            return Ok(());
        }
        for sector in (start..end).step_by(SECTOR) {
            look.note(sector, Found::Error);
        }
        Ok(())
    }

    /// Looks for the real end between the last place that is right and the first that is not.
    fn close_in(&mut self, mut look: Look) -> Result<Look, MeasureError> {
        while let Some((good, bad)) = look.edge() {
            let step = bad.saturating_sub(good) / (CLOSER + 1) / PLACE * PLACE;
            let step = step.max(PLACE);
            let places: Vec<u64> = (good..bad)
                .step_by(step as usize)
                .filter(|place| place + PLACE <= bad)
                .take(CLOSER as usize + 1)
                .collect();
            if places.is_empty() {
                break;
            }
            for &place in &places {
                self.keep(place, PLACE as usize)?;
            }
            self.keepsake.sync()?;
            for &place in &places {
                self.mark(place, PLACE as usize)?;
            }
            self.settle()?;
            for &place in &places {
                self.look_at(&mut look, place, PLACE as usize)?;
            }
            self.closer.extend(places);
        }
        Ok(look)
    }

    fn tell(&self, done: u64, total: u64) {
        self.observer.progress(told(done, total));
    }

    /// Puts everything back, however the trial went.
    fn end(self, seen: Result<Seen, MeasureError>) -> Result<CapacityReport, MeasureError> {
        let Some(device) = self.device else {
            // What was kept waits for it.
            return Err(seen.err().unwrap_or_else(gone));
        };
        let device = &*device;
        self.observer.stage(Stage::PutBack, None);
        let mut put = self.keepsake.put_back(device)?;
        let mut back = put.bytes;
        if let Ok((Capacity::Forgets { .. }, ..)) = &seen {
            // What it forgets of this is there from before.
            put = self.keepsake.put_back(device)?;
            back += put.bytes;
        }
        self.keepsake.remove()?;
        let (capacity, looked_at, repowered) = seen?;
        Ok(CapacityReport {
            claimed: self.size,
            capacity,
            looked_at,
            written: self.written + back,
            repowered,
            refused: put.refused,
        })
    }
}

fn gone() -> MeasureError {
    MeasureError::NotBack("the medium is not there any more".to_owned())
}
