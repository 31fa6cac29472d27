//! What was measured, in words.

use std::time::Duration;

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, Table};
use pinewrit_ledger::{KnownSpeed, SpeedSource};
use pinewrit_measure::{
    Asked, Beyond, Capacity, CapacityReport, MeasureError, Pace, Piece, Shortfall, SpeedReport,
};

use super::inspection::FactList;
use super::{disk_error, error_chain};
use crate::{Exit, Message, style, units};

/// The most slow places to list.
const MAX_SPOTS: usize = 4;
/// A medium is as fast as its bus from this share on.
const AS_FAST: f64 = 0.8;

/// A medium, and what was found out about it.
pub struct Measured {
    /// Its name.
    pub name: String,
    /// What it claims, in bytes.
    pub size: u64,
    /// Its bus, and what that carries in bytes a second, if that is known.
    pub bus: Option<(String, u64)>,
    /// Its maker and model.
    pub model: String,
    /// Its real size.
    pub capacity: Option<CapacityReport>,
    /// Its speed.
    pub speed: Option<SpeedReport>,
    /// What is printed on it.
    pub ratings: Vec<Shortfall>,
}

impl Measured {
    /// Whether it keeps what it promises about its size.
    pub fn is_real(&self) -> bool {
        let capacity = self.capacity.as_ref();
        capacity.is_none_or(|report| report.capacity == Capacity::Real)
    }

    /// Whether a rating is not kept.
    pub fn falls_short(&self) -> bool {
        self.ratings.iter().any(|one| one.is_kept() == Some(false))
    }
}

/// Bytes a second.
pub fn rate(rate: f64) -> String {
    units::rate(rate as u64, Duration::from_secs(1))
}

fn milliseconds(seconds: f64) -> String {
    match seconds * 1000.0 {
        long @ 10.0.. => format!("{long:.0} ms"),
        short => format!("{short:.1} ms"),
    }
}

/// All about a medium that is what it says.
pub fn measured(one: &Measured) -> String {
    let good = style::GOOD;
    let what = match (&one.capacity, &one.speed) {
        (Some(_), Some(speed)) => {
            format!("all {} are there; {}", units::size(one.size), pair(speed))
        }
        (Some(_), None) => format!("all {} are there", units::size(one.size)),
        (None, Some(speed)) => pair(speed),
        (None, None) => String::new(),
    };
    format!(
        "{good}done:{good:#} {}: {what}\n{}",
        one.name,
        facts(one).to_text()
    )
}

fn pair(speed: &SpeedReport) -> String {
    let write = speed.write.as_ref();
    let write = write.map(|write| format!(", writes {}", rate(write.sustained)));
    format!(
        "reads {}{}",
        rate(speed.read.sustained),
        write.unwrap_or_default()
    )
}

/// What was measured in one line, for records.
pub fn brief(one: &Measured) -> String {
    let size = one.capacity.as_ref().map(size_words);
    let speed = one.speed.as_ref().map(pair);
    let parts: Vec<String> = size.into_iter().chain(speed).collect();
    parts.join("; ")
}

fn size_words(report: &CapacityReport) -> String {
    let claimed = units::size(report.claimed);
    match &report.capacity {
        Capacity::Real => format!("all {claimed} are there"),
        Capacity::Smaller { real, .. } => format!("{} of {claimed} are there", units::size(*real)),
        Capacity::Bad(places) => {
            let places = units::counted(places.count, "bad place");
            format!("{claimed}, {places}")
        }
        Capacity::Forgets { bytes } => format!(
            "forgets {} of what it said was written",
            units::size(*bytes)
        ),
    }
}

fn facts(one: &Measured) -> FactList {
    let mut facts = FactList::default();
    for (name, text) in rows(one) {
        facts.add(name, text);
    }
    facts
}

/// All facts about a medium, for a page.
pub(crate) fn page_rows(one: &Measured) -> Vec<(&'static str, String)> {
    let size = one.capacity.as_ref().map(size_words);
    let size = size.unwrap_or_else(|| units::size(one.size));
    let mut all = vec![("size", size)];
    all.extend(rows(one));
    all
}

fn rows(one: &Measured) -> Vec<(&'static str, String)> {
    let mut rows = Vec::new();
    if let Some(report) = &one.capacity {
        rows.push(("looked at", looked_at(report)));
    }
    let Some(speed) = &one.speed else {
        return rows;
    };
    rows.push(("reading", pace_words(&speed.read)));
    if let Some(write) = &speed.write {
        rows.push(("writing", pace_words(write)));
    }
    let anywhere = speed.write_anywhere.map_or(String::new(), |write| {
        format!(", {} writes", units::grouped(write.per_second as u64))
    });
    let reads = units::grouped(speed.read_anywhere.per_second as u64);
    rows.push((
        "anywhere",
        format!("{reads} reads{anywhere} of 4 KiB a second"),
    ));
    if !speed.slow.is_empty() {
        rows.push(("slow spots", spots(&speed.slow)));
    }
    if let Some((bus, carries)) = &one.bus {
        rows.push(("bus", bus_words(bus, *carries as f64, speed)));
    }
    rows.extend(one.ratings.iter().map(|one| ("rated", rating(one))));
    rows
}

fn looked_at(report: &CapacityReport) -> String {
    let looked = units::size(report.looked_at);
    let written = units::size(report.written);
    match (report.looked_at == report.claimed, report.refused) {
        (true, _) => format!("all of it, {looked}"),
        (false, 0) => format!("{looked} all over it; {written} written, all put back"),
        (false, refused) => format!(
            "{looked} all over it; {written} written, {} could not be put back",
            units::size(refused)
        ),
    }
}

fn pace_words(pace: &Pace) -> String {
    let cache = pace.cache.map_or(String::new(), |cache| {
        format!(", after a cache of {}", units::size(cache))
    });
    let latency = &pace.latency;
    format!(
        "{}{cache}; half of all requests in {}, the longest {}",
        rate(pace.sustained),
        milliseconds(latency.half),
        milliseconds(latency.most)
    )
}

fn spots(slow: &[Piece]) -> String {
    let one = |piece: &Piece| {
        let at = units::size(piece.offset);
        format!("{} at {at}", milliseconds(piece.seconds))
    };
    let named: Vec<String> = slow.iter().take(MAX_SPOTS).map(one).collect();
    let more = slow.len().saturating_sub(MAX_SPOTS);
    let more = match more {
        0 => String::new(),
        more => format!(", and {more} more"),
    };
    format!("{}{more}", named.join(", "))
}

/// Whether the bus is what limits the medium.
fn bus_words(bus: &str, carries: f64, speed: &SpeedReport) -> String {
    let about = format!("{bus} gives about {}", rate(carries));
    let fastest = speed.write.as_ref().map_or(0.0, |write| write.rate);
    let fastest = fastest.max(speed.read.rate);
    match fastest >= carries * AS_FAST {
        true => format!("{about}: the medium may be faster elsewhere"),
        false => format!("{about}: it is not what limits the medium"),
    }
}

fn rating(one: &Shortfall) -> String {
    let (what, of): (&str, fn(f64) -> String) = match one.of {
        Asked::Read => ("reading", rate),
        Asked::Write => ("writing", rate),
        Asked::ReadAnywhere => ("reads anywhere a second", whole),
        Asked::WriteAnywhere => ("writes anywhere a second", whole),
    };
    let asked = format!("{} asks {} {what}", one.rating, of(one.asked));
    match (one.found, one.is_kept()) {
        (Some(found), Some(true)) => format!("{asked}: kept, {}", of(found)),
        (Some(found), _) => format!("{asked}: {} is below", of(found)),
        (None, _) => format!("{asked}: not measured"),
    }
}

fn whole(number: f64) -> String {
    units::grouped(number as u64)
}

/// A medium that is not what it says.
pub fn not_real(one: &Measured) -> Option<Message> {
    let report = one.capacity.as_ref()?;
    let name = &one.name;
    let claimed = units::size(report.claimed);
    let message = match &report.capacity {
        Capacity::Real => return None,
        Capacity::Smaller {
            real,
            proven,
            beyond,
        } => {
            let what = format!("{name} has {}, not {claimed}", units::size(*real));
            let past = match beyond {
                Beyond::Wraps => "what is written past its end overwrites its start",
                Beyond::Loses => "what is written past its end is lost, without an error",
                Beyond::Fails => "reading or writing past its end fails",
            };
            let message = Message::new(Exit::Medium, what).fact("past it", past);
            let proven = format!("everything up to {} was there", units::size(*proven));
            message.fact("certain", proven)
        }
        Capacity::Bad(places) => {
            let what = format!("{name} does not keep what is written to it");
            let bad = units::counted(places.count, "place");
            let first = units::size(places.first);
            Message::new(Exit::Medium, what).fact("bad", format!("{bad}, the first at {first}"))
        }
        Capacity::Forgets { bytes } => {
            let what = format!("{name} forgets what it said was written");
            let lost = units::size(*bytes);
            Message::new(Exit::Medium, what).fact("lost", format!("{lost} with its power"))
        }
    };
    let message = rows(one)
        .into_iter()
        .fold(message, |message, (name, text)| message.fact(name, text));
    Some(match &report.capacity {
        Capacity::Smaller { .. } => message
            .remedy("do not use it; return it where it was bought")
            .remedy(format!(
                "if it must be used: pinewrit measure {name} --use-real, for a table that ends there"
            )),
        Capacity::Bad(_) => message.remedy("do not use it"),
        _ => message.remedy("do not use it where power may fail"),
    })
}

/// A medium that is slower than it says; the rest has been told.
pub fn falls_short(one: &Measured) -> Message {
    let what = format!("{} is slower than what is printed on it", one.name);
    let short = one.ratings.iter();
    let short = short.filter(|rating| rating.is_kept() == Some(false));
    let message = short.fold(Message::new(Exit::Differences, what), |message, one| {
        message.fact("rated", rating(one))
    });
    message.remedy("measure it in another reader, or use another medium")
}

/// Several media side by side.
pub fn compared(all: &[Measured]) -> String {
    let mut table = Table::new();
    table.load_style(NOTHING);
    let heads = [
        "medium", "size", "reads", "writes", "reads/s", "writes/s", "longest", "model",
    ];
    table.set_header(heads);
    for column in table.column_iter_mut().skip(1).take(6) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    for one in all {
        let size = match one.capacity.as_ref().map(|report| &report.capacity) {
            Some(Capacity::Smaller { real, .. }) => format!("{} only", units::size(*real)),
            Some(Capacity::Bad(_)) => format!("{} bad", units::size(one.size)),
            Some(Capacity::Forgets { .. }) => format!("{} forgets", units::size(one.size)),
            _ => units::size(one.size),
        };
        let speed = one.speed.as_ref();
        let write = speed.and_then(|speed| speed.write.as_ref());
        let text = |value: Option<String>| Cell::new(value.unwrap_or_else(|| "-".to_owned()));
        let number = |number: Option<f64>| text(number.map(|n| units::grouped(n as u64)));
        let longest = speed.map(|speed| {
            let write = write.map_or(0.0, |write| write.latency.most);
            milliseconds(write.max(speed.read.latency.most))
        });
        table.add_row([
            Cell::new(&one.name),
            Cell::new(size),
            text(speed.map(|speed| rate(speed.read.sustained))),
            text(write.map(|write| rate(write.sustained))),
            number(speed.map(|speed| speed.read_anywhere.per_second)),
            number(speed.and_then(|speed| Some(speed.write_anywhere?.per_second))),
            text(longest),
            Cell::new(&one.model),
        ]);
    }
    let lines = table.lines().map(|line| format!("{}\n", line.trim_end()));
    lines.collect()
}

/// How fast a medium was before, and how that is known.
pub fn known_speed(known: &KnownSpeed) -> String {
    let word = |rate: u64| units::rate(rate, Duration::from_secs(1));
    let reads = known.read.map(|rate| format!("reads {}", word(rate)));
    let writes = known.write.map(|rate| format!("writes {}", word(rate)));
    let rates: Vec<String> = reads.into_iter().chain(writes).collect();
    format!("{} ({})", rates.join(", "), how_known(known.source))
}

/// How long it takes in one line: at this rate of writing, known like this.
pub fn expected(seconds: f64, write: f64, how: &str) -> String {
    let time = units::time(Duration::from_secs_f64(seconds));
    format!("about {time}, at {} ({how})", rate(write))
}

/// How a speed is known.
pub fn how_known(source: SpeedSource) -> &'static str {
    match source {
        SpeedSource::Measured => "last time it was measured",
        SpeedSource::Written => "last time it was written",
        SpeedSource::ModelMeasured => "as others of its model, measured",
        SpeedSource::ModelWritten => "as others of its model, when they were written",
    }
}

/// What a failed measurement means.
pub fn measure_error(name: &str, error: &MeasureError) -> Message {
    match error {
        MeasureError::Disk(error) => disk_error(name, error),
        MeasureError::Keepsake { path, .. } => Message::new(
            Exit::Internal,
            format!("what is on {name} could not be kept while it is measured"),
        )
        .fact("file", path.display().to_string())
        .fact("system", error_chain(error))
        .remedy("free space there"),
        MeasureError::TooSmall { size, least } => {
            Message::new(Exit::Usage, format!("{name} is too small to be measured"))
                .fact("size", units::exact(*size))
                .fact("needed", units::exact(*least))
        }
        MeasureError::NotBack(why) => Message::new(Exit::Medium, format!("{name}: {why}"))
            .fact(
                "state",
                "some places of it are marked; what was there is kept",
            )
            .remedy(format!(
                "plug {name} in; the next command that changes it puts it back"
            )),
        MeasureError::Cancelled => Message::new(Exit::Interrupted, "interrupted")
            .fact("state", format!("{name} is as it was before")),
        _ => Message::new(Exit::Internal, error.to_string()),
    }
}
