//! A quick look at a file on a server.

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::Remote;
use super::start::IN_MEMORY;
use crate::packed::PackedBytes;
use crate::{StreamError, StreamFault};

/// The start of a file on a server, as far as it is kept in memory anyway, and its tail.
#[derive(Debug)]
pub(crate) struct StartOnly {
    remote: Arc<Remote>,
    /// Bytes that may still be asked for out of order.
    elsewhere: AtomicU64,
}

/// What is asked for out of order at most, in bytes: the structures of file systems lie here and there.
const ELSEWHERE: u64 = 64 << 20;

impl StartOnly {
    /// The same, where some of what lies elsewhere may be asked for as well.
    pub(crate) fn and_around(self) -> Self {
        Self {
            elsewhere: AtomicU64::new(ELSEWHERE),
            ..self
        }
    }

    pub(super) fn new(remote: Arc<Remote>) -> Self {
        Self {
            remote,
            elsewhere: AtomicU64::new(0),
        }
    }
}

impl StartOnly {
    /// Where the server gives parts, a few of them may lie anywhere.
    fn may_ask_elsewhere(&self, len: usize) -> bool {
        let take = |left: u64| left.checked_sub(len as u64);
        self.remote.can_jump()
            && self
                .elsewhere
                .try_update(Ordering::Relaxed, Ordering::Relaxed, take)
                .is_ok()
    }
}

impl PackedBytes for StartOnly {
    fn size(&self) -> Option<u64> {
        self.remote.size()
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let not_fetched = || {
            io::Error::other(StreamError {
                layer: None,
                fault: StreamFault::NotFetched,
                packed: offset,
                unpacked: offset,
            })
        };
        if self.remote.is_near(offset) {
            return self.remote.read_at(buffer, offset);
        }
        // In order, so that everything on the way is kept.
        let mut scratch = vec![0; 64 << 10];
        loop {
            let known = self.remote.kept_start();
            if offset < known {
                return self.remote.read_at(buffer, offset);
            }
            if known >= IN_MEMORY || offset >= IN_MEMORY {
                return if self.may_ask_elsewhere(buffer.len()) {
                    self.remote.read_at(buffer, offset)
                } else {
                    Err(not_fetched())
                };
            }
            if self.remote.read_at(&mut scratch, known)? == 0 {
                return Ok(0);
            }
        }
    }

    fn can_jump(&self) -> bool {
        self.remote.can_jump()
    }

    fn is_near(&self, offset: u64) -> bool {
        self.remote.is_near(offset)
    }
}
