//! Receipts in few bytes: their text is compressed, their chunks are kept as differences from those
//! of another medium with the same image, their pace as small numbers. Nothing is lost: what comes
//! back has the same digest.

use std::collections::BTreeMap;

use pinewrit_core::receipt::{Receipt, ReceiptChunk};
use pinewrit_core::write::PacePoint;

/// Version of the form.
const VERSION: u8 = 1;
/// A receipt or a map has at most so many bytes once unpacked.
const MAX: usize = 256 << 20;
/// Bytes of a digest (BLAKE3).
const DIGEST: usize = 32;
/// Times in steps of a tenth of a millisecond are kept as whole numbers.
const STEPS: f64 = 1e4;
const LEVEL: i32 = 6;

/// The bytes are not a receipt in this form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the stored receipt is damaged")]
pub struct Damaged;

/// What is in use of a chunk, and the digest of that.
type Used = (Vec<(u64, u64)>, [u8; DIGEST]);

/// The chunks of a medium, as they are kept once for all with the same image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ChunkMap(BTreeMap<u64, Used>);

impl ChunkMap {
    /// The chunks of a receipt; `None` if one has no valid digest.
    pub fn of(receipt: &Receipt) -> Option<Self> {
        let chunk = |chunk: &ReceiptChunk| {
            let digest = blake3::Hash::from_hex(&chunk.blake3).ok()?;
            // Only this form comes back as it was.
            (digest.to_hex().as_str() == chunk.blake3)
                .then(|| (chunk.index, (chunk.used.clone(), *digest.as_bytes())))
        };
        let all: BTreeMap<_, _> = receipt.chunks.iter().map(chunk).collect::<Option<_>>()?;
        let in_order = receipt
            .chunks
            .windows(2)
            .all(|pair| pair[0].index < pair[1].index);
        in_order.then_some(Self(all))
    }

    fn to_chunks(&self) -> Vec<ReceiptChunk> {
        let chunks = self.0.iter().map(|(index, (used, digest))| ReceiptChunk {
            index: *index,
            used: used.clone(),
            blake3: blake3::Hash::from_bytes(*digest).to_hex().to_string(),
        });
        chunks.collect()
    }

    /// In bytes.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut numbers = Vec::new();
        let mut digests = Vec::with_capacity(self.0.len() * DIGEST);
        put(&mut numbers, self.0.len() as u64);
        let mut before = 0;
        for (index, (used, digest)) in &self.0 {
            put(&mut numbers, index.wrapping_sub(before));
            put(&mut numbers, used.len() as u64);
            let mut place = 0;
            for (start, end) in used {
                put(&mut numbers, zigzag(start.wrapping_sub(place)));
                put(&mut numbers, zigzag(end.wrapping_sub(*start)));
                place = *end;
            }
            before = *index;
            digests.extend_from_slice(digest);
        }
        let mut bytes = Vec::new();
        put_block(&mut bytes, &numbers);
        bytes.extend(digests);
        bytes
    }

    /// From bytes.
    ///
    /// # Errors
    /// [`Damaged`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, Damaged> {
        let mut rest = bytes;
        let numbers = take_block(&mut rest)?;
        let mut numbers = numbers.as_slice();
        let count = take(&mut numbers)?;
        let (digests, _) = rest.as_chunks::<DIGEST>();
        if digests.len() as u64 != count {
            return Err(Damaged);
        }
        let mut all = BTreeMap::new();
        let mut index = 0_u64;
        for digest in digests {
            index = index.wrapping_add(take(&mut numbers)?);
            let ranges = take(&mut numbers)?;
            let mut used = Vec::new();
            let mut place = 0_u64;
            for _ in 0..ranges {
                let start = place.wrapping_add(unzigzag(take(&mut numbers)?));
                let end = start.wrapping_add(unzigzag(take(&mut numbers)?));
                used.push((start, end));
                place = end;
            }
            all.insert(index, (used, *digest));
        }
        Ok(Self(all))
    }

    /// What is different from `base`: chunks to be added or replaced, and those to be left out.
    fn difference(&self, base: &Self) -> (Self, Vec<u64>) {
        let changed = self
            .0
            .iter()
            .filter(|(index, chunk)| base.0.get(index) != Some(chunk));
        let changed = changed.map(|(index, chunk)| (*index, chunk.clone()));
        let gone = base.0.keys().filter(|index| !self.0.contains_key(index));
        (Self(changed.collect()), gone.copied().collect())
    }

    fn with(mut self, changed: Self, gone: &[u64]) -> Self {
        for index in gone {
            self.0.remove(index);
        }
        self.0.extend(changed.0);
        self
    }

    /// Whether a medium with these chunks is like one with others: few differ.
    pub fn is_like(&self, other: &Self) -> bool {
        let (changed, gone) = self.difference(other);
        (changed.0.len() + gone.len()) * 2 <= self.0.len()
    }
}

/// A receipt in few bytes. Its chunks are kept as differences from `base`.
///
/// # Errors
/// [`Damaged`]: it is not a valid receipt.
pub fn pack(receipt: &Receipt, base: &ChunkMap) -> Result<Vec<u8>, Damaged> {
    let map = ChunkMap::of(receipt).ok_or(Damaged)?;
    let (changed, gone) = map.difference(base);
    let mut bare = receipt.clone();
    bare.chunks.clear();
    bare.pace_written.clear();
    bare.pace_read.clear();
    bare.digest.clear();
    let text = serde_json::to_vec(&bare).map_err(|_| Damaged)?;
    let mut numbers = Vec::new();
    put(&mut numbers, gone.len() as u64);
    gone.iter().for_each(|index| put(&mut numbers, *index));
    put_pace(&mut numbers, &receipt.pace_written);
    put_pace(&mut numbers, &receipt.pace_read);
    let mut bytes = vec![VERSION];
    put_block(&mut bytes, &text);
    put_block(&mut bytes, &numbers);
    bytes.extend(changed.to_bytes());
    Ok(bytes)
}

/// The receipt as it was.
///
/// # Errors
/// [`Damaged`].
pub fn unpack(bytes: &[u8], base: ChunkMap) -> Result<Receipt, Damaged> {
    let Some((&VERSION, mut rest)) = bytes.split_first() else {
        return Err(Damaged);
    };
    let text = take_block(&mut rest)?;
    let numbers = take_block(&mut rest)?;
    let mut receipt: Receipt = serde_json::from_slice(&text).map_err(|_| Damaged)?;
    let mut numbers = numbers.as_slice();
    let count = take(&mut numbers)?;
    let mut gone = Vec::new();
    for _ in 0..count {
        gone.push(take(&mut numbers)?);
    }
    receipt.pace_written = take_pace(&mut numbers)?;
    receipt.pace_read = take_pace(&mut numbers)?;
    let changed = ChunkMap::from_bytes(rest)?;
    receipt.chunks = base.with(changed, &gone).to_chunks();
    receipt.seal().map_err(|_| Damaged)?;
    Ok(receipt)
}

fn put_pace(bytes: &mut Vec<u8>, pace: &[PacePoint]) {
    let is_stepped = |time: f64| {
        let steps = (time * STEPS).round();
        (0.0..1e15).contains(&steps) && (steps / STEPS).to_bits() == time.to_bits()
    };
    let stepped = pace
        .iter()
        .all(|point| is_stepped(point.at) && is_stepped(point.took));
    put(bytes, pace.len() as u64);
    put(bytes, u64::from(stepped));
    let (mut place, mut before) = (0_u64, 0_u64);
    for point in pace {
        put(bytes, zigzag(point.offset.wrapping_sub(place)));
        put(bytes, point.bytes);
        place = point.offset.wrapping_add(point.bytes);
        if stepped {
            let at = (point.at * STEPS).round() as u64;
            put(bytes, zigzag(at.wrapping_sub(before)));
            put(bytes, (point.took * STEPS).round() as u64);
            before = at;
        } else {
            put(bytes, point.at.to_bits());
            put(bytes, point.took.to_bits());
        }
    }
}

fn take_pace(bytes: &mut &[u8]) -> Result<Vec<PacePoint>, Damaged> {
    let count = take(bytes)?;
    let stepped = take(bytes)? == 1;
    let (mut place, mut before) = (0_u64, 0_u64);
    let mut pace = Vec::new();
    for _ in 0..count {
        let offset = place.wrapping_add(unzigzag(take(bytes)?));
        let amount = take(bytes)?;
        place = offset.wrapping_add(amount);
        let (first, second) = (take(bytes)?, take(bytes)?);
        let (at, took) = if stepped {
            before = before.wrapping_add(unzigzag(first));
            (before as f64 / STEPS, second as f64 / STEPS)
        } else {
            (f64::from_bits(first), f64::from_bits(second))
        };
        pace.push(PacePoint {
            offset,
            bytes: amount,
            at,
            took,
        });
    }
    Ok(pace)
}

/// A block: its packed length and its bytes, compressed.
fn put_block(bytes: &mut Vec<u8>, block: &[u8]) {
    let packed = zstd::bulk::compress(block, LEVEL).unwrap_or_default();
    put(bytes, packed.len() as u64);
    put(bytes, block.len() as u64);
    bytes.extend(packed);
}

fn take_block(bytes: &mut &[u8]) -> Result<Vec<u8>, Damaged> {
    let packed = usize::try_from(take(bytes)?).map_err(|_| Damaged)?;
    let unpacked = usize::try_from(take(bytes)?).map_err(|_| Damaged)?;
    let block = bytes.split_off(..packed).ok_or(Damaged)?;
    if unpacked > MAX {
        return Err(Damaged);
    }
    zstd::bulk::decompress(block, unpacked).map_err(|_| Damaged)
}

/// A whole number in as few bytes as it needs, seven bits in each (LEB128).
fn put(bytes: &mut Vec<u8>, mut number: u64) {
    while number >= 0x80 {
        bytes.push(number as u8 | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
}

fn take(bytes: &mut &[u8]) -> Result<u64, Damaged> {
    let mut number = 0_u64;
    for shift in (0..64).step_by(7) {
        let (&byte, rest) = bytes.split_first().ok_or(Damaged)?;
        *bytes = rest;
        number |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Ok(number);
        }
    }
    Err(Damaged)
}

/// Small differences in either direction become small numbers.
fn zigzag(difference: u64) -> u64 {
    let signed = difference.cast_signed();
    ((signed << 1) ^ (signed >> 63)).cast_unsigned()
}

fn unzigzag(number: u64) -> u64 {
    (number >> 1) ^ (number & 1).wrapping_neg()
}
