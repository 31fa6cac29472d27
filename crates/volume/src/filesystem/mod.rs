//! Recognising file systems, and the facts that their first blocks tell.

mod ext;
mod fat;
mod magic;

use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_fat::Geometry;
use schemars::JsonSchema;
use serde::Serialize;

pub use magic::has_other_mark;

/// What a file system tells of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FilesystemFacts {
    /// Its kind: `FAT32`, `ext4`, `ISO 9660`, `swap` …
    pub kind: &'static str,
    /// Its label, without control characters.
    pub label: Option<String>,
    /// Its identifier in the form that its own tools use.
    pub id: Option<String>,
    /// Bytes that it spans.
    pub size: Option<u64>,
    /// Bytes that its files and its own structures take.
    pub used: Option<u64>,
    /// Bytes that are free.
    pub free: Option<u64>,
}

impl FilesystemFacts {
    fn named(kind: &'static str) -> Self {
        Self {
            kind,
            label: None,
            id: None,
            size: None,
            used: None,
            free: None,
        }
    }

    /// Whether this is one of the FAT kinds.
    pub fn is_fat(&self) -> bool {
        self.kind.starts_with("FAT")
    }
}

/// Looks for a file system at the start of `device`.
///
/// # Errors
/// The device could not be read. A device that is too short holds no file system.
pub fn probe(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    let found = probe_all(device);
    match found {
        Err(DiskError::PastEnd { .. }) => Ok(None),
        found => found,
    }
}

fn probe_all(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    if let Some(geometry) = Geometry::read(device)? {
        return Ok(Some(fat::facts(device, &geometry)?));
    }
    if let Some(facts) = ext::facts(device)? {
        return Ok(Some(facts));
    }
    magic::facts(device)
}

/// Reads `N` bytes at `offset`; `None` past the device's end.
fn read<const N: usize>(
    device: &dyn BlockDevice,
    offset: u64,
) -> Result<Option<[u8; N]>, DiskError> {
    let mut bytes = [0; N];
    match device.read_at(offset, &mut bytes) {
        Ok(()) => Ok(Some(bytes)),
        Err(DiskError::PastEnd { .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// A label from a medium: up to the first zero, without blanks around it and without control
/// characters, which could command a terminal. `None` if nothing is left.
pub fn clean_label(raw: &[u8]) -> Option<String> {
    let text = raw.split(|&byte| byte == 0).next().unwrap_or_default();
    let text = String::from_utf8_lossy(text);
    let clean: String = text.trim().chars().map(printable).collect();
    (!clean.is_empty()).then_some(clean)
}

/// Stands in for characters that could command a terminal.
pub fn printable(c: char) -> char {
    if c.is_control() { '\u{fffd}' } else { c }
}

fn u16le(bytes: &[u8], offset: usize) -> u16 {
    u16::from_le_bytes([bytes[offset], bytes[offset + 1]])
}

fn u32le(bytes: &[u8], offset: usize) -> u32 {
    u32::from(u16le(bytes, offset)) | u32::from(u16le(bytes, offset + 2)) << 16
}

fn hex_groups(bytes: &[u8; 16]) -> String {
    let hex = hex::encode(bytes);
    let groups = [
        &hex[..8],
        &hex[8..12],
        &hex[12..16],
        &hex[16..20],
        &hex[20..],
    ];
    groups.join("-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_cannot_command_a_terminal() {
        assert_eq!(
            clean_label(b"HUT\x1b[31m  "),
            Some("HUT\u{fffd}[31m".into())
        );
        assert_eq!(clean_label(b"   \0rest"), None);
    }
}
