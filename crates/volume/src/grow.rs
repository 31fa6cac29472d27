//! Growing the last partition of a written image to the end of its medium, and its file system.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Overlay, Window};
use pinewrit_ext4::{CheckError, EditError, Editor, ExtError, Growth, Timestamp, check};
use pinewrit_table::TableError;
use schemars::JsonSchema;
use serde::Serialize;

use crate::{FilesystemKind, probe};

/// The most bytes of inode tables to zero, for file systems that cannot defer that; changes are
/// kept in memory until they are committed.
const MAX_ZEROED: u64 = 64 << 20;

/// What was grown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct GrowReport {
    /// The partition's number; `None` if there is no table, and only a file system grew.
    pub partition: Option<u32>,
    /// Its size before, in bytes.
    pub before: u64,
    /// Its size now, in bytes.
    pub size: u64,
    /// The file system in it, if there is one.
    pub filesystem: Option<FilesystemGrowth>,
}

/// What happened to the file system in a grown partition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FilesystemGrowth {
    /// Its kind.
    pub kind: FilesystemKind,
    /// Its size now, in bytes, if it was grown or already fills its partition.
    pub size: Option<u64>,
    /// Why it has kept its size.
    pub kept_because: Option<String>,
}

/// Grows the last partition on `device` to its end, and an ext2, ext3 or ext4 file system in it.
///
/// # Errors
/// [`TableError`]; nothing was changed unless the device failed.
pub fn grow(device: &dyn BlockDevice, now: Timestamp) -> Result<GrowReport, TableError> {
    let grown = pinewrit_table::grow_last(device)?;
    let range = ByteRange {
        start: grown.before.start,
        end: grown.end,
    };
    Ok(GrowReport {
        partition: Some(grown.number),
        before: grown.before.len(),
        size: range.len(),
        filesystem: grow_filesystem(&Window::new(device, range), now)?,
    })
}

/// Grows a file system that spans `device` to its size.
///
/// # Errors
/// The device could not be read, or there is none.
pub fn grow_whole(device: &dyn BlockDevice, now: Timestamp) -> Result<GrowReport, TableError> {
    let whole = ByteRange {
        start: 0,
        end: device.size(),
    };
    let window = Window::new(device, whole);
    let before = probe(&window)?.and_then(|facts| facts.size);
    let filesystem = grow_filesystem(&window, now)?.ok_or(TableError::NoTable)?;
    Ok(GrowReport {
        partition: None,
        before: before.unwrap_or(whole.end),
        size: filesystem.size.or(before).unwrap_or(whole.end),
        filesystem: Some(filesystem),
    })
}

/// Grows the file system in a partition to the partition's size. `None` if there is none.
///
/// # Errors
/// The device could not be read. A file system that cannot be grown is not an error: the report
/// says why.
pub fn grow_filesystem(
    partition: &Window<'_>,
    now: Timestamp,
) -> Result<Option<FilesystemGrowth>, DiskError> {
    let Some(facts) = probe(partition)? else {
        return Ok(None);
    };
    let kind = facts.kind;
    let result = if kind.is_ext() {
        grow_ext(partition, now)
    } else {
        Err(Fault::Kept(
            "Pinewrit grows only ext2, ext3 and ext4".to_owned(),
        ))
    };
    match result {
        Ok(growth) => Ok(Some(FilesystemGrowth {
            kind,
            size: Some(growth.after),
            kept_because: None,
        })),
        Err(Fault::Kept(why)) => Ok(Some(FilesystemGrowth {
            kind,
            size: None,
            kept_because: Some(why),
        })),
        Err(Fault::Disk(error)) => Err(error),
    }
}

/// Why a file system was not grown.
enum Fault {
    /// It is of a kind that cannot be grown.
    Kept(String),
    Disk(DiskError),
}

impl From<EditError> for Fault {
    fn from(error: EditError) -> Self {
        match error {
            EditError::Volume(ExtError::Disk(error)) => Self::Disk(error),
            error => Self::Kept(error.to_string()),
        }
    }
}

impl From<CheckError> for Fault {
    fn from(error: CheckError) -> Self {
        match error {
            CheckError::Volume(ExtError::Disk(error)) => Self::Disk(error),
            error => Self::Kept(error.to_string()),
        }
    }
}

fn grow_ext(partition: &Window<'_>, now: Timestamp) -> Result<Growth, Fault> {
    let gathered = Overlay::new(partition);
    check(&gathered)?;
    let mut editor = Editor::open(&gathered, now)?;
    let sb = editor.superblock();
    let has_sums = sb.has_group_flags();
    let more = partition.size().saturating_sub(sb.size());
    let inodes = u64::from(sb.inodes_per_group) * sb.inode_size;
    let groups = more / (sb.blocks_per_group * sb.block_size);
    if !has_sums && groups.saturating_mul(inodes) > MAX_ZEROED {
        let why = "its inode tables would have to be zeroed, which is left to the system";
        return Err(Fault::Kept(why.to_owned()));
    }
    let most = editor.largest_size();
    let growth = editor.grow(partition.size().min(most))?;
    editor.commit()?;
    // Nothing has reached the partition yet.
    check(&gathered)?;
    gathered.hand_down().map_err(Fault::Disk)?;
    Ok(growth)
}
