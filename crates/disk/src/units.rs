//! Sectors, ranges and the chunk: types that keep units from being mixed up.

use std::fmt;

/// Size of a chunk in bytes: the unit of hashing, comparing and reporting differences.
pub const CHUNK_SIZE: usize = 4 << 20;

/// Logical sector size of a medium, in bytes: a power of two from 512 to 65536.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SectorSize(u32);

impl SectorSize {
    /// 512 bytes, as on nearly every card and stick.
    pub const B512: Self = Self(512);
    /// 4096 bytes, as on some large disks.
    pub const B4096: Self = Self(4096);

    /// Returns the sector size, or `None` if `bytes` is not a power of two from 512 to 65536.
    pub fn new(bytes: u32) -> Option<Self> {
        (bytes.is_power_of_two() && (512..=65536).contains(&bytes)).then_some(Self(bytes))
    }

    /// The size in bytes.
    pub fn bytes(self) -> u64 {
        u64::from(self.0)
    }
}

/// A logical block address: a sector's number, counted from the start of the medium.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Lba(pub u64);

impl Lba {
    /// Byte offset of the sector's first byte; `None` if it does not fit in 64 bits.
    pub fn byte_offset(self, sector: SectorSize) -> Option<u64> {
        self.0.checked_mul(sector.bytes())
    }
}

/// A half-open range of bytes, `start..end`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ByteRange {
    /// First byte.
    pub start: u64,
    /// One past the last byte; never below `start`.
    pub end: u64,
}

impl ByteRange {
    /// The range `start..end`; `None` if it would end before it starts.
    pub fn new(start: u64, end: u64) -> Option<Self> {
        (start <= end).then_some(Self { start, end })
    }

    /// The range of `len` bytes from `start`; `None` if its end does not fit in 64 bits.
    pub fn from_len(start: u64, len: u64) -> Option<Self> {
        Some(Self {
            start,
            end: start.checked_add(len)?,
        })
    }

    /// Length in bytes.
    pub fn len(self) -> u64 {
        self.end - self.start
    }

    /// Whether the range is empty.
    pub fn is_empty(self) -> bool {
        self.start == self.end
    }

    /// Whether `offset` lies in the range.
    pub fn contains(self, offset: u64) -> bool {
        (self.start..self.end).contains(&offset)
    }

    /// The overlap of both ranges, if any.
    pub fn intersection(self, other: Self) -> Option<Self> {
        let start = self.start.max(other.start);
        let end = self.end.min(other.end);
        (start < end).then_some(Self { start, end })
    }
}

impl fmt::Display for ByteRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}..{}", self.start, self.end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(512, true)]
    #[case(4096, true)]
    #[case(0, false)]
    #[case(520, false)]
    #[case(131072, false)]
    fn sector_sizes(#[case] bytes: u32, #[case] valid: bool) {
        assert_eq!(SectorSize::new(bytes).is_some(), valid);
    }

    #[test]
    fn an_lba_past_the_addressable_end_has_no_offset() {
        assert_eq!(Lba(2048).byte_offset(SectorSize::B512), Some(1 << 20));
        assert_eq!(Lba(u64::MAX).byte_offset(SectorSize::B512), None);
    }

    #[test]
    fn ranges_that_only_touch_share_nothing() {
        let left = ByteRange { start: 0, end: 10 };
        let right = ByteRange { start: 10, end: 20 };
        assert_eq!(left.intersection(right), None);
        assert_eq!(
            left.intersection(ByteRange { start: 9, end: 30 }),
            ByteRange::new(9, 10)
        );
    }
}
