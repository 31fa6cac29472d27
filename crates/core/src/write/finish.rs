//! The end of a write: settings, growth, and the first chunk last.

use pinewrit_disk::{
    AlignedBuf, BlockDevice, ByteRange, CHUNK_SIZE, DiskError, OVERLAY_BLOCK, Overlay, Ranges,
};
use pinewrit_firstboot::as_new::{self, AsNewReport};
use pinewrit_firstboot::configure::{self, ConfigureReport};
use pinewrit_settings::CheckedSettings;
use pinewrit_table::TableError;
use pinewrit_volume::grow::{self, GrowReport};
use pinewrit_volume::{Recovered, Site, recover_all};

use super::WriteOrder;
use super::report::{ChunkRecord, WriteError};
use super::state::State;
use super::work::{Bench, REQUEST};
use crate::Stage;
use crate::renew::{RenewReport, renew};
use crate::verify::Found;

/// Bytes at the medium's end that are cleared before writing. The backup of a GPT takes 33
/// sectors there, of up to 4096 bytes.
const TAIL: u64 = 1 << 20;

/// Removes every trace of a partition table from the medium: the first chunk, and the end, where
/// the backup of a GPT would restore the old table.
pub(super) fn clear_tables(medium: &dyn BlockDevice) -> Result<(), DiskError> {
    let size = medium.size();
    let tail = ByteRange {
        start: size.saturating_sub(TAIL),
        end: size,
    };
    clear_head(medium)?;
    medium.zero(tail)?;
    medium.flush()
}

/// Clears the first chunk.
pub(super) fn clear_head(medium: &dyn BlockDevice) -> Result<(), DiskError> {
    medium.zero(ByteRange {
        start: 0,
        end: medium.size().min(CHUNK_SIZE as u64),
    })
}

/// What was done besides writing the image.
#[derive(Default)]
pub(super) struct Finished {
    /// What file systems of the image had left to do.
    pub(super) recovered: Vec<Recovered>,
    pub(super) as_new: Option<AsNewReport>,
    pub(super) configured: Option<ConfigureReport>,
    pub(super) renewed: Option<RenewReport>,
    pub(super) grown: Option<GrowReport>,
    /// Why the last partition was left as it is.
    pub(super) not_grown: Option<String>,
}

/// Writes the settings and then the first chunk to the medium, both through an overlay: the changes
/// outside the first chunk are flushed and verified before it.
pub(super) fn finish(
    target: &WriteOrder<'_>,
    verify: bool,
    bench: &Bench<'_>,
    state: &mut State,
) -> Result<Finished, WriteError> {
    let medium = target.medium;
    let overlay = Overlay::new(medium);
    overlay.write_at(0, &state.first)?;
    let mut finished = Finished::default();
    if target.changes_content() {
        finished.recovered = recover_all(&overlay, target.now)?;
    }
    if target.grow {
        let grown = if target.is_partition {
            grow::grow_whole(&overlay, target.now)
        } else {
            grow::grow(&overlay, target.now)
        };
        match grown {
            Ok(grown) => finished.grown = Some(grown),
            Err(TableError::Disk(error)) => return Err(error.into()),
            // The medium is just as good without it.
            Err(why) => finished.not_grown = Some(why.to_string()),
        }
    }
    if let Some(wanted) = target.as_new {
        target.observer.stage(Stage::Configure, None);
        let mut site = Site::new(&overlay, target.now);
        let report = as_new::apply(&mut site, wanted).map_err(WriteError::AsNew)?;
        site.settle()
            .map_err(|error| WriteError::AsNew(error.into()))?;
        finished.as_new = Some(report);
    }
    if let Some(settings) = target.settings {
        target.observer.stage(Stage::Configure, None);
        // It has just been grown, if requested.
        let rest = CheckedSettings {
            grows_root: settings.grows_root && !target.grow,
            ..settings.clone()
        };
        let mut site = Site::new(&overlay, target.now);
        let report = configure::apply(&mut site, &rest).map_err(WriteError::Configure)?;
        site.settle()
            .map_err(|error| WriteError::Configure(error.into()))?;
        if target.needs_way_in && report.has_way_in == Some(false) {
            return Err(WriteError::NoWayIn);
        }
        finished.configured = Some(report);
    }
    if let Some(mut random) = target.new_ids {
        target.observer.stage(Stage::Configure, None);
        let report = renew(&overlay, &mut random, target.now);
        finished.renewed = Some(report.map_err(WriteError::Renew)?);
    }
    target.observer.stage(Stage::Finish, None);
    if !target.observer.may_finish() {
        return Err(WriteError::Cancelled);
    }
    let first = ByteRange {
        start: 0,
        end: state.first.len() as u64,
    };
    // The table's own block is written after the rest of the first chunk; a block is the smallest
    // unit.
    let middle = first.end.min(OVERLAY_BLOCK as u64);
    let (table, rest) = (
        ByteRange {
            start: 0,
            end: middle,
        },
        ByteRange {
            start: middle,
            end: first.end,
        },
    );
    let changed = overlay.changed()?;
    let committed = overlay
        .commit(&[rest, table], None)
        .map_err(WriteError::from);
    let checked = committed.and_then(|_| {
        if verify {
            check_first(medium, &overlay, first)
        } else {
            Ok(())
        }
    });
    let recorded = checked.and_then(|()| record_changes(&changed, bench, &mut state.records));
    if let Err(error) = recorded {
        // Half a first chunk must not be taken for a whole one.
        clear_tables(medium).map_err(WriteError::Clear)?;
        return Err(error);
    }
    // The first chunk has been written, as the last step.
    state.written += state.records.first().map_or(0, ChunkRecord::used_bytes);
    Ok(finished)
}

/// Compares the whole first chunk past the cache: the overlay has only checked what it wrote.
fn check_first(
    medium: &dyn BlockDevice,
    overlay: &dyn BlockDevice,
    first: ByteRange,
) -> Result<(), WriteError> {
    let mut expected = vec![0; first.len() as usize];
    overlay.read_at(0, &mut expected)?;
    let mut back = AlignedBuf::new(expected.len());
    medium.forget_cache(first);
    medium.read_at(0, &mut back)?;
    let mut found = Found::default();
    found.add(0, &expected, &back);
    match found.span {
        None => Ok(()),
        Some((first, _)) => Err(WriteError::differs(first, 1, Some(found.bytes))),
    }
}

/// Updates the records of changed chunks with what the medium holds now: the changes have been read
/// back, and the rest was read back before.
fn record_changes(
    changed: &[ByteRange],
    bench: &Bench<'_>,
    records: &mut Vec<ChunkRecord>,
) -> Result<(), WriteError> {
    let chunk = CHUNK_SIZE as u64;
    let mut touched: Vec<u64> = changed
        .iter()
        .flat_map(|range| range.start / chunk..range.end.div_ceil(chunk))
        .collect();
    touched.push(0);
    touched.sort_unstable();
    touched.dedup();
    let mut buffer = AlignedBuf::new(REQUEST);
    for index in touched {
        let own = ByteRange {
            start: index * chunk,
            end: (index + 1) * chunk,
        };
        let place = records.binary_search_by_key(&index, |record| record.index);
        let mut used = place.map_or(Vec::new(), |place| records[place].used.clone());
        used.extend(changed.iter().filter_map(|range| range.intersection(own)));
        let used = Ranges::joined(used, 0).into_vec();
        let digest = bench.digest(&used, &mut buffer)?.0;
        let record = ChunkRecord {
            index,
            used,
            digest,
        };
        match place {
            Ok(place) => records[place] = record,
            Err(place) => records.insert(place, record),
        }
    }
    Ok(())
}
