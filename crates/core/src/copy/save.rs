//! Saving a medium as an image: used bytes only, packed on the way, decoded again and compared
//! before the file gets its name.

use std::fs;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread;
use std::time::Instant;

use crossbeam_channel::{Receiver, bounded};
use pinewrit_disk::{BlockDevice, ByteRange, CHUNK_SIZE, Ranges, is_zero};
use pinewrit_image::{ImageSource, Location, OpenError, OpenOptions, Packing, StreamError};
use pinewrit_volume::extents::{MapTracker, RegionFacts};
use schemars::JsonSchema;
use serde::Serialize;

use super::scratch::Scratch;
use super::sink::{Piece, Sink};
use crate::pipeline::{
    BUFFERS, Chunk, Interrupted, SourcePosition, WantedSums, spawn, stream_chunks,
};
use crate::receipt::{Identifiers, Receipt, ReceiptImage, ReceiptMedium};
use crate::write::{ChunkRecord, WriteReport, rfc3339};
use crate::{Cancel, Observer, Progress, Stage};

/// Chunks on their way to the packer.
const QUEUE: usize = 4;

/// How a medium is saved.
#[derive(Clone, Debug, Default)]
pub struct SaveRequest {
    /// How the image is packed; not at all if `None`.
    pub packing: Option<Packing>,
    /// The largest piece in bytes; one file if `None`.
    pub pieces: Option<u64>,
}

/// What was saved.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Saved {
    /// Size of the image in bytes.
    pub image_bytes: u64,
    /// Bytes of it that are in use; the others are zero.
    pub used_bytes: u64,
    /// Bytes of the file, or of all pieces together.
    pub packed_bytes: u64,
    /// The files.
    pub files: Vec<SavedPiece>,
    /// Checksum of the file, or of all pieces together: `sha256:…`.
    pub checksum: String,
    /// Time for reading, packing and writing, in seconds.
    pub save_seconds: f64,
    /// Time for decoding and comparing, in seconds.
    pub verify_seconds: f64,
    /// What the map knows about the partitions.
    pub regions: Vec<RegionFacts>,
    /// The map, with a digest for each chunk.
    #[serde(skip)]
    pub chunks: Vec<ChunkRecord>,
}

/// A file of a saved image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SavedPiece {
    /// Its path.
    pub path: PathBuf,
    /// Its size in bytes.
    pub bytes: u64,
}

/// Why an image was not saved. Nothing has its name.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SaveError {
    /// The source could not be opened as an image.
    #[error("the medium cannot be read as an image")]
    Open(#[source] OpenError),
    /// The source could not be read.
    #[error("the medium could not be read")]
    Source(#[source] StreamError),
    /// The image could not be written.
    #[error("the image could not be written")]
    Out(#[from] io::Error),
    /// What was decoded again is not what was read.
    #[error("the packed image differs at byte {offset} from what was read")]
    Differs {
        /// Offset in the image, in bytes, of the first chunk that differs.
        offset: u64,
    },
    /// It was cancelled.
    #[error("stopped")]
    Cancelled,
}

/// Saves a device as the image at `path`, which gets its name once it is verified; a checksum file
/// is put beside it. What has those names already is replaced.
///
/// # Errors
/// [`SaveError`].
pub fn save(
    device: Arc<dyn BlockDevice>,
    path: &Path,
    request: &SaveRequest,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<Saved, SaveError> {
    let name = path
        .file_name()
        .unwrap_or_default()
        .to_string_lossy()
        .into_owned();
    let folder = path.parent().unwrap_or(Path::new(""));
    let here = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    let scratch = Scratch::new(here, &name)?;
    let begun = Instant::now();
    let size = device.size();
    let location = Location::Path(path.to_owned());
    let options = OpenOptions::default();
    let source = ImageSource::of_device(&location, &name, Arc::clone(&device), &options);
    let source = source.map_err(SaveError::Open)?;
    let tracker = MapTracker::new(Some(size), device.logical_sector()).exact();
    observer.stage(Stage::Write, Some(size));
    let mut sink = Sink::new(scratch.path(), &name, request.pieces);
    let watched = Watched {
        observer,
        total: size,
    };
    let job = (&source, tracker, &watched, cancel);
    let (records, regions) = match request.packing {
        None => save_plain(job, &mut sink)?,
        Some(packing) => save_packed(job, packing, size, &mut sink)?,
    };
    let first = sink.first();
    let (pieces, checksum) = sink.finish()?;
    let save_seconds = begun.elapsed().as_secs_f64();
    let verifying = Instant::now();
    compare(&first, &records, size, observer, cancel)?;
    let sums = format!("{}  {name}\n", digits(&checksum.to_string()));
    fs::write(scratch.path().join(SUMS), sums)?;
    let files = give_names(scratch.path(), folder, &name, &pieces)?;
    Ok(Saved {
        image_bytes: size,
        used_bytes: records.iter().map(ChunkRecord::used_bytes).sum(),
        packed_bytes: pieces.iter().map(|piece| piece.bytes).sum(),
        files,
        checksum: checksum.to_string(),
        save_seconds,
        verify_seconds: verifying.elapsed().as_secs_f64(),
        regions,
        chunks: records,
    })
}

/// The checksum file, until it gets its name.
const SUMS: &str = "sums";

/// Moves the files to their names, the image itself last.
fn give_names(
    scratch: &Path,
    folder: &Path,
    name: &str,
    pieces: &[Piece],
) -> io::Result<Vec<SavedPiece>> {
    fs::File::open(scratch.join(SUMS))?.sync_all()?;
    fs::rename(scratch.join(SUMS), folder.join(format!("{name}.sha256")))?;
    let mut files = Vec::new();
    for piece in pieces {
        let path = folder.join(&piece.name);
        fs::rename(scratch.join(&piece.name), &path)?;
        files.push(SavedPiece {
            path,
            bytes: piece.bytes,
        });
    }
    let here = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    fs::File::open(here)?.sync_all()?;
    Ok(files)
}

struct Watched<'o> {
    observer: &'o dyn Observer,
    total: u64,
}

impl Watched<'_> {
    fn progress(&self, done: u64) {
        self.observer.progress(Progress {
            done,
            total: Some(self.total),
            source_done: done,
            source_total: self.total,
            waiting_seconds: 0.0,
        });
    }
}

type Job<'j> = (&'j ImageSource, MapTracker, &'j Watched<'j>, &'j Cancel);
type Mapped = (Vec<ChunkRecord>, Vec<RegionFacts>);

/// Streams the medium; `take` gets each chunk, and what is not in use is zero in it.
fn stream(
    (source, tracker, watched, cancel): Job<'_>,
    take: &mut dyn FnMut(Chunk) -> io::Result<()>,
) -> Result<Mapped, SaveError> {
    let mut records = Vec::new();
    let position = SourcePosition::default();
    let end = stream_chunks(
        source,
        (WantedSums::default(), BUFFERS),
        tracker,
        &position,
        cancel,
        |chunk: Chunk| {
            records.push(ChunkRecord {
                index: chunk.index,
                used: chunk.used.clone(),
                digest: chunk.digest,
            });
            watched.progress(chunk.offset() + chunk.bytes().len() as u64);
            take(chunk)
        },
    );
    match end {
        Ok(end) => Ok((records, end.regions)),
        Err(Interrupted::Source(error)) => Err(SaveError::Source(error)),
        Err(Interrupted::Taker(error)) => Err(SaveError::Out(error)),
        Err(Interrupted::Cancelled) => Err(SaveError::Cancelled),
    }
}

fn save_plain(job: Job<'_>, sink: &mut Sink) -> Result<Mapped, SaveError> {
    stream(job, &mut |chunk| {
        for part in parts_of(&chunk) {
            match part {
                Part::Used(bytes) if !is_zero(bytes) => io::Write::write_all(sink, bytes)?,
                Part::Used(bytes) => sink.skip(bytes)?,
                Part::Free(len) => sink.skip(&ZEROS[..len])?,
            }
        }
        Ok(())
    })
}

fn save_packed(
    job: Job<'_>,
    packing: Packing,
    size: u64,
    sink: &mut Sink,
) -> Result<Mapped, SaveError> {
    thread::scope(|scope| {
        let (send, chunks) = bounded::<Chunk>(QUEUE);
        let packer = spawn(scope, "pack", move || {
            let mut chunks = Chunks {
                chunks,
                now: None,
                at: 0,
            };
            packing.pack(&mut chunks, size, sink)
        });
        let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
        let streamed = stream(job, &mut |chunk| send.send(chunk).map_err(|_| gone()));
        drop(send);
        let packed = packer
            .join()
            .unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        match (streamed, packed) {
            // The packer's own failure says more than that nobody took the chunk.
            (Err(SaveError::Out(_)), Err(error)) | (Ok(_), Err(error)) => Err(error.into()),
            (streamed, _) => streamed,
        }
    })
}

static ZEROS: [u8; CHUNK_SIZE] = [0; CHUNK_SIZE];

enum Part<'c> {
    Used(&'c [u8]),
    Free(usize),
}

/// The parts of a chunk, in order.
fn parts_of(chunk: &Chunk) -> Vec<Part<'_>> {
    let here = ByteRange {
        start: chunk.offset(),
        end: chunk.offset() + chunk.bytes().len() as u64,
    };
    let used = Ranges::joined(chunk.used.clone(), 0);
    let gaps = used.gaps(here);
    let mut all: Vec<(ByteRange, bool)> = gaps.into_iter().map(|gap| (gap, false)).collect();
    all.extend(used.into_vec().into_iter().map(|range| (range, true)));
    all.sort_unstable();
    let part = |(range, is_used): (ByteRange, bool)| {
        if is_used {
            Part::Used(chunk.slice(range))
        } else {
            Part::Free(range.len() as usize)
        }
    };
    all.into_iter().map(part).collect()
}

/// Chunks as one stream of bytes, zero where nothing is in use.
struct Chunks {
    chunks: Receiver<Chunk>,
    now: Option<Vec<u8>>,
    at: usize,
}

impl Read for Chunks {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            if let Some(bytes) = &self.now {
                let len = buffer.len().min(bytes.len() - self.at);
                if len > 0 {
                    buffer[..len].copy_from_slice(&bytes[self.at..self.at + len]);
                    self.at += len;
                    return Ok(len);
                }
            }
            let Ok(chunk) = self.chunks.recv() else {
                return Ok(0);
            };
            let mut bytes = self.now.take().unwrap_or_default();
            bytes.clear();
            for part in parts_of(&chunk) {
                match part {
                    Part::Used(used) => bytes.extend_from_slice(used),
                    Part::Free(len) => bytes.resize(bytes.len() + len, 0),
                }
            }
            self.now = Some(bytes);
            self.at = 0;
        }
    }
}

/// Decodes the image again and compares it with what was read.
fn compare(
    first: &Path,
    records: &[ChunkRecord],
    size: u64,
    observer: &dyn Observer,
    cancel: &Cancel,
) -> Result<(), SaveError> {
    let source = ImageSource::open(first).map_err(SaveError::Open)?;
    observer.stage(Stage::Compare, Some(size));
    let watched = Watched {
        observer,
        total: size,
    };
    for file in source.files() {
        // What is in the system's cache says nothing of the disk.
        let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::DontNeed);
    }
    let mut known = records.iter();
    let position = SourcePosition::default();
    let mut first_bad = None;
    let end = stream_chunks(
        &source,
        (WantedSums::default(), BUFFERS),
        MapTracker::every_byte(),
        &position,
        cancel,
        |chunk: Chunk| {
            let offset = chunk.offset();
            watched.progress(offset + chunk.bytes().len() as u64);
            let is_right = known.next().is_some_and(|record| is_same(&chunk, record));
            if is_right {
                Ok(())
            } else {
                first_bad = Some(offset);
                Err(())
            }
        },
    );
    match (end, first_bad) {
        (_, Some(offset)) => Err(SaveError::Differs { offset }),
        (Ok(end), None) if end.unpacked == size && known.next().is_none() => Ok(()),
        (Ok(end), None) => Err(SaveError::Differs {
            offset: end.unpacked,
        }),
        (Err(Interrupted::Source(error)), None) => Err(SaveError::Source(error)),
        (Err(Interrupted::Taker(()) | Interrupted::Cancelled), None) => Err(SaveError::Cancelled),
    }
}

fn is_same(chunk: &Chunk, record: &ChunkRecord) -> bool {
    let end = chunk.offset() + chunk.bytes().len() as u64;
    let is_inside = |range: &ByteRange| range.start >= chunk.offset() && range.end <= end;
    if record.index != chunk.index || !record.used.iter().all(is_inside) {
        return false;
    }
    let mut hasher = blake3::Hasher::new();
    for range in &record.used {
        hasher.update(chunk.slice(*range));
    }
    let here = ByteRange {
        start: chunk.offset(),
        end,
    };
    let free = Ranges::joined(record.used.clone(), 0).gaps(here);
    hasher.finalize() == record.digest && free.iter().all(|range| is_zero(chunk.slice(*range)))
}

impl Saved {
    /// The checksum's digits, as checksum files have them.
    pub fn digits(&self) -> &str {
        digits(&self.checksum)
    }

    /// A receipt of the image at `place`, of which `name` was the source.
    pub fn receipt(
        &self,
        tool: &str,
        (name, place): (&str, &Path),
        device: &dyn BlockDevice,
        times: (i64, i64),
    ) -> Receipt {
        let report = WriteReport {
            image_bytes: self.image_bytes,
            used_bytes: self.used_bytes,
            free_bytes: self.image_bytes.saturating_sub(self.used_bytes),
            written_bytes: self.packed_bytes,
            verified: true,
            checksum: None,
            write_seconds: self.save_seconds,
            verify_seconds: self.verify_seconds,
            regions: self.regions.clone(),
            chunks: self.chunks.clone(),
            ..WriteReport::default()
        };
        let full = std::path::absolute(place);
        let medium = ReceiptMedium {
            name: full.as_deref().unwrap_or(place).display().to_string(),
            size: self.image_bytes,
            ..ReceiptMedium::default()
        };
        let image = ReceiptImage {
            name: name.to_owned(),
            unpacked_bytes: self.image_bytes,
            ..ReceiptImage::default()
        };
        let mut receipt = Receipt::new(tool.to_owned(), &report, medium, image);
        receipt.identifiers = Identifiers::of(device);
        receipt.begun = rfc3339(times.0);
        receipt.finished = rfc3339(times.1);
        receipt
    }
}

fn digits(checksum: &str) -> &str {
    checksum
        .split_once(':')
        .map_or(checksum, |(_, digits)| digits)
}
