//! Readers with their own position over packed bytes.

use std::io::{self, ErrorKind, Read, Seek, SeekFrom};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::PackedBytes;
use crate::{StreamError, StreamFault};

/// Fills `buffer` from `offset` on; `None` if the bytes end before, or cannot be read.
pub(crate) fn read_exact(packed: &dyn PackedBytes, buffer: &mut [u8], offset: u64) -> Option<()> {
    let mut done = 0;
    while done < buffer.len() {
        let at = offset.checked_add(done as u64)?;
        if !packed.is_near(at) {
            return None;
        }
        match packed.read_at(&mut buffer[done..], at) {
            Ok(0) => return None,
            Ok(len) => done += len,
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(_) => return None,
        }
    }
    Some(())
}

/// `N` bytes at `at`; `None` if the bytes end before, or cannot be read.
pub(crate) fn read<const N: usize>(packed: &dyn PackedBytes, at: u64) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    read_exact(packed, &mut bytes, at)?;
    Some(bytes)
}

/// Reads a source's packed bytes in order. Several readers of one source do not disturb each
/// other.
#[derive(Clone, Debug)]
pub struct PackedReader {
    packed: Arc<dyn PackedBytes>,
    position: u64,
}

impl PackedReader {
    /// A reader at the start.
    pub(crate) fn new(packed: Arc<dyn PackedBytes>) -> Self {
        Self {
            packed,
            position: 0,
        }
    }
}

impl Read for PackedReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self
            .packed
            .read_at(buffer, self.position)
            .map_err(|error| at(error, self.position))?;
        self.position += len as u64;
        Ok(len)
    }
}

/// Adds where reading failed, if that is not recorded yet.
fn at(error: io::Error, position: u64) -> io::Error {
    if error.kind() == ErrorKind::Interrupted || StreamError::in_io(&error).is_some() {
        return error;
    }
    io::Error::other(StreamError {
        layer: None,
        fault: StreamFault::Read(error),
        packed: position,
        unpacked: position,
    })
}

/// A reader whose position can be moved, and which counts what it reads.
#[derive(Clone, Debug)]
pub(crate) struct FileCursor {
    reader: PackedReader,
    size: u64,
    counter: Arc<AtomicU64>,
}

impl FileCursor {
    /// A cursor at the start of `size` bytes; `counter` goes up by the bytes that are read.
    pub(crate) fn new(packed: Arc<dyn PackedBytes>, size: u64, counter: Arc<AtomicU64>) -> Self {
        Self {
            reader: PackedReader::new(packed),
            size,
            counter,
        }
    }

    /// What it is over.
    pub(crate) fn packed(&self) -> &dyn PackedBytes {
        &*self.reader.packed
    }
}

impl Read for FileCursor {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.reader.read(buffer)?;
        self.counter.fetch_add(len as u64, Ordering::Relaxed);
        Ok(len)
    }
}

impl Seek for FileCursor {
    fn seek(&mut self, target: SeekFrom) -> io::Result<u64> {
        let position = match target {
            SeekFrom::Start(offset) => Some(offset),
            SeekFrom::Current(delta) => self.reader.position.checked_add_signed(delta),
            SeekFrom::End(delta) => self.size.checked_add_signed(delta),
        };
        self.reader.position = position.ok_or(ErrorKind::InvalidInput)?;
        Ok(self.reader.position)
    }
}
