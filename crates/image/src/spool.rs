//! What can only be read here and there, and lies where everything passes once: in place, where it is
//! stored as it is, else unpacked to a file of its own that nobody sees and that is gone at the end.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::packed::{Files, PackedBytes};
use crate::{ImageStream, StreamError, StreamFault};

/// Room that is left to others, in bytes.
const RESERVE: u64 = 64 << 20;
const BLOCK: usize = 1 << 20;

/// Where to unpack to, and how far that is.
#[derive(Clone, Debug, Default)]
pub struct Spool {
    /// Finds the folder, once it is needed; without one, nothing is unpacked to a file.
    pub folder: Option<fn() -> Option<PathBuf>>,
    /// Bytes that were written there so far.
    pub done: Arc<AtomicU64>,
    /// Bytes there will be; 0 where that is not known.
    pub total: Arc<AtomicU64>,
}

/// A file there is not room enough for.
fn no_room(needed: u64, free: u64, folder: &std::path::Path) -> io::Error {
    io::Error::other(StreamError {
        layer: None,
        fault: StreamFault::NoRoom {
            needed,
            free,
            folder: folder.to_owned(),
        },
        packed: 0,
        unpacked: 0,
    })
}

impl Spool {
    fn find_folder(&self) -> Option<PathBuf> {
        self.folder?()
    }

    /// Checks that there is room for this many bytes.
    pub(crate) fn announce(&self, total: Option<u64>) -> io::Result<()> {
        let Some(folder) = self.find_folder() else {
            return Err(io::Error::other(StreamError {
                layer: None,
                fault: StreamFault::Unsupported {
                    what:
                        "an archive in another wrapping, where nothing can be unpacked to a file; \
                           unpack the outer one first"
                            .into(),
                },
                packed: 0,
                unpacked: 0,
            }));
        };
        self.done.store(0, Ordering::Relaxed);
        self.total.store(total.unwrap_or(0), Ordering::Relaxed);
        std::fs::create_dir_all(&folder)?;
        let facts = rustix::fs::statvfs(&folder)?;
        let free = facts.f_bavail.saturating_mul(facts.f_frsize);
        let needed = total.unwrap_or(0).saturating_add(RESERVE);
        if needed > free {
            Err(no_room(needed, free, &folder))
        } else {
            Ok(())
        }
    }

    /// Unpacks a stream to a file without a name; returns it and its length.
    pub(crate) fn fill(&self, stream: &mut dyn Read) -> io::Result<(File, u64)> {
        let folder = self.find_folder().unwrap_or_default();
        let mut file = tempfile::tempfile_in(&folder)?;
        let mut block = vec![0; BLOCK];
        let mut len = 0_u64;
        loop {
            let read = match stream.read(&mut block) {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                read => read?,
            };
            if read == 0 {
                return Ok((file, len));
            }
            file.write_all(&block[..read])
                .map_err(|error| match error.kind() {
                    io::ErrorKind::StorageFull => no_room(len + read as u64, len, &folder),
                    _ => error,
                })?;
            len += read as u64;
            self.done.fetch_add(read as u64, Ordering::Relaxed);
        }
    }

    /// As [`Spool::fill`], as packed bytes.
    pub(crate) fn keep(&self, mut stream: ImageStream) -> io::Result<Arc<dyn PackedBytes>> {
        Ok(Arc::new(Files::of(vec![self.fill(&mut stream)?])))
    }
}

/// A part of packed bytes, which holds something stored as it is.
#[derive(Debug)]
pub(crate) struct StoredPart {
    pub(crate) packed: Arc<dyn PackedBytes>,
    pub(crate) start: u64,
    pub(crate) len: u64,
}

impl PackedBytes for StoredPart {
    fn size(&self) -> Option<u64> {
        Some(self.len)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        let left = self.len.saturating_sub(offset);
        let wanted = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        match wanted {
            0 => Ok(0),
            wanted => self
                .packed
                .read_at(&mut buffer[..wanted], self.start + offset),
        }
    }

    fn is_near(&self, offset: u64) -> bool {
        self.packed.is_near(self.start.saturating_add(offset))
    }
}
