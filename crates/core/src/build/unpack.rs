//! Putting an archive over what is in a file system already.

use std::collections::BTreeSet;
use std::io::Read;

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, Window};
use pinewrit_ext4::{Attributes, Editor, NodeKind, Zeros};
use pinewrit_fat::Geometry;
use pinewrit_image::{Location, OpenOptions, Unpackable};
use schemars::JsonSchema;
use serde::Serialize;

use super::fat::FatSink;
use super::fill::{self, ExtSink, Sink, SinkError, Stands};
use super::source::{self, Taking};
use super::{BuildError, BuildReport, Content, Origin, at, mistake};
use crate::Cancel;

/// What becomes of files that are there already.
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

/// What is unpacked, and where to.
#[derive(Clone, Debug)]
pub struct UnpackOptions {
    /// The archive, here or at an address; or a folder.
    pub archive: Location,
    /// Only these members, or what is below them; all if empty.
    pub picks: Vec<String>,
    /// Folders that are taken off the front of all names.
    pub strip: usize,
    /// The folder that it goes into.
    pub to: String,
    /// What becomes of files that are there already.
    pub overwrite: Overwrite,
    /// The zone whose local time a FAT keeps.
    pub zone: TimeZone,
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
    /// What stands there already.
    pub before: Option<Standing>,
}

/// What stands where something of an archive goes.
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
    /// Bytes of the files that were put there.
    pub bytes: u64,
    /// The archive's only top folder, if its content seems to be meant for the place itself.
    pub top_folder: Option<String>,
}

/// Unpacks into the file system at the start of `window`, under which an overlay belongs.
///
/// # Errors
/// [`BuildError`]: the archive is damaged or has what cannot be there, or the device failed.
pub fn unpack(
    window: &Window<'_>,
    options: &UnpackOptions,
    now: i64,
    cancel: &Cancel,
) -> Result<UnpackReport, BuildError> {
    let content = Content {
        line: 1,
        from: Origin::At(options.archive.clone()),
        picks: options.picks.clone(),
        is_template: false,
        strip: options.strip,
        to: format!("{}/", options.to.trim_end_matches('/')),
        is_packed: false,
        is_first: false,
        owner: (0, 0),
        mode: None,
    };
    let is_folder = options.archive.path().is_some_and(std::path::Path::is_dir);
    let archive = match is_folder {
        true => None,
        false => Some(Unpackable::open(&options.archive, &options.open)),
    };
    let archive = archive.transpose().map_err(|error| {
        let what = format!("{} cannot be read: {error}", options.archive);
        mistake(1, what, "")
    })?;
    if archive
        .as_ref()
        .is_some_and(|archive| !archive.is_archive())
    {
        let what = format!("{} is no archive", options.archive);
        let remedy = "a tar, zip or 7z archive; pinewrit files put for a single file";
        return Err(mistake(1, what, remedy));
    }
    let now = pinewrit_ext4::Timestamp::at(now);
    let inner: Box<dyn Sink + '_> = match Geometry::read(window)? {
        Some(_) => Box::new(FatSink::open(window, &options.zone).map_err(|e| at(1, e))?),
        None => {
            let editor = Editor::open(window, now);
            let editor = editor.map_err(|e| at(1, fill::told("the file system")(e)))?;
            Box::new(ExtSink::new(editor))
        }
    };
    let mut sink = Choosing {
        inner,
        overwrite: options.overwrite,
        report: UnpackReport::default(),
    };
    if let Some(archive) = &archive {
        sink.report.top_folder = meant_without_top(&content, archive, &mut *sink.inner)?;
    }
    let mut report = BuildReport { files: 0, bytes: 0 };
    let mut seen = std::collections::BTreeMap::new();
    let mut taking = Taking {
        content: &content,
        sink: &mut sink,
        epoch: None,
        now,
        report: &mut report,
        seen: &mut seen,
        cancel,
        options: &options.open,
        names: None,
    };
    match &archive {
        Some(archive) => taking.archive(archive, &options.archive)?,
        None => taking.all()?,
    }
    sink.inner.finish().map_err(|error| at(1, error))?;
    window.flush()?;
    Ok(sink.report)
}

/// The archive's only top folder, if what is in it stands in the target already.
fn meant_without_top(
    content: &Content,
    archive: &Unpackable,
    sink: &mut dyn Sink,
) -> Result<Option<String>, BuildError> {
    if content.strip > 0 || !content.picks.is_empty() {
        return Ok(None);
    }
    let mut tops = BTreeSet::new();
    let mut below = BTreeSet::new();
    let visited = archive.each(|member, _| {
        let name = source::clean(&member.name);
        let mut parts = name.splitn(3, '/');
        tops.extend(
            parts
                .next()
                .filter(|top| !top.is_empty())
                .map(str::to_owned),
        );
        below.extend(parts.next().map(str::to_owned));
        match tops.len() > 1 || below.len() > MAX_NAMES {
            true => Err(()),
            false => Ok(()),
        }
    });
    if visited.is_err() {
        // There are several, or what is wrong is told when it is unpacked.
        return Ok(None);
    }
    let Some(top) = tops.pop_first().filter(|_| !below.is_empty()) else {
        return Ok(None);
    };
    let folder = content.to.trim_end_matches('/');
    let mut is_there = |name: &String| match sink.stands(&format!("{folder}/{name}")) {
        Ok(stands) => Ok(stands.is_some()),
        Err(error) => Err(at(1, error)),
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

/// Names of an archive that are looked at for a hint.
const MAX_NAMES: usize = 4096;

/// A file system into which only goes what may replace what is there.
struct Choosing<'s> {
    inner: Box<dyn Sink + 's>,
    overwrite: Overwrite,
    report: UnpackReport,
}

impl Choosing<'_> {
    /// Whether something goes to this path; notes what becomes of it.
    fn takes(&mut self, path: &str, bytes: u64, modified: i64) -> Result<bool, SinkError> {
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

impl Sink for Choosing<'_> {
    fn max_path(&self) -> usize {
        self.inner.max_path()
    }

    fn stands(&mut self, path: &str) -> Result<Option<Stands>, SinkError> {
        self.inner.stands(path)
    }

    fn folder(&mut self, path: &str, attributes: &Attributes) -> Result<(), SinkError> {
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
    ) -> Result<(), SinkError> {
        // One that stays because of another name for it would be lost.
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
    ) -> Result<(), SinkError> {
        match self.takes(path, 0, attributes.modified.seconds)? {
            true => self.inner.symlink(path, target, attributes),
            false => Ok(()),
        }
    }

    fn link(&mut self, path: &str, existing: &str) -> Result<(), SinkError> {
        match self.takes(path, 0, i64::MAX)? {
            true => self.inner.link(path, existing),
            false => Ok(()),
        }
    }

    fn node(
        &mut self,
        path: &str,
        kind: NodeKind,
        attributes: &Attributes,
    ) -> Result<(), SinkError> {
        match self.takes(path, 0, attributes.modified.seconds)? {
            true => self.inner.node(path, kind, attributes),
            false => Ok(()),
        }
    }

    fn tell_refused(&mut self) -> Result<(), SinkError> {
        self.inner.tell_refused()
    }

    fn move_to_front(&mut self) -> Result<(), SinkError> {
        self.inner.move_to_front()
    }

    fn finish(self: Box<Self>) -> Result<(), SinkError> {
        self.inner.finish()
    }
}
