//! Copies: why one cannot be made, and how it differs from its source.

use std::io::ErrorKind;

use pinewrit_core::check::{Checked, Condition};
use pinewrit_core::copy::{SaveError, Shrunk, ViewError};
use pinewrit_core::inspect::Inspection;
use pinewrit_core::renew::RenewReport;
use pinewrit_core::table::ResizePartitionError;
use pinewrit_firstboot::as_new::AsNewReport;
use pinewrit_volume::resize::ResizeError;
use pinewrit_volume::{FilesystemKind, Recovered};

use super::inspection::FactList;
use super::{configure_error, disk_error, error_chain, open_error, stream_error, table_error};
use crate::{Exit, Message, units};

/// A copy that cannot be made like this.
pub fn view_error(name: &str, error: &ViewError) -> Message {
    match error {
        ViewError::Disk(error) => disk_error(name, error).remedy(READ_AROUND),
        ViewError::Table(error) => table_error(name, error),
        ViewError::AsNew(error) => {
            configure_error(name, error).instead("state", "nothing was copied")
        }
        ViewError::NotSmaller { what, size, why } => Message::new(
            Exit::Refused,
            format!("{name} does not fit, and {what} cannot be made smaller"),
        )
        .fact("room", units::exact(*size).trim_start())
        .fact("because", why.clone())
        .remedy("a larger medium"),
        ViewError::Unsound { what, why } => Message::new(
            Exit::Refused,
            format!("{what} of {name} would not be sound if it were smaller"),
        )
        .fact("because", why.clone())
        .fact("state", "nothing was copied")
        .remedy("a medium that is as large"),
        ViewError::TooFull {
            partition,
            least,
            room,
            medium,
            fills,
        } => {
            let short = units::size(least.saturating_sub(*room));
            let message = Message::new(Exit::Refused, format!("{name} is too full to fit"))
                .fact(
                    "needs",
                    format!(
                        "{} for partition {partition} at least",
                        units::exact(*least).trim_start()
                    ),
                )
                .fact(
                    "room",
                    format!("{}, {short} short", units::exact(*room).trim_start()),
                );
            fills
                .iter()
                .enumerate()
                .fold(message, |message, (index, (folder, bytes))| {
                    let what = if index == 0 { "most is in" } else { "" };
                    message.fact(what, format!("{folder}, {}", units::size(*bytes)))
                })
                .remedy(format!("a medium of {} or more", units::size(*medium)))
                .remedy("--as-new, which removes caches and logs")
        }
        other => Message::new(Exit::Internal, other.to_string()),
    }
}

/// What helps a copy of a medium with read errors.
pub const READ_AROUND: &str = "--rescue FILE reads around the errors of a medium";

/// A partition that cannot have another size with its file system.
pub fn resize_error(name: &str, number: u32, error: &ResizePartitionError) -> Message {
    let failed = || {
        let what = format!("partition {number} of {name} cannot be resized with its file system");
        Message::new(Exit::Refused, what)
    };
    let unchanged = "nothing was changed";
    match error {
        ResizePartitionError::Table(error) => table_error(name, error),
        ResizePartitionError::Filesystem(ResizeError::Size { size, least, most }) => {
            let (wanted, remedy) = if size < least {
                let least = least.next_multiple_of(1 << 20) >> 20;
                (
                    "too small",
                    format!("--size {least}MiB or more: its content and its kind need that much"),
                )
            } else {
                ("too large", format!("--size {}MiB or less", most >> 20))
            };
            failed()
                .fact(
                    "wanted",
                    format!("{}, which is {wanted}", units::exact(*size).trim_start()),
                )
                .fact("state", unchanged)
                .remedy(remedy)
        }
        other => failed()
            .fact("because", error_chain(other))
            .fact("state", unchanged)
            .remedy(format!("pinewrit check {name} shows how it is"))
            .remedy("without --with-filesystem only the partition is resized"),
    }
}

/// An image that was not saved.
pub fn save_error(name: &str, image: &str, error: &SaveError) -> Message {
    let message = match error {
        SaveError::Open(error) => open_error(error),
        SaveError::Source(error) => stream_error(name, error).remedy(READ_AROUND),
        SaveError::Out(error) => Message::new(Exit::Medium, format!("{image} cannot be written"))
            .fact("system", error_chain(error))
            .remedy(match error.kind() {
                ErrorKind::StorageFull => "a folder with more room",
                ErrorKind::ResourceBusy => "wait until the other run is done, or another name",
                _ => "another folder",
            }),
        SaveError::Differs { offset } => Message::new(
            Exit::Medium,
            format!("{image} does not hold what was read from {name}"),
        )
        .fact(
            "first",
            format!("in the chunk at {}", units::exact(*offset).trim_start()),
        )
        .remedy("save it again; if that does not help, distrust the disk under it, or the reader"),
        SaveError::Cancelled => super::interrupted(),
        other => Message::new(Exit::Internal, other.to_string()),
    };
    message.fact("state", format!("there is no {image}"))
}

/// A file system that is smaller in the copy.
pub fn shrunk(shrunk: &Shrunk) -> String {
    let what = match shrunk.partition {
        Some(number) => format!("partition {number}"),
        None => "the file system".to_owned(),
    };
    let sizes = format!(
        "{} → {}",
        units::size(shrunk.before),
        units::size(shrunk.size)
    );
    match shrunk.filesystem.moved {
        0 => format!("{what}: {sizes}"),
        moved => format!("{what}: {sizes}, {} moved to the front", units::size(moved)),
    }
}

/// What is copied byte by byte, because what is in use is not known.
pub fn copied_whole(content: &Inspection) -> Vec<String> {
    if let Some(problem) = content.problems.first() {
        return vec![format!("of the medium: {problem}")];
    }
    let partitions = content.partitions.iter();
    let unknown = partitions.filter(|one| {
        let kind = one.filesystem.as_ref().map(|facts| facts.kind);
        !kind.is_some_and(FilesystemKind::has_files)
    });
    unknown
        .map(|one| {
            let what = match &one.filesystem {
                Some(facts) => facts.kind.word(),
                None => "no file system that is known",
            };
            format!("of partition {}: {what}", one.number)
        })
        .collect()
}

/// A file system and how it is.
pub fn checked(one: &Checked) -> String {
    let label = one.label.as_deref().filter(|label| !label.is_empty());
    let name = match label {
        Some(label) => format!("{} {label:?}", one.kind),
        None => one.kind.to_owned(),
    };
    let condition = match (one.condition, &one.damage) {
        (Condition::Sound, _) => "sound".to_owned(),
        (Condition::NotChecked, _) => "not checked: there is no check for this kind".to_owned(),
        (Condition::Damaged, why) => {
            format!("damaged: {}", why.as_deref().unwrap_or("not known how"))
        }
        (Condition::Flagged, _) => "says that it has errors; no fault was found".to_owned(),
        (Condition::LostClusters, _) => {
            let count = units::counted(one.lost_clusters, "cluster");
            let done = if one.is_settled { "; freed" } else { "" };
            format!("{count} in use by no file{done}")
        }
        (Condition::CutOff, _) => match (&one.recovered, one.is_settled) {
            (Some(recovered), is_settled) => {
                format!("was cut off: {}", finished(recovered, is_settled))
            }
            (None, true) => "was marked as in use; the mark is cleared".to_owned(),
            (None, false) => "is marked as in use, and sound otherwise".to_owned(),
        },
    };
    format!("{name}: {condition}")
}

/// What was finished in a file system that was cut off.
pub fn recovered(one: &Recovered) -> String {
    let what = finished(one, true);
    match one.partition {
        Some(number) => format!("partition {number}: {what}"),
        None => what,
    }
}

/// What was, or has to be, finished.
fn finished(one: &Recovered, is_done: bool) -> String {
    let verb = |done: &'static str, open: &'static str| if is_done { done } else { open };
    let mut parts = Vec::new();
    if one.transactions > 0 {
        let count = units::counted(one.transactions.into(), "transaction");
        parts.push(format!(
            "{count} of its journal {}",
            verb("applied", "to apply")
        ));
    }
    if one.removed_files > 0 {
        let count = units::counted(one.removed_files.into(), "file");
        parts.push(format!(
            "{count} without a name {}",
            verb("removed", "to remove")
        ));
    }
    if one.cut_files > 0 {
        let count = units::counted(one.cut_files.into(), "file");
        parts.push(format!(
            "{count} {} at the end",
            verb("cut off", "to cut off")
        ));
    }
    if parts.is_empty() {
        parts.push("its journal was empty".to_owned());
    }
    parts.join(", ")
}

/// What was taken away, in a few words.
fn as_new(report: &AsNewReport) -> String {
    if report.taken.is_empty() {
        return "nothing had to be taken away".to_owned();
    }
    let files = units::counted(report.taken.len() as u64, "file");
    let mut kinds: Vec<(&str, usize)> = Vec::new();
    for one in &report.taken {
        match kinds.iter_mut().find(|(what, _)| *what == one.what) {
            Some((_, count)) => *count += 1,
            None => kinds.push((one.what, 1)),
        }
    }
    kinds.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    let named: Vec<String> = kinds
        .iter()
        .take(4)
        .map(|(what, count)| format!("{count} × {what}"))
        .collect();
    let more = if kinds.len() > 4 { " …" } else { "" };
    format!(
        "{files}, {} taken away: {}{more}",
        units::size(report.bytes()),
        named.join(", ")
    )
}

/// What there is to say beside it.
pub fn as_new_facts(report: &AsNewReport, facts: &mut FactList) {
    facts.add("as new", as_new(report));
    for path in &report.kept {
        facts.add("kept", path.as_str());
    }
    for suspect in &report.suspects {
        facts.add("stays", format!("{}: {}", suspect.path, suspect.why));
    }
    for note in &report.notes {
        facts.add("note", note.as_str());
    }
}

/// Every path that was, or would be, taken away, a line each.
pub fn as_new_list(report: &AsNewReport) -> String {
    let sizes: Vec<String> = report
        .taken
        .iter()
        .map(|one| units::size(one.bytes))
        .collect();
    let width = sizes.iter().map(String::len).max().unwrap_or(0);
    let mut text = String::new();
    for (one, size) in report.taken.iter().zip(sizes) {
        let how = one.how.word();
        text += &format!("  {size:>width$}  {how:<7}  {}  ({})\n", one.path, one.what);
    }
    text
}

/// Identifiers that were replaced, and the files that follow; in a dry run the new ones are not
/// those that a medium will have.
pub fn renewed(report: &RenewReport, is_dry: bool, facts: &mut FactList) {
    for renewal in &report.renewals {
        let place = match renewal.partition {
            None if renewal.what == "disk" => "disk".to_owned(),
            None => renewal.what.to_owned(),
            Some(number) if renewal.what == "partition" => format!("part. {number}"),
            Some(number) => format!("{} {number}", renewal.what),
        };
        let new = if is_dry {
            "a new one"
        } else {
            renewal.new.as_str()
        };
        facts.add(&place, format!("{} → {new}", renewal.old));
    }
    for (number, why) in &report.kept {
        facts.add(
            "kept",
            format!("that of the file system in partition {number}: {why}"),
        );
    }
    for file in &report.followed {
        let times = match file.count {
            1 => "once".to_owned(),
            count => format!("{count} times"),
        };
        facts.add(
            "follows",
            format!("{} on partition {}, {times}", file.path, file.partition),
        );
    }
    for (number, path) in &report.elsewhere {
        facts.add(
            "names",
            format!("{path} on partition {number} names an old one, and cannot be changed"),
        );
    }
    if report.followed.is_empty() {
        facts.add("follows", "nothing: no text refers to them");
    }
}
