//! The compression layers around an image, told by their first bytes.

use std::fmt;

/// How many layers may lie around an image.
pub const MAX_LAYERS: usize = 8;

/// One layer of compression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wrapping {
    /// gzip, RFC 1952.
    Gzip,
    /// xz, The .xz File Format 1.2.1.
    Xz,
    /// Zstandard, RFC 8878.
    Zstd,
}

impl Wrapping {
    /// The wrapping that starts with `head`, if any. File names are never looked at.
    pub fn detect(head: &[u8]) -> Option<Self> {
        match head {
            [0x1f, 0x8b, 0x08, ..] => Some(Self::Gzip),
            [0xfd, b'7', b'z', b'X', b'Z', 0x00, ..] => Some(Self::Xz),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Self::Zstd),
            // A skippable frame, as some parallel compressors put first.
            [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..] => Some(Self::Zstd),
            _ => None,
        }
    }

    /// The usual short name: `gzip`, `xz`, `zstd`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Zstd => "zstd",
        }
    }
}

impl fmt::Display for Wrapping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
