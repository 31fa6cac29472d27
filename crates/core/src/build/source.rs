//! Where the files of a layout come from: folders, single files, archives.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use pinewrit_disk::open_plain;
use pinewrit_ext4::{Attributes, NodeKind, Timestamp, Xattr, Zeros};
use pinewrit_image::{Wrapping, unpacked_stream};
use tar::EntryType;

use super::fill::{Sink, SinkError};
use super::{BuildError, BuildReport, Content, at, fat, mistake, remark};
use crate::Cancel;
use crate::settings::Remark;
use crate::settings::document::nearest;

/// Names that a message suggests.
const MAX_NEAR: usize = 3;
/// Members of an archive that are remembered for suggestions.
const MAX_MEMBERS: usize = 200_000;

/// Looks at what is taken before anything is made; says what is wrong with it.
pub(super) fn look_at(content: &Content, is_fat: bool) -> Vec<Remark> {
    let failed = |error: &io::Error| {
        let what = format!("{} cannot be read: {error}", content.from.display());
        vec![remark(content.line, what, "")]
    };
    if content.from.is_dir() {
        let mut remarks = Vec::new();
        let mut names = BTreeMap::new();
        let found = walk(&content.from, &mut |path, facts| {
            let relative = path.strip_prefix(&content.from).unwrap_or(path);
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
    match &content.pick {
        Some(pick) => match missing_member(&content.from, pick) {
            Ok(None) => Vec::new(),
            Ok(Some(near)) => {
                let name = content.from.display();
                let what = format!("{name} has no member {pick}");
                let remedy = match near.is_empty() {
                    true => "see what is in it".to_owned(),
                    false => format!("like it: {}", near.join(", ")),
                };
                vec![remark(content.line, what, remedy)]
            }
            Err(error) => failed(&error),
        },
        None => Vec::new(),
    }
}

/// `None`: it is there; else the names that are most like it.
fn missing_member(archive: &Path, pick: &str) -> io::Result<Option<Vec<String>>> {
    let (stream, kind) = unpacked_stream(archive)?;
    if kind != Some(Wrapping::Tar) {
        return Err(io::Error::other("it is no tar archive"));
    }
    let wanted = clean(pick);
    let mut names = Vec::new();
    for entry in tar::Archive::new(stream).entries()? {
        let name = clean(&pinewrit_image::member_name(&mut entry?)?);
        if below(&name, &wanted).is_some() {
            return Ok(None);
        }
        if names.len() < MAX_MEMBERS {
            names.push(name);
        }
    }
    let mut near = Vec::new();
    while near.len() < MAX_NEAR {
        let left = names
            .iter()
            .map(String::as_str)
            .filter(|name| !near.contains(name));
        let last = wanted.rsplit('/').next().unwrap_or(&wanted);
        let same_end = names
            .iter()
            .map(String::as_str)
            .find(|name| name.rsplit('/').next() == Some(last) && !near.contains(name));
        match same_end.or_else(|| nearest(&wanted, left)) {
            Some(name) => near.push(name),
            None => break,
        }
    }
    Ok(Some(near.into_iter().map(str::to_owned).collect()))
}

/// A path without `./` and slashes at both ends.
pub(super) fn clean(path: &str) -> String {
    let names = path
        .split('/')
        .filter(|name| !name.is_empty() && *name != ".");
    names.collect::<Vec<_>>().join("/")
}

/// The rest of a path below a folder; empty for the folder itself.
fn below<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    if folder.is_empty() {
        return Some(path);
    }
    let rest = path.strip_prefix(folder)?;
    match rest.is_empty() {
        true => Some(rest),
        false => rest.strip_prefix('/'),
    }
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
    fn target(&self, below: &str) -> String {
        let parts = [clean(&self.content.to), clean(below)];
        let named: Vec<&str> = parts
            .iter()
            .filter(|p| !p.is_empty())
            .map(String::as_str)
            .collect();
        format!("/{}", named.join("/"))
    }

    /// Where a single file goes: into a folder, or under the name that is given.
    fn target_of_file(&self, name: &str) -> String {
        match self.content.to.ends_with('/') {
            true => self.target(name),
            false => self.target(""),
        }
    }

    pub(super) fn all(&mut self) -> Result<(), BuildError> {
        let from = self.content.from.clone();
        if from.is_dir() {
            return self.folder(&from);
        }
        if self.content.is_packed {
            return self.single(&from);
        }
        let (stream, kind) = unpacked_stream(&from).map_err(|e| self.unreadable(&from, &e))?;
        match kind {
            Some(Wrapping::Tar) => self.archive(stream),
            Some(_) => Err(mistake(
                self.content.line,
                format!("{} is an archive that is not read here", from.display()),
                "a tar archive, or `unpack = false` to copy it as it is",
            )),
            // A packed file that is no archive is copied as it is.
            None => self.single(&from),
        }
    }

    fn single(&mut self, from: &Path) -> Result<(), BuildError> {
        let name = from.file_name().unwrap_or_default();
        let target = self.target_of_file(&name.to_string_lossy());
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
            let made = self.sink.folder(&self.target(""), &self.attributes(&own));
            made.map_err(|e| self.wrong(e))?;
        }
        for (path, facts) in found {
            self.check_stop()?;
            let relative = path.strip_prefix(from).unwrap_or(&path);
            let target = self.target(&relative.to_string_lossy());
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

    fn archive(&mut self, stream: pinewrit_image::ImageStream) -> Result<(), BuildError> {
        let from = self.content.from.clone();
        let mut archive = tar::Archive::new(stream);
        let failed = |e: &io::Error| {
            let what = format!("{} is damaged: {e}", from.display());
            mistake(self.content.line, what, "fetch or make it again")
        };
        let entries = archive.entries().map_err(|e| failed(&e))?;
        for entry in entries {
            let mut entry = entry.map_err(|e| {
                let what = format!("{} is damaged: {e}", from.display());
                mistake(self.content.line, what, "fetch or make it again")
            })?;
            self.check_stop()?;
            self.member(&mut entry)?;
        }
        Ok(())
    }

    /// A member's path below what is picked; `None` where it is not.
    fn picked(&self, name: &str) -> Option<String> {
        let pick = clean(self.content.pick.as_deref().unwrap_or(""));
        let mut rest = below(name, &pick)?;
        for _ in 0..self.content.strip {
            rest = rest.split_once('/')?.1;
        }
        Some(rest.to_owned())
    }

    fn member<R: Read>(&mut self, entry: &mut tar::Entry<'_, R>) -> Result<(), BuildError> {
        let line = self.content.line;
        let from = self.content.from.clone();
        let raw = pinewrit_image::member_name(entry).map_err(|e| self.unreadable(&from, &e))?;
        let name = clean(&raw);
        let Some(rest) = self.picked(&name) else {
            return Ok(());
        };
        if name.split('/').any(|part| part == "..") {
            let what = format!("the member {raw:?} climbs out of the archive");
            return Err(mistake(line, what, "an archive without such names"));
        }
        let kind = entry.header().entry_type();
        let target = match rest.is_empty() && !kind.is_dir() {
            true => self.target_of_file(name.rsplit('/').next().unwrap_or(&name)),
            false => self.target(&rest),
        };
        self.must_be_short(&target)?;
        let attributes = self.member_attributes(entry)?;
        let done = self.put_member(entry, kind, &target, &attributes)?;
        done.map_err(|e| self.wrong(e))
    }

    fn put_member<R: Read>(
        &mut self,
        entry: &mut tar::Entry<'_, R>,
        kind: EntryType,
        target: &str,
        attributes: &Attributes,
    ) -> Result<Result<(), SinkError>, BuildError> {
        let unreadable = |e: &io::Error| self.unreadable(&self.content.from, e);
        let header = entry.header();
        Ok(match kind {
            EntryType::Directory => self.sink.folder(target, attributes),
            EntryType::Symlink | EntryType::Link => {
                let to = entry.link_name_bytes().map(|to| to.into_owned());
                let to = to.unwrap_or_default();
                match kind {
                    EntryType::Symlink => self.sink.symlink(target, &to, attributes),
                    _ => {
                        let to = clean(&String::from_utf8_lossy(&to));
                        let existing = self.target(&self.picked(&to).unwrap_or(to));
                        self.sink.link(target, &existing)
                    }
                }
            }
            EntryType::Char | EntryType::Block => {
                let major = header
                    .device_major()
                    .map_err(|e| unreadable(&e))?
                    .unwrap_or(0);
                let minor = header
                    .device_minor()
                    .map_err(|e| unreadable(&e))?
                    .unwrap_or(0);
                let node = match kind {
                    EntryType::Char => NodeKind::CharacterDevice(major, minor),
                    _ => NodeKind::BlockDevice(major, minor),
                };
                self.sink.node(target, node, attributes)
            }
            EntryType::Fifo => self.sink.node(target, NodeKind::Fifo, attributes),
            EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
                let zeros = match kind {
                    EntryType::GNUSparse => Zeros::Holes,
                    _ => Zeros::Written,
                };
                pinewrit_image::must_be_understood(entry).map_err(|e| unreadable(&e))?;
                let sparse = pinewrit_image::sparse_file(entry).map_err(|e| unreadable(&e))?;
                let size = sparse.as_ref().map_or(entry.size(), |sparse| sparse.size);
                let put = match sparse {
                    None => self.sink.file(target, attributes, size, entry, zeros),
                    Some(sparse) => {
                        let content = pinewrit_image::SparseReader::new(sparse, entry);
                        let mut content = content.map_err(|e| unreadable(&e))?;
                        let zeros = Zeros::Holes;
                        self.sink
                            .file(target, attributes, size, &mut content, zeros)
                    }
                };
                self.report.files += 1;
                self.report.bytes += size;
                put
            }
            // Heads that concern the archive only.
            _ => Ok(()),
        })
    }

    fn member_attributes<R: Read>(
        &self,
        entry: &mut tar::Entry<'_, R>,
    ) -> Result<Attributes, BuildError> {
        let from = self.content.from.clone();
        let failed = |e: io::Error| self.unreadable(&from, &e);
        let mut xattrs = Vec::new();
        if let Some(extensions) = entry.pax_extensions().map_err(failed)? {
            for extension in extensions {
                let extension = extension.map_err(failed)?;
                let key = extension.key().unwrap_or_default();
                if let Some(name) = key.strip_prefix("SCHILY.xattr.") {
                    xattrs.push(Xattr {
                        name: name.to_owned(),
                        value: extension.value_bytes().to_vec(),
                    });
                }
            }
        }
        let header = entry.header();
        let id = |id: u64| u32::try_from(id).unwrap_or(0);
        let time = header.mtime().unwrap_or(0);
        let time = i64::try_from(time).unwrap_or(self.now.seconds);
        Ok(Attributes {
            mode: (header.mode().map_err(failed)? & 0o7777) as u16,
            uid: id(header.uid().map_err(failed)?),
            gid: id(header.gid().map_err(failed)?),
            // What is younger than the epoch was made by today's work.
            modified: Timestamp::at(self.epoch.map_or(time, |epoch| time.min(epoch))),
            xattrs,
        })
    }
}
