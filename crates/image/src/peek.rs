//! Looking into an image through its wrapping, as if it were a device.

use std::collections::BTreeMap;
use std::io::{self, Read};
use std::sync::{Mutex, MutexGuard};

use pinewrit_disk::{BlockDevice, DiskError, Operation, SectorSize, is_zero};

use crate::jumps::Jumps;
use crate::packed::PackedBytes;
use crate::{ImageSource, ImageStream, StreamError, StreamFault};

const BLOCK: usize = 64 << 10;
/// How much may be unpacked for a preview of an image with random access, as a multiple of the
/// limit for reading from the start.
const JUMPING: u64 = 4;
/// Cached blocks for going back: 64 MiB. Blocks of zeros cost nothing.
const KEPT_BLOCKS: usize = 1024;

/// A read-only device over an image's unwrapped stream.
///
/// The stream is unpacked only as far as reads require. Going back costs nothing within the cache;
/// further back, the stream is unpacked again from its start, or from a nearer place if the
/// wrapping has one.
pub struct PeekDevice {
    source: ImageSource,
    jumps: Option<Jumps>,
    limit: u64,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    stream: Option<ImageStream>,
    /// Number of the next block in the stream.
    next: u64,
    /// Bytes unpacked so far.
    unpacked: u64,
    /// `None` for a block of zeros of full length.
    kept: BTreeMap<u64, Option<Box<[u8]>>>,
    stored: usize,
    /// Size of the image, once its end has been reached.
    end: Option<u64>,
}

impl PeekDevice {
    /// A view of `source`; nothing is unpacked yet.
    pub fn new(source: ImageSource) -> Self {
        Self {
            jumps: source.jumps(),
            source,
            limit: u64::MAX,
            state: Mutex::default(),
        }
    }

    /// The same view, for previews: reads past `limit` bytes of the unwrapped image fail as if it
    /// ended there. With random access, they fail once several times as much has been unpacked.
    pub fn with_limit(self, limit: u64) -> Self {
        Self { limit, ..self }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }
}

/// Reads an image in place.
fn read_stored(packed: &dyn PackedBytes, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
    let mut done = 0;
    while done < buffer.len() {
        let position = offset + done as u64;
        match packed.read_at(&mut buffer[done..], position) {
            Ok(0) => return Err(past_end(offset, buffer.len(), position)),
            Ok(len) => done += len,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) if is_not_fetched(&error) => {
                return Err(past_end(offset, buffer.len(), position));
            }
            Err(error) => return Err(read_failed(position, error)),
        }
    }
    Ok(())
}

fn past_end(offset: u64, len: usize, size: u64) -> DiskError {
    DiskError::PastEnd {
        operation: Operation::Read,
        offset,
        len: len as u64,
        size,
    }
}

fn read_failed(offset: u64, source: io::Error) -> DiskError {
    DiskError::Io {
        operation: Operation::Read,
        offset,
        source,
    }
}

/// A preview ends there as if the image did.
fn is_not_fetched(error: &io::Error) -> bool {
    let found = StreamError::in_io(error);
    found.is_some_and(|found| matches!(found.fault, StreamFault::NotFetched))
}

impl State {
    /// Unpacks until `block` is kept; `false` if the image ends before it, or after `budget` bytes.
    fn load(&mut self, device: &PeekDevice, block: u64) -> io::Result<bool> {
        if self.kept.contains_key(&block) {
            return Ok(true);
        }
        self.go_to(device, block)?;
        let budget = device.limit.saturating_mul(JUMPING);
        while self.next <= block {
            if self.unpacked >= budget || !self.read_block()? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Positions the stream before a block, unless reading on gets there.
    fn go_to(&mut self, device: &PeekDevice, block: u64) -> io::Result<()> {
        let is_behind = block < self.next || self.stream.is_none();
        let Some(jumps) = &device.jumps else {
            if is_behind {
                self.stream = Some(device.source.stream()?);
                self.next = 0;
            }
            return Ok(());
        };
        let from = jumps.before(block * BLOCK as u64);
        // The first whole block from there on.
        let first = from.unpacked.div_ceil(BLOCK as u64);
        if is_behind || first > self.next {
            let mut stream = jumps.stream(from)?;
            let rest = first * BLOCK as u64 - from.unpacked;
            io::copy(&mut (&mut stream).take(rest), &mut io::sink())?;
            self.stream = Some(stream);
            self.next = first;
        }
        Ok(())
    }

    /// Reads and keeps the next block; `false` at the end of the image.
    fn read_block(&mut self) -> io::Result<bool> {
        let Some(stream) = &mut self.stream else {
            return Ok(false);
        };
        let mut bytes = Vec::with_capacity(BLOCK);
        let read = stream.take(BLOCK as u64).read_to_end(&mut bytes);
        if read.is_err() {
            // An error is not the end of the image.
            self.stream = None;
        }
        read?;
        self.unpacked += bytes.len() as u64;
        if bytes.len() < BLOCK {
            self.end = Some(self.next * BLOCK as u64 + bytes.len() as u64);
        }
        if bytes.is_empty() {
            return Ok(false);
        }
        let stored = bytes.len() < BLOCK || !is_zero(&bytes);
        self.stored += usize::from(stored);
        self.kept
            .insert(self.next, stored.then(|| bytes.into_boxed_slice()));
        self.next += 1;
        while self.stored > KEPT_BLOCKS {
            let Some((_, dropped)) = self.kept.pop_first() else {
                break;
            };
            self.stored -= usize::from(dropped.is_some());
        }
        Ok(true)
    }

    fn copy(&self, block: u64, within: usize, part: &mut [u8]) -> bool {
        match self.kept.get(&block) {
            Some(None) => part.fill(0),
            Some(Some(bytes)) => match bytes.get(within..within + part.len()) {
                Some(bytes) => part.copy_from_slice(bytes),
                None => return false,
            },
            None => return false,
        }
        true
    }
}

impl BlockDevice for PeekDevice {
    /// The image's size; if that is unknown, a size larger than any medium.
    fn size(&self) -> u64 {
        let known = self.source.unpacked_size().exact().or(self.lock().end);
        known.unwrap_or(1 << 62)
    }

    fn logical_sector(&self) -> SectorSize {
        SectorSize::B512
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let size = self.size();
        let beyond = past_end(offset, buffer.len(), size);
        let readable = match self.jumps {
            Some(_) => size,
            None => size.min(self.limit),
        };
        if offset
            .checked_add(buffer.len() as u64)
            .is_none_or(|end| end > readable)
        {
            return Err(beyond);
        }
        if let Some(Jumps::Stored(packed)) = &self.jumps {
            return read_stored(&**packed, offset, buffer);
        }
        let mut state = self.lock();
        let mut done = 0;
        while done < buffer.len() {
            let position = offset + done as u64;
            let (block, within) = (position / BLOCK as u64, (position % BLOCK as u64) as usize);
            let part = (BLOCK - within).min(buffer.len() - done);
            let loaded = match state.load(self, block) {
                Err(error) if is_not_fetched(&error) => return Err(beyond),
                loaded => loaded.map_err(|source| read_failed(position, source))?,
            };
            if !loaded || !state.copy(block, within, &mut buffer[done..done + part]) {
                return Err(beyond);
            }
            done += part;
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
