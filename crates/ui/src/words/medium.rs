//! Media and racks: why one cannot be opened, freed, written or ejected.

use std::io::ErrorKind;
use std::path::Path;

use pinewrit_host::{Doubt, EjectError, Hold, MediumError, RackError, Tag, UnmountError, Verdict};

use super::disk_error;
use crate::Exit;
use crate::Message;
use crate::units;

/// A medium that cannot be opened, under its own name if known.
pub fn named_medium_error(name: &str, error: &MediumError) -> Message {
    match error {
        MediumError::Refused { path, verdict } => {
            let refused = refusal(name, verdict);
            match path.to_string_lossy() {
                path if path == name => refused,
                path => refused.fact("medium", path),
            }
        }
        // Here it may be created.
        MediumError::Missing { path } if !path.starts_with("/dev") => Message::new(
            Exit::Usage,
            format!("there is no medium {}", path.display()),
        )
        .remedy("to create a card file, add its size: --size 8GB"),
        other => medium_error(other),
    }
}

/// A medium that cannot be opened.
pub fn medium_error(error: &MediumError) -> Message {
    match error {
        MediumError::Missing { path } if path.starts_with("/dev") => no_device(path),
        MediumError::NoSuchDevice { path } => no_device(path),
        MediumError::Missing { path } => Message::new(
            Exit::Usage,
            format!("there is no medium {}", path.display()),
        )
        .remedy("`pinewrit media` lists connected media; or the path of a card file"),
        MediumError::Folder { path } => Message::new(
            Exit::Usage,
            format!("{} is a directory, not a medium", path.display()),
        )
        .remedy("name a card file in it, or a block device such as /dev/sdx"),
        MediumError::Special { path } => Message::new(
            Exit::Usage,
            format!(
                "{} is neither a block device nor a card file",
                path.display()
            ),
        )
        .remedy("name a whole block device, such as /dev/sdx"),
        MediumError::Partition { path, whole } => Message::new(
            Exit::Usage,
            format!("{} is a partition, not a whole medium", path.display()),
        )
        .fact("medium", format!("/dev/{whole}"))
        .remedy(format!("--to /dev/{whole}, if that is the card you mean")),
        MediumError::Refused { path, verdict } => refusal(&path.display().to_string(), verdict),
        MediumError::OtherSize { path, found, asked } => Message::new(
            Exit::Usage,
            format!("{} already exists, with another size", path.display()),
        )
        .fact("its size", units::exact(*found))
        .fact("asked for", units::exact(*asked))
        .remedy("omit --size to use it as it is, or name a new file"),
        MediumError::SizeOfDevice { path } => Message::new(
            Exit::Usage,
            format!("{} is a block device and has its own size", path.display()),
        )
        .remedy("omit --size"),
        MediumError::Permission { path, group } => {
            let message = Message::new(
                Exit::Refused,
                format!("no permission for {}", path.display()),
            );
            match group {
                Some(group) => message
                    .fact("group", format!("{group} may use it"))
                    .remedy(format!("sudo usermod -aG {group} $USER, then log in again"))
                    .remedy("or run this once with sudo"),
                None => message.remedy("run it with sudo, or change its permissions"),
            }
        }
        MediumError::Changed { path } => Message::new(
            Exit::Refused,
            format!("another medium answers at {} now", path.display()),
        )
        .remedy("check which one it is, then start again"),
        MediumError::Io { path, source }
            if [
                ErrorKind::PermissionDenied,
                ErrorKind::ReadOnlyFilesystem,
                ErrorKind::StorageFull,
                ErrorKind::QuotaExceeded,
            ]
            .contains(&source.kind()) =>
        {
            let what = format!("{} cannot be opened for writing", path.display());
            Message::new(Exit::Refused, what)
                .fact("system", source.to_string())
                .remedy("another directory, or other permissions; sudo if necessary")
        }
        MediumError::Io { path, source } => {
            Message::new(Exit::Medium, format!("{} cannot be opened", path.display()))
                .fact("system", source.to_string())
                .remedy("unplug it, plug it in again, try another reader")
        }
        other => Message::new(Exit::Medium, other.to_string()),
    }
}

fn no_device(path: &Path) -> Message {
    let what = format!("there is no device {}", path.display());
    Message::new(Exit::Usage, what).remedy("`pinewrit media` lists connected media")
}

fn refusal(name: &str, verdict: &Verdict) -> Message {
    let refused = |what: String| Message::new(Exit::Refused, what);
    match verdict {
        Verdict::System(uses) => {
            refused(format!("{name} runs this computer, and is never written"))
                .fact("in use as", uses.join(", "))
                .remedy("name the card or stick; no option overrides this")
        }
        Verdict::Locked => refused(format!("{name} is write-protected"))
            .remedy("slide the card's lock switch up, or make the card file writable"),
        Verdict::Busy(holds) => {
            let message = refused(format!("{name} is in use"));
            let mounted = holds.iter().all(Hold::is_mount);
            let message = holds.iter().fold(message, |message, hold| match hold {
                Hold::Mounted { device, point, .. } => message.fact(
                    "mounted",
                    format!("{} on {}", device.path().display(), point.display()),
                ),
                Hold::HeldBy { device, holder } => {
                    message.fact("held", format!("/dev/{device} by /dev/{holder}"))
                }
                Hold::MountedElsewhere { point, process, .. } => message.fact(
                    "mounted",
                    format!(
                        "on {}, as only {} (process {}) and others like it see it",
                        point.display(),
                        process.name,
                        process.pid
                    ),
                ),
                Hold::Attached { device } => message.fact("attached", format!("as /dev/{device}")),
                _ => message.fact("open", "another program has exclusive access"),
            });
            message.remedy(match holds.first() {
                Some(_) if mounted => "--unmount, which unmounts it first".to_owned(),
                Some(Hold::Mounted { point, .. }) => format!("umount {}", point.display()),
                Some(Hold::Attached { device }) => format!("losetup -d /dev/{device}"),
                Some(Hold::HeldBy { holder, .. }) => format!("stop what uses /dev/{holder}"),
                _ => "close the program that uses it (`fuser -v` names it)".to_owned(),
            })
        }
        Verdict::Unsure(doubts) => doubt_facts(
            refused(format!("{name} may not be the medium you mean")),
            doubts,
        )
        .remedy("--confirm with its tag, which `pinewrit media` shows"),
        _ => refused(format!("{name} cannot be written")),
    }
}

fn doubt_facts(message: Message, doubts: &[Doubt]) -> Message {
    let facts = doubts.iter().map(doubt);
    facts.fold(message, |message, text| message.fact("found", text))
}

fn doubt(doubt: &Doubt) -> String {
    match doubt {
        Doubt::BuiltIn => "it is built in, not plugged in".to_owned(),
        Doubt::Large(size) => format!("{} is larger than cards and sticks are", units::size(*size)),
        Doubt::Member(of) => format!("it is part of {of}"),
        Doubt::Foreign(what) => format!("it contains {what}, like another computer's disk"),
        _ => "it is unusual".to_owned(),
    }
}

/// The question for the tag of an unsure medium.
pub fn doubts(medium: &str, tag: &Tag, doubts: &[Doubt]) -> String {
    let why: Vec<String> = doubts.iter().map(doubt).collect();
    format!(
        "{medium}: {}.\nType its tag, {tag}, to continue:",
        why.join("; ")
    )
}

/// The tag was not repeated.
pub fn unsure(medium: &str, tag: &Tag, doubts: &[Doubt]) -> Message {
    let message = Message::new(
        Exit::Refused,
        format!("{medium} may not be the medium you mean"),
    );
    doubt_facts(message, doubts).remedy(format!("--confirm {tag}, if it is"))
}

/// Why a medium is not ready, in words.
pub fn reasons(verdict: &Verdict) -> Vec<String> {
    match verdict {
        Verdict::Busy(holds) => holds
            .iter()
            .map(|hold| match hold {
                Hold::Mounted { device, point, .. } => {
                    format!(
                        "{} is mounted on {}",
                        device.path().display(),
                        point.display()
                    )
                }
                Hold::MountedElsewhere {
                    device, process, ..
                } => format!(
                    "{} is mounted where {} (process {}) sees it",
                    device.path().display(),
                    process.name,
                    process.pid
                ),
                Hold::HeldBy { device, holder } => format!("/dev/{holder} uses /dev/{device}"),
                _ => "another program holds it".to_owned(),
            })
            .collect(),
        Verdict::Unsure(doubts) => doubts.iter().map(doubt).collect(),
        Verdict::Locked => vec!["it is write-protected".to_owned()],
        Verdict::System(uses) => vec![format!("runs this computer: {}", uses.join(", "))],
        _ => Vec::new(),
    }
}

/// A rack that cannot be used.
pub fn rack_error(error: &RackError) -> Message {
    let usage = |what: String, known: &[String]| {
        let message = Message::new(Exit::Usage, what);
        message.fact("there are", known.join(", "))
    };
    match error {
        RackError::Io { path, source } => Message::new(
            Exit::Settings,
            format!("the rack file {} cannot be used", path.display()),
        )
        .fact("system", source.to_string())
        .remedy("`pinewrit rack new DIR` creates one"),
        RackError::Mistakes { path, mistakes } => {
            let count = units::counted(mistakes.len() as u64, "mistake");
            let what = format!("the rack file {} has {count}", path.display());
            let message = Message::new(Exit::Settings, what);
            let facts = mistakes.iter();
            facts
                .fold(message, |message, (line, what)| {
                    message.fact(format!("line {line}"), what.trim())
                })
                .remedy("docs/formats.md describes rack files")
        }
        RackError::NoReader { name, known } => {
            usage(format!("the rack has no reader {name}"), known)
        }
        RackError::NoCard { name, known } => usage(format!("the rack has no card {name}"), known),
        RackError::NoBoard { name, known } => usage(format!("the rack has no board {name}"), known),
        RackError::Occupied { reader, card } => Message::new(
            Exit::Usage,
            format!("reader {reader} already holds card {card}"),
        )
        .remedy(format!("pinewrit rack remove {card}")),
        RackError::NotInside { card } => {
            Message::new(Exit::Usage, format!("card {card} is in no reader"))
                .remedy(format!("pinewrit rack insert {card} READER"))
        }
        other => Message::new(Exit::Settings, other.to_string()),
    }
}

/// Something stays mounted.
pub fn unmount_error(error: &UnmountError) -> Message {
    let message = |point: &std::path::Path| {
        Message::new(
            Exit::Refused,
            format!("{} cannot be unmounted", point.display()),
        )
    };
    match error {
        UnmountError::InUse { point, users } => {
            let users = users.iter().take(8);
            let message = users.fold(message(point), |message, user| {
                message.fact("in use by", format!("{} (process {})", user.name, user.pid))
            });
            message.remedy("close the programs that use it, or leave its directory, then try again")
        }
        UnmountError::Permission { point } => {
            message(point).remedy("run as root, or unmount it in your file manager")
        }
        UnmountError::Io { point, source } => message(point).fact("system", source.to_string()),
        other => Message::new(Exit::Refused, other.to_string()),
    }
}

/// A medium that must not be taken out yet.
pub fn eject_error(name: &str, error: &EjectError) -> Message {
    let message = |what: &str| Message::new(Exit::Medium, format!("{name} {what}"));
    match error {
        EjectError::Disk(error) => {
            disk_error(name, error).fact("state", "the last data written may not be on it")
        }
        EjectError::Medium(error) => named_medium_error(name, error),
        EjectError::BuiltIn => Message::new(
            Exit::Refused,
            format!("{name} is built into this computer, and cannot be removed while it runs"),
        )
        .remedy("switch the computer off first"),
        EjectError::Running(source) => message("is flushed and unmounted, but still runs")
            .fact("system", source.to_string())
            .remedy("power it down as root; or wait until its motor has stopped"),
        EjectError::Rack(source) => {
            message("could not be removed from the rack").fact("system", source.to_string())
        }
        other => message("was not ejected").fact("found", other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::system(Verdict::System(vec!["/".into()]), "runs this computer")]
    #[case::locked(Verdict::Locked, "lock switch")]
    #[case::busy(Verdict::Busy(vec![Hold::OpenElsewhere]), "another program")]
    fn refusals_are_for_safety(#[case] verdict: Verdict, #[case] words: &str) {
        let message = refusal("K7F2", &verdict);
        assert_eq!(message.exit, Exit::Refused);
        assert!(message.to_text().contains(words));
    }
}
