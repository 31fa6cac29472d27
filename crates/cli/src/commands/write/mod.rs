//! `pinewrit write IMAGE --to MEDIUM`

mod content;
mod done;
mod plan;

use std::io;
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use pinewrit_core::inspect::Inspection;
use pinewrit_core::receipt::{Receipt, ReceiptPartition};
use pinewrit_core::state::save;
use pinewrit_core::unfinished::UnfinishedWrite;
use pinewrit_core::write::{ReadBack, Target, WriteError, WriteOptions, WriteReport, write_all};
use pinewrit_core::{Observer, Progress, Stage};
use pinewrit_host::{Bus, Medium, MediumKind, Readers};
use pinewrit_image::ImageSource;
use serde::Serialize;

use super::{Outcome, records, source};
use crate::args::WriteArgs;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::page;
use crate::signals;
use crate::ui::progress::{ProgressView, Screen};
use crate::ui::{Answer, Ui};
use done::Done;
pub(super) use plan::unfinished_text;
use plan::{Plan, PlannedMedium};

const NOTHING_WRITTEN: &str = "nothing was written";
/// How often the note of an unfinished write is brought up to date.
const NOTE_EVERY: Duration = Duration::from_secs(3);

#[derive(Serialize)]
struct WriteEvent<'a> {
    event: &'static str,
    command: &'static str,
    image: String,
    medium: String,
    receipt: Option<String>,
    #[serde(flatten)]
    report: &'a WriteReport,
}

#[derive(Serialize)]
struct PlanEvent<'a> {
    event: &'static str,
    image: String,
    medium: String,
    medium_bytes: u64,
    unpacked_bytes: Option<u64>,
    free_bytes: u64,
    dry_run: bool,
    preview: Option<&'a Inspection>,
    present: Option<&'a Inspection>,
    unfinished: Option<&'a UnfinishedWrite>,
}

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &WriteArgs) -> Outcome {
    let plan = plan::make(ui, readers, args)?;
    for (medium, named) in plan.media.iter().zip(&args.to) {
        ui.event(&PlanEvent {
            event: "plan",
            image: args.image.to_string(),
            medium: named.display().to_string(),
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
    let only_changes = confirm(ui, args, &plan)?;
    carry_out(ui, readers, args, plan, only_changes)
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
    match is_quick && medium.is_direct {
        true => ReadBack::Behind,
        false => ReadBack::After,
    }
}

fn carry_out(
    ui: &Ui,
    readers: &Readers,
    args: &WriteArgs,
    mut plan: Plan,
    only_changes: bool,
) -> Outcome {
    let begun = records::now();
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
            let name = several.then(|| medium.name.clone());
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
            observer: watcher,
        })
        .collect();
    let options = WriteOptions {
        verify: !args.no_verify,
        checksum: plan.checksum.as_ref(),
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
        match in_place {
            true => message.instead(names, "was not made"),
            false => message,
        }
    };
    let results = written.map_err(|error| {
        let names: Vec<&str> = media.iter().map(|medium| medium.name.as_str()).collect();
        failed(&names.join(", "), &error)
    })?;
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
            Err(error) => Err(failed(&medium.name, &error)),
        };
        if let Err(message) = outcome {
            // All but the last are told at once.
            if let Some(earlier) = failure.replace(message) {
                tell_failure(ui, &earlier);
            }
        }
    }
    if let Some(path) = args.report.as_ref().filter(|_| !sections.is_empty()) {
        match save(path, page::html(&sections).as_bytes()) {
            Ok(()) => ui.say(format!("report in {}\n", path.display())),
            Err(error) => ui.warn(format!("note: no report in {}: {error}\n", path.display())),
        }
    }
    failure.map_or(Ok(()), Err)
}

fn tell_failure(ui: &Ui, message: &Message) {
    ui.event(&message.to_json());
    ui.warn(message.to_text());
}

/// A medium that is being written.
struct OpenMedium {
    name: String,
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
