//! `pinewrit build LAYOUT --to MEDIUM`

use std::fs::{self, File};
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use pinewrit_args::{BuildArgs, SourceArgs};
use pinewrit_build::{BuildOptions, BuildPlan, BuildReport, Layout};
use pinewrit_core::Cancel;
use pinewrit_core::inspect::{Inspection, inspect};
use pinewrit_core::write::WriteRequest;
use pinewrit_disk::{BlockDevice, CacheUse, FileDevice, SectorSize};
use pinewrit_host::{MediumError, Verdict};
use pinewrit_image::{Location, Packing};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::words;
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{Event, Exit, Message, Ui, style, units};
use pinewrit_volume::FilesystemFacts;
use rustix::fs::FlockOperation;
use schemars::JsonSchema;
use serde::Serialize;
use tempfile::TempDir;
use uuid::Uuid;

use super::Outcome;
use super::write::{self, Wish};
use pinewrit_session::clock;
use pinewrit_session::signals;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, medium};

/// A layout larger than this was not written by a person.
const MAX_FILE: u64 = 1 << 20;

/// What was built.
#[derive(Serialize, JsonSchema)]
pub(crate) struct BuildEvent<'a> {
    /// The command.
    command: &'static str,
    /// Path of the layout.
    layout: String,
    /// What was built, as given.
    to: String,
    /// Its bytes.
    size: u64,
    /// Whether this was a dry run.
    dry_run: bool,
    #[serde(flatten)]
    report: Option<&'a BuildReport>,
    /// Its content.
    inspection: &'a Inspection,
}

impl Event for BuildEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["build"];
}

/// The same, if it was written to a medium.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct BuiltEvent<'a>(BuildEvent<'a>);

impl Event for BuiltEvent<'_> {
    const EVENT: &'static str = "built";
}

/// The target.
enum Goal {
    Packed(Packing),
    Medium,
}

pub(crate) fn run(cx: &Context, args: &BuildArgs) -> Outcome {
    let ui = &cx.ui;
    let name = args.layout.display().to_string();
    let layout = read(&args.layout)?;
    medium::must_not_end_so(&args.to, &["zst", "xz", "gz"])?;
    let goal = match Packing::of(&args.to) {
        Some(packing) => Goal::Packed(packing),
        None => Goal::Medium,
    };
    let (size, sector) = size_of(cx, args, &layout, &goal)?;
    let scratch = Scratch::make(args, size)?;
    let device = scratch.device(sector)?;
    let random = || Uuid::new_v4().into_bytes();
    let options = BuildOptions {
        random: &random,
        now: clock::seconds(),
        zone: args.fat.fat_zone.clone(),
        open: source::plain_options(),
    };
    let plan = pinewrit_build::plan(&layout, &device, &options)
        .map_err(|e| words::build_error(&name, &e))?;
    let report = if args.dry_run {
        plan.write_table(&device)
            .map_err(|e| words::build_error(&name, &e))?;
        None
    } else {
        Some(fill(ui, &name, &layout, &plan, &device, &options)?)
    };
    let mut found = inspect(&device, Some(size)).map_err(|e| words::disk_error(&name, &e))?;
    if args.dry_run {
        show_planned(&layout, &mut found);
    }
    let event = BuildEvent {
        command: "build",
        layout: name.clone(),
        to: args.to.display().to_string(),
        size,
        dry_run: args.dry_run,
        report: report.as_ref(),
        inspection: &found,
    };
    if matches!(goal, Goal::Medium) && !args.dry_run {
        ui.event(&BuiltEvent(event))
    } else {
        ui.event(&event)
    }
    let text = text(args, &layout, size, &found, report.as_ref());
    drop(device);
    match goal {
        _ if args.dry_run => ui.result(text),
        Goal::Medium => {
            ui.say(text);
            return write_it(cx, args, &scratch);
        }
        Goal::Packed(packing) => {
            let packed = pack(ui, &scratch.image, &args.to, packing)?;
            let good = style::GOOD;
            let to = args.to.display();
            ui.result(format!(
                "{text}{good}done:{good:#} {to} created, {}\n",
                units::size(packed)
            ));
        }
    }
    Ok(())
}

pub(crate) fn read(path: &Path) -> Result<Layout, Message> {
    let failed = |found: String| {
        let what = format!("the layout {} cannot be read", path.display());
        Message::new(Exit::Settings, what).fact("system", found)
    };
    let size = fs::metadata(path).map_err(|e| failed(e.to_string()))?.len();
    if size > MAX_FILE {
        return Err(failed(format!("{size} bytes are too many for a layout")));
    }
    let text = fs::read_to_string(path).map_err(|e| failed(e.to_string()))?;
    let folder = path.parent().unwrap_or(Path::new(""));
    let name = path.display().to_string();
    pinewrit_build::check(&text, folder).map_err(|mistakes| words::mistakes(&name, &mistakes))
}

/// Size and sector size of what is built.
fn size_of(
    cx: &Context,
    args: &BuildArgs,
    layout: &Layout,
    goal: &Goal,
) -> Result<(u64, SectorSize), Message> {
    let asked = args.size.or_else(|| match goal {
        Goal::Packed(_) => pinewrit_build::least_size(layout),
        Goal::Medium => None,
    });
    let no_size = || {
        let name = args.to.display();
        match goal {
            Goal::Packed(_) => {
                let what = format!("a partition takes the rest of {name}, whose size is not known");
                Message::new(Exit::Usage, what)
                    .fact("layout", "size = \"rest\"")
                    .remedy("--size 8GB, the size of the medium it is for")
                    .remedy("or a size for each partition in the layout")
            }
            Goal::Medium => Message::new(
                Exit::Usage,
                format!("{name} does not exist, and no size is given"),
            )
            .remedy("--size 8GB, the size of the medium it is for"),
        }
    };
    if let Goal::Packed(_) = goal {
        return Ok((asked.ok_or_else(no_size)?, SectorSize::B512));
    }
    let chosen = medium::find(cx, &args.to, asked.is_some())?;
    if chosen.facts.is_none() && !chosen.path.exists() {
        return Ok((asked.ok_or_else(no_size)?, SectorSize::B512));
    }
    // A target that cannot be written is reported before anything is assembled.
    if let Some(facts) = &chosen.facts
        && matches!(facts.verdict, Verdict::System(_) | Verdict::Locked)
        && !args.dry_run
    {
        let (path, verdict) = (chosen.path.clone(), facts.verdict.clone());
        let refused = MediumError::Refused { path, verdict };
        return Err(words::named_medium_error(&chosen.name(), &refused));
    }
    let medium = cx
        .readers
        .open_for_reading(&chosen.path)
        .map_err(|e| words::named_medium_error(&chosen.name(), &e))?;
    Ok((medium.device.size(), medium.device.logical_sector()))
}

/// The prefix of scratch folders.
const SCRATCH: &str = ".pinewrit-build-";
/// Younger scratch folders are ignored.
const SCRATCH_AGE: Duration = Duration::from_secs(60);

/// Removes scratch folders of killed builds: those of this user that nothing has locked.
fn remove_abandoned(place: &Path) {
    let Ok(entries) = std::fs::read_dir(place) else {
        return;
    };
    let own = nix::unistd::geteuid().as_raw();
    for entry in entries.flatten() {
        let is_scratch = entry.file_name().to_string_lossy().starts_with(SCRATCH);
        // A new folder may not be locked yet.
        let is_old = |facts: &std::fs::Metadata| {
            let age = facts.modified().ok().and_then(|time| time.elapsed().ok());
            age.is_some_and(|age| age > SCRATCH_AGE)
        };
        let is_own = entry
            .metadata()
            .is_ok_and(|facts| facts.is_dir() && facts.uid() == own && is_old(&facts));
        if !is_scratch || !is_own {
            continue;
        }
        let Ok(folder) = File::open(entry.path()) else {
            continue;
        };
        let operation = FlockOperation::NonBlockingLockExclusive;
        if rustix::fs::flock(&folder, operation).is_ok() {
            // What cannot be removed only takes space.
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

/// The sparse file in which the medium is assembled.
struct Scratch {
    _lock: File,
    _folder: TempDir,
    image: PathBuf,
    size: u64,
}

impl Scratch {
    fn make(args: &BuildArgs, size: u64) -> Result<Self, Message> {
        // There is room for it beside a file to be made, but not beside a device.
        let beside = args.to.parent().filter(|_| !args.to.starts_with("/dev"));
        let beside = match beside {
            Some(path) if path.as_os_str().is_empty() => Some(Path::new(".")),
            beside => beside,
        };
        let folder = args.scratch.as_deref().or(beside);
        let builder = || {
            let mut builder = tempfile::Builder::new();
            builder.prefix(SCRATCH);
            builder
        };
        let place = folder.map_or_else(std::env::temp_dir, Path::to_owned);
        remove_abandoned(&place);
        let made = builder().tempdir_in(&place);
        let failed = |e: io::Error| {
            Message::new(
                Exit::Internal,
                "there is no place to put the medium together",
            )
            .fact("system", e.to_string())
            .remedy("--scratch DIR, a directory with space for the content")
        };
        let folder = made.map_err(failed)?;
        // The lock shows that it is not abandoned.
        let lock = File::open(folder.path()).map_err(failed)?;
        let operation = FlockOperation::NonBlockingLockExclusive;
        rustix::fs::flock(&lock, operation).map_err(|e| failed(e.into()))?;
        // The result is named after the layout, also in receipts.
        let image = folder
            .path()
            .join(args.layout.file_name().unwrap_or_default());
        let file = File::create(&image).map_err(failed)?;
        file.set_len(size).map_err(failed)?;
        Ok(Self {
            _lock: lock,
            _folder: folder,
            image,
            size,
        })
    }

    fn device(&self, sector: SectorSize) -> Result<FileDevice, Message> {
        let file = File::options().read(true).write(true).open(&self.image);
        let file = file.map_err(|e| {
            Message::new(Exit::Internal, "the scratch file is lost").fact("system", e.to_string())
        })?;
        Ok(FileDevice::new(file, self.size, sector, CacheUse::Cached))
    }
}

/// The file systems that would be created.
fn show_planned(layout: &Layout, found: &mut Inspection) {
    for (plan, partition) in layout.partitions.iter().zip(&mut found.partitions) {
        let label = Some(plan.label.clone()).filter(|label| !label.is_empty());
        partition.filesystem = plan.filesystem.map(|kind| FilesystemFacts {
            kind: kind.filesystem(partition.size),
            label,
            id: None,
            size: Some(partition.size),
            used: None,
            free: None,
        });
    }
}

fn fill(
    ui: &Ui,
    name: &str,
    layout: &Layout,
    plan: &BuildPlan,
    device: &FileDevice,
    options: &BuildOptions<'_>,
) -> Result<BuildReport, Message> {
    let _waiting = Waiting::new(ui, format!("building {name}"));
    pinewrit_build::build(layout, plan, device, options, &signals::watch())
        .map_err(|e| words::build_error(name, &e))
}

fn text(
    args: &BuildArgs,
    layout: &Layout,
    size: u64,
    found: &Inspection,
    report: Option<&BuildReport>,
) -> String {
    let strong = style::STRONG;
    let mut facts = FactList::default();
    facts.add("size", units::exact(size).trim_start());
    facts.add("scheme", inspection::scheme(found));
    if let Some(report) = report {
        let files = units::counted(report.files, "file");
        facts.add("content", format!("{files}, {}", units::size(report.bytes)));
    }
    for blob in &layout.blobs {
        let name = blob.from.file_name().unwrap_or_default().to_string_lossy();
        facts.add("blob", format!("{name} at byte {}", blob.at));
    }
    let head = if args.dry_run {
        "would be built like this; nothing was created (--dry-run)"
    } else {
        "assembled"
    };
    let name = args.layout.display();
    let rows = inspection::partitions(found, pinewrit_ui::width());
    format!(
        "{strong}{name}{strong:#}  {head}\n{}\n{rows}\n",
        facts.to_text()
    )
}

/// The medium is written like any image: checked, read back, its first chunk last.
fn write_it(cx: &Context, args: &BuildArgs, scratch: &Scratch) -> Outcome {
    let image = Location::Path(scratch.image.clone());
    let settings = write::request(&cx.ui, args.settings.as_deref(), args.intake.as_deref())?;
    let wish = Wish {
        smallest: None,
        command: "build",
        source: source::open(cx, &image, &SourceArgs::plain(), Keep::No)?,
        image: &image,
        to: std::slice::from_ref(&args.to),
        access: &args.access,
        size: args.size,
        into: None,
        signature: None,
        board: write::board(args.board.as_deref(), &settings)?,
        request: WriteRequest {
            verify: !args.no_verify,
            receipt: args.receipt.clone(),
            ..settings
        },
        report: args.report.as_deref(),
        keep: Keep::No,
        only_changes: false,
        eject: args.eject,
        dry_run: false,
        yes: args.yes,
        // Its free space need not be copied.
        is_draft: !args.to.exists() && args.scratch.is_none(),
    };
    write::carry(cx, &wish)
}

/// A file that fails once the work should stop.
struct Stoppable {
    file: File,
    cancel: Cancel,
}

impl Read for Stoppable {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.cancel.is_cancelled() {
            // Not `Interrupted`, after which reading would be retried.
            Err(io::Error::other("stopped"))
        } else {
            self.file.read(buffer)
        }
    }
}

fn pack(ui: &Ui, raw: &Path, to: &Path, packing: Packing) -> Result<u64, Message> {
    let cancel = signals::watch();
    let _waiting = Waiting::new(ui, format!("packing {}", to.display()));
    let part = to.with_extension(format!(
        "{}.part",
        to.extension().unwrap_or_default().to_string_lossy()
    ));
    let packed = pack_to(raw, &part, packing, &cancel).and_then(|len| {
        fs::rename(&part, to)?;
        Ok(len)
    });
    packed.map_err(|error| {
        let _ = fs::remove_file(&part);
        if cancel.is_cancelled() {
            return words::interrupted();
        }
        let what = format!("{} cannot be written", to.display());
        Message::new(Exit::Medium, what).fact("system", error.to_string())
    })
}

fn pack_to(raw: &Path, part: &Path, packing: Packing, cancel: &Cancel) -> io::Result<u64> {
    let file = File::open(raw)?;
    let size = file.metadata()?.len();
    let mut source = Stoppable {
        file,
        cancel: cancel.clone(),
    };
    let mut out = File::create(part)?;
    packing.pack(&mut source, size, &mut out)?;
    out.sync_all()?;
    Ok(out.metadata()?.len())
}
