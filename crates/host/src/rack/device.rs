//! A simulated medium: a file with a card's speed and a card's faults.

use std::fs::OpenOptions;
use std::io;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_disk::{
    BlockDevice, ByteRange, CacheUse, DiskError, Fault, FaultyDevice, FileDevice, Operation,
    SectorSize,
};
use rustix::io::Errno;

use super::file::{Beyond, Bytes, Card, Clock, FaultEntry};

/// Opens the file of a card, which is created if necessary; its reader's bus carries so many bytes
/// a second.
pub(crate) fn open(
    card: &Card,
    path: &Path,
    (clock, bus): (Clock, Option<u64>),
) -> io::Result<impl BlockDevice + use<>> {
    let file = OpenOptions::new()
        .read(true)
        .write(true)
        .create(true)
        .truncate(false)
        .open(path)?;
    if file.metadata()?.len() != card.size.0 {
        file.set_len(card.size.0)?;
    }
    let sector = SectorSize::new(card.sector).unwrap_or(SectorSize::B512);
    let device = Unsynced(FileDevice::new(file, card.size.0, sector, CacheUse::Cached));
    let faults = card.faults.iter().flat_map(|entry| faults_of(entry, card));
    let faulty = FaultyDevice::new(device, faults.collect());
    Ok(Paced {
        inner: faulty,
        read_speed: slower(card.read_speed, bus),
        write_speed: slower(card.write_speed, bus),
        latency: Duration::from_millis(card.latency_ms),
        spots: card.faults.iter().filter_map(Spot::of).collect(),
        clock,
        busy_until: Mutex::new(Instant::now()),
        moody: card.faults.iter().filter_map(Moody::of).collect(),
        read: AtomicU64::new(0),
    })
}

/// The slower one of a card with a speed and its bus.
fn slower(card: Option<Bytes>, bus: Option<u64>) -> Option<u64> {
    let card = card.map(|speed| speed.0)?;
    Some(bus.map_or(card, |bus| bus.min(card)))
}

/// A card's file: this computer's disk does not slow down a simulated flush.
struct Unsynced(FileDevice);

impl BlockDevice for Unsynced {
    fn size(&self) -> u64 {
        self.0.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.0.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.0.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.0.write_at(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}

/// How much the card forgets with its power, in bytes.
pub(crate) fn forgets(card: &Card) -> Option<usize> {
    let mut faults = card.faults.iter();
    faults.find_map(|fault| match fault {
        FaultEntry::Forgets { bytes } => usize::try_from(bytes.0).ok(),
        _ => None,
    })
}

/// A fault of reading that does not stay.
enum Moody {
    /// So many requests that touch the range fail.
    Flaky(ByteRange, AtomicU32),
    /// After so many bytes, nothing is there any more.
    Gone(u64),
}

impl Moody {
    fn of(entry: &FaultEntry) -> Option<Self> {
        match entry {
            FaultEntry::FlakyRead { at, len, times } => {
                let range = ByteRange::from_len(at.0, len.0)?;
                Some(Self::Flaky(range, AtomicU32::new(*times)))
            }
            FaultEntry::Gone { after } => Some(Self::Gone(after.0)),
            _ => None,
        }
    }

    /// What it answers to a request, if it is in the mood.
    fn answer(&self, asked: ByteRange, read: u64) -> Option<Errno> {
        match self {
            Self::Flaky(range, left) => {
                range.intersection(asked)?;
                let less = |left: u32| left.checked_sub(1);
                let mood = left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less);
                mood.ok().map(|_| Errno::IO)
            }
            Self::Gone(after) => (read > *after).then_some(Errno::NODEV),
        }
    }
}

fn faults_of(entry: &FaultEntry, card: &Card) -> Vec<Fault> {
    match entry {
        FaultEntry::SmallerThanTold {
            real,
            beyond: Beyond::Errors,
        } => {
            let rest = past(*real, card);
            vec![Fault::ReadError(rest), Fault::WriteError(rest)]
        }
        entry => Vec::from_iter(fault(entry, card)),
    }
}

/// What the card claims to have and has not.
fn past(real: Bytes, card: &Card) -> ByteRange {
    ByteRange {
        start: real.0.min(card.size.0),
        end: card.size.0,
    }
}

fn fault(entry: &FaultEntry, card: &Card) -> Option<Fault> {
    let range = |at: u64, len: u64| ByteRange::from_len(at, len);
    match entry {
        FaultEntry::ReadError { at, len } => range(at.0, len.0).map(Fault::ReadError),
        FaultEntry::WriteError { at, len } => range(at.0, len.0).map(Fault::WriteError),
        FaultEntry::Pulled { after } => Some(Fault::PulledAfter(after.0)),
        FaultEntry::FlippedBit { at } => Some(Fault::FlippedBit(at.0)),
        FaultEntry::LostWrites { at, len } => range(at.0, len.0).map(Fault::LostWrites),
        FaultEntry::SmallerThanTold { real, beyond } => match beyond {
            Beyond::Wraps => Some(Fault::Wraps(real.0)),
            Beyond::Lost => Some(Fault::LostWrites(past(*real, card))),
            Beyond::Errors => None,
        },
        FaultEntry::SlowSpot { .. }
        | FaultEntry::Forgets { .. }
        | FaultEntry::StuckWrite { .. }
        | FaultEntry::FlakyRead { .. }
        | FaultEntry::Gone { .. } => None,
    }
}

/// So late a request may come and still follow the last one without a gap.
const LATE: Duration = Duration::from_millis(5);

/// A slow place.
struct Spot {
    range: ByteRange,
    delay: Duration,
    /// Only the first write there is delayed; `None` for places that are always slow.
    stuck: Option<AtomicBool>,
}

impl Spot {
    fn of(entry: &FaultEntry) -> Option<Self> {
        let (at, len, ms, stuck) = match entry {
            FaultEntry::SlowSpot { at, len, ms } => (at.0, len.0, *ms, None),
            FaultEntry::StuckWrite { at, ms } => (at.0, 1, *ms, Some(AtomicBool::new(true))),
            _ => return None,
        };
        Some(Self {
            range: ByteRange::from_len(at, len)?,
            delay: Duration::from_millis(ms),
            stuck,
        })
    }

    fn delay(&self, asked: ByteRange, is_write: bool) -> Duration {
        let hit = self.range.intersection(asked).is_some();
        let active = match &self.stuck {
            None => hit,
            Some(stuck) => hit && is_write && stuck.swap(false, Ordering::Relaxed),
        };
        if active { self.delay } else { Duration::ZERO }
    }
}

/// A device with the timing of a card: one request after the other.
struct Paced<D> {
    inner: D,
    read_speed: Option<u64>,
    write_speed: Option<u64>,
    latency: Duration,
    spots: Vec<Spot>,
    clock: Clock,
    busy_until: Mutex<Instant>,
    moody: Vec<Moody>,
    /// Bytes that were read since it was opened.
    read: AtomicU64,
}

impl<D> Paced<D> {
    fn take_time(&self, offset: u64, len: usize, speed: Option<u64>, is_write: bool) {
        if self.clock == Clock::Instant {
            return;
        }
        let transfer = speed
            .filter(|speed| *speed > 0)
            .map_or(Duration::ZERO, |speed| {
                Duration::from_secs_f64(len as f64 / speed as f64)
            });
        let asked = ByteRange::from_len(offset, len as u64);
        let spots = self.spots.iter();
        let slow: Duration = spots
            .filter_map(|spot| asked.map(|asked| spot.delay(asked, is_write)))
            .sum();
        let until = {
            let mut busy = self.busy_until.lock().unwrap_or_else(|e| e.into_inner());
            let now = Instant::now();
            // Who comes a little late was woken late: the card had gone on meanwhile.
            let begins = (*busy).max(now.checked_sub(LATE).unwrap_or(now));
            *busy = begins + self.latency + transfer + slow;
            *busy
        };
        thread::sleep(until.saturating_duration_since(Instant::now()));
    }
}

impl<D: BlockDevice> BlockDevice for Paced<D> {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.inner.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.take_time(offset, buffer.len(), self.read_speed, false);
        let len = buffer.len() as u64;
        let read = self.read.fetch_add(len, Ordering::Relaxed) + len;
        let asked = ByteRange::from_len(offset, len);
        let answers = self.moody.iter();
        let refused = answers
            .filter_map(|fault| fault.answer(asked?, read))
            .next();
        if let Some(errno) = refused {
            return Err(DiskError::Io {
                operation: Operation::Read,
                offset,
                source: errno.into(),
            });
        }
        self.inner.read_at(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.take_time(offset, data.len(), self.write_speed, true);
        self.inner.write_at(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.inner.flush()
    }
}
