//! `pinewrit write IMAGE --to MEDIUM`

use std::time::Duration;

use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::settings::CheckedSettings;
use pinewrit_core::write::{WriteOptions, WriteReport, write};
use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_host::{Medium, MediumKind, Readers, Rescan, Target};
use pinewrit_image::{ExpectedChecksum, ImageSource, PeekDevice, UnpackedSize, find_beside};
use serde::Serialize;

use super::report::{self, Facts};
use super::source::{self, Keep};
use super::{Outcome, configure, settings, target};
use crate::args::WriteArgs;
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::signals;
use crate::ui::progress::{ProgressView, Waiting};
use crate::ui::{Answer, Ui, style, units};

/// How far into a packed image is looked before writing.
const PREVIEW: u64 = 256 << 20;

const NOTHING_WRITTEN: &str = "nothing was written";

/// Everything that is known before the first byte.
struct Plan {
    source: ImageSource,
    target: Target,
    checksum: Option<ExpectedChecksum>,
    settings: Option<CheckedSettings>,
    /// What is in the image, as far as a quick look reaches.
    preview: Option<Inspection>,
    /// What is on an existing medium now.
    present: Option<Inspection>,
}

#[derive(Serialize)]
struct WriteEvent<'a> {
    event: &'static str,
    command: &'static str,
    image: String,
    medium: String,
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
    dry_run: bool,
    preview: Option<&'a Inspection>,
    present: Option<&'a Inspection>,
}

pub(crate) fn run(ui: &Ui, readers: &Readers, args: &WriteArgs) -> Outcome {
    let plan = plan(ui, readers, args)?;
    ui.event(&PlanEvent {
        event: "plan",
        image: args.image.to_string(),
        medium: args.to.display().to_string(),
        medium_bytes: plan.target.size(),
        unpacked_bytes: plan.source.unpacked_size().exact(),
        dry_run: args.dry_run,
        preview: plan.preview.as_ref(),
        present: plan.present.as_ref(),
    });
    ui.say(plan_text(ui, &plan));
    if args.dry_run {
        ui.result("nothing was written (--dry-run); all checks passed\n");
        return Ok(());
    }
    confirm(ui, args, &plan)?;
    carry_out(ui, args, plan)
}

/// Checks everything that can be checked before writing.
fn plan(ui: &Ui, readers: &Readers, args: &WriteArgs) -> Result<Plan, Message> {
    let keep = match args.keep_download {
        true => Keep::Yes,
        false => Keep::No,
    };
    let source = source::open(ui, &args.image, &args.options, keep)?;
    let checksum = match &args.checksum {
        Some(text) => ExpectedChecksum::from_argument(text, &source).map(Some),
        None => find_beside(&source),
    };
    let checksum = checksum.map_err(|e| explain::checksum_error(&e))?;
    let settings = args.settings.as_ref();
    let settings = settings.map(|path| settings::read(ui, path)).transpose()?;
    let mut chosen = target::find(readers, &args.to, args.size.is_some())?;
    let permits = match args.dry_run {
        true => chosen.given_permits(&args.medium),
        false => chosen.permits(ui, readers, &args.medium)?,
    };
    let target = readers
        .open_target(&chosen.path, args.size, &permits)
        .map_err(|e| explain::medium_error(&e))?;
    let present = look_at_present(&source, &target)?;
    check_fit(&source, &target)?;
    let waiting = Waiting::new(ui, format!("looking into {}", source.name()));
    let device = PeekDevice::new(source.for_a_look());
    let device = match source.layers() {
        // Without a wrapping, any place costs the same.
        [] => device,
        _ => device.with_limit(PREVIEW),
    };
    let preview = match inspect(&device, source.unpacked_size().exact()) {
        Ok(preview) => Some(preview),
        // So far into a download that it is not fetched for a look.
        Err(DiskError::PastEnd { .. }) if source.fetch_stats().is_some() => None,
        Err(error) => {
            let message = explain::disk_error(&source.name(), &error);
            return Err(message.fact("state", NOTHING_WRITTEN));
        }
    };
    drop(waiting);
    let plan = Plan {
        source,
        target,
        checksum,
        settings,
        preview,
        present,
    };
    check_place_for_settings(&plan)?;
    Ok(plan)
}

fn check_fit(source: &ImageSource, target: &Target) -> Outcome {
    match source.unpacked_size().exact() {
        Some(image) if image > target.size() => {
            Err(explain::too_large(&target.name(), image, target.size()))
        }
        _ => Ok(()),
    }
}

fn look_at_present(source: &ImageSource, target: &Target) -> Result<Option<Inspection>, Message> {
    let Target::Existing(medium) = target else {
        return Ok(None);
    };
    if source.files().any(|file| medium.is_same_file(file)) {
        return Err(Message::new(
            Exit::Usage,
            format!("{} is the image itself", medium.name()),
        )
        .remedy("name another medium with --to"));
    }
    // A medium that cannot be read now may still be worth writing; it will tell by itself.
    Ok(inspect(&*medium.device, Some(medium.device.size())).ok())
}

/// Settings need a FAT partition. Where the preview reaches, its absence is told before writing.
fn check_place_for_settings(plan: &Plan) -> Outcome {
    let (Some(_), Some(preview)) = (&plan.settings, &plan.preview) else {
        return Ok(());
    };
    let is_fat = |fs: &pinewrit_core::filesystem::FilesystemFacts| fs.is_fat();
    let possible = preview.filesystem.as_ref().is_some_and(is_fat)
        || preview.partitions.iter().any(|partition| {
            let facts = partition.filesystem.as_ref();
            facts.is_some_and(is_fat) || (facts.is_none() && partition.start >= PREVIEW)
        });
    if possible {
        return Ok(());
    }
    let found = preview
        .partitions
        .iter()
        .map(|p| format!("{} {}", p.number, p.kind));
    let error = pinewrit_core::configure::ConfigureError::NoPlace {
        found: found.collect(),
    };
    Err(explain::configure_error(&plan.source.name(), &error).fact("state", NOTHING_WRITTEN))
}

fn plan_text(ui: &Ui, plan: &Plan) -> String {
    let (source, target) = (&plan.source, &plan.target);
    let warning = style::WARNING;
    let mut facts = Facts::default();
    let size = match source.unpacked_size() {
        UnpackedSize::Exact(bytes) => units::size(bytes),
        UnpackedSize::AtLeast(bytes) => format!("at least {}", units::size(bytes)),
        UnpackedSize::Unknown => "size unknown".to_owned(),
    };
    let wrapping = match source.layers() {
        [] => size,
        _ => format!("{}, {size} unpacked", report::wrapping(source)),
    };
    facts.add("image", format!("{}  {wrapping}", source.name()));
    if let Some(why) = source.xz_in_one_thread().filter(|_| ui.verbose) {
        facts.add("unpacking", report::one_thread(why));
    }
    facts.add("medium", medium_text(target));
    if let Some(image) = source.unpacked_size().exact() {
        let left = units::size(target.size() - image);
        facts.add("fits", format!("yes, {left} stay free"));
    } else if source.unpacked_size().at_least() > target.size() {
        let doubt = "probably not; what the wrapping says of its size may be wrong";
        facts.add("fits", format!("{warning}{doubt}{warning:#}"));
    } else {
        facts.add(
            "fits",
            "not known before it is unpacked; it stops at the medium's end",
        );
    }
    match &plan.preview {
        Some(preview) => report::content(preview, &mut facts),
        None => facts.add("content", "not known before more of it is fetched"),
    }
    match &plan.checksum {
        Some(sum) => facts.add("checksum", report::checksum(sum)),
        None => facts.add("checksum", "none given, none found beside the image"),
    }
    if let Some(settings) = &plan.settings {
        facts.add("settings", settings::brief(settings));
    }
    if let Some(present) = &plan.present {
        let summary = report::summary(present);
        facts.add(
            "lost",
            match present.is_unknown() {
                true => summary,
                false => format!("{warning}{summary}{warning:#}"),
            },
        );
    }
    facts.to_text()
}

fn medium_text(target: &Target) -> String {
    let kind = match target {
        Target::New { .. } => "new card file",
        Target::Existing(medium) => match medium.kind {
            MediumKind::CardFile => "card file",
            MediumKind::BlockDevice => "block device",
            MediumKind::Simulated => "simulated medium",
        },
    };
    format!("{}  {kind}, {}", target.name(), units::size(target.size()))
}

/// A new card file holds nothing that could be lost; everything else is asked for.
fn confirm(ui: &Ui, args: &WriteArgs, plan: &Plan) -> Outcome {
    if args.yes || plan.present.is_none() && matches!(plan.target, Target::New { .. }) {
        return Ok(());
    }
    let name = plan.target.name();
    match ui.ask(format!("Write {} over {name}?", plan.source.name())) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was written")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            format!("{name} would be overwritten, and there is nobody to ask"),
        )
        .remedy("--yes in scripts, after a look at what --dry-run says")),
    }
}

fn carry_out(ui: &Ui, args: &WriteArgs, plan: Plan) -> Outcome {
    let Plan {
        source,
        target,
        checksum,
        settings,
        ..
    } = plan;
    let medium = target
        .into_medium()
        .map_err(|e| explain::medium_error(&e))?;
    let options = WriteOptions {
        verify: !args.no_verify,
        checksum: checksum.as_ref(),
        settings: settings.as_ref(),
    };
    let view = ProgressView::new(*ui);
    let written = write(&source, &*medium.device, &options, &view, &signals::watch());
    drop(view);
    let report = written.map_err(|e| explain::write_error(&source.name(), &medium.name(), &e))?;
    let download = source::finish(ui, &source);
    let rescan = medium.rescan();
    ui.event(&WriteEvent {
        event: "result",
        command: "write",
        image: args.image.to_string(),
        medium: args.to.display().to_string(),
        report: &report,
    });
    let done = Done {
        source: &source,
        medium: &medium,
        report: &report,
        checksum: checksum.as_ref(),
        settings: settings.as_ref(),
        rescan,
        download,
    };
    ui.result(done.text(ui));
    Ok(())
}

/// Everything there is to say of a finished medium.
struct Done<'a> {
    source: &'a ImageSource,
    medium: &'a Medium,
    report: &'a WriteReport,
    checksum: Option<&'a ExpectedChecksum>,
    settings: Option<&'a CheckedSettings>,
    rescan: Rescan,
    /// How fetching went, in words.
    download: Vec<(&'static str, String)>,
}

impl Done<'_> {
    fn text(&self, ui: &Ui) -> String {
        let good = style::GOOD;
        let verified = if self.report.verified {
            "verified"
        } else {
            "not verified"
        };
        let identity = self
            .settings
            .and_then(|settings| settings.host_name.as_ref());
        let identity = identity.map_or(String::new(), |name| format!(", as {name}"));
        let mut facts = Facts::default();
        facts.add(
            "written",
            amount(self.report.image_bytes, self.report.write_seconds),
        );
        match self.report.verified {
            true => facts.add(
                "read back",
                amount(self.report.image_bytes, self.report.verify_seconds),
            ),
            false => facts.add("read back", "not done (--no-verify)"),
        }
        if let (Some(expected), Some(found)) = (self.checksum, &self.report.checksum) {
            let (kind, origin) = (expected.checksum.kind.word(), report::origin(expected));
            facts.add(
                "checksum",
                format!("{kind} of the {} matches, {origin}", found.of),
            );
        }
        if let Some(report) = &self.report.configured {
            facts.add("settings", configure::files(report));
            if let Some(note) = configure::label_note(report) {
                facts.add("note", note);
            }
        }
        for (name, text) in &self.download {
            facts.add(name, text.as_str());
        }
        if ui.verbose {
            let way = match self.medium.is_direct {
                true => "direct, past the system's cache",
                false => "through the system's cache",
            };
            facts.add("transfers", way);
        }
        if self.rescan == Rescan::InUse {
            facts.add(
                "note",
                "this computer shows the old partitions until it is plugged in again",
            );
        }
        facts.add(
            "next",
            match self.medium.kind {
                MediumKind::CardFile => format!("pinewrit inspect {}", self.medium.path.display()),
                MediumKind::BlockDevice | MediumKind::Simulated => {
                    "everything is flushed; take it out".to_owned()
                }
            },
        );
        format!(
            "{good}done:{good:#} {} holds {}, {verified}{identity}\n{}",
            self.medium.name(),
            self.source.name(),
            facts.to_text()
        )
    }
}

fn amount(bytes: u64, seconds: f64) -> String {
    let time = Duration::from_secs_f64(seconds);
    if seconds < 0.1 {
        // Too short for a rate that means anything.
        return units::size(bytes);
    }
    format!(
        "{} in {} ({})",
        units::size(bytes),
        units::time(time),
        units::rate(bytes, time)
    )
}
