//! The packed bytes of a source, wherever they lie: one file, the pieces of one, or a server.

mod device;
mod files;
mod pieces;
mod reader;
mod zip_pieces;

use std::fmt;
use std::fs::File;
use std::io;

use pinewrit_disk::BlockDevice;

pub(crate) use device::DeviceBytes;
pub(crate) use files::{Files, became_shorter};
pub use pieces::PiecesFault;
pub(crate) use pieces::{FolderFault, find_among, find_around, find_in_folder, has_boot_sector};
pub use reader::PackedReader;
pub(crate) use reader::{FileCursor, read, read_exact};
pub(crate) use zip_pieces::{EndRecord, MAX_DIRECTORY, check_alone, join as join_zip};

/// Packed bytes that can be read anywhere, by several readers at once.
pub(crate) trait PackedBytes: fmt::Debug + Send + Sync {
    /// How many there are; `None` if a server does not say.
    fn size(&self) -> Option<u64>;

    /// Reads some of the bytes at `offset`, as [`std::os::unix::fs::FileExt::read_at`] does.
    ///
    /// # Errors
    /// The system's, or a [`StreamError`](crate::StreamError) in an I/O error.
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize>;

    /// The open files that the bytes are in, in their order; none for a server.
    fn files(&self) -> &[Part] {
        &[]
    }

    /// Whether bytes can be read without reading everything before them.
    fn can_jump(&self) -> bool {
        true
    }

    /// The medium that the bytes are on, if it was opened for them.
    fn device(&self) -> Option<&dyn BlockDevice> {
        None
    }

    /// Whether reading `range` is cheap: it is not if a server must be asked for it.
    fn is_near(&self, _offset: u64) -> bool {
        true
    }
}

/// One file, or one piece of a file that was cut.
#[derive(Debug)]
pub(crate) struct Part {
    pub(crate) file: File,
    /// Where it begins in the whole, in bytes.
    pub(crate) start: u64,
    /// Its length in bytes.
    pub(crate) len: u64,
    /// It has holes, which are known to be zeros without reading.
    pub(crate) is_sparse: bool,
}
