//! From packed bytes to the image: one decoder per layer, each error with its place.

use std::io::{self, BufRead, BufReader, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use liblzma::bufread::XzDecoder;
use liblzma::stream::{CONCATENATED, Stream};

use crate::lz4_whole::WholeFrames;
use crate::sparse_image::SparseImage;
use crate::xz_streams::XzStreams;
use crate::{StreamError, StreamFault, Wrapping, bzip2_blocks, zstd_parallel};

/// The most memory of one decoder, in bytes. Enough for xz at its highest preset (65 MiB).
pub(crate) const DECODER_MEMORY: u64 = 160 << 20;
const INPUT_BUFFER: usize = 256 << 10;

/// The unwrapped bytes of an image. Errors hold a [`StreamError`].
pub type ImageStream = Box<dyn Read + Send>;

/// Puts a decoder for `wrapping`, which is not an archive, on top of `packed`.
pub(crate) fn decompress(packed: ImageStream, wrapping: Wrapping) -> io::Result<ImageStream> {
    let used = Arc::new(AtomicU64::new(0));
    let input = CountingReader {
        inner: BufReader::with_capacity(INPUT_BUFFER, packed),
        used: Arc::clone(&used),
    };
    let decoder: ImageStream = match wrapping {
        Wrapping::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(input)),
        Wrapping::Xz => Box::new(XzStreams::new(input, DECODER_MEMORY)?),
        Wrapping::Zstd => Box::new(zstd_parallel::open(input)?),
        Wrapping::Bzip2 => Box::new(bzip2_blocks::open(input)?),
        Wrapping::Lz4 => Box::new(Lz4Frames::new(input)),
        Wrapping::Lzma => {
            let stream = Stream::new_lzma_decoder(DECODER_MEMORY)?;
            Box::new(Whole::new(input, stream))
        }
        Wrapping::Lzip => {
            let stream = Stream::new_lzip_decoder(DECODER_MEMORY, CONCATENATED)?;
            Box::new(Whole::new(input, stream))
        }
        Wrapping::Sparse => Box::new(SparseImage::new(Box::new(input))),
        Wrapping::Zip | Wrapping::SevenZip | Wrapping::Tar => {
            return Err(io::ErrorKind::InvalidInput.into());
        }
    };
    Ok(Box::new(Layer {
        decoder,
        wrapping,
        used,
        given: 0,
    }))
}

/// Counts the bytes that a decoder took from its input.
struct CountingReader {
    inner: BufReader<ImageStream>,
    used: Arc<AtomicU64>,
}

impl Read for CountingReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.inner.read(buffer)?;
        self.used.fetch_add(len as u64, Ordering::Relaxed);
        Ok(len)
    }
}

impl BufRead for CountingReader {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        self.inner.fill_buf()
    }

    fn consume(&mut self, len: usize) {
        self.used.fetch_add(len as u64, Ordering::Relaxed);
        self.inner.consume(len);
    }
}

/// A stream after which nothing may follow.
struct Whole(XzDecoder<CountingReader>);

impl Whole {
    fn new(input: CountingReader, stream: Stream) -> Self {
        Self(XzDecoder::new_stream(input, stream))
    }
}

impl Read for Whole {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.0.read(buffer)?;
        if len == 0 && !buffer.is_empty() && !self.0.get_mut().fill_buf()?.is_empty() {
            let detail = "data follows the end of the packed data";
            return Err(io::Error::new(io::ErrorKind::InvalidData, detail));
        }
        Ok(len)
    }
}

/// Several lz4 frames in a row as one stream: the decoder stops after each.
struct Lz4Frames(lz4_flex::frame::FrameDecoder<BufReader<WholeFrames<CountingReader>>>);

impl Lz4Frames {
    fn new(input: CountingReader) -> Self {
        let whole = BufReader::new(WholeFrames::new(input));
        Self(lz4_flex::frame::FrameDecoder::new(whole))
    }
}

impl Read for Lz4Frames {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            match self.0.read(buffer)? {
                0 if !buffer.is_empty() && !self.0.get_mut().fill_buf()?.is_empty() => {}
                len => return Ok(len),
            }
        }
    }
}

/// A decoder that begins in the middle; its errors say which layer failed, and roughly where.
pub(crate) fn blaming(
    decoder: ImageStream,
    wrapping: Wrapping,
    (packed, unpacked): (u64, u64),
) -> ImageStream {
    Box::new(Layer {
        decoder,
        wrapping,
        used: Arc::new(AtomicU64::new(packed)),
        given: unpacked,
    })
}

/// A decoder whose errors say which layer failed, and where.
struct Layer {
    decoder: ImageStream,
    wrapping: Wrapping,
    used: Arc<AtomicU64>,
    given: u64,
}

impl Read for Layer {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.decoder.read(buffer) {
            Ok(len) => {
                self.given += len as u64;
                Ok(len)
            }
            Err(error) if StreamError::in_io(&error).is_some() => Err(error),
            Err(error) if error.kind() == io::ErrorKind::Interrupted => Err(error),
            Err(error) => Err(io::Error::other(StreamError {
                layer: Some(self.wrapping),
                fault: fault(&error),
                packed: self.used.load(Ordering::Relaxed),
                unpacked: self.given,
            })),
        }
    }
}

fn fault(error: &io::Error) -> StreamFault {
    let detail = error.to_string();
    let memory = error.kind() == io::ErrorKind::OutOfMemory
        || detail.contains("memory limit")
        || detail.contains("requires too much memory");
    if error.kind() == io::ErrorKind::UnexpectedEof {
        StreamFault::Truncated
    } else if memory {
        StreamFault::Memory {
            limit_mib: DECODER_MEMORY >> 20,
        }
    } else {
        StreamFault::Damaged { detail }
    }
}
