//! `pinewrit verify MEDIUM`, against an image or a receipt

use std::path::{Path, PathBuf};
use std::time::Instant;

use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::receipt::{Identifiers, Kinship, Receipt};
use pinewrit_core::verify::{Comparison, Difference, verify};
use pinewrit_core::write::{ChunkRecord, whereabouts};
use pinewrit_disk::{BlockDevice, ByteRange, CHUNK_SIZE};
use pinewrit_host::{Medium, Readers};
use pinewrit_image::Location;
use serde::Serialize;

use super::source::{self, Keep};
use super::target::Chosen;
use super::{Outcome, change, records, target};
use crate::args::VerifyArgs;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::signals;
use crate::ui::progress::ProgressView;
use crate::ui::{Ui, style, units};

/// Differences that are shown one by one.
const SHOWN: usize = 8;

#[derive(Serialize)]
struct VerifyEvent<'a> {
    event: &'static str,
    command: &'static str,
    medium: String,
    image: String,
    equal: bool,
    #[serde(flatten)]
    comparison: &'a Comparison,
}

#[derive(Serialize)]
struct ReceiptEvent {
    event: &'static str,
    command: &'static str,
    medium: String,
    receipt: String,
    image: String,
    equal: bool,
    compared: u64,
    differing_chunks: Vec<u64>,
}

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &VerifyArgs) -> Outcome {
    let chosen = target::find(readers, &args.medium, false)?;
    change::tell_interrupted(ui, readers, &chosen.path);
    let medium = readers
        .open_for_reading(&chosen.path)
        .map_err(|e| explain::medium_error(&e))?;
    match &args.image {
        Some(image) => against_image(ui, args, image, &chosen, &medium),
        None => against_receipt(ui, args, &chosen, medium),
    }
}

fn against_image(
    ui: &Ui,
    args: &VerifyArgs,
    image: &Location,
    chosen: &Chosen,
    medium: &Medium,
) -> Outcome {
    let source = source::open(ui, image, &args.options, Keep::No)?;
    let (image_name, name) = (source.name(), chosen.name());
    let began = Instant::now();
    let view = ProgressView::new(*ui);
    let cancel = signals::watch();
    let comparison = verify(&source, &*medium.device, args.every_byte, &view, &cancel);
    drop(view);
    let comparison = comparison.map_err(|e| explain::verify_error(&image_name, &name, &e))?;
    ui.event(&VerifyEvent {
        event: "result",
        command: "verify",
        medium: args.medium.display().to_string(),
        image: image.to_string(),
        equal: comparison.is_equal(),
        comparison: &comparison,
    });
    if !comparison.is_equal() {
        let size = medium.device.size();
        let inspection = inspect(&*medium.device, Some(size)).ok();
        let message = differences(&image_name, &name, &comparison, inspection.as_ref());
        let first = comparison.differences.first();
        let owner = first.and_then(|first| owner_at(medium, first.start));
        return Err(match owner {
            Some(owner) => message.fact("there", owner),
            None => message,
        });
    }
    let good = style::GOOD;
    let amount = units::size(comparison.compared);
    let rate = units::rate(comparison.compared, began.elapsed());
    let free = match comparison.free {
        0 => String::new(),
        free => format!("; {} of free space left out", units::size(free)),
    };
    ui.result(format!(
        "{good}equal:{good:#} {name} holds {image_name}, all {amount} compared ({rate}){free}\n"
    ));
    Ok(())
}

/// The file or the structure at an offset, as the medium has it now.
fn owner_at(medium: &Medium, offset: u64) -> Option<String> {
    let place = whereabouts(&*medium.device, &[], offset);
    place
        .owner
        .is_some()
        .then(|| explain::whereabouts(&place))?
}

fn against_receipt(ui: &Ui, args: &VerifyArgs, chosen: &Chosen, medium: Medium) -> Outcome {
    let name = chosen.name();
    let identifiers = Identifiers::of(&*medium.device);
    let (path, receipt) = match &args.receipt {
        Some(path) => {
            let receipt = records::read_receipt(path);
            (
                path.clone(),
                receipt.map_err(|e| explain::receipt_error(path, &e))?,
            )
        }
        None => find(chosen, &name, &identifiers)?,
    };
    let Some(partition) = receipt.medium.partition else {
        return compare(ui, args, chosen, &medium, (path, receipt));
    };
    // Only one partition was written; places in the receipt count from its start.
    let end = partition.start.saturating_add(receipt.medium.size);
    let range = ByteRange::new(partition.start, end.min(medium.device.size()));
    let range = range.unwrap_or(ByteRange { start: 0, end: 0 });
    compare(ui, args, chosen, &medium.narrowed(range), (path, receipt))
}

fn compare(
    ui: &Ui,
    args: &VerifyArgs,
    chosen: &Chosen,
    medium: &Medium,
    found: (PathBuf, Receipt),
) -> Outcome {
    let (path, receipt) = found;
    let name = match receipt.medium.partition {
        Some(partition) => format!("partition {} of {}", partition.number, chosen.name()),
        None => chosen.name(),
    };
    let identifiers = Identifiers::of(&*medium.device);
    let kinship = identifiers.kinship(&receipt.identifiers);
    if receipt.medium.size > medium.device.size() {
        return Err(of_another(&name, &path, &receipt).fact(
            "size",
            format!(
                "{} then, {} now",
                units::exact(receipt.medium.size).trim_start(),
                units::exact(medium.device.size()).trim_start()
            ),
        ));
    }
    let began = Instant::now();
    let view = ProgressView::new(*ui);
    let differing = receipt.compare(&*medium.device, &view, &signals::watch());
    drop(view);
    let differing = differing.map_err(|e| explain::comparison_error(&name, &e))?;
    ui.event(&ReceiptEvent {
        event: "result",
        command: "verify",
        medium: args.medium.display().to_string(),
        receipt: path.display().to_string(),
        image: receipt.image.name.clone(),
        equal: differing.is_empty(),
        compared: receipt.used_bytes(),
        differing_chunks: differing.iter().map(|record| record.index).collect(),
    });
    if !differing.is_empty() {
        return Err(match kinship {
            Kinship::Other => of_another(&name, &path, &receipt),
            _ => changed(&name, &path, &receipt, &differing, medium),
        });
    }
    let good = style::GOOD;
    let image = &receipt.image.name;
    let amount = units::size(receipt.used_bytes());
    let rate = units::rate(receipt.used_bytes(), began.elapsed());
    ui.result(format!(
        "{good}equal:{good:#} {name} holds what was written on {}: {image}, all {amount} compared ({rate})\n",
        receipt.finished
    ));
    Ok(())
}

fn find(
    chosen: &Chosen,
    name: &str,
    identifiers: &Identifiers,
) -> Result<(PathBuf, Receipt), Message> {
    let tag = chosen.tag().map(ToString::to_string);
    records::find_receipt(identifiers, tag.as_deref()).ok_or_else(|| {
        let folder = records::state_folder().join("receipts");
        let id = identifiers.table.as_deref().unwrap_or("none");
        Message::new(Exit::Usage, format!("there is no receipt for {name}"))
            .fact("looked in", folder.display().to_string())
            .fact("disk id", id)
            .remedy("--image with the image that should be on it")
            .remedy("--receipt with a receipt that was kept elsewhere")
    })
}

/// The receipt of another medium, or one from before this medium was written anew.
fn of_another(name: &str, path: &Path, receipt: &Receipt) -> Message {
    let medium = &receipt.medium;
    Message::new(
        Exit::Differences,
        format!("this receipt is not of what is on {name}"),
    )
    .fact("receipt", path.display().to_string())
    .fact(
        "of",
        format!(
            "{} on {}, {}",
            receipt.image.name,
            medium.tag.as_ref().unwrap_or(&medium.name),
            receipt.finished
        ),
    )
    .fact(
        "disk id",
        receipt
            .identifiers
            .table
            .as_deref()
            .unwrap_or("none")
            .to_owned(),
    )
    .remedy("without --receipt, the right one is looked for")
}

/// The medium has changed since the receipt was written.
fn changed(
    name: &str,
    path: &Path,
    receipt: &Receipt,
    differing: &[ChunkRecord],
    medium: &Medium,
) -> Message {
    let message = Message::new(
        Exit::Differences,
        format!("{name} has changed since it was written"),
    )
    .fact(
        "written",
        format!("{}, {}", receipt.image.name, receipt.finished),
    )
    .fact(
        "differing",
        format!(
            "{} of {} chunks of 4 MiB",
            units::grouped(differing.len() as u64),
            units::grouped(receipt.chunks.len() as u64)
        ),
    )
    .fact("receipt", path.display().to_string());
    let inspection = inspect(&*medium.device, Some(medium.device.size())).ok();
    let shown = differing.iter().take(SHOWN).enumerate();
    let message = shown.fold(message, |message, (index, record)| {
        let place = units::size(record.index * CHUNK_SIZE as u64);
        let partitions = partitions_of(record, inspection.as_ref());
        let head = if index == 0 { "first" } else { "then" };
        message.fact(head, format!("the chunk at {place}{partitions}"))
    });
    message
        .remedy("a system that has run changes its own files; one that has not should not differ")
}

/// The partitions that a chunk is part of, in words.
fn partitions_of(record: &ChunkRecord, inspection: Option<&Inspection>) -> String {
    let partitions = inspection.iter().flat_map(|found| &found.partitions);
    let touched = partitions.filter(|partition| {
        let mut ranges = record.used.iter();
        ranges.any(|range| range.intersection(partition.range()).is_some())
    });
    let numbers: Vec<String> = touched
        .map(|partition| partition.number.to_string())
        .collect();
    match numbers.len() {
        0 => ", before or between the partitions".to_owned(),
        1 => format!(", in partition {}", numbers[0]),
        _ => format!(", in partitions {}", numbers.join(" and ")),
    }
}

fn differences(
    image: &str,
    medium: &str,
    comparison: &Comparison,
    inspection: Option<&Inspection>,
) -> Message {
    let total = (comparison.compared + comparison.free).div_ceil(CHUNK_SIZE as u64);
    let mut message = Message::new(Exit::Differences, format!("{medium} differs from {image}"))
        .fact(
            "differing",
            format!(
                "{} in {} of {total} chunks",
                units::counted(comparison.differing_bytes, "byte"),
                comparison.differing_chunks
            ),
        );
    for (index, difference) in comparison.differences.iter().take(SHOWN).enumerate() {
        let name = if index == 0 { "first" } else { "then" };
        message = message.fact(name, place(difference, inspection));
    }
    let more = comparison.differences.len().saturating_sub(SHOWN);
    if more > 0 {
        message = message.fact("", format!("and {more} more runs"));
    }
    match inspection.and_then(|found| found.settings.as_ref()) {
        Some(seed) => message.remedy(match seed.partition {
            Some(number) => format!(
                "first-boot settings are on partition {number}: differences there are expected"
            ),
            None => "first-boot settings are on it: differences are expected".to_owned(),
        }),
        None => message.remedy(format!("pinewrit write {image} --to {medium}")),
    }
}

/// A difference in words: bytes, and the partition that they lie in.
fn place(difference: &Difference, inspection: Option<&Inspection>) -> String {
    let (first, last) = (difference.start, difference.end - 1);
    let bytes = match first == last {
        true => format!("byte {}", units::grouped(first)),
        false => format!(
            "bytes {} to {}",
            units::grouped(first),
            units::grouped(last)
        ),
    };
    let partition = inspection.and_then(|found| found.partition_at(difference.start));
    let Some(partition) = partition else {
        return format!("{bytes}, before or between the partitions");
    };
    let from = difference.start - partition.start;
    let reaches_on = difference.end > partition.range().end;
    let label = partition
        .filesystem
        .as_ref()
        .and_then(|fs| fs.label.as_ref());
    let label = label.map_or(String::new(), |label| format!(" \"{label}\""));
    let on = if reaches_on { ", and beyond it" } else { "" };
    format!(
        "{bytes}, in partition {}{label} from its byte {}{on}",
        partition.number,
        units::grouped(from)
    )
}
