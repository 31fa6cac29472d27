//! Records as tables for people.

use crate::{style, units, words};
use comfy_table::presets::NOTHING;
use comfy_table::{Cell, Table};
use pinewrit_ledger::{Job, JobState, Record};

/// As many characters of an identifier are shown: enough to name it.
const SHORT: usize = 8;
/// Longer names of images are cut, in characters.
const MAX_IMAGE: usize = 24;
/// Longer reasons are cut, in characters.
const MAX_WHY: usize = 48;

/// Tells a time.
pub type Times = fn(i64) -> String;

fn table(heads: &[&str]) -> Table {
    let dim = style::DIM;
    let mut table = Table::new();
    table.load_style(NOTHING);
    table.set_header(
        heads
            .iter()
            .map(|head| Cell::new(format!("{dim}{head}{dim:#}"))),
    );
    table
}

fn text(table: &Table) -> String {
    let lines = table.lines().map(|line| format!(" {}\n", line.trim_end()));
    lines.collect()
}

/// As much of an identifier as names a record.
pub fn short(id: &str) -> &str {
    id.get(..SHORT).unwrap_or(id)
}

fn or_dash(text: Option<&str>) -> String {
    text.filter(|text| !text.is_empty())
        .unwrap_or("-")
        .to_owned()
}

fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let mut cut: String = text.chars().take(most - 1).collect();
    cut.push('…');
    cut
}

fn unit(record: &Record) -> String {
    let name = record.unit.as_deref().or(record.host_name.as_deref());
    match (name, &record.role) {
        (Some(name), Some(role)) => format!("{name} {role}"),
        (name, _) => or_dash(name),
    }
}

/// Its tag, or the name of a card file.
fn medium(record: &Record) -> String {
    let file = record
        .medium
        .as_deref()
        .and_then(|name| name.rsplit('/').next());
    or_dash(record.tag.as_deref().or(file))
}

fn addresses(record: &Record) -> String {
    let bare = record.addresses.as_deref().unwrap_or_default();
    let bare: Vec<&str> = bare
        .split(' ')
        .map(|net| net.split('/').next().unwrap_or(net))
        .filter(|address| !address.is_empty())
        .collect();
    or_dash(Some(&bare.join(" ")))
}

fn verified(record: &Record) -> String {
    let (good, warning) = (style::GOOD, style::WARNING);
    match record.verified {
        true => format!("{good}verified{good:#}"),
        false => format!("{warning}not verified{warning:#}"),
    }
}

/// Records, one a line.
pub fn of_records(records: &[Record], time: Times) -> String {
    let heads = [
        "record",
        "finished",
        "unit",
        "addresses",
        "medium",
        "image",
        "state",
    ];
    let mut table = table(&heads);
    let strong = style::STRONG;
    for record in records {
        table.add_row([
            short(&record.id).to_owned(),
            time(record.time),
            format!("{strong}{}{strong:#}", unit(record)),
            addresses(record),
            medium(record),
            cut(record.image.as_deref().unwrap_or("-"), MAX_IMAGE),
            verified(record),
        ]);
    }
    text(&table)
}

/// The units of a batch, in the roster's order.
pub fn of_batch(all: &[(Job, Option<Record>)], time: Times) -> String {
    let heads = ["unit", "state", "finished", "medium", "addresses", "record"];
    let mut table = table(&heads);
    let (strong, dim) = (style::STRONG, style::DIM);
    let (good, warning) = (style::GOOD, style::WARNING);
    for (job, record) in all {
        let state = match job.state {
            JobState::Done if job.is_outdated => {
                format!("{warning}done, roster changed{warning:#}")
            }
            JobState::Done => format!("{good}done{good:#}"),
            JobState::Held => {
                let station = job.station.as_deref().unwrap_or("another station");
                format!("{warning}in work at {station}{warning:#}")
            }
            JobState::Dropped => format!("{dim}not in the roster{dim:#}"),
            JobState::Open => match &job.why {
                Some(why) => format!("{warning}open:{warning:#} {}", cut(why, MAX_WHY)),
                None => "open".to_owned(),
            },
        };
        let of_record = |get: &dyn Fn(&Record) -> String| match record {
            Some(record) => get(record),
            None => "-".to_owned(),
        };
        table.add_row([
            format!("{strong}{}{strong:#}", words::job(&job.key)),
            state,
            of_record(&|record| time(record.time)),
            of_record(&|record| or_dash(record.tag.as_deref())),
            of_record(&addresses),
            of_record(&|record| short(&record.id).to_owned()),
        ]);
    }
    text(&table)
}

/// Everything about a record, in rows.
pub fn facts(record: &Record, time: Times) -> Vec<(&'static str, String)> {
    let mut facts = Vec::new();
    let mut add = |name, value: Option<String>| facts.extend(value.map(|value| (name, value)));
    add("record", Some(record.id.clone()));
    let took = [record.write_millis, record.verify_millis];
    let took: i64 = took.into_iter().flatten().sum();
    let took = std::time::Duration::from_millis(u64::try_from(took).unwrap_or(0));
    let by = record
        .station
        .as_ref()
        .map_or(String::new(), |name| format!(" at {name}"));
    let finished = time(record.time);
    add(
        "finished",
        Some(format!("{finished}{by}, in {}", units::time(took))),
    );
    add("batch", record.batch.clone());
    add("host name", record.host_name.clone());
    add("addresses", record.addresses.clone());
    let size = record.size.and_then(|size| u64::try_from(size).ok());
    let medium = [
        Some(medium(record)),
        record.model.clone(),
        size.map(units::size),
    ];
    let medium: Vec<String> = medium.into_iter().flatten().collect();
    add("medium", Some(medium.join(", ")));
    let image = record.image.clone().map(|image| match &record.checksum {
        Some(checksum) => format!("{image}, {checksum}"),
        None => image,
    });
    add("image", image);
    add("identifier", record.table_id.clone());
    add("read back", Some(verified(record)));
    add("known_hosts", record.known_hosts.clone());
    add(
        "commissioned",
        Some(record.commissioned.map_or("not yet".to_owned(), time)),
    );
    facts
}
