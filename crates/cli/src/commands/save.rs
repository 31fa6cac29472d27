//! `pinewrit save MEDIUM --to IMAGE`

use std::path::Path;

use pinewrit_args::{SaveArgs, SourceArgs};
use pinewrit_core::copy::{SaveRequest, Saved, Spare, ViewRequest, ViewSize, save};
use pinewrit_core::{Observer, Progress, Stage};
use pinewrit_image::Packing;
use pinewrit_ledger::{Entry, Kind};
use pinewrit_rescue::RescueReport;
use pinewrit_ui::progress::{ProgressView, Screen};
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{Answer, Event, Exit, Message, Ui, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, clone, write};
use pinewrit_session::clock;
use pinewrit_session::signals;
use pinewrit_session::{Context, medium, rescue, source};

/// A saved medium.
#[derive(Serialize, JsonSchema)]
pub(crate) struct SaveEvent<'a> {
    /// The command.
    command: &'static str,
    /// The medium or image, as given.
    source: String,
    /// Path of the receipt.
    receipt: Option<String>,
    #[serde(flatten)]
    report: &'a Saved,
}

impl Event for SaveEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["save"];
}

const ENDINGS: [&str; 4] = [".img", ".img.zst", ".img.xz", ".img.gz"];

fn packing_of(path: &Path) -> Result<Option<Packing>, Message> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let ending = ENDINGS.iter().find(|ending| name.ends_with(*ending));
    match ending {
        Some(_) => Ok(Packing::of(path)),
        None => Err(Message::new(
            Exit::Usage,
            format!("the name {name} does not say how the image is packed"),
        )
        .remedy(format!("a name that ends in {}", ENDINGS.join(", ")))),
    }
}

struct Watcher(ProgressView);

impl Observer for Watcher {
    fn stage(&self, stage: Stage, total: Option<u64>) {
        self.0.stage(stage, total);
    }

    fn progress(&self, progress: Progress) {
        self.0.progress(progress);
    }
}

pub(crate) fn run(cx: &Context, args: &SaveArgs) -> Outcome {
    let ui = &cx.ui;
    let packing = packing_of(&args.to)?;
    if args.pieces.is_some_and(|size| size < 1 << 20) {
        return Err(
            Message::new(Exit::Usage, "pieces of less than 1 MiB are too many")
                .remedy("--pieces 1GB"),
        );
    }
    let begun = clock::seconds();
    let access = (&args.access, args.dry_run);
    must_not_be_on_source(cx, args)?;
    let plain = SourceArgs::plain();
    let opened = source::open_to_copy(cx, &args.medium, &plain, access, &args.rescue)?;
    let name = opened.source.name();
    if opened.device.is_none() {
        let what = format!("{name} is packed already, or not on this computer");
        return Err(Message::new(Exit::Usage, what)
            .remedy("a medium, or an image in no wrapping")
            .remedy("write it to a card file first"));
    }
    let request = ViewRequest {
        as_new: clone::as_new(&args.new),
        size: match (args.shrink, args.spare) {
            (false, _) => ViewSize::ToLastPartition,
            (true, None) => ViewSize::Least(Spare::default()),
            (true, Some(bytes)) => ViewSize::Least(Spare::Bytes(bytes)),
        },
        recovers: true,
    };
    let copied = clone::copied(ui, ("save", opened), &request, &args.rescue)?;
    let rescued = copied.rescued;
    let Some(view) = copied.view else {
        return Err(Message::new(Exit::Internal, "there is nothing to save"));
    };
    clone::tell(ui, ("save", &args.medium), &view, args.dry_run);
    let mut facts = FactList::default();
    facts.add("image", units::exact(view.size()).trim_start());
    inspection::content(&view.content, &mut facts);
    ui.say(facts.to_text());
    if args.dry_run {
        ui.result("nothing was written (--dry-run); all checks passed\n");
        return Ok(());
    }
    may_replace(ui, args)?;
    let image = args.to.display().to_string();
    let screen = Screen::on_stderr();
    let watcher = Watcher(ProgressView::on(&screen, *ui, None, true));
    let wanted = SaveRequest {
        packing,
        pieces: args.pieces,
    };
    let device = std::sync::Arc::clone(&view.device);
    let saved = save(device, &args.to, &wanted, &watcher, &signals::watch());
    drop(watcher);
    let saved = saved.map_err(|e| words::save_error(&name, &image, &e))?;
    let times = (begun, clock::seconds());
    let receipt = saved.receipt(write::TOOL, (&name, &args.to), &*view.device, times);
    let entry = Entry {
        remark: Some(format!("of {name}, as {image}")),
        ..Entry::new(Kind::Save, clock::seconds())
    };
    cx.record(entry, Some(&receipt));
    let receipt = keep_receipt(cx, args, &receipt);
    ui.event(&SaveEvent {
        command: "save",
        source: args.medium.to_string(),
        receipt,
        report: &saved,
    });
    let is_whole = rescued.as_ref().is_none_or(RescueReport::is_whole);
    ui.result(text(&name, &image, &saved, (args, is_whole)));
    rescue::end(&format!("{name} is saved"), rescued.as_ref(), &args.rescue)
}

/// The image must not come to lie on what is being read.
fn must_not_be_on_source(cx: &Context, args: &SaveArgs) -> Outcome {
    let Some(path) = args.medium.path() else {
        return Ok(());
    };
    let chosen = medium::find(cx, path, false)?;
    let own = cx.readers.footing(&args.to);
    if cx.readers.footing(&chosen.path).meets(&own) {
        let what = format!("{} is, or is on, what is saved", args.to.display());
        return Err(Message::new(Exit::Refused, what)
            .fact("state", "nothing was written")
            .remedy("a name in a folder on another disk"));
    }
    Ok(())
}

fn may_replace(ui: &Ui, args: &SaveArgs) -> Outcome {
    if !args.to.exists() || args.yes {
        return Ok(());
    }
    let name = args.to.display();
    match ui.ask(format!("Replace {name}?")) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was written")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            format!("{name} exists, and there is nobody to ask"),
        )
        .remedy("another name, or --yes")),
    }
}

/// A full disk is no reason to call a good image bad.
fn keep_receipt(
    cx: &Context,
    args: &SaveArgs,
    receipt: &pinewrit_core::receipt::Receipt,
) -> Option<String> {
    let ui = &cx.ui;
    if let Some(place) = &args.receipt {
        let json = receipt.to_json().map_err(|error| error.to_string());
        let saved = json.and_then(|json| {
            pinewrit_core::state::save(place, &json).map_err(|error| error.to_string())
        });
        if let Err(why) = saved {
            ui.warn(format!("note: no receipt in {}: {why}\n", place.display()));
        }
    }
    let stored = cx
        .folders
        .state_if_any()
        .map(|store| store.save_receipt(receipt));
    match stored {
        Some(Ok(path)) => Some(path.display().to_string()),
        Some(Err(error)) => {
            let why = words::error_chain(&error);
            ui.warn(format!("note: no receipt in the state directory: {why}\n"));
            args.receipt
                .as_ref()
                .map(|place| place.display().to_string())
        }
        None => args
            .receipt
            .as_ref()
            .map(|place| place.display().to_string()),
    }
}

fn text(name: &str, image: &str, saved: &Saved, (args, is_whole): (&SaveArgs, bool)) -> String {
    let good = style::GOOD;
    let mut facts = FactList::default();
    let share = 100.0 * saved.packed_bytes as f64 / saved.image_bytes.max(1) as f64;
    facts.add(
        "size",
        format!(
            "{}, {share:.1} % of {}",
            units::size(saved.packed_bytes),
            units::size(saved.image_bytes)
        ),
    );
    facts.add("in use", units::size(saved.used_bytes));
    let time = std::time::Duration::from_secs_f64(saved.save_seconds);
    facts.add("saved in", units::time(time));
    let time = std::time::Duration::from_secs_f64(saved.verify_seconds);
    facts.add(
        "verified",
        format!("decoded and compared in {}, all equal", units::time(time)),
    );
    if saved.files.len() > 1 {
        let last = saved
            .files
            .last()
            .map(|file| file.path.display().to_string());
        facts.add(
            "pieces",
            format!("{} up to {}", saved.files.len(), last.unwrap_or_default()),
        );
    }
    facts.add("sha256", saved.digits());
    for region in saved.regions.iter().filter(|region| region.doubt.is_some()) {
        facts.add("note", write::region_text(region, "saved"));
    }
    let grow = if args.shrink { " --grow" } else { "" };
    let first = saved
        .files
        .first()
        .map_or(image.to_owned(), |file| file.path.display().to_string());
    facts.add(
        "next",
        format!("pinewrit write {first} --to MEDIUM{grow} restores it"),
    );
    let head = if is_whole {
        format!("{good}done:{good:#} {name} is saved as {image}, verified")
    } else {
        format!("{name} is saved as {image}, with gaps")
    };
    format!("{head}\n{}", facts.to_text())
}
