//! xz on all cores: blocks are decoded in parallel if the file has several.

use std::io::{self, BufRead, Read};

use liblzma::bufread::XzDecoder;
use liblzma::stream::MtStreamBuilder;

use crate::xz_index::Blocks;

/// Memory in bytes up to which more threads are started. Past it, one thread does the work.
const THREADING_MEMORY: u64 = 128 << 20;

/// Why an xz file is unpacked by one thread.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OneThread {
    /// It has a single block.
    OneBlock,
    /// Two blocks at once would take more than this many bytes.
    LargeBlocks(u64),
    /// There is only one core.
    OneCore,
}

/// Whether one thread will unpack a file, judging by its blocks. liblzma keeps each block in
/// progress in memory, both packed and unpacked.
pub(crate) fn one_thread(blocks: &Blocks) -> Option<OneThread> {
    if threads() == 1 {
        Some(OneThread::OneCore)
    } else if blocks.count < 2 {
        Some(OneThread::OneBlock)
    } else if blocks.largest.saturating_mul(2) > THREADING_MEMORY {
        Some(OneThread::LargeBlocks(THREADING_MEMORY))
    } else {
        None
    }
}

fn threads() -> u32 {
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get());
    u32::try_from(threads).unwrap_or(1)
}

/// Several xz streams in a row, with padding between them (The .xz File Format 1.2.1, sections 2
/// and 2.2), as one.
pub(crate) struct XzStreams<R: BufRead> {
    state: State<R>,
    limit: u64,
}

enum State<R: BufRead> {
    Decoding(XzDecoder<R>),
    Ended,
}

impl<R: BufRead> XzStreams<R> {
    /// A decoder of `input`, which takes at most `limit` bytes of memory with one thread.
    ///
    /// # Errors
    /// There is not enough memory.
    pub(crate) fn new(input: R, limit: u64) -> io::Result<Self> {
        Ok(Self {
            state: State::Decoding(decoder(input, limit)?),
            limit,
        })
    }

    /// Skips padding, which is zeros in groups of four, and begins the next stream if one follows.
    fn next_stream(&mut self, mut input: R) -> io::Result<()> {
        let mut padding = 0;
        let is_end = loop {
            let bytes = input.fill_buf()?;
            let zeros = bytes.iter().take_while(|&&byte| byte == 0).count();
            let (len, is_empty) = (bytes.len(), bytes.is_empty());
            input.consume(zeros);
            padding += zeros;
            if zeros < len || is_empty {
                break is_empty;
            }
        };
        if padding % 4 != 0 {
            let detail = format!("stream padding of {padding} bytes");
            return Err(io::Error::new(io::ErrorKind::InvalidData, detail));
        }
        if !is_end {
            self.state = State::Decoding(decoder(input, self.limit)?);
        }
        Ok(())
    }
}

fn decoder<R: BufRead>(input: R, limit: u64) -> io::Result<XzDecoder<R>> {
    let stream = MtStreamBuilder::new()
        .threads(threads())
        .memlimit_threading(THREADING_MEMORY)
        .memlimit_stop(limit)
        .decoder()?;
    Ok(XzDecoder::new_stream(input, stream))
}

impl<R: BufRead> Read for XzStreams<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            let State::Decoding(decoder) = &mut self.state else {
                return Ok(0);
            };
            let len = decoder.read(buffer)?;
            if len > 0 || buffer.is_empty() {
                return Ok(len);
            }
            if let State::Decoding(decoder) = std::mem::replace(&mut self.state, State::Ended) {
                self.next_stream(decoder.into_inner())?;
            }
        }
    }
}
