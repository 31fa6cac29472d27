//! A medium as a copy of it will be: changes worked out over it, of which none reaches it.

use std::sync::Arc;

use pinewrit_disk::{
    BlockDevice, ByteRange, DiskError, FreeWrites, Overlay, Section, SectorSize, Window,
};
use pinewrit_firstboot::as_new::{self, AsNew, AsNewReport};
use pinewrit_firstboot::configure::ConfigureError;
use pinewrit_table::{PartitionSize, TableEdit, TableError};
use pinewrit_volume::check::fault;
use pinewrit_volume::files::FilesError;
use pinewrit_volume::resize::{ResizeError, ResizeReport, SizeLimits, resize, size_limits};
use pinewrit_volume::{Recovered, Site, Timestamp, probe, recover_all};
use schemars::JsonSchema;
use serde::Serialize;

use super::fills::largest;
use crate::inspect::{Inspection, inspect};

/// Partitions end at multiples of this many bytes, as they begin.
const ALIGNMENT: u64 = 1 << 20;

/// How a copy differs from its source.
#[derive(Clone, Debug, Default)]
pub struct ViewRequest {
    /// Without what makes the system one unit.
    pub as_new: Option<AsNew>,
    /// Its size.
    pub size: ViewSize,
    /// File systems that were cut off are finished in it.
    pub recovers: bool,
}

/// How large a copy is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ViewSize {
    /// As large as its source.
    #[default]
    Whole,
    /// It ends behind the last partition.
    ToLastPartition,
    /// At most this many bytes: the last file system becomes smaller if it has to.
    AtMost(u64),
    /// As small as its content allows, with this much spare room in the last file system, in bytes.
    Least(Spare),
}

/// Spare room: so many bytes, or a share of what is in use with a lower limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spare {
    /// So many bytes.
    Bytes(u64),
    /// This percentage of the smallest size, but at least so many bytes.
    Share {
        /// In percent.
        percent: u64,
        /// In bytes.
        least: u64,
    },
}

impl Default for Spare {
    fn default() -> Self {
        Self::Share {
            percent: 5,
            least: 64 << 20,
        }
    }
}

impl Spare {
    fn of(self, content: u64) -> u64 {
        match self {
            Self::Bytes(bytes) => bytes,
            Self::Share { percent, least } => (content / 100 * percent).max(least),
        }
    }
}

/// A file system that is smaller in the copy.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Shrunk {
    /// The partition's number; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// The partition's size before, in bytes.
    pub before: u64,
    /// The partition's size now, in bytes.
    pub size: u64,
    /// Its file system.
    pub filesystem: ResizeReport,
}

/// Why a copy cannot be made like this.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ViewError {
    /// The source could not be read.
    #[error(transparent)]
    Disk(#[from] DiskError),
    /// It cannot be made as new.
    #[error(transparent)]
    AsNew(ConfigureError),
    /// Its table cannot be changed.
    #[error(transparent)]
    Table(TableError),
    /// It does not fit, and cannot be made smaller.
    #[error("{what} does not fit in {size} bytes: {why}")]
    NotSmaller {
        /// The partition in words, or the medium.
        what: String,
        /// The size of the target in bytes.
        size: u64,
        /// Why it cannot be made smaller.
        why: String,
    },
    /// It would not be sound if it were smaller.
    #[error("{what} would not be sound if it were smaller: {why}")]
    Unsound {
        /// The partition in words.
        what: String,
        /// What would be wrong with it.
        why: String,
    },
    /// It does not fit even at its smallest.
    #[error("partition {partition} needs {least} bytes at least, {room} are left for it")]
    TooFull {
        /// The partition's number.
        partition: u32,
        /// The smallest size of its file system, in bytes.
        least: u64,
        /// What is left for it on the target, in bytes.
        room: u64,
        /// The smallest medium in bytes that the copy would fit on.
        medium: u64,
        /// The directories that hold most, with their bytes.
        fills: Vec<(String, u64)>,
    },
}

impl From<TableError> for ViewError {
    fn from(error: TableError) -> Self {
        match error {
            TableError::Disk(error) => Self::Disk(error),
            error => Self::Table(error),
        }
    }
}

impl From<ConfigureError> for ViewError {
    fn from(error: ConfigureError) -> Self {
        match error {
            ConfigureError::Disk(error) => Self::Disk(error),
            error => Self::AsNew(error),
        }
    }
}

/// What a copy is made of.
pub struct CopyView {
    /// The copy as a device, to be read.
    pub device: Arc<dyn BlockDevice>,
    /// What is on it.
    pub content: Inspection,
    /// What was finished in file systems that were cut off.
    pub recovered: Vec<Recovered>,
    /// What was taken away.
    pub as_new: Option<AsNewReport>,
    /// What became smaller.
    pub shrunk: Option<Shrunk>,
    /// Why nothing became smaller, although it should be as small as possible.
    pub stays: Option<String>,
}

type Changes = Overlay<Arc<dyn BlockDevice>>;

impl CopyView {
    /// Works out a copy of `source`, which is only read; changes get the time `now`.
    ///
    /// # Errors
    /// [`ViewError`].
    pub fn new(
        source: Arc<dyn BlockDevice>,
        request: &ViewRequest,
        now: Timestamp,
    ) -> Result<Self, ViewError> {
        let overlay: Changes = Overlay::new(source).with_free_writes(FreeWrites::Referenced);
        let recovered = if request.recovers {
            recover_all(&overlay, now)?
        } else {
            Vec::new()
        };
        let as_new = match &request.as_new {
            None => None,
            Some(wanted) => {
                let mut site = Site::new(&overlay, now);
                let report = as_new::apply(&mut site, wanted)?;
                site.settle().map_err(ConfigureError::from)?;
                Some(report)
            }
        };
        let Fitted { end, shrunk, stays } = fit(&overlay, request.size, now)?;
        let whole = overlay.size();
        let device: Arc<dyn BlockDevice> = if end == whole {
            Arc::new(overlay)
        } else {
            let range = ByteRange { start: 0, end };
            Arc::new(Section::new(Box::new(overlay), range))
        };
        Ok(Self {
            content: inspect(&*device, Some(end))?,
            device,
            recovered,
            as_new,
            shrunk,
            stays,
        })
    }

    /// Its size in bytes.
    pub fn size(&self) -> u64 {
        self.device.size()
    }

    /// Sectors in which its table counts.
    pub fn sector(&self) -> SectorSize {
        self.device.logical_sector()
    }
}

/// Where a copy ends, and what happened to its last file system.
struct Fitted {
    end: u64,
    shrunk: Option<Shrunk>,
    stays: Option<String>,
}

impl Fitted {
    fn unchanged(end: u64) -> Self {
        Self {
            end,
            shrunk: None,
            stays: None,
        }
    }
}

/// Makes the last file system and its partition as small as they have to be, and ends the copy
/// behind it.
fn fit(overlay: &Changes, size: ViewSize, now: Timestamp) -> Result<Fitted, ViewError> {
    let whole = overlay.size();
    let table = match TableEdit::read(overlay) {
        _ if size == ViewSize::Whole => return Ok(Fitted::unchanged(whole)),
        Ok(table) => table,
        Err(TableError::NoTable) => return fit_whole(overlay, size, now),
        // What is not understood is copied as it is.
        Err(TableError::Disk(error)) => return Err(error.into()),
        Err(why) => return must_be_whole(whole, size, "the medium", &why.to_string()),
    };
    let Some(last) = table.partitions().last().cloned() else {
        return must_be_whole(whole, size, "the medium", "it has no partition");
    };
    let bytes = overlay.logical_sector().bytes();
    let range = ByteRange {
        start: last.first.0 * bytes,
        end: (last.first.0 + last.sectors) * bytes,
    };
    let behind = table.least_size() - range.end;
    let wanted = match size {
        ViewSize::Whole | ViewSize::ToLastPartition => None,
        ViewSize::AtMost(most) if table.least_size() <= most => None,
        ViewSize::AtMost(most) => Some(Wanted::Room(most.saturating_sub(range.start + behind))),
        ViewSize::Least(spare) => Some(Wanted::Spare(spare)),
    };
    let (mut shrunk, mut stays) = (None, None);
    if let Some(wanted) = wanted {
        let place = Place {
            partition: last.number,
            range,
            behind,
        };
        match shrink_partition(overlay, table, &place, &wanted, now) {
            Ok(done) => shrunk = done,
            // As small as it can be: nothing has to change.
            Err(ViewError::NotSmaller { what, why, .. }) if wanted.is_modest() => {
                stays = Some(format!("{what}: {why}"));
            }
            Err(error) => return Err(error),
        }
    }
    let mut table = TableEdit::read(overlay)?;
    let end = table.least_size().min(whole);
    table.fit_to(end)?;
    let inside = ByteRange { start: 0, end };
    if end < whole || shrunk.is_some() {
        table.write(&Window::new(overlay, inside))?;
    }
    Ok(Fitted { end, shrunk, stays })
}

enum Wanted {
    /// The partition has this many bytes.
    Room(u64),
    Spare(Spare),
}

impl Wanted {
    /// Whether a copy that is not smaller will do.
    fn is_modest(&self) -> bool {
        matches!(self, Self::Spare(_))
    }
}

struct Place {
    partition: u32,
    range: ByteRange,
    /// Bytes that follow the last partition: the backup of a GPT.
    behind: u64,
}

fn shrink_partition(
    overlay: &Changes,
    mut table: TableEdit,
    place: &Place,
    wanted: &Wanted,
    now: Timestamp,
) -> Result<Option<Shrunk>, ViewError> {
    let window = Window::new(overlay, place.range);
    let kept = |why: String| {
        Err(ViewError::NotSmaller {
            what: format!("partition {}", place.partition),
            size: match wanted {
                Wanted::Room(room) => *room,
                Wanted::Spare(_) => place.range.len(),
            },
            why,
        })
    };
    if let Some(why) = fault(&window)? {
        return kept(why);
    }
    let limits: SizeLimits = match size_limits(&window) {
        Ok(limits) => limits,
        Err(ResizeError::Files(FilesError::Disk(error))) => return Err(error.into()),
        Err(why) => return kept(why.to_string()),
    };
    let room = match wanted {
        Wanted::Room(room) => *room,
        Wanted::Spare(spare) => {
            let size = limits.least + spare.of(limits.least);
            size.next_multiple_of(ALIGNMENT)
        }
    };
    let room = room / ALIGNMENT * ALIGNMENT;
    let before = place.range.len();
    if room >= before {
        return Ok(None);
    }
    if room < limits.least {
        let least = limits.least.next_multiple_of(ALIGNMENT);
        return Err(ViewError::TooFull {
            partition: place.partition,
            least: limits.least,
            room,
            medium: place.range.start + least + place.behind,
            // It is only a help.
            fills: largest(&window).unwrap_or_default(),
        });
    }
    let filesystem = if limits.now > room {
        let done = resize(&window, room, now);
        match done {
            Ok(done) => done,
            Err(ResizeError::Files(error)) => match error.into_disk() {
                Ok(error) => return Err(error.into()),
                Err(error) => return kept(error.to_string()),
            },
            Err(why) => return kept(why.to_string()),
        }
    } else {
        ResizeReport {
            kind: limits.kind,
            before: limits.now,
            size: limits.now,
            moved: 0,
        }
    };
    table.resize(place.partition, PartitionSize::Bytes(room))?;
    table.write(overlay)?;
    let after = Window::new(
        overlay,
        ByteRange {
            start: place.range.start,
            end: place.range.start + room,
        },
    );
    if let Some(why) = fault(&after)? {
        let what = format!("partition {}", place.partition);
        return Err(ViewError::Unsound { what, why });
    }
    Ok(Some(Shrunk {
        partition: Some(place.partition),
        before,
        size: room,
        filesystem,
    }))
}

/// A file system that fills a medium without a table.
fn fit_whole(overlay: &Changes, size: ViewSize, now: Timestamp) -> Result<Fitted, ViewError> {
    let whole = overlay.size();
    let everything = ByteRange {
        start: 0,
        end: whole,
    };
    let window = Window::new(overlay, everything);
    let kind = probe(&window)?.map(|facts| facts.kind);
    let Some(kind) = kind.filter(|kind| kind.has_files()) else {
        return must_be_whole(whole, size, "the medium", "it has no partition table");
    };
    if let Some(why) = fault(&window)? {
        return must_be_whole(whole, size, kind.word(), &why);
    }
    let limits = match size_limits(&window) {
        Ok(limits) => limits,
        Err(why) => return must_be_whole(whole, size, kind.word(), &why.to_string()),
    };
    let wanted = match size {
        ViewSize::AtMost(most) => most.min(limits.now),
        ViewSize::Least(spare) => (limits.least + spare.of(limits.least))
            .next_multiple_of(ALIGNMENT)
            .min(limits.now),
        ViewSize::Whole | ViewSize::ToLastPartition => limits.now,
    };
    if wanted >= limits.now {
        return Ok(Fitted::unchanged(limits.now.min(whole)));
    }
    match resize(&window, wanted, now) {
        Ok(filesystem) => Ok(Fitted {
            end: wanted,
            shrunk: Some(Shrunk {
                partition: None,
                before: whole,
                size: wanted,
                filesystem,
            }),
            stays: None,
        }),
        Err(why) => must_be_whole(whole, size, kind.word(), &why.to_string()),
    }
}

/// What cannot be made smaller is copied as it is, if that is possible.
fn must_be_whole(whole: u64, size: ViewSize, what: &str, why: &str) -> Result<Fitted, ViewError> {
    match size {
        ViewSize::AtMost(most) if most < whole => Err(ViewError::NotSmaller {
            what: what.to_owned(),
            size: most,
            why: why.to_owned(),
        }),
        _ => Ok(Fitted {
            end: whole,
            shrunk: None,
            stays: matches!(size, ViewSize::Least(_)).then(|| format!("{what}: {why}")),
        }),
    }
}
