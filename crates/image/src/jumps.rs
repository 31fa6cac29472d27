//! Places from which an image can be unpacked without everything before them: in xz files of
//! several blocks, in zstd files of several frames, and anywhere in uncompressed content.

use std::io::{self, BufReader, Read};
use std::sync::Arc;

use liblzma::bufread::XzDecoder;
use liblzma::stream::Stream;

use crate::packed::{PackedBytes, read};
use crate::unwrap::{DECODER_MEMORY, blaming};
use crate::{ImageStream, Wrapping, xz_index, zstd_frames, zstd_parallel};

const BUFFER: usize = 256 << 10;

/// Where unpacking can begin: bytes of the packed file, and of the image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Jump {
    pub(crate) packed: u64,
    pub(crate) unpacked: u64,
}

/// How an image is read from the middle.
#[derive(Clone, Debug)]
pub(crate) enum Jumps {
    /// Its place.
    Stored(Arc<dyn PackedBytes>),
    /// Blocks of the one stream of an xz file, whose header is 12 bytes.
    Xz {
        packed: Arc<dyn PackedBytes>,
        header: [u8; 12],
        blocks: Vec<Jump>,
        end: u64,
    },
    /// Frames of a zstd file.
    Zstd {
        packed: Arc<dyn PackedBytes>,
        frames: Vec<Jump>,
        end: u64,
    },
}

impl Jumps {
    /// The blocks of an xz file; `None` if there is only one, or more than one stream.
    pub(crate) fn in_xz(packed: &Arc<dyn PackedBytes>) -> Option<Self> {
        let size = packed.size()?;
        let (blocks, end) = xz_index::jumps(&**packed, size)?;
        (blocks.len() > 1).then_some(Self::Xz {
            header: read(&**packed, 0)?,
            packed: Arc::clone(packed),
            blocks,
            end,
        })
    }

    /// The frames of a zstd file; `None` if there is only one.
    pub(crate) fn in_zstd(packed: &Arc<dyn PackedBytes>) -> Option<Self> {
        let end = packed.size()?;
        let frames = zstd_frames::jumps(&**packed, end)?;
        (frames.len() > 1).then_some(Self::Zstd {
            packed: Arc::clone(packed),
            frames,
            end,
        })
    }

    /// The last place at or before `offset` of the image.
    pub(crate) fn before(&self, offset: u64) -> Jump {
        let all = match self {
            Self::Stored(_) => {
                return Jump {
                    packed: offset,
                    unpacked: offset,
                };
            }
            Self::Xz { blocks, .. } => blocks,
            Self::Zstd { frames, .. } => frames,
        };
        let after = all.partition_point(|jump| jump.unpacked <= offset);
        all[after.saturating_sub(1)]
    }

    /// The image from one of these places on.
    ///
    /// # Errors
    /// There is not enough memory for a decoder.
    pub(crate) fn stream(&self, from: Jump) -> io::Result<ImageStream> {
        let part = |packed: &Arc<dyn PackedBytes>, end| Part {
            packed: Arc::clone(packed),
            position: from.packed,
            end,
        };
        Ok(match self {
            Self::Stored(packed) => Box::new(part(packed, u64::MAX)),
            Self::Xz {
                packed,
                header,
                end,
                ..
            } => {
                // A stream's header, then its blocks from here on. The index is left out, because
                // it also counts the blocks before.
                let blocks = BufReader::with_capacity(BUFFER, part(packed, *end));
                let input = BufReader::new(io::Cursor::new(*header).chain(blocks));
                let stream = Stream::new_stream_decoder(DECODER_MEMORY, 0)?;
                let decoder = Box::new(XzDecoder::new_stream(input, stream));
                blaming(decoder, Wrapping::Xz, (from.packed, from.unpacked))
            }
            Self::Zstd { packed, end, .. } => {
                let input = BufReader::with_capacity(BUFFER, part(packed, *end));
                let mut decoder = zstd::stream::read::Decoder::with_buffer(input)?;
                decoder.window_log_max(zstd_parallel::WINDOW_LOG)?;
                blaming(
                    Box::new(decoder),
                    Wrapping::Zstd,
                    (from.packed, from.unpacked),
                )
            }
        })
    }
}

/// Packed bytes from a place on.
struct Part {
    packed: Arc<dyn PackedBytes>,
    position: u64,
    end: u64,
}

impl Read for Part {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = usize::try_from(self.end.saturating_sub(self.position)).unwrap_or(usize::MAX);
        let len = buffer.len().min(left);
        let read = self.packed.read_at(&mut buffer[..len], self.position)?;
        self.position += read as u64;
        Ok(read)
    }
}
