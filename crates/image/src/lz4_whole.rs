//! Makes sure that lz4 frames are complete: if the data ends between two blocks, the decoder takes
//! that for the end of a frame.
//!
//! LZ4 Frame Format 1.6.3: frames ("General Structure"), skippable frames.

use std::io::{self, Read};

const SKIPPABLE: u32 = 0x184d_2a50;
const UNCOMPRESSED: u32 = 1 << 31;

/// What comes next in the data.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Part {
    Magic,
    /// Flags and block descriptor.
    Flags,
    /// The rest of the frame's head.
    Head,
    BlockSize,
    /// A block with its checksum.
    Block,
    ContentChecksum,
    SkippedSize,
    Skipped,
}

/// Passes lz4 frames on, and fails if the last one is incomplete.
pub(crate) struct WholeFrames<R> {
    inner: R,
    part: Part,
    /// Bytes of the part that are still to come.
    left: u64,
    /// The first bytes of the part, up to those that determine its length.
    seen: [u8; 4],
    count: usize,
    flags: u8,
}

impl<R: Read> WholeFrames<R> {
    pub(crate) fn new(inner: R) -> Self {
        Self {
            inner,
            part: Part::Magic,
            left: 4,
            seen: [0; 4],
            count: 0,
            flags: 0,
        }
    }

    fn go_on(&mut self, part: Part, left: u64) {
        self.part = part;
        self.left = left;
        self.count = 0;
        // Empty parts are complete at once.
        if left == 0 {
            self.finish();
        }
    }

    /// A part is complete: determines what comes next.
    fn finish(&mut self) {
        let number = u32::from_le_bytes(self.seen);
        let has = |flag: u8| self.flags & flag != 0;
        match self.part {
            Part::Magic if number & !0xf == SKIPPABLE => self.go_on(Part::SkippedSize, 4),
            // Anything other than a frame is refused by the decoder.
            Part::Magic => self.go_on(Part::Flags, 2),
            Part::Flags => {
                self.flags = self.seen[0];
                let size = if self.flags & 0x08 != 0 { 8 } else { 0 };
                let dictionary = if self.flags & 0x01 != 0 { 4 } else { 0 };
                self.go_on(Part::Head, size + dictionary + 1);
            }
            Part::Head | Part::Block => self.go_on(Part::BlockSize, 4),
            Part::BlockSize if number == 0 => {
                let checksum = if has(0x04) { 4 } else { 0 };
                self.go_on(Part::ContentChecksum, checksum);
            }
            Part::BlockSize => {
                let checksum = if has(0x10) { 4 } else { 0 };
                let size = u64::from(number & !UNCOMPRESSED);
                self.go_on(Part::Block, size + checksum);
            }
            Part::SkippedSize => self.go_on(Part::Skipped, u64::from(number)),
            Part::ContentChecksum | Part::Skipped => self.go_on(Part::Magic, 4),
        }
    }

    /// Follows the bytes that pass.
    fn note(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let len = bytes
                .len()
                .min(usize::try_from(self.left).unwrap_or(usize::MAX));
            let (own, rest) = bytes.split_at(len);
            let room = self.seen.len() - self.count;
            let kept = &own[..own.len().min(room)];
            self.seen[self.count..self.count + kept.len()].copy_from_slice(kept);
            self.count += kept.len();
            self.left -= len as u64;
            if self.left == 0 {
                self.finish();
            }
            bytes = rest;
        }
    }
}

impl<R: Read> Read for WholeFrames<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let len = self.inner.read(buffer)?;
        let is_between = self.part == Part::Magic && self.count == 0;
        if len == 0 && !buffer.is_empty() && !is_between {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        self.note(&buffer[..len]);
        Ok(len)
    }
}
