//! `pinewrit ledger ...`

mod export;
mod older;
pub(crate) mod printed;
mod verify;

use std::path::{Path, PathBuf};

use pinewrit_args::{LedgerAction, LedgerArgs, LedgerListArgs};
use pinewrit_core::receipt::Receipt;
use pinewrit_core::state::read_receipt;
use pinewrit_ledger::{Entry, Kind, Ledger, LedgerError, Record};
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Event, Exit, Message, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;
use super::batch::units_of;
use pinewrit_session::Context;
use pinewrit_session::clock;
use pinewrit_session::workshop::receipts_in;
use pinewrit_ui::batch::BatchResult;
use pinewrit_ui::words::ledger_table as table;
#[cfg(test)]
pub(crate) use verify::MediumEvent as LedgerVerifyEvent;

/// As many records are taken in at once.
const AT_ONCE: usize = 200;

/// A record.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct RecordEvent<'a>(pub(super) &'a Record);

impl Event for RecordEvent<'_> {
    const EVENT: &'static str = "record";
}

/// Something that happened to what was asked for.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct HappenedEvent<'a>(&'a Entry);

impl Event for HappenedEvent<'_> {
    const EVENT: &'static str = "happened";
}

/// What the ledger did, after all its `record` and `happened` lines.
#[derive(Serialize, JsonSchema)]
pub(crate) struct LedgerResult {
    /// The command.
    pub(super) command: &'static str,
    /// Where the ledger is.
    pub(super) ledger: String,
    /// How many records were shown, written, taken in or sent.
    pub(super) count: usize,
}

impl Event for LedgerResult {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &[
        "ledger list",
        "ledger show",
        "ledger find",
        "ledger note",
        "ledger export",
        "ledger import",
        "ledger page",
        "ledger labels",
        "ledger sync",
    ];
}

pub(crate) fn run(cx: &Context, args: &LedgerArgs) -> Outcome {
    let mut ledger = cx.ledger()?;
    let ledger = &mut ledger;
    match &args.action {
        LedgerAction::List(args) => list(cx, ledger, args),
        LedgerAction::Show { name } => show(cx, ledger, name),
        LedgerAction::Find { text, last } => find(cx, ledger, &text.join(" "), *last),
        LedgerAction::Verify { medium } => verify::run(cx, ledger, medium),
        LedgerAction::Note { name, text } => note(cx, ledger, name, text),
        LedgerAction::Export(args) => export::run(cx, ledger, args),
        LedgerAction::Page { to, batch } => printed::page(cx, ledger, to, batch.as_deref()),
        LedgerAction::Labels(args) => printed::labels(cx, ledger, args),
        LedgerAction::Import { files } => import(cx, ledger, files),
        LedgerAction::Sync => sync(cx, ledger),
    }
}

fn failed(error: LedgerError) -> Message {
    words::ledger_error(&error)
}

fn list(cx: &Context, ledger: &mut Ledger, args: &LedgerListArgs) -> Outcome {
    if let Some(batch) = &args.batch {
        let all = units_of(ledger, batch)?;
        if all.is_empty() {
            let message = Message::new(Exit::Usage, format!("the ledger has no batch {batch}"));
            let known = ledger.batches().map_err(failed)?;
            return Err(match known.is_empty() {
                true => message.remedy("pinewrit batch ROSTER begins one"),
                false => message.remedy(format!("it has {}", known.join(", "))),
            });
        }
        let result = BatchResult::new(batch, &all, 0, false);
        cx.ui.event(&result.of_command("ledger list"));
        cx.ui.result(table::of_batch(&all, clock::local));
        return Ok(());
    }
    if args.older {
        return older::run(cx, ledger);
    }
    let records = ledger.last(i64::from(args.last)).map_err(failed)?;
    tell(cx, ledger, "ledger list", &records);
    if records.is_empty() {
        cx.ui
            .result("the ledger is empty: what is written from now on is in it\n");
    }
    Ok(())
}

fn tell(cx: &Context, ledger: &Ledger, command: &'static str, records: &[Record]) {
    for record in records {
        cx.ui.event(&RecordEvent(record));
    }
    cx.ui.event(&LedgerResult {
        command,
        ledger: ledger.place(),
        count: records.len(),
    });
    if !records.is_empty() {
        cx.ui.result(table::of_records(records, clock::local));
    }
}

fn find(cx: &Context, ledger: &mut Ledger, text: &str, last: u32) -> Outcome {
    let records = ledger.find(text, i64::from(last)).map_err(failed)?;
    tell(cx, ledger, "ledger find", &records);
    if records.is_empty() {
        return Err(Message::new(
            Exit::NotFound,
            format!("nothing in the ledger has `{text}`"),
        )
        .remedy("the beginning of a word is enough: larkfell, 10.77., K7F2, sha256:ab12"));
    }
    Ok(())
}

/// The latest record of a unit, a tag, or with an identifier.
/// As many records of one host name are shown.
const MAX_HOSTS: i64 = 50;

fn latest(ledger: &mut Ledger, name: &str) -> Result<Vec<Record>, Message> {
    let mut records = ledger.of(name).map_err(failed)?;
    if records.is_empty() {
        // What was not made by a batch is known by its host name.
        records = ledger.of_host(name, MAX_HOSTS).map_err(failed)?;
    }
    if records.is_empty() {
        let what = format!("the ledger has no unit, medium or record {name}");
        return Err(Message::new(Exit::NotFound, what)
            .remedy(format!("pinewrit ledger find {name} looks everywhere")));
    }
    Ok(records)
}

fn show(cx: &Context, ledger: &mut Ledger, name: &str) -> Outcome {
    let records = latest(ledger, name)?;
    let latest = &records[0];
    let unit = latest.unit.clone().or_else(|| latest.host_name.clone());
    let mut happened = ledger
        .events(unit.as_deref().unwrap_or(&latest.id))
        .map_err(failed)?;
    if unit.is_some() {
        let own = ledger.events(&latest.id).map_err(failed)?;
        happened.extend(own.into_iter().filter(|event| event.unit.is_none()));
        happened.sort_by_key(|event| event.time);
    }
    let (strong, dim) = (style::STRONG, style::DIM);
    let mut facts = FactList::default();
    for (name, text) in table::facts(latest, clock::local) {
        facts.add(name, text);
    }
    let title = unit.unwrap_or_else(|| latest.tag.clone().unwrap_or_default());
    let mut text = format!("{strong}{title}{strong:#}\n{}", facts.to_text());
    text += &format!("\n{dim}what happened{dim:#}\n");
    for event in &happened {
        cx.ui.event(&HappenedEvent(event));
        let by = event.station.as_ref().map(|name| format!("at {name}"));
        let words = [event.remark.clone(), by].into_iter().flatten();
        let words = words.collect::<Vec<_>>().join(", ");
        let tag = event.tag.as_deref().unwrap_or_default();
        let line = format!("{:<10} {tag:<8} {words}", event.kind.word());
        text += &format!("  {}  {}\n", clock::local(event.time), line.trim_end());
    }
    let earlier = &records[1..];
    if !earlier.is_empty() {
        text += &format!(
            "\n{dim}earlier media{dim:#}\n{}",
            table::of_records(earlier, clock::local)
        );
    }
    for record in &records {
        cx.ui.event(&RecordEvent(record));
    }
    cx.ui.event(&LedgerResult {
        command: "ledger show",
        ledger: ledger.place(),
        count: records.len(),
    });
    cx.ui.result(text);
    Ok(())
}

fn note(cx: &Context, ledger: &mut Ledger, name: &str, remark: &str) -> Outcome {
    let record = latest(ledger, name)?.swap_remove(0);
    let entry = Entry {
        unit: record.unit.clone(),
        role: record.role.clone(),
        batch: record.batch.clone(),
        tag: record.tag.clone(),
        record: Some(record.id.clone()),
        remark: Some(remark.to_owned()),
        station: pinewrit_session::workshop::station().ok(),
        ..Entry::new(Kind::Note, clock::seconds())
    };
    ledger.record(&entry, None).map_err(failed)?;
    cx.ui.event(&LedgerResult {
        command: "ledger note",
        ledger: ledger.place(),
        count: 1,
    });
    let whose = record
        .unit
        .or(record.tag)
        .unwrap_or_else(|| table::short(&record.id).to_owned());
    cx.ui.result(format!("noted about {whose}\n"));
    Ok(())
}

fn import(cx: &Context, ledger: &mut Ledger, files: &[PathBuf]) -> Outcome {
    let mut paths = Vec::new();
    for path in files {
        if path.is_dir() {
            paths.extend(receipts_in(path));
        } else {
            paths.push(path.clone());
        }
    }
    let (mut taken, mut seen) = (0, 0);
    for many in paths.chunks(AT_ONCE) {
        let receipts: Vec<Receipt> = many.iter().filter_map(|path| readable(cx, path)).collect();
        seen += receipts.len();
        taken += ledger.take_in(&receipts).map_err(failed)?;
    }
    cx.ui.event(&LedgerResult {
        command: "ledger import",
        ledger: ledger.place(),
        count: taken,
    });
    let known = match seen - taken {
        0 => String::new(),
        known => format!("; {} were there already", units::grouped(known as u64)),
    };
    let count = units::counted(taken as u64, "receipt");
    cx.ui.result(format!("{count} taken in{known}\n"));
    if seen < paths.len() {
        let bad = paths.len() - seen;
        return Err(Message::new(
            Exit::Source,
            format!("{bad} files are not receipts"),
        ));
    }
    Ok(())
}

fn readable(cx: &Context, path: &Path) -> Option<Receipt> {
    match read_receipt(path) {
        Ok(receipt) => Some(receipt),
        Err(error) => {
            let why = words::error_chain(&error);
            cx.ui
                .warn(format!("note: {} is left out: {why}\n", path.display()));
            None
        }
    }
}

fn sync(cx: &Context, ledger: &mut Ledger) -> Outcome {
    // Opening it has sent what waits.
    let waiting = cx.outbox().map_or(0, |outbox| outbox.waiting());
    cx.ui.event(&LedgerResult {
        command: "ledger sync",
        ledger: ledger.place(),
        count: waiting,
    });
    match waiting {
        0 => {
            cx.ui
                .result(format!("all records are in {}\n", ledger.place()));
            Ok(())
        }
        waiting => {
            let what = format!("{waiting} records could not be sent to {}", ledger.place());
            Err(Message::new(Exit::Internal, what))
        }
    }
}
