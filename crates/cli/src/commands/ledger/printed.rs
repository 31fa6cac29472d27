//! `pinewrit ledger page` and `pinewrit ledger labels`

use std::path::Path;

use pinewrit_args::LedgerLabelsArgs;
use pinewrit_core::state::save;
use pinewrit_ledger::{Entry, Kind, Ledger, LedgerError, Record};
use pinewrit_ui::page::{LabelSheet, LedgerPage};
use pinewrit_ui::{Exit, Message, units};

use super::{LedgerResult, Outcome, failed, latest};
use crate::commands::batch::units_of;
use pinewrit_session::Context;
use pinewrit_session::clock;

/// As many records are read at once.
const MANY: i64 = 1000;
/// The most records on a page: a browser has to show them.
const MAX_ROWS: usize = 20_000;
/// The most failures on a page.
const MAX_FAILURES: i64 = 10_000;
/// A sheet has at most so many labels in a row or column.
const MAX_LABELS: u32 = 60;

pub(super) fn page(cx: &Context, ledger: &mut Ledger, to: &Path, batch: Option<&str>) -> Outcome {
    let count = write_page(ledger, to, batch)?;
    cx.ui.event(&LedgerResult {
        command: "ledger page",
        ledger: ledger.place(),
        count,
    });
    let count = units::counted(count as u64, "record");
    cx.ui.result(format!(
        "{} has {count}; open it in a browser\n",
        to.display()
    ));
    Ok(())
}

/// Writes the page of all records, or of a batch; returns how many there are.
pub(crate) fn write_page(
    ledger: &mut Ledger,
    to: &Path,
    batch: Option<&str>,
) -> Result<usize, Message> {
    let mut records: Vec<Record> = Vec::new();
    let all = ledger.each(MANY, |_, found| {
        let of_batch = found
            .into_iter()
            .filter(|record| batch.is_none() || record.batch.as_deref() == batch);
        records.extend(of_batch);
        Ok::<(), LedgerError>(())
    });
    all.map_err(failed)?;
    records.reverse();
    records.truncate(MAX_ROWS);
    let failures = ledger
        .last_events(Kind::Failure, MAX_FAILURES)
        .map_err(failed)?;
    let is_meant = |event: &Entry| batch.is_none() || event.batch.as_deref() == batch;
    let failures: Vec<Entry> = failures.into_iter().filter(is_meant).collect();
    let page = LedgerPage {
        title: batch.unwrap_or("Ledger"),
        records: &records,
        failures: &failures,
        time: &clock::local,
    };
    save(to, page.html().as_bytes()).map_err(|error| not_written(to, &error))?;
    Ok(records.len())
}

fn not_written(to: &Path, error: &std::io::Error) -> Message {
    Message::new(
        Exit::Internal,
        format!("{} cannot be written", to.display()),
    )
    .fact("system", error.to_string())
}

pub(super) fn labels(cx: &Context, ledger: &mut Ledger, args: &LedgerLabelsArgs) -> Outcome {
    let sheet = LabelSheet {
        columns: args.sheet.0.min(MAX_LABELS),
        rows: args.sheet.1.min(MAX_LABELS),
        size: args.size,
        paper: args.paper,
        address: args.address.clone(),
    };
    if !sheet.fits() {
        let (columns, rows) = args.sheet;
        let (width, height) = args.size;
        let (across, down) = (f64::from(columns) * width, f64::from(rows) * height);
        return Err(
            Message::new(Exit::Usage, "so many labels do not fit on the paper")
                .fact(
                    "labels",
                    format!("{columns} × {rows} take {across} × {down} mm"),
                )
                .fact("paper", format!("{} × {} mm", args.paper.0, args.paper.1))
                .remedy("fewer with --sheet, smaller ones with --size, or --paper"),
        );
    }
    let records = chosen(ledger, args)?;
    if records.is_empty() {
        return Err(Message::new(
            Exit::NotFound,
            "the ledger has no records for labels",
        ));
    }
    let day = |time: i64| clock::local(time).chars().take(10).collect::<String>();
    let html = sheet.html(&records, &day);
    save(&args.to, html.as_bytes()).map_err(|error| not_written(&args.to, &error))?;
    cx.ui.event(&LedgerResult {
        command: "ledger labels",
        ledger: ledger.place(),
        count: records.len(),
    });
    let count = units::counted(records.len() as u64, "label");
    let to = args.to.display();
    cx.ui.result(format!(
        "{count} in {to}; print it at 100 %, without margins\n"
    ));
    Ok(())
}

fn chosen(ledger: &mut Ledger, args: &LedgerLabelsArgs) -> Result<Vec<Record>, Message> {
    let mut records = Vec::new();
    if let Some(batch) = &args.batch {
        let all = units_of(ledger, batch)?;
        records.extend(all.into_iter().filter_map(|(_, record)| record));
    }
    for name in &args.only {
        records.push(latest(ledger, name)?.swap_remove(0));
    }
    if args.batch.is_none() && args.only.is_empty() {
        records = ledger.last(i64::from(args.last)).map_err(failed)?;
    }
    Ok(records)
}
