//! The copy of a medium that is being rescued: its metadata first, then everything in use.

use std::sync::Arc;

use pinewrit_core::Observer;
use pinewrit_core::copy::{CopyView, ViewError, ViewRequest};
use pinewrit_core::write::{Owned, OwnerKind, owners};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Overlay, Ranges};
use pinewrit_table::PartitionTable;
use pinewrit_volume::Timestamp;
use pinewrit_volume::extents::MapTracker;
use schemars::JsonSchema;
use serde::Serialize;

use crate::device::Rescue;
use crate::mend::{GPT_SECTORS, Mended, Noting, mend};
use crate::passes::{Limits, RescueError};

/// After so many rounds of metadata that shows more metadata, it is what it is.
const ROUNDS: usize = 6;

/// What a rescue came to.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct RescueReport {
    /// Bytes that are in use.
    pub used_bytes: u64,
    /// Bytes of them that could not be read, and are zeros.
    pub missing_bytes: u64,
    /// Where those are, in ascending order: `[start, end)` in bytes of the medium.
    pub missing: Vec<[u64; 2]>,
    /// What lies there: the table, then structures of file systems, then directories and files.
    pub hits: Vec<Hit>,
    /// What was taken from its copy.
    pub mended: Vec<Mended>,
}

impl RescueReport {
    /// Whether everything in use has been read, or mended.
    pub fn is_whole(&self) -> bool {
        self.missing.is_empty()
    }
}

/// Something of which a part is missing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Hit {
    /// The partition's number; `None` outside of all.
    pub partition: Option<u32>,
    /// What it is.
    pub kind: HitKind,
    /// Its path, or its name in words.
    pub name: String,
}

/// What is hit, the worst first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HitKind {
    /// The partition table.
    Table,
    /// A root directory.
    Root,
    /// A structure of a file system.
    Structure,
    /// A file or another directory.
    File,
    /// Something that is not known.
    Unknown,
}

/// Why there is no copy.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RescueViewError {
    /// The rescue stopped.
    #[error(transparent)]
    Rescue(#[from] RescueError),
    /// The copy cannot be like this.
    #[error(transparent)]
    View(#[from] ViewError),
}

impl From<DiskError> for RescueViewError {
    fn from(error: DiskError) -> Self {
        Self::Rescue(error.into())
    }
}

/// Works out the copy of a medium, and reads everything of it that is in use as far as it can be read.
///
/// # Errors
/// [`RescueViewError`]. What was read is kept.
pub fn rescued_view(
    rescue: &Arc<Rescue>,
    request: &ViewRequest,
    (limits, observer): (&Limits, &dyn Observer),
    now: Timestamp,
) -> Result<(CopyView, RescueReport), RescueViewError> {
    rescue.take_guessed();
    for _ in 0..ROUNDS {
        let (view, mended, replaced) = view_of(rescue, request, now)?;
        let wanted = wanted_of(&*view.device)?;
        // What is in use is only known once the metadata is as good as it can be.
        let guessed = Ranges::joined(rescue.take_guessed(), 0).into_vec();
        rescue.gather(&guessed, limits, observer)?;
        if rescue.unread(&guessed) != guessed {
            continue;
        }
        rescue.gather(&wanted, limits, observer)?;
        if rescue.unread(&guessed) == guessed {
            let report = report(rescue, &view, (wanted, &replaced), mended);
            return Ok((view, report));
        }
    }
    let (view, mended, replaced) = view_of(rescue, request, now)?;
    let wanted = wanted_of(&*view.device)?;
    let report = report(rescue, &view, (wanted, &replaced), mended);
    Ok((view, report))
}

/// The copy as it is with what has been read, what was mended in it, and where.
fn view_of(
    rescue: &Arc<Rescue>,
    request: &ViewRequest,
    now: Timestamp,
) -> Result<(CopyView, Vec<Mended>, Vec<ByteRange>), RescueViewError> {
    let medium: Arc<dyn BlockDevice> = Arc::clone(rescue) as Arc<dyn BlockDevice>;
    let overlay = Overlay::new(medium);
    let noting = Noting::new(&overlay);
    let mended = mend(&noting, &|range| rescue.unread(&[range]))?;
    let replaced = noting.into_written();
    let view = CopyView::new(Arc::new(overlay), request, now)?;
    Ok((view, mended, replaced))
}

/// What is in use.
fn wanted_of(device: &dyn BlockDevice) -> Result<Vec<ByteRange>, DiskError> {
    let size = device.size();
    let tracker = MapTracker::new(Some(size), device.logical_sector());
    let used = tracker.ahead(device);
    let whole = ByteRange {
        start: 0,
        end: size,
    };
    Ok(used.unwrap_or_else(|| vec![whole]))
}

fn report(
    rescue: &Rescue,
    view: &CopyView,
    (wanted, replaced): (Vec<ByteRange>, &[ByteRange]),
    mended: Vec<Mended>,
) -> RescueReport {
    let replaced = Ranges::joined(replaced.to_vec(), 0);
    let lost = rescue.unread(&wanted).into_iter();
    let missing: Vec<ByteRange> = lost.flat_map(|range| replaced.gaps(range)).collect();
    let bytes = |ranges: &[ByteRange]| ranges.iter().map(|one| one.len()).sum();
    RescueReport {
        used_bytes: bytes(&wanted),
        missing_bytes: bytes(&missing),
        hits: hits(&*view.device, &missing),
        missing: missing.iter().map(|one| [one.start, one.end]).collect(),
        mended,
    }
}

fn hits(device: &dyn BlockDevice, missing: &[ByteRange]) -> Vec<Hit> {
    let sector = device.logical_sector().bytes();
    let is_gpt = PartitionTable::read(device)
        .ok()
        .flatten()
        .is_some_and(|table| matches!(table.scheme, pinewrit_table::Scheme::Gpt { .. }));
    let table = if is_gpt { GPT_SECTORS * sector } else { sector };
    let mut hits: Vec<Hit> = owners(device, missing)
        .into_iter()
        .filter(|one| one.kind != OwnerKind::Free)
        .map(|one| hit(one, table))
        .collect();
    hits.sort_by_key(|hit| hit.kind);
    hits.dedup();
    hits
}

fn hit(owned: Owned, table: u64) -> Hit {
    let (kind, name) = match owned.kind {
        _ if owned.partition.is_none() && owned.first < table => {
            (HitKind::Table, "the partition table".to_owned())
        }
        OwnerKind::File if owned.owner == "/" => (HitKind::Root, owned.owner),
        OwnerKind::File => (HitKind::File, owned.owner),
        OwnerKind::Metadata => (HitKind::Structure, owned.owner),
        _ => (HitKind::Unknown, owned.owner),
    };
    Hit {
        partition: owned.partition,
        kind,
        name,
    }
}
