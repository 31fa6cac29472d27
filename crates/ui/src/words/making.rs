//! Tables, file systems and media that were not created.

use pinewrit_build::BuildError;
use pinewrit_core::table::CutFilesystem;
use pinewrit_ext4::EditError;
use pinewrit_fat as fat;
use pinewrit_table::TableError;
use pinewrit_volume::files::FilesError;
use pinewrit_volume::files::fill::FillError;
use pinewrit_volume::format::FormatError;

use super::{disk_error, interrupted, mistakes};
use crate::Exit;
use crate::Message;
use crate::units;

/// A table that was not changed.
pub fn table_error(name: &str, error: &TableError) -> Message {
    let usage = |what: String| Message::new(Exit::Usage, what);
    match error {
        TableError::Disk(error) => disk_error(name, error),
        TableError::NoTable => usage(format!("{name} has no partition table"))
            .remedy("pinewrit table create writes one"),
        TableError::Problems(problems) => {
            let message = Message::new(
                Exit::Medium,
                format!("the table of {name} has errors that a change would make worse"),
            );
            let message = problems.iter().fold(message, |message, problem| {
                message.fact("mistake", problem.to_string())
            });
            message.remedy("pinewrit table create, or wipe, starts over")
        }
        TableError::NoRoom { needed, largest } => {
            let message = usage(format!("there is no room for that on {name}"));
            let message = match needed {
                0 => message,
                needed => message.fact("needed", units::exact(*needed)),
            };
            message
                .fact("largest", units::exact(*largest))
                .remedy("--size rest takes what is left; pinewrit table show lists the gaps")
        }
        TableError::Full { scheme, entries } => {
            let message = usage(format!("all {entries} entries of the {scheme} are used"));
            match *entries {
                4 => message
                    .remedy("--logical, in an extended partition instead of one of the four")
                    .remedy("pinewrit table convert --scheme gpt for up to 128"),
                _ => message,
            }
        }
        TableError::InTheWay(obstacles) => {
            let message = usage(format!("the table of {name} cannot be converted"));
            obstacles
                .iter()
                .fold(message, |message, what| {
                    message.fact("because", what.as_str())
                })
                .fact("state", "nothing was changed")
        }
        other => {
            let message = usage(format!("the table of {name} was not changed"));
            message.fact("because", other.to_string())
        }
    }
}

/// A file system that would be cut off.
pub fn cut_filesystem(name: &str, cut: &CutFilesystem) -> Message {
    Message::new(
        Exit::Refused,
        format!(
            "the {} file system in partition {} of {name} would lose its end",
            cut.kind, cut.partition
        ),
    )
    .fact("it has", units::exact(cut.needed))
    .fact("partition", units::exact(cut.size))
    .remedy("a larger size, or remove the partition and add a new one")
}

/// A file system that was not created.
pub fn format_error(name: &str, error: &FormatError) -> Message {
    match error {
        FormatError::Disk(error) => disk_error(name, error),
        FormatError::ReadBack { .. } | FormatError::Unrecognised => Message::new(
            Exit::Medium,
            format!("{name} does not hold what was written to it"),
        )
        .fact("because", error.to_string())
        .fact("state", "the partition has no file system that can be used")
        .remedy("another medium: this one loses data"),
        other => Message::new(Exit::Usage, other.to_string()).fact("state", "nothing was changed"),
    }
}

/// A medium that was not built.
pub fn build_error(name: &str, error: &BuildError) -> Message {
    match error {
        BuildError::Mistakes(found) => mistakes(name, found),
        BuildError::Disk(error) => Message::new(
            Exit::Internal,
            format!("{name} could not be assembled in the scratch file"),
        )
        .fact(
            "system",
            error.io().map_or(error.to_string(), ToString::to_string),
        )
        .remedy("--scratch DIR, a directory with more space"),
        _ => interrupted(),
    }
}

/// Files of a medium that were not read or changed.
pub fn files_error(name: &str, error: &FilesError) -> Message {
    if let Some(error) = error.disk() {
        return disk_error(name, error);
    }
    let message = |exit, what: String| Message::new(exit, what);
    match error {
        FilesError::NotFound(path) => {
            message(Exit::Usage, format!("{path} does not exist on {name}"))
                .remedy("pinewrit files list shows what exists")
        }
        FilesError::Edit(EditError::NotEmpty(path))
        | FilesError::FatEdit(fat::EditError::NotEmpty(path)) => message(
            Exit::Usage,
            format!("the directory {path} on {name} is not empty"),
        )
        .remedy("--all removes it with everything in it"),
        FilesError::Edit(error @ EditError::NoSpace { .. }) => {
            message(Exit::Usage, format!("{name}: {error}"))
                .fact("state", "nothing was changed")
                .remedy("grow it first, or remove something")
        }
        FilesError::FatEdit(error) => fat_error(name, error),
        FilesError::Edit(error @ EditError::Unclean) => {
            message(Exit::Medium, format!("{name}: {error}"))
                .fact("state", "nothing was changed")
                .remedy(format!("pinewrit check {name} shows how it is"))
                .remedy("--despite-flag, if it only says that it has errors")
        }
        FilesError::Edit(error @ (EditError::Journal(_) | EditError::ExternalJournal)) => {
            message(Exit::Medium, format!("{name}: {error}"))
                .fact("state", "nothing was changed")
                .remedy(format!("pinewrit check {name} shows how it is"))
                .remedy(
                    "or run the system's own file system checker, or boot the board that used it",
                )
        }
        FilesError::NotOnFat { .. }
        | FilesError::IsFolder(_)
        | FilesError::NotText(_)
        | FilesError::TooLarge { .. } => {
            message(Exit::Usage, format!("{name}: {error}")).fact("state", "nothing was changed")
        }
        FilesError::Unusable { path, .. } => message(Exit::Medium, format!("{name}: {error}"))
            .fact("state", "nothing was changed")
            .remedy(format!(
                "pinewrit files remove {name} root:{path}, then try again"
            )),
        FilesError::Unsound(_) | FilesError::Damaged(_) => {
            message(Exit::Medium, format!("{name}: {error}"))
                .fact("state", "nothing was changed")
                .remedy("run the image's own file system checker, or write the image again")
        }
        other => {
            message(Exit::Medium, format!("{name}: {other}")).fact("state", "nothing was changed")
        }
    }
}

/// A change that a FAT file system does not allow.
fn fat_error(name: &str, error: &fat::EditError) -> Message {
    use fat::EditError::{FolderFull, Name, NoSpace, Scattered, TooLarge, Unclean, Volume};
    let (exit, remedy) = match error {
        NoSpace { .. } | Scattered { .. } => {
            (Exit::Usage, "a larger partition, or remove something")
        }
        FolderFull { .. } => (
            Exit::Medium,
            "another directory, or remove something in this one",
        ),
        Name { .. } => (Exit::Usage, "another name"),
        TooLarge { .. } => (Exit::Usage, "an ext4 partition, or a smaller file"),
        Unclean => (
            Exit::Medium,
            "or boot the board or computer that used it and shut it down",
        ),
        Volume(fat::FatError::IsFolder(_) | fat::FatError::NotFolder(_)) => {
            (Exit::Usage, "pinewrit files list shows what exists")
        }
        Volume(fat::FatError::NotFound(_)) => {
            (Exit::Usage, "pinewrit files list shows what exists")
        }
        _ => (Exit::Medium, ""),
    };
    let message = Message::new(exit, format!("{name}: {error}"));
    let message = message.fact("state", "nothing was changed");
    let message = match error {
        Unclean => message.remedy(format!("pinewrit check {name} --settle")),
        _ => message,
    };
    match remedy {
        "" => message,
        remedy => message.remedy(remedy),
    }
}

/// An archive that was not unpacked.
pub fn fill_error(archive: &str, medium: &str, error: &FillError) -> Message {
    let refusals = match error {
        FillError::Refused(refusals) => refusals,
        FillError::Files(error) => return files_error(medium, error),
        _ => return interrupted().fact("state", "nothing was changed"),
    };
    let message = Message::new(Exit::Source, format!("{archive} was not unpacked"));
    let message = refusals.iter().fold(message, |message, refusal| {
        message.fact("found", refusal.what.as_str())
    });
    let mut remedies: Vec<&str> = Vec::new();
    for refusal in refusals {
        let remedy = refusal.remedy.as_str();
        if !remedy.is_empty() && !remedies.contains(&remedy) {
            remedies.push(remedy);
        }
    }
    let message = remedies
        .into_iter()
        .fold(message, |message, remedy| message.remedy(remedy));
    message.fact("state", "nothing was changed")
}
