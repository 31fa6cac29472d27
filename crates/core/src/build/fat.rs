//! What FAT cannot hold, and the order of its root directory.

use pinewrit_disk::{BlockDevice, DiskError};

use super::fill::SinkError;

/// Bytes that a file can have: 32 bits count them.
const MAX_FILE: u64 = u32::MAX as u64;
const ENTRY: usize = 32;
/// Attributes of parts of a long name.
const LONG_NAME: u8 = 0x0f;
/// Characters in a long name, in UTF-16 units.
const MAX_NAME: usize = 255;

/// Says why a path cannot be (Microsoft FAT specification 1.03, "Long Directory Entries").
pub(super) fn check_path(path: &str) -> Result<(), SinkError> {
    for name in path.split('/').filter(|name| !name.is_empty()) {
        let wrong = |why: String| {
            let what = format!("{path}: {why}");
            Err(SinkError::new(what, "another name, or an ext4 partition"))
        };
        if let Some(c) = name
            .chars()
            .find(|&c| c.is_control() || "\"*:<>?\\|".contains(c))
        {
            return wrong(format!("FAT names cannot have {c:?}"));
        }
        if name.ends_with(['.', ' ']) {
            return wrong("FAT names do not end with a point or a blank".to_owned());
        }
        if name.encode_utf16().count() > MAX_NAME {
            return wrong(format!("FAT names have {MAX_NAME} characters at most"));
        }
    }
    Ok(())
}

pub(super) fn check_size(path: &str, size: u64) -> Result<(), SinkError> {
    match size <= MAX_FILE {
        true => Ok(()),
        false => Err(SinkError::new(
            format!("{path} has {size} bytes; files on FAT have less than 4 GiB"),
            "an ext4 partition, or a smaller file",
        )),
    }
}

/// Moves the label behind the first file's entries, so that these come first.
pub(super) fn move_label_back(device: &dyn BlockDevice, start: u64) -> Result<(), DiskError> {
    let mut sector = vec![0; 512];
    device.read_at(start, &mut sector)?;
    let attributes: Vec<u8> = sector.chunks_exact(ENTRY).map(|entry| entry[11]).collect();
    let is_label = attributes[0] & 0x08 != 0 && attributes[0] != LONG_NAME;
    let own = (1..attributes.len()).find(|&index| attributes[index] != LONG_NAME);
    if let Some(last) = own.filter(|_| is_label) {
        sector[..(last + 1) * ENTRY].rotate_left(ENTRY);
        device.write_at(start, &sector)?;
    }
    Ok(())
}
