//! What is known about an image's size before it is unpacked.

use crate::packed::{PackedBytes, read};
use crate::{Wrapping, lz4_frames, sparse_image, xz_index, zstd_frames};

/// What is known about an image's size before it is unpacked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnpackedSize {
    /// The format says it, or there is no wrapping. In bytes.
    Exact(u64),
    /// The image is not smaller than this, in bytes. gzip records its size modulo 4 GiB only.
    AtLeast(u64),
    /// Only known when everything has been unpacked.
    Unknown,
}

impl UnpackedSize {
    /// The exact size in bytes, if known.
    pub fn exact(self) -> Option<u64> {
        match self {
            Self::Exact(bytes) => Some(bytes),
            Self::AtLeast(_) | Self::Unknown => None,
        }
    }

    /// The image is not smaller than this, in bytes.
    pub fn at_least(self) -> u64 {
        match self {
            Self::Exact(bytes) | Self::AtLeast(bytes) => bytes,
            Self::Unknown => 0,
        }
    }
}

/// The unpacked size of `packed` according to its format.
pub(crate) fn find(packed: &dyn PackedBytes, wrapping: Wrapping) -> UnpackedSize {
    let Some(size) = packed.size() else {
        return UnpackedSize::Unknown;
    };
    let exact = match wrapping {
        Wrapping::Gzip => return gzip(packed, size),
        Wrapping::Xz => xz_index::blocks(packed, size).map(|blocks| blocks.unpacked),
        Wrapping::Zstd => zstd_frames::unpacked_size(packed, size),
        Wrapping::Lz4 => lz4_frames::unpacked_size(packed, size),
        Wrapping::Lzma => lzma(packed),
        Wrapping::Lzip => lzip(packed, size),
        Wrapping::Sparse => read(packed, 0).and_then(|head| sparse_image::unpacked_size(&head)),
        _ => None,
    };
    let first_frame = || match wrapping {
        Wrapping::Zstd => zstd_frames::first_size(packed),
        _ => None,
    };
    match exact {
        Some(size) => UnpackedSize::Exact(size),
        None => first_frame().map_or(UnpackedSize::Unknown, UnpackedSize::AtLeast),
    }
}

/// The size in the header of an lzma file: bytes 5 to 12, all ones where it is not known.
fn lzma(packed: &dyn PackedBytes) -> Option<u64> {
    let size = u64::from_le_bytes(read(packed, 5)?);
    (size != u64::MAX).then_some(size)
}

/// The most members of an lzip file to count.
const MAX_MEMBERS: usize = 100_000;

/// The trailer of each member has the size of its data and its own size, the last 16 bytes of it.
fn lzip(packed: &dyn PackedBytes, size: u64) -> Option<u64> {
    let (mut end, mut unpacked) = (size, 0_u64);
    for _ in 0..MAX_MEMBERS {
        let place = end.checked_sub(16)?;
        let trailer: [u8; 16] = read(packed, place).filter(|_| packed.is_near(place))?;
        let (data, member) = trailer.split_at(8);
        let number = |bytes: &[u8]| {
            bytes
                .iter()
                .rev()
                .fold(0, |sum, b| sum << 8 | u64::from(*b))
        };
        unpacked = unpacked.checked_add(number(data))?;
        // Head and trailer take 26 bytes.
        let member = Some(number(member)).filter(|member| *member > 26)?;
        end = end.checked_sub(member)?;
        if end == 0 {
            return Some(unpacked);
        }
    }
    None
}

/// RFC 1952, section 2.3.1: the last four bytes are the size of the last member modulo 2^32.
/// Deflate never grows data by more than a thousandth (RFC 1951, section 3.2.4: 5 bytes a block).
fn gzip(packed: &dyn PackedBytes, size: u64) -> UnpackedSize {
    let tail = size.checked_sub(4).and_then(|at| read(packed, at));
    let told = tail.map_or(0, |tail| u64::from(u32::from_le_bytes(tail)));
    let incompressible = size.saturating_sub(size / 1000 + 64);
    // Deflate's ratio is at most 1032; a larger number is not a size, but something after the data.
    let plausible = told <= size.saturating_mul(1032);
    if plausible {
        UnpackedSize::AtLeast(told.max(incompressible))
    } else {
        UnpackedSize::AtLeast(incompressible)
    }
}
