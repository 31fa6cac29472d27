//! File systems that were cut off: what they were about to do is finished before they are looked at or
//! changed, as a system would when it uses them.

use pinewrit_disk::{BlockDevice, DiskError, Overlay, Window};
use pinewrit_ext4::{Settled, Superblock, Timestamp, Volume, is_unsettled, settle};
use schemars::JsonSchema;
use serde::Serialize;

use crate::files::{FilesError, FilesystemOf, filesystems};

/// What was finished in a file system.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Recovered {
    /// The partition's number; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Transactions of its journal that were applied.
    pub transactions: u32,
    /// Blocks that they wrote.
    pub blocks: u64,
    /// Files without a name that were removed.
    pub removed_files: u32,
    /// Files that were cut off behind their ends.
    pub cut_files: u32,
}

impl Recovered {
    fn new(partition: Option<u32>, settled: Settled) -> Self {
        Self {
            partition,
            transactions: settled.transactions,
            blocks: settled.blocks,
            removed_files: settled.removed,
            cut_files: settled.cut,
        }
    }
}

/// Finishes what a file system was about to do, all of it or nothing; `None` if there is nothing.
/// `device` is the medium, with an overlay underneath.
///
/// # Errors
/// [`FilesError::Edit`]: its journal cannot be replayed, or its orphans are damaged.
pub fn recover(
    device: &dyn BlockDevice,
    filesystem: &FilesystemOf,
    now: Timestamp,
) -> Result<Option<Recovered>, FilesError> {
    let window = Window::new(device, filesystem.range);
    if !filesystem.facts.kind.is_ext() || !is_cut_off(&window)? {
        return Ok(None);
    }
    let overlay = Overlay::new(&window);
    let settled = settle(&overlay, now)?;
    overlay.hand_down()?;
    Ok(Some(Recovered::new(filesystem.partition, settled)))
}

/// The same for all file systems of a medium. Those that cannot be finished stay as they are.
///
/// # Errors
/// The device could not be read.
pub fn recover_all(device: &dyn BlockDevice, now: Timestamp) -> Result<Vec<Recovered>, DiskError> {
    let mut all = Vec::new();
    for filesystem in filesystems(device)? {
        match recover(device, &filesystem, now).map_err(FilesError::into_disk) {
            Ok(recovered) => all.extend(recovered),
            Err(Ok(error)) => return Err(error),
            Err(Err(_)) => {}
        }
    }
    Ok(all)
}

/// Whether the ext file system of a window was cut off.
pub(crate) fn is_cut_off(window: &dyn BlockDevice) -> Result<bool, DiskError> {
    let mut raw = [0; Superblock::SIZE];
    window.read_at(Superblock::OFFSET, &mut raw)?;
    Ok(Superblock::parse(&raw).is_ok_and(|superblock| is_unsettled(&superblock)))
}

/// An ext file system as it is after its journal and its orphans; `None` if there is nothing to finish,
/// or it cannot be finished.
pub(crate) fn settled_volume(
    window: &dyn BlockDevice,
) -> Result<Option<Volume<Overlay<&dyn BlockDevice>>>, DiskError> {
    if !is_cut_off(window)? {
        return Ok(None);
    }
    let overlay = Overlay::new(window);
    match settle(&overlay, Timestamp::default()) {
        Ok(_) => Ok(Volume::open(overlay).ok()),
        Err(_) => Ok(None),
    }
}
