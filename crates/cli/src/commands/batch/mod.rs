//! `pinewrit batch ROSTER`

mod prepare;

use std::io::{self, BufRead, IsTerminal};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

use pinewrit_args::{BatchArgs, OverArg};
use pinewrit_batch::{
    BatchError, BatchEvent, BatchReport, BatchRequest, Control, Place, Slot, Sources, Trouble,
    Watcher,
};
use pinewrit_core::receipt::Receipt;
use pinewrit_core::{Cancel, Observer};
use pinewrit_disk::BlockDevice;
use pinewrit_host::Readers;
use pinewrit_ledger::{Job, JobKey, JobState, Ledger, Record};
use pinewrit_roster::{Roster, Unit};
use pinewrit_ui::words::{self};
use pinewrit_ui::{Exit, Message, Ui, style, units};
use uuid::Uuid;

use super::Outcome;
use super::ledger::printed;
use super::trial;
use super::write::TOOL;
use pinewrit_session::clock;
use pinewrit_session::secrets::UserSecrets;
use pinewrit_session::signals;
use pinewrit_session::unit::KnownUnit;
use pinewrit_session::{Context, medium, workshop};
use pinewrit_ui::batch::{BatchResult, ClockEvent, Told};
use pinewrit_ui::words::ledger_table as table;

/// How often readers are looked at although nothing was announced.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// The same for a rack, which announces nothing.
const LOOK_AT_RACK: Duration = Duration::from_millis(50);
/// By how much clocks may differ before it is told, in seconds.
const MAX_CLOCK_SKEW: i64 = 60;

pub(crate) fn run(cx: &Context, args: &BatchArgs) -> Outcome {
    let ui = &cx.ui;
    let name = args.roster.display().to_string();
    let roster = Roster::read(&args.roster, &UserSecrets);
    let roster = roster.map_err(|e| words::roster_error(&name, &e))?;
    for warning in &roster.warnings {
        let style = style::WARNING;
        ui.say(format!(
            "{style}warning:{style:#} {}: {}\n            → {}\n",
            warning.place, warning.what, warning.remedy
        ));
    }
    for unit in args.only.iter().chain(&args.again).chain(&args.next) {
        must_be_a_unit(&roster, unit)?;
    }
    let request = request(cx, args, roster)?;
    if let Some(key) = &args.trial_key {
        pinewrit_session::unit::must_be_key(key)?;
    }
    let mut ledger = cx.ledger()?;
    tell_if_clocks_differ(ui, &mut ledger);
    let control = Control::default();
    signals::watch_twice(&control);
    let stop = (&control.closing(), args.dry_run, args.board.as_deref());
    let prepared = prepare::prepare(cx, &request, &mut ledger, stop)?;
    if args.dry_run {
        prepare::show(ui, &request.roster);
        ui.result("nothing was written (--dry-run); all checks passed\n");
        return Ok(());
    }
    for unit in &args.again {
        let again = ledger.again(&request.roster.name, unit);
        again.map_err(|e| words::ledger_error(&e))?;
    }
    work(cx, args, &request, ledger, (&prepared.sources, &control))
}

/// Leases run by the ledger's clock, but dates are this computer's.
fn tell_if_clocks_differ(ui: &Ui, ledger: &mut Ledger) {
    let Ok(there) = ledger.now() else { return };
    let wrong_by_seconds = clock::seconds() - there;
    if wrong_by_seconds.abs() <= MAX_CLOCK_SKEW {
        return;
    }
    let seconds = wrong_by_seconds.unsigned_abs();
    let by = units::time(Duration::from_secs(seconds));
    let way = if wrong_by_seconds > 0 {
        "ahead of"
    } else {
        "behind"
    };
    ui.say(format!(
        "note: this computer's clock is {by} {way} that of the ledger, and its records have the wrong \
         time\n      → set the clock, best with timedatectl set-ntp true\n"
    ));
    ui.event(&ClockEvent { wrong_by_seconds });
}

fn must_be_a_unit(roster: &Roster, unit: &str) -> Outcome {
    if roster.unit(unit).is_some() {
        return Ok(());
    }
    let message = Message::new(Exit::Usage, format!("the roster has no unit {unit}"));
    let names = roster.units.iter().map(|unit| unit.name.as_str());
    Err(match pinewrit_volume::nearest(unit, names) {
        Some(near) => message.remedy(format!("did you mean {near}?")),
        None => message.remedy("pinewrit batch ROSTER --dry-run lists all units"),
    })
}

fn request(cx: &Context, args: &BatchArgs, roster: Roster) -> Result<BatchRequest, Message> {
    let mut named = Vec::new();
    for path in &args.to {
        let chosen = medium::find(cx, path, false)?;
        if chosen.facts.is_none() {
            let what = format!("{} is not a medium in a reader", path.display());
            return Err(Message::new(Exit::Usage, what)
                .remedy("pinewrit media lists what is connected")
                .remedy("--rack FILE to practise with simulated readers"));
        }
        medium::must_not_be_system(&chosen)?;
        named.push(chosen.path);
    }
    let is_rack = matches!(cx.readers, Readers::Rack(_));
    Ok(BatchRequest {
        roster,
        only: with_again(args),
        next: args.next.clone(),
        at_once: usize::from(args.at_once),
        named,
        over_any: args.over == OverArg::Any,
        unmount: args.unmount,
        eject: !args.no_eject,
        trial_every: args.trial.map(usize::from),
        station: workshop::station()?,
        lease: Duration::from_secs(args.lease.max(1)),
        look_every: if is_rack { LOOK_AT_RACK } else { LOOK_EVERY },
        tool: TOOL.to_owned(),
        clock: clock::seconds,
        random: || Uuid::new_v4().into_bytes(),
    })
}

/// With `--again` alone, only those units are made.
fn with_again(args: &BatchArgs) -> Vec<String> {
    match args.only.is_empty() {
        true => args.again.clone(),
        false => args.only.iter().chain(&args.again).cloned().collect(),
    }
}

fn work(
    cx: &Context,
    args: &BatchArgs,
    request: &BatchRequest,
    ledger: Ledger,
    (sources, control): (&Sources, &Control),
) -> Outcome {
    let told = Told::new(cx.ui, args.bell, clock::local);
    listen(&told, control);
    let ledger = Mutex::new(ledger);
    let state = cx.folders.state_if_any();
    let spool = spool_folder(cx);
    let place = Place {
        readers: &cx.readers,
        ledger: &ledger,
        sources,
        state: state.as_ref(),
        spool: spool.as_deref(),
    };
    let watcher = Tried {
        told: &told,
        key: args.trial_key.as_deref(),
    };
    let done = pinewrit_batch::run(request, &place, &watcher, control);
    told.close();
    let failed = told.failed();
    drop(told);
    let report = done.map_err(|error| match error {
        BatchError::Ledger(error) => words::ledger_error(&error),
        BatchError::Media(error) => {
            Message::new(Exit::Medium, "the computer's media cannot be listed")
                .fact("system", error.to_string())
        }
        BatchError::Source(image, trouble) => words::trouble(&image, "the media", &trouble),
    })?;
    let mut ledger = ledger.into_inner().unwrap_or_else(|e| e.into_inner());
    tell_end(cx, args, request, &mut ledger, &report, failed)
}

/// What happens is told, and media are tried.
struct Tried<'a> {
    told: &'a Told,
    key: Option<&'a Path>,
}

impl Watcher for Tried<'_> {
    fn event(&self, event: &BatchEvent<'_>) {
        self.told.event(event);
    }

    fn observer(&self, slot: &Slot, key: &JobKey) -> Box<dyn Observer + Send + '_> {
        self.told.observer(slot, key)
    }

    fn describe(&self, image: &str, medium: &str, trouble: &Trouble) -> String {
        self.told.describe(image, medium, trouble)
    }

    fn trial(
        &self,
        unit: &Unit,
        receipt: &Receipt,
        medium: (&dyn BlockDevice, &Path),
        cancel: &Cancel,
    ) -> Result<(), String> {
        let known = KnownUnit {
            name: unit.name.clone(),
            receipt: Some(receipt.clone()),
            settings: unit.settings.clone(),
            record: None,
        };
        trial::in_batch((&unit.name, medium), &known, self.key, cancel)
    }
}

/// Where unpacked images are: with a rack's own records, beside them.
fn spool_folder(cx: &Context) -> Option<PathBuf> {
    if cx.folders.are_given() {
        return Some(cx.folders.state().ok()?.path().join("spool"));
    }
    pinewrit_session::spool()
}

/// Tags that are typed confirm that what is on those media may be overwritten.
fn listen(told: &Told, control: &Control) {
    if !io::stdin().is_terminal() || !told.is_drawn() {
        return;
    }
    let control = control.clone();
    // It ends with the program.
    std::thread::spawn(move || {
        for line in io::stdin().lock().lines().map_while(Result::ok) {
            control.confirm(line.trim());
        }
    });
}

/// The units of a batch with their records.
pub(crate) fn units_of(
    ledger: &mut Ledger,
    batch: &str,
) -> Result<Vec<(Job, Option<Record>)>, Message> {
    let told = |e: pinewrit_ledger::LedgerError| words::ledger_error(&e);
    let jobs = ledger.jobs(batch).map_err(told)?;
    let mut all = Vec::new();
    for job in jobs {
        let records = match &job.record {
            Some(id) => ledger.of(id).map_err(told)?,
            None => Vec::new(),
        };
        all.push((job, records.into_iter().next()));
    }
    Ok(all)
}

fn tell_end(
    cx: &Context,
    args: &BatchArgs,
    request: &BatchRequest,
    ledger: &mut Ledger,
    report: &BatchReport,
    failed: Vec<(String, String)>,
) -> Outcome {
    let ui = &cx.ui;
    let batch = &request.roster.name;
    let all = units_of(ledger, batch)?;
    let tally = report.tally;
    ui.event(&BatchResult::new(
        batch,
        &all,
        tally.failed,
        report.was_closed,
    ));
    ui.result(table::of_batch(&all, clock::local));
    if let Some(path) = &args.report {
        match printed::write_page(ledger, path, Some(batch)) {
            Ok(_) => ui.say(format!("report in {}\n", path.display())),
            Err(message) => ui.warn(format!("note: no report: {}\n", message.what())),
        }
    }
    for (tag, why) in &failed {
        ui.say(format!("note: {tag} failed: {why}\n"));
    }
    let left = all
        .iter()
        .filter(|(job, _)| matches!(job.state, JobState::Open | JobState::Held));
    let left = left.count();
    let media = units::counted(tally.done as u64, "medium").replace("mediums", "media");
    let good = style::GOOD;
    if !report.was_closed {
        let whose = if left > 0 {
            format!("; {left} more are left in {batch}")
        } else {
            String::new()
        };
        ui.result(format!(
            "{good}done:{good:#} {media} of {batch} are made and verified{whose}\n"
        ));
        return Ok(());
    }
    let again = format!("pinewrit batch {}", args.roster.display());
    ui.result(format!(
        "{media} of {batch} are done, {left} are left; `{again}` goes on\n"
    ));
    Err(Message::new(
        Exit::Interrupted,
        format!("{batch} is not done: {left} are left"),
    )
    .remedy(format!("{again} goes on where it stopped")))
}
