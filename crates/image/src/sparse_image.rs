//! Sparse images as Android's tools make them (`system/core/libsparse/sparse_format.h`): a head, then
//! chunks that hold bytes, repeat four of them, stand for what need not be written, or check what was
//! before. All integers are little-endian.

use std::io::{self, Read};

use crate::ImageStream;

pub(crate) const MARK: [u8; 4] = [0x3a, 0xff, 0x26, 0xed];
const HEAD: usize = 28;
const CHUNK_HEAD: usize = 12;
/// Blocks are whole numbers of words, and no larger than this, in bytes.
const MAX_BLOCK: u32 = 16 << 20;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Head {
    /// Bytes of this header and of chunk headers, which may be longer than the known fields.
    head_len: u16,
    chunk_len: u16,
    block: u32,
    blocks: u32,
    chunks: u32,
    checksum: u32,
}

fn u16le(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([bytes[at], bytes[at + 1]])
}

fn u32le(bytes: &[u8], at: usize) -> u32 {
    u32::from(u16le(bytes, at)) | u32::from(u16le(bytes, at + 2)) << 16
}

fn damaged(what: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.into())
}

impl Head {
    fn parse(raw: &[u8; HEAD]) -> io::Result<Self> {
        let head = Self {
            head_len: u16le(raw, 8),
            chunk_len: u16le(raw, 10),
            block: u32le(raw, 12),
            blocks: u32le(raw, 16),
            chunks: u32le(raw, 20),
            checksum: u32le(raw, 24),
        };
        if raw[..4] != MARK || u16le(raw, 4) != 1 {
            return Err(damaged("a header of another version"));
        }
        let lengths =
            usize::from(head.head_len) >= HEAD && usize::from(head.chunk_len) >= CHUNK_HEAD;
        let block = head.block > 0 && head.block.is_multiple_of(4) && head.block <= MAX_BLOCK;
        if lengths && block {
            Ok(head)
        } else {
            Err(damaged("an invalid header"))
        }
    }

    fn size(self) -> u64 {
        u64::from(self.block) * u64::from(self.blocks)
    }
}

/// Unpacked size according to the header.
pub(crate) fn unpacked_size(head: &[u8; HEAD]) -> Option<u64> {
    Head::parse(head).ok().map(Head::size)
}

/// What the rest of a chunk gives.
enum Part {
    /// Bytes of the input.
    Raw,
    /// Four bytes, again and again; the position in them.
    Fill([u8; 4]),
}

/// The unpacked bytes of a sparse image.
pub(crate) struct SparseImage {
    input: ImageStream,
    head: Option<Head>,
    chunks_left: u32,
    blocks_done: u64,
    part: Part,
    /// Remaining bytes of the part.
    left: u64,
    sum: crc32fast::Hasher,
    is_ended: bool,
}

impl SparseImage {
    pub(crate) fn new(input: ImageStream) -> Self {
        Self {
            input,
            head: None,
            chunks_left: 0,
            blocks_done: 0,
            part: Part::Raw,
            left: 0,
            sum: crc32fast::Hasher::new(),
            is_ended: false,
        }
    }

    fn skip(&mut self, len: u64) -> io::Result<()> {
        let skipped = io::copy(&mut (&mut self.input).take(len), &mut io::sink())?;
        if skipped == len {
            Ok(())
        } else {
            Err(io::ErrorKind::UnexpectedEof.into())
        }
    }

    fn begin(&mut self) -> io::Result<Head> {
        let mut raw = [0; HEAD];
        self.input.read_exact(&mut raw)?;
        let head = Head::parse(&raw)?;
        self.skip(u64::from(head.head_len) - HEAD as u64)?;
        self.chunks_left = head.chunks;
        self.head = Some(head);
        Ok(head)
    }

    /// Begins the next chunk; `false` at the end.
    fn next_chunk(&mut self, head: Head) -> io::Result<bool> {
        if self.chunks_left == 0 {
            self.end(head)?;
            return Ok(false);
        }
        self.chunks_left -= 1;
        let mut raw = [0; CHUNK_HEAD];
        self.input.read_exact(&mut raw)?;
        self.skip(u64::from(head.chunk_len) - CHUNK_HEAD as u64)?;
        let blocks = u64::from(u32le(&raw, 4));
        let bytes = blocks * u64::from(head.block);
        let body = u64::from(u32le(&raw, 8)).checked_sub(u64::from(head.chunk_len));
        let body = body.ok_or_else(|| damaged("a chunk shorter than its header"))?;
        let fits = |wanted: u64| {
            if body == wanted {
                Ok(())
            } else {
                Err(damaged(format!(
                    "a chunk with {body} bytes instead of {wanted}"
                )))
            }
        };
        match u16le(&raw, 0) {
            0xcac1 => {
                fits(bytes)?;
                (self.part, self.left) = (Part::Raw, bytes);
            }
            0xcac2 => {
                fits(4)?;
                let mut fill = [0; 4];
                self.input.read_exact(&mut fill)?;
                (self.part, self.left) = (Part::Fill(fill), bytes);
            }
            0xcac3 => {
                fits(0)?;
                (self.part, self.left) = (Part::Fill([0; 4]), bytes);
            }
            0xcac4 => {
                fits(4)?;
                let mut sum = [0; 4];
                self.input.read_exact(&mut sum)?;
                self.must_match(u32::from_le_bytes(sum))?;
                return Ok(true);
            }
            other => {
                return Err(damaged(format!(
                    "a chunk of an unknown kind ({other:#06x})"
                )));
            }
        }
        self.blocks_done += blocks;
        if self.blocks_done > u64::from(head.blocks) {
            Err(damaged("more blocks than its header says"))
        } else {
            Ok(true)
        }
    }

    fn must_match(&self, expected: u32) -> io::Result<()> {
        if self.sum.clone().finalize() == expected {
            Ok(())
        } else {
            Err(damaged("its own checksum does not match"))
        }
    }

    fn end(&mut self, head: Head) -> io::Result<()> {
        if self.blocks_done != u64::from(head.blocks) {
            return Err(damaged("fewer blocks than its header says"));
        }
        if head.checksum != 0 {
            self.must_match(head.checksum)?;
        }
        let mut more = [0];
        if self.input.read(&mut more)? > 0 {
            return Err(damaged("data follows its last chunk"));
        }
        self.is_ended = true;
        Ok(())
    }
}

impl Read for SparseImage {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if buffer.is_empty() || self.is_ended {
            return Ok(0);
        }
        let head = match self.head {
            Some(head) => head,
            None => self.begin()?,
        };
        while self.left == 0 {
            if !self.next_chunk(head)? {
                return Ok(0);
            }
        }
        let len = self.left.min(buffer.len() as u64) as usize;
        let len = match self.part {
            Part::Raw => match self.input.read(&mut buffer[..len])? {
                0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                len => len,
            },
            Part::Fill(fill) => {
                let words = buffer[..len].chunks_mut(4);
                words.for_each(|word| word.copy_from_slice(&fill[..word.len()]));
                // The next read continues where this one stopped.
                let mut turned = fill;
                turned.rotate_left(len % 4);
                self.part = Part::Fill(turned);
                len
            }
        };
        self.sum.update(&buffer[..len]);
        self.left -= len as u64;
        Ok(len)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A sparse image of blocks of 8 bytes.
    fn sparse(blocks: u32, chunks: &[(u16, u32, &[u8])]) -> Vec<u8> {
        let mut bytes = MARK.to_vec();
        for short in [1_u16, 0, 28, 12] {
            bytes.extend(short.to_le_bytes());
        }
        for word in [8, blocks, chunks.len() as u32, 0_u32] {
            bytes.extend(word.to_le_bytes());
        }
        for (kind, blocks, body) in chunks {
            bytes.extend(kind.to_le_bytes());
            bytes.extend([0; 2]);
            bytes.extend(blocks.to_le_bytes());
            bytes.extend((12 + body.len() as u32).to_le_bytes());
            bytes.extend(*body);
        }
        bytes
    }

    fn unpack(bytes: Vec<u8>) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        let mut image = SparseImage::new(Box::new(io::Cursor::new(bytes)));
        let mut piece = [0; 7];
        loop {
            match image.read(&mut piece)? {
                0 => return Ok(out),
                len => out.extend(&piece[..len]),
            }
        }
    }

    #[test]
    fn every_kind_of_chunk() {
        let content = b"12345678abcdabcdabcdabcd\0\0\0\0\0\0\0\0";
        let sum = crc32fast::hash(content).to_le_bytes();
        let chunks: &[(u16, u32, &[u8])] = &[
            (0xcac1, 1, b"12345678"),
            (0xcac2, 2, b"abcd"),
            (0xcac3, 1, b""),
            (0xcac4, 0, &sum),
        ];
        let bytes = sparse(4, chunks);
        assert_eq!(unpack(bytes.clone()).unwrap(), content);
        assert_eq!(unpacked_size(bytes.first_chunk().unwrap()), Some(32));
        for len in 0..bytes.len() {
            assert!(unpack(bytes[..len].to_vec()).is_err(), "cut at {len}");
        }
        assert!(unpack([&bytes[..], b"x"].concat()).is_err());
    }

    #[rstest]
    #[case::sum(1, &[(0xcac1, 1, &b"12345678"[..]), (0xcac4, 0, b"\0\0\0\0")], "checksum")]
    #[case::kind(1, &[(0xcac5, 1, &b""[..])], "unknown kind")]
    #[case::long(1, &[(0xcac3, 2, &b""[..])], "more blocks")]
    #[case::short(2, &[(0xcac3, 1, &b""[..])], "fewer blocks")]
    #[case::body(1, &[(0xcac1, 1, &b"1234"[..])], "instead of 8")]
    fn what_cannot_be(
        #[case] blocks: u32,
        #[case] chunks: &[(u16, u32, &[u8])],
        #[case] words: &str,
    ) {
        let error = unpack(sparse(blocks, chunks)).unwrap_err().to_string();
        assert!(error.contains(words), "{error}");
    }
}
