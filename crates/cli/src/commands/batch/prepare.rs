//! Everything that is checked before the first medium.

use std::path::Path;
use std::sync::Arc;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, Table};
use pinewrit_args::SourceArgs;
use pinewrit_batch::{BatchRequest, Prepared, Sources, rehearse};
use pinewrit_boards::Extent;
use pinewrit_boards::chain::Verdict;
use pinewrit_build::BuildOptions;
use pinewrit_core::Cancel;
use pinewrit_core::write::{WritePlan, WriteRequest};
use pinewrit_disk::{CacheUse, FileDevice, SectorSize};
use pinewrit_image::{ImageSource, Location};
use pinewrit_ledger::{Conflict, Ledger};
use pinewrit_roster::{Content, Roster, RosterMistake, Unit};
use pinewrit_ui::progress::Waiting;
use pinewrit_ui::{Exit, Message, Ui, style, words};
use uuid::Uuid;

use super::TOOL;
use crate::commands::inspect::device;
use crate::commands::{build, trial};
use pinewrit_session::clock;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::{Context, boards, settings, trust};
use pinewrit_ui::batch::{RosterEvent, RosterUnit};

/// As many settings in which units differ are columns.
const MAX_COLUMNS: usize = 6;
/// Longer values are cut, in characters.
const MAX_VALUE: usize = 26;

/// What a batch needs.
pub(super) struct Ready {
    pub(super) sources: Sources,
    /// Images that were built from layouts, until the end.
    _built: Vec<tempfile::NamedTempFile>,
}

/// Opens all images, and checks everything over all units; all mistakes at once.
pub(super) fn prepare(
    cx: &Context,
    request: &BatchRequest,
    ledger: &mut Ledger,
    (cancel, is_dry, board): (&Cancel, bool, Option<&str>),
) -> Result<Ready, Message> {
    let roster = &request.roster;
    let mut faults = Faults {
        found: Vec::new(),
        place: place_of_first(roster),
    };
    let mut ready = Ready {
        sources: Sources::default(),
        _built: Vec::new(),
    };
    for (unit, content) in contents(roster) {
        let opened = match content {
            Content::Image { location, checksum } => {
                let key = roster.signed_by.as_deref();
                open(cx, location, checksum.as_deref(), key)
            }
            Content::Layout(path) => {
                let least = unit.media.iter().find(|medium| medium.content == *content);
                let least = least.map_or(0, |medium| medium.least);
                built(cx, path, least, (cancel, is_dry)).map(|(prepared, file)| {
                    ready._built.push(file);
                    prepared
                })
            }
        };
        // Of a layout, a dry run has only the table.
        let is_whole = !(is_dry && matches!(content, Content::Layout(_)));
        let opened = opened.and_then(|prepared| {
            if request.trial_every.is_some() && is_whole {
                let source = &prepared.source;
                trial::can_be_tried(&source.name(), &*device(source))?;
            }
            Ok(prepared)
        });
        match opened {
            Ok(prepared) => ready.sources.add(content.clone(), prepared),
            Err(message) => faults.add(unit, message),
        }
    }
    let media = roster.units.iter().flat_map(|unit| &unit.media);
    let mut intakes: Vec<&str> = media
        .filter_map(|medium| medium.intake.as_deref())
        .collect();
    intakes.sort_unstable();
    intakes.dedup();
    for name in intakes {
        match settings::wish(name) {
            Ok(wish) => ready.sources.add_intake(name, wish),
            Err(message) => faults.add_first(message),
        }
    }
    boards_of(roster, board, (&mut ready.sources, is_dry), &mut faults);
    conflicts(roster, ledger, &mut faults)?;
    let waiting = Waiting::new(&cx.ui, "trying all settings on the image".to_owned());
    let found = rehearse(request, &ready.sources, cancel);
    drop(waiting);
    if cancel.is_cancelled() {
        return Err(Message::new(
            Exit::Interrupted,
            "stopped; nothing was written",
        ));
    }
    for (image, fault) in &found {
        let message = words::fault(image, fault);
        match fault {
            pinewrit_batch::Fault::Settings(unit, _) | pinewrit_batch::Fault::NoWayIn(unit) => {
                faults.add(unit, message);
            }
            _ => faults.add_first(message),
        }
    }
    faults.told(roster)?;
    Ok(ready)
}

/// Mistakes that show beyond the roster itself.
struct Faults {
    found: Vec<(RosterMistake, Exit)>,
    place: pinewrit_roster::Place,
}

impl Faults {
    fn add(&mut self, unit: &Unit, message: Message) {
        self.push(unit.place.clone(), message);
    }

    fn add_first(&mut self, message: Message) {
        self.push(self.place.clone(), message);
    }

    fn push(&mut self, place: pinewrit_roster::Place, message: Message) {
        let rows = message.rows();
        let fact = |wanted: &[&str]| {
            let found = rows
                .iter()
                .find(|(name, _)| wanted.contains(&name.as_str()));
            found.map(|(_, text)| text.clone())
        };
        let what = match fact(&["found", "system"]) {
            Some(found) => format!("{} ({found})", message.what()),
            None => message.what().to_owned(),
        };
        let remedy = fact(&["try"]).unwrap_or_else(|| "see docs/guide.md".to_owned());
        let mistake = RosterMistake {
            place,
            what,
            remedy,
        };
        self.found.push((mistake, message.exit));
    }

    /// The message about all of them, if there are any. A bad image alone is a bad source.
    fn told(self, roster: &Roster) -> Result<(), Message> {
        let exits: Vec<Exit> = self.found.iter().map(|(_, exit)| *exit).collect();
        let Some(first) = exits.first() else {
            return Ok(());
        };
        let is_source = exits.iter().all(|exit| *exit == Exit::Source);
        let mut mistakes: Vec<RosterMistake> = self.found.into_iter().map(|(one, _)| one).collect();
        mistakes.sort_by(|a, b| a.place.cmp(&b.place));
        let mut message = words::roster_mistakes(&roster.name, mistakes);
        if is_source {
            message.exit = *first;
        }
        Err(message)
    }
}

fn place_of_first(roster: &Roster) -> pinewrit_roster::Place {
    let first = roster.units.first();
    first.map_or(
        pinewrit_roster::Place {
            file: roster.name.clone(),
            line: 1,
        },
        |unit| unit.place.clone(),
    )
}

/// Each different content, and the first unit that has it.
fn contents(roster: &Roster) -> Vec<(&Unit, &Content)> {
    let mut all: Vec<(&Unit, &Content)> = Vec::new();
    for unit in &roster.units {
        for medium in &unit.media {
            if !all.iter().any(|(_, known)| **known == medium.content) {
                all.push((unit, &medium.content));
            }
        }
    }
    all
}

fn open(
    cx: &Context,
    location: &Location,
    checksum: Option<&str>,
    key: Option<&Path>,
) -> Result<Prepared, Message> {
    if let Location::Shelf(name) = location
        && !name.contains('@')
    {
        let what = format!("{location} has no version");
        return Err(Message::new(Exit::Settings, what).remedy(format!(
            "{location}@VERSION, so that all units and stations get the same"
        )));
    }
    let named = source::open_named(cx, location, &SourceArgs::plain(), Keep::No)?;
    let vouched = trust::vouched(&named, checksum, key)?;
    Ok(Prepared {
        expected_free: free_in(&named.source),
        board: None,
        source: named.source,
        checksum: vouched.checksum,
    })
}

/// What is free in an image, as far as a look at it shows.
fn free_in(source: &ImageSource) -> u64 {
    let request = WriteRequest::new(TOOL, clock::seconds);
    let plan = WritePlan::new(source.clone(), Vec::new(), request);
    plan.map_or(0, |plan| plan.expected_free())
}

/// Builds an image from a layout; of a dry run, only its table.
fn built(
    cx: &Context,
    path: &std::path::Path,
    least: u64,
    (cancel, is_dry): (&Cancel, bool),
) -> Result<(Prepared, tempfile::NamedTempFile), Message> {
    let name = path.display().to_string();
    let layout = build::read(path)?;
    let size = pinewrit_build::least_size(&layout).or((least > 0).then_some(least));
    let size = size.ok_or_else(|| {
        Message::new(
            Exit::Settings,
            format!("a partition of {name} takes the rest of a medium"),
        )
        .remedy("least = \"4GB\" beside it, the size of the smallest medium")
    })?;
    let failed = |error: std::io::Error| {
        Message::new(Exit::Internal, format!("{name} could not be assembled"))
            .fact("system", error.to_string())
    };
    let folder = super::spool_folder(cx).unwrap_or_else(std::env::temp_dir);
    std::fs::create_dir_all(&folder).map_err(failed)?;
    let file = tempfile::NamedTempFile::new_in(&folder).map_err(failed)?;
    file.as_file().set_len(size).map_err(failed)?;
    let own = file.as_file().try_clone().map_err(failed)?;
    let device = FileDevice::new(own, size, SectorSize::B512, CacheUse::Cached);
    let random = || Uuid::new_v4().into_bytes();
    let options = BuildOptions {
        random: &random,
        now: clock::seconds(),
        zone: jiff::tz::TimeZone::UTC,
        open: source::plain_options(),
    };
    let told = |e: pinewrit_build::BuildError| words::build_error(&name, &e);
    let plan = pinewrit_build::plan(&layout, &device, &options).map_err(told)?;
    if is_dry {
        plan.write_table(&device).map_err(told)?;
    } else {
        let waiting = Waiting::new(&cx.ui, format!("building {name}"));
        pinewrit_build::build(&layout, &plan, &device, &options, cancel).map_err(told)?;
        drop(waiting);
    }
    let source = ImageSource::open(file.path()).map_err(|e| words::open_error(&e))?;
    let prepared = Prepared {
        expected_free: free_in(&source),
        board: None,
        source,
        checksum: None,
    };
    Ok((prepared, file))
}

/// Checks that a board starts from one of each unit's media, if one is named. What starts now must
/// start again when it is finished.
fn boards_of(
    roster: &Roster,
    named: Option<&str>,
    (sources, is_dry): (&mut Sources, bool),
    faults: &mut Faults,
) {
    let mut judged: Vec<(String, Vec<&Content>)> = Vec::new();
    for unit in &roster.units {
        let settings = unit.settings.as_ref();
        let wanted = named.or(roster.board.as_deref());
        let Some(wanted) = wanted.or_else(|| settings?.board.as_deref()) else {
            continue;
        };
        let contents: Vec<&Content> = unit.media.iter().map(|medium| &medium.content).collect();
        if judged.contains(&(wanted.to_owned(), contents.clone())) {
            continue;
        }
        judged.push((wanted.to_owned(), contents.clone()));
        if let Err(message) = one_starts(wanted, &contents, (sources, is_dry)) {
            faults.add(unit, message);
        }
    }
}

fn one_starts(
    wanted: &str,
    contents: &[&Content],
    (sources, is_dry): (&mut Sources, bool),
) -> Result<(), Message> {
    let board = Arc::new(boards::find(wanted)?);
    let mut refused = None;
    for content in contents {
        let Some(prepared) = sources.get(content) else {
            return Ok(());
        };
        // Of a layout, a dry run has only the table.
        if is_dry && matches!(content, Content::Layout(_)) {
            return Ok(());
        }
        let source = &prepared.source;
        let extent = Extent::Image(source.unpacked_size().exact());
        let name = source.name();
        let found = boards::judge(&board, &*device(source), extent, &name)?;
        if found.verdict != Verdict::DoesNotStart {
            sources.must_start(content, &board);
            return Ok(());
        }
        let what = format!("{} does not start from {name}", board.name);
        let remedy = format!("pinewrit inspect {name} --board {:?}", board.name);
        refused.get_or_insert(Message::new(Exit::Differences, what).remedy(remedy));
    }
    refused.map_or(Ok(()), Err)
}

/// Host names and addresses that other units in the ledger have.
fn conflicts(roster: &Roster, ledger: &mut Ledger, faults: &mut Faults) -> Result<(), Message> {
    let mut wanted = Vec::new();
    for unit in &roster.units {
        let host = unit.host_name().map(str::to_owned);
        let addresses = unit.addresses();
        let addresses = addresses.iter().map(|net| net.addr().to_string());
        wanted.extend(
            host.into_iter()
                .chain(addresses)
                .map(|word| (unit.name.clone(), word)),
        );
    }
    let owners = ledger
        .owners(&wanted)
        .map_err(|e| words::ledger_error(&e))?;
    for Conflict {
        unit,
        word,
        record: owner,
    } in &owners
    {
        let Some(unit) = roster.unit(unit) else {
            continue;
        };
        // Units of the same roster were compared with each other.
        let other = owner
            .unit
            .as_deref()
            .or(owner.host_name.as_deref())
            .unwrap_or("another unit");
        let is_own = owner.unit.is_none() && owner.host_name.as_deref() == unit.host_name();
        if roster.unit(other).is_some() || is_own {
            continue;
        }
        let when = clock::local(owner.time);
        let what = format!("{}: {word} belongs to {other}, made {when}", unit.name);
        let message = Message::new(Exit::Settings, what).remedy(format!(
            "a free one; pinewrit ledger show {other} tells about it"
        ));
        faults.add(unit, message);
    }
    Ok(())
}

/// The units of a roster, with what differs.
pub(super) fn show(ui: &Ui, roster: &Roster) {
    let mut differing = roster.differing();
    // What is the unit's name says nothing more.
    let is_name = |path: &str| {
        roster
            .units
            .iter()
            .all(|unit| unit.value(path) == Some(&unit.name))
    };
    differing.retain(|path| !is_name(path));
    let shown = &differing[..differing.len().min(MAX_COLUMNS)];
    let units = roster.units.iter().map(|unit| RosterUnit {
        unit: &unit.name,
        host_name: unit.host_name(),
        addresses: unit.addresses().iter().map(ToString::to_string).collect(),
        media: unit
            .media
            .iter()
            .map(|medium| (medium.role.clone(), medium.content.to_string()))
            .collect(),
        differs: differing
            .iter()
            .map(|path| (path.as_str(), unit.value(path)))
            .collect(),
    });
    ui.event(&RosterEvent {
        command: "batch",
        batch: &roster.name,
        units: units.collect(),
    });
    let dim = style::DIM;
    let mut table = Table::new();
    table.load_style(NOTHING);
    let one_content =
        contents(roster).len() == roster.units.first().map_or(0, |unit| unit.media.len());
    let mut head = vec!["unit"];
    head.extend(shown.iter().map(String::as_str));
    if !one_content {
        head.push("content");
    }
    table.set_header(
        head.iter()
            .map(|head| Cell::new(format!("{dim}{head}{dim:#}"))),
    );
    for unit in &roster.units {
        let mut cells = vec![unit.name.clone()];
        cells.extend(
            shown
                .iter()
                .map(|path| cut(unit.value(path).unwrap_or("-"))),
        );
        if !one_content {
            let media = unit.media.iter().map(|medium| medium.content.to_string());
            cells.push(media.collect::<Vec<_>>().join(", "));
        }
        table.add_row(cells);
    }
    let mut text = String::new();
    for line in table.lines() {
        text += &format!(" {}\n", line.trim_end());
    }
    let count = pinewrit_ui::units::counted(roster.units.len() as u64, "unit");
    let media = roster.units.first().map_or(&[][..], |unit| &unit.media);
    let contents: Vec<String> = media
        .iter()
        .map(|medium| medium.content.to_string())
        .collect();
    let more = match differing.len() - shown.len() {
        0 => String::new(),
        more => format!("; {more} more settings differ (--json shows them)"),
    };
    text += &format!(
        "\n{count} of {}: {}{more}\n",
        roster.name,
        contents.join(", ")
    );
    ui.result(text);
}

fn cut(text: &str) -> String {
    if text.chars().count() <= MAX_VALUE {
        return text.to_owned();
    }
    let mut cut: String = text.chars().take(MAX_VALUE - 1).collect();
    cut.push('…');
    cut
}
