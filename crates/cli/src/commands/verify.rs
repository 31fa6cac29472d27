//! `pinewrit verify MEDIUM --image IMAGE`

use std::time::Instant;

use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::verify::{Comparison, Difference, verify};
use pinewrit_disk::BlockDevice;
use pinewrit_host::Readers;
use serde::Serialize;

use super::source::{self, Keep};
use super::{Outcome, target};
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

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &VerifyArgs) -> Outcome {
    let source = source::open(ui, &args.image, &args.options, Keep::No)?;
    let chosen = target::find(readers, &args.medium, false)?;
    let medium = readers
        .open_for_reading(&chosen.path)
        .map_err(|e| explain::medium_error(&e))?;
    let (image, name) = (source.name(), medium.name());
    let began = Instant::now();
    let view = ProgressView::new(*ui);
    let comparison = verify(&source, &*medium.device, &view, &signals::watch());
    drop(view);
    let comparison = comparison.map_err(|e| explain::verify_error(&image, &name, &e))?;
    ui.event(&VerifyEvent {
        event: "result",
        command: "verify",
        medium: args.medium.display().to_string(),
        image: args.image.to_string(),
        equal: comparison.is_equal(),
        comparison: &comparison,
    });
    if !comparison.is_equal() {
        let size = medium.device.size();
        let inspection = inspect(&*medium.device, Some(size)).ok();
        return Err(differences(&image, &name, &comparison, inspection.as_ref()));
    }
    let good = style::GOOD;
    let amount = units::size(comparison.compared);
    let rate = units::rate(comparison.compared, began.elapsed());
    ui.result(format!(
        "{good}equal:{good:#} {name} holds {image}, all {amount} compared ({rate})\n"
    ));
    Ok(())
}

fn differences(
    image: &str,
    medium: &str,
    comparison: &Comparison,
    inspection: Option<&Inspection>,
) -> Message {
    let total = comparison
        .compared
        .div_ceil(pinewrit_disk::CHUNK_SIZE as u64);
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
