//! Finishing what a file system was about to do when it was cut off: its journal, then its orphans.

use pinewrit_disk::BlockDevice;
use pinewrit_disk::bytes::{put16, put32};
use pinewrit_ext4_journal::{Head, JournalError, Replay, ReplayError};
use pinewrit_ext4_layout::blocks::Source;
use pinewrit_ext4_layout::checksum::crc32c;
use pinewrit_ext4_layout::fields::sb;
use pinewrit_ext4_layout::{
    Compatible, ExtError, Incompatible, InodeNumber, ReadOnlyCompatible, Superblock, Timestamp,
};

use crate::edit::{EditError, Editor};
use crate::volume::{Volume, read_superblock};

/// `s_state`: unmounted cleanly.
const CLEAN: u16 = 1;
/// `s_state`: errors were found.
const HAS_ERRORS: u16 = 2;

/// What a file system says of itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    /// It was unmounted cleanly, or its journal makes up for it.
    Clean,
    /// It has no journal, and was not unmounted.
    InUse,
    /// The system has met an error in it.
    HasErrors,
}

impl Mark {
    /// That of a superblock.
    pub fn of(superblock: &Superblock) -> Self {
        if superblock.state & HAS_ERRORS != 0 {
            Self::HasErrors
        } else if superblock.state & CLEAN == 0 {
            Self::InUse
        } else {
            Self::Clean
        }
    }
}

/// Marks the file system at the start of a device as unmounted cleanly: for one that was found sound.
///
/// # Errors
/// The device failed, or there is no file system.
pub fn mark_clean(device: &dyn BlockDevice) -> Result<(), EditError> {
    change_superblock(device, |superblock, raw| {
        put16(raw, sb::STATE, superblock.state | CLEAN);
    })
}

/// Sets or clears the flag of the file system at the start of a device that says it has errors.
///
/// # Errors
/// The device failed, or there is no file system.
pub fn set_errors(device: &dyn BlockDevice, has_errors: bool) -> Result<(), EditError> {
    change_superblock(device, |superblock, raw| {
        let rest = superblock.state & !HAS_ERRORS;
        let flag = if has_errors { HAS_ERRORS } else { 0 };
        put16(raw, sb::STATE, rest | flag);
    })
}

/// Changes the bytes of a superblock, and seals it again.
fn change_superblock(
    device: &dyn BlockDevice,
    change: impl FnOnce(&Superblock, &mut [u8; Superblock::SIZE]),
) -> Result<(), EditError> {
    let mut raw = [0; Superblock::SIZE];
    device.read_at(Superblock::OFFSET, &mut raw)?;
    let superblock = Superblock::parse(&raw)?;
    change(&superblock, &mut raw);
    seal(&superblock, &mut raw);
    Ok(device.write_at(Superblock::OFFSET, &raw)?)
}

/// Puts the checksum of a superblock right, if it has one.
pub(crate) fn seal(superblock: &Superblock, raw: &mut [u8; Superblock::SIZE]) {
    if superblock.read_only.has(ReadOnlyCompatible::METADATA_CSUM) {
        let sum = crc32c(!0, &raw[..sb::CHECKSUM]);
        put32(raw, sb::CHECKSUM, sum);
    }
}

/// What was finished.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Settled {
    /// Transactions of the journal.
    pub transactions: u32,
    /// Blocks that they wrote.
    pub blocks: u64,
    /// Files without a name that were removed.
    pub removed: u32,
    /// Files that were cut off behind their ends.
    pub cut: u32,
}

/// Whether something is left to be finished.
pub fn is_unsettled(superblock: &Superblock) -> bool {
    superblock.incompatible.has(Incompatible::RECOVER)
        || superblock.last_orphan != 0
        || superblock.read_only.has(ReadOnlyCompatible::ORPHAN_PRESENT)
}

/// Replays the journal of the file system at the start of a device, and removes or cuts off the files
/// that wait for it: what a system does before it uses it. Free counts are those of the groups
/// afterwards.
///
/// Several writes make it: put an [`Overlay`](pinewrit_disk::Overlay) underneath.
///
/// # Errors
/// [`EditError::Journal`], [`EditError::ExternalJournal`]: it cannot be replayed. Others as when it is
/// changed.
pub fn settle<D: BlockDevice>(device: D, now: Timestamp) -> Result<Settled, EditError> {
    let mut settled = Settled::default();
    let superblock = read_superblock(&device)?;
    if !is_unsettled(&superblock) {
        return Ok(settled);
    }
    if superblock.incompatible.has(Incompatible::RECOVER) {
        replay(&device, &superblock, &mut settled)?;
    }
    let mut editor = Editor::open_unsettled(&device, now)?;
    editor.finish_orphans(&mut settled)?;
    editor.commit()?;
    Ok(settled)
}

impl From<ReplayError<ExtError>> for EditError {
    fn from(error: ReplayError<ExtError>) -> Self {
        match error {
            ReplayError::Journal(error) => Self::Journal(error),
            ReplayError::Read(error) => Self::Volume(error),
        }
    }
}

/// The blocks of the journal, in order.
fn journal_blocks(volume: &Volume<&dyn BlockDevice>) -> Result<Vec<u64>, EditError> {
    let sb = volume.superblock();
    if !sb.compatible.has(Compatible::HAS_JOURNAL) || sb.journal_inode == 0 {
        return Err(EditError::ExternalJournal);
    }
    let inode = volume.tree().inode(InodeNumber(sb.journal_inode))?;
    let count = inode.size() / sb.block_size;
    let mut blocks = Vec::new();
    for run in inode.runs(volume)? {
        let is_next = run.logical == blocks.len() as u64;
        if !is_next || run.blocks().end > sb.blocks {
            break;
        }
        blocks.extend(run.blocks());
    }
    if (blocks.len() as u64) < count || count == 0 {
        return Err(EditError::Journal(JournalError::Head));
    }
    blocks.truncate(count as usize);
    Ok(blocks)
}

/// Writes what was committed to its places.
fn replay(
    device: &dyn BlockDevice,
    superblock: &Superblock,
    settled: &mut Settled,
) -> Result<(), EditError> {
    let volume = Volume::open(device)?;
    let places = journal_blocks(&volume)?;
    let size = superblock.block_size;
    let mut read = |place: u32, block: &mut [u8]| {
        let place = places.get(place as usize);
        let place = place.ok_or(ExtError::Damaged("the journal"))?;
        volume.read_bytes(place * size, block)
    };
    let mut block = vec![0; size as usize];
    read(0, &mut block)?;
    let head = Head::parse(&block, size as usize, places.len() as u64)?;
    let replay = Replay::find(&head, &mut read)?;
    let own: std::collections::HashSet<u64> = places.iter().copied().collect();
    for (target, saved) in &replay.blocks {
        if *target >= superblock.blocks || own.contains(target) {
            let what = "a block's number";
            let sequence = head.sequence;
            return Err(JournalError::Damaged { sequence, what }.into());
        }
        read(saved.place, &mut block)?;
        saved.restore(&mut block);
        device.write_at(target * size, &block)?;
    }
    // The next one must not be taken for one of those that are done.
    let emptied = head.emptied(replay.next.wrapping_add(1));
    device.write_at(places[0] * size, emptied.to_bytes())?;
    clear_recovery(device, head.error != 0)?;
    settled.transactions = replay.transactions;
    settled.blocks = replay.blocks.len() as u64;
    Ok(())
}

/// The superblock itself may have come from the journal.
fn clear_recovery(device: &dyn BlockDevice, has_errors: bool) -> Result<(), EditError> {
    change_superblock(device, |superblock, raw| {
        let flags = superblock.incompatible - Incompatible::RECOVER;
        put32(raw, sb::INCOMPATIBLE, flags.bits());
        if has_errors {
            put16(raw, sb::STATE, superblock.state | HAS_ERRORS);
        }
    })
}
