//! `pinewrit measure MEDIUM…`

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use pinewrit_args::{ChangeArgs, MeasureArgs};
use pinewrit_core::Cancel;
use pinewrit_core::state::save;
use pinewrit_core::table::prepare;
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, SectorSize};
use pinewrit_host::{Medium, MediumFacts, Permits, Readers, SdClasses, Tag};
use pinewrit_ledger::{Entry, Kind, Speed};
use pinewrit_measure::{
    Capacity, CapacityReport, FullNote, Held, MeasureError, Power, Rating, Repower, Session,
    Shortfall, SpeedReport, SpeedWish, Uncut, capacity, capacity_cost, full, judge, speed,
    speed_cost,
};
use pinewrit_session::change::{self, Opened};
use pinewrit_session::workshop::model_of;
use pinewrit_session::{Context, clock, measure as left, medium, signals};
use pinewrit_table::{NewPartition, PartitionSize, PartitionType, SchemeKind, TableEdit};
use pinewrit_ui::page::measured_html;
use pinewrit_ui::progress::ProgressView;
use pinewrit_ui::words::measure::{
    Measured, brief, compared, falls_short, measure_error, measured, not_real,
};
use pinewrit_ui::{Event, Exit, MediumName, Message, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;

/// How long to wait for a medium that was to be plugged in again.
const REPLUG: Duration = Duration::from_secs(300);
const LOOK: Duration = Duration::from_millis(200);
/// Partitions end at a multiple of this.
const ALIGNMENT: u64 = 1 << 20;
/// The type of a partition for FAT32 with addresses of sectors.
const FAT32: u8 = 0x0c;

/// A medium that was measured.
#[derive(Serialize, JsonSchema)]
pub(crate) struct MeasureEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: &'a MediumName,
    /// Its real size; null if that was not measured.
    size: Option<&'a CapacityReport>,
    /// Its speed; null if that was not measured.
    speed: Option<&'a SpeedReport>,
    /// What is printed on it, and whether that is kept.
    ratings: &'a [Shortfall],
}

impl Event for MeasureEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["measure"];
}

pub(crate) fn run(cx: &Context, args: &MeasureArgs) -> Outcome {
    if let Some(report) = &args.report {
        medium::must_not_end_so(report, &[])?;
    }
    let cancel = signals::watch();
    let mut all = Vec::new();
    for path in &args.media {
        let one = one(cx, args, path, &cancel)?;
        if one.is_real() && args.media.len() == 1 {
            cx.ui.result(measured(&one));
        }
        all.push(one);
    }
    if args.media.len() > 1 {
        cx.ui.result(compared(&all));
    }
    if let Some(path) = &args.report {
        let written = save(path, measured_html(&all).as_bytes());
        written.map_err(|error| {
            let what = format!("{} cannot be written", path.display());
            Message::new(Exit::Usage, what).fact("system", error.to_string())
        })?;
        cx.ui.say(format!("report: {}\n", path.display()));
    }
    // What is only smaller than it says can be used by now, if that was wanted.
    let is_usable = |one: &Measured| args.use_real && proven(one).is_some();
    let mut others = all.iter().filter(|one| !is_usable(one));
    match others.find_map(not_real) {
        Some(message) => Err(message),
        // What a card says of itself is told; what was asked for is judged.
        None if args.rated.is_empty() => Ok(()),
        None => match all.iter().find(|one| one.falls_short()) {
            Some(one) => Err(falls_short(one)),
            None => Ok(()),
        },
    }
}

fn one(
    cx: &Context,
    args: &MeasureArgs,
    path: &Path,
    cancel: &Cancel,
) -> Result<Measured, Message> {
    let opened = change::open(
        cx,
        &ChangeArgs {
            medium: path.to_owned(),
            access: args.access.clone(),
            despite_flag: false,
            dry_run: args.read_only,
            yes: false,
        },
        None,
    )?;
    let chosen = medium::find(cx, path, false)?;
    let facts = chosen.facts.as_ref();
    if args.replug && facts.is_none() {
        let what = format!("{} is a file: it has no power to cut", opened.name);
        return Err(Message::new(Exit::Usage, what).remedy("leave out --replug"));
    }
    let mut found = Measured {
        name: opened.name.clone(),
        size: opened.medium.device.size(),
        bus: facts.and_then(|facts| facts.identity.carries()),
        model: facts.map_or(String::new(), model_of),
        capacity: None,
        speed: None,
        ratings: Vec::new(),
    };
    tell_cost(cx, args, &opened);
    let view = ProgressView::new(cx.ui);
    let watching = (&view, cancel);
    let both = !(args.size || args.full || args.speed || args.read_only);
    if both || args.speed || args.read_only {
        found.speed = Some(timed(cx, args, &opened, watching)?);
    }
    let id = opened.id.clone();
    let mut rest = Some(opened);
    found.capacity = match (rest.take(), facts) {
        (Some(opened), Some(facts)) if args.replug => {
            Some(replugged(cx, args, (opened, facts), watching)?)
        }
        (Some(opened), _) => {
            let report = match (args.full, args.speed || args.read_only) {
                (true, _) => Some(whole(cx, args, &opened, watching)?),
                (_, true) => None,
                (_, false) => Some(looked_at(cx, &opened, watching)?),
            };
            rest = Some(opened);
            report
        }
        (None, _) => None,
    };
    drop(view);
    if let Some(speed) = &found.speed {
        let promised = facts.and_then(|facts| facts.identity.classes);
        let rated = match (args.rated.as_slice(), promised) {
            ([], Some(promised)) => promises(promised),
            (given, _) => given.to_vec(),
        };
        let ratings = rated.iter().flat_map(|rating| judge(*rating, speed));
        found.ratings = ratings.collect();
    }
    cx.ui.event(&MeasureEvent {
        command: "measure",
        medium: &id,
        size: found.capacity.as_ref(),
        speed: found.speed.as_ref(),
        ratings: &found.ratings,
    });
    record(cx, id.tag, &found);
    if let Some(opened) = rest.filter(|_| args.use_real) {
        use_real(cx, args, &opened, &found)?;
    }
    Ok(found)
}

/// What a card says of itself, as it is printed on it.
fn promises(classes: SdClasses) -> Vec<Rating> {
    let all = [
        (classes.class, Rating::Class as fn(u32) -> Rating),
        (classes.grade, Rating::Grade),
        (classes.video, Rating::Video),
        (classes.application, Rating::Application),
    ];
    let promised = all.into_iter().filter(|(value, _)| *value > 0);
    promised.map(|(value, rating)| rating(value)).collect()
}

/// In the ledger: that it was measured, and its speed for later.
fn record(cx: &Context, tag: Option<String>, found: &Measured) {
    let remark = format!("{} {}", found.model, brief(found));
    let now = clock::seconds();
    let entry = Entry {
        tag: tag.clone(),
        remark: Some(remark.trim().to_owned()),
        ..Entry::new(Kind::Measure, now)
    };
    cx.record(entry, None);
    let speed = found.speed.as_ref();
    let write = speed.and_then(|speed| speed.write.as_ref());
    cx.record_speed(&Speed {
        time: now,
        tag,
        model: Some(found.model.clone()).filter(|model| !model.is_empty()),
        size: found.size,
        real: found
            .capacity
            .as_ref()
            .and_then(|report| match report.capacity {
                Capacity::Smaller { real, .. } => Some(real),
                Capacity::Real => Some(report.claimed),
                _ => None,
            }),
        read: speed.map(|speed| speed.read.sustained as u64),
        write: write.map(|write| write.sustained as u64),
    });
}

/// Says beforehand what it costs.
fn tell_cost(cx: &Context, args: &MeasureArgs, opened: &Opened) {
    let size = opened.medium.device.size();
    let name = &opened.name;
    let both = !(args.size || args.speed || args.read_only || args.full);
    let look = (args.size || both).then(|| capacity_cost(size));
    let pace = (args.speed || both).then(|| speed_cost(size));
    let cost = look.unwrap_or_default() + pace.unwrap_or_default();
    cx.ui.say(match (args.full, cost) {
        (true, _) => format!(
            "note: all {} of {name} are written and read\n",
            units::size(size)
        ),
        (false, 0) => String::new(),
        (false, cost) => format!(
            "note: up to {} are written to {name}, with what is put back\n",
            units::size(cost)
        ),
    });
}

type Watching<'w> = (&'w ProgressView, &'w Cancel);

fn timed(
    cx: &Context,
    args: &MeasureArgs,
    opened: &Opened,
    (view, cancel): Watching<'_>,
) -> Result<SpeedReport, Message> {
    let wish = SpeedWish {
        read_only: args.read_only,
    };
    let place = match args.read_only {
        true => PathBuf::new(),
        false => place(cx, opened)?,
    };
    let device = &*opened.medium.device;
    let report = speed(device, (&place, session()), wish, view, cancel);
    report.map_err(|e| measure_error(&opened.name, &e))
}

fn session() -> Session {
    Session(uuid::Uuid::new_v4().into_bytes())
}

fn looked_at(
    cx: &Context,
    opened: &Opened,
    (view, cancel): Watching<'_>,
) -> Result<CapacityReport, Message> {
    let place = place(cx, opened)?;
    let device = Box::new(&*opened.medium.device);
    let report = capacity(device, (&place, session()), (view, &Uncut), cancel);
    report.map_err(|e| measure_error(&opened.name, &e))
}

fn replugged(
    cx: &Context,
    args: &MeasureArgs,
    (opened, facts): (Opened, &MediumFacts),
    (view, cancel): Watching<'_>,
) -> Result<CapacityReport, Message> {
    let place = place(cx, &opened)?;
    let name = opened.name;
    let puller = Puller {
        cx,
        name: &name,
        facts,
        confirmed: args.access.confirm.clone(),
        cancel,
    };
    let device = Box::new(Whole(opened.medium));
    let report = capacity(device, (&place, session()), (view, &puller), cancel);
    report.map_err(|e| measure_error(&name, &e))
}

/// Where what is on the medium is kept.
fn place(cx: &Context, opened: &Opened) -> Result<PathBuf, Message> {
    let name = &opened.name;
    let place = left::settle(cx, (name, &opened.key), &*opened.medium.device)?;
    place.ok_or_else(|| no_place(name))
}

/// A medium with what keeps others from it.
struct Whole(Medium);

impl BlockDevice for Whole {
    fn size(&self) -> u64 {
        self.0.device.size()
    }

    fn logical_sector(&self) -> SectorSize {
        self.0.device.logical_sector()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.0.device.read_at(offset, buffer)
    }

    fn read_once(&self, offset: u64, buffer: &mut [u8]) -> Result<(), DiskError> {
        self.0.device.read_once(offset, buffer)
    }

    fn write_at(&self, offset: u64, data: &[u8]) -> Result<(), DiskError> {
        self.0.device.write_at(offset, data)
    }

    fn flush(&self) -> Result<(), DiskError> {
        self.0.device.flush()
    }

    fn forget_cache(&self, range: ByteRange) {
        self.0.device.forget_cache(range);
    }
}

/// A person is asked to take the medium out and to put it back.
struct Puller<'a> {
    cx: &'a Context,
    name: &'a str,
    facts: &'a MediumFacts,
    confirmed: Option<Tag>,
    cancel: &'a Cancel,
}

impl Power for Puller<'_> {
    fn cut<'d>(&self, device: Held<'d>) -> Result<Repower<'d>, MeasureError> {
        let name = self.name;
        self.ask(&format!("take {name} out of its reader now"));
        let is_out = || device.read_at(0, &mut [0; 512]).is_err().then_some(());
        if self.wait(is_out)?.is_none() {
            let ui = &self.cx.ui;
            ui.say("note: it was not taken out; whether it forgets was not tried\n");
            return Ok(Repower::Kept(device));
        }
        drop(device);
        self.ask(&format!("put {name} back, into any reader"));
        let mut readers = self.cx.readers.clone();
        let back = self.wait(|| {
            readers.refresh();
            let media = readers.media().ok()?;
            let key = self.facts.identity.key();
            let found = media.iter().find(|one| one.identity.key() == key)?;
            self.open(&readers, found)
        });
        let missing = || MeasureError::NotBack("it was not plugged in again".to_owned());
        let medium = back?.ok_or_else(missing)?;
        Ok(Repower::Back(Box::new(Whole(medium))))
    }
}

impl Puller<'_> {
    fn ask(&self, what: &str) {
        self.cx.ui.event(&ReplugEvent {
            medium: self.name,
            what,
        });
        self.cx.ui.say(format!("→ {what}\n"));
        self.cx.ui.ring();
    }

    /// What is waited for, or `None` after so long.
    fn wait<T>(&self, mut look: impl FnMut() -> Option<T>) -> Result<Option<T>, MeasureError> {
        let began = Instant::now();
        loop {
            if let Some(found) = look() {
                return Ok(Some(found));
            }
            if self.cancel.is_cancelled() {
                return Err(MeasureError::Cancelled);
            }
            if began.elapsed() > REPLUG {
                return Ok(None);
            }
            std::thread::sleep(LOOK);
        }
    }

    fn open(&self, readers: &Readers, facts: &MediumFacts) -> Option<Medium> {
        let permits = Permits {
            chosen: facts.tag.clone(),
            confirmed: self.confirmed.clone(),
        };
        // The system may still be at it.
        let target = readers.open_target(&facts.path, None, &permits).ok()?;
        target.into_medium().ok()
    }
}

/// What a person is to do.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ReplugEvent<'a> {
    /// The medium's name.
    medium: &'a str,
    /// What is to be done with it.
    what: &'a str,
}

impl Event for ReplugEvent<'_> {
    const EVENT: &'static str = "replug";
}

fn no_place(name: &str) -> Message {
    let what = format!("there is no place to keep what is on {name} while it is measured");
    Message::new(Exit::Internal, what)
}

fn whole(
    cx: &Context,
    args: &MeasureArgs,
    opened: &Opened,
    (view, cancel): Watching<'_>,
) -> Result<CapacityReport, Message> {
    must_be_lost(cx, args, opened)?;
    let device = &*opened.medium.device;
    let note = cx.folders.state()?.full_note(&opened.key);
    let begun = std::fs::read(&note).ok();
    let begun = begun.and_then(|json| serde_json::from_slice::<FullNote>(&json).ok());
    let begun = begun.filter(|note| note.is_of(device));
    if let Some(begun) = &begun {
        let marked = units::size(begun.marked);
        cx.ui.say(format!(
            "note: goes on where it was interrupted: {marked} are marked\n"
        ));
    }
    let begun = begun.unwrap_or_else(|| FullNote::new(device.size(), session()));
    let keep = |now: &FullNote| {
        // Without it, it begins anew.
        let json = serde_json::to_vec(now).unwrap_or_default();
        let _ = save(&note, &json);
    };
    let report = full(device, &begun, view, cancel, keep);
    let report = report.map_err(|error| match error {
        MeasureError::Cancelled => Message::new(Exit::Interrupted, "interrupted")
            .fact(
                "state",
                format!("{} has no table; it is marked in part", opened.name),
            )
            .remedy("the same command goes on"),
        error => measure_error(&opened.name, &error),
    })?;
    let _ = std::fs::remove_file(&note);
    Ok(report)
}

/// Asks for the medium's tag before everything on it is lost.
fn must_be_lost(cx: &Context, args: &MeasureArgs, opened: &Opened) -> Outcome {
    let name = &opened.name;
    let question = format!("Everything on {name} will be lost. Type {name} to go on:");
    let typed = args.lose.clone().or_else(|| cx.ui.ask_text(question));
    if typed.as_deref().map(str::trim) == Some(name) {
        return Ok(());
    }
    let what = match typed {
        None => format!("everything on {name} would be lost, and there is nobody to ask"),
        Some(_) => format!("that is not {name}: nothing was changed"),
    };
    Err(Message::new(Exit::Refused, what).remedy(format!("--lose {name}")))
}

/// What a medium that is smaller than it says certainly has, in bytes.
fn proven(found: &Measured) -> Option<u64> {
    match found.capacity.as_ref()?.capacity {
        Capacity::Smaller { proven, .. } => Some(proven),
        _ => None,
    }
}

/// Makes a table with one partition that ends where the medium does.
fn use_real(cx: &Context, args: &MeasureArgs, opened: &Opened, found: &Measured) -> Outcome {
    let Some(proven) = proven(found) else {
        cx.ui
            .say(format!("note: {} keeps its table\n", opened.name));
        return Ok(());
    };
    must_be_lost(cx, args, opened)?;
    cx.ui
        .say(format!("note: {}: {}\n", opened.name, brief(found)));
    let failed = |e| words::table_error(&opened.name, &e);
    let size = (proven / ALIGNMENT).saturating_sub(1) * ALIGNMENT;
    if size == 0 {
        let what = format!("{} has too little for a partition", opened.name);
        return Err(Message::new(Exit::Medium, what));
    }
    let new = NewPartition::new(PartitionType::Mbr(FAT32), PartitionSize::Bytes(size));
    let mut random = || uuid::Uuid::new_v4().into_bytes();
    let prepared = prepare(&*opened.medium.device, |device| {
        let mut table = TableEdit::replace(device, SchemeKind::Mbr, &mut random)?;
        table.add(&new, &mut random)?;
        Ok(table)
    });
    let committed = prepared.map_err(failed)?.commit(Some(&opened.undo));
    committed.map_err(|e| words::commit_error(&opened.name, &e))?;
    cx.ui.result(format!(
        "done: {} has one partition of {}, which ends where the medium does\n",
        opened.name,
        units::size(size)
    ));
    Ok(())
}
