//! A source: a file or block device that holds an image in some wrapping.

use std::fmt;
use std::fs::File;
use std::io::{self, ErrorKind, Read};
use std::os::unix::fs::{FileExt, FileTypeExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use crate::archive::{self, ArchiveInput, FileCursor};
use crate::unwrap::decompress;
use crate::{
    ImageStream, MAX_LAYERS, Member, NoChoice, OpenError, StreamError, StreamFault, Wrapping,
    content, lz4_frames, offsets, xz_index, zstd_frames,
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

/// One layer around an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Its kind.
    pub wrapping: Wrapping,
    /// The member that was chosen, for archives.
    pub member: Option<Member>,
}

impl fmt::Display for Layer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.member {
            Some(member) => write!(f, "{} with {}", self.wrapping, member.display_name()),
            None => write!(f, "{}", self.wrapping),
        }
    }
}

/// An opened source.
#[derive(Clone, Debug)]
pub struct ImageSource {
    path: PathBuf,
    file: Arc<File>,
    packed_size: u64,
    layers: Vec<Layer>,
    unpacked: UnpackedSize,
}

impl ImageSource {
    /// Opens `path` and looks at the start of what is inside. The image in an archive is found by
    /// itself, if there is only one that can be it.
    ///
    /// # Errors
    /// [`OpenError`]: there is no such file, it is not readable, or it is plainly no image.
    pub fn open(path: &Path) -> Result<Self, OpenError> {
        Self::open_member(path, None)
    }

    /// As [`ImageSource::open`], with the name of the member to take out of an archive, in full or
    /// without its folders.
    ///
    /// # Errors
    /// As [`ImageSource::open`].
    pub fn open_member(path: &Path, member: Option<&str>) -> Result<Self, OpenError> {
        let (file, packed_size) = open_file(path)?;
        let mut source = Self {
            path: path.to_owned(),
            file: Arc::new(file),
            packed_size,
            layers: Vec::new(),
            unpacked: UnpackedSize::Unknown,
        };
        let head = source.find_layers(member)?;
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
    pub fn layers(&self) -> &[Layer] {
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

    /// Whether unwrapping reads the file here and there by itself, and not the packed bytes in
    /// order: zip and 7z have their directories at the end.
    pub fn reads_by_itself(&self) -> bool {
        let outermost = self.layers.first().map(|layer| layer.wrapping);
        matches!(outermost, Some(Wrapping::Zip | Wrapping::SevenZip))
    }

    /// Unwraps packed bytes, from wherever they come, into the image. They are not used where the
    /// source [reads by itself](Self::reads_by_itself).
    ///
    /// In that case `counter` goes up by the bytes of the file that are read.
    ///
    /// # Errors
    /// A decoder could not be made.
    pub fn unwrap(&self, packed: ImageStream, counter: &Arc<AtomicU64>) -> io::Result<ImageStream> {
        let mut stream = packed;
        for (index, layer) in self.layers.iter().enumerate() {
            stream = match &layer.member {
                None => decompress(stream, layer.wrapping)?,
                Some(member) => {
                    let input = self.archive_input(index, stream, counter);
                    archive::open(layer.wrapping, input, member.name.clone())
                }
            };
        }
        Ok(stream)
    }

    fn archive_input(
        &self,
        index: usize,
        stream: ImageStream,
        counter: &Arc<AtomicU64>,
    ) -> ArchiveInput {
        match index == 0 && self.reads_by_itself() {
            true => ArchiveInput::File(self.cursor(counter)),
            false => ArchiveInput::Stream(stream),
        }
    }

    fn cursor(&self, counter: &Arc<AtomicU64>) -> FileCursor {
        FileCursor::new(
            Arc::clone(&self.file),
            self.packed_size,
            Arc::clone(counter),
        )
    }

    /// The image's bytes from the start.
    ///
    /// # Errors
    /// A decoder could not be made.
    pub fn stream(&self) -> io::Result<ImageStream> {
        self.unwrap(Box::new(self.packed_reader()), &Arc::default())
    }

    /// Finds the layers one by one; returns the first bytes of the image.
    fn find_layers(&mut self, wanted: Option<&str>) -> Result<Vec<u8>, OpenError> {
        let mut wanted = wanted;
        loop {
            let head = self
                .read_head()
                .map_err(|error| self.stream_failed(error))?;
            let Some(wrapping) = Wrapping::detect(&head) else {
                return match wanted {
                    // There was no archive to take it from.
                    Some(wanted) => Err(self.no_choice(NoChoice::NotThere {
                        wanted: wanted.to_owned(),
                        names: Vec::new(),
                    })),
                    None => Ok(head),
                };
            };
            if self.layers.len() == MAX_LAYERS {
                return Err(OpenError::TooManyLayers {
                    path: self.path.clone(),
                });
            }
            let member = match wrapping.is_archive() {
                true => Some(self.find_member(wrapping, wanted.take())?),
                false => None,
            };
            self.layers.push(Layer { wrapping, member });
        }
    }

    /// The member of the archive that comes next.
    fn find_member(&self, kind: Wrapping, wanted: Option<&str>) -> Result<Member, OpenError> {
        let input = match self.layers.is_empty() {
            true => ArchiveInput::File(self.cursor(&Arc::default())),
            false => ArchiveInput::Stream(self.stream().map_err(|e| self.stream_failed(e))?),
        };
        let members =
            archive::list(kind, input, wanted).map_err(|error| self.stream_failed(error))?;
        archive::choose(members, wanted).map_err(|why| self.no_choice(why))
    }

    fn no_choice(&self, why: NoChoice) -> OpenError {
        OpenError::NoChoice {
            path: self.path.clone(),
            why,
        }
    }

    fn stream_failed(&self, error: io::Error) -> OpenError {
        OpenError::Stream {
            path: self.path.clone(),
            source: StreamError::from_io(error),
        }
    }

    fn read_head(&self) -> io::Result<Vec<u8>> {
        let mut head = Vec::with_capacity(HEAD);
        self.stream()?.take(HEAD as u64).read_to_end(&mut head)?;
        Ok(head)
    }

    fn find_unpacked_size(&self) -> UnpackedSize {
        let Some(innermost) = self.layers.last() else {
            return UnpackedSize::Exact(self.packed_size);
        };
        let (file, packed) = (&self.file, self.packed_size);
        let size = match (&innermost.member, innermost.wrapping, self.layers.len()) {
            (Some(member), ..) => member.size,
            (None, Wrapping::Xz, 1) => xz_index::unpacked_size(file, packed),
            (None, Wrapping::Zstd, 1) => zstd_frames::unpacked_size(file, packed),
            (None, Wrapping::Lz4, 1) => lz4_frames::unpacked_size(file, packed),
            (None, Wrapping::Lzma, 1) => lzma_size(file),
            _ => None,
        };
        size.map_or(UnpackedSize::Unknown, UnpackedSize::Exact)
    }
}

/// The size in the header of an lzma file: bytes 5 to 12, all ones where it is not known.
fn lzma_size(file: &File) -> Option<u64> {
    let size = u64::from_le_bytes(offsets::read(file, 5)?);
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
