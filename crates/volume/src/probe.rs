//! Recognising file systems, and reading the facts in their first blocks.

use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_signs::Sign;
use schemars::JsonSchema;
use serde::Serialize;
use uuid::Uuid;

use crate::FilesystemKind;

/// What a file system says about itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FilesystemFacts {
    /// Its kind: `FAT32`, `ext4`, `ISO 9660`, `swap` …
    pub kind: FilesystemKind,
    /// Its label, without control characters.
    pub label: Option<String>,
    /// Its identifier in the form that its own tools use.
    pub id: Option<String>,
    /// Bytes that it spans.
    pub size: Option<u64>,
    /// Bytes that its files and structures take.
    pub used: Option<u64>,
    /// Bytes that are free.
    pub free: Option<u64>,
}

impl From<pinewrit_fat::FatFacts> for FilesystemFacts {
    fn from(facts: pinewrit_fat::FatFacts) -> Self {
        Self {
            kind: if facts.is_regular {
                FilesystemKind::Fat(facts.width)
            } else {
                FilesystemKind::SmallFat32
            },
            label: facts.label.and_then(|label| clean_label(label.as_bytes())),
            id: facts.id,
            size: Some(facts.size),
            used: facts.free.map(|free| facts.size.saturating_sub(free)),
            free: facts.free,
        }
    }
}

impl From<pinewrit_ext4::ExtFacts> for FilesystemFacts {
    fn from(facts: pinewrit_ext4::ExtFacts) -> Self {
        let used = facts.size.zip(facts.free).map(|(size, free)| size - free);
        Self {
            kind: FilesystemKind::Ext(facts.generation),
            label: clean_label(&facts.label),
            id: Some(Uuid::from_bytes(facts.uuid).to_string()),
            size: facts.size,
            used,
            free: facts.free,
        }
    }
}

impl From<Sign> for FilesystemFacts {
    fn from(sign: Sign) -> Self {
        let kind = FilesystemKind::Other(sign.format);
        let is_full = kind.is_full();
        Self {
            kind,
            label: sign.label,
            id: sign.id,
            size: sign.size,
            used: sign.size.filter(|_| is_full),
            free: is_full.then_some(0),
        }
    }
}

/// Recognises a file system at the start of `device`.
///
/// # Errors
/// The device could not be read. A device that is too short holds no file system.
pub fn probe(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    match probe_all(device) {
        Err(DiskError::PastEnd { .. }) => Ok(None),
        found => found,
    }
}

fn probe_all(device: &dyn BlockDevice) -> Result<Option<FilesystemFacts>, DiskError> {
    if let Some(facts) = pinewrit_fat::FatFacts::read(device)? {
        return Ok(Some(facts.into()));
    }
    if let Some(facts) = pinewrit_ext4::ExtFacts::read(device)? {
        return Ok(Some(facts.into()));
    }
    Ok(pinewrit_signs::at_start(device)?.map(FilesystemFacts::from))
}

/// A label from a medium: up to the first zero, trimmed, and without control characters, which
/// could control a terminal. `None` if nothing is left.
pub fn clean_label(raw: &[u8]) -> Option<String> {
    let text = raw.split(|&byte| byte == 0).next().unwrap_or_default();
    let text = String::from_utf8_lossy(text);
    let clean: String = text.trim().chars().map(printable).collect();
    (!clean.is_empty()).then_some(clean)
}

/// Replaces characters that could control a terminal.
pub fn printable(c: char) -> char {
    if c.is_control() { '\u{fffd}' } else { c }
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
