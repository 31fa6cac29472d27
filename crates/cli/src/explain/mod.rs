//! From errors of the lower floors to messages: words, facts, remedies and exit codes.

mod source;

use std::io::{self, ErrorKind};

use pinewrit_core::configure::ConfigureError;
use pinewrit_core::settings::Mistakes;
use pinewrit_core::verify::VerifyError;
use pinewrit_core::write::WriteError;
use pinewrit_disk::{CommitError, DiskError, Operation, UndoError};
use pinewrit_host::{Doubt, Hold, MediumError, RackError, Tag, UnmountError, Verdict};
use pinewrit_image::{StreamError, Subject};

use crate::exit::Exit;
use crate::message::Message;
use crate::ui::units;

pub(crate) use source::{checksum_error, open_error, stream_error};

/// What has happened to the medium when a write fails.
const NO_TABLE: &str = "has no partition table: nothing on it looks finished";

/// A medium that cannot be opened.
pub(crate) fn medium_error(error: &MediumError) -> Message {
    match error {
        MediumError::Missing { path } => Message::new(
            Exit::Usage,
            format!("there is no medium {}", path.display()),
        )
        .remedy("to make a card file, add its size: --size 8GB"),
        MediumError::Folder { path } => Message::new(
            Exit::Usage,
            format!("{} is a folder, not a medium", path.display()),
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
            format!("{} is there already, with another size", path.display()),
        )
        .fact("its size", units::exact(*found))
        .fact("asked for", units::exact(*asked))
        .remedy("leave --size out to use it as it is, or name a new file"),
        MediumError::SizeOfDevice { path } => Message::new(
            Exit::Usage,
            format!("{} is a block device and has its own size", path.display()),
        )
        .remedy("leave --size out"),
        MediumError::Permission { path } => Message::new(
            Exit::Medium,
            format!("no permission for {}", path.display()),
        )
        .remedy("run as root, or join the group that owns it (`ls -l` shows which)"),
        MediumError::Changed { path } => Message::new(
            Exit::Refused,
            format!("another medium answers at {} now", path.display()),
        )
        .remedy("look which one it is, then start again"),
        MediumError::Io { path, source } => {
            Message::new(Exit::Medium, format!("{} cannot be opened", path.display()))
                .fact("system", source.to_string())
                .remedy("unplug it, plug it in again, try another reader")
        }
        other => Message::new(Exit::Medium, other.to_string()),
    }
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
            let mounted = holds
                .iter()
                .all(|hold| matches!(hold, Hold::Mounted { .. }));
            let message = holds.iter().fold(message, |message, hold| match hold {
                Hold::Mounted { device, point } => message.fact(
                    "mounted",
                    format!("{} on {}", device.path().display(), point.display()),
                ),
                Hold::HeldBy { device, holder } => {
                    message.fact("held", format!("/dev/{device} by /dev/{holder}"))
                }
                Hold::Attached { device } => message.fact("attached", format!("as /dev/{device}")),
                _ => message.fact("open", "another program has it for itself"),
            });
            message.remedy(match holds.first() {
                Some(Hold::Mounted { .. }) if mounted => {
                    "--unmount, which unmounts all of it first".to_owned()
                }
                Some(Hold::Mounted { point, .. }) => format!("umount {}", point.display()),
                Some(Hold::Attached { device }) => format!("losetup -d /dev/{device}"),
                Some(Hold::HeldBy { holder, .. }) => format!("stop what uses /dev/{holder}"),
                _ => "close the program that uses it (`fuser -v` names it)".to_owned(),
            })
        }
        Verdict::Unsure(doubts) => doubt_facts(
            refused(format!("{name} may not be the medium that you mean")),
            doubts,
        )
        .remedy("--confirm and its tag, which `pinewrit media` shows"),
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
        Doubt::Large(size) => format!("{} is more than cards and sticks have", units::size(*size)),
        Doubt::Member(of) => format!("it belongs to {of}"),
        _ => "it is unusual".to_owned(),
    }
}

/// The question for the tag of a medium of which Pinewrit is unsure.
pub(crate) fn doubts(medium: &str, tag: &Tag, doubts: &[Doubt]) -> String {
    let why: Vec<String> = doubts.iter().map(doubt).collect();
    format!(
        "{medium}: {}.\nType its tag, {tag}, to go on:",
        why.join("; ")
    )
}

/// The tag was not given once more.
pub(crate) fn unsure(medium: &str, tag: &Tag, doubts: &[Doubt]) -> Message {
    let message = Message::new(
        Exit::Refused,
        format!("{medium} may not be the medium that you mean"),
    );
    doubt_facts(message, doubts).remedy(format!("--confirm {tag}, if it is"))
}

/// Why a medium is not ready, in words.
pub(crate) fn reasons(verdict: &Verdict) -> Vec<String> {
    match verdict {
        Verdict::Busy(holds) => holds
            .iter()
            .map(|hold| match hold {
                Hold::Mounted { device, point } => {
                    format!(
                        "{} is mounted on {}",
                        device.path().display(),
                        point.display()
                    )
                }
                Hold::HeldBy { device, holder } => format!("/dev/{holder} uses /dev/{device}"),
                _ => "another program has it".to_owned(),
            })
            .collect(),
        Verdict::Unsure(doubts) => doubts.iter().map(doubt).collect(),
        Verdict::Locked => vec!["it is write-protected".to_owned()],
        Verdict::System(uses) => vec![format!("runs this computer: {}", uses.join(", "))],
        _ => Vec::new(),
    }
}

/// A rack that cannot be used.
pub(crate) fn rack_error(error: &RackError) -> Message {
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
        .remedy("`pinewrit rack new DIR` makes one"),
        RackError::Mistake { path, line, what } => Message::new(
            Exit::Settings,
            format!("the rack file {} has a mistake", path.display()),
        )
        .fact(format!("line {line}"), what.trim())
        .remedy("docs/formats.md describes rack files"),
        RackError::NoReader { name, known } => {
            usage(format!("the rack has no reader {name}"), known)
        }
        RackError::NoCard { name, known } => usage(format!("the rack has no card {name}"), known),
        RackError::Occupied { reader, card } => Message::new(
            Exit::Usage,
            format!("reader {reader} holds card {card} already"),
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
pub(crate) fn unmount_error(error: &UnmountError) -> Message {
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
            message.remedy("close what uses it, or leave its folder, then try again")
        }
        UnmountError::Permission { point } => {
            message(point).remedy("run as root, or unmount it in your file manager")
        }
        UnmountError::Io { point, source } => message(point).fact("system", source.to_string()),
        other => Message::new(Exit::Refused, other.to_string()),
    }
}

/// A medium that failed while it was read or written.
pub(crate) fn disk_error(name: &str, error: &DiskError) -> Message {
    let cause = error.io();
    // An image that is looked into through its wrapping fails as a source, not as a medium.
    if let Some(stream) = cause.and_then(StreamError::in_io) {
        return stream_error(name, stream);
    }
    let message = |what: &str| Message::new(Exit::Medium, format!("{name} {what}"));
    let (
        Some(cause),
        DiskError::Io {
            operation, offset, ..
        },
    ) = (cause, error)
    else {
        return message("failed").fact("found", error.to_string());
    };
    let place = format!(
        "{} at {}",
        operation.word(),
        units::exact(*offset).trim_start()
    );
    let is_gone = matches!(cause.raw_os_error(), Some(6 | 19));
    let message = match (cause.kind(), operation) {
        (ErrorKind::StorageFull, _) => message("cannot grow: the disk that holds it is full")
            .remedy("make room on that disk, or put the card file on another"),
        _ if is_gone => message("is gone: it was pulled out, or its reader failed")
            .remedy("plug it in firmly and write it again; try another reader"),
        (_, Operation::Read) => message("cannot be read everywhere")
            .remedy("try another reader; if it fails at the same place, the medium is bad"),
        _ => message("cannot be written everywhere")
            .remedy("try another reader; if it fails at the same place, the medium is bad"),
    };
    message
        .fact("place", place)
        .fact("system", cause.to_string())
}

/// A write that failed. `image` and `medium` are their names.
pub(crate) fn write_error(image: &str, medium: &str, error: &WriteError) -> Message {
    let left = |message: Message| message.fact(medium, NO_TABLE);
    match error {
        WriteError::TooLarge {
            image: bytes,
            medium: size,
        } => too_large(medium, *bytes, *size),
        WriteError::PastEnd { medium: size } => left(
            Message::new(
                Exit::Refused,
                format!("{image} does not fit on {medium}: it goes on past the end"),
            )
            .fact("medium", units::exact(*size))
            .fact(
                "unpacked",
                "more than that; the wrapping does not say how much",
            ),
        )
        .remedy("a larger medium"),
        WriteError::Clear(error) => disk_error(medium, error).fact(
            medium,
            "could not be cleared: whatever is on it must not be used",
        ),
        WriteError::Source(error) => left(stream_error(image, error)),
        WriteError::Checksum { expected, found } => {
            let message = Message::new(
                Exit::Source,
                format!("the checksum of {image} does not match"),
            )
            .fact("expected", expected.to_string());
            let message = found.iter().fold(message, |message, (subject, sum)| {
                let name = match subject {
                    Subject::Packed => "packed",
                    Subject::Member => "member",
                    Subject::Unpacked => "unpacked",
                };
                message.fact(name, sum.to_string())
            });
            left(message)
                .remedy("get the image again; if it stays so, the checksum belongs to another one")
        }
        WriteError::Disk(error) => left(disk_error(medium, error)),
        WriteError::ReadBack { offset, chunks } => left(
            Message::new(
                Exit::Medium,
                format!("{medium} does not hold what was written to it"),
            )
            .fact(
                "first",
                format!("in the chunk at {}", units::exact(*offset).trim_start()),
            )
            .fact(
                "chunks",
                format!("{} of 4 MiB differ", units::counted(*chunks, "chunk")),
            ),
        )
        .remedy("the medium is bad or smaller than it says; take another"),
        WriteError::Configure(error) => left(configure_error(medium, error)),
        WriteError::Cancelled => left(interrupted()).remedy("write it again"),
        other => left(Message::new(Exit::Internal, other.to_string())),
    }
}

/// An image that is known not to fit.
pub(crate) fn too_large(medium: &str, image_bytes: u64, size: u64) -> Message {
    let short = units::size(image_bytes.saturating_sub(size));
    Message::new(
        Exit::Refused,
        format!("this image does not fit on {medium}"),
    )
    .fact("unpacked", units::exact(image_bytes))
    .fact("medium", format!("{}, {short} short", units::exact(size)))
    .remedy("a larger medium; `pinewrit inspect` shows what fills the image")
}

/// The answer to ^C.
pub(crate) fn interrupted() -> Message {
    Message::new(Exit::Interrupted, "stopped as asked")
}

/// A comparison that could not be made.
pub(crate) fn verify_error(image: &str, medium: &str, error: &VerifyError) -> Message {
    match error {
        VerifyError::TooLarge { medium: size } => Message::new(
            Exit::Differences,
            format!("{image} is larger than {medium}, so it cannot be on it"),
        )
        .fact("medium", units::exact(*size)),
        VerifyError::Source(error) => stream_error(image, error),
        VerifyError::Disk(error) => disk_error(medium, error),
        VerifyError::Cancelled => interrupted(),
        other => Message::new(Exit::Internal, other.to_string()),
    }
}

/// Settings that could not be put on a medium.
pub(crate) fn configure_error(medium: &str, error: &ConfigureError) -> Message {
    match error {
        ConfigureError::NoPlace { found } => {
            let found = match found[..] {
                [] => "no partition table and no FAT file system".to_owned(),
                _ => format!("partitions {}", found.join(", ")),
            };
            Message::new(
                Exit::Settings,
                format!("{medium} has no FAT partition to take the settings"),
            )
            .fact("found", found)
            .fact(
                "needed",
                "a FAT boot partition, where cloud-init looks for its seed",
            )
            .remedy("an image made for cloud-init (NoCloud)")
        }
        ConfigureError::Disk(error) => disk_error(medium, error),
        ConfigureError::Commit(error) => commit_error(medium, error),
        ConfigureError::Volume(error) => Message::new(
            Exit::Medium,
            format!("the boot partition of {medium} cannot be changed"),
        )
        .fact("found", error_chain(error))
        .remedy("write the image again; `fsck.fat -n` tells more about the partition"),
        ConfigureError::Seed(error) => Message::new(Exit::Internal, error_chain(error)),
        other => Message::new(Exit::Internal, other.to_string()),
    }
}

/// Changes that could not be committed.
pub(crate) fn commit_error(medium: &str, error: &CommitError) -> Message {
    let state = |rolled_back: bool| match rolled_back {
        true => "holds again what it held before",
        false => "is half changed: write the image again",
    };
    match error {
        CommitError::Disk {
            source,
            rolled_back,
        } => disk_error(medium, source).fact(medium, state(*rolled_back)),
        CommitError::ReadBack {
            offset,
            rolled_back,
        } => Message::new(
            Exit::Medium,
            format!("{medium} does not hold what was written to it"),
        )
        .fact("place", units::exact(*offset))
        .fact(medium, state(*rolled_back)),
        CommitError::Undo(error) => undo_error(error),
        other => Message::new(Exit::Internal, other.to_string()),
    }
}

/// An undo file that could not be used.
pub(crate) fn undo_error(error: &UndoError) -> Message {
    match error {
        UndoError::File { path, source } => Message::new(
            Exit::Internal,
            format!("the undo file {} cannot be used", path.display()),
        )
        .fact("system", source.to_string())
        .remedy("check that its folder is writable and not full, or set XDG_STATE_HOME"),
        other => Message::new(Exit::Medium, error_chain(other)),
    }
}

/// All mistakes of a settings file.
pub(crate) fn mistakes(name: &str, mistakes: &Mistakes) -> Message {
    let count = mistakes.0.len();
    let noun = if count == 1 { "mistake" } else { "mistakes" };
    let what = format!("{name} has {count} {noun}; nothing was changed");
    let message = Message::new(Exit::Settings, what);
    mistakes.0.iter().fold(message, |message, remark| {
        message
            .fact(format!("line {}", remark.line), remark.what.clone())
            .fact("", format!("→ {}", remark.remedy))
    })
}

fn permission_hint(error: &io::Error, otherwise: &str) -> String {
    match error.kind() {
        ErrorKind::PermissionDenied => "run as root, or change its permissions".to_owned(),
        _ => otherwise.to_owned(),
    }
}

/// An error and its causes in one line.
fn error_chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text += &format!(": {error}");
        cause = error.source();
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use pinewrit_image::StreamFault;
    use rstest::rstest;

    fn failed(code: i32, operation: Operation) -> Message {
        let error = DiskError::Io {
            operation,
            offset: 8_388_608,
            source: io::Error::from_raw_os_error(code),
        };
        disk_error("card.img", &error)
    }

    #[rstest]
    #[case::bad_sector(5, Operation::Write, "cannot be written everywhere", "another reader")]
    #[case::unreadable(5, Operation::Read, "cannot be read everywhere", "the medium is bad")]
    #[case::pulled(
        19,
        Operation::Write,
        "is gone: it was pulled out",
        "plug it in firmly"
    )]
    #[case::reader_gone(6, Operation::Flush, "is gone", "another reader")]
    #[case::disk_full(28, Operation::Write, "the disk that holds it is full", "make room")]
    fn a_failed_medium_is_told_apart(
        #[case] code: i32,
        #[case] operation: Operation,
        #[case] what: &str,
        #[case] remedy: &str,
    ) {
        let message = failed(code, operation);
        let text = message.to_text();
        assert_eq!(message.exit, Exit::Medium);
        assert!(text.contains(what), "{text}");
        assert!(text.contains(remedy), "{text}");
        assert!(text.contains("8.39 MB  (8 388 608 bytes)"), "{text}");
    }

    #[test]
    fn a_message_has_its_form() {
        let text = too_large("K7F2", 15_931_539_456, 7_818_182_656).to_text();
        let plain = anstream::adapter::strip_str(&text).to_string();
        assert_eq!(
            plain,
            "pinewrit: this image does not fit on K7F2\n  \
             unpacked   15.93 GB  (15 931 539 456 bytes)\n  \
             medium      7.82 GB  (7 818 182 656 bytes), 8.11 GB short\n  \
             try       a larger medium; `pinewrit inspect` shows what fills the image\n"
        );
    }

    #[test]
    fn a_medium_that_was_not_cleared_is_not_called_cleared() {
        let error = DiskError::Io {
            operation: Operation::Write,
            offset: 0,
            source: io::Error::from_raw_os_error(5),
        };
        let text = write_error("hut.img", "card.img", &WriteError::Clear(error)).to_text();
        assert!(text.contains("could not be cleared"), "{text}");
        assert!(!text.contains(NO_TABLE), "{text}");
    }

    #[test]
    fn a_source_fails_as_a_source_wherever_it_is_noticed() {
        let stream = StreamError {
            layer: None,
            fault: StreamFault::Truncated,
            packed: 10,
            unpacked: 20,
        };
        let error = DiskError::Io {
            operation: Operation::Read,
            offset: 0,
            source: io::Error::other(stream),
        };
        assert_eq!(disk_error("hut.img.xz", &error).exit, Exit::Source);
    }

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
