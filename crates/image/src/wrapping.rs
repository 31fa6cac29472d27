//! The compression layers around an image, recognised by their first bytes.

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
    /// bzip2.
    Bzip2,
    /// lz4, LZ4 Frame Format 1.6.3.
    Lz4,
    /// LZMA in its older file format of its own ("alone").
    Lzma,
    /// lzip, RFC draft "Lzip Compressed Format and the 'application/lzip' Media Type".
    Lzip,
    /// A sparse image as Android's tools make them.
    Sparse,
    /// zip archive.
    Zip,
    /// 7z archive.
    SevenZip,
    /// tar archive, POSIX.1-2017, "pax".
    Tar,
}

impl Wrapping {
    /// The wrapping that starts with `head`, if any. File names do not matter.
    pub fn detect(head: &[u8]) -> Option<Self> {
        match head {
            [0x1f, 0x8b, 0x08, ..] => Some(Self::Gzip),
            [0xfd, b'7', b'z', b'X', b'Z', 0x00, ..] => Some(Self::Xz),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Self::Zstd),
            // A skippable frame, as some parallel compressors put first.
            [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..] => Some(Self::Zstd),
            [
                b'B',
                b'Z',
                b'h',
                b'1'..=b'9',
                0x31,
                0x41,
                0x59,
                0x26,
                0x53,
                0x59,
                ..,
            ] => Some(Self::Bzip2),
            // Nothing at all, packed.
            [
                b'B',
                b'Z',
                b'h',
                b'1'..=b'9',
                0x17,
                0x72,
                0x45,
                0x38,
                0x50,
                0x90,
                ..,
            ] => Some(Self::Bzip2),
            [0x04, 0x22, 0x4d, 0x18, ..] => Some(Self::Lz4),
            // Versions 0 and 1.
            [b'L', b'Z', b'I', b'P', 0 | 1, ..] => Some(Self::Lzip),
            [0x3a, 0xff, 0x26, 0xed, ..] => Some(Self::Sparse),
            [b'P', b'K', 0x03, 0x04, ..] => Some(Self::Zip),
            // With the marks of a split archive: APPNOTE.TXT 6.3.10, section 8.5.
            [b'P', b'K', 0x07, 0x08, b'P', b'K', 0x03, 0x04, ..]
            | [b'P', b'K', b'0', b'0', b'P', b'K', 0x03, 0x04, ..] => Some(Self::Zip),
            [b'7', b'z', 0xbc, 0xaf, 0x27, 0x1c, ..] => Some(Self::SevenZip),
            head if head.get(257..262) == Some(b"ustar") => Some(Self::Tar),
            head if is_lzma_alone(head) => Some(Self::Lzma),
            _ => None,
        }
    }

    /// Whether this is an archive, which holds members with names.
    pub fn is_archive(self) -> bool {
        matches!(self, Self::Zip | Self::SevenZip | Self::Tar)
    }

    /// The usual short name: `gzip`, `xz`, `zstd`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Zstd => "zstd",
            Self::Bzip2 => "bzip2",
            Self::Lz4 => "lz4",
            Self::Lzma => "lzma",
            Self::Lzip => "lzip",
            Self::Sparse => "Android sparse",
            Self::Zip => "zip",
            Self::SevenZip => "7z",
            Self::Tar => "tar",
        }
    }
}

/// The older format has no magic number. It is recognised by what encoders write: the usual
/// properties, a dictionary of 2^n or 3 * 2^n bytes, and a size that is plausible or unknown.
fn is_lzma_alone(head: &[u8]) -> bool {
    let Some((&[0x5d, d0, d1, d2, d3], rest)) = head.split_first_chunk::<5>() else {
        return false;
    };
    let Some((size, rest)) = rest.split_first_chunk::<8>() else {
        return false;
    };
    let dictionary = u32::from_le_bytes([d0, d1, d2, d3]);
    let round = dictionary >= 4096
        && (dictionary.is_power_of_two()
            || (dictionary % 3 == 0 && (dictionary / 3).is_power_of_two()));
    let size = u64::from_le_bytes(*size);
    // The range coder's first byte is always 0.
    round && (size == u64::MAX || (1..1 << 48).contains(&size)) && rest.first() == Some(&0)
}

impl fmt::Display for Wrapping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
