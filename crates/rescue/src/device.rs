//! A dying medium as a device that never fails to be read: what cannot be read is zeros.

use std::collections::VecDeque;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use pinewrit_core::Cancel;
use pinewrit_disk::{
    AlignedBuf, BlockDevice, ByteRange, DiskError, Operation, SectorSize, rounded_out,
};
use rustix::io::Errno;

use crate::kept::{Kept, KeptError};
use crate::map::{RescueMap, State};

/// What most media read at once, in bytes: a page of memory, and no less than their own unit.
pub(crate) const BLOCK: u64 = 4096;
/// Requests of metadata are not larger than this, in bytes.
const LARGEST: u64 = 1 << 20;
/// So many failures in one request of metadata, and the rest of it is left to the passes.
const PATIENCE: u32 = 4;
/// Places that are compared to find out whether it is the same medium.
const SAMPLES: usize = 16;
/// The map is stored this often while something is being read.
const SAVE_EVERY: Duration = Duration::from_secs(5);
/// So many places that gave their bytes are kept, to find out whether the medium still answers.
const WITNESSES: usize = 4;
/// How often a medium that is gone is looked for.
const LOOK_EVERY: Duration = Duration::from_millis(250);

/// Opens the same medium again, wherever it is now; `None` while it is not there.
pub type Reopen = dyn Fn() -> Option<Arc<dyn BlockDevice>> + Send + Sync;

/// Receives what a rescue has to tell.
pub trait Watcher: Send + Sync {
    /// The medium is gone, and is waited for; or it has come back.
    fn gone(&self, is_gone: bool);
}

/// How a rescue is made.
pub struct Means {
    /// Opens the medium again.
    pub reopen: Box<Reopen>,
    /// How long a medium that is gone is waited for.
    pub wait: Duration,
    /// Stops everything.
    pub cancel: Cancel,
    /// Receives what there is to tell.
    pub watcher: Box<dyn Watcher>,
}

struct Silent;

impl Watcher for Silent {
    fn gone(&self, _is_gone: bool) {}
}

impl Default for Means {
    /// A medium that is gone stays gone, and nobody is told.
    fn default() -> Self {
        Self {
            reopen: Box::new(|| None),
            wait: Duration::ZERO,
            cancel: Cancel::default(),
            watcher: Box::new(Silent),
        }
    }
}

/// What a request to the medium gave.
pub(crate) enum Got {
    /// The bytes, after this time.
    Bytes(Duration),
    /// Nothing: it cannot be read there.
    Nothing,
}

/// A medium that is being rescued. Reading gives what is kept; what has not been tried is tried once, and
/// is zeros if that fails.
pub struct Rescue {
    medium: Mutex<Arc<dyn BlockDevice>>,
    size: u64,
    sector: SectorSize,
    kept: Kept,
    map: Mutex<RescueMap>,
    /// Sectors that were tried a second time, in vain.
    given_up: Mutex<RescueMap>,
    /// The latest places that this reader has read. Another reader's do not count: it may have had its
    /// errors elsewhere.
    witnesses: Mutex<VecDeque<ByteRange>>,
    /// What was given as zeros since it was last asked.
    guessed: Mutex<Vec<ByteRange>>,
    saved: Mutex<Instant>,
    pub(crate) means: Means,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Rescue {
    /// Starts a rescue of a medium, or goes on with the one whose files are at `path`. `words` describes the
    /// medium in the map.
    ///
    /// # Errors
    /// [`KeptError`]: the files cannot be used, or belong to another medium.
    pub fn open(
        medium: Arc<dyn BlockDevice>,
        path: &Path,
        words: &str,
        means: Means,
    ) -> Result<Self, KeptError> {
        let (kept, map) = Kept::open(path, &*medium, words)?;
        let rescue = Self {
            size: medium.size(),
            sector: medium.logical_sector(),
            medium: Mutex::new(medium),
            kept,
            map: Mutex::new(map),
            given_up: Mutex::default(),
            witnesses: Mutex::default(),
            guessed: Mutex::default(),
            saved: Mutex::new(Instant::now()),
            means,
        };
        rescue.must_be_the_same()?;
        Ok(rescue)
    }

    /// Takes what another rescue of the same medium has read, and this one has not. Returns how many bytes.
    ///
    /// # Errors
    /// [`KeptError`].
    pub fn take_from(&self, path: &Path) -> Result<u64, KeptError> {
        let (content, other) = Kept::open_other(path, self.size)?;
        let whole = [self.whole()];
        let both = other.in_state(&self.read_places(), Some(State::Read));
        compare(&both, path, |range, mine, theirs| {
            self.kept.read(range.start, mine)?;
            content.read_at(range.start, theirs)
        })?;
        let mut taken = 0;
        let unread = self.unread(&whole);
        for range in other.in_state(&unread, Some(State::Read)) {
            self.copy(&content, range)
                .map_err(|source| KeptError::File {
                    path: path.to_owned(),
                    source: source.into(),
                })?;
            taken += range.len();
        }
        self.save()?;
        Ok(taken)
    }

    fn copy(&self, from: &dyn BlockDevice, range: ByteRange) -> Result<(), DiskError> {
        let mut buffer = AlignedBuf::new(LARGEST.min(range.len()) as usize);
        for part in pieces(range, LARGEST) {
            let bytes = &mut buffer[..part.len() as usize];
            from.read_at(part.start, bytes)?;
            self.keep(part, bytes)?;
        }
        Ok(())
    }

    /// A medium that has been rescued in part before must still hold the same.
    fn must_be_the_same(&self) -> Result<(), KeptError> {
        let medium = self.medium();
        compare(
            &self.read_places(),
            self.kept.path(),
            |range, mine, theirs| {
                self.kept.read(range.start, mine)?;
                match medium.read_at(range.start, theirs) {
                    Ok(()) => self.remember(range),
                    Err(_) => theirs.copy_from_slice(mine),
                }
                Ok(())
            },
        )
    }

    pub(crate) fn whole(&self) -> ByteRange {
        ByteRange {
            start: 0,
            end: self.size,
        }
    }

    pub(crate) fn sector_bytes(&self) -> u64 {
        self.sector.bytes()
    }

    fn read_places(&self) -> Vec<ByteRange> {
        self.map().all(State::Read).collect()
    }

    pub(crate) fn map(&self) -> MutexGuard<'_, RescueMap> {
        locked(&self.map)
    }

    pub(crate) fn given_up(&self) -> MutexGuard<'_, RescueMap> {
        locked(&self.given_up)
    }

    fn medium(&self) -> Arc<dyn BlockDevice> {
        Arc::clone(&locked(&self.medium))
    }

    /// The parts of ascending ranges that have not been read.
    pub fn unread(&self, ranges: &[ByteRange]) -> Vec<ByteRange> {
        self.map().unread(ranges)
    }

    /// What was given as zeros since the last call, although it might be readable.
    pub(crate) fn take_guessed(&self) -> Vec<ByteRange> {
        std::mem::take(&mut *locked(&self.guessed))
    }

    /// Stores the map.
    ///
    /// # Errors
    /// [`KeptError::File`].
    pub fn save(&self) -> Result<(), KeptError> {
        *locked(&self.saved) = Instant::now();
        self.kept.save(&self.map())
    }

    pub(crate) fn save_if_due(&self) -> Result<(), KeptError> {
        let age = locked(&self.saved).elapsed();
        if age < SAVE_EVERY {
            return Ok(());
        }
        self.save()
    }

    pub(crate) fn keep(&self, range: ByteRange, bytes: &[u8]) -> Result<(), DiskError> {
        self.kept.put(range.start, bytes)?;
        self.map().set(range, Some(State::Read));
        Ok(())
    }

    /// Reads a range of the medium once, and keeps it.
    ///
    /// # Errors
    /// The medium is gone, or what was read cannot be kept.
    pub(crate) fn try_once(&self, range: ByteRange, bytes: &mut [u8]) -> Result<Got, DiskError> {
        let mut lost = 0;
        loop {
            let begun = Instant::now();
            let medium = self.medium();
            match medium.read_at(range.start, bytes) {
                Ok(()) => {
                    let time = begun.elapsed();
                    self.remember(range);
                    self.keep(range, bytes)?;
                    return Ok(Got::Bytes(time));
                }
                // Some readers fall over at the same place every time.
                Err(error) if lost < 2 && self.is_gone(&*medium, &error) => {
                    lost += 1;
                    self.wait(error)?;
                }
                Err(_) => return Ok(Got::Nothing),
            }
        }
    }

    /// Whether an error comes from a medium that is not there any more.
    fn is_gone(&self, medium: &dyn BlockDevice, error: &DiskError) -> bool {
        let code = error.io().and_then(std::io::Error::raw_os_error);
        let gone = [Errno::NODEV, Errno::NXIO, Errno::NOMEDIUM, Errno::SHUTDOWN];
        if code.is_some_and(|code| gone.iter().any(|errno| errno.raw_os_error() == code)) {
            return true;
        }
        let witnesses = locked(&self.witnesses).clone();
        let is_silent = |place: &ByteRange| {
            medium.forget_cache(*place);
            let mut bytes = AlignedBuf::new(place.len() as usize);
            medium.read_at(place.start, &mut bytes).is_err()
        };
        !witnesses.is_empty() && witnesses.iter().all(is_silent)
    }

    /// Keeps the beginning of what was read, to be asked again when something fails.
    fn remember(&self, read: ByteRange) {
        let mut witnesses = locked(&self.witnesses);
        witnesses.push_front(ByteRange {
            start: read.start,
            end: read.end.min(read.start + BLOCK),
        });
        witnesses.truncate(WITNESSES);
    }

    /// Waits until the medium is back.
    fn wait(&self, error: DiskError) -> Result<(), DiskError> {
        let begun = Instant::now();
        self.means.watcher.gone(true);
        while begun.elapsed() < self.means.wait && !self.means.cancel.is_cancelled() {
            std::thread::sleep(LOOK_EVERY);
            let back = (self.means.reopen)().filter(|back| back.size() == self.size);
            let Some(back) = back else { continue };
            *locked(&self.medium) = back;
            locked(&self.witnesses).clear();
            if self.must_be_the_same().is_ok() {
                self.means.watcher.gone(false);
                return Ok(());
            }
        }
        Err(error)
    }

    /// Reads something that has not been tried yet; what fails is zeros for now.
    fn try_for_now(&self, range: ByteRange) -> Result<(), DiskError> {
        let mut buffer = AlignedBuf::new(LARGEST.min(range.len()) as usize);
        for part in pieces(range, LARGEST) {
            let bytes = &mut buffer[..part.len() as usize];
            if let Got::Bytes(_) = self.try_once(part, bytes)? {
                continue;
            }
            self.map().set(part, Some(State::Failed));
            let mut failures = 0;
            for block in pieces(part, BLOCK) {
                let bytes = &mut buffer[..block.len() as usize];
                if failures < PATIENCE && matches!(self.try_once(block, bytes)?, Got::Nothing) {
                    failures += 1;
                }
            }
        }
        Ok(())
    }
}

/// Compares places that two sides have read; `read` fills both buffers.
fn compare(
    places: &[ByteRange],
    path: &Path,
    read: impl Fn(ByteRange, &mut [u8], &mut [u8]) -> Result<(), DiskError>,
) -> Result<(), KeptError> {
    let step = places.len().div_ceil(SAMPLES).max(1);
    let mut buffers = [
        AlignedBuf::new(BLOCK as usize),
        AlignedBuf::new(BLOCK as usize),
    ];
    for place in places.iter().step_by(step) {
        let range = ByteRange {
            start: place.start,
            end: place.end.min(place.start + BLOCK),
        };
        let [mine, theirs] = &mut buffers;
        let len = range.len() as usize;
        let (mine, theirs) = (&mut mine[..len], &mut theirs[..len]);
        let done = read(range, mine, theirs);
        done.map_err(|source| KeptError::File {
            path: path.to_owned(),
            source: source.into(),
        })?;
        if let Some(at) = mine.iter().zip(&*theirs).position(|(a, b)| a != b) {
            return Err(KeptError::Other {
                path: path.to_owned(),
                offset: range.start + at as u64,
            });
        }
    }
    Ok(())
}

/// A range in pieces that end at multiples of `unit`.
pub(crate) fn pieces(range: ByteRange, unit: u64) -> impl DoubleEndedIterator<Item = ByteRange> {
    let first = range.start / unit;
    (first..range.end.div_ceil(unit)).map(move |index| ByteRange {
        start: range.start.max(index * unit),
        end: range.end.min((index + 1) * unit),
    })
}

impl BlockDevice for Rescue {
    fn size(&self) -> u64 {
        self.size
    }

    fn logical_sector(&self) -> SectorSize {
        self.sector
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let range = ByteRange::from_len(offset, buffer.len() as u64);
        let range = range.filter(|range| range.end <= self.size);
        let Some(range) = range else {
            return Err(DiskError::PastEnd {
                operation: Operation::Read,
                offset,
                len: buffer.len() as u64,
                size: self.size,
            });
        };
        let around = rounded_out(range, BLOCK, self.whole());
        let untried = self.map().in_state(&[around], None);
        for part in untried {
            self.try_for_now(part)?;
        }
        let parts = self.map().pieces(range);
        for (part, state) in parts {
            let bytes = (part.start - offset) as usize..(part.end - offset) as usize;
            let bytes = &mut buffer[bytes];
            if state == Some(State::Read) {
                self.kept.read(part.start, bytes)?;
                continue;
            }
            bytes.fill(0);
            locked(&self.guessed).push(part);
        }
        Ok(())
    }

    fn write_at(&self, _offset: u64, _data: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}
