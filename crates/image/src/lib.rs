//! Opening an image, in whatever wrapping, as one stream of bytes for a whole medium.
//!
//! [`ImageSource::open`] tells the wrapping by content and the unpacked size where the format
//! itself says it; [`ImageSource::unwrap`] turns the packed bytes into the image; and
//! [`PeekDevice`] looks into an image without unpacking more of it than needed.
//!
//! ```
//! use pinewrit_image::{ImageSource, Packing};
//! use std::io::Read;
//!
//! let folder = tempfile::tempdir()?;
//! let path = folder.path().join("hut.img.xz");
//! let image = vec![0xff; 3 << 20];
//! let mut out = std::fs::File::create(&path)?;
//! Packing::Xz.pack(&mut &image[..], image.len() as u64, &mut out)?;
//!
//! let source = ImageSource::open(&path)?;
//! assert_eq!(source.unpacked_size().exact(), Some(3 << 20));
//! let mut unpacked = Vec::new();
//! source.stream()?.read_to_end(&mut unpacked)?;
//! assert_eq!(unpacked, image);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod archive;
mod blocks;
mod bzip2_blocks;
mod checksum;
mod content;
mod error;
mod fetch;
mod jumps;
mod location;
mod lz4_frames;
mod lz4_whole;
mod members;
mod ordered;
mod pack;
mod packed;
mod peek;
mod sizes;
mod source;
mod sparse_image;
mod sparse_tar;
mod spool;
mod summed;
mod unwrap;
mod wrapping;
mod xz_index;
mod xz_streams;
mod zstd_frames;
mod zstd_parallel;

pub use archive::{Member, NoChoice};
pub use blocks::{Block, BlockReader};
pub use checksum::{
    Checksum, ChecksumError, ChecksumKind, ChecksumOrigin, ExpectedChecksum, Hasher, Subject,
    find_beside,
};
pub use content::NotAnImage;
pub use error::{OpenError, StreamError, StreamFault};
pub use fetch::{
    FetchError, FetchOptions, FetchStats, fetch_small, forget_download, kept_download, size_at,
};
pub use location::Location;
pub use members::{MemberFacts, MemberKind, Unpackable, VisitError};
pub use pack::Packing;
pub use packed::{PackedReader, PiecesFault};
pub use peek::PeekDevice;
pub use sizes::UnpackedSize;
pub use source::{ImageSource, Layer, OpenOptions, PlainImage};
pub(crate) use sparse_tar::{SparseReader, member_name, must_be_understood, sparse_file};
pub use spool::Spool;
pub use summed::MemberSum;
pub use unwrap::ImageStream;
pub use wrapping::{MAX_LAYERS, Wrapping};
pub use xz_streams::OneThread;
