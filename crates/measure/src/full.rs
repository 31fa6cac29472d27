//! The whole look at a medium: every sector is marked and read back. What was on it is lost.

use pinewrit_core::{Cancel, Observer, Stage};
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::capacity::CapacityReport;
use crate::keepsake::PIECE;
use crate::marks::{SECTOR, Session};
use crate::verdict::{Found, Look};
use crate::{MeasureError, go_on, pieces, size_of, told};

/// How often the progress is noted, in bytes.
const NOTE_EVERY: u64 = 256 << 20;
/// Smaller requests, around a place that fails.
const SMALLER: usize = 4096;

/// How far a whole look has come, to go on from there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FullNote {
    /// Version of the form.
    pub version: u32,
    /// The medium's size in bytes.
    pub size: u64,
    /// The identifier in its marks.
    pub session: [u8; 16],
    /// Everything before this is marked, in bytes.
    pub marked: u64,
}

impl FullNote {
    /// The current version of the form.
    pub const VERSION: u32 = 1;

    /// Nothing is marked yet.
    pub fn new(size: u64, session: Session) -> Self {
        Self {
            version: Self::VERSION,
            size,
            session: session.0,
            marked: 0,
        }
    }

    /// Whether it is about this medium: readers have names, and cards take turns in them. What was
    /// marked shows it at both ends, whatever the medium's real size is.
    pub fn is_of(&self, device: &dyn BlockDevice) -> bool {
        let is_known = self.version == Self::VERSION && self.size == device.size();
        let last = self.marked.checked_sub(SECTOR as u64);
        let Some(last) = last.filter(|_| is_known && self.marked <= self.size) else {
            return false;
        };
        let session = Session(self.session);
        let is_marked = |place| {
            let mut sector = [0; SECTOR];
            device.read_at(place, &mut sector).is_ok() && session.place_of(&sector).is_some()
        };
        is_marked(0) || is_marked(last)
    }
}

/// Marks all of a medium and reads all of it back; `keep` is told from time to time how far it has
/// come. At the end nothing on the medium is taken for a table.
///
/// # Errors
/// [`MeasureError`]; it can go on from the last note.
pub fn full(
    device: &dyn BlockDevice,
    note: &FullNote,
    observer: &dyn Observer,
    cancel: &Cancel,
    mut keep: impl FnMut(&FullNote),
) -> Result<CapacityReport, MeasureError> {
    let size = size_of(device)?;
    let session = Session(note.session);
    let mut note = note.clone();
    let mut buffer = AlignedBuf::new(PIECE);
    let tell = |done| observer.progress(told(done, size));
    observer.stage(Stage::Mark, Some(size));
    let mut written = 0;
    let begun = note.marked.min(size) / PIECE as u64 * PIECE as u64;
    note.marked = begun;
    for (start, len) in pieces(ByteRange {
        start: begun,
        end: size,
    }) {
        go_on(cancel)?;
        session.mark(start, &mut buffer[..len]);
        if device.write_at(start, &buffer[..len]).is_err() {
            in_small(start, &buffer[..len], |place, bytes| {
                // What it does not take is found when it is read.
                let _ = device.write_at(place, bytes);
            });
        }
        written += len as u64;
        if start + len as u64 - note.marked >= NOTE_EVERY {
            device.flush()?;
            note.marked = start + len as u64;
            keep(&note);
        }
        tell(start + len as u64);
    }
    device.flush()?;
    note.marked = size;
    keep(&note);
    let whole = ByteRange {
        start: 0,
        end: size,
    };
    device.forget_cache(whole);
    observer.stage(Stage::ReadMarks, Some(size));
    let mut look = Look::default();
    for (start, len) in pieces(whole) {
        go_on(cancel)?;
        match device.read_once(start, &mut buffer[..len]) {
            Ok(()) => look.at(&session, start, &buffer[..len]),
            Err(_) => look_closely(device, &session, (start, len), &mut look),
        }
        tell(start + len as u64);
    }
    let capacity = look.verdict(size, None);
    buffer.fill(0);
    device.write_at(0, &buffer)?;
    device.flush()?;
    Ok(CapacityReport {
        claimed: size,
        capacity,
        looked_at: size,
        written: written + PIECE as u64,
        repowered: false,
        refused: 0,
    })
}

fn look_closely(
    device: &dyn BlockDevice,
    session: &Session,
    (start, len): (u64, usize),
    look: &mut Look,
) {
    let mut buffer = AlignedBuf::new(SMALLER);
    let end = start + len as u64;
    for place in (start..end).step_by(SMALLER) {
        let len = (end - place).min(SMALLER as u64) as usize;
        match device.read_once(place, &mut buffer[..len]) {
            Ok(()) => look.at(session, place, &buffer[..len]),
            Err(_) => {
                for sector in (place..place + len as u64).step_by(SECTOR) {
                    look.note(sector, Found::Error);
                }
            }
        }
    }
}

fn in_small(start: u64, bytes: &[u8], mut each: impl FnMut(u64, &[u8])) {
    for (place, piece) in (start..).step_by(SMALLER).zip(bytes.chunks(SMALLER)) {
        each(place, piece);
    }
}
