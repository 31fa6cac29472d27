//! `pinewrit trial MEDIUM|IMAGE`

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use pinewrit_args::{DiskArg, TrialArgs};
use pinewrit_boards::chain::{self, Way};
use pinewrit_boot::commission::Met;
use pinewrit_boot::ssh::{Login, PORT};
use pinewrit_boot::trial::{
    Aim, Machine, MachineError, Network, News, Observer, Outcome as TrialOutcome, Slot, Start,
    TrialReport, TrialRequest, best_way, trial,
};
use pinewrit_boot::{Line, Stage};
use pinewrit_core::write::{self, UnpackError};
use pinewrit_core::{Cancel, Silent};
use pinewrit_disk::{BlockDevice, ByteRange, CacheUse, FileDevice, Overlay, SectorSize, Window};
use pinewrit_image::ImageSource;
use pinewrit_ledger::Kind;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::unit::{self, KnownUnit};
use pinewrit_session::{Context, clock, medium, signals};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Event, Exit, Message, Ui, style, units, words};
use pinewrit_volume::Site;
use pinewrit_volume::files::{FilesError, Rights, filesystems, open_to_read};
use schemars::JsonSchema;
use serde::Serialize;

use super::watch::{BootStageEvent, ConsoleEvent};
use super::{Outcome, commission};

/// A disk in the machine is a whole number of these, in bytes.
const UNIT: u64 = 1 << 20;
/// A machine with less memory starts nothing, in bytes.
const LEAST_MEMORY: u64 = 32 << 20;
/// How long a boot of a batch's medium may take, in seconds.
const IN_BATCH: u64 = 900;
/// Names the machine's interface as the settings do, by the hardware address (systemd.link(5)).
const LINK: &str = "/etc/systemd/network/00-pinewrit-trial.link";

/// Something that happens in a trial.
#[derive(Serialize, JsonSchema)]
pub(crate) struct TrialNewsEvent {
    /// When, in seconds from power-on.
    at: f64,
    /// What it is.
    news: News,
}

impl Event for TrialNewsEvent {
    const EVENT: &'static str = "trial-news";
}

/// What came of a trial.
#[derive(Serialize, JsonSchema)]
pub(crate) struct TrialEvent<'a> {
    /// The command.
    command: &'static str,
    /// The medium or image.
    source: &'a str,
    /// The processor.
    architecture: &'static str,
    /// How the machine starts.
    start: &'a Start,
    /// What the medium is in the machine.
    disk: Slot,
    #[serde(flatten)]
    report: &'a TrialReport,
}

impl Event for TrialEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["trial"];
}

/// What is tried: its bytes in a file or device, which is only read.
struct Tried {
    name: String,
    path: PathBuf,
    device: Box<dyn BlockDevice>,
    /// A packed image is unpacked to a file for the trial.
    _unpacked: Option<tempfile::NamedTempFile>,
}

pub(crate) fn run(cx: &Context, args: &TrialArgs) -> Outcome {
    if args.memory < LEAST_MEMORY {
        return Err(Message::new(
            Exit::Usage,
            "a machine with so little memory starts nothing",
        )
        .fact("memory", units::exact(args.memory))
        .remedy("--memory 512MiB, or what the system needs"));
    }
    if let Some(key) = &args.wanted.key {
        unit::must_be_key(key)?;
    }
    let tried = open(cx, args)?;
    if let Some(size) = args.size
        && size < tried.device.size()
    {
        let name = &tried.name;
        let what = format!("{name} is larger than the disk that --size names");
        return Err(Message::new(Exit::Usage, what)
            .fact("--size", units::exact(size))
            .fact(name, units::exact(tried.device.size()))
            .remedy("a larger --size, or none: then the disk is as large as the medium"));
    }
    let unit = unit::of_medium(
        cx,
        &*tried.device,
        args.unit.as_deref(),
        commission::papers(&args.wanted),
    )?;
    let report = try_it(cx, args, &tried, &unit)?;
    tell(cx, &tried, &unit, report)
}

fn open(cx: &Context, args: &TrialArgs) -> Result<Tried, Message> {
    if let Some(chosen) = medium::named_as_source(cx, &args.source) {
        let name = chosen.name();
        let opened = cx.readers.open_for_reading(&chosen.path);
        let opened = opened.map_err(|e| words::named_medium_error(&name, &e))?;
        return Ok(Tried {
            path: cx.readers.bytes_of(&chosen.path),
            device: opened.device,
            name,
            _unpacked: None,
        });
    }
    let source = source::open(cx, &args.source, &args.options, Keep::No)?;
    let name = source.name();
    let plain = source.layers().is_empty() && source.files().len() == 1;
    let own = args
        .source
        .path()
        .filter(|_| plain && source.plain().is_some());
    let (path, unpacked) = match own {
        Some(path) => (path.to_owned(), None),
        None => {
            let file = unpack(cx, &source)?;
            (file.path().to_owned(), Some(file))
        }
    };
    let unreadable = |error: std::io::Error| {
        Message::new(Exit::Source, format!("{name} cannot be read"))
            .fact("system", error.to_string())
    };
    let opened = File::open(&path).map_err(unreadable)?;
    let size = opened.metadata().map_err(unreadable)?.len();
    let device = FileDevice::new(opened, size, SectorSize::B512, CacheUse::Cached);
    Ok(Tried {
        name,
        path,
        device: Box::new(device),
        _unpacked: unpacked,
    })
}

/// Unpacks an image to a sparse file.
fn unpack(cx: &Context, source: &ImageSource) -> Result<tempfile::NamedTempFile, Message> {
    let name = source.name();
    let failed = |error: std::io::Error| words::trial::own_files(&name, &error);
    let _waiting = Waiting::new(&cx.ui, format!("unpacking {name}"));
    let file = tempfile::NamedTempFile::new().map_err(failed)?;
    let unpacked = write::unpack(source, file.as_file(), None, &Silent, &signals::watch());
    unpacked.map_err(|error| match error {
        UnpackError::File(error) => failed(error),
        UnpackError::Image(error) => words::write_error(&name, "the trial", &error),
    })?;
    Ok(file)
}

/// How it is tried.
#[derive(Clone, Copy, Default)]
struct How<'a> {
    disk: Option<Slot>,
    memory: Option<u64>,
    cores: Option<u32>,
    size: u64,
    second_boot: bool,
    timeout: Duration,
    picture: Option<&'a Path>,
}

fn try_it(
    cx: &Context,
    args: &TrialArgs,
    tried: &Tried,
    unit: &KnownUnit,
) -> Result<(Machine, Way, TrialReport), Message> {
    let how = How {
        disk: args.disk.map(slot),
        memory: Some(args.memory),
        cores: args.cores,
        size: args.size.unwrap_or(0),
        second_boot: args.second_boot,
        timeout: Duration::from_secs(args.timeout),
        picture: args.picture.as_deref(),
    };
    let mut observer = Told {
        ui: cx.ui,
        log: args.log.as_deref().map(super::watch::log).transpose()?,
        is_live: args.console,
    };
    let aim = aim(
        unit,
        args.wanted.user.as_deref(),
        args.wanted.key.as_deref(),
    );
    let bytes = (&*tried.device, tried.path.as_path());
    boot(
        &cx.ui,
        (&tried.name, bytes),
        (unit, aim),
        how,
        &mut observer,
        &signals::watch(),
    )
}

type Bytes<'a> = (&'a dyn BlockDevice, &'a Path);

fn boot(
    ui: &Ui,
    (name, (device, path)): (&str, Bytes<'_>),
    (unit, aim): (&KnownUnit, Aim),
    how: How<'_>,
    observer: &mut dyn Observer,
    cancel: &Cancel,
) -> Result<(Machine, Way, TrialReport), Message> {
    let (way, machine) = machine_for(name, device)?;
    let memory = how.memory.and_then(|bytes| u32::try_from(bytes >> 20).ok());
    let machine = Machine {
        slot: how.disk.unwrap_or(machine.slot),
        memory: memory.unwrap_or(machine.memory),
        cores: how.cores.unwrap_or(machine.cores),
        ..machine
    };
    let network = Network::of(unit.settings.as_ref());
    let over = Overlay::new(device);
    let changed = named_interface(ui, &over, &way, &network);
    let kernel_files =
        tempfile::tempdir().map_err(|error| words::trial::own_files(name, &error))?;
    let kernel = match machine.start {
        Start::Kernel => Some(kernel(device, &way, kernel_files.path(), name)?),
        _ => None,
    };
    ui.say(format!(
        "trying {name}: {}\n",
        words::trial::machine(&machine)
    ));
    let options = way.starts.as_ref().map(|starts| starts.options.as_str());
    if options.is_some_and(|options| !options.contains(machine.console())) {
        let warning = style::WARNING;
        ui.say(format!(
            "{warning}note:{warning:#} the kernel's command line has no console={}, so its lines are not seen\n",
            machine.console()
        ));
    }
    let request = TrialRequest {
        medium: path,
        size: size(how.size.max(device.size()), machine.slot),
        over: (&over, changed),
        kernel,
        network,
        ssh_port: unit.port().unwrap_or(PORT),
        aim,
        wanted: pinewrit_boot::commission::Wanted {
            is_trial: true,
            ..unit.wanted()
        },
        second_boot: how.second_boot,
        timeout: how.timeout,
        picture: how.picture,
        now: clock::seconds,
        machine: machine.clone(),
    };
    let report = trial(&request, observer, cancel);
    let report = report.map_err(|e| words::trial::trial_error(name, &e))?;
    Ok((machine, way, report))
}

/// Which way of booting is tried, and in which machine.
fn machine_for(name: &str, device: &dyn BlockDevice) -> Result<(Way, Machine), Message> {
    let ways = chain::follow(device).map_err(|e| words::disk_error(name, &e))?;
    let found = best_way(&ways).ok_or(MachineError::Nothing);
    found
        .and_then(|way| Ok((way.clone(), Machine::for_way(way)?)))
        .map_err(|e| words::trial::machine_error(name, &e))
}

/// Refuses what cannot be tried here, before a batch begins.
pub(super) fn can_be_tried(name: &str, device: &dyn BlockDevice) -> Outcome {
    machine_for(name, device).map(drop)
}

/// Tries a medium of a batch; nothing is shown meanwhile.
pub(super) fn in_batch(
    (name, bytes): (&str, Bytes<'_>),
    unit: &KnownUnit,
    key: Option<&Path>,
    cancel: &Cancel,
) -> Result<(), String> {
    let ui = Ui {
        json: false,
        quiet: true,
        verbose: false,
    };
    let how = How {
        timeout: Duration::from_secs(IN_BATCH),
        ..How::default()
    };
    let aim = aim(unit, None, key);
    let done = boot(&ui, (name, bytes), (unit, aim), how, &mut Unseen, cancel);
    let (_, way, report) = done.map_err(|message| message.what().to_owned())?;
    if let Some(message) = words::trial::ended(name, &report, &way) {
        return Err(message.what().to_owned());
    }
    let differing = report.points.iter().filter(|point| point.met == Met::No);
    let differing: Vec<String> = differing.map(words::commission::name).collect();
    match differing.is_empty() {
        true => Ok(()),
        false => Err(format!("it boots, but differs in {}", differing.join(", "))),
    }
}

/// Nobody looks.
struct Unseen;

impl Observer for Unseen {
    fn line(&mut self, _: &Line, _: Duration) {}
    fn stage(&mut self, _: Stage, _: Duration) {}
    fn news(&mut self, _: News, _: Duration) {}
}

fn slot(arg: DiskArg) -> Slot {
    match arg {
        DiskArg::Virtio => Slot::Virtio,
        DiskArg::Sata => Slot::Sata,
        DiskArg::Usb => Slot::Usb,
        DiskArg::Sd => Slot::Sd,
        DiskArg::Nvme => Slot::Nvme,
    }
}

/// Cards have sizes that are powers of two in the emulator.
fn size(bytes: u64, slot: Slot) -> u64 {
    match slot {
        Slot::Sd => bytes.next_power_of_two(),
        _ => bytes.next_multiple_of(UNIT),
    }
}

/// What is waited for: a login that can be had, otherwise that somebody is there to let in.
fn aim(unit: &KnownUnit, user: Option<&str>, key: Option<&Path>) -> Aim {
    let has_ssh = unit
        .settings
        .as_ref()
        .is_none_or(|settings| settings.ssh_enabled != Some(false));
    let user = user.or(unit.user());
    let is_expected = has_ssh && (user.is_some() || unit.known_hosts().is_some());
    let has_key = key.is_some() || std::env::var_os("SSH_AUTH_SOCK").is_some();
    match (is_expected, has_key, user) {
        (false, ..) => Aim::Prompt,
        (true, true, Some(user)) => Aim::Settings(Box::new(Login {
            user: Some(user.to_owned()),
            key: key.map(Path::to_owned),
            ..unit.login(&unit.name)
        })),
        _ => Aim::Ssh,
    }
}

/// A board's interface has another name in a virtual machine: the trial gives it the settings' name.
fn named_interface(
    ui: &Ui,
    over: &Overlay<&dyn BlockDevice>,
    way: &Way,
    network: &Network,
) -> Vec<ByteRange> {
    let (Some(name), None) = (&network.interface, &network.hardware) else {
        return Vec::new();
    };
    let root = way.starts.as_ref().and_then(|starts| starts.root);
    let systems = filesystems(over).unwrap_or_default();
    let root = systems
        .iter()
        .find(|one| root.is_some() && one.partition == root);
    let Some(root) = root else { return Vec::new() };
    let link = format!(
        "# Only in a trial.\n[Match]\nMACAddress={}\n\n[Link]\nName={name}\n",
        pinewrit_boot::trial::HARDWARE
    );
    let mut site = Site::new(over, clock::timestamp());
    let put = site.change::<_, FilesError>(root, |files| {
        files.make_folders("/etc/systemd/network", Rights::root(0o755))?;
        files.put(LINK, Rights::root(0o644), link.as_bytes())
    });
    match put.map(|_| ()).and_then(|()| site.settle().map(drop)) {
        Ok(()) => {
            ui.say(format!(
                "the machine's interface is called {name}, in the trial only\n"
            ));
            over.changed().unwrap_or_default()
        }
        // Then it keeps its own name, and the comparison shows that.
        Err(_) => Vec::new(),
    }
}

/// Takes kernel and initrd out of the medium.
fn kernel(
    device: &dyn BlockDevice,
    way: &Way,
    folder: &Path,
    name: &str,
) -> Result<(PathBuf, Option<PathBuf>, String), Message> {
    let nothing = || words::trial::machine_error(name, &MachineError::Nothing);
    let starts = way.starts.as_ref().ok_or_else(nothing)?;
    let systems = filesystems(device).map_err(|e| words::disk_error(name, &e))?;
    let system = systems
        .iter()
        .find(|one| one.partition == starts.on)
        .ok_or_else(nothing)?;
    let window = Window::new(device, system.range);
    let files = open_to_read(&window).map_err(|_| nothing())?;
    let take = |path: &str, to: &str| -> Result<PathBuf, Message> {
        let to = folder.join(to);
        let mut file = File::create(&to).map_err(|error| words::trial::own_files(name, &error))?;
        files.read_to(path, &mut file).map_err(|_| nothing())?;
        Ok(to)
    };
    let kernel = take(&starts.kernel, "kernel")?;
    let initrd = starts
        .initrd
        .as_deref()
        .map(|path| take(path, "initrd"))
        .transpose()?;
    Ok((kernel, initrd, starts.options.clone()))
}

/// Says what came of it, and records it.
fn tell(
    cx: &Context,
    tried: &Tried,
    unit: &KnownUnit,
    (machine, way, report): (Machine, Way, TrialReport),
) -> Outcome {
    let name = &tried.name;
    cx.ui.event(&TrialEvent {
        command: "trial",
        source: name,
        architecture: machine.architecture.word(),
        start: &machine.start,
        disk: machine.slot,
        report: &report,
    });
    let message = words::trial::ended(name, &report, &way);
    let differing = report
        .points
        .iter()
        .filter(|point| point.met == Met::No)
        .count();
    record(cx, unit, &report, message.as_ref(), differing);
    let table = words::commission::points(&report.points);
    if let Some(message) = message {
        return Err(message);
    }
    let times = words::trial::times(&report);
    if differing > 0 {
        cx.ui.result(table);
        let count = words::commission::count(&report.points);
        let what = format!("{name} boots, but differs in {differing} of {count}");
        let message = Message::new(Exit::Differences, what).fact("came up", times);
        return Err(words::commission::differences(message, &report.points));
    }
    let good = style::GOOD;
    let boots = if report.boots > 1 { ", twice" } else { "" };
    cx.ui
        .result(format!("{good}boots{boots}:{good:#} {name}, {times}\n"));
    if !report.points.is_empty() {
        let count = words::commission::count(&report.points);
        cx.ui.result(format!(
            "  compared  {count}, as {} should be\n{table}",
            unit.name
        ));
    } else if unit.is_known() {
        cx.ui
            .say("note: nothing was compared; --key FILE logs in\n");
    }
    Ok(())
}

fn record(
    cx: &Context,
    unit: &KnownUnit,
    report: &TrialReport,
    message: Option<&Message>,
    differing: usize,
) {
    if report.outcome == TrialOutcome::Stopped {
        return;
    }
    let remark = match (message, differing) {
        (Some(message), _) => message.what().to_owned(),
        (None, 0) => format!("boots, {}", words::trial::times(report)),
        (None, count) => format!("boots, but {count} points differ"),
    };
    if let Some(entry) = unit.entry(Kind::Trial, remark) {
        cx.record(entry, None);
    }
}

/// Shows what happens.
struct Told {
    ui: Ui,
    log: Option<File>,
    is_live: bool,
}

impl Observer for Told {
    fn line(&mut self, line: &Line, at: Duration) {
        let seconds = at.as_secs_f64();
        if let Some(log) = self.log.as_mut().filter(|_| line.is_whole) {
            // A full disk must not end it.
            let _ = writeln!(log, "{seconds:10.3}  {}", line.text);
        }
        if self.is_live {
            self.ui.event(&ConsoleEvent::new(line, at));
            let dim = style::DIM;
            self.ui
                .say(format!("{dim}{seconds:8.1}{dim:#}  {}\n", line.text));
        }
    }

    fn stage(&mut self, stage: Stage, at: Duration) {
        self.ui.event(&BootStageEvent::new(stage, at));
        let strong = style::STRONG;
        let word = words::boot::stage(stage);
        self.ui.say(format!(
            "{:8.1}  {strong}{word}{strong:#}\n",
            at.as_secs_f64()
        ));
    }

    fn news(&mut self, news: News, at: Duration) {
        self.ui.event(&TrialNewsEvent {
            at: at.as_secs_f64(),
            news,
        });
        let word = words::trial::news(news);
        self.ui.say(format!("{:8.1}  {word}\n", at.as_secs_f64()));
    }
}
