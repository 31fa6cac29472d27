//! An overlay as the emulator takes it: a file in the form qcow2, version 3, that refers to the
//! medium and holds what differs from it ("The QCOW2 image format", in QEMU's documentation).

use std::fs::File;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;

use pinewrit_disk::{BlockDevice, ByteRange};

/// Bytes of a cluster.
const CLUSTER: u64 = 64 << 10;
const CLUSTER_BITS: u32 = 16;
/// Entries of a table in one cluster, eight bytes each.
const ENTRIES: u64 = CLUSTER / 8;
/// An entry whose cluster has one reference.
const COPIED: u64 = 1 << 63;
/// Length of the header of version 3.
const HEADER: u32 = 104;
/// Header extension: the form of the medium below.
const BACKING_FORMAT: u32 = 0xe279_2aca;
/// Numbers of references of two bytes each in the one block for them.
const COUNTED: u64 = CLUSTER / 2;
/// Longer names are not allowed.
const LONGEST_NAME: usize = 1023;

/// Creates an overlay of `size` bytes over the raw medium at `below`, with the content of
/// `changed` as `view` has it.
///
/// # Errors
/// The file cannot be written, `view` cannot be read, or too much has changed.
pub(super) fn create(
    path: &Path,
    below: &Path,
    size: u64,
    view: &dyn BlockDevice,
    changed: &[ByteRange],
) -> io::Result<()> {
    let name = below.as_os_str().as_bytes();
    if name.len() > LONGEST_NAME {
        return Err(io::Error::other("the medium's path is too long"));
    }
    let clusters = clusters_of(changed);
    let first_level = size.div_ceil(CLUSTER * ENTRIES);
    let first_clusters = (first_level * 8).div_ceil(CLUSTER).max(1);
    let mut tables: Vec<u64> = clusters.iter().map(|cluster| cluster / ENTRIES).collect();
    tables.dedup();
    // The header, the table of references, their block, the first level, the second, the content.
    let seconds = 3 + first_clusters;
    let contents = seconds + tables.len() as u64;
    let used = contents + clusters.len() as u64;
    if used > COUNTED {
        return Err(io::Error::other("too much is changed for an overlay"));
    }
    let file = File::options()
        .read(true)
        .write(true)
        .create_new(true)
        .open(path)?;
    file.set_len(used * CLUSTER)?;
    file.write_all_at(&header(name, size, first_level), 0)?;
    file.write_all_at(&(2 * CLUSTER).to_be_bytes(), CLUSTER)?;
    let counts: Vec<u8> = (0..used).flat_map(|_| 1_u16.to_be_bytes()).collect();
    file.write_all_at(&counts, 2 * CLUSTER)?;
    for (place, table) in tables.iter().enumerate() {
        let entry = ((seconds + place as u64) * CLUSTER) | COPIED;
        file.write_all_at(&entry.to_be_bytes(), 3 * CLUSTER + table * 8)?;
    }
    let mut buffer = vec![0; CLUSTER as usize];
    for (place, cluster) in clusters.iter().enumerate() {
        let at = (contents + place as u64) * CLUSTER;
        let table = tables.binary_search(&(cluster / ENTRIES)).unwrap_or(0) as u64;
        let entry = (at | COPIED).to_be_bytes();
        file.write_all_at(&entry, (seconds + table) * CLUSTER + cluster % ENTRIES * 8)?;
        let start = cluster * CLUSTER;
        let len = view.size().saturating_sub(start).min(CLUSTER) as usize;
        buffer.fill(0);
        view.read_at(start, &mut buffer[..len])
            .map_err(io::Error::other)?;
        file.write_all_at(&buffer, at)?;
    }
    Ok(())
}

fn clusters_of(changed: &[ByteRange]) -> Vec<u64> {
    let mut all: Vec<u64> = changed
        .iter()
        .flat_map(|range| range.start / CLUSTER..range.end.div_ceil(CLUSTER))
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

fn header(below: &[u8], size: u64, first_level: u64) -> Vec<u8> {
    let mut bytes = b"QFI\xfb".to_vec();
    let name_at = u64::from(HEADER) + 16 + 8;
    let put32 = |bytes: &mut Vec<u8>, value: u32| bytes.extend(value.to_be_bytes());
    put32(&mut bytes, 3);
    bytes.extend(name_at.to_be_bytes());
    put32(&mut bytes, below.len() as u32);
    put32(&mut bytes, CLUSTER_BITS);
    bytes.extend(size.to_be_bytes());
    // Not encrypted.
    put32(&mut bytes, 0);
    put32(&mut bytes, u32::try_from(first_level).unwrap_or(u32::MAX));
    bytes.extend((3 * CLUSTER).to_be_bytes());
    bytes.extend(CLUSTER.to_be_bytes());
    put32(&mut bytes, 1);
    // No snapshots, no features.
    put32(&mut bytes, 0);
    bytes.extend([0; 8 + 24]);
    // Numbers of references have 2^4 bits.
    put32(&mut bytes, 4);
    put32(&mut bytes, HEADER);
    put32(&mut bytes, BACKING_FORMAT);
    put32(&mut bytes, 3);
    bytes.extend(b"raw\0\0\0\0\0");
    // The end of the extensions.
    bytes.extend([0; 8]);
    bytes.extend(below);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use pinewrit_disk::MemoryDevice;

    #[test]
    fn a_changed_cluster_is_in_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("overlay");
        let view = MemoryDevice::new(1 << 20);
        view.write_at(CLUSTER * 3, &[7; 512]).unwrap();
        let changed = [ByteRange {
            start: CLUSTER * 3,
            end: CLUSTER * 3 + 512,
        }];
        create(&path, Path::new("/medium.img"), 8 << 30, &view, &changed).unwrap();
        let bytes = std::fs::read(&path).unwrap();
        assert_eq!(&bytes[..4], b"QFI\xfb");
        assert_eq!(&bytes[128..139], b"/medium.img");
        // Second level in cluster 4, content in 5.
        let entry = |at: usize| u64::from_be_bytes(bytes[at..at + 8].try_into().unwrap());
        assert_eq!(entry(3 * CLUSTER as usize), (4 * CLUSTER) | COPIED);
        assert_eq!(entry(4 * CLUSTER as usize + 3 * 8), (5 * CLUSTER) | COPIED);
        assert_eq!(&bytes[5 * CLUSTER as usize..][..512], &[7; 512]);
        assert_eq!(bytes.len() as u64, 6 * CLUSTER);
        assert!(
            create(&path, Path::new("/m"), 1 << 30, &view, &[]).is_err(),
            "it exists"
        );
    }
}
