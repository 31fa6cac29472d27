//! `pinewrit write IMAGE --to MEDIUM`

mod destination;
mod doubts;
mod plan_text;
mod result_text;

use std::path::{Path, PathBuf};
use std::thread;

use pinewrit_args::{MediumArgs, WriteArgs};
use pinewrit_boards::{Board, Extent};
use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::state::save;
use pinewrit_core::unfinished::UnfinishedWrite;
use pinewrit_core::write::{
    ChecksumReport, Destination, Failure, JobError, Kept, NotKept, PlanError, Start, WritePlan,
    WriteReport, WriteRequest, Written, WrittenMedium, can_resume, carry_out, sum_before,
};
use pinewrit_core::{Cancel, Observer, Progress, Stage};
use pinewrit_host::{MediumKind, Rescan};
use pinewrit_image::{ImageSource, Location};
use pinewrit_ledger::{Entry, Kind};
use pinewrit_ui::page::{self, Finished, Section};
use pinewrit_ui::progress::{ProgressView, Screen, Waiting};
use pinewrit_ui::{Answer, Event, Exit, MediumName, Message, Ui, words};
use plan_text::PlanText;
use schemars::JsonSchema;
use serde::Serialize;

use super::inspect::device;
use super::{Outcome, eject};
use pinewrit_session::boards;
use pinewrit_session::clock;
use pinewrit_session::signals;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::trust::{self, FoundSignature};
use pinewrit_session::{Context, settings};
pub(crate) use plan_text::unfinished_text;
use result_text::ResultText;
pub(crate) use result_text::region_text;

const NOTHING_WRITTEN: &str = "nothing was written";
/// The program's name in receipts.
pub(crate) const TOOL: &str = concat!("pinewrit ", env!("CARGO_PKG_VERSION"));

/// What was written to one medium.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WriteEvent<'a> {
    /// The command.
    command: &'static str,
    /// The image, as given.
    image: String,
    #[serde(flatten)]
    medium: MediumName,
    /// Path of the receipt.
    receipt: Option<String>,
    #[serde(flatten)]
    report: &'a WriteReport,
}

impl Event for WriteEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["write", "build", "clone"];
}

/// The plan for one medium.
#[derive(Serialize, JsonSchema)]
pub(crate) struct PlanEvent<'a> {
    /// The command: `write`, `clone`, or `build` for a medium.
    command: &'static str,
    /// The image, as given.
    image: String,
    #[serde(flatten)]
    medium: MediumName,
    /// Size of the medium.
    medium_bytes: u64,
    /// Size of the image, if known.
    unpacked_bytes: Option<u64>,
    /// Free space in the image, as far as the preview shows.
    free_bytes: u64,
    /// Whether this is a dry run.
    dry_run: bool,
    /// The signature that was found beside the image; null without one, or without keys.
    signature: Option<&'a FoundSignature>,
    /// The content of the image.
    preview: Option<&'a Inspection>,
    /// The current content of the medium.
    present: Option<&'a Inspection>,
    /// An earlier write that was interrupted.
    unfinished: Option<&'a UnfinishedWrite>,
}

impl Event for PlanEvent<'_> {
    const EVENT: &'static str = "plan";
}

/// A requested write, by this command or as the end of another.
pub(crate) struct Wish<'a> {
    /// The command that was typed.
    pub(crate) command: &'static str,
    /// The image as given.
    pub(crate) image: &'a Location,
    pub(crate) source: ImageSource,
    /// The smallest medium that the image is meant for, in bytes, if the shelf says so.
    pub(crate) smallest: Option<u64>,
    pub(crate) to: &'a [PathBuf],
    pub(crate) access: &'a MediumArgs,
    pub(crate) size: Option<u64>,
    pub(crate) into: Option<&'a str>,
    pub(crate) request: WriteRequest,
    /// The path of its report page.
    pub(crate) report: Option<&'a Path>,
    pub(crate) keep: Keep,
    pub(crate) only_changes: bool,
    /// The board that is to start from it.
    pub(crate) board: Option<Board>,
    /// The signature that was found beside the image.
    pub(crate) signature: Option<FoundSignature>,
    pub(crate) eject: bool,
    pub(crate) dry_run: bool,
    pub(crate) yes: bool,
    /// The image is a draft of the new card file, and becomes it.
    pub(crate) is_draft: bool,
}

/// A request with nothing but settings, which are read and checked.
pub(crate) fn request(
    ui: &Ui,
    settings: Option<&Path>,
    intake: Option<&str>,
) -> Result<WriteRequest, Message> {
    let settings = settings.map(|path| settings::read(ui, path, intake));
    let settings = settings.transpose()?;
    Ok(WriteRequest {
        settings_digest: settings.as_ref().map(settings::digest),
        settings,
        ..WriteRequest::new(TOOL, clock::seconds)
    })
}

/// The board that was named, or that the settings name.
pub(crate) fn board(named: Option<&str>, request: &WriteRequest) -> Result<Option<Board>, Message> {
    let settings = request.settings.as_ref();
    let wanted = named.or_else(|| settings?.board.as_deref());
    wanted.map(boards::find).transpose()
}

pub(crate) fn run(cx: &Context, args: &WriteArgs) -> Outcome {
    let keep = if args.keep_download {
        Keep::Yes
    } else {
        Keep::No
    };
    let named = source::open_named(cx, &args.image, &args.options, keep)?;
    let vouched = trust::vouched(&named, args.checksum.as_deref(), args.signed_by.as_deref())?;
    let listed = named.listed.as_ref();
    let intake = listed.and_then(|one| one.intake.as_deref());
    let intake = args.intake.as_deref().or(intake);
    let settings = request(&cx.ui, args.settings.as_deref(), intake)?;
    let request = WriteRequest {
        checksum: vouched.checksum,
        grow: args.grow,
        verify: !args.no_verify,
        every_byte: args.every_byte,
        clear_free: args.clear_free,
        as_it_is: args.as_it_is,
        receipt: args.receipt.clone(),
        ..settings
    };
    let wish = Wish {
        command: "write",
        image: &args.image,
        smallest: listed
            .and_then(|one| one.smallest)
            .filter(|_| !args.as_it_is),
        source: named.source,
        to: &args.to,
        access: &args.medium,
        size: args.size,
        into: args.into.as_deref(),
        board: board(args.board.as_deref(), &request)?.filter(|_| args.into.is_none()),
        signature: vouched.signature,
        request,
        report: args.report.as_deref(),
        keep,
        only_changes: args.only_changes,
        eject: args.eject,
        dry_run: args.dry_run,
        yes: args.yes,
        is_draft: false,
    };
    carry(cx, &wish)
}

/// Carries out a request: plan, questions, work, result.
pub(crate) fn carry(cx: &Context, wish: &Wish<'_>) -> Outcome {
    let ui = &cx.ui;
    let (media, ids) = destination::open_all(cx, wish)?;
    if let Some(board) = &wish.board {
        let extent = Extent::Image(wish.source.unpacked_size().exact());
        let place = (&*device(&wish.source), extent);
        boards::must_start(cx, board, place, (&wish.source.name(), NOTHING_WRITTEN))?;
    }
    doubts::must_be_large_enough(wish, &media)?;
    let mut plan = plan(ui, wish, media)?;
    let expected = plan_text::expected(cx, &plan);
    plan.request.expected_seconds = expected.as_ref().map(|(seconds, _)| *seconds);
    for (medium, id) in plan.media.iter().zip(&ids) {
        ui.event(&PlanEvent {
            command: wish.command,
            image: wish.image.to_string(),
            medium: id.clone(),
            medium_bytes: medium.target.size(),
            unpacked_bytes: plan.source.unpacked_size().exact(),
            free_bytes: plan.expected_free(),
            dry_run: wish.dry_run,
            signature: wish.signature.as_ref(),
            preview: plan.preview.as_ref(),
            present: medium.present.as_ref(),
            unfinished: medium.note.as_ref(),
        });
    }
    // A draft was reported when it was assembled.
    if !wish.is_draft {
        let text = PlanText {
            plan: &plan,
            is_verbose: ui.verbose,
            expected: expected.as_ref().map(|(_, text)| text.as_str()),
            is_copy: wish.command == "clone",
            signature: wish.signature.as_ref(),
        };
        ui.say(text.to_text());
    }
    if wish.dry_run {
        ui.result("nothing was written (--dry-run); all checks passed\n");
        return Ok(());
    }
    let start = ask_and_sum(ui, wish, &plan)?;
    cx.begin_ledger();
    Work { cx, wish, ids }.run(&mut plan, &start)
}

fn plan(ui: &Ui, wish: &Wish<'_>, media: Vec<Destination>) -> Result<WritePlan, Message> {
    let name = wish.source.name();
    let told = |error: PlanError| words::plan_error(&name, &error);
    let waiting = Waiting::new(ui, format!("looking into {name}"));
    let plan = WritePlan::new(wish.source.clone(), media, wish.request.clone());
    drop(waiting);
    let mut plan = plan.map_err(told)?;
    doubts::ask(ui, wish, &mut plan)?;
    plan.rehearse().map_err(told)?;
    if let Some(report) = plan.rehearsal.as_ref().filter(|_| !wish.dry_run) {
        settings::must_have_way_in(ui, report, wish.yes)?;
    }
    Ok(plan)
}

/// Asks whether to write; the image's checksum is verified while the question waits.
fn ask_and_sum(ui: &Ui, wish: &Wish<'_>, plan: &WritePlan) -> Result<Start, Message> {
    let cancel = Cancel::default();
    let (only_changes, summed) = thread::scope(|scope| {
        let expected = plan.request.checksum.as_ref();
        let summing = expected.map(|expected| {
            let (source, cancel) = (&plan.source, &cancel);
            scope.spawn(move || sum_before(source, expected, cancel))
        });
        let only_changes = confirm(ui, wish, plan);
        if only_changes.is_err() {
            cancel.cancel();
        }
        let _waiting = Waiting::new(ui, format!("hashing {}", plan.source.name()));
        let summed = summing.map(|summing| summing.join());
        Ok::<_, Message>((only_changes?, summed))
    })?;
    let checked: Option<ChecksumReport> = match summed {
        Some(Ok(summed)) => summed.map_err(|error| {
            let names = names(plan, ", ");
            let message = words::write_error(&plan.source.name(), &names, &error);
            message.without(&names).fact("state", NOTHING_WRITTEN)
        })?,
        // A failed thread has reported that, and the write will compute the checksum itself.
        Some(Err(_)) | None => None,
    };
    Ok(Start {
        only_changes,
        checked,
    })
}

fn names(plan: &WritePlan, between: &str) -> String {
    let names: Vec<&str> = plan.media.iter().map(|one| one.name.as_str()).collect();
    names.join(between)
}

/// A new card file holds nothing that could be lost; anything else needs confirmation. Returns
/// whether to write only differences.
fn confirm(ui: &Ui, wish: &Wish<'_>, plan: &WritePlan) -> Result<bool, Message> {
    let resumes = !wish.only_changes && can_resume(&plan.source, &plan.media);
    if wish.yes && resumes {
        ui.say("an earlier write of this image was interrupted: --only-changes resumes it\n");
    }
    if wish.yes || plan.media.iter().all(Destination::is_new) {
        return Ok(wish.only_changes);
    }
    if resumes && let Answer::Yes = ui.ask("Resume the interrupted write?") {
        return Ok(true);
    }
    let names = names(plan, " and ");
    match ui.ask(format!("Write {} over {names}?", plan.source.name())) {
        Answer::Yes => Ok(wish.only_changes),
        Answer::No => Err(Message::new(Exit::Refused, NOTHING_WRITTEN)),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            format!("{names} would be overwritten, and there is nobody to ask"),
        )
        .remedy("--yes in scripts, after a look at what --dry-run says")),
    }
}

/// Shows the progress of a medium, and warns if an interruption would not be recorded.
struct Watcher<'a> {
    ui: &'a Ui,
    view: ProgressView,
}

impl Observer for Watcher<'_> {
    fn stage(&self, stage: Stage, total: Option<u64>) {
        self.view.stage(stage, total);
    }

    fn progress(&self, progress: Progress) {
        self.view.progress(progress);
    }

    fn not_remembered(&self, why: &std::io::Error) {
        self.ui.say(format!(
            "note: the state directory cannot be written ({why}); an interrupted write would not be \
             remembered\n"
        ));
    }
}

/// The work itself, and its messages.
struct Work<'a> {
    cx: &'a Context,
    wish: &'a Wish<'a>,
    /// The names of the media in JSON.
    ids: Vec<MediumName>,
}

impl Work<'_> {
    fn run(&self, plan: &mut WritePlan, start: &Start) -> Outcome {
        let ui = &self.cx.ui;
        let image = plan.source.name();
        let screen = Screen::on_stderr();
        let several = plan.media.len() > 1;
        let watchers: Vec<Watcher<'_>> = plan
            .media
            .iter()
            .zip(&self.ids)
            .map(|(medium, id)| {
                let name = several.then(|| (medium.name.clone(), id.clone()));
                Watcher {
                    ui,
                    view: ProgressView::on(&screen, *ui, name, plan.request.verify),
                }
            })
            .collect();
        let observers: Vec<&dyn Observer> = watchers.iter().map(|one| one as &_).collect();
        let store = self.cx.folders.state_if_any();
        let surroundings = self.cx.surroundings(store.as_ref());
        let done = carry_out(plan, start, surroundings, &observers, &signals::watch());
        drop(observers);
        drop(watchers);
        let media = match done {
            Ok(media) => media,
            Err(JobError::Open(error)) => return Err(words::medium_error(&error)),
            Err(JobError::Write { error, media }) => {
                let names: Vec<String> = media.into_iter().map(|one| one.name).collect();
                let failed = |names: &str| self.failed(&image, names, &Failure::Write(error));
                return Err(self.all_failed(&image, &names, failed));
            }
        };
        self.tell_all(plan, media)
    }

    fn all_failed(
        &self,
        image: &str,
        names: &[String],
        failed: impl FnOnce(&str) -> Message,
    ) -> Message {
        let message = failed(&names.join(", "));
        let sections: Vec<Section> = names
            .iter()
            .map(|name| failed_section(name, image, &message))
            .collect();
        self.save_page(&sections);
        message
    }

    /// Why a medium was not written.
    fn failed(&self, image: &str, name: &str, failure: &Failure) -> Message {
        match failure {
            Failure::Settle(error) => words::named_medium_error(name, error),
            Failure::Write(error) => {
                let message = words::write_error(image, name, error);
                if self.wish.is_draft {
                    message.instead(name, "was not created")
                } else {
                    message
                }
            }
        }
    }

    /// Reports the outcome for each medium, and ejects those requested.
    fn tell_all(&self, plan: &WritePlan, media: Vec<WrittenMedium>) -> Outcome {
        let ui = &self.cx.ui;
        let image = plan.source.name();
        let download = source::finish(self.cx, &plan.source, self.wish.keep);
        let mut failure = None;
        let mut sections = Vec::new();
        for (medium, id) in media.iter().zip(&self.ids) {
            let name = &medium.name;
            let outcome = match &medium.result {
                Ok(written) => {
                    let told = self.tell(plan, medium, (id, &download), written);
                    sections.extend(told.1);
                    told.0
                }
                Err(error) => Err(self.failed(&image, name, error)),
            };
            if let Err(message) = outcome {
                let message = message.of(id.clone());
                self.cx.record_failure(id.tag.as_deref(), message.what());
                sections.push(failed_section(name, &image, &message));
                // All but the last are reported at once.
                if let Some(earlier) = failure.replace(message) {
                    tell_failure(ui, &earlier);
                }
            }
        }
        self.save_page(&sections);
        failure.map_or(Ok(()), Err)
    }

    /// Reports the result for a medium, and ejects it if requested; also returns its part of the
    /// page.
    fn tell(
        &self,
        plan: &WritePlan,
        medium: &WrittenMedium,
        (id, download): (&MediumName, &[(&'static str, String)]),
        written: &Written,
    ) -> (Outcome, Option<Section>) {
        let (ui, wish) = (&self.cx.ui, self.wish);
        self.tell_kept(&written.kept);
        self.record(medium, written);
        let device = &*medium.medium.device;
        let section = wish.report.is_some().then(|| {
            Section::Done(Box::new(Finished {
                name: medium.name.clone(),
                receipt: written.receipt.clone(),
                content: inspect(device, Some(device.size())).ok(),
            }))
        });
        let is_ejected = wish.eject && medium.medium.kind != MediumKind::CardFile;
        let ejected = is_ejected.then(|| self.cx.readers.eject_open(&medium.medium));
        let rescan = if is_ejected {
            // Nothing may mount it now.
            Rescan::NotApplicable
        } else {
            medium.medium.rescan()
        };
        let receipt = written.kept.path.as_ref().or(plan.request.receipt.as_ref());
        ui.event(&WriteEvent {
            command: wish.command,
            image: wish.image.to_string(),
            medium: id.clone(),
            receipt: receipt.map(|place| place.display().to_string()),
            report: &written.report,
        });
        let text = ResultText {
            plan,
            medium,
            rescan,
            is_ejected,
            is_draft: wish.is_draft,
            is_copy: wish.command == "clone",
            is_verbose: ui.verbose,
            download,
        };
        ui.result(text.to_text(&written.report));
        let ready = wish.board.as_ref().map_or(Ok(()), |board| {
            let extent = Extent::Medium(device.size());
            let state = "it is written and verified";
            boards::must_start(self.cx, board, (device, extent), (&medium.name, state))
        });
        let outcome = match ejected {
            Some(Ok(power)) => {
                let text = eject::farewell(&medium.name, &power);
                ui.result(format!("{text}\n"));
                Ok(())
            }
            Some(Err(error)) => Err(eject::after_writing(&medium.name, &error)),
            None => Ok(()),
        };
        (outcome.and(ready), section)
    }

    /// In the ledger; with what it was made from, if it is a copy.
    fn record(&self, medium: &WrittenMedium, written: &Written) {
        let kind = match self.wish.command {
            "clone" => Kind::Clone,
            "build" => Kind::Build,
            _ => Kind::Write,
        };
        let settings = self.wish.request.settings.as_ref();
        let wired = settings.into_iter().flat_map(|settings| &settings.wired);
        let addresses = wired.flat_map(|wired| wired.addresses.iter().map(ToString::to_string));
        let part = medium
            .partition
            .map(|partition| format!("partition {}", partition.number));
        let from = (kind == Kind::Clone).then(|| format!("from {}", self.wish.source.name()));
        let entry = Entry {
            addresses: addresses.collect(),
            remark: from.or(part),
            ..Entry::new(kind, clock::seconds())
        };
        self.cx.record(entry, Some(&written.receipt));
    }

    /// A full disk is no reason to call a good card bad.
    fn tell_kept(&self, kept: &Kept) {
        let ui = &self.cx.ui;
        if let Some(why) = &kept.not_stored {
            let why = match why {
                NotKept::NoStore => "it cannot be used".to_owned(),
                NotKept::Failed(error) => words::error_chain(error),
            };
            ui.warn(format!("note: no receipt in the state directory: {why}\n"));
        }
        if let Some((place, why)) = &kept.not_at {
            ui.warn(format!("note: no receipt in {}: {why}\n", place.display()));
        }
        if let Some(error) = &kept.not_amended {
            let why = words::error_chain(error);
            ui.warn(format!(
                "note: the receipt does not have this change: {why}\n"
            ));
        }
    }

    fn save_page(&self, sections: &[Section]) {
        let Some(path) = self.wish.report.filter(|_| !sections.is_empty()) else {
            return;
        };
        let ui = &self.cx.ui;
        match save(path, page::html(sections).as_bytes()) {
            Ok(()) => ui.say(format!("report in {}\n", path.display())),
            Err(error) => ui.warn(format!("note: no report in {}: {error}\n", path.display())),
        }
    }
}

fn failed_section(name: &str, image: &str, message: &Message) -> Section {
    Section::Failed {
        name: name.to_owned(),
        image: image.to_owned(),
        message: Box::new(message.clone()),
    }
}

fn tell_failure(ui: &Ui, message: &Message) {
    ui.event(&message.to_json());
    ui.warn(message.to_text());
}
