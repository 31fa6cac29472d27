//! Whose bytes of a FAT file system are: the path, found by following every file's chain.

use std::collections::VecDeque;

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Sought};

use super::{FatGeometry, u16le, u32le};

/// Directory entries that are looked at; more than any boot partition has.
pub(super) const MAX_ENTRIES: usize = 1_000_000;
/// Microsoft FAT specification 1.03, "FAT Directory Structure": attributes, and the marks of names.
const DIRECTORY: u8 = 0x10;
const VOLUME_LABEL: u8 = 0x08;
const LONG_NAME: u8 = 0x0f;
const DELETED: u8 = 0xe5;

/// A place that has an owner: the first byte of it that was looked for, and whose it is.
pub(crate) type Owned = (u64, FatOwner);

/// Whose a place is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum FatOwner {
    /// Structures of the file system itself, in words.
    Metadata(&'static str),
    /// A file or folder, by its path.
    File(String),
}

/// Who uses the places that are looked for: each owner once.
///
/// # Errors
/// The device failed.
pub(crate) fn owners(
    device: &dyn BlockDevice,
    geometry: &FatGeometry,
    sought: &mut Sought,
) -> Result<Vec<Owned>, DiskError> {
    let mut found = Vec::new();
    let tables = geometry.tables_end();
    let parts = [
        (0, geometry.table.start, "the boot sector"),
        (geometry.table.start, tables, "the allocation table"),
        (tables, geometry.data_start, "the root directory"),
    ];
    for (start, end, what) in parts {
        let range = ByteRange::new(start, end);
        let first = range.and_then(|range| sought.take(range));
        found.extend(first.map(|first| (first, FatOwner::Metadata(what))));
    }
    let mut walk = Walk {
        device,
        geometry,
        sought,
    };
    let mut left = MAX_ENTRIES;
    let mut open = VecDeque::new();
    if geometry.root_cluster != 0 {
        let (first, bytes) = walk.folder(geometry.root_cluster)?;
        found.extend(first.map(|first| (first, FatOwner::Metadata("the root directory"))));
        open.push_back((String::new(), bytes));
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
            let first = if entry.is_directory {
                let (first, bytes) = walk.folder(entry.cluster)?;
                open.push_back((path.clone(), bytes));
                first
            } else {
                walk.file(entry.cluster)?
            };
            found.extend(first.map(|first| (first, FatOwner::File(path))));
        }
    }
    found.sort_by_key(|(first, _)| *first);
    Ok(found)
}

struct Walk<'a> {
    device: &'a dyn BlockDevice,
    geometry: &'a FatGeometry,
    sought: &'a mut Sought,
}

impl Walk<'_> {
    fn take(&mut self, cluster: u32) -> Option<u64> {
        let start = self.geometry.cluster_offset(cluster);
        self.sought
            .take(ByteRange::from_len(start, self.geometry.cluster)?)
    }

    /// The first byte of a folder that is looked for, and its entries.
    fn folder(&mut self, first: u32) -> Result<(Option<u64>, Vec<u8>), DiskError> {
        let geometry = self.geometry;
        let clusters = geometry.chain(self.device, first)?.unwrap_or_default();
        let mut bytes = vec![0; clusters.len() * geometry.cluster as usize];
        let parts = bytes.chunks_mut(geometry.cluster as usize);
        let mut hit = None;
        for (cluster, part) in clusters.into_iter().zip(parts) {
            self.device
                .read_at(geometry.cluster_offset(cluster), part)?;
            hit = hit.into_iter().chain(self.take(cluster)).min();
        }
        Ok((hit, bytes))
    }

    /// The first byte of a file that is looked for. A chain that loops is left when it is longer than
    /// the file system.
    fn file(&mut self, first: u32) -> Result<Option<u64>, DiskError> {
        let mut cluster = first;
        let mut hit = None;
        for _ in 0..self.geometry.clusters {
            if !(2..self.geometry.clusters + 2).contains(&u64::from(cluster)) {
                break;
            }
            hit = hit.into_iter().chain(self.take(cluster)).min();
            cluster = self
                .geometry
                .next_cluster(self.device, u64::from(cluster))?;
        }
        Ok(hit)
    }
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
