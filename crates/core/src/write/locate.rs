//! Where something is on a medium: in which partition, and in which file.

use pinewrit_disk::{BlockDevice, ByteRange, Overlay, Sought, Window};
use pinewrit_ext4::{Owner, Volume};
use pinewrit_fat as fat;
use pinewrit_image::ImageSource;
use pinewrit_table::PartitionTable;
use pinewrit_volume::extents::MapTracker;

use super::report::{ChunkRecord, Owned, OwnerKind, Whereabouts};
use crate::Cancel;
use crate::pipeline::{BUFFERS, Chunk, SourcePosition, WantedSums, stream_chunks};
use crate::verify::Found;

/// What is at `offset` of a medium. `first` is the content of its first chunk, in case the table is
/// not on the medium yet. What cannot be read stays unknown.
pub fn whereabouts(medium: &dyn BlockDevice, first: &[u8], offset: u64) -> Whereabouts {
    let overlay = Overlay::new(medium);
    if overlay.write_at(0, first).is_err() {
        return Whereabouts::default();
    }
    let range = ByteRange {
        start: offset,
        end: offset.saturating_add(1),
    };
    let found = owners(&overlay, &[range]).into_iter().next();
    found.map_or_else(Whereabouts::default, |owned| Whereabouts {
        partition: owned.partition,
        owner: Some(owned.owner).filter(|owner| !owner.is_empty()),
    })
}

/// What uses places on a medium: files by their path, structures of file systems, free space; each
/// once, ordered by its start. What cannot be read is left out.
pub fn owners(medium: &dyn BlockDevice, ranges: &[ByteRange]) -> Vec<Owned> {
    let table = PartitionTable::read(medium).ok().flatten();
    let size = medium.size();
    let mut parts: Vec<(Option<u32>, ByteRange)> = match &table {
        None => vec![(
            None,
            ByteRange {
                start: 0,
                end: size,
            },
        )],
        Some(table) => table
            .partitions
            .iter()
            .filter_map(|partition| {
                let range = partition.range;
                let range = ByteRange::new(range.start, range.end.min(size))?;
                Some((Some(partition.number), range))
            })
            .collect(),
    };
    parts.sort_by_key(|(_, range)| *range);
    let mut all = Sought::new(ranges.to_vec());
    let mut owned = Vec::new();
    for (partition, range) in parts {
        if all.take(range).is_none() {
            continue;
        }
        let inside = ranges.iter().filter_map(|one| one.intersection(range));
        let inside = inside.map(|one| ByteRange {
            start: one.start - range.start,
            end: one.end - range.start,
        });
        let window = Window::new(medium, range);
        let found = owners_in(&window, Sought::new(inside.collect()));
        owned.extend(found.into_iter().map(|(first, kind, owner)| Owned {
            partition,
            kind,
            owner,
            first: range.start + first,
        }));
    }
    owned.extend(all.left().next().map(|range| Owned {
        partition: None,
        kind: OwnerKind::Between,
        owner: "before or between the partitions".to_owned(),
        first: range.start,
    }));
    owned.sort_by_key(|one| one.first);
    owned
}

fn owners_in(window: &dyn BlockDevice, mut sought: Sought) -> Vec<(u64, OwnerKind, String)> {
    let mut found = Vec::new();
    if let Ok(Some(geometry)) = fat::Geometry::read(window) {
        let owners = fat::owners(window, &geometry, &mut sought).unwrap_or_default();
        found.extend(owners.into_iter().map(|(first, owner)| match owner {
            fat::Owner::File(path) => (first, OwnerKind::File, path),
            fat::Owner::Metadata(what) => (first, OwnerKind::Metadata, what.to_owned()),
        }));
    } else if let Ok(volume) = Volume::open(window) {
        let owners = volume.owners(&mut sought).unwrap_or_default();
        found.extend(owners.into_iter().map(|(first, owner)| match owner {
            Owner::File(path) => (first, OwnerKind::File, path),
            Owner::Metadata(what) => (first, OwnerKind::Metadata, what.to_owned()),
            _ => (first, OwnerKind::Free, "free space".to_owned()),
        }));
    } else {
        // A file system that is not supported, or none.
        let first = sought.left().next().map(|range| range.start);
        return first.map_or(Vec::new(), |first| {
            vec![(first, OwnerKind::Unknown, String::new())]
        });
    }
    let free = sought.left().next();
    found.extend(free.map(|range| (range.start, OwnerKind::Free, "free space".to_owned())));
    found
}

/// Compares one chunk of a medium with the image again; returns the first differing byte and how
/// many differ. `None` if the source cannot be read again.
pub(super) fn count_differences(
    source: &ImageSource,
    medium: &dyn BlockDevice,
    bad: &ChunkRecord,
    cancel: &Cancel,
) -> Option<(u64, u64)> {
    let mut found = Found::default();
    let take = |chunk: Chunk| {
        if chunk.index < bad.index {
            return Ok(());
        }
        for &range in &bad.used {
            let mut back = vec![0; range.len() as usize];
            medium.forget_cache(range);
            if medium.read_at(range.start, &mut back).is_ok() {
                found.add(range.start, chunk.slice(range), &back);
            }
        }
        // This is enough.
        Err(())
    };
    let (tracker, position) = (MapTracker::every_byte(), SourcePosition::default());
    let sums = WantedSums::default();
    let _ = stream_chunks(source, (sums, BUFFERS), tracker, &position, cancel, take);
    found.span.map(|(first, _)| (first, found.bytes))
}
