//! An image, unpacked once for many media: what is in use, in a sparse file, with a digest for each
//! chunk.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use pinewrit_core::receipt::ReceiptImage;
use pinewrit_core::write::{ChunkRecord, UnpackError, WriteError, unpack};
use pinewrit_core::{Cancel, Observer};
use pinewrit_disk::{
    BlockDevice, ByteRange, CHUNK_SIZE, CacheUse, DiskError, FileDevice, Operation, SectorSize,
};
use pinewrit_image::{ExpectedChecksum, ImageSource, OpenError, OpenOptions};

/// What is left free on the disk of the spool, in bytes.
const SPARE: u64 = 256 << 20;

/// Why there is no spool.
#[derive(Debug, thiserror::Error)]
pub enum NoSpool {
    /// It is read as it is: it has no wrapping.
    #[error("it has no wrapping")]
    Plain,
    /// The disk has no room for it.
    #[error("it needs {needed} bytes, {} has {free} free", folder.display())]
    NoRoom {
        /// Where it would be.
        folder: PathBuf,
        /// What it needs, with what stays free for others.
        needed: u64,
        /// What is free.
        free: u64,
    },
    /// The disk failed.
    #[error("{} cannot be written", folder.display())]
    Io {
        /// Where it would be.
        folder: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// The image itself is bad.
    #[error(transparent)]
    Image(WriteError),
    /// What was unpacked is not an image.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// An unpacked image. Its file has no name, and is gone with the program.
#[derive(Clone)]
pub struct Spool {
    /// What receipts say about the image.
    pub image: ReceiptImage,
    content: Arc<Content>,
    name: String,
    source: pinewrit_image::Location,
}

struct Content {
    device: FileDevice,
    chunks: HashMap<u64, ChunkRecord>,
}

impl Spool {
    /// Unpacks `source` into a file in `folder`, and checks its checksum. `expected_free` is what
    /// is known to be free in it, in bytes.
    ///
    /// # Errors
    /// [`NoSpool`].
    pub fn make(
        source: &ImageSource,
        checksum: Option<&ExpectedChecksum>,
        expected_free: u64,
        folder: &Path,
        observer: &dyn Observer,
        cancel: &Cancel,
    ) -> Result<Self, NoSpool> {
        if source.plain().is_some() {
            return Err(NoSpool::Plain);
        }
        let failed = |source| NoSpool::Io {
            folder: folder.to_owned(),
            source,
        };
        std::fs::create_dir_all(folder).map_err(failed)?;
        let size = source.unpacked_size();
        let in_use = size.at_least().saturating_sub(expected_free);
        let needed = in_use.saturating_add(SPARE);
        let free = free_space(folder).map_err(failed)?;
        if needed > free {
            return Err(NoSpool::NoRoom {
                folder: folder.to_owned(),
                needed,
                free,
            });
        }
        let file = tempfile::tempfile_in(folder).map_err(failed)?;
        let unpacked = unpack(source, &file, checksum, observer, cancel);
        let report = unpacked.map_err(|error| match error {
            UnpackError::File(error) => failed(error),
            UnpackError::Image(error) => NoSpool::Image(error),
        })?;
        let chunks = report.chunks.into_iter().map(|chunk| (chunk.index, chunk));
        Ok(Self {
            image: ReceiptImage {
                name: source.name(),
                wrapping: source.layers().iter().map(ToString::to_string).collect(),
                packed_bytes: source.packed_size(),
                unpacked_bytes: report.image_bytes,
                checksum: report.checksum.map(|sum| sum.digest),
                listed: source.listed().map(str::to_owned),
            },
            content: Arc::new(Content {
                device: device_of(file, report.image_bytes),
                chunks: chunks.collect(),
            }),
            name: unpacked_name(&source.name()),
            source: source.location().clone(),
        })
    }

    /// The unpacked image as a source for one medium. What it reads is compared with the digests.
    ///
    /// # Errors
    /// It is not an image.
    pub fn source(&self) -> Result<ImageSource, OpenError> {
        let device = Checked {
            content: Arc::clone(&self.content),
            running: Mutex::default(),
        };
        let options = OpenOptions::default();
        ImageSource::of_device(&self.source, &self.name, Arc::new(device), &options)
    }

    /// What it takes on the disk, in bytes.
    pub fn used_bytes(&self) -> u64 {
        self.content
            .chunks
            .values()
            .map(ChunkRecord::used_bytes)
            .sum()
    }
}

/// The name without the endings of its wrappings: what has those, and no wrapping, is taken for
/// damaged.
fn unpacked_name(name: &str) -> String {
    let end = match name.find(".img") {
        Some(start) => start + ".img".len(),
        None => name.find('.').unwrap_or(name.len()),
    };
    name[..end].to_owned()
}

fn device_of(file: File, size: u64) -> FileDevice {
    FileDevice::new(file, size, SectorSize::B512, CacheUse::Cached)
}

fn free_space(folder: &Path) -> io::Result<u64> {
    let facts = rustix::fs::statvfs(folder)?;
    Ok(facts.f_bavail.saturating_mul(facts.f_frsize))
}

/// A reader of the spool: when it reads what is in use of a chunk in one go, it compares the digest.
struct Checked {
    content: Arc<Content>,
    running: Mutex<Option<Running>>,
}

/// A chunk that is being read from its start.
struct Running {
    index: u64,
    /// The next range of it.
    next: usize,
    hasher: blake3::Hasher,
}

impl Checked {
    fn follow(&self, offset: u64, bytes: &[u8]) -> Result<(), DiskError> {
        let index = offset / CHUNK_SIZE as u64;
        let Some(record) = self.content.chunks.get(&index) else {
            return Ok(());
        };
        let mut running = self.running.lock().unwrap_or_else(|e| e.into_inner());
        let begins = record
            .used
            .first()
            .is_some_and(|range| range.start == offset);
        if begins {
            *running = Some(Running {
                index,
                next: 0,
                hasher: blake3::Hasher::new(),
            });
        }
        let Some(run) = running.as_mut().filter(|run| run.index == index) else {
            return Ok(());
        };
        let is_next =
            |range: &ByteRange| range.start == offset && range.len() == bytes.len() as u64;
        if !record.used.get(run.next).is_some_and(is_next) {
            *running = None;
            return Ok(());
        }
        run.hasher.update(bytes);
        run.next += 1;
        if run.next < record.used.len() {
            return Ok(());
        }
        let digest = run.hasher.finalize();
        *running = None;
        if digest == record.digest {
            Ok(())
        } else {
            let why = io::Error::other("the unpacked image has changed on this computer's disk");
            Err(DiskError::Io {
                operation: Operation::Read,
                offset,
                source: why,
            })
        }
    }
}

impl BlockDevice for Checked {
    fn size(&self) -> u64 {
        self.content.device.size()
    }

    fn logical_sector(&self) -> SectorSize {
        SectorSize::B512
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.content.device.read_at(offset, buffer)?;
        self.follow(offset, buffer)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.read_at(offset, buffer)
    }

    fn write_at(&self, _: u64, _: &[u8]) -> Result<(), DiskError> {
        Err(DiskError::ReadOnly)
    }

    fn flush(&self) -> Result<(), DiskError> {
        Ok(())
    }
}
