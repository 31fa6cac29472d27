//! Unpacking an archive over what is already in a file system.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;

use pinewrit_ext4::{Attributes, NodeKind, Zeros};
use pinewrit_image::{Location, OpenOptions, Unpackable};
use schemars::JsonSchema;
use serde::Serialize;

use super::Files;
use super::fill::{Fill, FillError, Origin, Portion, Refusal, Stands, Taken, Taking, clean};

/// What happens to files that already exist.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Overwrite {
    /// They are replaced by younger ones.
    #[default]
    Newer,
    /// They are replaced.
    Always,
    /// They stay.
    Never,
}

/// What is unpacked, and its target.
#[derive(Clone, Debug)]
pub struct UnpackOptions {
    /// The archive, a local file or a URL; or a folder.
    pub archive: Location,
    /// Only these members, or what is below them; all if empty.
    pub picks: Vec<String>,
    /// Leading folders to strip from all names.
    pub strip: usize,
    /// The target folder.
    pub to: String,
    /// What happens to files that already exist.
    pub overwrite: Overwrite,
    /// How archives are opened.
    pub open: OpenOptions,
}

/// One file, link or node of an archive.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Unpacked {
    /// Its path in the file system.
    pub path: String,
    /// Size of its content, in bytes.
    pub bytes: u64,
    /// When it was last changed, in seconds since 1970.
    pub modified: i64,
    /// What is already there.
    pub before: Option<Standing>,
}

/// What is already at the target of a member.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Standing {
    /// Size in bytes.
    pub bytes: u64,
    /// When it was last changed, in seconds since 1970, if that is known.
    pub modified: Option<i64>,
}

/// What was put where.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct UnpackReport {
    /// What is new.
    pub new: Vec<Unpacked>,
    /// What was replaced.
    pub replaced: Vec<Unpacked>,
    /// What stays as it was.
    pub kept: Vec<Unpacked>,
    /// Bytes of the new files.
    pub bytes: u64,
    /// The archive's only top folder, if its content seems meant for the target itself.
    pub top_folder: Option<String>,
}

/// Unpacks into an open file system, under which an overlay belongs.
///
/// # Errors
/// [`FillError`]: the archive is damaged or has content that cannot be stored, or the device
/// failed.
pub fn unpack(
    files: &mut Files<'_>,
    options: &UnpackOptions,
    is_stopped: &dyn Fn() -> bool,
) -> Result<UnpackReport, FillError> {
    let portion = Portion {
        from: Origin::At(options.archive.clone()),
        picks: options.picks.clone(),
        is_template: false,
        strip: options.strip,
        to: format!("{}/", options.to.trim_end_matches('/')),
        is_packed: false,
        owner: (0, 0),
        mode: None,
    };
    let archive = open_archive(options)?;
    let now = files.now();
    let mut choosing = Choosing {
        inner: files.fill()?,
        overwrite: options.overwrite,
        report: UnpackReport::default(),
    };
    if let Some(archive) = &archive {
        choosing.report.top_folder = meant_without_top(&portion, archive, &mut *choosing.inner)?;
    }
    let mut taking = Taking {
        portion: &portion,
        fill: &mut choosing,
        epoch: None,
        now,
        taken: &mut Taken::default(),
        seen: &mut BTreeMap::new(),
        is_stopped,
        options: &options.open,
        names: None,
    };
    match &archive {
        Some(archive) => taking.archive(archive, &options.archive)?,
        None => taking.all()?,
    }
    choosing.tell_refused()?;
    Ok(choosing.report)
}

/// The archive; `None` for a folder.
fn open_archive(options: &UnpackOptions) -> Result<Option<Unpackable>, FillError> {
    let from = &options.archive;
    if from.path().is_some_and(std::path::Path::is_dir) {
        return Ok(None);
    }
    let archive = Unpackable::open(from, &options.open)
        .map_err(|error| Refusal::new(format!("{from} cannot be read: {error}"), ""))?;
    if !archive.is_archive() {
        let remedy = "a tar, zip or 7z archive; pinewrit files put for a single file";
        return Err(Refusal::new(format!("{from} is not an archive"), remedy).into());
    }
    Ok(Some(archive))
}

/// The archive's only top folder, if the target already contains what is in it.
fn meant_without_top(
    portion: &Portion,
    archive: &Unpackable,
    fill: &mut dyn Fill,
) -> Result<Option<String>, FillError> {
    if portion.strip > 0 || !portion.picks.is_empty() {
        return Ok(None);
    }
    let mut tops = BTreeSet::new();
    let mut below = BTreeSet::new();
    let visited = archive.each(|member, _| {
        let name = clean(&member.name);
        let mut parts = name.splitn(3, '/');
        tops.extend(
            parts
                .next()
                .filter(|top| !top.is_empty())
                .map(str::to_owned),
        );
        below.extend(parts.next().map(str::to_owned));
        if tops.len() > 1 || below.len() > MAX_NAMES {
            Err(())
        } else {
            Ok(())
        }
    });
    if visited.is_err() {
        // There are several, or the fault is reported when it is unpacked.
        return Ok(None);
    }
    let Some(top) = tops.pop_first().filter(|_| !below.is_empty()) else {
        return Ok(None);
    };
    let folder = portion.to.trim_end_matches('/');
    let mut is_there = |name: &String| -> Result<bool, FillError> {
        Ok(fill.stands(&format!("{folder}/{name}"))?.is_some())
    };
    if is_there(&top)? {
        return Ok(None);
    }
    for name in &below {
        if is_there(name)? {
            return Ok(Some(top));
        }
    }
    Ok(None)
}

/// The most names of an archive to examine for a hint.
const MAX_NAMES: usize = 4096;

/// A file system that accepts only what may replace existing files.
struct Choosing<'s> {
    inner: Box<dyn Fill + 's>,
    overwrite: Overwrite,
    report: UnpackReport,
}

impl Choosing<'_> {
    /// Whether something is put at this path; records what happens to it.
    fn takes(&mut self, path: &str, bytes: u64, modified: i64) -> Result<bool, FillError> {
        let stands = self.inner.stands(path)?;
        let takes = match (&stands, self.overwrite) {
            (None, _) | (Some(_), Overwrite::Always) => true,
            (Some(_), Overwrite::Never) => false,
            (Some(stands), Overwrite::Newer) => {
                stands.modified.is_none_or(|there| there < modified)
            }
        };
        let list = match (takes, stands) {
            (false, _) => &mut self.report.kept,
            (true, None) => &mut self.report.new,
            (true, Some(_)) => &mut self.report.replaced,
        };
        list.push(Unpacked {
            path: path.to_owned(),
            bytes,
            modified,
            before: stands.map(|stands| Standing {
                bytes: stands.size,
                modified: stands.modified,
            }),
        });
        Ok(takes)
    }
}

impl Fill for Choosing<'_> {
    fn max_path(&self) -> usize {
        self.inner.max_path()
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, FillError> {
        self.inner.stands(path)
    }

    fn folder(&mut self, path: &str, attributes: &Attributes) -> Result<(), FillError> {
        match self.inner.stands(path)? {
            Some(stands) if stands.is_folder && self.overwrite != Overwrite::Always => Ok(()),
            _ => self.inner.folder(path, attributes),
        }
    }

    fn file(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
        zeros: Zeros,
    ) -> Result<(), FillError> {
        // One that stays because of another name would otherwise be lost.
        if !self.inner.takes_name(path)? || !self.takes(path, size, attributes.modified.seconds)? {
            return Ok(());
        }
        self.report.bytes = self.report.bytes.saturating_add(size);
        self.inner.file(path, attributes, size, content, zeros)
    }

    fn symlink(
        &mut self,
        path: &str,
        target: &[u8],
        attributes: &Attributes,
    ) -> Result<(), FillError> {
        if self.takes(path, 0, attributes.modified.seconds)? {
            self.inner.symlink(path, target, attributes)
        } else {
            Ok(())
        }
    }

    fn link(&mut self, path: &str, existing: &str) -> Result<(), FillError> {
        if self.takes(path, 0, i64::MAX)? {
            self.inner.link(path, existing)
        } else {
            Ok(())
        }
    }

    fn node(
        &mut self,
        path: &str,
        kind: NodeKind,
        attributes: &Attributes,
    ) -> Result<(), FillError> {
        if self.takes(path, 0, attributes.modified.seconds)? {
            self.inner.node(path, kind, attributes)
        } else {
            Ok(())
        }
    }

    fn tell_refused(&mut self) -> Result<(), FillError> {
        self.inner.tell_refused()
    }

    fn move_to_front(&mut self) -> Result<(), FillError> {
        self.inner.move_to_front()
    }
}
