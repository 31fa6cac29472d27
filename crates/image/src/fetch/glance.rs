//! A quick look at a file on a server.

use std::io;
use std::sync::Arc;

use super::Remote;
use super::start::IN_MEMORY;
use crate::packed::PackedBytes;
use crate::{StreamError, StreamFault};

/// The start of a file on a server, as far as it is kept in memory anyway, and its tail.
#[derive(Debug)]
pub(crate) struct StartOnly(Arc<Remote>);

impl StartOnly {
    pub(super) fn new(remote: Arc<Remote>) -> Self {
        Self(remote)
    }
}

impl PackedBytes for StartOnly {
    fn size(&self) -> Option<u64> {
        self.0.size()
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
        if self.0.is_near(offset) {
            return self.0.read_at(buffer, offset);
        }
        // In order, so that everything on the way is kept.
        let mut scratch = vec![0; 64 << 10];
        loop {
            let known = self.0.kept_start();
            if offset < known {
                return self.0.read_at(buffer, offset);
            }
            if known >= IN_MEMORY || offset >= IN_MEMORY {
                return Err(not_fetched());
            }
            if self.0.read_at(&mut scratch, known)? == 0 {
                return Ok(0);
            }
        }
    }

    fn can_jump(&self) -> bool {
        self.0.can_jump()
    }

    fn is_near(&self, offset: u64) -> bool {
        self.0.is_near(offset)
    }
}
