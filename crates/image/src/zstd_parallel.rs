//! zstd on all cores: frames are decoded in parallel if the file has several.
//!
//! RFC 8878, section 3.1. Frames are found by walking their block headers; one that is too large to
//! keep is decoded as a stream, by one thread.

use std::io::{self, BufRead, Read};

use crate::ordered::{Dispatch, Ordered, Wanted, in_flight};

/// The largest zstd window that is accepted, as a power of two: 128 MiB.
pub(crate) const WINDOW_LOG: u32 = 27;
const MAGIC: [u8; 4] = 0xfd2f_b528_u32.to_le_bytes();
/// Section 3.1.1.2.4: no block is larger, packed or unpacked.
const MAX_BLOCK: usize = 128 << 10;
/// Memory for frames in progress, packed and unpacked, in bytes.
const MEMORY: usize = 96 << 20;
const PIECE: usize = 1 << 20;

/// Unpacks all frames of `input`.
///
/// # Errors
/// No threads can be started.
pub(crate) fn open(input: impl BufRead + Send + 'static) -> io::Result<Ordered> {
    Ordered::start(move |dispatch| split(input, dispatch))
}

fn split(mut input: impl BufRead + Send, dispatch: &Dispatch) -> io::Result<()> {
    let largest = MEMORY / in_flight().1 / 2;
    loop {
        let magic = read_up_to(&mut input, 4)?;
        if magic.is_empty() {
            return Ok(());
        }
        if let [0x50..=0x5f, 0x2a, 0x4d, 0x18] = magic[..] {
            skip(&mut input)?;
            continue;
        }
        let mut frame = magic;
        let wanted = match walk(&mut input, &mut frame, largest)? {
            Walked::Whole { unpacked } => dispatch.job(move || decode(&frame, unpacked)),
            Walked::TooLarge => stream(&frame, &mut input, dispatch)?,
        };
        if wanted == Wanted::No {
            return Ok(());
        }
    }
}

fn read_up_to(input: &mut impl Read, len: usize) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::with_capacity(len);
    input.take(len as u64).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Section 3.1.2: a length of four bytes, then this many bytes.
fn skip(input: &mut impl Read) -> io::Result<()> {
    let mut len = [0; 4];
    input.read_exact(&mut len)?;
    let len = u64::from(u32::from_le_bytes(len));
    if io::copy(&mut input.take(len), &mut io::sink())? == len {
        Ok(())
    } else {
        Err(io::ErrorKind::UnexpectedEof.into())
    }
}

enum Walked {
    /// The frame is complete, or the data ends in it, which the decoder will find. It does not
    /// unpack to more than this many bytes.
    Whole {
        unpacked: usize,
    },
    TooLarge,
}

/// Adds the rest of the frame that begins with `frame`, up to `largest` bytes.
fn walk(input: &mut impl Read, frame: &mut Vec<u8>, largest: usize) -> io::Result<Walked> {
    let mut add = |frame: &mut Vec<u8>, len: usize| {
        let before = frame.len();
        input.by_ref().take(len as u64).read_to_end(frame)?;
        io::Result::Ok(frame.len() - before == len)
    };
    if frame[..] != MAGIC || !add(frame, 1)? {
        return Ok(Walked::Whole { unpacked: 0 });
    }
    let descriptor = frame[4];
    let has_checksum = descriptor & 0x04 != 0;
    if !add(frame, header_bytes(descriptor))? {
        return Ok(Walked::Whole { unpacked: 0 });
    }
    let mut unpacked = 0;
    loop {
        if !add(frame, 3)? {
            return Ok(Walked::Whole { unpacked });
        }
        let at = frame.len() - 3;
        let header = u32::from_le_bytes([frame[at], frame[at + 1], frame[at + 2], 0]);
        let size = (header >> 3) as usize;
        let (stored, grown) = match (header >> 1) & 3 {
            0 => (size, size),
            1 => (1, size),
            _ => (size, MAX_BLOCK),
        };
        unpacked += grown;
        if frame.len() + stored > largest || unpacked > largest {
            return Ok(Walked::TooLarge);
        }
        if !add(frame, stored)? {
            return Ok(Walked::Whole { unpacked });
        }
        if header & 1 != 0 {
            let checksum = if has_checksum { 4 } else { 0 };
            add(frame, checksum)?;
            return Ok(Walked::Whole { unpacked });
        }
    }
}

/// Bytes of a frame header after its descriptor, section 3.1.1.1.
fn header_bytes(descriptor: u8) -> usize {
    let single_segment = descriptor & 0x20 != 0;
    let window = usize::from(!single_segment);
    let dictionary = [0, 1, 2, 4][usize::from(descriptor & 3)];
    let size = match descriptor >> 6 {
        0 => usize::from(single_segment),
        1 => 2,
        2 => 4,
        _ => 8,
    };
    window + dictionary + size
}

fn decode(frame: &[u8], unpacked: usize) -> io::Result<crate::ordered::Piece> {
    let mut decoder = zstd::stream::read::Decoder::with_buffer(frame)?;
    decoder.window_log_max(WINDOW_LOG)?;
    let mut bytes = Vec::with_capacity(unpacked);
    // One more byte shows whether the blocks were counted wrongly.
    decoder.take(unpacked as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes.into())
}

/// Decodes the frame that begins with `start` as a stream.
fn stream(start: &[u8], input: &mut impl BufRead, dispatch: &Dispatch) -> io::Result<Wanted> {
    let whole = start.chain(input);
    let mut decoder = zstd::stream::read::Decoder::with_buffer(whole)?.single_frame();
    decoder.window_log_max(WINDOW_LOG)?;
    loop {
        let mut bytes = Vec::with_capacity(PIECE);
        let read = (&mut decoder).take(PIECE as u64).read_to_end(&mut bytes);
        let is_last = bytes.len() < PIECE;
        if !bytes.is_empty() && dispatch.ready(Ok(bytes.into())) == Wanted::No {
            return Ok(Wanted::No);
        }
        read?;
        if is_last {
            return Ok(Wanted::Yes);
        }
    }
}
