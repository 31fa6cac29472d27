//! Archives as a layer: which member is the image, and its bytes as a stream.
//!
//! zip and 7z files are read through their directories; zip and tar inside another layer are read
//! as a stream. Nothing is unpacked to the disk.

mod choice;
mod sevenz;
mod tape;
mod zipped;

use std::io::{self, Read};
use std::sync::Arc;
use std::thread;

use crossbeam_channel::{Sender, bounded};

use crate::blocks::{Block, BlockReader};
use crate::packed::FileCursor;
use crate::{ImageStream, StreamError, StreamFault, Wrapping};

pub use choice::{Member, NoChoice};
pub(crate) use choice::{choose, is_beside, is_packed_name};
pub(crate) use sevenz::open as open_sevenz;
pub(crate) use zipped::open as open_zip;

const BLOCK: usize = 1 << 20;
const BLOCKS_IN_FLIGHT: usize = 4;

/// Where an archive's bytes come from.
pub(crate) enum ArchiveInput {
    /// A file, which allows random access.
    File(FileCursor),
    /// Another layer's output, which can be read only once, in order.
    Stream(ImageStream),
}

/// The members of an archive, as far as they are known without unpacking everything: all of them if
/// there is a directory; in a stream only up to the first that may be the image.
///
/// # Errors
/// A [`StreamError`] inside: the archive is damaged, encrypted or of an unknown kind.
pub(crate) fn list(
    kind: Wrapping,
    input: ArchiveInput,
    wanted: Option<&str>,
) -> io::Result<Vec<Member>> {
    let listed = match (kind, input) {
        (Wrapping::Zip, ArchiveInput::File(file)) => zipped::list(file),
        (Wrapping::Zip, ArchiveInput::Stream(stream)) => zipped::list_passing(stream, wanted),
        (Wrapping::SevenZip, ArchiveInput::File(file)) => sevenz::list(file),
        (Wrapping::SevenZip, ArchiveInput::Stream(_)) => Err(needs_a_file()),
        (_, ArchiveInput::File(file)) => tape::list_file(file),
        (_, ArchiveInput::Stream(stream)) => tape::list_passing(stream, wanted),
    };
    listed.map_err(|error| in_layer(kind, error))
}

/// The bytes of the member `name`.
pub(crate) fn open(kind: Wrapping, input: ArchiveInput, name: String) -> ImageStream {
    stream_from(move |out| {
        let done = match (kind, input) {
            (Wrapping::Zip, ArchiveInput::File(file)) => zipped::unpack(file, &name, out),
            (Wrapping::Zip, ArchiveInput::Stream(stream)) => {
                zipped::unpack_passing(stream, &name, out)
            }
            (Wrapping::SevenZip, ArchiveInput::File(file)) => sevenz::unpack(file, &name, out),
            (Wrapping::SevenZip, ArchiveInput::Stream(_)) => Err(needs_a_file()),
            (_, ArchiveInput::File(file)) => tape::unpack(Box::new(file), &name, out),
            (_, ArchiveInput::Stream(stream)) => tape::unpack(stream, &name, out),
        };
        done.map_err(|error| in_layer(kind, error))
    })
}

/// The offset and length of an uncompressed member, in bytes from the start of the archive.
pub(crate) fn stored_place(kind: Wrapping, file: FileCursor, name: &str) -> Option<(u64, u64)> {
    match kind {
        Wrapping::Zip => zipped::stored_place(file, name),
        Wrapping::Tar => tape::stored_place(file, name),
        _ => None,
    }
}

/// The most bytes of an archive in another layer to unpack in search of the image.
const MAX_PASSING: u64 = 4 << 30;

/// A limited stream: an archive may hold terabytes of zeros in a few kilobytes.
struct Passing {
    inner: ImageStream,
    left: u64,
}

impl Passing {
    fn new(inner: ImageStream) -> Self {
        Self {
            inner,
            left: MAX_PASSING,
        }
    }
}

impl Read for Passing {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.inner.read(buffer)?;
        self.left = self.left.checked_sub(len as u64).ok_or_else(|| {
            fault(StreamFault::Unsupported {
                what: "an archive with no image in its first 4 GiB".into(),
            })
        })?;
        Ok(len)
    }
}

fn needs_a_file() -> io::Error {
    fault(StreamFault::Unsupported {
        what: "7z that cannot be read here and there".into(),
    })
}

/// A fault whose layer is filled in by the caller.
fn fault(fault: StreamFault) -> io::Error {
    io::Error::other(StreamError {
        layer: None,
        fault,
        packed: 0,
        unpacked: 0,
    })
}

fn damaged(detail: impl ToString) -> io::Error {
    fault(StreamFault::Damaged {
        detail: detail.to_string(),
    })
}

/// An error of this layer; errors of layers below pass unchanged.
fn in_layer(kind: Wrapping, error: io::Error) -> io::Error {
    match error.downcast::<StreamError>() {
        Ok(found) if found.layer.is_some() => io::Error::other(found),
        Ok(found) if matches!(found.fault, StreamFault::Read(_)) => io::Error::other(found),
        Ok(found) => io::Error::other(StreamError {
            layer: Some(kind),
            ..found
        }),
        Err(error) => {
            if StreamError::in_io(&error).is_some() {
                return error;
            }
            let fault = match error.kind() {
                io::ErrorKind::UnexpectedEof => StreamFault::Truncated,
                _ => StreamFault::Damaged {
                    detail: error.to_string(),
                },
            };
            io::Error::other(StreamError {
                layer: Some(kind),
                fault,
                packed: 0,
                unpacked: 0,
            })
        }
    }
}

/// Where a member's bytes go. If the other end has been closed, writing ends quietly.
struct Sink {
    blocks: Sender<io::Result<Block>>,
    given: u64,
}

/// Whether the bytes are still wanted.
#[derive(PartialEq, Eq)]
enum Wanted {
    Yes,
    No,
}

impl Sink {
    /// Copies everything from `reader`.
    fn copy(&mut self, reader: &mut dyn Read) -> io::Result<Wanted> {
        loop {
            let mut block = Vec::with_capacity(BLOCK);
            let read = reader.take(BLOCK as u64).read_to_end(&mut block);
            let is_last = block.len() < BLOCK;
            self.given += block.len() as u64;
            if !block.is_empty() && self.blocks.send(Ok(Arc::new(block))).is_err() {
                return Ok(Wanted::No);
            }
            read?;
            if is_last {
                return Ok(Wanted::Yes);
            }
        }
    }
}

/// Runs `work` in its own thread; what it writes to the sink comes out of the stream. The thread
/// ends when the stream is dropped.
fn stream_from(work: impl FnOnce(&mut Sink) -> io::Result<()> + Send + 'static) -> ImageStream {
    let (blocks, received) = bounded(BLOCKS_IN_FLIGHT);
    let failed = blocks.clone();
    let spawned = thread::Builder::new()
        .name("archive".into())
        .spawn(move || {
            let mut sink = Sink { blocks, given: 0 };
            if let Err(error) = work(&mut sink) {
                // The receiver may be gone.
                let _ = sink.blocks.send(Err(with_given(error, sink.given)));
            }
        });
    if let Err(error) = spawned {
        let _ = failed.try_send(Err(error));
    }
    drop(failed);
    Box::new(BlockReader::new(received))
}

/// Adds how far unpacking had come.
fn with_given(error: io::Error, given: u64) -> io::Error {
    match error.downcast::<StreamError>() {
        Ok(found) if found.unpacked == 0 => io::Error::other(StreamError {
            unpacked: given,
            ..found
        }),
        Ok(found) => io::Error::other(found),
        Err(error) => error,
    }
}
