//! Looking into an image through its wrapping, as if it were a device.

use std::collections::BTreeMap;
use std::io::{self, Read};
use std::sync::{Mutex, MutexGuard};

use pinewrit_disk::{BlockDevice, DiskError, Operation, SectorSize, is_zero};

use crate::{ImageSource, ImageStream, StreamError, StreamFault};

const BLOCK: usize = 64 << 10;
/// Blocks that are kept for going back: 64 MiB. Blocks of zeros cost nothing.
const KEPT_BLOCKS: usize = 1024;

/// A read-only device over an image's unwrapped stream.
///
/// The stream is unpacked only as far as reads ask for. Going back costs nothing within the kept
/// part; further back, the stream is unpacked again from its start.
pub struct PeekDevice {
    source: ImageSource,
    limit: u64,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    stream: Option<ImageStream>,
    /// Number of the block that the stream gives next.
    next: u64,
    /// `None` for a block of zeros of full length.
    kept: BTreeMap<u64, Option<Box<[u8]>>>,
    stored: usize,
    /// Size of the image, once its end was met.
    end: Option<u64>,
}

impl PeekDevice {
    /// A view of `source`; nothing is unpacked yet.
    pub fn new(source: ImageSource) -> Self {
        Self {
            source,
            limit: u64::MAX,
            state: Mutex::default(),
        }
    }

    /// The same view, for quick looks: reads past `limit` bytes of the unwrapped image fail as if
    /// it ended there, rather than unpack so much.
    pub fn with_limit(self, limit: u64) -> Self {
        Self { limit, ..self }
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }
}

impl PeekDevice {
    /// Reads an image without any wrapping where it lies.
    fn read_plain(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        let mut done = 0;
        while done < buffer.len() {
            let position = offset + done as u64;
            match self.source.packed().read_at(&mut buffer[done..], position) {
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

/// A quick look ends there as if the image did.
fn is_not_fetched(error: &io::Error) -> bool {
    let found = StreamError::in_io(error);
    found.is_some_and(|found| matches!(found.fault, StreamFault::NotFetched))
}

impl State {
    /// Unpacks until `block` is kept; `false` if the image ends before it.
    fn load(&mut self, source: &ImageSource, block: u64) -> io::Result<bool> {
        if self.kept.contains_key(&block) {
            return Ok(true);
        }
        if block < self.next || self.stream.is_none() {
            self.stream = Some(source.stream()?);
            self.next = 0;
        }
        while self.next <= block {
            if !self.read_block()? {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Reads and keeps the next block; `false` at the end of the image.
    fn read_block(&mut self) -> io::Result<bool> {
        let Some(stream) = &mut self.stream else {
            return Ok(false);
        };
        let mut bytes = Vec::with_capacity(BLOCK);
        let read = stream.take(BLOCK as u64).read_to_end(&mut bytes);
        if read.is_err() {
            // What follows an error is not the end of the image.
            self.stream = None;
        }
        read?;
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
    /// The image's size; where that is not known, a size larger than any medium.
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
        let readable = size.min(self.limit);
        if offset
            .checked_add(buffer.len() as u64)
            .is_none_or(|end| end > readable)
        {
            return Err(beyond);
        }
        if self.source.layers().is_empty() && self.source.packed().can_jump() {
            return self.read_plain(offset, buffer);
        }
        let mut state = self.lock();
        let mut done = 0;
        while done < buffer.len() {
            let position = offset + done as u64;
            let (block, within) = (position / BLOCK as u64, (position % BLOCK as u64) as usize);
            let part = (BLOCK - within).min(buffer.len() - done);
            let loaded = match state.load(&self.source, block) {
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
