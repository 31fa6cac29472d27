//! Carrying out a planned write: media opened, notes kept, receipts made.

use std::path::{Path, PathBuf};

use pinewrit_host::{Medium, MediumError, MediumFacts, Readers};

use super::read_back::ReadBack;
use super::receipts::{Kept, keep, receipt_of};
use super::report::{ChecksumReport, WriteError, WriteReport};
use super::request::{Destination, rfc3339};
use super::resume::{NoteKeeper, leaves_a_beginning};
use super::{WriteOptions, WriteOrder, WritePlan, write_all};
use crate::receipt::{Receipt, ReceiptPartition};
use crate::state::StateFolder;
use crate::{Cancel, Observer};

/// Decisions made last, once the plan has been seen.
#[derive(Clone, Debug, Default)]
pub struct Start {
    /// Read and compare first, and write only the chunks that differ.
    pub only_changes: bool,
    /// The checksum has already been verified, and is not computed again.
    pub checked: Option<ChecksumReport>,
}

/// Where a write keeps its records, and which computer it runs on.
#[derive(Clone, Copy)]
pub struct Surroundings<'a> {
    /// Receipts and notes; `None` if there is no place for them.
    pub store: Option<&'a StateFolder>,
    /// The computer's media, to read a whole medium after one of its partitions was written.
    pub readers: &'a Readers,
}

/// A medium after the write, successful or not, still open.
pub struct WrittenMedium {
    /// Its name.
    pub name: String,
    /// Its identity; `None` for card files.
    pub facts: Option<MediumFacts>,
    /// The partition that was written, if it was not the whole medium.
    pub partition: Option<ReceiptPartition>,
    /// The medium.
    pub medium: Medium,
    /// When it was read back.
    pub read_back: ReadBack,
    /// The outcome.
    pub result: Result<Written, Failure>,
}

/// The results for a medium that was written.
pub struct Written {
    /// What was done.
    pub report: WriteReport,
    /// Its receipt.
    pub receipt: Receipt,
    /// Where that was stored.
    pub kept: Kept,
}

/// Why a medium was not written.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// Writing failed.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// A card file did not get its name.
    #[error(transparent)]
    Settle(#[from] MediumError),
}

/// Why no medium was written.
pub enum JobError {
    /// A medium could not be opened; nothing was written.
    Open(MediumError),
    /// The source failed, or the job was cancelled: the media that were begun, by name.
    Write {
        /// What happened.
        error: WriteError,
        /// The media.
        media: Vec<WrittenMediumName>,
    },
}

/// A medium that was begun and not finished, like all others.
pub struct WrittenMediumName {
    /// Its name.
    pub name: String,
}

struct OpenMedium {
    name: String,
    key: String,
    facts: Option<MediumFacts>,
    partition: Option<ReceiptPartition>,
    whole: Option<(PathBuf, Receipt)>,
    medium: Medium,
    read_back: ReadBack,
}

impl OpenMedium {
    fn open(destination: Destination) -> Result<Self, MediumError> {
        let bus = destination.bus();
        let medium = destination.target.into_medium()?;
        Ok(Self {
            read_back: ReadBack::suited_to(&medium, bus),
            name: destination.name,
            key: destination.key,
            facts: destination.facts,
            partition: destination.partition,
            whole: destination.whole,
            medium,
        })
    }
}

/// Carries out a planned write; there is one observer per medium, in the plan's order. Returns the
/// outcome for each medium. The plan's media are taken; the rest of it stays, for reports.
///
/// # Errors
/// [`JobError`]: no medium is finished.
pub fn carry_out(
    plan: &mut WritePlan,
    start: &Start,
    surroundings: Surroundings<'_>,
    observers: &[&dyn Observer],
    cancel: &Cancel,
) -> Result<Vec<WrittenMedium>, JobError> {
    let begun = rfc3339((plan.request.clock)());
    let in_place = plan.is_drafted();
    let expected_free = plan.expected_free();
    let destinations = std::mem::take(&mut plan.media).into_iter();
    let opened: Result<Vec<_>, _> = destinations.map(OpenMedium::open).collect();
    let opened = opened.map_err(JobError::Open)?;
    let notes: Vec<NoteKeeper<'_>> = opened
        .iter()
        .zip(observers)
        .map(|(medium, observer)| {
            let place = (medium.key.as_str(), medium.medium.device.size());
            NoteKeeper::begin(*observer, surroundings.store, &plan.source, place, &begun)
        })
        .collect();
    let request = &plan.request;
    let options = WriteOptions {
        verify: request.verify,
        checksum: request.checksum.as_ref(),
        checked: start.checked.as_ref(),
        every_byte: request.every_byte,
        clear_free: request.clear_free,
        only_changes: start.only_changes,
        in_place,
        at_once: request.at_once,
        expected_free: if request.every_byte { 0 } else { expected_free },
        as_it_is: request.as_it_is || in_place,
    };
    let orders: Vec<WriteOrder<'_>> = opened
        .iter()
        .zip(&notes)
        .map(|(medium, note)| WriteOrder {
            medium: &*medium.medium.device,
            as_new: request.as_new.as_ref(),
            new_ids: request.new_ids,
            settings: request.settings.as_ref(),
            // Otherwise the user was asked, if necessary.
            needs_way_in: plan.rehearsal.is_none(),
            grow: request.grows(),
            is_partition: medium.partition.is_some(),
            read_back: medium.read_back,
            now: request.now(),
            observer: note,
        })
        .collect();
    let written = write_all(&plan.source, &orders, &options, cancel);
    drop(orders);
    let noted: Vec<bool> = notes.into_iter().map(NoteKeeper::end).collect();
    let forget = |key: &str| {
        if let Some(store) = surroundings.store {
            store.remove_note(key);
        }
    };
    if in_place {
        // A failed draft is deleted, so it cannot be resumed.
        opened.iter().for_each(|medium| forget(&medium.key));
    }
    let results = match written {
        Ok(results) => results,
        Err(error) => {
            let all = opened.iter();
            if !leaves_a_beginning(&error) {
                all.clone().for_each(|medium| forget(&medium.key));
            }
            let names = all.map(|medium| WrittenMediumName {
                name: medium.name.clone(),
            });
            let media = names.collect();
            return Err(JobError::Write { error, media });
        }
    };
    let mut finished = Vec::new();
    for ((medium, result), is_noted) in opened.into_iter().zip(results).zip(noted) {
        match &result {
            Ok(_) if is_noted => forget(&medium.key),
            Err(error) if !leaves_a_beginning(error) => forget(&medium.key),
            _ => {}
        }
        finished.push(finish(plan, surroundings, medium, result, &begun));
    }
    Ok(finished)
}

fn finish(
    plan: &WritePlan,
    surroundings: Surroundings<'_>,
    mut open: OpenMedium,
    result: Result<WriteReport, WriteError>,
    begun: &str,
) -> WrittenMedium {
    let settled = result.map_err(Failure::from).and_then(|report| {
        open.medium.settle()?;
        Ok(report)
    });
    let result = settled.map(|report| {
        let device = &*open.medium.device;
        let place = match &open.facts {
            Some(_) => open.medium.path.display().to_string(),
            None => full_name(&open.medium.path),
        };
        let receipt = receipt_of(
            plan,
            &report,
            (device, place),
            (open.facts.as_ref(), open.partition),
            begun,
        );
        let kept = keep(
            plan,
            surroundings,
            &receipt,
            open.whole.take(),
            &open.medium,
        );
        Written {
            report,
            receipt,
            kept,
        }
    });
    WrittenMedium {
        name: open.name,
        facts: open.facts,
        partition: open.partition,
        medium: open.medium,
        read_back: open.read_back,
        result,
    }
}

/// The key by which a card file is recognised.
fn full_name(path: &Path) -> String {
    let full = std::path::absolute(path);
    full.as_deref().unwrap_or(path).display().to_string()
}
