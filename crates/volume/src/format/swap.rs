//! A swap area: one page with its signature (`linux/swap.h`, `union swap_header`).

use pinewrit_disk::{BlockDevice, DiskError};

use super::{FormatError, FormatOptions};

const PAGE: u64 = 4096;
/// The kernel requires at least this many pages.
const LEAST_PAGES: u64 = 10;
/// `info.sws_uuid`.
const UUID: usize = 1036;
/// `info.sws_volume`.
const LABEL: usize = 1052;

pub(super) fn check(size: u64) -> Result<(), FormatError> {
    let wrong = |why: &str| FormatError::Size {
        kind: "swap",
        size,
        why: why.to_owned(),
    };
    match size / PAGE {
        0..LEAST_PAGES => Err(wrong("at least 40960 are required")),
        pages if pages > u64::from(u32::MAX) => Err(wrong("at most 16 TiB are possible")),
        _ => Ok(()),
    }
}

pub(super) fn make(
    partition: &dyn BlockDevice,
    options: &FormatOptions,
) -> Result<(), FormatError> {
    let page = header(partition.size(), options.uuid(), &options.label);
    Ok(partition.write_at(0, &page)?)
}

/// Gives a swap area another identifier.
///
/// # Errors
/// The device could not be written.
pub fn set_uuid(area: &dyn BlockDevice, uuid: [u8; 16]) -> Result<(), DiskError> {
    area.write_at(UUID as u64, &uuid)
}

/// The first page of a swap area of `size` bytes.
pub fn header(size: u64, uuid: [u8; 16], label: &str) -> Vec<u8> {
    let mut page = vec![0; PAGE as usize];
    let last = (size / PAGE).saturating_sub(1) as u32;
    page[1024..1028].copy_from_slice(&1u32.to_le_bytes());
    page[1028..1032].copy_from_slice(&last.to_le_bytes());
    page[UUID..LABEL].copy_from_slice(&uuid);
    let label = label.as_bytes();
    page[LABEL..LABEL + label.len()].copy_from_slice(label);
    page[PAGE as usize - 10..].copy_from_slice(b"SWAPSPACE2");
    page
}
