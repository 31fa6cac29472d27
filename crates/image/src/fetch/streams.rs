//! The available parts of a download: kept bytes, and open requests.

use std::collections::VecDeque;
use std::io;

use crossbeam_channel::Receiver;

use super::connection::Arrival;
use super::recent::{OVERLAP, Recent};
use super::start::Start;

/// Requests that are kept open, each for a reader of its own.
const MAX_STREAMS: usize = 3;

#[derive(Debug)]
pub(super) struct State {
    pub(super) start: Start,
    pub(super) tail: Option<Vec<u8>>,
    pub(super) streams: Vec<Stream>,
    /// The most recent bytes, if they may have to be compared.
    pub(super) recent: Recent,
    /// Offsets at which a stream is currently being read.
    pub(super) busy: Vec<u64>,
    /// Keeping failed for this reason; fetching continues without.
    pub(super) keep_failed: Option<io::Error>,
}

/// A request that is being answered.
#[derive(Debug)]
pub(super) struct Stream {
    pub(super) arrivals: Receiver<Arrival>,
    /// Offset of the next byte to deliver.
    pub(super) position: u64,
    /// Bytes before it that will arrive and are discarded.
    pub(super) drop: u64,
    /// Bytes that will arrive then, and must be the same as before.
    pub(super) known: VecDeque<u8>,
    pub(super) block: Vec<u8>,
    pub(super) used: usize,
    /// Where it ends, if not where the file does.
    pub(super) end: Option<u64>,
}

impl Stream {
    pub(super) fn new(arrivals: Receiver<Arrival>, position: u64, end: Option<u64>) -> Self {
        Self {
            arrivals,
            position,
            end,
            drop: 0,
            known: VecDeque::new(),
            block: Vec::new(),
            used: 0,
        }
    }
}

impl State {
    /// Copies what is kept at `offset`.
    pub(super) fn copy(
        &self,
        buffer: &mut [u8],
        offset: u64,
        tail_at: Option<u64>,
    ) -> Option<io::Result<usize>> {
        if let Some(copied) = self.start.copy(buffer, offset) {
            return Some(copied);
        }
        let within = usize::try_from(offset.checked_sub(tail_at?)?).ok()?;
        let rest = self.tail.as_ref()?.get(within..)?;
        let len = rest.len().min(buffer.len());
        buffer[..len].copy_from_slice(&rest[..len]);
        Some(Ok(len))
    }

    pub(super) fn keep(&mut self, bytes: &[u8], offset: u64) {
        let Err(error) = self.start.append(bytes, offset) else {
            return;
        };
        self.keep_failed.get_or_insert(error);
        // The start is needed anyway, as if nothing were to be kept.
        if self.start.move_to_memory().is_ok() {
            let _ = self.start.append(bytes, offset);
        }
    }

    /// What is known about the bytes just before `offset`.
    pub(super) fn known_before(&self, offset: u64) -> VecDeque<u8> {
        if let Some(recent) = self.recent.before(offset) {
            return recent;
        }
        let wanted = offset.min(OVERLAP as u64);
        let mut known = vec![0; wanted as usize];
        let mut done = 0;
        while done < known.len() {
            let place = offset - wanted + done as u64;
            match self.start.copy(&mut known[done..], place) {
                Some(Ok(len)) if len > 0 => done += len,
                _ => return VecDeque::new(),
            }
        }
        known.into()
    }

    pub(super) fn put_back(&mut self, stream: Stream) {
        if stream.end == Some(stream.position) {
            return;
        }
        if self.streams.len() == MAX_STREAMS {
            self.streams.remove(0);
        }
        self.streams.push(stream);
    }

    pub(super) fn has_stream_at(&self, offset: u64) -> bool {
        self.streams.iter().any(|stream| stream.position == offset)
    }
}
