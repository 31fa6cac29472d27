//! The results of writing, and its errors.

use pinewrit_disk::{ByteRange, CommitError, DiskError};
use pinewrit_firstboot::as_new::AsNewReport;
use pinewrit_firstboot::configure::{ConfigureError, ConfigureReport};
use pinewrit_image::{Checksum, StreamError, Subject};
use pinewrit_volume::Recovered;
use pinewrit_volume::extents::RegionFacts;
use pinewrit_volume::grow::GrowReport;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::renew::{RenewError, RenewReport};

/// What was written.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct WriteReport {
    /// Size of the unpacked image in bytes.
    pub image_bytes: u64,
    /// Used bytes in it; all of these are on the medium.
    pub used_bytes: u64,
    /// Those that are zero, in long runs.
    pub zero_bytes: u64,
    /// Bytes that no file system uses; they were not touched.
    pub free_bytes: u64,
    /// Bytes written to the medium.
    pub written_bytes: u64,
    /// Bytes that were already on the medium.
    pub kept_bytes: u64,
    /// Whether everything was read back and found equal.
    pub verified: bool,
    /// The verified checksum.
    pub checksum: Option<ChecksumReport>,
    /// Time until everything was flushed, in seconds.
    pub write_seconds: f64,
    /// Time for reading back after that, in seconds.
    pub verify_seconds: f64,
    /// Requests that failed and were repeated.
    pub repeated: u32,
    /// What was finished in file systems of the image that were cut off.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub recovered: Vec<Recovered>,
    /// What was taken away to make the system as new.
    pub as_new: Option<AsNewReport>,
    /// The identifiers that the medium was given.
    pub renewed: Option<RenewReport>,
    /// What the settings changed.
    pub configured: Option<ConfigureReport>,
    /// What growing changed.
    pub grown: Option<GrowReport>,
    /// Why the last partition was not grown despite the request.
    pub not_grown: Option<String>,
    /// What the map knows about the partitions.
    pub regions: Vec<RegionFacts>,
    /// The map, with a digest for each chunk of the finished medium.
    #[serde(skip)]
    pub chunks: Vec<ChunkRecord>,
    /// How long each chunk took.
    #[serde(skip)]
    pub pace: Pace,
}

/// A checksum that matched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ChecksumReport {
    /// Kind and digest: `sha256:…`.
    pub digest: String,
    /// What it covers: `packed file` or `unpacked image`.
    pub of: &'static str,
}

/// The used ranges of a chunk, and their digest.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChunkRecord {
    /// The chunk's number: its offset in chunks of 4 MiB.
    pub index: u64,
    /// Ranges of the medium, in bytes.
    pub used: Vec<ByteRange>,
    /// BLAKE3 of their bytes, one range after the other.
    pub digest: blake3::Hash,
}

impl ChunkRecord {
    /// Bytes in use.
    pub fn used_bytes(&self) -> u64 {
        self.used.iter().map(|range| range.len()).sum()
    }
}

/// When which part of a medium was written and read back.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Pace {
    /// Chunks as they were written.
    pub written: Vec<PacePoint>,
    /// Chunks as they were read back.
    pub read: Vec<PacePoint>,
}

/// One chunk's time.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema, Deserialize)]
pub struct PacePoint {
    /// Offset on the medium in bytes.
    pub offset: u64,
    /// Bytes transferred.
    pub bytes: u64,
    /// When it was done, in seconds from the start.
    pub at: f64,
    /// How long its requests took, in seconds.
    pub took: f64,
}

impl PacePoint {
    /// The same in steps of a tenth of a millisecond, which is how it is kept.
    pub fn rounded(&self) -> Self {
        let steps = |time: f64| (time * 1e4).round() / 1e4;
        Self {
            at: steps(self.at),
            took: steps(self.took),
            ..*self
        }
    }
}

/// Where something is on a medium.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Whereabouts {
    /// The partition's number.
    pub partition: Option<u32>,
    /// A file's path, or what structure it is.
    pub owner: Option<String>,
}

/// Something on a medium that uses the places in question.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Owned {
    /// The partition's number; `None` outside partitions, or if there are none.
    pub partition: Option<u32>,
    /// What it is.
    pub kind: OwnerKind,
    /// A file's path, or the structure in words; empty if unknown.
    pub owner: String,
    /// Its first byte in question, on the medium.
    pub first: u64,
}

/// What uses a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum OwnerKind {
    /// A file or a folder.
    File,
    /// A structure of a file system.
    Metadata,
    /// Nothing uses it.
    Free,
    /// It is outside all partitions.
    Between,
    /// A file system that is not supported.
    Unknown,
}

/// In what way a chunk reads back differently.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stability {
    /// The same wrong bytes each time.
    Wrong,
    /// Different bytes at each try.
    Unstable,
}

/// Why a medium was not written. Unless it says otherwise, the medium has no partition table.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// The image is known to be larger than the medium. The medium is unchanged.
    #[error("the image has {image} bytes, the medium {medium}")]
    TooLarge {
        /// Size of the unpacked image in bytes.
        image: u64,
        /// Size of the medium in bytes.
        medium: u64,
    },
    /// The image, whose size was unknown, continues past the medium's end.
    #[error("the image continues past the end of the medium at {medium}")]
    PastEnd {
        /// Size of the medium in bytes.
        medium: u64,
    },
    /// The medium failed while its table was being removed: its former content may still be there.
    #[error("the medium failed before it was cleared")]
    Clear(#[source] DiskError),
    /// The source is bad.
    #[error("the source is bad")]
    Source(#[source] StreamError),
    /// Neither the packed source nor the image has the expected checksum.
    #[error("the checksum is not {expected}")]
    Checksum {
        /// As published.
        expected: Checksum,
        /// The computed checksums, and what they cover.
        found: Vec<(Subject, Checksum)>,
    },
    /// The medium failed at one place; it answers at others.
    #[error("the medium failed")]
    Disk(#[from] DiskError),
    /// The medium failed, and no longer answers anywhere.
    #[error("the medium does not answer any more")]
    Dead(#[source] DiskError),
    /// What was read back is not what was written.
    #[error("{chunks} chunks read back differently, the first at byte {offset}")]
    ReadBack {
        /// Offset of the first byte that differs, or of its chunk if unknown.
        offset: u64,
        /// How many chunks differ.
        chunks: u64,
        /// How many bytes of the first one differ, if the source could be read again.
        bytes: Option<u64>,
        /// How it reads at the second try.
        stability: Stability,
        /// What is there.
        place: Whereabouts,
    },
    /// Later data was found at the medium's start: the medium is smaller than it claims.
    #[error("what was written further on was found at the start")]
    Wraps,
    /// With the settings, nobody could log in.
    #[error("nobody could log in: no account has a password or a key")]
    NoWayIn,
    /// The settings could not be put on the medium.
    #[error("the settings could not be put on the medium")]
    Configure(#[source] ConfigureError),
    /// The system could not be made as new.
    #[error("the system could not be made as new")]
    AsNew(#[source] ConfigureError),
    /// The medium could not be given identifiers of its own.
    #[error("the medium could not be given identifiers of its own")]
    Renew(#[source] RenewError),
    /// It was cancelled.
    #[error("stopped")]
    Cancelled,
}

impl WriteError {
    pub(super) fn differs(offset: u64, chunks: u64, bytes: Option<u64>) -> Self {
        Self::ReadBack {
            offset,
            chunks,
            bytes,
            stability: Stability::Wrong,
            place: Whereabouts::default(),
        }
    }
}

impl From<CommitError> for WriteError {
    fn from(error: CommitError) -> Self {
        match error {
            CommitError::Disk { source, .. } => Self::Disk(source),
            CommitError::ReadBack { offset, .. } => Self::differs(offset, 1, None),
            other => Self::Configure(other.into()),
        }
    }
}
