//! `pinewrit ledger export`

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use pinewrit_args::{ExportForm, LedgerExportArgs};
use pinewrit_core::state::StateFolder;
use pinewrit_ledger::{Ledger, LedgerError, Record};
use pinewrit_ui::{Exit, Message, units, words};

use super::{LedgerResult, Outcome};
use pinewrit_session::Context;
use pinewrit_session::clock;

/// As many records are read at once.
const MANY: i64 = 500;

const COLUMNS: [&str; 19] = [
    "record",
    "finished",
    "kind",
    "batch",
    "unit",
    "role",
    "station",
    "tag",
    "model",
    "size",
    "host-name",
    "addresses",
    "image",
    "checksum",
    "identifier",
    "verified",
    "written",
    "commissioned",
    "known-hosts",
];

/// Why records were not written.
enum Failed {
    Ledger(LedgerError),
    File(io::Error),
    Receipts(String),
}

impl From<LedgerError> for Failed {
    fn from(error: LedgerError) -> Self {
        Self::Ledger(error)
    }
}

impl From<io::Error> for Failed {
    fn from(error: io::Error) -> Self {
        Self::File(error)
    }
}

pub(super) fn run(cx: &Context, ledger: &mut Ledger, args: &LedgerExportArgs) -> Outcome {
    let mut count = 0;
    let done = match (args.form, &args.to) {
        (ExportForm::Receipts, Some(folder)) => receipts(ledger, folder, &mut count),
        (ExportForm::Receipts, None) => {
            let what = "receipts are files, and no directory for them is given";
            return Err(Message::new(Exit::Usage, what).remedy("--to DIR"));
        }
        (form, Some(path)) => File::create(path)
            .map_err(Failed::File)
            .and_then(|file| each(ledger, form, &mut io::BufWriter::new(file), &mut count)),
        (form, None) => each(ledger, form, &mut io::stdout().lock(), &mut count),
    };
    // A reader that stops early, such as `head`, loses nothing.
    if let Err(Failed::File(error)) = &done
        && error.kind() == io::ErrorKind::BrokenPipe
    {
        return Ok(());
    }
    let to = args.to.as_ref().map(|path| path.display().to_string());
    done.map_err(|error| match error {
        Failed::Ledger(error) => words::ledger_error(&error),
        Failed::File(error) => {
            let to = to.clone().unwrap_or_else(|| "standard output".to_owned());
            Message::new(Exit::Internal, format!("{to} cannot be written"))
                .fact("system", error.to_string())
        }
        Failed::Receipts(why) => Message::new(Exit::Internal, why),
    })?;
    if let Some(to) = to {
        cx.ui.event(&LedgerResult {
            command: "ledger export",
            ledger: ledger.place(),
            count,
        });
        cx.ui.result(format!(
            "{} in {to}\n",
            units::counted(count as u64, "record")
        ));
    }
    Ok(())
}

fn each(
    ledger: &mut Ledger,
    form: ExportForm,
    out: &mut dyn Write,
    count: &mut usize,
) -> Result<(), Failed> {
    if form == ExportForm::Csv {
        csv_line(out, COLUMNS.map(str::to_owned))?;
    }
    ledger.each(MANY, |_, records| {
        *count += records.len();
        for record in &records {
            match form {
                ExportForm::Csv => csv_line(out, cells(record))?,
                _ => {
                    serde_json::to_writer(&mut *out, record).map_err(io::Error::other)?;
                    out.write_all(b"\n")?;
                }
            }
        }
        Ok::<(), Failed>(())
    })?;
    Ok(out.flush()?)
}

fn csv_line<const N: usize>(out: &mut dyn Write, cells: [String; N]) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(&cells).map_err(io::Error::other)?;
    let bytes = writer
        .into_inner()
        .map_err(|error| io::Error::other(error.to_string()))?;
    out.write_all(&bytes)
}

fn cells(record: &Record) -> [String; 19] {
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let number = |number: Option<i64>| number.map_or(String::new(), |number| number.to_string());
    [
        record.id.clone(),
        clock::rfc3339(record.time),
        record.kind.clone(),
        text(&record.batch),
        text(&record.unit),
        text(&record.role),
        text(&record.station),
        text(&record.tag),
        text(&record.model),
        number(record.size),
        text(&record.host_name),
        text(&record.addresses),
        text(&record.image),
        text(&record.checksum),
        text(&record.table_id),
        record.verified.to_string(),
        number(record.written_bytes),
        record.commissioned.map_or(String::new(), clock::rfc3339),
        text(&record.known_hosts),
    ]
}

/// Receipts as files, each as it was when the medium was made.
fn receipts(ledger: &mut Ledger, folder: &Path, count: &mut usize) -> Result<(), Failed> {
    let place = StateFolder::open(folder).map_err(|error| Failed::Receipts(error.to_string()))?;
    ledger.each(MANY, |ledger, records| {
        for record in &records {
            if let Some(receipt) = ledger.receipt(&record.id)? {
                let saved = place.save_receipt(&receipt);
                saved.map_err(|error| Failed::Receipts(words::error_chain(&error)))?;
                *count += 1;
            }
        }
        Ok::<(), Failed>(())
    })
}
