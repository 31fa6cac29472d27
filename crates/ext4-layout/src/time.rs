//! Time stamps of inodes.

use pinewrit_disk::bytes::u32le;

use crate::inode::has_extra;

/// A time stamp of a file, as precise as it is stored.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Timestamp {
    /// Seconds since 1970.
    pub seconds: i64,
    /// Nanoseconds; 0 in small inodes.
    pub nanoseconds: u32,
}

impl Timestamp {
    /// A time stamp without fractions of a second.
    pub fn at(seconds: i64) -> Self {
        Self {
            seconds,
            nanoseconds: 0,
        }
    }

    /// "Inode Timestamps": two bits more for the seconds, the rest nanoseconds.
    pub(crate) fn parse(raw: &[u8], base: usize, extra: usize) -> Self {
        let seconds = i64::from(u32le(raw, base) as i32);
        let more = if has_extra(raw, extra) {
            u32le(raw, extra)
        } else {
            0
        };
        Self {
            seconds: seconds + (i64::from(more & 3) << 32),
            nanoseconds: (more >> 2).min(999_999_999),
        }
    }

    /// The two fields; times out of range become the nearest possible one.
    pub fn fields(self) -> (u32, u32) {
        let first = i64::from(i32::MIN);
        let seconds = self.seconds.clamp(first, first + (1 << 34) - 1);
        let base = seconds as u32;
        let epoch = ((seconds - i64::from(base as i32)) >> 32) as u32 & 3;
        (base, self.nanoseconds.min(999_999_999) << 2 | epoch)
    }
}
