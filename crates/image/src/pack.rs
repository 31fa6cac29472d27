//! Packing an image: zstd, xz or gzip.

use std::io::{self, Read, Write};
use std::path::Path;

use zstd::zstd_safe::CParameter;

/// How an image is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// One frame with its size and a checksum, compressed on all cores.
    Zstd,
    /// Blocks of 16 MiB, compressed and unpacked on all cores.
    Xz,
    /// One member, compressed on all cores.
    Gzip,
}

impl Packing {
    /// The packing for a file name that ends in `.zst`, `.xz` or `.gz`; `None` for any other.
    pub fn of(path: &Path) -> Option<Self> {
        match path.extension()?.to_str()? {
            "zst" => Some(Self::Zstd),
            "xz" => Some(Self::Xz),
            "gz" => Some(Self::Gzip),
            _ => None,
        }
    }

    /// Packs `size` bytes of `source` into `out`.
    ///
    /// # Errors
    /// The source could not be read, or `out` not be written.
    ///
    /// ```
    /// use pinewrit_image::{ImageSource, Packing};
    /// use std::io::Read;
    ///
    /// let folder = tempfile::tempdir()?;
    /// let path = folder.path().join("hut.img.zst");
    /// let image = vec![7; 1 << 20];
    /// let mut out = std::fs::File::create(&path)?;
    /// Packing::Zstd.pack(&mut &image[..], image.len() as u64, &mut out)?;
    ///
    /// let mut back = Vec::new();
    /// ImageSource::open(&path)?.stream()?.read_to_end(&mut back)?;
    /// assert_eq!(back, image);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn pack(
        self,
        source: &mut (dyn Read + Send),
        size: u64,
        out: &mut (dyn Write + Send),
    ) -> io::Result<()> {
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        match self {
            Self::Zstd => zstd_to(source, size, cores as u32, out)?,
            Self::Xz => xz_to(source, cores as u32, out)?,
            Self::Gzip => gzip_to(source, cores, out)?,
        }
        out.flush()
    }

    /// The ending of packed files: `zst`, `xz`, `gz`.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Zstd => "zst",
            Self::Xz => "xz",
            Self::Gzip => "gz",
        }
    }
}

/// Bytes that one core packs at a time with zstd: it keeps them, and what it makes of them, in memory.
const JOB: u32 = 8 << 20;

fn zstd_to(source: &mut dyn Read, size: u64, cores: u32, out: &mut dyn Write) -> io::Result<()> {
    let mut encoder = zstd::Encoder::new(out, 9)?;
    encoder.set_pledged_src_size(Some(size))?;
    encoder.include_contentsize(true)?;
    encoder.include_checksum(true)?;
    encoder.multithread(cores)?;
    encoder.set_parameter(CParameter::JobSize(JOB))?;
    io::copy(source, &mut encoder)?;
    encoder.finish().map(drop)
}

fn xz_to(source: &mut dyn Read, cores: u32, out: &mut dyn Write) -> io::Result<()> {
    let stream = liblzma::stream::MtStreamBuilder::new()
        .threads(cores)
        .preset(6)
        .block_size(16 << 20)
        .check(liblzma::stream::Check::Crc64)
        .encoder()?;
    let mut encoder = liblzma::write::XzEncoder::new_stream(out, stream);
    io::copy(source, &mut encoder)?;
    encoder.finish().map(drop)
}

/// Bytes of a part that one core packs.
const PART: usize = 1 << 20;

/// RFC 1952, section 2.3.1: magic number, deflate, no flags, no time, unknown system.
const GZIP_HEAD: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff];

/// A part that was packed: its deflate blocks, and the checksum of what is in it.
struct PackedPart {
    blocks: Vec<u8>,
    sum: crc32fast::Hasher,
}

/// One gzip member: parts are packed at the same time, each ended at a byte (RFC 1951, section
/// 3.2.4), so that they follow one another as the blocks of one stream.
fn gzip_to(
    source: &mut (dyn Read + Send),
    cores: usize,
    out: &mut (dyn Write + Send),
) -> io::Result<()> {
    out.write_all(&GZIP_HEAD)?;
    let mut sum = crc32fast::Hasher::new();
    let mut size = 0u64;
    let mut is_end = false;
    while !is_end {
        let mut parts = Vec::new();
        while parts.len() < cores && !is_end {
            let mut part = Vec::with_capacity(PART);
            source.take(PART as u64).read_to_end(&mut part)?;
            is_end = part.len() < PART;
            size += part.len() as u64;
            parts.push((part, is_end));
        }
        let packed: Vec<io::Result<PackedPart>> = std::thread::scope(|scope| {
            let all: Vec<_> = parts
                .iter()
                .map(|(part, is_last)| scope.spawn(move || pack_part(part, *is_last)))
                .collect();
            let done = all.into_iter().map(|one| {
                one.join()
                    .unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            });
            done.collect()
        });
        for part in packed {
            let part = part?;
            out.write_all(&part.blocks)?;
            sum.combine(&part.sum);
        }
    }
    out.write_all(&sum.finalize().to_le_bytes())?;
    out.write_all(&(size as u32).to_le_bytes())
}

fn pack_part(part: &[u8], is_last: bool) -> io::Result<PackedPart> {
    let mut sum = crc32fast::Hasher::new();
    sum.update(part);
    let mut compress = flate2::Compress::new(flate2::Compression::new(6), false);
    let mut blocks = Vec::with_capacity(PART / 2);
    let flush = if is_last {
        flate2::FlushCompress::Finish
    } else {
        flate2::FlushCompress::Sync
    };
    loop {
        blocks.reserve(64 << 10);
        let used = compress.total_in() as usize;
        let status = compress
            .compress_vec(&part[used..], &mut blocks, flush)
            .map_err(io::Error::other)?;
        let is_done = match status {
            flate2::Status::StreamEnd => true,
            // Room that is left says that everything came out.
            _ => {
                !is_last
                    && compress.total_in() as usize == part.len()
                    && blocks.len() < blocks.capacity()
            }
        };
        if is_done {
            return Ok(PackedPart { blocks, sum });
        }
    }
}
