//! Where on a medium something is: in which partition, and in which file.

use pinewrit_disk::{BlockDevice, ByteRange, Overlay, Window};
use pinewrit_ext4::{Owner, Volume};
use pinewrit_image::ImageSource;
use pinewrit_table::PartitionTable;

use super::report::{ChunkRecord, Whereabouts};
use crate::Cancel;
use crate::extents::MapTracker;
use crate::filesystem::{FatGeometry, fat_owner};
use crate::pipeline::{Chunk, SourcePosition, WantedSums, stream_chunks};
use crate::verify::Found;

/// What is at `offset` of a medium. `first` is what belongs into its first chunk, where the table
/// may not be on the medium yet. Whatever cannot be read is left open.
pub fn whereabouts(medium: &dyn BlockDevice, first: &[u8], offset: u64) -> Whereabouts {
    let overlay = Overlay::new(medium);
    if overlay.write_at(0, first).is_err() {
        return Whereabouts::default();
    }
    let table = PartitionTable::read(&overlay).ok().flatten();
    let (partition, range) = match &table {
        None => (
            None,
            ByteRange {
                start: 0,
                end: overlay.size(),
            },
        ),
        Some(table) => match table.partition_at(offset) {
            Some(partition) => (Some(partition.number), partition.range),
            None => {
                return Whereabouts {
                    partition: None,
                    owner: Some("before or between the partitions".to_owned()),
                };
            }
        },
    };
    let end = range.end.min(overlay.size());
    let window = Window::new(
        &overlay,
        ByteRange {
            start: range.start,
            end,
        },
    );
    Whereabouts {
        partition,
        owner: owner(&window, offset - range.start),
    }
}

fn owner(window: &dyn BlockDevice, offset: u64) -> Option<String> {
    if let Ok(Some(geometry)) = FatGeometry::read(window) {
        return fat_owner::owner_at(window, &geometry, offset).ok();
    }
    let volume = Volume::open(window).ok()?;
    Some(match volume.owner_at(offset).ok()? {
        Owner::File(path) => path,
        Owner::Metadata(what) => what.to_owned(),
        _ => "free space".to_owned(),
    })
}

/// Compares one chunk of a medium with the image once more; returns the first differing byte and
/// how many there are. `None` if the source cannot be read again.
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
        // Enough was seen.
        Err(())
    };
    let (tracker, position) = (MapTracker::every_byte(), SourcePosition::default());
    let sums = WantedSums::default();
    let _ = stream_chunks(source, sums, tracker, &position, cancel, take);
    found.span.map(|(first, _)| (first, found.bytes))
}
