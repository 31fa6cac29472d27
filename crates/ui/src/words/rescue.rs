//! Words of copies of media that cannot be read in every place.

use pinewrit_rescue::{
    Hit, HitKind, KeptError, Mended, MendedPart, RescueError, RescueReport, RescueViewError,
};

use super::inspection::FactList;
use super::{disk_error, error_chain, view_error};
use crate::{Exit, Message, units};

/// What is shown of a long list; `--json` has all of it.
const SHOWN: usize = 12;

/// Why the files of a rescue cannot be used.
pub fn kept_error(error: &KeptError) -> Message {
    let message = |exit| Message::new(exit, error_chain(error));
    match error {
        KeptError::NoMap(_) | KeptError::Map { .. } => {
            message(Exit::Usage).remedy("another name for --rescue, which does not exist yet")
        }
        KeptError::Size { .. } | KeptError::Other { .. } => message(Exit::Refused)
            .remedy("the medium that it was begun with")
            .remedy("another name for --rescue, to begin a new one"),
        KeptError::InUse(_) => message(Exit::Refused).remedy("wait for it, or another name"),
        _ => message(Exit::Refused)
            .remedy("--rescue in a folder with room for everything that is in use on the medium"),
    }
}

/// Why a rescue came to no copy.
pub fn rescue_error(name: &str, command: &str, error: &RescueViewError) -> Message {
    let message = match error {
        RescueViewError::View(error) => return view_error(name, error),
        RescueViewError::Rescue(RescueError::Kept(error)) => kept_error(error),
        RescueViewError::Rescue(RescueError::Disk(error)) => disk_error(name, error),
        RescueViewError::Rescue(RescueError::Cancelled) => {
            Message::new(Exit::Interrupted, "stopped as requested")
        }
        other => Message::new(Exit::Internal, other.to_string()),
    };
    message
        .fact("state", "what was read is kept")
        .remedy(format!(
            "the same {command} again: it goes on where it stopped"
        ))
}

/// What was taken from copies, and what is missing.
pub fn rescued(report: &RescueReport, facts: &mut FactList) {
    let used = units::size(report.used_bytes);
    if report.is_whole() {
        facts.add("read", format!("all of {used} in use"));
    } else {
        facts.add(
            "missing",
            format!("{}; zeros in their place", missing(report)),
        );
    }
    for (index, one) in report.mended.iter().enumerate() {
        facts.add(if index == 0 { "mended" } else { "" }, mended(one));
    }
}

/// The last word on a copy that lacks something.
pub fn not_whole(what: &str, file: &str, report: &RescueReport) -> Message {
    let except = units::size(report.missing_bytes);
    let what = format!("{what}, except {except} that could not be read");
    let mut message = Message::new(Exit::Medium, what).fact("missing", missing(report));
    for (index, hit) in report.hits.iter().take(SHOWN).enumerate() {
        message = message.fact(if index == 0 { "hit" } else { "" }, hit_text(hit));
    }
    let more = report.hits.len().saturating_sub(SHOWN);
    if more > 0 {
        message = message.fact("", format!("and {more} more: --json lists all"));
    }
    if report.hits.is_empty() {
        message = message.fact("hit", "nothing that is known");
    }
    let is_damaged = report.hits.iter().any(|hit| hit.kind < HitKind::File);
    if is_damaged {
        message = message.remedy(
            "the system's own file system checker (e2fsck, fsck.fat) on the copy, before it is used",
        );
    }
    message.remedy(format!(
        "the same command with another reader: {file} and its map know what is missing"
    ))
}

fn missing(report: &RescueReport) -> String {
    let places = units::counted(report.missing.len() as u64, "place");
    let (lost, used) = (report.missing_bytes, report.used_bytes);
    format!("{places}, {} of {}", units::size(lost), units::size(used))
}

fn hit_text(hit: &Hit) -> String {
    let place = match hit.partition {
        Some(number) => format!("partition {number}: "),
        None => String::new(),
    };
    let name = match hit.kind {
        HitKind::Root => "the root directory",
        HitKind::Unknown if hit.name.is_empty() => "a file system that is not known",
        _ => &hit.name,
    };
    format!("{place}{name}")
}

fn mended(one: &Mended) -> String {
    let what = match one.what {
        MendedPart::Table => "the partition table, from the rest of the GPT",
        MendedPart::BootSector => "the boot sector, from its copy",
        MendedPart::AllocationTable => "the allocation table, from the other one",
        MendedPart::Superblock => "the superblock, from a copy",
        MendedPart::GroupDescriptors => "group descriptors, from a copy",
        _ => "something, from its copy",
    };
    match one.partition {
        Some(number) => format!("partition {number}: {what}"),
        None => what.to_owned(),
    }
}
