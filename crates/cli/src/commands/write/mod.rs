//! `pinewrit write IMAGE --to MEDIUM`

mod content;
mod done;
mod plan;

use std::io;
use std::path::PathBuf;
use std::sync::Mutex;
use std::thread;
use std::time::{Duration, Instant};

use pinewrit_core::inspect::Inspection;
use pinewrit_core::receipt::{Receipt, ReceiptPartition};
use pinewrit_core::state::save;
use pinewrit_core::unfinished::UnfinishedWrite;
use pinewrit_core::write::{
    ChecksumReport, ReadBack, Target, WriteError, WriteOptions, WriteReport, sum_before, write_all,
};
use pinewrit_core::{Cancel, Observer, Progress, Stage};
use pinewrit_disk::DiskError;
use pinewrit_host::{Bus, Medium, MediumKind, Readers};
use pinewrit_image::ImageSource;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, records, source};
use crate::args::WriteArgs;
use crate::clock;
use crate::events::{Event, MediumName};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::page::{self, Section};
use crate::signals;
use crate::ui::progress::{ProgressView, Screen, Waiting};
use crate::ui::{Answer, Ui};
use done::Done;
pub(super) use plan::unfinished_text;
use plan::{Plan, PlannedMedium};

const NOTHING_WRITTEN: &str = "nothing was written";
/// How often the note of an unfinished write is brought up to date.
const NOTE_EVERY: Duration = Duration::from_secs(3);

/// What was written to one medium.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WriteEvent<'a> {
    /// The command.
    command: &'static str,
    /// The image, as it was named.
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
    const COMMANDS: &'static [&'static str] = &["write", "build"];
}

/// What is about to happen to one medium.
#[derive(Serialize, JsonSchema)]
pub(crate) struct PlanEvent<'a> {
    /// The command: `write`, or `build` for a medium.
    command: &'static str,
    /// The image, as it was named.
    image: String,
    #[serde(flatten)]
    medium: MediumName,
    /// Size of the medium.
    medium_bytes: u64,
    /// Size of the image, where it is known.
    unpacked_bytes: Option<u64>,
    /// Free space in the image, as far as a quick look tells.
    free_bytes: u64,
    /// Whether nothing is written.
    dry_run: bool,
    /// What is in the image.
    preview: Option<&'a Inspection>,
    /// What is on the medium now.
    present: Option<&'a Inspection>,
    /// An earlier write that was interrupted.
    unfinished: Option<&'a UnfinishedWrite>,
}

impl Event for PlanEvent<'_> {
    const EVENT: &'static str = "plan";
}

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &WriteArgs) -> Outcome {
    let plan = plan::make(ui, readers, args)?;
    for medium in &plan.media {
        ui.event(&PlanEvent {
            command: args.command(),
            image: args.image.to_string(),
            medium: MediumName::of(&medium.chosen),
            medium_bytes: medium.target.size(),
            unpacked_bytes: plan.source.unpacked_size().exact(),
            free_bytes: plan.expected_free(),
            dry_run: args.dry_run,
            preview: plan.preview.as_ref(),
            present: medium.present.as_ref(),
            unfinished: medium.note.as_ref(),
        });
    }
    // A draft was told of when it was put together.
    if !args.is_draft {
        ui.say(plan.to_text(ui, args));
    }
    if args.dry_run {
        ui.result("nothing was written (--dry-run); all checks passed\n");
        return Ok(());
    }
    // A wrong image is found out while the question waits.
    let cancel = Cancel::default();
    let (only_changes, checked) = thread::scope(|scope| {
        let expected = plan.checksum.as_ref().filter(|_| !args.is_draft);
        let summing = expected.map(|expected| {
            let (source, cancel) = (&plan.source, &cancel);
            scope.spawn(move || sum_before(source, expected, cancel))
        });
        let only_changes = confirm(ui, args, &plan);
        if only_changes.is_err() {
            cancel.cancel();
        }
        let _waiting = Waiting::new(ui, format!("summing up {}", plan.source.name()));
        let summed = summing.map(|summing| summing.join());
        Ok::<_, Message>((only_changes?, summed))
    })?;
    let checked = match checked {
        Some(Ok(summed)) => summed.map_err(|error| {
            let names = plan.media.iter().map(|one| one.name.as_str());
            let names = names.collect::<Vec<_>>().join(", ");
            let message = explain::write_error(&plan.source.name(), &names, &error);
            message.without(&names).fact("state", NOTHING_WRITTEN)
        })?,
        // A thread that failed has said so, and the writing will sum it up.
        Some(Err(_)) | None => None,
    };
    carry_out(ui, readers, args, plan, (only_changes, checked))
}

/// A new card file holds nothing that could be lost; everything else is asked for. Returns whether
/// only what differs is to be written.
fn confirm(ui: &Ui, args: &WriteArgs, plan: &Plan) -> Result<bool, Message> {
    let sizes = image_sizes(&plan.source);
    let name = plan.source.name();
    let is_begun = |medium: &PlannedMedium| {
        let note = medium.note.as_ref();
        note.is_some_and(|note| note.is_of(&name, sizes))
    };
    let can_go_on = !args.only_changes && plan.media.iter().all(is_begun);
    if args.yes && can_go_on {
        ui.say(
            "an earlier write of this image was not finished: --only-changes goes on from there\n",
        );
    }
    if args.yes || plan.media.iter().all(PlannedMedium::is_new) {
        return Ok(args.only_changes);
    }
    if can_go_on && let Answer::Yes = ui.ask("Go on where the earlier write stopped?") {
        return Ok(true);
    }
    let names: Vec<&str> = plan
        .media
        .iter()
        .map(|medium| medium.name.as_str())
        .collect();
    let names = names.join(" and ");
    match ui.ask(format!("Write {} over {names}?", plan.source.name())) {
        Answer::Yes => Ok(args.only_changes),
        Answer::No => Err(Message::new(Exit::Refused, NOTHING_WRITTEN)),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            format!("{names} would be overwritten, and there is nobody to ask"),
        )
        .remedy("--yes in scripts, after a look at what --dry-run says")),
    }
}

fn image_sizes(source: &ImageSource) -> (Option<u64>, Option<u64>) {
    (source.packed_size(), source.unpacked_size().exact())
}

/// Reading back disturbs the writing of flash behind a slow bus; elsewhere it costs no time.
fn read_back(medium: &Medium, bus: Option<Bus>) -> ReadBack {
    let is_quick = match bus {
        None => medium.kind == MediumKind::CardFile,
        Some(bus) => matches!(bus, Bus::Nvme | Bus::Sata | Bus::Virtual | Bus::Loop),
    };
    if is_quick && medium.is_direct {
        ReadBack::Behind
    } else {
        ReadBack::After
    }
}

fn carry_out(
    ui: &Ui,
    readers: &Readers,
    args: &WriteArgs,
    mut plan: Plan,
    (only_changes, checked): (bool, Option<ChecksumReport>),
) -> Outcome {
    let begun = clock::text();
    let expected_free = plan.expected_free();
    let planned = std::mem::take(&mut plan.media);
    let in_place = planned.iter().any(PlannedMedium::is_drafted);
    let mut media = Vec::new();
    for one in planned {
        let bus = one.bus();
        let medium = one
            .target
            .into_medium()
            .map_err(|e| explain::medium_error(&e))?;
        media.push(OpenMedium {
            read_back: read_back(&medium, bus),
            id: MediumName::of(&one.chosen),
            name: one.name,
            key: one.key,
            facts: one.chosen.facts,
            partition: one.partition,
            whole: one.whole,
            medium,
        });
    }
    let screen = Screen::new();
    let several = media.len() > 1;
    let watchers: Vec<Noting> = media
        .iter()
        .map(|medium| {
            let name = several.then(|| (medium.name.clone(), medium.id.clone()));
            Noting::new(
                ui,
                ProgressView::on(&screen, *ui, name, !args.no_verify),
                &plan.source,
                medium,
                &begun,
            )
        })
        .collect();
    let targets: Vec<Target<'_>> = media
        .iter()
        .zip(&watchers)
        .map(|(medium, watcher)| Target {
            medium: &*medium.medium.device,
            settings: plan.settings.as_ref(),
            // Otherwise somebody was asked, if need be.
            needs_way_in: plan.trial.is_none(),
            grow: args.grow || plan.settings.as_ref().is_some_and(|all| all.grows_root),
            is_partition: medium.partition.is_some(),
            read_back: medium.read_back,
            now: clock::timestamp(),
            observer: watcher,
        })
        .collect();
    let options = WriteOptions {
        verify: !args.no_verify,
        checksum: plan.checksum.as_ref(),
        checked: checked.as_ref(),
        every_byte: args.every_byte,
        clear_free: args.clear_free,
        only_changes,
        in_place,
        expected_free: if args.every_byte { 0 } else { expected_free },
        as_it_is: plan.as_it_is || in_place,
    };
    let written = write_all(&plan.source, &targets, &options, &signals::watch());
    drop(targets);
    let watched: Vec<bool> = watchers.into_iter().map(Noting::end).collect();
    let source = plan.source.name();
    if in_place {
        // A draft that failed is gone, and nobody goes on with it.
        if let Some(state) = records::state_if_any() {
            media.iter().for_each(|one| state.remove_note(&one.key));
        }
    }
    let failed = |names: &str, error: &WriteError| {
        let message = explain::write_error(&source, names, error);
        if in_place {
            message.instead(names, "was not made")
        } else {
            message
        }
    };
    let results = match written {
        Ok(results) => results,
        Err(error) => {
            let mut sections = Vec::new();
            for one in &media {
                forget_unless_resumed(&one.key, &error);
                sections.push(failed_section(one, &source, &failed(&one.name, &error)));
            }
            save_page(ui, args, &sections);
            let names: Vec<&str> = media.iter().map(|medium| medium.name.as_str()).collect();
            return Err(failed(&names.join(", "), &error));
        }
    };
    let download = source::finish(ui, &plan.source, plan::keep(args));
    let mut failure = None;
    let mut sections = Vec::new();
    for ((mut medium, result), is_noted) in media.into_iter().zip(results).zip(watched) {
        let settled = match &result {
            Ok(_) => medium.medium.settle(),
            Err(_) => Ok(()),
        };
        let done = Done {
            ui,
            args,
            plan: &plan,
            medium: &medium,
            begun: &begun,
            download: &download,
        };
        let outcome = match result {
            Ok(report) => {
                if is_noted && let Some(state) = records::state_if_any() {
                    state.remove_note(&medium.key);
                }
                settled
                    .map_err(|e| explain::named_medium_error(&medium.name, &e))
                    .and_then(|()| done.tell(readers, &report, &mut sections))
            }
            Err(error) => {
                forget_unless_resumed(&medium.key, &error);
                Err(failed(&medium.name, &error))
            }
        };
        let outcome = outcome.map_err(|message| message.of(medium.id.clone()));
        if let Err(message) = outcome {
            sections.push(failed_section(&medium, &source, &message));
            // All but the last are told at once.
            if let Some(earlier) = failure.replace(message) {
                tell_failure(ui, &earlier);
            }
        }
    }
    save_page(ui, args, &sections);
    failure.map_or(Ok(()), Err)
}

/// Where nothing is amiss but that it was interrupted, the same write can be resumed; a medium that was
/// found bad, or an image that is wrong, does not invite it.
fn forget_unless_resumed(key: &str, error: &WriteError) {
    let is_gone = |error: &DiskError| {
        error
            .io()
            .is_some_and(|cause| matches!(cause.raw_os_error(), Some(6 | 19)))
    };
    let can_resume = match error {
        WriteError::Cancelled | WriteError::Source(_) | WriteError::Configure(_) => true,
        WriteError::Disk(error) | WriteError::Dead(error) => is_gone(error),
        _ => false,
    };
    if !can_resume && let Some(state) = records::state_if_any() {
        state.remove_note(key);
    }
}

fn failed_section(medium: &OpenMedium, image: &str, message: &Message) -> Section {
    Section::Failed {
        name: medium.name.clone(),
        image: image.to_owned(),
        message: Box::new(message.clone()),
    }
}

fn save_page(ui: &Ui, args: &WriteArgs, sections: &[Section]) {
    let Some(path) = args.report.as_ref().filter(|_| !sections.is_empty()) else {
        return;
    };
    match save(path, page::html(sections).as_bytes()) {
        Ok(()) => ui.say(format!("report in {}\n", path.display())),
        Err(error) => ui.warn(format!("note: no report in {}: {error}\n", path.display())),
    }
}

fn tell_failure(ui: &Ui, message: &Message) {
    ui.event(&message.to_json());
    ui.warn(message.to_text());
}

/// A medium that is being written.
struct OpenMedium {
    name: String,
    id: MediumName,
    key: String,
    facts: Option<pinewrit_host::MediumFacts>,
    partition: Option<ReceiptPartition>,
    /// The receipt of the whole medium without that partition, and where it is.
    whole: Option<(PathBuf, Receipt)>,
    medium: Medium,
    read_back: ReadBack,
}

fn save_note(note: &UnfinishedWrite) -> io::Result<()> {
    let state = records::state_if_any().ok_or(io::ErrorKind::NotFound)?;
    state.save_note(note)
}

/// Shows the progress, and keeps the note of the unfinished write up to date.
struct Noting {
    view: ProgressView,
    state: Mutex<NoteState>,
}

struct NoteState {
    note: UnfinishedWrite,
    saved: Option<Instant>,
    is_writing: bool,
    /// Keeping notes works.
    works: bool,
}

impl Noting {
    fn new(
        ui: &Ui,
        view: ProgressView,
        source: &ImageSource,
        medium: &OpenMedium,
        begun: &str,
    ) -> Self {
        let note = UnfinishedWrite {
            version: UnfinishedWrite::VERSION,
            image: source.name(),
            image_name: source.name(),
            image_sizes: image_sizes(source),
            medium: medium.key.clone(),
            medium_size: pinewrit_disk::BlockDevice::size(&*medium.medium.device),
            begun: begun.to_owned(),
            done: 0,
            total: None,
        };
        let kept = save_note(&note);
        if let Err(error) = &kept {
            ui.say(format!(
                "note: the state folder cannot be written ({error}); an interrupted write would not be \
                 remembered\n"
            ));
        }
        Self {
            view,
            state: Mutex::new(NoteState {
                note,
                saved: None,
                is_writing: false,
                works: kept.is_ok(),
            }),
        }
    }

    /// Leaves the note as it is now; returns whether there is one.
    fn end(self) -> bool {
        let state = self.state.into_inner().unwrap_or_else(|e| e.into_inner());
        state.works && save_note(&state.note).is_ok()
    }
}

impl Observer for Noting {
    fn stage(&self, stage: Stage, total: Option<u64>) {
        let mut state = self.state.lock().unwrap_or_else(|e| e.into_inner());
        state.is_writing = stage == Stage::Write;
        drop(state);
        self.view.stage(stage, total);
    }

    fn progress(&self, progress: Progress) {
        let mut state = self.state.lock().unwrap_or_else(|e| e.into_inner());
        if state.is_writing {
            state.note.done = progress.done;
            state.note.total = progress.total;
            let is_due = state
                .saved
                .is_none_or(|saved| saved.elapsed() >= NOTE_EVERY);
            if state.works && is_due {
                state.works = save_note(&state.note).is_ok();
                state.saved = Some(Instant::now());
            }
        }
        drop(state);
        self.view.progress(progress);
    }
}
