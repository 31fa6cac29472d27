//! From errors of lower crates to messages: words, facts, remedies and exit codes.

pub mod boards;
pub mod boot;
pub mod chain;
pub mod commission;
mod copy;
mod fit;
pub mod inspection;
pub mod ledger_table;
mod making;
pub mod measure;
mod medium;
mod relocate;
mod rescue;
pub mod shelf;
mod source;
pub mod trial;
pub mod trust;
mod workshop;

use std::io::ErrorKind;

use pinewrit_core::receipt::ReceiptError;
use pinewrit_core::verify::VerifyError;
use pinewrit_core::write::{Stability, Whereabouts, WriteError};
use pinewrit_disk::{CommitError, DiskError, Operation, UndoError};
use pinewrit_firstboot::configure::ConfigureError;
use pinewrit_firstboot::intake::custom::CustomError;
use pinewrit_firstboot::intake::rootfs::RootError;
use pinewrit_image::{StreamError, Subject};
use pinewrit_settings::Mistakes;

use crate::Exit;
use crate::units;
use crate::{FileMistake, Message};

pub use pinewrit_disk::error_chain;

pub use copy::{
    READ_AROUND, as_new_facts, as_new_list, checked, copied_whole, recovered, renewed,
    resize_error, save_error, shrunk, view_error,
};
pub use fit::{plan_error, too_large};
pub use making::{build_error, cut_filesystem, files_error, fill_error, format_error, table_error};
pub use medium::{
    doubts, eject_error, medium_error, named_medium_error, rack_error, reasons, unmount_error,
    unsure,
};
pub use relocate::{interrupted_move, move_error, move_plan};
pub use rescue::{kept_error, not_whole, rescue_error, rescued};
pub use source::{checksum_error, open_error, stream_error};
pub use workshop::{
    fault, job, ledger_error, no_spool, refusal, roster_error, roster_mistakes, trouble,
    why_no_spool,
};

/// What happened to the medium in a failed write.
const NO_TABLE: &str = "has no partition table: nothing on it looks finished";

/// A medium that failed while it was read or written.
pub fn disk_error(name: &str, error: &DiskError) -> Message {
    let cause = error.io();
    // An image read through its wrapping fails as a source, not as a medium.
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
    let refused = |what: &str| Message::new(Exit::Refused, format!("{name} {what}"));
    let place = format!(
        "{} at {}",
        operation.word(),
        units::exact(*offset).trim_start()
    );
    let is_gone = matches!(cause.raw_os_error(), Some(6 | 19));
    let message = match (cause.kind(), operation) {
        // None of these is the medium's fault.
        (ErrorKind::StorageFull | ErrorKind::QuotaExceeded, _) => {
            refused("cannot grow: the disk that holds it is full")
                .remedy("free space on that disk, or put the card file on another")
        }
        (ErrorKind::ReadOnlyFilesystem, _) => refused("is on a disk that is mounted read-only")
            .remedy("put the card file on another disk, or remount that one read-write"),
        (ErrorKind::PermissionDenied, _) => refused("is not accessible to you")
            .remedy("run it with sudo, or change its permissions"),
        _ if is_gone => message("is gone: it was pulled out, or its reader failed")
            .remedy("plug it in firmly and write it again; try another reader"),
        (_, Operation::Read) => message("has read errors")
            .remedy("try another reader; if it fails at the same place, the medium is bad"),
        _ => message("has write errors")
            .remedy("try another reader; if it fails at the same place, the medium is bad"),
    };
    message
        .fact("place", place)
        .fact("system", cause.to_string())
}

/// A write that failed. `image` and `medium` are their names.
pub fn write_error(image: &str, medium: &str, error: &WriteError) -> Message {
    let left = |message: Message| message.fact(medium, NO_TABLE);
    match error {
        WriteError::TooLarge {
            image: bytes,
            medium: size,
        } => too_large(medium, *bytes, *size),
        WriteError::PastEnd { medium: size } => left(
            Message::new(
                Exit::Refused,
                format!("{image} does not fit on {medium}: it continues past the end"),
            )
            .fact("medium", units::exact(*size))
            .fact(
                "unpacked",
                "more than that; the wrapping does not say how much",
            ),
        )
        .remedy("a larger medium"),
        WriteError::Clear(error) => {
            disk_error(medium, error).fact(medium, "could not be cleared: do not use what is on it")
        }
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
            left(message).remedy(
                "get the image again; if that does not help, the checksum belongs to another one",
            )
        }
        WriteError::Disk(error) => left(disk_error(medium, error)),
        WriteError::Dead(error) => left(disk_error(medium, error))
            .fact("elsewhere", "it does not respond at other offsets either")
            .remedy("reconnect it, or use another reader"),
        WriteError::ReadBack {
            offset,
            chunks,
            bytes,
            stability,
            place,
        } => read_back_error(medium, (*offset, *chunks, *bytes), *stability, place),
        WriteError::Wraps => left(
            Message::new(Exit::Medium, format!("{medium} is smaller than it says"))
                .fact("found", "data written further on appeared at its start"),
        )
        .remedy("use another medium; do not trust this one"),
        WriteError::Configure(error) => {
            let message = configure_error(medium, error).without("state");
            left(message)
        }
        WriteError::AsNew(error) => {
            let message = configure_error(medium, error).without("state");
            left(message)
        }
        WriteError::Renew(error) => left(
            Message::new(
                Exit::Medium,
                format!("{medium} did not get identifiers of its own"),
            )
            .fact("because", error.to_string()),
        ),
        WriteError::NoWayIn => left(Message::new(Exit::Settings, error.to_string()))
            .remedy("[[users]] with a name and ssh-keys, or a password and password-login = true"),
        WriteError::Cancelled => left(interrupted()).remedy("write it again"),
        other => left(Message::new(Exit::Internal, other.to_string())),
    }
}

/// What was read back is not what was written.
fn read_back_error(
    medium: &str,
    (offset, chunks, bytes): (u64, u64, Option<u64>),
    stability: Stability,
    place: &Whereabouts,
) -> Message {
    let message = Message::new(
        Exit::Medium,
        format!("{medium} does not hold what was written to it"),
    );
    let first = units::exact(offset);
    let message = match bytes {
        Some(_) => message.fact("first", format!("at {}", first.trim_start())),
        None => message.fact("first", format!("in the chunk at {}", first.trim_start())),
    };
    let message = match whereabouts(place) {
        Some(text) => message.fact("in", text),
        None => message,
    };
    let all = format!("{} of 4 MiB in all", units::counted(chunks, "chunk"));
    let message = message.fact(
        "differing",
        match bytes {
            Some(bytes) => format!("{} there; {all}", units::counted(bytes, "byte")),
            None => all,
        },
    );
    let (how, remedy) = match stability {
        Stability::Wrong => (
            "wrong on the medium: a second read gives the same",
            "the medium is bad or smaller than it says; use another",
        ),
        Stability::Unstable => (
            "unstable: each read differs",
            "another reader or cable first; if that does not help, another medium",
        ),
    };
    message
        .fact("how", how)
        .fact(medium, NO_TABLE)
        .remedy(remedy)
}

/// A place on a medium in words: `partition 2, /etc/hosts`.
pub fn whereabouts(place: &Whereabouts) -> Option<String> {
    let partition = place.partition.map(|number| format!("partition {number}"));
    let parts: Vec<String> = partition.into_iter().chain(place.owner.clone()).collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// A receipt that cannot be used.
pub fn receipt_error(path: &std::path::Path, error: &ReceiptError) -> Message {
    let message = Message::new(
        Exit::Source,
        format!("the receipt {} cannot be used", path.display()),
    );
    match error {
        ReceiptError::Changed => message
            .fact("found", "it was changed since it was written")
            .remedy("omit --receipt to use the one in the state directory"),
        other => message.fact("found", error_chain(other)),
    }
}

/// The answer to ^C.
pub fn interrupted() -> Message {
    Message::new(Exit::Interrupted, "stopped as requested")
}

/// A comparison that could not be made.
pub fn verify_error(image: &str, medium: &str, error: &VerifyError) -> Message {
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

/// A comparison with a receipt that could not be made.
pub fn comparison_error(medium: &str, error: &VerifyError) -> Message {
    match error {
        VerifyError::TooLarge { medium: size } => Message::new(
            Exit::Differences,
            format!("{medium} is smaller than the receipt says"),
        )
        .fact("medium", units::exact(*size)),
        other => verify_error("the receipt", medium, other),
    }
}

/// Settings that could not be put on a medium.
pub fn configure_error(medium: &str, error: &ConfigureError) -> Message {
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
        ConfigureError::Seed(error) => Message::new(Exit::Internal, error_chain(error)),
        ConfigureError::Files(error) | ConfigureError::Root(RootError::Files(error)) => {
            files_error(medium, error)
        }
        ConfigureError::Root(RootError::NoRoomForSwap { size, room }) => {
            let what = format!("the swap file of the settings does not fit on {medium}");
            Message::new(Exit::Settings, what)
                .fact("swap", units::exact(*size))
                .fact("room", units::exact(*room))
                .fact("state", "nothing was changed")
                .remedy("a smaller swap, or a root that has more room: grow-root = true, on a larger medium")
        }
        ConfigureError::Root(error) => {
            let what = format!("the settings could not be put on {medium}");
            Message::new(Exit::Settings, what)
                .fact("found", error.to_string())
                .fact("state", "nothing was changed")
        }
        ConfigureError::NoRoot { because } => {
            let what = format!("the root file system of {medium} cannot take the settings");
            let message = Message::new(Exit::Settings, what);
            let message = match because {
                Some(because) => message
                    .fact("found", because.as_str())
                    .remedy("run the image's own file system checker, or write the image again"),
                None => message.fact("found", "no ext2, ext3 or ext4 with an /etc"),
            };
            message.fact("state", "nothing was changed")
        }
        ConfigureError::Extra { line, what } => {
            let message = format!("the settings ask for something that {medium} does not have");
            Message::new(Exit::Settings, message)
                .fact(format!("line {line}"), what.as_str())
                .fact("state", "nothing was changed")
                .remedy("pinewrit files list or read shows what exists")
        }
        ConfigureError::Custom(CustomError::Files(error)) => files_error(medium, error),
        ConfigureError::Custom(error) => {
            let what = format!("the intake does not work on {medium}");
            Message::new(Exit::Settings, what)
                .fact("found", error.to_string())
                .fact("state", "nothing was changed")
        }
        other => {
            Message::new(Exit::Settings, other.to_string()).fact("state", "nothing was changed")
        }
    }
}

/// Changes that could not be committed.
pub fn commit_error(medium: &str, error: &CommitError) -> Message {
    let state = |rolled_back: bool| {
        if rolled_back {
            "is back to its previous content"
        } else {
            "is half changed; the next command that changes it finishes it or rolls it back"
        }
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
pub fn undo_error(error: &UndoError) -> Message {
    match error {
        UndoError::File { path, source } => Message::new(
            Exit::Internal,
            format!("the undo file {} cannot be used", path.display()),
        )
        .fact("system", source.to_string())
        .remedy("check that its directory is writable and not full, or set XDG_STATE_HOME"),
        other => Message::new(Exit::Medium, error_chain(other)),
    }
}

/// All mistakes of a settings file.
pub fn mistakes(name: &str, mistakes: &Mistakes) -> Message {
    let count = mistakes.0.len();
    let noun = if count == 1 { "mistake" } else { "mistakes" };
    let what = format!("{name} has {count} {noun}; nothing was changed");
    let message = Message::new(Exit::Settings, what);
    mistakes.0.iter().fold(message, |message, remark| {
        message.mistake(FileMistake {
            file: name.to_owned(),
            line: remark.line,
            what: remark.what.clone(),
            remedy: remark.remedy.clone(),
        })
    })
}

#[cfg(test)]
mod tests {
    use std::io;

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
    #[case::bad_sector(5, Operation::Write, "has write errors", "another reader")]
    #[case::unreadable(5, Operation::Read, "has read errors", "the medium is bad")]
    #[case::pulled(
        19,
        Operation::Write,
        "is gone: it was pulled out",
        "plug it in firmly"
    )]
    #[case::reader_gone(6, Operation::Flush, "is gone", "another reader")]
    #[case::disk_full(28, Operation::Write, "the disk that holds it is full", "free space")]
    fn a_failed_medium_is_told_apart(
        #[case] code: i32,
        #[case] operation: Operation,
        #[case] what: &str,
        #[case] remedy: &str,
    ) {
        let message = failed(code, operation);
        let text = message.to_text();
        let exit = match code {
            28 => Exit::Refused,
            _ => Exit::Medium,
        };
        assert_eq!(message.exit, exit);
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
}
