//! Packing an image: zstd, xz or gzip.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

/// How an image is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// One frame with its size and a checksum, compressed on all cores.
    Zstd,
    /// Blocks of 16 MiB, compressed and unpacked on all cores.
    Xz,
    /// One member, compressed on one core.
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

    /// Packs `size` bytes of `source` into `out`; returns the packed size in bytes, once everything
    /// is on the disk.
    ///
    /// # Errors
    /// The source could not be read, or the file not be written.
    ///
    /// ```
    /// use pinewrit_image::{ImageSource, Packing};
    /// use std::io::Read;
    ///
    /// let folder = tempfile::tempdir()?;
    /// let path = folder.path().join("hut.img.zst");
    /// let image = vec![7; 1 << 20];
    /// let out = std::fs::File::create(&path)?;
    /// Packing::Zstd.pack(&mut &image[..], image.len() as u64, out)?;
    ///
    /// let mut back = Vec::new();
    /// ImageSource::open(&path)?.stream()?.read_to_end(&mut back)?;
    /// assert_eq!(back, image);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn pack(self, source: &mut dyn Read, size: u64, out: File) -> io::Result<u64> {
        let cores = std::thread::available_parallelism().map_or(1, usize::from) as u32;
        let mut out = match self {
            Self::Zstd => zstd_to(source, size, cores, out)?,
            Self::Xz => xz_to(source, cores, out)?,
            Self::Gzip => {
                let mut encoder = flate2::write::GzEncoder::new(out, flate2::Compression::new(6));
                io::copy(source, &mut encoder)?;
                encoder.finish()?
            }
        };
        out.flush()?;
        out.sync_all()?;
        Ok(out.metadata()?.len())
    }
}

fn zstd_to(source: &mut dyn Read, size: u64, cores: u32, out: File) -> io::Result<File> {
    let mut encoder = zstd::Encoder::new(out, 9)?;
    encoder.set_pledged_src_size(Some(size))?;
    encoder.include_contentsize(true)?;
    encoder.include_checksum(true)?;
    encoder.multithread(cores)?;
    io::copy(source, &mut encoder)?;
    encoder.finish()
}

fn xz_to(source: &mut dyn Read, cores: u32, out: File) -> io::Result<File> {
    let stream = liblzma::stream::MtStreamBuilder::new()
        .threads(cores)
        .preset(6)
        .block_size(16 << 20)
        .check(liblzma::stream::Check::Crc64)
        .encoder()?;
    let mut encoder = liblzma::write::XzEncoder::new_stream(out, stream);
    io::copy(source, &mut encoder)?;
    encoder.finish()
}
