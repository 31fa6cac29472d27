//! bzip2 on all cores: its blocks are decoded at the same time.
//!
//! A stream is `BZh` and a digit, then blocks that begin with a mark of 48 bits at any bit, then a
//! closing mark with a checksum over those of the blocks, and padding to a whole byte. Each block
//! is made into a stream of its own, and unpacked by the crate `bzip2`.

use std::io::{self, BufRead, ErrorKind, Read};
use std::sync::Arc;

use crate::ordered::{Dispatch, Ordered, Piece, Wanted};

const BLOCK_MARK: u64 = 0x3141_5926_5359;
const END_MARK: u64 = 0x1772_4538_5090;
const MARK_BITS: u64 = 48;
const MARK_MASK: u64 = (1 << MARK_BITS) - 1;
const CHECKSUM_BITS: u64 = 32;
/// An incompressible block of 900 kB grows a little; no block is larger than this.
const MAX_BLOCK: usize = 2 << 20;
/// The most bytes a block unpacks to: run lengths are undone after the block itself, and four bytes
/// and a count become up to 259.
const MAX_UNPACKED: u64 = 900_000 * 259 / 5;

/// Unpacks all streams of `input`.
///
/// # Errors
/// No threads can be started.
pub(crate) fn open(input: impl BufRead + Send + 'static) -> io::Result<Ordered> {
    Ordered::start(move |dispatch| split(&mut Bits::new(input), dispatch))
}

fn damaged(detail: &str) -> io::Error {
    io::Error::new(ErrorKind::InvalidData, detail)
}

/// Cuts all streams into blocks.
fn split(bits: &mut Bits<impl BufRead>, dispatch: &Dispatch) -> io::Result<()> {
    let mut is_first = true;
    while !bits.is_at_end()? {
        match split_stream(bits, dispatch) {
            Ok(Wanted::Yes) => is_first = false,
            Ok(Wanted::No) => return Ok(()),
            Err(error) if error.kind() == ErrorKind::InvalidInput && !is_first => {
                return Err(damaged("other data after the end"));
            }
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

fn split_stream(bits: &mut Bits<impl BufRead>, dispatch: &Dispatch) -> io::Result<Wanted> {
    let no_stream = || io::Error::new(ErrorKind::InvalidInput, "not a bzip2 stream");
    let head = bits.take(32)?;
    let level = (head & 0xff) as u8;
    if head >> 8 != 0x42_5a68 || !level.is_ascii_digit() || level == b'0' {
        return Err(no_stream());
    }
    let mut combined: u32 = 0;
    let mut before: Option<Arc<Block>> = None;
    loop {
        match bits.take(MARK_BITS)? {
            BLOCK_MARK => {}
            END_MARK => break,
            _ => return Err(damaged("a block without its mark")),
        }
        let block = Arc::new(bits.take_block(level, combined)?);
        combined = combined.rotate_left(1) ^ block.checksum;
        // A block waits for the one after it, see `unpack`.
        if let Some(before) = before.replace(Arc::clone(&block))
            && dispatch.job(move || unpack(&before, Some(&block))) == Wanted::No
        {
            return Ok(Wanted::No);
        }
    }
    if let Some(last) = before
        && dispatch.job(move || unpack(&last, None)) == Wanted::No
    {
        return Ok(Wanted::No);
    }
    if bits.take(CHECKSUM_BITS)? != u64::from(combined) {
        return Err(damaged("the checksum of the stream does not match"));
    }
    bits.pad();
    Ok(Wanted::Yes)
}

/// One block as bits, without its mark.
#[derive(Debug)]
struct Block {
    level: u8,
    checksum: u32,
    /// From the checksum on, in whole bytes.
    bytes: Vec<u8>,
    bit_len: u64,
}

/// Unpacks a block. Once in some ten thousand gigabytes, what looks like the next block's mark is
/// part of this one: then both are one block.
fn unpack(block: &Block, next: Option<&Block>) -> io::Result<Piece> {
    let error = match unpack_bits(block.level, block.checksum, |bits| bits.add_block(block)) {
        Ok(bytes) => return Ok(bytes.into()),
        Err(error) => error,
    };
    let joined = next.map(|next| unpack_joined(block, BLOCK_MARK, next));
    match joined {
        Some(Ok(bytes)) => Ok(Piece {
            bytes,
            covers_next: true,
        }),
        _ => Err(error),
    }
}

/// Unpacks a block that was cut in two at a false mark.
fn unpack_joined(block: &Block, between: u64, next: &Block) -> io::Result<Vec<u8>> {
    unpack_bits(block.level, block.checksum, |bits| {
        bits.add_block(block);
        bits.add(between, MARK_BITS);
        bits.add_block(next);
    })
}

/// Unpacks one block as a stream of its own.
fn unpack_bits(level: u8, checksum: u32, add: impl FnOnce(&mut BitWriter)) -> io::Result<Vec<u8>> {
    let mut bits = BitWriter::default();
    bits.add(0x42_5a68, 24);
    bits.add(u64::from(level), 8);
    bits.add(BLOCK_MARK, MARK_BITS);
    add(&mut bits);
    bits.add(END_MARK, MARK_BITS);
    // The combined checksum of a single block is the block's own.
    bits.add(u64::from(checksum), CHECKSUM_BITS);
    let mut bytes = Vec::new();
    let stream = bzip2::bufread::BzDecoder::new(&bits.bytes[..]);
    stream.take(MAX_UNPACKED).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Bits put one after another, the highest first.
#[derive(Default)]
struct BitWriter {
    bytes: Vec<u8>,
    /// Bits of the last byte that are used; 0 for all.
    used: u32,
}

impl BitWriter {
    fn add(&mut self, value: u64, len: u64) {
        let bytes = (value << (64 - len)).to_be_bytes();
        self.add_bits(&bytes, len);
    }

    fn add_block(&mut self, block: &Block) {
        self.add_bits(&block.bytes, block.bit_len);
    }

    fn add_bits(&mut self, bytes: &[u8], len: u64) {
        let whole = (len / 8) as usize;
        for &byte in &bytes[..whole] {
            self.add_byte(byte, 8);
        }
        let rest = (len % 8) as u32;
        if rest > 0 {
            self.add_byte(bytes[whole], rest);
        }
    }

    /// Adds the highest `len` bits of `byte`.
    fn add_byte(&mut self, byte: u8, len: u32) {
        let byte = byte & (0xff00_u16 >> len) as u8;
        match self.bytes.last_mut().filter(|_| self.used > 0) {
            None => self.bytes.push(byte),
            Some(last) => {
                *last |= byte >> self.used;
                if self.used + len > 8 {
                    self.bytes.push(byte << (8 - self.used));
                }
            }
        }
        self.used = (self.used + len) % 8;
    }
}

/// Reads bits, the highest of each byte first.
struct Bits<R> {
    input: R,
    /// Bytes read but not yet consumed.
    buffer: Vec<u8>,
    /// Consumed bits of the buffer.
    used: u64,
    /// The input has ended.
    ended: bool,
}

impl<R: BufRead> Bits<R> {
    fn new(input: R) -> Self {
        Self {
            input,
            buffer: Vec::new(),
            used: 0,
            ended: false,
        }
    }

    /// Reads more bytes; `false` at the end of the input.
    fn fill(&mut self) -> io::Result<bool> {
        let bytes = loop {
            match self.input.fill_buf() {
                Err(error) if error.kind() == ErrorKind::Interrupted => {}
                bytes => break bytes?,
            }
        };
        let len = bytes.len();
        self.buffer.extend(bytes);
        self.input.consume(len);
        self.ended |= len == 0;
        Ok(len > 0)
    }

    fn is_at_end(&mut self) -> io::Result<bool> {
        while self.used == self.buffer.len() as u64 * 8 {
            if self.ended || !self.fill()? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Takes `len` bits, at most 56.
    fn take(&mut self, len: u64) -> io::Result<u64> {
        while (self.buffer.len() as u64 * 8) < self.used + len {
            if !self.fill()? {
                return Err(ErrorKind::UnexpectedEof.into());
            }
        }
        let value = (0..len).fold(0, |value, bit| value << 1 | self.bit(self.used + bit));
        self.used += len;
        Ok(value)
    }

    fn bit(&self, at: u64) -> u64 {
        u64::from(self.buffer[(at / 8) as usize] >> (7 - at % 8) & 1)
    }

    /// Goes to the next whole byte.
    fn pad(&mut self) {
        self.used = self.used.next_multiple_of(8);
    }

    /// Takes everything up to the next mark: that of a block, or the closing one with the right
    /// checksum. `combined` is the checksum of the blocks before.
    fn take_block(&mut self, level: u8, combined: u32) -> io::Result<Block> {
        let start = self.used;
        let checksum = self.take(CHECKSUM_BITS)? as u32;
        let combined = combined.rotate_left(1) ^ checksum;
        // The last 64 bits seen.
        let mut window: u64 = 0;
        let mut at = (self.used / 8) as usize;
        let end = loop {
            if at == self.buffer.len() && !self.fill()? {
                return Err(ErrorKind::UnexpectedEof.into());
            }
            if at - (start / 8) as usize > MAX_BLOCK {
                return Err(damaged("a block without an end"));
            }
            window = window << 8 | u64::from(self.buffer[at]);
            at += 1;
            if let Some(found) = mark_in(window) {
                let end = at as u64 * 8 - found.bits_after - MARK_BITS;
                let is_far_enough = end >= self.used;
                if is_far_enough && self.is_boundary(&found, at, combined)? {
                    break end;
                }
            }
        };
        let bit_len = end - start;
        let first = (start / 8) as usize;
        // The bits are aligned to the start of a byte.
        let shift = (start % 8) as u32;
        let bytes = &self.buffer[first..end.div_ceil(8) as usize];
        let next = bytes.iter().skip(1).chain([&0]);
        let moved = bytes.iter().zip(next).map(|(&byte, &next)| {
            let both = u16::from(byte) << 8 | u16::from(next);
            (both << shift >> 8) as u8
        });
        let moved = moved.collect();
        self.buffer.drain(..(end / 8) as usize);
        self.used = end % 8;
        Ok(Block {
            level,
            checksum,
            bytes: moved,
            bit_len,
        })
    }

    /// Whether a mark is genuine: the closing one is followed by the right checksum.
    fn is_boundary(&mut self, found: &Mark, at: usize, combined: u32) -> io::Result<bool> {
        if found.is_block {
            return Ok(true);
        }
        let from = at as u64 * 8 - found.bits_after;
        while (self.buffer.len() as u64 * 8) < from + CHECKSUM_BITS {
            if !self.fill()? {
                return Err(ErrorKind::UnexpectedEof.into());
            }
        }
        let stored = (0..CHECKSUM_BITS).fold(0, |sum, bit| sum << 1 | self.bit(from + bit));
        Ok(stored == u64::from(combined))
    }
}

/// A mark in the last 64 bits.
struct Mark {
    is_block: bool,
    /// Bits of the window after it.
    bits_after: u64,
}

/// Searches for a mark that ends in the last byte of the window.
fn mark_in(window: u64) -> Option<Mark> {
    (0..8).rev().find_map(|bits_after| {
        let bits = window >> bits_after & MARK_MASK;
        let is_block = bits == BLOCK_MARK;
        (is_block || bits == END_MARK).then_some(Mark {
            is_block,
            bits_after,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    /// Noise compresses to blocks of a known length.
    fn noise(len: usize) -> Vec<u8> {
        let mut state = 7u64;
        let next = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 32) as u8
        };
        std::iter::repeat_with(next).take(len).collect()
    }

    fn pack(data: &[u8], level: u32) -> Vec<u8> {
        let level = bzip2::Compression::new(level);
        let mut encoder = bzip2::write::BzEncoder::new(Vec::new(), level);
        encoder.write_all(data).unwrap();
        encoder.finish().unwrap()
    }

    fn first_block(packed: &[u8]) -> Block {
        let mut bits = Bits::new(packed);
        bits.take(32).unwrap();
        assert_eq!(bits.take(MARK_BITS).unwrap(), BLOCK_MARK);
        bits.take_block(b'1', 0).unwrap()
    }

    #[test]
    fn several_blocks_come_out_in_order() {
        let data = noise(1_234_567);
        let mut unpacked = Vec::new();
        let packed = [pack(&data, 1), pack(b"", 9), pack(&data[..10], 9)].concat();
        let mut stream = open(io::Cursor::new(packed)).unwrap();
        stream.read_to_end(&mut unpacked).unwrap();
        assert!(unpacked == [&data[..], &data[..10]].concat());
    }

    /// The two halves of a block that contained a mark by chance are joined again.
    #[test]
    fn a_mark_by_chance_is_no_boundary() {
        let data = noise(90_000);
        let block = first_block(&pack(&data, 1));
        let part = |range: std::ops::Range<usize>| Block {
            level: b'1',
            checksum: block.checksum,
            bytes: block.bytes[range.clone()].to_vec(),
            bit_len: (block.bit_len - range.start as u64 * 8).min(range.len() as u64 * 8),
        };
        let (first, second) = (part(0..40_000), part(40_006..block.bytes.len()));
        let between = block.bytes[40_000..40_006].iter();
        let between = between.fold(0, |sum, byte| sum << 8 | u64::from(*byte));
        assert!(unpack_joined(&first, between, &second).unwrap() == data);
        assert!(unpack(&first, None).is_err());
        assert!(unpack(&first, Some(&second)).is_err());
    }

    #[test]
    fn a_bomb_is_bounded() {
        let zeros = vec![0; 60 << 20];
        let mut stream = open(io::Cursor::new(pack(&zeros, 9))).unwrap();
        assert_eq!(io::copy(&mut stream, &mut io::sink()).unwrap(), 60 << 20);
    }

    #[test]
    fn data_after_the_end_is_an_error() {
        let packed = [&pack(&noise(1000), 9)[..], b"and more"].concat();
        let mut stream = open(io::Cursor::new(packed)).unwrap();
        let error = io::copy(&mut stream, &mut io::sink()).unwrap_err();
        assert!(error.to_string().contains("after the end"), "{error}");
    }
}
