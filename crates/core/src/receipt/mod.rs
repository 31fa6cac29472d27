//! Receipts: what was put on a medium, with a digest for each chunk, so that it can be checked long
//! afterwards. `docs/formats.md` describes the format.

use std::io;

use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, DiskError};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

mod amend;

use crate::inspect::inspect;
use crate::verify::{VerifyError, verify_records};
use crate::write::{ChunkRecord, PacePoint, WriteReport};
use crate::{Cancel, Observer};

pub use amend::{AmendedMedium, Books};

/// The value of a receipt's first field.
const FORMAT: &str = "pinewrit-receipt";
/// The current version of the format, and the newest that is read.
const VERSION: u32 = 1;
/// A receipt larger than this was not written by Pinewrit, in bytes.
pub const MAX_RECEIPT: u64 = 256 << 20;

/// What was put on a medium.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema, Deserialize)]
pub struct Receipt {
    /// Always `pinewrit-receipt`.
    pub format: String,
    /// Version of the form.
    pub version: u32,
    /// The program and its version.
    pub tool: String,
    /// The medium.
    pub medium: ReceiptMedium,
    /// The image.
    pub image: ReceiptImage,
    /// What distinguishes this medium's content from that of others.
    pub identifiers: Identifiers,
    /// The settings, without secrets.
    pub settings: Option<ReceiptSettings>,
    /// When it was begun and finished, RFC 3339.
    pub begun: String,
    /// See [`Receipt::begun`].
    pub finished: String,
    /// How long writing and reading back took, in seconds.
    pub write_seconds: f64,
    /// See [`Receipt::write_seconds`].
    pub verify_seconds: f64,
    /// How long both were expected to take, if something was known of the medium's speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_seconds: Option<f64>,
    /// Whether everything was read back and found equal.
    pub verified: bool,
    /// What happened to the bytes of the image.
    pub bytes: ReceiptBytes,
    /// Bytes in a chunk.
    pub chunk_bytes: u64,
    /// The chunks that have something in use.
    pub chunks: Vec<ReceiptChunk>,
    /// How long writing each chunk took.
    pub pace_written: Vec<PacePoint>,
    /// How long reading back each chunk took.
    pub pace_read: Vec<PacePoint>,
    /// What Pinewrit has changed on the medium since, oldest first. The chunks above include these
    /// changes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changes: Vec<ReceiptChange>,
    /// BLAKE3 of all of the above, in this order, as compact JSON.
    pub digest: String,
}

/// The medium of a receipt.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptMedium {
    /// Its name: the file's, or the device's path.
    pub name: String,
    /// Its tag, if it is not a card file.
    pub tag: Option<String>,
    /// How it was connected.
    pub bus: Option<String>,
    /// Who made it.
    pub maker: Option<String>,
    /// What it is.
    pub model: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Its size in bytes, or that of the partition.
    pub size: u64,
    /// The partition that was written, if it was not the whole medium.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub partition: Option<ReceiptPartition>,
}

/// The partition of a receipt.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptPartition {
    /// Its number.
    pub number: u32,
    /// Its first byte on the medium. Offsets in the receipt count from here.
    pub start: u64,
}

/// A later change of the medium.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptChange {
    /// When it was made, RFC 3339.
    pub time: String,
    /// The command, without its arguments: `configure`, `files put`.
    pub command: String,
    /// The changed files or partitions, as far as they have names; long lists are cut.
    pub files: Vec<String>,
    /// The receipt file with what was written to a partition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub receipt: Option<String>,
    /// The settings that the medium has since; they become those of its receipt.
    #[serde(skip)]
    pub settings: Option<Box<ReceiptSettings>>,
}

impl ReceiptChange {
    /// The most files to list by name; the last entry then counts the others.
    const MAX_FILES: usize = 200;

    /// A change by a command.
    pub fn new(time: String, command: &str, mut files: Vec<String>) -> Self {
        if files.len() > Self::MAX_FILES {
            let more = files.len() - Self::MAX_FILES;
            files.truncate(Self::MAX_FILES);
            files.push(format!("and {more} more"));
        }
        Self {
            time,
            command: command.to_owned(),
            files,
            receipt: None,
            settings: None,
        }
    }
}

/// The image of a receipt.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptImage {
    /// Its name.
    pub name: String,
    /// Its layers, the outermost first.
    pub wrapping: Vec<String>,
    /// Size as packed, in bytes.
    pub packed_bytes: Option<u64>,
    /// Size as unpacked, in bytes.
    pub unpacked_bytes: u64,
    /// The checksum that matched: `sha256:…`.
    pub checksum: Option<String>,
    /// What the catalogue calls it, if it was named so: `larkfell-os@2.4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listed: Option<String>,
}

/// Identifiers on the medium.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct Identifiers {
    /// Disk signature or disk GUID.
    pub table: Option<String>,
    /// Identifiers of file systems, with their partitions.
    pub filesystems: Vec<(Option<u32>, String)>,
}

/// The settings of a receipt.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptSettings {
    /// The unit's host name.
    pub host_name: Option<String>,
    /// BLAKE3 of the settings as text, without secrets.
    pub digest: String,
    /// The files that were written.
    pub files: Vec<String>,
    /// The intake used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub intake: Option<String>,
    /// A line for a client's `known_hosts`, if the host key was made beforehand.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_hosts: Option<String>,
}

/// What happened to bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptBytes {
    /// All of the image.
    pub image: u64,
    /// In use.
    pub used: u64,
    /// In use and zero.
    pub zero: u64,
    /// Not in use.
    pub free: u64,
    /// Written.
    pub written: u64,
    /// Already on the medium.
    pub kept: u64,
}

/// A chunk of a receipt.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema, Deserialize)]
pub struct ReceiptChunk {
    /// The chunk's number.
    pub index: u64,
    /// The used ranges: first byte and end of each.
    pub used: Vec<(u64, u64)>,
    /// BLAKE3 of these ranges, one after the other.
    pub blake3: String,
}

impl ReceiptChunk {
    fn of(record: &ChunkRecord) -> Self {
        let ranges = record.used.iter();
        Self {
            index: record.index,
            used: ranges.map(|range| (range.start, range.end)).collect(),
            blake3: record.digest.to_hex().to_string(),
        }
    }
}

/// Bytes of one request.
const REQUEST: usize = 1 << 20;

/// The digest of a device's content in these ranges, which count from `start`.
pub(crate) fn digest_of(
    device: &dyn BlockDevice,
    start: u64,
    used: &[ByteRange],
) -> Result<blake3::Hash, DiskError> {
    let mut hasher = blake3::Hasher::new();
    let mut buffer = AlignedBuf::new(REQUEST);
    for range in used {
        let mut place = range.start;
        while place < range.end {
            let len = (range.end - place).min(REQUEST as u64) as usize;
            device.read_at(start.saturating_add(place), &mut buffer[..len])?;
            hasher.update(&buffer[..len]);
            place += len as u64;
        }
    }
    Ok(hasher.finalize())
}

/// Whether a device matches a record, whose offsets count from `start`.
fn is_as_recorded(device: &dyn BlockDevice, start: u64, record: &ChunkRecord) -> bool {
    digest_of(device, start, &record.used).is_ok_and(|digest| digest == record.digest)
}

/// Why a receipt cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ReceiptError {
    /// It could not be read.
    #[error("the receipt could not be read or written")]
    Io(#[from] io::Error),
    /// It is not a receipt.
    #[error("this is not a receipt: {0}")]
    Form(String),
    /// It has a newer version.
    #[error("the receipt has version {0}; this Pinewrit supports up to {VERSION}")]
    Version(u32),
    /// The medium could not be read to bring it up to date.
    #[error("the medium could not be read: {0}")]
    Medium(String),
    /// It has been changed since it was written.
    #[error("the receipt was changed since it was written")]
    Changed,
}

/// How a medium and a receipt match.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kinship {
    /// The same identifiers.
    Same,
    /// Other identifiers: it is a receipt of another medium, or this one was rewritten.
    Other,
    /// The medium no longer has identifiers.
    Unknown,
}

impl Identifiers {
    /// The identifiers of a medium, as far as it can be read.
    pub fn of(device: &dyn BlockDevice) -> Self {
        let Ok(found) = inspect(device, Some(device.size())) else {
            return Self::default();
        };
        let whole = found.filesystem.into_iter().map(|fs| (None, fs.id));
        let parts = found.partitions.into_iter().map(|partition| {
            (
                Some(partition.number),
                partition.filesystem.and_then(|fs| fs.id),
            )
        });
        Self {
            // A signature that was never set identifies nothing.
            table: found
                .scheme
                .map(|scheme| scheme.id)
                .filter(|id| id.contains(|c| c != '0' && c != '-')),
            filesystems: whole
                .chain(parts)
                .filter_map(|(number, id)| Some((number, id?)))
                .collect(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.table.is_none() && self.filesystems.is_empty()
    }

    /// How these match those of a receipt.
    pub fn kinship(&self, receipt: &Self) -> Kinship {
        match (self.is_empty(), self == receipt) {
            (true, _) => Kinship::Unknown,
            (_, true) => Kinship::Same,
            _ => Kinship::Other,
        }
    }
}

impl Receipt {
    /// A receipt for a medium that was written.
    pub fn new(
        tool: String,
        report: &WriteReport,
        medium: ReceiptMedium,
        image: ReceiptImage,
    ) -> Self {
        let in_use = report
            .chunks
            .iter()
            .filter(|record| !record.used.is_empty());
        Self {
            format: FORMAT.to_owned(),
            version: VERSION,
            tool,
            medium,
            image,
            identifiers: Identifiers::default(),
            settings: None,
            begun: String::new(),
            finished: String::new(),
            write_seconds: report.write_seconds,
            verify_seconds: report.verify_seconds,
            expected_seconds: None,
            verified: report.verified,
            bytes: ReceiptBytes {
                image: report.image_bytes,
                used: report.used_bytes,
                zero: report.zero_bytes,
                free: report.free_bytes,
                written: report.written_bytes,
                kept: report.kept_bytes,
            },
            chunk_bytes: CHUNK_SIZE as u64,
            chunks: in_use.map(ReceiptChunk::of).collect(),
            pace_written: report.pace.written.iter().map(PacePoint::rounded).collect(),
            pace_read: report.pace.read.iter().map(PacePoint::rounded).collect(),
            changes: Vec::new(),
            digest: String::new(),
        }
    }

    /// The receipt as it is kept, with its digest.
    ///
    /// # Errors
    /// [`ReceiptError::Form`]: a number in it has no form in JSON.
    pub fn to_json(&self) -> Result<Vec<u8>, ReceiptError> {
        let mut sealed = self.clone();
        sealed.seal()?;
        let mut json =
            serde_json::to_vec(&sealed).map_err(|e| ReceiptError::Form(e.to_string()))?;
        json.push(b'\n');
        Ok(json)
    }

    /// Gives it the digest of what is in it.
    ///
    /// # Errors
    /// As [`Receipt::to_json`].
    pub fn seal(&mut self) -> Result<(), ReceiptError> {
        self.digest = self.computed_digest()?;
        Ok(())
    }

    /// Reads and checks a receipt.
    ///
    /// # Errors
    /// [`ReceiptError`].
    pub fn from_json(json: &[u8]) -> Result<Self, ReceiptError> {
        let form = |error: serde_json::Error| ReceiptError::Form(error.to_string());
        #[derive(Deserialize)]
        struct Head {
            format: String,
            version: u32,
        }
        let head: Head = serde_json::from_slice(json).map_err(form)?;
        if head.format != FORMAT {
            return Err(ReceiptError::Form(format!("its format is {}", head.format)));
        }
        if head.version > VERSION {
            return Err(ReceiptError::Version(head.version));
        }
        let receipt: Self = serde_json::from_slice(json).map_err(form)?;
        if receipt.computed_digest()? != receipt.digest {
            return Err(ReceiptError::Changed);
        }
        // An empty comparison must not count as a match.
        match receipt.records() {
            Some(records) if !records.is_empty() => Ok(receipt),
            _ => Err(ReceiptError::Form("its chunks are invalid".to_owned())),
        }
    }

    fn computed_digest(&self) -> Result<String, ReceiptError> {
        let mut bare = self.clone();
        bare.digest.clear();
        let json = serde_json::to_vec(&bare).map_err(|e| ReceiptError::Form(e.to_string()))?;
        Ok(blake3::hash(&json).to_hex().to_string())
    }

    /// The chunks as they are compared; `None` if one of them cannot be.
    pub(crate) fn records(&self) -> Option<Vec<ChunkRecord>> {
        let record = |chunk: &ReceiptChunk| {
            let ranges = chunk.used.iter();
            Some(ChunkRecord {
                index: chunk.index,
                used: ranges
                    .map(|(start, end)| ByteRange::new(*start, *end))
                    .collect::<Option<_>>()?,
                digest: blake3::Hash::from_hex(&chunk.blake3).ok()?,
            })
        };
        self.chunks.iter().map(record).collect()
    }

    fn set_chunks<'a>(&mut self, records: impl Iterator<Item = &'a ChunkRecord>) {
        self.chunks = records.map(ReceiptChunk::of).collect();
    }

    /// Compares a medium with the receipt; returns the chunks that differ.
    ///
    /// # Errors
    /// The medium could not be read, is smaller than the receipt says, or the job was cancelled.
    pub fn compare(
        &self,
        medium: &dyn BlockDevice,
        observer: &dyn Observer,
        cancel: &Cancel,
    ) -> Result<Vec<ChunkRecord>, VerifyError> {
        let records = self.records().unwrap_or_default();
        verify_records(medium, records, observer, cancel)
    }

    /// Bytes in use, all of which are compared.
    pub fn used_bytes(&self) -> u64 {
        let ranges = self.chunks.iter().flat_map(|chunk| &chunk.used);
        ranges.map(|(start, end)| end.saturating_sub(*start)).sum()
    }
}
