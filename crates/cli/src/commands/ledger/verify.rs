//! `pinewrit ledger verify MEDIUM`

use std::path::Path;

use pinewrit_core::receipt::{Identifiers, Receipt};
use pinewrit_core::write::owners;
use pinewrit_ledger::{Entry, Kind, Ledger, Record};
use pinewrit_ui::progress::ProgressView;
use pinewrit_ui::{Event, Exit, MediumName, Message, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, failed};
use pinewrit_session::clock;
use pinewrit_session::signals;
use pinewrit_session::{Context, medium};
use pinewrit_ui::words::ledger_table as table;

/// The most files and structures to list.
const MAX_NAMED: usize = 8;

/// A medium, and whether it is what the ledger says.
#[derive(Serialize, JsonSchema)]
pub(crate) struct MediumEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Its record.
    record: &'a Record,
    /// Whether nothing differs.
    equal: bool,
    /// Bytes that were compared.
    compared: u64,
    /// How many chunks differ.
    differing_chunks: usize,
}

impl Event for MediumEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["ledger verify"];
}

pub(super) fn run(cx: &Context, ledger: &mut Ledger, named: &Path) -> Outcome {
    let chosen = medium::find(cx, named, false)?;
    let name = chosen.name();
    let opened = cx.readers.open_for_reading(&chosen.path);
    let opened = opened.map_err(|e| words::named_medium_error(&name, &e))?;
    let device = &*opened.device;
    let tag = chosen.medium_name().tag;
    let (record, receipt) = record_of(ledger, device, tag.as_deref(), &name)?;
    let view = ProgressView::new(cx.ui);
    let differing = receipt.compare(device, &view, &signals::watch());
    drop(view);
    let image = &receipt.image.name;
    let differing = differing.map_err(|e| words::verify_error(image, &name, &e))?;
    cx.ui.event(&MediumEvent {
        command: "ledger verify",
        medium: chosen.medium_name(),
        record: &record,
        equal: differing.is_empty(),
        compared: receipt.used_bytes(),
        differing_chunks: differing.len(),
    });
    let unit = record.unit.clone().or_else(|| record.host_name.clone());
    let unit = unit.unwrap_or_else(|| format!("record {}", table::short(&record.id)));
    let entry = Entry {
        unit: record.unit.clone(),
        record: Some(record.id.clone()),
        tag,
        station: pinewrit_session::workshop::station().ok(),
        remark: Some(match differing.len() {
            0 => "as it was written".to_owned(),
            count => format!("{count} chunks differ"),
        }),
        ..Entry::new(Kind::Verify, clock::seconds())
    };
    ledger.record(&entry, None).map_err(failed)?;
    let when = clock::local(record.time);
    if differing.is_empty() {
        let (good, amount) = (style::GOOD, units::size(receipt.used_bytes()));
        cx.ui.result(format!(
            "{good}equal:{good:#} {name} is {unit}, as written {when}, all {amount} compared\n"
        ));
        return Ok(());
    }
    let ranges: Vec<_> = differing
        .iter()
        .flat_map(|chunk| chunk.used.clone())
        .collect();
    let owned = owners(device, &ranges);
    let names = owned
        .iter()
        .filter(|one| !one.owner.is_empty())
        .take(MAX_NAMED);
    let names: Vec<&str> = names.map(|one| one.owner.as_str()).collect();
    let what = format!("{name} is {unit}, but not as it was written {when}");
    let chunks = units::counted(differing.len() as u64, "chunk");
    Err(Message::new(Exit::Differences, what)
        .fact("differs", format!("{chunks} of 4 MiB"))
        .fact("there", names.join(", "))
        .remedy("a system that has run has changed its files; a card that has not is damaged"))
}

/// The record of what is on a medium: by its identifier, then by its tag.
fn record_of(
    ledger: &mut Ledger,
    device: &dyn pinewrit_disk::BlockDevice,
    tag: Option<&str>,
    name: &str,
) -> Result<(Record, Receipt), Message> {
    let identifiers = Identifiers::of(device);
    let mut records = match &identifiers.table {
        Some(table) => ledger.with_table(table).map_err(failed)?,
        None => Vec::new(),
    };
    if records.is_empty()
        && let Some(tag) = tag
    {
        records = ledger.of(tag).map_err(failed)?;
    }
    // Of several with the same identifiers, the medium's own.
    records.sort_by_key(|record| record.tag.as_deref() != tag);
    for record in records {
        let receipt = ledger.receipt(&record.id).map_err(failed)?;
        if let Some(receipt) = receipt.filter(|receipt| receipt.medium.size == device.size()) {
            return Ok((record, receipt));
        }
    }
    let what = format!("the ledger does not know what is on {name}");
    Err(Message::new(Exit::NotFound, what)
        .fact(
            "identifier",
            identifiers.table.unwrap_or_else(|| "none".to_owned()),
        )
        .remedy("pinewrit inspect shows what it holds"))
}
