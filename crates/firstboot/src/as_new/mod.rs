//! As new: takes away what makes a system one particular unit, so that a copy becomes one of its
//! own.
//!
//! Only what is known is taken away. What looks like a secret and is not understood is listed, and
//! stays.

mod rules;
mod secrets;
mod unit;

use pinewrit_disk::{BlockDevice, FreeWrites};
use pinewrit_volume::files::{
    Files, FilesError, FilesystemOf, Kind, filesystems, first_unseen, join, walk,
};
use pinewrit_volume::{Gathered, Site, Timestamp};
use schemars::JsonSchema;
use serde::Serialize;

use crate::configure::ConfigureError;

/// How a system becomes as new.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AsNew {
    /// Paths that stay, with everything below them.
    pub keep: Vec<String>,
}

/// What was, or would be, taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct AsNewReport {
    /// What was taken away, in the order of the paths.
    pub taken: Vec<Taken>,
    /// Paths that were asked to be kept, and would have been taken away.
    pub kept: Vec<String>,
    /// What looks like a secret of one unit, is not understood, and stays.
    pub suspects: Vec<Suspect>,
    /// Remarks.
    pub notes: Vec<String>,
}

impl AsNewReport {
    /// Bytes that were taken away.
    pub fn bytes(&self) -> u64 {
        self.taken.iter().map(|one| one.bytes).sum()
    }
}

/// One file that was taken away, emptied or edited.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Taken {
    /// Number of the partition; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Its path.
    pub path: String,
    /// Its size before, in bytes.
    pub bytes: u64,
    /// What it is: `log`, `host key`, `machine id` …
    pub what: &'static str,
    /// What happened to it.
    pub how: How,
}

/// What happened to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It is gone.
    Removed,
    /// It is empty: programs expect it to exist.
    Emptied,
    /// Values of the unit are gone from it.
    Edited,
    /// It is new: it makes what was taken away.
    Added,
}

impl How {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Removed => "removed",
            Self::Emptied => "emptied",
            Self::Edited => "edited",
            Self::Added => "added",
        }
    }
}

/// A file that may hold a secret of one unit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Suspect {
    /// Number of the partition; `None` if the medium has no table.
    pub partition: Option<u32>,
    /// Its path.
    pub path: String,
    /// Why it is suspected.
    pub why: &'static str,
}

/// Works out what would be taken away from the systems on a medium.
///
/// # Errors
/// As [`apply`].
pub fn prepare<'m>(
    medium: &'m dyn BlockDevice,
    request: &AsNew,
    now: Timestamp,
) -> Result<Gathered<'m, AsNewReport>, ConfigureError> {
    Gathered::files(medium, FreeWrites::default(), now, |site| {
        apply(site, request)
    })
}

/// Makes the systems on a site as new, as a part of a larger change.
///
/// # Errors
/// [`ConfigureError::NoRoot`]: no root file system was found; and others.
pub fn apply(site: &mut Site<'_>, request: &AsNew) -> Result<AsNewReport, ConfigureError> {
    let all = filesystems(site.device)?;
    if !all.iter().any(FilesystemOf::is_root) {
        return Err(match first_unseen(site.device)? {
            Some(partition) => ConfigureError::Unseen { partition },
            None => ConfigureError::NoRoot { because: None },
        });
    }
    let mut report = AsNewReport::default();
    for filesystem in all.iter().filter(|one| one.facts.kind.has_files()) {
        let is_root = filesystem.is_root();
        let (found, is_changed) = {
            let window = pinewrit_disk::Window::new(site.device, filesystem.range);
            let files = pinewrit_volume::files::open_to_read(&window)?;
            let has_work = is_root || unit::has_seed(&files)? || rules::has_boot_seed(&files)?;
            let mut suspects = Vec::new();
            if is_root {
                suspects = secrets::find(&files, filesystem.partition)?;
            }
            (suspects, has_work)
        };
        report.suspects.extend(found);
        if !is_changed {
            continue;
        }
        site.change(filesystem, |files| {
            let mut taker = Taker {
                files,
                request,
                partition: filesystem.partition,
                report: &mut report,
            };
            rules::boot_seed(&mut taker)?;
            unit::seeds(&mut taker)?;
            if is_root {
                unit::earlier_settings(&mut taker)?;
                rules::all(&mut taker)?;
            }
            Ok::<_, ConfigureError>(())
        })?;
    }
    let taken = &report.taken;
    let is_gone = |suspect: &Suspect| {
        taken
            .iter()
            .any(|one| one.path == suspect.path && one.partition == suspect.partition)
    };
    let suspects = report.suspects.iter().filter(|one| !is_gone(one)).cloned();
    report.suspects = suspects.collect();
    let order = |one: &Taken| (one.partition, one.path.clone());
    report.taken.sort_by_key(order);
    Ok(report)
}

/// Takes things away, unless they are to be kept, and says so.
struct Taker<'t, 'f> {
    files: &'t mut Files<'f>,
    request: &'t AsNew,
    partition: Option<u32>,
    report: &'t mut AsNewReport,
}

type Done = Result<(), FilesError>;

impl Taker<'_, '_> {
    fn is_kept(&mut self, path: &str) -> bool {
        let is_below = |keep: &String| {
            let keep = keep.trim_end_matches('/');
            path == keep
                || path
                    .strip_prefix(keep)
                    .is_some_and(|rest| rest.starts_with('/'))
        };
        let is_kept = self.request.keep.iter().any(is_below);
        if is_kept && !self.report.kept.iter().any(|known| known == path) {
            self.report.kept.push(path.to_owned());
        }
        is_kept
    }

    fn told(&mut self, path: &str, bytes: u64, what: &'static str, how: How) {
        self.report.taken.push(Taken {
            partition: self.partition,
            path: path.to_owned(),
            bytes,
            what,
            how,
        });
    }

    fn note(&mut self, note: impl Into<String>) {
        self.report.notes.push(note.into());
    }

    /// Removes a file or link, if it exists.
    fn remove(&mut self, path: &str, what: &'static str) -> Done {
        let Some(facts) = self.files.facts(path)? else {
            return Ok(());
        };
        if facts.kind == Kind::Folder || self.is_kept(path) {
            return Ok(());
        }
        self.files.remove(path)?;
        self.told(path, facts.size, what, How::Removed);
        Ok(())
    }

    /// Empties a file that programs expect to exist; its owner and rights stay.
    fn empty(&mut self, path: &str, what: &'static str) -> Done {
        let Some(facts) = self.files.facts(path)? else {
            return Ok(());
        };
        if facts.kind != Kind::File || facts.size == 0 || self.is_kept(path) {
            return Ok(());
        }
        self.files.rewrite(path, b"")?;
        self.told(path, facts.size, what, How::Emptied);
        Ok(())
    }

    /// Puts another text in the place of one.
    fn edit(&mut self, path: &str, text: &str, what: &'static str) -> Done {
        let size = self.files.size_of(path)?.unwrap_or(0);
        self.files.rewrite(path, text.as_bytes())?;
        self.told(path, size, what, How::Edited);
        Ok(())
    }

    /// The files and links below a folder that are `wanted` by their paths; none if there is no
    /// such folder.
    fn below(
        &self,
        folder: &str,
        wanted: impl Fn(&str) -> bool,
    ) -> Result<Vec<String>, FilesError> {
        let mut found = Vec::new();
        let walked = walk(self.files, folder, usize::MAX, &mut |node| {
            if node.facts.kind != Kind::Folder && wanted(&node.path) {
                found.push(node.path);
            }
            true
        });
        match walked {
            Err(FilesError::NotFound(_)) => Ok(Vec::new()),
            walked => walked.map(|()| found),
        }
    }

    /// Removes all files and links below a folder; the folders stay.
    fn remove_below(&mut self, folder: &str, what: &'static str) -> Done {
        for path in self.below(folder, |_| true)? {
            self.remove(&path, what)?;
        }
        Ok(())
    }

    /// Removes what is in a folder and has a name that is `wanted`.
    fn remove_named(
        &mut self,
        folder: &str,
        wanted: impl Fn(&str) -> bool,
        what: &'static str,
    ) -> Done {
        let names = self.files.names(folder)?.unwrap_or_default();
        for name in names.iter().filter(|name| wanted(name)) {
            self.remove(&join(folder, name), what)?;
        }
        Ok(())
    }

    /// Removes folders below another one that are empty by now.
    fn remove_empty_folders(&mut self, folder: &str) -> Done {
        let mut folders = Vec::new();
        let walked = walk(self.files, folder, usize::MAX, &mut |node| {
            if node.facts.kind == Kind::Folder {
                folders.push(node.path);
            }
            true
        });
        match walked {
            Err(FilesError::NotFound(_)) => return Ok(()),
            walked => walked?,
        }
        // Deeper ones come after those that they are in.
        for path in folders.iter().rev() {
            if self
                .files
                .names(path)?
                .is_some_and(|names| names.is_empty())
            {
                self.files.remove(path)?;
            }
        }
        Ok(())
    }
}
