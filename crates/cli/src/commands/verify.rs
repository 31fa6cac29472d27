//! `pinewrit verify MEDIUM`, against an image or a receipt

use std::path::{Path, PathBuf};
use std::time::Instant;

use pinewrit_args::VerifyArgs;
use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::receipt::{Identifiers, Kinship, Receipt, ReceiptChange};
use pinewrit_core::state::{Found, read_receipt};
use pinewrit_core::verify::{Comparison, Difference, verify};
use pinewrit_core::write::{ChunkRecord, Owned, OwnerKind, owners};
use pinewrit_disk::{BlockDevice, ByteRange, CHUNK_SIZE, Window};
use pinewrit_host::Medium;
use pinewrit_image::Location;
use pinewrit_ledger::Kind;
use pinewrit_ui::progress::ProgressView;
use pinewrit_ui::text::printable;
use pinewrit_ui::words::{self, inspection::FactList};
use pinewrit_ui::{Event, Exit, MediumName, Message, style, units};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
use pinewrit_session::Context;
use pinewrit_session::medium::Chosen;
use pinewrit_session::signals;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{change, medium};

/// The most differences to list.
const SHOWN: usize = 8;

/// A medium against an image.
#[derive(Serialize, JsonSchema)]
pub(crate) struct VerifyEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// The image, as given.
    image: String,
    /// Whether nothing differs.
    equal: bool,
    /// What uses the differing places.
    owners: Vec<&'a Owned>,
    #[serde(flatten)]
    comparison: &'a Comparison,
}

impl Event for VerifyEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["verify"];
}

/// A medium against the receipt of its writing.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ReceiptEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Path of the receipt.
    receipt: String,
    /// The image that was written.
    image: String,
    /// Whether nothing differs.
    equal: bool,
    /// Bytes that were compared.
    compared: u64,
    /// How many chunks differ.
    differing_chunks: usize,
    /// Their numbers, from 0.
    chunks: Vec<u64>,
    /// What uses the differing chunks.
    owners: Vec<&'a Owned>,
    /// The number of candidate receipts.
    candidates: usize,
    /// What Pinewrit has changed since.
    changes: &'a [ReceiptChange],
}

impl Event for ReceiptEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["verify"];
}

pub(crate) fn run(cx: &Context, args: &VerifyArgs) -> Outcome {
    let chosen = medium::find(cx, &args.medium, false)?;
    change::tell_interrupted(cx, &chosen.path);
    let medium = cx
        .readers
        .open_for_reading(&chosen.path)
        .map_err(|e| words::medium_error(&e))?;
    match &args.image {
        Some(image) => against_image(cx, args, image, &chosen, &medium),
        None => against_receipt(cx, args, &chosen, &medium),
    }
}

fn against_image(
    cx: &Context,
    args: &VerifyArgs,
    image: &Location,
    chosen: &Chosen,
    medium: &Medium,
) -> Outcome {
    let source = source::open(cx, image, &args.options, Keep::No)?;
    let (image_name, name) = (source.name(), chosen.name());
    let began = Instant::now();
    let view = ProgressView::new(cx.ui);
    let cancel = signals::watch();
    let comparison = verify(&source, &*medium.device, args.every_byte, &view, &cancel);
    drop(view);
    let comparison = comparison.map_err(|e| words::verify_error(&image_name, &name, &e))?;
    let owned = owners(&*medium.device, &comparison.spots);
    cx.ui.event(&VerifyEvent {
        owners: owned.iter().take(MAX_TOLD).collect(),
        command: "verify",
        medium: chosen.medium_name(),
        image: image.to_string(),
        equal: comparison.is_equal(),
        comparison: &comparison,
    });
    if !comparison.is_equal() {
        let size = medium.device.size();
        let inspection = inspect(&*medium.device, Some(size)).ok();
        let message = differences(&image_name, &name, &comparison, inspection.as_ref());
        return Err(with_owners(message, &owned));
    }
    let good = style::GOOD;
    let amount = units::size(comparison.compared);
    let rate = units::rate(comparison.compared, began.elapsed());
    let free = match comparison.free {
        0 => String::new(),
        free => format!("; {} of free space skipped", units::size(free)),
    };
    cx.ui.result(format!(
        "{good}equal:{good:#} {name} holds {image_name}, all {amount} compared ({rate}){free}\n"
    ));
    Ok(())
}

/// The most files and structures to list in a message.
const MAX_NAMED: usize = 16;
/// The same for programs.
const MAX_TOLD: usize = 1000;

/// Names what differs, files first, because people can judge them.
fn with_owners(message: Message, owned: &[Owned]) -> Message {
    let order = |one: &&Owned| match one.kind {
        OwnerKind::File => 0,
        OwnerKind::Metadata => 1,
        _ => 2,
    };
    let mut sorted: Vec<&Owned> = owned.iter().collect();
    sorted.sort_by_key(order);
    let shown = sorted.iter().take(MAX_NAMED).enumerate();
    let message = shown.fold(message, |message, (index, one)| {
        let name = if index == 0 { "there" } else { "" };
        let partition = one.partition.map(|number| format!("partition {number}"));
        let owner = match one.kind {
            OwnerKind::Unknown => "an unknown file system".to_owned(),
            _ => printable(&one.owner),
        };
        let parts: Vec<String> = partition.into_iter().chain([owner]).collect();
        message.fact(name, parts.join(", "))
    });
    let rest = sorted.iter().skip(MAX_NAMED);
    let files = rest.clone().filter(|one| one.kind == OwnerKind::File);
    match (files.count() as u64, rest.count() as u64) {
        (0, 0) => message,
        (0, more) => message.fact("", format!("and {more} more")),
        (files, _) => {
            let count = units::counted(files, "more file");
            message.fact("", format!("and {count}; --json names up to {MAX_TOLD}"))
        }
    }
}

fn against_receipt(cx: &Context, args: &VerifyArgs, chosen: &Chosen, medium: &Medium) -> Outcome {
    let name = chosen.name();
    let found = match &args.receipt {
        Some(path) => {
            let receipt = read_receipt(path);
            Found {
                receipt: receipt.map_err(|e| words::receipt_error(path, &e))?,
                path: path.clone(),
                candidates: 1,
            }
        }
        None => find(cx, chosen, &name, medium)?,
    };
    let parts = parts_of(&found);
    compare(cx, chosen, medium, &found)?;
    // A partition written later has its own receipt.
    for path in parts {
        let receipt = read_receipt(&path).map_err(|e| words::receipt_error(&path, &e))?;
        let found = Found {
            receipt,
            path,
            candidates: 1,
        };
        compare(cx, chosen, medium, &found)?;
    }
    Ok(())
}

/// The latest receipts of partitions that a receipt leaves out.
fn parts_of(found: &Found) -> Vec<PathBuf> {
    let folder = found.path.parent().unwrap_or(Path::new(""));
    let mut latest: Vec<(&[String], PathBuf)> = Vec::new();
    for change in &found.receipt.changes {
        let Some(name) = change
            .receipt
            .as_deref()
            .and_then(|name| Path::new(name).file_name())
        else {
            continue;
        };
        latest.retain(|(files, _)| *files != change.files);
        latest.push((&change.files, folder.join(name)));
    }
    latest.into_iter().map(|(_, path)| path).collect()
}

fn compare(cx: &Context, chosen: &Chosen, medium: &Medium, found: &Found) -> Outcome {
    let Found { path, receipt, .. } = found;
    let whole = &*medium.device;
    let name = match receipt.medium.partition {
        Some(partition) => format!("partition {} of {}", partition.number, chosen.name()),
        None => chosen.name(),
    };
    // Offsets in a partition's receipt count from its start.
    let start = receipt
        .medium
        .partition
        .map_or(0, |partition| partition.start);
    let end = start.saturating_add(receipt.medium.size);
    if end > whole.size() {
        let (then, now) = (units::exact(end), units::exact(whole.size()));
        let sizes = format!("{} then, {} now", then.trim_start(), now.trim_start());
        return Err(of_another(&name, path, receipt).fact("size", sizes));
    }
    let window = Window::new(whole, ByteRange { start, end });
    let identifiers = Identifiers::of(&window);
    let kinship = identifiers.kinship(&receipt.identifiers);
    let began = Instant::now();
    let view = ProgressView::new(cx.ui);
    let differing = receipt.compare(&window, &view, &signals::watch());
    drop(view);
    let differing = differing.map_err(|e| words::comparison_error(&name, &e))?;
    let used = differing.iter().flat_map(|record| &record.used);
    let places: Vec<ByteRange> = used
        .map(|range| ByteRange {
            start: start.saturating_add(range.start),
            end: start.saturating_add(range.end),
        })
        .collect();
    let owned = if places.is_empty() {
        Vec::new()
    } else {
        owners(whole, &places)
    };
    cx.ui.event(&ReceiptEvent {
        command: "verify",
        medium: chosen.medium_name(),
        receipt: path.display().to_string(),
        image: receipt.image.name.clone(),
        equal: differing.is_empty(),
        compared: receipt.used_bytes(),
        differing_chunks: differing.len(),
        chunks: differing.iter().map(|record| record.index).collect(),
        owners: owned.iter().take(MAX_TOLD).collect(),
        candidates: found.candidates,
        changes: &receipt.changes,
    });
    let remark = match differing.len() {
        0 => "as it was written".to_owned(),
        count => format!("{} differ", units::counted(count as u64, "chunk")),
    };
    cx.record_about(&receipt.digest, Kind::Verify, remark);
    if !differing.is_empty() {
        return Err(match kinship {
            Kinship::Other => of_another(&name, path, receipt),
            _ => with_owners(changed(&name, found, &differing), &owned),
        });
    }
    cx.ui.result(equal_text(&name, found, began));
    Ok(())
}

fn equal_text(name: &str, found: &Found, began: Instant) -> String {
    let receipt = &found.receipt;
    let good = style::GOOD;
    let image = &receipt.image.name;
    let amount = units::size(receipt.used_bytes());
    let rate = units::rate(receipt.used_bytes(), began.elapsed());
    let mut facts = FactList::default();
    if found.candidates > 1 {
        let others = units::counted(found.candidates as u64, "receipt");
        facts.add(
            "receipt",
            format!("{}, one of {others} that match", found.path.display()),
        );
    }
    for (index, change) in receipt.changes.iter().enumerate() {
        let name = if index == 0 { "changes" } else { "" };
        facts.add(name, change_text(change));
    }
    format!(
        "{good}equal:{good:#} {name} holds what was written on {}: {image}, all {amount} compared \
         ({rate})\n{}",
        receipt.finished,
        facts.to_text()
    )
}

/// The most files of a change to list.
const MAX_FILES: usize = 4;

/// A change in words: when, by which command, and to what.
fn change_text(change: &ReceiptChange) -> String {
    let mut files: Vec<String> = change.files.iter().take(MAX_FILES).cloned().collect();
    if change.files.len() > MAX_FILES {
        files.push(format!("and {} more", change.files.len() - MAX_FILES));
    }
    let files = printable(&files.join(", "));
    format!("{}  {}  {files}", change.time, change.command)
        .trim_end()
        .to_owned()
}

fn find(cx: &Context, chosen: &Chosen, name: &str, medium: &Medium) -> Result<Found, Message> {
    let key = chosen.key();
    let device = &*medium.device;
    let state = cx.folders.state()?;
    // The receipt of a partition alone is used if there is none of the whole medium.
    let found = state
        .find_receipt(device, chosen.subject(&key))
        .or_else(|| {
            let all = state.receipts_of(device, chosen.subject(&key));
            all.into_iter()
                .max_by(|a, b| a.receipt.finished.cmp(&b.receipt.finished))
        });
    found.ok_or_else(|| {
        let identifiers = Identifiers::of(device);
        let id = identifiers.table.as_deref().unwrap_or("none");
        Message::new(Exit::Usage, format!("there is no receipt for {name}"))
            .fact("looked in", state.receipts().display().to_string())
            .fact("disk id", id)
            .remedy("--image with the image that should be on it")
            .remedy("--receipt with a receipt that was kept elsewhere")
    })
}

/// The receipt of another medium, or one from before this medium was rewritten.
fn of_another(name: &str, path: &Path, receipt: &Receipt) -> Message {
    let medium = &receipt.medium;
    Message::new(
        Exit::Differences,
        format!("this receipt does not belong to {name}"),
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
    .remedy("without --receipt, the matching one is found")
}

/// The medium has changed since the receipt was written, or since its last recorded change.
fn changed(name: &str, found: &Found, differing: &[ChunkRecord]) -> Message {
    let receipt = &found.receipt;
    let what = format!("{name} has changed since it was written");
    let mut message = Message::new(Exit::Differences, what).fact(
        "written",
        format!("{}, {}", receipt.image.name, receipt.finished),
    );
    if let Some(last) = receipt.changes.last() {
        message = message.fact("last change", change_text(last));
    }
    let (count, all) = (differing.len() as u64, receipt.chunks.len() as u64);
    message
        .fact("receipt", found.path.display().to_string())
        .fact(
            "differing",
            format!(
                "{} of {} chunks of 4 MiB, which contain:",
                units::grouped(count),
                units::grouped(all)
            ),
        )
        .remedy(
            "a system that has booted changes its own files; one that has not should not differ",
        )
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
    let bytes = if first == last {
        format!("byte {}", units::grouped(first))
    } else {
        format!(
            "bytes {} to {}",
            units::grouped(first),
            units::grouped(last)
        )
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
