//! The note of a move: how far it is. It is kept in a file and, where there is room, on the medium itself.

use std::io;
use std::path::{Path, PathBuf};

use pinewrit_core::state::save;
use pinewrit_disk::{AlignedBuf, BlockDevice, ByteRange, DiskError, is_zero};
use pinewrit_table::{PartitionType, SchemeKind, Slot};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The first bytes of a note on a medium.
const MAGIC: &[u8; 16] = b"PINEWRIT MOVING\n";
/// Bytes of a note on a medium.
const NOTE: u64 = 4096;
/// Two of them, written by turns: one is always whole.
pub(crate) const NOTES: u64 = 2 * NOTE;
/// Where the text begins: after the magic, its length and its BLAKE3.
const TEXT: usize = 16 + 4 + 32;
/// At most so many bytes at either end of a medium are searched for notes.
const SEARCHED: u64 = 1 << 20;
const VERSION: u32 = 1;

/// A partition as its table had it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct StoredSlot {
    pub(crate) number: u32,
    kind: String,
    is_gpt: bool,
    active: bool,
    name: String,
    guid: Uuid,
    attributes: u64,
}

impl StoredSlot {
    pub(crate) fn of(slot: &Slot) -> Self {
        Self {
            number: slot.number,
            kind: slot.kind.code(),
            is_gpt: matches!(slot.kind, PartitionType::Gpt(_)),
            active: slot.active,
            name: slot.name.clone(),
            guid: slot.guid,
            attributes: slot.attributes,
        }
    }

    pub(crate) fn scheme(&self) -> SchemeKind {
        if self.is_gpt {
            SchemeKind::Gpt
        } else {
            SchemeKind::Mbr
        }
    }

    pub(crate) fn kind(&self) -> Option<PartitionType> {
        PartitionType::from_text(&self.kind, self.scheme())
    }

    pub(crate) fn entry(&self) -> (bool, String, Uuid, u64) {
        (self.active, self.name.clone(), self.guid, self.attributes)
    }
}

/// How far a move is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Note {
    version: u32,
    /// Tells this move from all others.
    pub(crate) id: Uuid,
    /// Size of the medium in bytes.
    pub(crate) medium_size: u64,
    pub(crate) slot: StoredSlot,
    /// First byte before and after, and the length in bytes.
    pub(crate) from: u64,
    pub(crate) to: u64,
    pub(crate) len: u64,
    /// Bytes that are moved between two notes.
    pub(crate) round: u64,
    /// Rounds that are done.
    pub(crate) done: u64,
    /// How often it was kept; of two, the higher one is the later.
    sequence: u64,
    /// The next round's bytes are also in the file beside the note, with this BLAKE3.
    pub(crate) spare: Option<String>,
    /// Rounds go through that file.
    pub(crate) needs_spare: bool,
    /// Where the notes on the medium are, in bytes.
    pub(crate) place: Option<u64>,
    /// What is in use, from the partition's first byte: only in the file. Without it, everything moves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) used: Option<Vec<[u64; 2]>>,
}

impl Note {
    pub(crate) fn new(slot: &Slot, medium_size: u64, from: ByteRange, to: u64) -> Self {
        Self {
            version: VERSION,
            id: Uuid::new_v4(),
            medium_size,
            slot: StoredSlot::of(slot),
            from: from.start,
            to,
            len: from.len(),
            round: 0,
            done: 0,
            sequence: 0,
            spare: None,
            needs_spare: false,
            place: None,
            used: None,
        }
    }

    pub(crate) fn old(&self) -> ByteRange {
        ByteRange {
            start: self.from,
            end: self.from + self.len,
        }
    }

    pub(crate) fn new_range(&self) -> ByteRange {
        ByteRange {
            start: self.to,
            end: self.to + self.len,
        }
    }

    pub(crate) fn overlaps(&self) -> bool {
        self.old().intersection(self.new_range()).is_some()
    }

    pub(crate) fn rounds(&self) -> u64 {
        self.len.div_ceil(self.round)
    }

    /// A note may come from anybody: its numbers must go together.
    fn is_possible(&self, medium_size: u64) -> bool {
        let ends = |start: u64| {
            start
                .checked_add(self.len)
                .is_some_and(|end| end <= medium_size)
        };
        self.version == VERSION
            && self.medium_size == medium_size
            && self.len > 0
            && self.round > 0
            && self.from != self.to
            && ends(self.from)
            && ends(self.to)
            && self.done <= self.rounds()
            && self.place.is_none_or(|place| {
                place
                    .checked_add(NOTES)
                    .is_some_and(|end| end <= medium_size)
            })
            && self.slot.kind().is_some()
            && (!self.overlaps() || self.needs_spare || self.round <= self.from.abs_diff(self.to))
    }

    fn to_block(&self) -> Option<AlignedBuf> {
        let bare = Self {
            used: None,
            ..self.clone()
        };
        let text = serde_json::to_vec(&bare).ok()?;
        let mut block = AlignedBuf::new(NOTE as usize);
        block
            .get_mut(TEXT..TEXT + text.len())?
            .copy_from_slice(&text);
        block[..16].copy_from_slice(MAGIC);
        block[16..20].copy_from_slice(&(text.len() as u32).to_le_bytes());
        block[20..TEXT].copy_from_slice(blake3::hash(&text).as_bytes());
        Some(block)
    }

    fn from_block(block: &[u8]) -> Option<Self> {
        let len = block
            .get(16..20)?
            .first_chunk()
            .map(|raw| u32::from_le_bytes(*raw))?;
        let text = block.get(TEXT..TEXT.checked_add(len as usize)?)?;
        let is_whole =
            block.starts_with(MAGIC) && block[20..TEXT] == *blake3::hash(text).as_bytes();
        serde_json::from_slice(text).ok().filter(|_| is_whole)
    }
}

/// A note that may be about a medium.
pub(crate) struct FoundNote {
    pub(crate) note: Note,
    /// The medium has it too, or has no room for it.
    pub(crate) is_noted: bool,
}

/// Where notes of one medium are kept.
pub(crate) struct Desk<'d> {
    pub(crate) medium: &'d dyn BlockDevice,
    /// The file.
    pub(crate) file: &'d Path,
}

impl Desk<'_> {
    /// The file for the bytes of a round.
    pub(crate) fn spare(&self) -> PathBuf {
        self.file.with_extension("bytes")
    }

    /// Keeps a note in both places, after everything that it says is done.
    pub(crate) fn keep(&self, note: &mut Note) -> io::Result<()> {
        note.sequence += 1;
        save(
            self.file,
            &serde_json::to_vec(&*note).map_err(io::Error::from)?,
        )?;
        if let (Some(place), Some(block)) = (note.place, note.to_block()) {
            self.medium
                .write_at(place + note.sequence % 2 * NOTE, &block)?;
            self.medium.flush()?;
        }
        Ok(())
    }

    /// The latest note about this medium: that in the file, or the one on the medium.
    pub(crate) fn find(&self) -> Result<Option<FoundNote>, DiskError> {
        let size = self.medium.size();
        let filed = std::fs::read(self.file).ok();
        let filed: Option<Note> = filed.and_then(|text| serde_json::from_slice(&text).ok());
        let filed = filed.filter(|note| note.is_possible(size));
        let own = self.on_medium()?;
        // Its last step takes the note off the medium; until then, one without it is another medium.
        let is_noted = own.is_some() || filed.as_ref().is_some_and(|note| note.place.is_none());
        let note = match (filed, own) {
            // The file is of another medium in the same reader.
            (Some(filed), Some(own)) if filed.id != own.id => Some(own),
            (Some(filed), Some(own)) if own.done > filed.done => Some(Note {
                done: own.done,
                spare: None,
                ..filed
            }),
            (Some(filed), _) => Some(filed),
            (None, own) => own,
        };
        Ok(note.map(|note| FoundNote { note, is_noted }))
    }

    fn on_medium(&self) -> Result<Option<Note>, DiskError> {
        let mut best: Option<Note> = None;
        let mut buffer = AlignedBuf::new(NOTE as usize);
        for region in regions(self.medium) {
            let mut at = region.start;
            while at + NOTE <= region.end {
                self.medium.read_at(at, &mut buffer)?;
                let found = Note::from_block(&buffer);
                let found = found.filter(|note| note.is_possible(self.medium.size()));
                if let Some(found) = found
                    && best
                        .as_ref()
                        .is_none_or(|best| best.sequence < found.sequence)
                {
                    best = Some(found);
                }
                at += NOTE;
            }
        }
        Ok(best)
    }

    /// A place on the medium for the notes: nothing but zeros, and in none of the ranges.
    pub(crate) fn place(&self, taken: &[ByteRange]) -> Result<Option<u64>, DiskError> {
        let mut buffer = AlignedBuf::new(NOTES as usize);
        for region in regions(self.medium) {
            // Boot loaders begin at the front of such a gap.
            for index in (region.start / NOTE..(region.end / NOTE).saturating_sub(1)).rev() {
                let start = index * NOTE;
                let range = ByteRange {
                    start,
                    end: start + NOTES,
                };
                if taken.iter().any(|one| one.intersection(range).is_some()) {
                    continue;
                }
                self.medium.read_at(start, &mut buffer)?;
                if is_zero(&buffer) {
                    return Ok(Some(start));
                }
            }
        }
        Ok(None)
    }

    /// The move is done.
    pub(crate) fn clear(&self) {
        // What stays behind is recognised as the note of a finished move.
        let _ = std::fs::remove_file(self.spare());
        let _ = std::fs::remove_file(self.file);
    }
}

/// The parts of a medium in which notes can be, without those that hold tables.
fn regions(medium: &dyn BlockDevice) -> [ByteRange; 2] {
    let size = medium.size();
    let table = (34 * medium.logical_sector().bytes()).next_multiple_of(NOTE);
    let head = ByteRange {
        start: table.min(size),
        end: SEARCHED.min(size).max(table.min(size)),
    };
    let end = size.saturating_sub(table) / NOTE * NOTE;
    let tail = ByteRange {
        start: (end.saturating_sub(SEARCHED) / NOTE * NOTE)
            .max(head.end)
            .min(end.max(head.end)),
        end: end.max(head.end),
    };
    [head, tail]
}
