//! The kinds of file systems, and of what may be in their place.

use std::borrow::Cow;
use std::fmt;

use pinewrit_ext4::Generation;
use pinewrit_fat::FatWidth;
use pinewrit_signs::Format;
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Serialize, Serializer};

/// What a partition holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FilesystemKind {
    /// FAT12, FAT16 or FAT32.
    Fat(FatWidth),
    /// FAT32 with too few clusters: some firmware does not read it.
    SmallFat32,
    /// ext2, ext3 or ext4.
    Ext(Generation),
    /// Something only recognised: other file systems, swap, members of arrays, encrypted volumes.
    Other(Format),
}

impl FilesystemKind {
    /// A swap area.
    pub const SWAP: Self = Self::Other(Format::Swap);
    /// The file system of optical media, which spans hybrid images.
    pub const ISO_9660: Self = Self::Other(Format::Iso9660);

    /// Its name: `FAT32`, `ext4`, `ISO 9660`, `swap` …
    pub fn word(self) -> &'static str {
        match self {
            Self::Fat(width) => width.word(),
            Self::SmallFat32 => "FAT32 (few clusters)",
            Self::Ext(generation) => generation.word(),
            Self::Other(format) => format.word(),
        }
    }

    /// Whether this is one of the FAT kinds.
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat(_) | Self::SmallFat32)
    }

    /// Whether this is ext2, ext3 or ext4.
    pub fn is_ext(self) -> bool {
        matches!(self, Self::Ext(_))
    }

    /// Whether its files can be read and changed.
    pub fn has_files(self) -> bool {
        self.is_fat() || self.is_ext()
    }

    /// Whether it is read-only by nature, so that all of it is in use.
    pub(crate) fn is_full(self) -> bool {
        matches!(self, Self::Other(Format::Iso9660 | Format::Squashfs))
    }
}

impl fmt::Display for FilesystemKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

impl Serialize for FilesystemKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

impl JsonSchema for FilesystemKind {
    fn schema_name() -> Cow<'static, str> {
        "FilesystemKind".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string" })
    }
}
