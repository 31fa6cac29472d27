//! The receipt of a medium that was written, and where it is kept.

use std::path::PathBuf;

use pinewrit_disk::BlockDevice;
use pinewrit_host::{Medium, MediumFacts};

use super::WritePlan;
use super::job::Surroundings;
use super::report::WriteReport;
use super::request::rfc3339;
use crate::receipt::{
    Identifiers, Receipt, ReceiptChange, ReceiptError, ReceiptImage, ReceiptMedium,
    ReceiptPartition, ReceiptSettings,
};
use crate::state::save;

/// Where a receipt was stored. A full disk is no reason to call a good card bad.
#[derive(Debug, Default)]
pub struct Kept {
    /// Its place in the store.
    pub path: Option<PathBuf>,
    /// Why there is none.
    pub not_stored: Option<NotKept>,
    /// Why it is not at the requested place.
    pub not_at: Option<(PathBuf, String)>,
    /// Why the receipt of the whole medium lacks the change, if a partition was written.
    pub not_amended: Option<ReceiptError>,
}

/// Why a receipt is not in the store.
#[derive(Debug)]
pub enum NotKept {
    /// There is no store.
    NoStore,
    /// It could not be written.
    Failed(ReceiptError),
}

/// Makes the receipt of a medium, which is named by its path and described by `facts`.
pub(super) fn receipt_of(
    plan: &WritePlan,
    report: &WriteReport,
    (device, place): (&dyn BlockDevice, String),
    (facts, partition): (Option<&MediumFacts>, Option<ReceiptPartition>),
    begun: &str,
) -> Receipt {
    let identity = facts.map(|facts| &facts.identity);
    let tag = facts.and_then(|facts| facts.tag.as_ref());
    let medium = ReceiptMedium {
        name: place,
        tag: tag.map(ToString::to_string),
        bus: identity.map(|identity| identity.bus.word().to_owned()),
        maker: identity.and_then(|identity| identity.maker.clone()),
        model: identity.and_then(|identity| identity.model.clone()),
        serial: identity.and_then(|identity| identity.serial.clone()),
        size: device.size(),
        partition,
    };
    let source = &plan.source;
    let image = ReceiptImage {
        name: source.name(),
        wrapping: source.layers().iter().map(ToString::to_string).collect(),
        packed_bytes: source.packed_size(),
        unpacked_bytes: report.image_bytes,
        checksum: report.checksum.as_ref().map(|sum| sum.digest.clone()),
        listed: source.listed().map(str::to_owned),
    };
    let request = &plan.request;
    let mut receipt = Receipt::new(request.tool.clone(), report, medium, image);
    receipt.identifiers = Identifiers::of(device);
    receipt.begun = begun.to_owned();
    receipt.expected_seconds = request.expected_seconds;
    receipt.finished = rfc3339((request.clock)());
    receipt.settings = request.settings.as_ref().map(|checked| {
        let configured = report.configured.as_ref();
        let files = configured.into_iter().flat_map(|done| &done.files);
        let host_key = configured.and_then(|done| done.host_key.as_ref());
        ReceiptSettings {
            host_name: checked.host_name.clone(),
            digest: request.settings_digest.clone().unwrap_or_default(),
            files: files.map(|file| file.path.clone()).collect(),
            intake: configured.map(|done| done.intake.clone()),
            known_hosts: host_key.map(|key| key.known_hosts.clone()),
        }
    });
    receipt
}

/// Stores a receipt, also at the requested place. If a partition was written, the receipt of the
/// `whole` medium leaves that partition to the new one.
pub(super) fn keep(
    plan: &WritePlan,
    surroundings: Surroundings<'_>,
    receipt: &Receipt,
    whole: Option<(PathBuf, Receipt)>,
    medium: &Medium,
) -> Kept {
    let mut kept = Kept::default();
    match surroundings.store.map(|store| store.save_receipt(receipt)) {
        Some(Ok(path)) => kept.path = Some(path),
        Some(Err(error)) => kept.not_stored = Some(NotKept::Failed(error)),
        None => kept.not_stored = Some(NotKept::NoStore),
    }
    if let Some(place) = &plan.request.receipt {
        let json = receipt.to_json().map_err(|error| error.to_string());
        let saved = json.and_then(|json| save(place, &json).map_err(|error| error.to_string()));
        kept.not_at = saved.err().map(|why| (place.clone(), why));
    }
    let (Some(store), Some(path), Some((old, mut of_whole))) =
        (surroundings.store, &kept.path, whole)
    else {
        return kept;
    };
    // The device at hand is narrowed to the partition.
    if let Ok(medium) = surroundings.readers.open_for_reading(&medium.path) {
        of_whole.identifiers = Identifiers::of(&*medium.device);
    }
    let number = receipt
        .medium
        .partition
        .map_or(0, |partition| partition.number);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let files = vec![format!("partition {number}")];
    of_whole.changes.push(ReceiptChange {
        receipt: Some(name.into_owned()),
        ..ReceiptChange::new(receipt.finished.clone(), "write --into", files)
    });
    kept.not_amended = store.replace_receipt(&old, &of_whole).err();
    kept
}
