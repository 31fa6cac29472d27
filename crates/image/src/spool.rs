//! Random access to content inside a stream: in place if it is stored uncompressed, otherwise
//! unpacked to an unnamed file that disappears at the end.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::packed::{Files, PackedBytes};
use crate::{ImageStream, StreamError, StreamFault};

/// Space left free for others, in bytes.
const RESERVE: u64 = 64 << 20;
const BLOCK: usize = 1 << 20;

/// Where to unpack to, and the progress.
#[derive(Clone, Debug, Default)]
pub struct Spool {
    /// Finds the folder, once it is needed; without one, nothing is unpacked to a file.
    pub folder: Option<fn() -> Option<PathBuf>>,
    /// Bytes written so far.
    pub done: Arc<AtomicU64>,
    /// Bytes in total; 0 if unknown.
    pub total: Arc<AtomicU64>,
}

/// There is not enough space for a file.
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

    /// Unpacks a stream to an unnamed file; returns it and its length.
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

/// A part of packed bytes that holds something uncompressed.
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
