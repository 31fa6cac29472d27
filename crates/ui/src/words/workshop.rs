//! Rosters, batches and the ledger, in words.

use pinewrit_batch::{Fault, NoSpool, Refusal, Trouble};
use pinewrit_core::write::{Failure, ImageDoubt};
use pinewrit_ledger::{JobKey, LedgerError};
use pinewrit_roster::{RosterError, RosterMistake};

use super::inspection;
use crate::units;
use crate::{Exit, FileMistake, Message};

/// A ledger that cannot be used.
pub fn ledger_error(error: &LedgerError) -> Message {
    match error {
        LedgerError::Newer { newest, known } => {
            Message::new(Exit::Refused, "the ledger was changed by a newer Pinewrit")
                .fact("ledger", format!("version {newest}"))
                .fact("this one", format!("knows up to version {known}"))
                .remedy("use the newer Pinewrit on all stations")
        }
        LedgerError::Address(why) => {
            Message::new(Exit::Usage, "the place of the ledger cannot be used")
                .fact("found", why.clone())
                .remedy("a file, or postgres://USER@HOST/DATABASE")
        }
        LedgerError::Damaged(damaged) => Message::new(Exit::Internal, damaged.to_string())
            .remedy("pinewrit ledger export, and a new ledger"),
        _ => Message::new(Exit::Internal, "the ledger cannot be reached")
            .fact("found", super::error_chain(error))
            .remedy("is the server running, and the network up? Is there space on the disk?"),
    }
}

/// A roster that cannot be used.
pub fn roster_error(name: &str, error: &RosterError) -> Message {
    match error {
        RosterError::Read { source, .. } => {
            let what = format!("the roster {name} cannot be read");
            Message::new(Exit::Settings, what).fact("system", source.to_string())
        }
        RosterError::Mistakes(mistakes) => roster_mistakes(name, mistakes.clone()),
    }
}

/// The mistakes of a roster and its files.
pub fn roster_mistakes(name: &str, mistakes: Vec<RosterMistake>) -> Message {
    let count = units::counted(mistakes.len() as u64, "mistake");
    let what = format!("the roster {name} has {count}; nothing was written");
    let message = Message::new(Exit::Settings, what);
    mistakes.into_iter().fold(message, |message, one| {
        message.mistake(FileMistake {
            file: one.place.file,
            line: one.place.line,
            what: one.what,
            remedy: one.remedy,
        })
    })
}

/// A unit's medium: its name, and its role if it has several.
pub fn job(key: &JobKey) -> String {
    match key.role.as_str() {
        "" => key.unit.clone(),
        role => format!("{} {role}", key.unit),
    }
}

/// Why a medium was left alone, in one line. `time` tells times.
pub fn refusal(tag: &str, refusal: &Refusal, time: &dyn Fn(i64) -> String) -> String {
    match refusal {
        Refusal::Verdict(verdict) => {
            let reasons = super::reasons(verdict).join("; ");
            format!("left alone: it is {}; {reasons}", verdict.word())
        }
        Refusal::Mounted(points) => {
            format!("left alone: it is mounted at {points}; --unmount frees what is plugged in")
        }
        Refusal::Bad(when, why) => format!("refused: {why} ({}); use another one", time(*when)),
        Refusal::Made(key, when) => format!("is {}, finished {}", job(key), time(*when)),
        Refusal::Holds(content, unit) => {
            let what = match unit {
                Some(unit) => format!("{unit}, of another batch"),
                None => inspection::summary(content),
            };
            format!("holds {what}; type {tag} to overwrite it")
        }
        Refusal::NoJob => "waits: no unit is open for a medium of this size".to_owned(),
        Refusal::Unreadable(why) => format!("cannot be read: {why}"),
    }
}

/// Why a medium was not written, as a message.
pub fn trouble(image: &str, medium: &str, trouble: &Trouble) -> Message {
    match trouble {
        Trouble::Open(error) | Trouble::Write(Failure::Settle(error)) => {
            super::named_medium_error(medium, error)
        }
        Trouble::Plan(error) => super::plan_error(image, error),
        Trouble::Write(Failure::Write(error)) => super::write_error(image, medium, error),
        Trouble::Source(error) => no_spool(image, error),
        Trouble::Trial { tag, why } => {
            let what = format!("{tag} did not pass its trial: {why}");
            Message::new(Exit::Differences, what)
                .fact("state", "it is written, but not recorded")
                .remedy(format!("pinewrit trial {tag} --console"))
        }
        Trouble::Board(found) => {
            let what = format!("{} does not start from {medium}", found.board);
            Message::new(Exit::Differences, what)
                .fact("state", "it is written, but not recorded")
                .remedy(format!(
                    "pinewrit inspect {medium} --board {:?}",
                    found.board
                ))
        }
    }
}

/// Why an image is not unpacked once for all, in one line.
pub fn why_no_spool(error: &NoSpool) -> String {
    match error {
        NoSpool::NoRoom {
            folder,
            needed,
            free,
        } => {
            let (needed, free) = (units::size(*needed), units::size(*free));
            format!(
                "it needs {needed}, and {} has {free} free",
                folder.display()
            )
        }
        error => super::error_chain(error),
    }
}

/// Why an image is not unpacked once for all, as a message.
pub fn no_spool(image: &str, error: &NoSpool) -> Message {
    match error {
        NoSpool::Image(error) => super::write_error(image, "the unpacked image", error),
        NoSpool::Open(error) => super::open_error(error),
        error => Message::new(
            Exit::Internal,
            format!("{image} cannot be unpacked for all media"),
        )
        .fact("found", why_no_spool(error)),
    }
}

/// A mistake that shows on an image: what, and what would be right.
pub fn fault(image: &str, fault: &Fault) -> Message {
    match fault {
        Fault::Doubt(ImageDoubt::Unknown { .. }) => Message::new(
            Exit::Source,
            format!("{image} is not a known kind of image"),
        )
        .remedy("unpack or convert it first"),
        Fault::Doubt(ImageDoubt::CutOff { size, reach }) => {
            let missing = units::size(reach.saturating_sub(*size));
            Message::new(
                Exit::Source,
                format!("{image} is truncated: {missing} are missing"),
            )
            .remedy("get the image again, and its checksum with it")
        }
        Fault::Doubt(ImageDoubt::OtherSectors { .. }) => Message::new(
            Exit::Source,
            format!("{image} is for media with other sector sizes"),
        ),
        Fault::Plan(error) => super::plan_error(image, error),
        Fault::Source(error) => super::write_error(image, "no medium", error),
        Fault::Settings(unit, error) => {
            let message = super::configure_error(image, error);
            let mut message = message.titled(format!("{}: {}", unit.name, message.what()));
            message.exit = Exit::Settings;
            message
        }
        Fault::NoWayIn(unit) => {
            let what = format!(
                "{}: nobody could log in: no account has a password or a key",
                unit.name
            );
            Message::new(Exit::Settings, what).remedy("[[settings.users]] with a name and ssh-keys")
        }
    }
}
