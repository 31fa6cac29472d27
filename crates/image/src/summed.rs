//! A checksum of the stream between two layers.

use std::io::{self, Read};
use std::sync::{Arc, Mutex};

use crate::{Checksum, ChecksumKind, Hasher, ImageStream};

/// The checksum of a packed member, once it has passed.
pub struct MemberSum {
    hasher: Arc<Mutex<Option<Hasher>>>,
}

impl MemberSum {
    /// The checksum of everything that has passed.
    pub fn finish(self) -> Option<Checksum> {
        let mut hasher = self.hasher.lock().unwrap_or_else(|e| e.into_inner());
        Some(hasher.take()?.finish())
    }
}

/// Hashes what is read from `inner`.
pub(crate) fn sum_up(inner: ImageStream, kind: ChecksumKind) -> (ImageStream, MemberSum) {
    let hasher = Arc::new(Mutex::new(Some(kind.hasher())));
    let sum = MemberSum {
        hasher: Arc::clone(&hasher),
    };
    (Box::new(Summed { inner, hasher }), sum)
}

struct Summed {
    inner: ImageStream,
    hasher: Arc<Mutex<Option<Hasher>>>,
}

impl Read for Summed {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.inner.read(buffer)?;
        let mut hasher = self.hasher.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(hasher) = hasher.as_mut() {
            hasher.update(&buffer[..len]);
        }
        Ok(len)
    }
}
