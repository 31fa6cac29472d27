//! Which file owns a byte, found by following every file's chain.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Sought};

use crate::error::FatError;
use crate::geometry::Geometry;
use crate::store::{Source, Store};
use crate::table::Link;
use crate::tree::{Node, Tree};

/// The most files and folders to visit; more than any boot partition has.
const MOST_NODES: usize = 1_000_000;

/// Who owns a place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Owner {
    /// Structures of the file system itself, in words.
    Metadata(&'static str),
    /// A file or folder, by its path.
    File(String),
}

/// Who owns the wanted places: each owner once, with the first wanted byte in it, ordered by that
/// byte. Damaged folders are skipped.
///
/// # Errors
/// The device failed.
pub fn owners(
    device: &dyn BlockDevice,
    geometry: &Geometry,
    sought: &mut Sought,
) -> Result<Vec<(u64, Owner)>, DiskError> {
    let store = Store::new(device, *geometry);
    let mut found = Vec::new();
    let tables = geometry.root_directory.start;
    let parts = [
        (0, geometry.table.start, "the boot sector"),
        (geometry.table.start, tables, "the allocation table"),
        (tables, geometry.data_start, "the root directory"),
    ];
    for (start, end, what) in parts {
        let range = ByteRange::new(start, end);
        let first = range.and_then(|range| sought.take(range));
        found.extend(first.map(|first| (first, Owner::Metadata(what))));
    }
    let tree = Tree::new(&store);
    let root = tree.root();
    if let Some(first) = take(&store, &root, sought)? {
        found.push((first, Owner::Metadata("the root directory")));
    }
    let mut open = vec![(String::new(), root)];
    let mut left = MOST_NODES;
    while let Some((above, folder)) = open.pop() {
        let inside = match tree.list(&folder) {
            Err(FatError::Disk(error)) => return Err(error),
            inside => inside.unwrap_or_default(),
        };
        for node in inside {
            if left == 0 {
                break;
            }
            left -= 1;
            let path = format!("{above}/{}", node.name);
            if let Some(first) = take(&store, &node, sought)? {
                found.push((first, Owner::File(path.clone())));
            }
            if node.is_folder {
                open.push((path, node));
            }
        }
    }
    found.sort_by_key(|(first, _)| *first);
    Ok(found)
}

/// The first wanted byte of a file. A looping chain is abandoned once it is longer than the file
/// system.
fn take(
    store: &Store<&dyn BlockDevice>,
    node: &Node,
    sought: &mut Sought,
) -> Result<Option<u64>, DiskError> {
    let geometry = &store.geometry;
    let mut hit: Option<u64> = None;
    let mut at = node.first;
    for _ in 0..geometry.clusters {
        if !geometry.has(at) {
            break;
        }
        let own = sought.take(geometry.place(at));
        hit = hit.into_iter().chain(own).min();
        at = match store.link(at) {
            Ok(Link::Next(next)) => next,
            Err(FatError::Disk(error)) => return Err(error),
            _ => break,
        };
    }
    Ok(hit)
}
