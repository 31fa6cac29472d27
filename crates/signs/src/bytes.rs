//! Reading fields, labels and identifiers.

use pinewrit_disk::{BlockDevice, DiskError};

/// Reads `N` bytes; `None` past the device's end.
pub(crate) fn read<const N: usize>(
    device: &dyn BlockDevice,
    offset: u64,
) -> Result<Option<[u8; N]>, DiskError> {
    let mut bytes = [0; N];
    whole(device.read_at(offset, &mut bytes).map(|()| Some(bytes)))
}

/// Reads a block whose size is known only now, of at most 64 KiB.
pub(crate) fn read_block(
    device: &dyn BlockDevice,
    offset: u64,
    len: u64,
) -> Result<Option<Vec<u8>>, DiskError> {
    let mut bytes = vec![0; len.min(64 << 10) as usize];
    let read = device.read_at(offset, &mut bytes);
    whole(read.map(|()| Some(bytes)))
}

/// Past the end there is nothing.
pub(crate) fn whole<T>(read: Result<Option<T>, DiskError>) -> Result<Option<T>, DiskError> {
    match read {
        Err(DiskError::PastEnd { .. }) => Ok(None),
        read => read,
    }
}

pub(crate) fn has(device: &dyn BlockDevice, offset: u64, mark: &[u8]) -> Result<bool, DiskError> {
    let mut found = [0; 64];
    let found = &mut found[..mark.len().min(64)];
    let read = device.read_at(offset, found).map(|()| Some(()));
    Ok(whole(read)?.is_some() && *found == *mark)
}

fn field<const N: usize>(bytes: &[u8], at: usize) -> [u8; N] {
    let part = bytes.get(at..).and_then(|rest| rest.first_chunk::<N>());
    part.copied().unwrap_or([0; N])
}

pub(crate) fn u16le(bytes: &[u8], at: usize) -> u16 {
    u16::from_le_bytes(field(bytes, at))
}

pub(crate) fn u32le(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(field(bytes, at))
}

pub(crate) fn u64le(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(field(bytes, at))
}

pub(crate) fn u16be(bytes: &[u8], at: usize) -> u16 {
    u16::from_be_bytes(field(bytes, at))
}

pub(crate) fn u32be(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(field(bytes, at))
}

pub(crate) fn u64be(bytes: &[u8], at: usize) -> u64 {
    u64::from_be_bytes(field(bytes, at))
}

/// A UUID (RFC 9562, section 4); `None` where it was never set.
pub(crate) fn uuid(bytes: &[u8], at: usize) -> Option<String> {
    let raw: [u8; 16] = field(bytes, at);
    if raw == [0; 16] {
        return None;
    }
    let hex = hex::encode(raw);
    let groups = [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20]];
    Some(format!("{}-{}", groups.join("-"), &hex[20..]))
}

/// A label in bytes: up to the first zero, trimmed. `None` if nothing is left.
pub(crate) fn text(bytes: &[u8]) -> Option<String> {
    let text = bytes.split(|&byte| byte == 0).next().unwrap_or_default();
    clean(&String::from_utf8_lossy(text))
}

/// As [`text`], for the field that begins at `at`.
pub(crate) fn text_at(bytes: &[u8], at: usize, len: usize) -> Option<String> {
    text(bytes.get(at..at.checked_add(len)?)?)
}

/// A label of units of 16 bits.
pub(crate) fn wide(units: impl Iterator<Item = u16>) -> Option<String> {
    let units: Vec<u16> = units.take_while(|unit| *unit != 0).collect();
    clean(&String::from_utf16_lossy(&units))
}

pub(crate) fn wide_le(bytes: &[u8]) -> Option<String> {
    wide(bytes.chunks_exact(2).map(|pair| u16le(pair, 0)))
}

pub(crate) fn wide_be(bytes: &[u8]) -> Option<String> {
    wide(bytes.chunks_exact(2).map(|pair| u16be(pair, 0)))
}

fn clean(text: &str) -> Option<String> {
    let plain = |c: char| if c.is_control() { '\u{fffd}' } else { c };
    let clean: String = text.trim().chars().map(plain).collect();
    (!clean.is_empty()).then_some(clean)
}
