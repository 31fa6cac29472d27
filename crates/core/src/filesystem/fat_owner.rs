//! Whose a byte of a FAT file system is: its path, found by following every file's chain.

use std::collections::VecDeque;

use pinewrit_disk::{BlockDevice, DiskError};

use super::{FatGeometry, u16le, u32le};

/// Directory entries that are looked at; more than any boot partition has.
pub(super) const MAX_ENTRIES: usize = 1_000_000;
/// Microsoft FAT specification 1.03, "FAT Directory Structure": attributes, and the marks of names.
const DIRECTORY: u8 = 0x10;
const VOLUME_LABEL: u8 = 0x08;
const LONG_NAME: u8 = 0x0f;
const DELETED: u8 = 0xe5;

/// What is at `offset` of the file system.
///
/// # Errors
/// The device failed.
pub(crate) fn owner_at(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    offset: u64,
) -> Result<String, DiskError> {
    if offset < geometry.table.start {
        return Ok("the boot sector".to_owned());
    }
    if offset < geometry.tables_end() {
        return Ok("the allocation table".to_owned());
    }
    if offset < geometry.data_start {
        return Ok("the root directory".to_owned());
    }
    let wanted = (offset - geometry.data_start) / geometry.cluster + 2;
    let mut left = MAX_ENTRIES;
    let mut open = VecDeque::new();
    if geometry.root_cluster != 0 {
        let root = read_chain(device, geometry, geometry.root_cluster, wanted)?;
        if root.has_wanted {
            return Ok("the root directory".to_owned());
        }
        open.push_back((String::new(), root.bytes));
    } else {
        let mut bytes = vec![0; geometry.root_directory.len() as usize];
        device.read_at(geometry.root_directory.start, &mut bytes)?;
        open.push_back((String::new(), bytes));
    }
    while let Some((path, bytes)) = open.pop_front() {
        for entry in entries(&bytes) {
            left = left.saturating_sub(1);
            if left == 0 {
                break;
            }
            let path = format!("{path}/{}", entry.name);
            if entry.is_directory {
                let folder = read_chain(device, geometry, entry.cluster, wanted)?;
                if folder.has_wanted {
                    return Ok(path);
                }
                open.push_back((path, folder.bytes));
            } else if has_cluster(device, geometry, entry.cluster, wanted)? {
                return Ok(path);
            }
        }
    }
    Ok("free space".to_owned())
}

struct Folder {
    bytes: Vec<u8>,
    has_wanted: bool,
}

fn read_chain(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    first: u32,
    wanted: u64,
) -> Result<Folder, DiskError> {
    let clusters = geometry.chain(device, first)?.unwrap_or_default();
    let mut bytes = vec![0; clusters.len() * geometry.cluster as usize];
    for (cluster, part) in clusters
        .iter()
        .zip(bytes.chunks_mut(geometry.cluster as usize))
    {
        device.read_at(geometry.cluster_offset(*cluster), part)?;
    }
    let has_wanted = clusters.iter().any(|cluster| u64::from(*cluster) == wanted);
    Ok(Folder { bytes, has_wanted })
}

/// Whether the chain of a file has a cluster. A chain that loops is left when it is longer than
/// the file system.
fn has_cluster(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    first: u32,
    wanted: u64,
) -> Result<bool, DiskError> {
    let mut cluster = first;
    for _ in 0..geometry.clusters {
        if u64::from(cluster) == wanted {
            return Ok(true);
        }
        if !(2..geometry.clusters + 2).contains(&u64::from(cluster)) {
            return Ok(false);
        }
        cluster = geometry.next_cluster(device, u64::from(cluster))?;
    }
    Ok(false)
}

pub(super) struct Entry {
    pub(super) name: String,
    pub(super) cluster: u32,
    pub(super) is_directory: bool,
    /// In bytes; of folders always 0.
    pub(super) size: u32,
}

/// The entries of a directory, with their long names where they have one.
pub(super) fn entries(bytes: &[u8]) -> Vec<Entry> {
    let mut found = Vec::new();
    let mut long: Vec<u16> = Vec::new();
    for raw in bytes.chunks_exact(32) {
        let attributes = raw[11];
        match raw[0] {
            0 => break,
            DELETED => long.clear(),
            _ if attributes & LONG_NAME == LONG_NAME => {
                // The last part of a name comes first.
                let units = [1..11, 14..26, 28..32]
                    .into_iter()
                    .flat_map(|part| raw[part].chunks_exact(2));
                let part = units.map(|pair| u16le(pair, 0)).collect::<Vec<_>>();
                long.splice(0..0, part);
            }
            _ if attributes & VOLUME_LABEL != 0 => long.clear(),
            first => {
                let name = match long.is_empty() {
                    true => short_name(raw),
                    false => {
                        let end = long
                            .iter()
                            .position(|&unit| unit == 0)
                            .unwrap_or(long.len());
                        String::from_utf16_lossy(&long[..end])
                    }
                };
                long.clear();
                if first == b'.' {
                    continue;
                }
                found.push(Entry {
                    name: name.chars().map(super::printable).collect(),
                    cluster: u32::from(u16le(raw, 20)) << 16 | u32::from(u16le(raw, 26)),
                    is_directory: attributes & DIRECTORY != 0,
                    size: u32le(raw, 28),
                });
            }
        }
    }
    found
}

/// A short name; two flags in a reserved byte say that a part of it is to be read in small letters.
fn short_name(raw: &[u8]) -> String {
    let part = |range: std::ops::Range<usize>, flag: u8| {
        let text = String::from_utf8_lossy(&raw[range]).trim_end().to_owned();
        match raw[12] & flag {
            0 => text,
            _ => text.to_lowercase(),
        }
    };
    let (name, extension) = (part(0..8, 0x08), part(8..11, 0x10));
    match extension.is_empty() {
        true => name,
        false => format!("{name}.{extension}"),
    }
}
