//! The stream of an image's chunks: one thread reads, one unpacks, one maps and hashes, and the
//! caller's thread takes the finished chunks in order.
//!
//! ```text
//! read ──blocks──▶ unpack ──chunks──▶ map, hash ──chunks──▶ caller, who may share them
//!   └──blocks──▶ checksum    ▲                                  │
//!                            └── buffers go back when dropped ──┘
//! ```
//! A checksum of the image takes a thread of its own between unpack and map.
//!
//! All queues are bounded, so a slow medium holds back the reader, and memory stays the same
//! whatever the image's size. A closed queue means "stop".

use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};
use std::thread::{self, ScopedJoinHandle};
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded};
use pinewrit_disk::{AlignedBuf, ByteRange, CHUNK_SIZE, is_zero};
use pinewrit_image::{
    Block, BlockReader, Checksum, ChecksumKind, ImageSource, MemberSum, PlainImage, StreamError,
};
use pinewrit_volume::extents::{MapTracker, RegionFacts};

use crate::Cancel;

const BLOCK_SIZE: usize = 1 << 20;
const BLOCKS_IN_FLIGHT: usize = 8;
/// How often a request to stop is checked while no chunk arrives.
const LOOK: Duration = Duration::from_millis(100);
/// Chunk buffers in all queues together, including those of several media: 72 MiB.
pub(crate) const BUFFERS: usize = 18;
/// The shortest run of zeros worth a request of its own, in bytes.
const ZERO_RUN: usize = 64 << 10;

/// The content of every hole.
static ZEROS: LazyLock<AlignedBuf> = LazyLock::new(|| AlignedBuf::new(CHUNK_SIZE));

/// A buffer that returns to its pool; without one it is a chunk of zeros.
struct Pooled {
    buffer: Option<AlignedBuf>,
    home: Sender<AlignedBuf>,
}

impl Pooled {
    fn bytes(&self, len: usize) -> &[u8] {
        &self.buffer.as_ref().unwrap_or(&ZEROS)[..len]
    }
}

impl Drop for Pooled {
    fn drop(&mut self) {
        if let Some(buffer) = self.buffer.take() {
            // The pool may be gone at the end, which is fine.
            let _ = self.home.try_send(buffer);
        }
    }
}

/// One chunk of the image, with its part of the map and the digest of what is in use.
pub(crate) struct Chunk {
    /// Position in the image, in chunks.
    pub(crate) index: u64,
    buffer: Pooled,
    len: usize,
    /// The used ranges, in bytes of the image.
    pub(crate) used: Vec<ByteRange>,
    /// The long runs of zeros in those.
    pub(crate) zeros: Vec<ByteRange>,
    /// BLAKE3 of the bytes in use, one range after the other.
    pub(crate) digest: blake3::Hash,
    /// Bytes that are free according to the file systems seen so far.
    pub(crate) free_so_far: u64,
}

impl Chunk {
    /// The chunk's bytes; fewer than a whole chunk only at the image's end.
    pub(crate) fn bytes(&self) -> &[u8] {
        self.buffer.bytes(self.len)
    }

    /// The bytes of a range of the image inside this chunk.
    pub(crate) fn slice(&self, range: ByteRange) -> &[u8] {
        let (start, end) = (range.start - self.offset(), range.end - self.offset());
        &self.bytes()[start as usize..end as usize]
    }

    /// Offset of its first byte in the image.
    pub(crate) fn offset(&self) -> u64 {
        self.index * CHUNK_SIZE as u64
    }
}

/// A chunk in progress: position, buffer, and how much of it is filled.
type Filled = (u64, Pooled, usize);

/// The results known at the end of the stream.
#[derive(Clone, Debug)]
pub(crate) struct StreamEnd {
    /// Size of the image in bytes.
    pub(crate) unpacked: u64,
    /// Checksum of the packed source, if requested.
    pub(crate) packed_sum: Option<Checksum>,
    /// Checksum of the packed member, if requested.
    pub(crate) member_sum: Option<Checksum>,
    /// Checksum of the image, if requested.
    pub(crate) image_sum: Option<Checksum>,
    /// What the map knows about the partitions.
    pub(crate) regions: Vec<RegionFacts>,
}

/// Why a stream ended early.
#[derive(Debug)]
pub(crate) enum Interrupted<E> {
    /// The source is bad.
    Source(StreamError),
    /// The consumer of the chunks gave up.
    Taker(E),
    /// It was cancelled.
    Cancelled,
}

/// Which checksums to compute on the way.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct WantedSums {
    /// Of the packed source.
    pub(crate) packed: Option<ChecksumKind>,
    /// Of the packed member of the outermost archive.
    pub(crate) member: Option<ChecksumKind>,
    /// Of the image.
    pub(crate) image: Option<ChecksumKind>,
}

/// How many bytes of the packed source have been read.
#[derive(Clone, Debug, Default)]
pub(crate) struct SourcePosition(Arc<AtomicU64>);

impl SourcePosition {
    pub(crate) fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

/// Streams `source` through its stages; `take` receives every chunk in order.
///
/// # Errors
/// [`Interrupted`] says who ended it. All threads have ended when this returns.
pub(crate) fn stream_chunks<E>(
    source: &ImageSource,
    (sums, buffers): (WantedSums, usize),
    tracker: MapTracker,
    position: &SourcePosition,
    cancel: &Cancel,
    mut take: impl FnMut(Chunk) -> Result<(), E>,
) -> Result<StreamEnd, Interrupted<E>> {
    thread::scope(|scope| {
        let (block_tx, block_rx) = bounded::<io::Result<Block>>(BLOCKS_IN_FLIGHT);
        let (sum_tx, sum_rx) = bounded::<Block>(BLOCKS_IN_FLIGHT);
        let (filled_tx, filled_rx) = bounded(BUFFERS);
        let (chunk_tx, chunk_rx) = bounded::<Chunk>(BUFFERS);
        let buffers = Buffers::new(buffers);
        let _ending = buffers.ending();

        let sum_tx = sums.packed.map(|_| sum_tx);
        // A checksum needs all of it, in order.
        let plain = source.plain().filter(|_| sums == WantedSums::default());
        let wanted = plain.and_then(|plain| tracker.ahead(plain.device()?));
        spawn(scope, "read", move || {
            if plain.is_none() {
                read(source, position, &block_tx, sum_tx.as_ref());
            }
        });
        let packed_sum = sums
            .packed
            .map(|kind| spawn(scope, "checksum", move || sum_blocks(kind, &sum_rx)));
        let (summed_tx, summed_rx) = bounded(BUFFERS);
        let (hash_rx, image_sum) = match sums.image {
            None => (filled_rx, None),
            Some(kind) => {
                let pass = move || sum_chunks(kind, &filled_rx, &summed_tx);
                (summed_rx, Some(spawn(scope, "checksum", pass)))
            }
        };
        let unpacked = spawn(scope, "unpack", move || {
            if let Some(plain) = plain {
                let end = read_plain(plain, wanted.as_deref(), position, buffers, &filled_tx)?;
                return Ok((end, None));
            }
            let blocks = BlocksIn {
                blocks: block_rx,
                position,
            };
            unpack(source, blocks, sums.member, buffers, &filled_tx)
        });
        let regions = spawn(scope, "map", move || map(tracker, &hash_rx, &chunk_tx));

        loop {
            let chunk = match chunk_rx.recv_timeout(LOOK) {
                Ok(chunk) => Some(chunk),
                Err(RecvTimeoutError::Timeout) => None,
                Err(RecvTimeoutError::Disconnected) => break,
            };
            if cancel.is_cancelled() {
                // The reader may wait for a server.
                source.interrupt();
                return Err(Interrupted::Cancelled);
            }
            let Some(chunk) = chunk else { continue };
            take(chunk).map_err(Interrupted::Taker)?;
        }
        let (unpacked, member_sum) =
            join(unpacked).map_err(|e| Interrupted::Source(StreamError::from_io(e)))?;
        Ok(StreamEnd {
            unpacked,
            packed_sum: packed_sum.map(join),
            member_sum,
            image_sum: image_sum.map(join),
            regions: join(regions),
        })
    })
}

/// A named thread, for whoever inspects the running program.
pub(crate) fn spawn<'scope, T: Send + 'scope>(
    scope: &'scope thread::Scope<'scope, '_>,
    name: &str,
    work: impl FnOnce() -> T + Send + 'scope,
) -> ScopedJoinHandle<'scope, T> {
    thread::Builder::new()
        .name(name.to_owned())
        .spawn_scoped(scope, work)
        .expect("the system gives a handful of threads")
}

/// A thread's result; its panic continues in this thread.
fn join<T>(handle: ScopedJoinHandle<'_, T>) -> T {
    handle
        .join()
        .unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

fn read(
    source: &ImageSource,
    position: &SourcePosition,
    blocks: &Sender<io::Result<Block>>,
    sums: Option<&Sender<Block>>,
) {
    // Such a source is read a second time in order, for its checksum alone.
    let by_itself = source.reads_by_itself();
    if by_itself && sums.is_none() {
        return;
    }
    let mut reader = source.packed_reader();
    loop {
        let mut block = Vec::with_capacity(BLOCK_SIZE);
        let read = (&mut reader)
            .take(BLOCK_SIZE as u64)
            .read_to_end(&mut block);
        if let Err(error) = read {
            let _ = blocks.send(Err(error));
            return;
        }
        if block.is_empty() {
            return;
        }
        if !by_itself {
            position.0.fetch_add(block.len() as u64, Ordering::Relaxed);
        }
        let block = Arc::new(block);
        if sums.is_some_and(|sums| sums.send(Arc::clone(&block)).is_err())
            || !by_itself && blocks.send(Ok(block)).is_err()
        {
            return;
        }
    }
}

fn sum_blocks(kind: ChecksumKind, blocks: &Receiver<Block>) -> Checksum {
    let mut hasher = kind.hasher();
    for block in blocks {
        hasher.update(&block);
    }
    hasher.finish()
}

/// Hashes the image on its way to the next stage.
fn sum_chunks(kind: ChecksumKind, filled: &Receiver<Filled>, summed: &Sender<Filled>) -> Checksum {
    let mut hasher = kind.hasher();
    for (index, buffer, len) in filled {
        hasher.update(buffer.bytes(len));
        if summed.send((index, buffer, len)).is_err() {
            break;
        }
    }
    hasher.finish()
}

/// The packed bytes in transit, and the progress.
struct BlocksIn<'a> {
    blocks: Receiver<io::Result<Block>>,
    position: &'a SourcePosition,
}

/// Unpacks into chunks; returns the image's size, and the checksum of the packed member if
/// requested.
fn unpack(
    source: &ImageSource,
    packed: BlocksIn<'_>,
    member: Option<ChecksumKind>,
    mut buffers: Buffers,
    filled: &Sender<Filled>,
) -> io::Result<(u64, Option<Checksum>)> {
    let rest = packed.blocks.clone();
    let blocks = Box::new(BlockReader::new(packed.blocks));
    let (mut image, sum) = source.unwrap_summed(blocks, &packed.position.0, member)?;
    let mut unpacked = 0;
    for index in 0.. {
        let Some(mut buffer) = buffers.next() else {
            return Ok((unpacked, None));
        };
        let len = fill(&mut image, &mut buffer)?;
        unpacked += len as u64;
        let buffer = buffers.pooled(buffer);
        if len > 0 && filled.send((index, buffer, len)).is_err() {
            return Ok((unpacked, None));
        }
        if len < CHUNK_SIZE {
            break;
        }
    }
    // Whatever follows the image in the source is part of its checksum.
    rest.iter().try_for_each(|block| block.map(drop))?;
    Ok((unpacked, sum.and_then(MemberSum::finish)))
}

/// Reads an image without a wrapping, skipping its holes and, if what is in use is known, what is
/// not; returns its size.
fn read_plain(
    image: PlainImage<'_>,
    wanted: Option<&[ByteRange]>,
    position: &SourcePosition,
    mut buffers: Buffers,
    filled: &Sender<Filled>,
) -> io::Result<u64> {
    for (index, offset) in (0..image.size()).step_by(CHUNK_SIZE).enumerate() {
        let len = (image.size() - offset).min(CHUNK_SIZE as u64) as usize;
        let here = ByteRange {
            start: offset,
            end: offset + len as u64,
        };
        let parts = wanted.map_or(vec![here], |wanted| inside(wanted, here));
        let chunk = if parts.is_empty() || image.is_hole(offset, len as u64) {
            buffers.zeros()
        } else {
            let Some(mut buffer) = buffers.next() else {
                return Ok(offset);
            };
            if parts != [here] {
                buffer[..len].fill(0);
            }
            for part in parts {
                let (from, to) = (part.start - offset, part.end - offset);
                image.read_at(&mut buffer[from as usize..to as usize], part.start)?;
            }
            buffers.pooled(buffer)
        };
        position.0.fetch_add(len as u64, Ordering::Relaxed);
        if filled.send((index as u64, chunk, len)).is_err() {
            return Ok(offset);
        }
    }
    Ok(image.size())
}

/// The parts of ascending ranges that lie in another one.
fn inside(ranges: &[ByteRange], here: ByteRange) -> Vec<ByteRange> {
    let first = ranges.partition_point(|range| range.end <= here.start);
    let rest = ranges[first..].iter();
    rest.map_while(|range| range.intersection(here)).collect()
}

/// Reads until `buffer` is full or the stream ends.
fn fill(stream: &mut dyn Read, buffer: &mut [u8]) -> io::Result<usize> {
    let mut len = 0;
    while len < buffer.len() {
        match stream.read(&mut buffer[len..]) {
            Ok(0) => break,
            Ok(more) => len += more,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(len)
}

/// Determines the used ranges of each chunk, and hashes them.
fn map(
    mut tracker: MapTracker,
    filled: &Receiver<Filled>,
    chunks: &Sender<Chunk>,
) -> Vec<RegionFacts> {
    for (index, buffer, len) in filled {
        let offset = index * CHUNK_SIZE as u64;
        let used = tracker.pass(offset, buffer.bytes(len));
        let mut chunk = Chunk {
            index,
            buffer,
            len,
            used,
            zeros: Vec::new(),
            digest: blake3::Hash::from([0; 32]),
            free_so_far: tracker.free(),
        };
        let mut hasher = blake3::Hasher::new();
        for range in &chunk.used {
            hasher.update(chunk.slice(*range));
        }
        let ranges = chunk.used.iter();
        chunk.zeros = ranges.flat_map(|range| zero_runs(&chunk, *range)).collect();
        chunk.digest = hasher.finalize();
        if chunks.send(chunk).is_err() {
            break;
        }
    }
    tracker.facts()
}

/// Long runs of zeros in a range, at multiples of their smallest size.
fn zero_runs(chunk: &Chunk, range: ByteRange) -> Vec<ByteRange> {
    let mut runs: Vec<ByteRange> = Vec::new();
    let bytes = chunk.slice(range);
    let skipped = (range.start.next_multiple_of(ZERO_RUN as u64) - range.start) as usize;
    let pieces = bytes
        .get(skipped..)
        .unwrap_or_default()
        .chunks_exact(ZERO_RUN);
    let first = range.start + skipped as u64;
    for (place, piece) in (first..).step_by(ZERO_RUN).zip(pieces) {
        if !is_zero(piece) {
            continue;
        }
        let end = place + ZERO_RUN as u64;
        match runs.last_mut() {
            Some(last) if last.end == place => last.end = end,
            _ => runs.push(ByteRange { start: place, end }),
        }
    }
    runs
}

/// The buffers of a stream: allocated when first needed, and then reused.
struct Buffers {
    most: usize,
    made: usize,
    home: Sender<AlignedBuf>,
    back: Receiver<AlignedBuf>,
    ended: Arc<AtomicBool>,
}

/// Tells the thread that waits for a buffer that nobody takes its chunks any more, however the
/// stream ends.
struct Ending(Arc<AtomicBool>);

impl Drop for Ending {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl Buffers {
    fn new(most: usize) -> Self {
        let (home, back) = bounded(most);
        Self {
            most,
            made: 0,
            home,
            back,
            ended: Arc::default(),
        }
    }

    fn ending(&self) -> Ending {
        Ending(Arc::clone(&self.ended))
    }

    /// A buffer; `None` when the stream has ended.
    fn next(&mut self) -> Option<AlignedBuf> {
        match self.back.try_recv() {
            Ok(buffer) => Some(buffer),
            Err(_) if self.made < self.most => {
                self.made += 1;
                Some(AlignedBuf::new(CHUNK_SIZE))
            }
            Err(_) => self.wait(),
        }
    }

    /// Who takes the chunks may keep them all until the stream has ended.
    fn wait(&self) -> Option<AlignedBuf> {
        loop {
            match self.back.recv_timeout(LOOK) {
                Ok(buffer) => return Some(buffer),
                Err(RecvTimeoutError::Timeout) if !self.ended.load(Ordering::Relaxed) => {}
                Err(_) => return None,
            }
        }
    }

    fn zeros(&self) -> Pooled {
        Pooled {
            buffer: None,
            home: self.home.clone(),
        }
    }

    fn pooled(&self, buffer: AlignedBuf) -> Pooled {
        Pooled {
            buffer: Some(buffer),
            home: self.home.clone(),
        }
    }
}
