//! Making file systems in partitions.

mod fresh;
mod swap;
pub use swap::{header as swap_header, set_uuid as set_swap_uuid};

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_ext4::{EditError, ExtError, Generation, MakeOptions, Timestamp, make};
pub use pinewrit_fat::MakeKind as FatKind;
use pinewrit_fat::{self as fat, MakeError, Stamp};
use schemars::JsonSchema;
use serde::Serialize;

use crate::{FilesystemKind, probe};
use fresh::Fresh;

/// Bytes at a partition's start and end that are cleared first, because they may hold marks of
/// other file systems, arrays and volumes.
const HEAD: u64 = 1 << 20;
const TAIL: u64 = 128 << 10;
/// Bytes that identify the file system: they are written last.
const BOOT: u64 = 4096;

/// What is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FormatKind {
    /// FAT of one width, or the one that suits the size.
    Fat(FatKind),
    /// ext4.
    Ext4,
    /// A swap area.
    Swap,
}

impl FormatKind {
    /// The words for all kinds.
    pub const WORDS: [(&'static str, Self); 6] = [
        ("fat32", Self::Fat(FatKind::Fat32)),
        ("fat16", Self::Fat(FatKind::Fat16)),
        ("fat12", Self::Fat(FatKind::Fat12)),
        ("fat", Self::Fat(FatKind::BySize)),
        ("ext4", Self::Ext4),
        ("swap", Self::Swap),
    ];

    /// The kind with this word.
    pub fn from_word(word: &str) -> Option<Self> {
        let found = Self::WORDS.iter().find(|(known, _)| *known == word);
        found.map(|(_, kind)| *kind)
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        let found = Self::WORDS.iter().find(|(_, kind)| *kind == self);
        found.map_or("fat", |(word, _)| *word)
    }

    /// The kind of file system that results in `size` bytes.
    pub fn filesystem(self, size: u64) -> FilesystemKind {
        match self {
            Self::Fat(kind) => FilesystemKind::Fat(kind.for_size(size)),
            Self::Ext4 => FilesystemKind::Ext(Generation::Ext4),
            Self::Swap => FilesystemKind::SWAP,
        }
    }

    /// Checks a label for this kind.
    ///
    /// # Errors
    /// [`FormatError::Label`].
    pub fn check_label(self, label: &str) -> Result<(), FormatError> {
        let (most, is_fat) = match self {
            Self::Fat(_) => (11, true),
            Self::Ext4 => (MakeOptions::MAX_LABEL, false),
            Self::Swap => (15, false),
        };
        let wrong = |why: String| FormatError::Label {
            label: label.chars().map(crate::printable).collect(),
            why,
        };
        if label.len() > most {
            let found = label.len();
            return Err(wrong(format!(
                "it has {found} bytes; at most {most} are allowed"
            )));
        }
        let bad = if is_fat {
            fat::check_label(label).err()
        } else {
            label.chars().find(|c| c.is_control())
        };
        match bad {
            Some(c) => {
                let shown = crate::printable(c);
                Err(wrong(format!("it cannot contain the character {shown:?}")))
            }
            None => Ok(()),
        }
    }
}

/// What a file system should be like.
#[derive(Clone, Debug)]
pub struct FormatOptions {
    /// What is made.
    pub kind: FormatKind,
    /// Its label; empty for none.
    pub label: String,
    /// 32 random bytes for its identifiers.
    pub seed: [u8; 32],
    /// Bytes in a cluster (FAT) or block (ext4); by its size if `None`.
    pub unit: Option<u32>,
    /// How many files it can have at least (ext4); by its size if `None`.
    pub inodes: Option<u32>,
    /// Whether all metadata has checksums (ext4).
    pub has_checksums: bool,
    /// Its time of creation.
    pub now: Timestamp,
    /// First byte of the partition on the medium, which some loaders read from a FAT.
    pub start: u64,
}

impl FormatOptions {
    /// The usual options.
    pub fn new(kind: FormatKind, label: &str, seed: [u8; 32], now: Timestamp) -> Self {
        Self {
            kind,
            label: label.to_owned(),
            seed,
            unit: None,
            inodes: None,
            has_checksums: true,
            now,
            start: 0,
        }
    }

    fn uuid(&self) -> [u8; 16] {
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&self.seed[..16]);
        uuid::Builder::from_random_bytes(bytes)
            .into_uuid()
            .into_bytes()
    }

    fn fat(&self) -> fat::MakeOptions {
        let mut id = [0; 4];
        id.copy_from_slice(&self.seed[..4]);
        fat::MakeOptions {
            label: self.label.clone(),
            id,
            start: self.start,
            made: Stamp::at(self.now.seconds, &jiff::tz::TimeZone::UTC),
        }
    }

    fn hash_seed(&self) -> [u8; 16] {
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&self.seed[16..]);
        bytes
    }
}

/// What was made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FormatReport {
    /// Its kind: `FAT32`, `ext4`, `swap`.
    pub kind: FilesystemKind,
    /// Its size in bytes.
    pub size: u64,
    /// Its label.
    pub label: Option<String>,
    /// Its identifier in the form that its own tools use.
    pub id: Option<String>,
    /// Free bytes.
    pub free: Option<u64>,
}

/// Why a file system was not created.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FormatError {
    /// The label cannot be stored.
    #[error("the label {label:?} is not allowed: {why}")]
    Label {
        /// The label.
        label: String,
        /// What is wrong with it.
        why: String,
    },
    /// The partition is too small or too large for this kind.
    #[error("{kind} cannot have {size} bytes: {why}")]
    Size {
        /// The kind's name.
        kind: &'static str,
        /// The partition's size in bytes.
        size: u64,
        /// What is wrong with it.
        why: String,
    },
    /// A cluster or block size is not possible.
    #[error("{unit} bytes is not a valid size: {why}")]
    Unit {
        /// The size in bytes.
        unit: u32,
        /// What is possible.
        why: String,
    },
    /// ext4 could not be created.
    #[error(transparent)]
    Ext4(EditError),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// What was written differs when read back.
    #[error("what was written at byte {offset} of the partition is not there when it is read back")]
    ReadBack {
        /// Where in the partition, in bytes.
        offset: u64,
    },
    /// The new file system is not recognised.
    #[error("what was written is not recognised when it is read back")]
    Unrecognised,
}

impl From<EditError> for FormatError {
    fn from(error: EditError) -> Self {
        match error {
            EditError::Volume(ExtError::Disk(error)) => Self::Disk(error),
            other => Self::Ext4(other),
        }
    }
}

impl From<MakeError> for FormatError {
    fn from(error: MakeError) -> Self {
        match error {
            MakeError::Size { kind, size, why } => Self::Size {
                kind,
                size,
                why: why.to_owned(),
            },
            MakeError::Unit { unit, why } => Self::Unit { unit, why },
            MakeError::Disk(error) => Self::Disk(error),
        }
    }
}

/// Checks whether a file system can be created, without touching the device.
///
/// # Errors
/// [`FormatError`].
pub fn check(size: u64, sector: u64, options: &FormatOptions) -> Result<(), FormatError> {
    options.kind.check_label(&options.label)?;
    match options.kind {
        FormatKind::Fat(kind) => Ok(fat::MakePlan::of(kind, size, sector, options.unit).map(drop)?),
        FormatKind::Ext4 => match options.unit {
            Some(unit) if ![1024, 2048, 4096].contains(&unit) => Err(FormatError::Unit {
                unit,
                why: "blocks of ext4 have 1024, 2048 or 4096".to_owned(),
            }),
            _ => Ok(()),
        },
        FormatKind::Swap => swap::check(size),
    }
}

/// Creates a file system that fills `partition`. Its former content is lost; until the end, nothing
/// there looks like a file system.
///
/// # Errors
/// [`FormatError`]. Mistakes in the options are found before anything is written.
pub fn format(
    partition: &Window<'_>,
    options: &FormatOptions,
) -> Result<FormatReport, FormatError> {
    let size = partition.size();
    let sector = partition.logical_sector().bytes();
    check(size, sector, options)?;
    let fresh = Fresh::new(partition);
    // Planning shows whether ext4 fits; nothing is written before.
    let planned = match options.kind {
        FormatKind::Ext4 => Some(make(
            &fresh,
            &MakeOptions {
                label: options.label.clone(),
                uuid: options.uuid(),
                hash_seed: options.hash_seed(),
                block_size: options.unit,
                inodes: options.inodes,
                has_checksums: options.has_checksums,
                has_journal: true,
                now: options.now,
            },
        )?),
        _ => None,
    };
    clear(partition)?;
    fresh.forget_cache(ByteRange {
        start: 0,
        end: size,
    });
    match (options.kind, planned) {
        (FormatKind::Fat(kind), _) => {
            let plan = fat::MakePlan::of(kind, size, sector, options.unit)?;
            plan.make(&fresh, &options.fat())?;
        }
        (FormatKind::Swap, _) => swap::make(&fresh, options)?,
        (FormatKind::Ext4, Some(editor)) => drop(editor.commit()?),
        (FormatKind::Ext4, None) => {}
    }
    fresh.finish(BOOT)?;
    partition.forget_cache(ByteRange {
        start: 0,
        end: size,
    });
    let found = probe(partition)?.ok_or(FormatError::Unrecognised)?;
    Ok(FormatReport {
        kind: found.kind,
        size: found.size.unwrap_or(size),
        label: found.label,
        id: found.id,
        free: found.free,
    })
}

/// Removes every mark of what was there.
fn clear(partition: &dyn BlockDevice) -> Result<(), DiskError> {
    let size = partition.size();
    for (start, end) in [(0, size.min(HEAD)), (size.saturating_sub(TAIL), size)] {
        partition.zero(ByteRange { start, end })?;
    }
    partition.flush()
}
