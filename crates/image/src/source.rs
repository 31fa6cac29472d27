//! A source: a file or block device that holds an image in some wrapping.

use std::fs::File;
use std::io::{self, ErrorKind, Read};
use std::os::unix::fs::{FileExt, FileTypeExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::unwrap::unwrap_layer;
use crate::{
    ImageStream, MAX_LAYERS, OpenError, StreamError, StreamFault, Wrapping, content, lz4_frames,
    xz_index, zstd_frames,
};

/// How many bytes are looked at to tell what something is.
const HEAD: usize = 8192;

/// What is known of an image's size before it is unpacked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnpackedSize {
    /// The format says it, or there is no wrapping. In bytes.
    Exact(u64),
    /// Known only when everything has been unpacked.
    Unknown,
}

impl UnpackedSize {
    /// The exact size in bytes, if known.
    pub fn exact(self) -> Option<u64> {
        match self {
            Self::Exact(bytes) => Some(bytes),
            Self::Unknown => None,
        }
    }
}

/// An opened source.
#[derive(Clone, Debug)]
pub struct ImageSource {
    path: PathBuf,
    file: Arc<File>,
    packed_size: u64,
    layers: Vec<Wrapping>,
    unpacked: UnpackedSize,
}

impl ImageSource {
    /// Opens `path` and looks at the start of what is inside.
    ///
    /// # Errors
    /// [`OpenError`]: there is no such file, it is not readable, or it is plainly no image.
    pub fn open(path: &Path) -> Result<Self, OpenError> {
        let (file, packed_size) = open_file(path)?;
        let mut source = Self {
            path: path.to_owned(),
            file: Arc::new(file),
            packed_size,
            layers: Vec::new(),
            unpacked: UnpackedSize::Unknown,
        };
        let head = source.find_layers()?;
        content::check(&head).map_err(|why| OpenError::NotAnImage {
            path: path.to_owned(),
            why,
        })?;
        source.unpacked = source.find_unpacked_size();
        Ok(source)
    }

    /// The path as given.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The source's name without folders, for messages.
    pub fn name(&self) -> String {
        let name = self.path.file_name().unwrap_or(self.path.as_os_str());
        name.to_string_lossy().into_owned()
    }

    /// Size of the file or device in bytes.
    pub fn packed_size(&self) -> u64 {
        self.packed_size
    }

    /// The layers of compression, outermost first; empty for a raw image.
    pub fn layers(&self) -> &[Wrapping] {
        &self.layers
    }

    /// What is known of the image's size.
    pub fn unpacked_size(&self) -> UnpackedSize {
        self.unpacked
    }

    /// The open file or device itself.
    pub fn file(&self) -> &Arc<File> {
        &self.file
    }

    /// The packed bytes from the start.
    pub fn packed_reader(&self) -> PackedReader {
        PackedReader {
            file: Arc::clone(&self.file),
            position: 0,
        }
    }

    /// Unwraps packed bytes, from wherever they come, into the image.
    ///
    /// # Errors
    /// A decoder could not be made.
    pub fn unwrap(&self, packed: ImageStream) -> io::Result<ImageStream> {
        self.layers.iter().copied().try_fold(packed, unwrap_layer)
    }

    /// The image's bytes from the start.
    ///
    /// # Errors
    /// A decoder could not be made.
    pub fn stream(&self) -> io::Result<ImageStream> {
        self.unwrap(Box::new(self.packed_reader()))
    }

    /// Finds the layers one by one; returns the first bytes of the image.
    fn find_layers(&mut self) -> Result<Vec<u8>, OpenError> {
        loop {
            let head = self.read_head().map_err(|error| OpenError::Stream {
                path: self.path.clone(),
                source: StreamError::from_io(error),
            })?;
            match Wrapping::detect(&head) {
                None => return Ok(head),
                Some(_) if self.layers.len() == MAX_LAYERS => {
                    return Err(OpenError::TooManyLayers {
                        path: self.path.clone(),
                    });
                }
                Some(wrapping) => self.layers.push(wrapping),
            }
        }
    }

    fn read_head(&self) -> io::Result<Vec<u8>> {
        let mut head = Vec::with_capacity(HEAD);
        self.stream()?.take(HEAD as u64).read_to_end(&mut head)?;
        Ok(head)
    }

    fn find_unpacked_size(&self) -> UnpackedSize {
        let size = match self.layers[..] {
            [] => Some(self.packed_size),
            [Wrapping::Xz] => xz_index::unpacked_size(&self.file, self.packed_size),
            [Wrapping::Lz4] => lz4_frames::unpacked_size(&self.file, self.packed_size),
            [Wrapping::Lzma] => lzma_size(&self.file),
            [Wrapping::Zstd] => zstd_frames::unpacked_size(&self.file, self.packed_size),
            _ => None,
        };
        size.map_or(UnpackedSize::Unknown, UnpackedSize::Exact)
    }
}

/// The size in the header of an lzma file: bytes 5 to 12, all ones where it is not known.
fn lzma_size(file: &File) -> Option<u64> {
    let size = u64::from_le_bytes(read_at(file, 5)?);
    (size != u64::MAX).then_some(size)
}

fn open_file(path: &Path) -> Result<(File, u64), OpenError> {
    let failed = |source: io::Error| match source.kind() {
        ErrorKind::NotFound => OpenError::Missing {
            path: path.to_owned(),
        },
        _ => OpenError::Io {
            path: path.to_owned(),
            source,
        },
    };
    // Looked at before opening: opening a pipe would wait for its writer.
    let kind = std::fs::metadata(path).map_err(failed)?.file_type();
    if kind.is_dir() {
        return Err(OpenError::Folder {
            path: path.to_owned(),
        });
    }
    if !kind.is_file() && !kind.is_block_device() {
        return Err(OpenError::Special {
            path: path.to_owned(),
        });
    }
    let mut file = File::open(path).map_err(failed)?;
    // The end's position is the size of block devices too.
    let size = io::Seek::seek(&mut file, io::SeekFrom::End(0)).map_err(failed)?;
    Ok((file, size))
}

/// `N` bytes of a file at `at`; `None` where it ends before, or cannot be read.
pub(crate) fn read_at<const N: usize>(file: &File, at: u64) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    file.read_exact_at(&mut bytes, at).ok()?;
    Some(bytes)
}

/// Reads a source's packed bytes in order. Several readers of one source do not disturb each
/// other.
#[derive(Debug)]
pub struct PackedReader {
    file: Arc<File>,
    position: u64,
}

impl Read for PackedReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.file.read_at(buffer, self.position) {
            Ok(len) => {
                self.position += len as u64;
                Ok(len)
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => Err(error),
            Err(error) => Err(io::Error::other(StreamError {
                layer: None,
                fault: StreamFault::Read(error),
                packed: self.position,
                unpacked: self.position,
            })),
        }
    }
}
