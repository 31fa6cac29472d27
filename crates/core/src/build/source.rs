//! Where the files of a layout come from: folders, single files, archives, texts.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use pinewrit_disk::open_plain;
use pinewrit_ext4::{Attributes, NodeKind, Timestamp, Xattr, Zeros};
use pinewrit_image::{
    Location, MemberFacts, MemberKind, OpenError, OpenOptions, Unpackable, VisitError,
};

use super::fill::{Sink, SinkError};
use super::names::Names;
use super::pick::Picks;
use super::{BuildError, BuildReport, Content, Origin, at, fat, mistake, remark};
use crate::Cancel;
use pinewrit_firstboot::settings::Remark;

/// A text in which names are put is no longer than this, in bytes.
const MAX_TEMPLATE: u64 = 1 << 20;

/// Looks at what is taken before anything is made; says what is wrong with it.
pub(super) fn look_at(content: &Content, is_fat: bool, options: &OpenOptions) -> Vec<Remark> {
    let Origin::At(location) = &content.from else {
        return Vec::new();
    };
    let failed = |error: &dyn std::fmt::Display| {
        let what = format!("{location} cannot be read: {error}");
        vec![remark(content.line, what, "")]
    };
    // What is far away is fetched once, when it is taken.
    let Location::Path(from) = location else {
        return Vec::new();
    };
    if from.is_dir() {
        let mut remarks = Vec::new();
        let mut names = BTreeMap::new();
        let found = walk(from, &mut |path, facts| {
            let relative = path.strip_prefix(from).unwrap_or(path);
            let name = format!("/{}", relative.display());
            if !is_fat {
                return;
            }
            let checked = fat::check_name(&name).and_then(|()| fat::check_size(&name, facts.len()));
            let other = names.insert(pinewrit_fat::folded(&name), name.clone());
            let one_name = other.map(|other| fat::one_name(&name, &other));
            for error in checked.err().into_iter().chain(one_name) {
                remarks.push(remark(content.line, error.what, error.remedy));
            }
        });
        return match found {
            Ok(()) => remarks,
            Err(error) => failed(&error),
        };
    }
    if content.picks.is_empty() {
        return Vec::new();
    }
    let mut picks = Picks::of(&content.picks);
    let seen = Unpackable::open(location, options).map_err(|e| failed(&e));
    let seen = seen.and_then(|archive| {
        let visited = archive.each(|member, _| {
            picks.rest(&clean(&member.name));
            Ok::<_, BuildError>(())
        });
        match visited {
            Err(VisitError::Archive(error)) => Err(failed(&error)),
            _ => Ok(()),
        }
    });
    match seen {
        Err(remarks) => remarks,
        Ok(()) => picks.missing(content.line, &location.to_string()),
    }
}

/// A path without `./` and slashes at both ends.
pub(super) fn clean(path: &str) -> String {
    let names = path
        .split('/')
        .filter(|name| !name.is_empty() && *name != ".");
    names.collect::<Vec<_>>().join("/")
}

/// Bytes of all files that contents have; `None` where that cannot be told.
pub(super) fn total(contents: &[Content], options: &OpenOptions) -> Option<u64> {
    let mut total: u64 = 0;
    for content in contents {
        let mut add = |bytes: u64| total = total.saturating_add(bytes);
        let from = match &content.from {
            Origin::Text(text) => {
                add(text.len() as u64);
                continue;
            }
            Origin::At(Location::Url(_)) => return None,
            Origin::At(Location::Path(from)) => from,
        };
        if from.is_dir() {
            walk(from, &mut |_, facts| add(facts.len())).ok()?;
            continue;
        }
        let archive = Unpackable::open(&Location::Path(from.clone()), options).ok()?;
        if content.is_packed || !archive.is_archive() {
            add(fs::metadata(from).ok()?.len());
            continue;
        }
        let mut picks = Picks::of(&content.picks);
        let visited = archive.each(|member, _| {
            if picks.rest(&clean(&member.name)).is_some() {
                add(member.size);
            }
            Ok::<_, BuildError>(())
        });
        visited.ok()?;
    }
    Some(total)
}

/// Calls `visit` with all files below a folder, in the order of their names.
fn walk(folder: &Path, visit: &mut dyn FnMut(&Path, &fs::Metadata)) -> io::Result<()> {
    let entries: Result<Vec<_>, _> = fs::read_dir(folder)?.collect();
    let mut paths: Vec<PathBuf> = entries?.into_iter().map(|entry| entry.path()).collect();
    paths.sort();
    for path in paths {
        let facts = fs::symlink_metadata(&path)?;
        visit(&path, &facts);
        if facts.is_dir() {
            walk(&path, visit)?;
        }
    }
    Ok(())
}

/// Taking one content of a partition.
pub(super) struct Taking<'a> {
    pub(super) content: &'a Content,
    pub(super) sink: &'a mut dyn Sink,
    pub(super) epoch: Option<i64>,
    pub(super) now: Timestamp,
    pub(super) report: &'a mut BuildReport,
    /// Files of the folder that have several names, by device and inode.
    pub(super) seen: &'a mut BTreeMap<(u64, u64), String>,
    pub(super) cancel: &'a Cancel,
    /// How archives are opened.
    pub(super) options: &'a OpenOptions,
    /// What texts may name; `None` where there is nothing to name.
    pub(super) names: Option<&'a Names>,
}

impl Taking<'_> {
    fn wrong(&self, error: SinkError) -> BuildError {
        at(self.content.line, error)
    }

    fn unreadable(&self, path: &Path, error: &io::Error) -> BuildError {
        let what = format!("{} cannot be read: {error}", path.display());
        mistake(self.content.line, what, "")
    }

    fn check_stop(&self) -> Result<(), BuildError> {
        match self.cancel.is_cancelled() {
            true => Err(BuildError::Cancelled),
            false => Ok(()),
        }
    }

    /// A path in the file system: where the content goes, and what is below.
    fn target(&self, below: &str) -> Result<String, BuildError> {
        let parts = [clean(&self.content.to), clean(below)];
        let named: Vec<&str> = parts
            .iter()
            .filter(|p| !p.is_empty())
            .map(String::as_str)
            .collect();
        let path = named.join("/");
        let path = match self.names.filter(|_| path.contains("{{")) {
            Some(names) => clean(&self.rendered(names, &path)?),
            None => path,
        };
        match path.split('/').any(|name| name == "..") {
            true => Err(mistake(
                self.content.line,
                format!("{path:?} climbs out"),
                "",
            )),
            false => Ok(format!("/{path}")),
        }
    }

    fn rendered(&self, names: &Names, text: &str) -> Result<String, BuildError> {
        let rendered = names.rendered(text);
        rendered.map_err(|(what, remedy)| mistake(self.content.line, what, remedy))
    }

    /// Where a single file goes: into a folder, or under the name that is given.
    fn target_of_file(&self, name: &str) -> Result<String, BuildError> {
        match self.content.to.ends_with('/') {
            true => self.target(name),
            false => self.target(""),
        }
    }

    pub(super) fn all(&mut self) -> Result<(), BuildError> {
        let location = match &self.content.from {
            Origin::Text(text) => return self.text(text),
            Origin::At(location) => location,
        };
        if let Location::Path(from) = location
            && (from.is_dir() || self.content.is_packed)
        {
            return match from.is_dir() {
                true => self.folder(from),
                false => self.single(from),
            };
        }
        let unreadable = |error: OpenError| {
            let what = format!("{location} cannot be read: {error}");
            mistake(self.content.line, what, "")
        };
        let archive = Unpackable::open(location, self.options).map_err(unreadable)?;
        match (archive.is_archive(), location) {
            (true, _) => self.archive(&archive, location),
            // A packed file that is no archive is copied as it is.
            (false, Location::Path(from)) => self.single(from),
            (false, Location::Url(_)) => Err(mistake(
                self.content.line,
                format!("what lies at {location} is no archive"),
                "a tar, zip or 7z archive; or fetch it, and give its path",
            )),
        }
    }

    /// A text that stands in the layout itself.
    fn text(&mut self, text: &str) -> Result<(), BuildError> {
        let target = self.target("")?;
        let text = match self.names {
            Some(names) => self.rendered(names, text)?,
            None => text.to_owned(),
        };
        let (uid, gid) = self.content.owner;
        let attributes = Attributes {
            mode: self.content.mode.unwrap_or(0o644),
            uid,
            gid,
            modified: self.epoch.map_or(self.now, Timestamp::at),
            xattrs: Vec::new(),
        };
        self.put_bytes(text.as_bytes(), &target, &attributes)
    }

    fn put_bytes(
        &mut self,
        mut bytes: &[u8],
        target: &str,
        attributes: &Attributes,
    ) -> Result<(), BuildError> {
        let size = bytes.len() as u64;
        let put = self
            .sink
            .file(target, attributes, size, &mut bytes, Zeros::Written);
        put.map_err(|e| self.wrong(e))?;
        self.report.files += 1;
        self.report.bytes += size;
        Ok(())
    }

    /// A file with the names put in, if it is a text that is to have some.
    fn template(&self, from: &Path, facts: &fs::Metadata) -> Result<Option<String>, BuildError> {
        let Some(names) = self.names.filter(|_| self.content.is_template) else {
            return Ok(None);
        };
        if facts.len() > MAX_TEMPLATE {
            return Ok(None);
        }
        let bytes = fs::read(from).map_err(|e| self.unreadable(from, &e))?;
        match String::from_utf8(bytes) {
            Ok(text) => self.rendered(names, &text).map(Some),
            Err(_) => Ok(None),
        }
    }

    fn single(&mut self, from: &Path) -> Result<(), BuildError> {
        let name = from.file_name().unwrap_or_default();
        let target = self.target_of_file(&name.to_string_lossy())?;
        let facts = fs::metadata(from).map_err(|e| self.unreadable(from, &e))?;
        self.put_file(from, &facts, &target)
    }

    fn attributes(&self, facts: &fs::Metadata) -> Attributes {
        let (uid, gid) = self.content.owner;
        let own = (facts.permissions().mode() & 0o7777) as u16;
        Attributes {
            mode: self.content.mode.filter(|_| facts.is_file()).unwrap_or(own),
            uid,
            gid,
            modified: Timestamp::at(self.epoch.unwrap_or(facts.mtime())),
            xattrs: Vec::new(),
        }
    }

    /// Refuses a path that no system could open.
    fn must_be_short(&self, target: &str) -> Result<(), BuildError> {
        let (len, most) = (target.chars().count(), self.sink.max_path());
        if len <= most {
            return Ok(());
        }
        let start: String = target.chars().take(40).collect();
        let what = format!("the path {start}… has {len} characters, {most} are possible");
        Err(mistake(self.content.line, what, "fewer folders in folders"))
    }

    fn put_file(
        &mut self,
        from: &Path,
        facts: &fs::Metadata,
        target: &str,
    ) -> Result<(), BuildError> {
        let attributes = self.attributes(facts);
        if let Some(text) = self.template(from, facts)? {
            return self.put_bytes(text.as_bytes(), target, &attributes);
        }
        let mut file = open_plain(from).map_err(|e| self.unreadable(from, &e))?;
        // Fewer blocks than its size takes: it has holes.
        let zeros = match facts.blocks() * 512 < facts.len() {
            true => Zeros::Holes,
            false => Zeros::Written,
        };
        let size = facts.len();
        let put = self.sink.file(target, &attributes, size, &mut file, zeros);
        put.map_err(|e| self.wrong(e))?;
        self.report.files += 1;
        self.report.bytes += size;
        Ok(())
    }

    fn folder(&mut self, from: &Path) -> Result<(), BuildError> {
        let mut found = Vec::new();
        let walked = walk(from, &mut |path, facts| {
            found.push((path.to_owned(), facts.clone()))
        });
        walked.map_err(|e| self.unreadable(from, &e))?;
        // The folder itself, unless it stands for the root.
        if !clean(&self.content.to).is_empty() {
            let own = fs::metadata(from).map_err(|e| self.unreadable(from, &e))?;
            let target = self.target("")?;
            let made = self.sink.folder(&target, &self.attributes(&own));
            made.map_err(|e| self.wrong(e))?;
        }
        for (path, facts) in found {
            self.check_stop()?;
            let relative = path.strip_prefix(from).unwrap_or(&path);
            let target = self.target(&relative.to_string_lossy())?;
            self.must_be_short(&target)?;
            let attributes = self.attributes(&facts);
            let kind = facts.file_type();
            if kind.is_dir() {
                let made = self.sink.folder(&target, &attributes);
                made.map_err(|e| self.wrong(e))?;
            } else if kind.is_symlink() {
                let to = fs::read_link(&path).map_err(|e| self.unreadable(&path, &e))?;
                let to = std::os::unix::ffi::OsStrExt::as_bytes(to.as_os_str());
                let made = self.sink.symlink(&target, to, &attributes);
                made.map_err(|e| self.wrong(e))?;
            } else if kind.is_file() {
                let known = self.seen.get(&(facts.dev(), facts.ino())).cloned();
                match known.filter(|_| facts.nlink() > 1) {
                    Some(known) => {
                        let made = self.sink.link(&target, &known);
                        made.map_err(|e| self.wrong(e))?;
                    }
                    None => self.put_file(&path, &facts, &target)?,
                }
                if facts.nlink() > 1 {
                    self.seen.insert((facts.dev(), facts.ino()), target);
                }
            }
        }
        Ok(())
    }

    pub(super) fn archive(
        &mut self,
        archive: &Unpackable,
        location: &Location,
    ) -> Result<(), BuildError> {
        let mut picks = Picks::of(&self.content.picks);
        let line = self.content.line;
        let visited = archive.each(|member, content| {
            self.check_stop()?;
            match picks.rest(&clean(&member.name)) {
                Some(rest) => self.member(member, &rest, &picks, content),
                None => Ok(()),
            }
        });
        visited.map_err(|error| match error {
            VisitError::Visitor(error) => error,
            VisitError::Archive(error) => {
                let what = format!("{location} is damaged: {error}");
                mistake(line, what, "fetch or make it again")
            }
        })?;
        match picks.missing(line, &location.to_string()) {
            missing if missing.is_empty() => Ok(()),
            missing => Err(pinewrit_firstboot::settings::Mistakes(missing).into()),
        }
    }

    /// The rest of a member's path without the folders that are taken off its front.
    fn stripped<'p>(&self, rest: &'p str) -> Option<&'p str> {
        let mut rest = rest;
        for _ in 0..self.content.strip {
            rest = rest.split_once('/')?.1;
        }
        Some(rest)
    }

    fn member(
        &mut self,
        member: &MemberFacts,
        rest: &str,
        picks: &Picks,
        content: &mut dyn Read,
    ) -> Result<(), BuildError> {
        let line = self.content.line;
        let name = clean(&member.name);
        if name.split('/').any(|part| part == "..") {
            let what = format!("the member {:?} climbs out of the archive", member.name);
            return Err(mistake(line, what, "an archive without such names"));
        }
        let Some(rest) = self.stripped(rest) else {
            return Ok(());
        };
        let target = match rest.is_empty() && member.kind != MemberKind::Folder {
            true => self.target_of_file(name.rsplit('/').next().unwrap_or(&name))?,
            false => self.target(rest)?,
        };
        self.must_be_short(&target)?;
        let attributes = self.member_attributes(member);
        let put = match &member.kind {
            MemberKind::Folder => self.sink.folder(&target, &attributes),
            MemberKind::Symlink(to) => self.sink.symlink(&target, to, &attributes),
            MemberKind::Link(to) => {
                let to = clean(to);
                let rest = picks.rest_of(&to).unwrap_or(to);
                let existing = self.target(self.stripped(&rest).unwrap_or(&rest))?;
                self.sink.link(&target, &existing)
            }
            MemberKind::CharacterDevice(major, minor) => {
                let node = NodeKind::CharacterDevice(*major, *minor);
                self.sink.node(&target, node, &attributes)
            }
            MemberKind::BlockDevice(major, minor) => {
                let node = NodeKind::BlockDevice(*major, *minor);
                self.sink.node(&target, node, &attributes)
            }
            MemberKind::Fifo => self.sink.node(&target, NodeKind::Fifo, &attributes),
            MemberKind::File => {
                let zeros = match member.has_holes {
                    true => Zeros::Holes,
                    false => Zeros::Written,
                };
                self.report.files += 1;
                self.report.bytes += member.size;
                self.sink
                    .file(&target, &attributes, member.size, content, zeros)
            }
        };
        put.map_err(|e| self.wrong(e))
    }

    fn member_attributes(&self, member: &MemberFacts) -> Attributes {
        let usual = match member.kind {
            MemberKind::Folder => 0o755,
            _ => 0o644,
        };
        let time = member.modified.unwrap_or(self.now.seconds);
        let xattrs = member.xattrs.iter().map(|(name, value)| Xattr {
            name: name.clone(),
            value: value.clone(),
        });
        let (uid, gid) = member.owner;
        Attributes {
            mode: member.mode.unwrap_or(usual),
            uid,
            gid,
            // What is younger than the epoch was made by today's work.
            modified: Timestamp::at(self.epoch.map_or(time, |epoch| time.min(epoch))),
            xattrs: xattrs.collect(),
        }
    }
}
