//! The first two entries of a folder that was just made.
//!
//! The FAT crate gives `.` and `..` long names, which the specification forbids (Microsoft FAT
//! specification 1.03, "FAT Directory Structure"): they must be the first two entries as they
//! are. Here the long names are taken out again.

use pinewrit_disk::{BlockDevice, DiskError};

use super::{FatGeometry, FatWidth, u16le};

const ENTRY: usize = 32;
const LONG_NAME: u8 = 0x0f;

/// Puts `.` and `..` to the start of the new folder at `path`, whose names are all in short form
/// (8.3). `false` if it is not found.
pub(super) fn repair_dots(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    path: &str,
) -> Result<bool, DiskError> {
    let mut cluster = None;
    for name in path.split('/') {
        cluster = find(device, geometry, cluster, name)?;
        if cluster.is_none() {
            return Ok(false);
        }
    }
    let Some(cluster) = cluster else {
        return Ok(false);
    };
    let offset = geometry.cluster_offset(cluster);
    let mut head = [0; 4 * ENTRY];
    device.read_at(offset, &mut head)?;
    let short: Vec<u8> = head
        .chunks_exact(ENTRY)
        .filter(|entry| entry[11] != LONG_NAME)
        .flatten()
        .copied()
        .collect();
    head.fill(0);
    head[..short.len()].copy_from_slice(&short);
    device.write_at(offset, &head)?;
    Ok(true)
}

/// First cluster of the folder `name` in the folder that begins with `parent` (`None`: the root).
fn find(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    parent: Option<u32>,
    name: &str,
) -> Result<Option<u32>, DiskError> {
    let wanted = short_name(name);
    let ranges: Vec<(u64, u64)> = match (parent, geometry.width) {
        (None, FatWidth::Fat12 | FatWidth::Fat16) => {
            let root = geometry.root_directory;
            vec![(root.start, root.len())]
        }
        (parent, _) => {
            let first = parent.unwrap_or(geometry.root_cluster);
            let chain = geometry.chain(device, first)?.unwrap_or_default();
            let range = |cluster| (geometry.cluster_offset(cluster), geometry.cluster);
            chain.into_iter().map(range).collect()
        }
    };
    for (offset, len) in ranges {
        let mut entries = vec![0; len as usize];
        device.read_at(offset, &mut entries)?;
        let found = entries
            .chunks_exact(ENTRY)
            .find(|entry| entry[..11] == wanted && entry[11] & 0x18 == 0x10);
        if let Some(entry) = found {
            let high = u32::from(u16le(entry, 20));
            return Ok(Some(high << 16 | u32::from(u16le(entry, 26))));
        }
    }
    Ok(None)
}

/// A name in the form of a directory entry: eight and three characters, padded with blanks.
fn short_name(name: &str) -> [u8; 11] {
    let (base, ending) = name.split_once('.').unwrap_or((name, ""));
    let mut short = [b' '; 11];
    let upper = |text: &str| text.to_ascii_uppercase().into_bytes();
    for (to, from) in short[..8].iter_mut().zip(upper(base)) {
        *to = from;
    }
    for (to, from) in short[8..].iter_mut().zip(upper(ending)) {
        *to = from;
    }
    short
}
