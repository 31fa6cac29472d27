//! Where files come from: folders, single files, archives, texts.

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

use super::pick::Picks;
use super::{Fill, FillError, Refusal, fat};

/// The longest text in which names are replaced, in bytes.
const MAX_TEMPLATE: u64 = 1 << 20;

/// Something to be put into a file system.
#[derive(Clone, Debug)]
pub struct Portion {
    /// Where it comes from.
    pub from: Origin,
    /// Only these members of an archive, or what is below them; all if empty.
    pub picks: Vec<String>,
    /// Whether its texts refer to identifiers of the medium.
    pub is_template: bool,
    /// Leading folders to strip from an archive's names, after picking.
    pub strip: usize,
    /// Its target: a folder, unless it gives a file a new name.
    pub to: String,
    /// Whether an archive is copied as a file.
    pub is_packed: bool,
    /// Owner and group of single files and of files from a folder.
    pub owner: (u32, u32),
    /// Permissions of a single file.
    pub mode: Option<u16>,
}

/// The source of a portion.
#[derive(Clone, Debug)]
pub enum Origin {
    /// A folder, a file, or an archive, local or at a URL.
    At(Location),
    /// A given text.
    Text(String),
}

/// Replaces names in texts.
pub trait Naming {
    /// A text with the names replaced.
    ///
    /// # Errors
    /// What is wrong with it, and what exists.
    fn rendered(&self, text: &str) -> Result<String, Refusal>;
}

/// How much was taken.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Checks what will be taken before anything is created.
pub fn look_at(content: &Portion, is_fat: bool, options: &OpenOptions) -> Vec<Refusal> {
    let Origin::At(location) = &content.from else {
        return Vec::new();
    };
    let failed = |error: &dyn std::fmt::Display| {
        let what = format!("{location} cannot be read: {error}");
        vec![Refusal::new(what, "")]
    };
    // Remote content is fetched once, when it is taken.
    let Location::Path(from) = location else {
        return Vec::new();
    };
    if from.is_dir() {
        let mut refusals = Vec::new();
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
            refusals.extend(checked.err().into_iter().chain(one_name));
        });
        return match found {
            Ok(()) => refusals,
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
            Ok::<_, FillError>(())
        });
        match visited {
            Err(VisitError::Archive(error)) => Err(failed(&error)),
            _ => Ok(()),
        }
    });
    match seen {
        Err(refusals) => refusals,
        Ok(()) => picks.missing(&location.to_string()),
    }
}

/// A path without `./` and slashes at both ends.
pub(in super::super) fn clean(path: &str) -> String {
    let names = path
        .split('/')
        .filter(|name| !name.is_empty() && *name != ".");
    names.collect::<Vec<_>>().join("/")
}

/// Bytes of all files in the contents; `None` if unknown.
pub fn total<'p>(
    portions: impl IntoIterator<Item = &'p Portion>,
    options: &OpenOptions,
) -> Option<u64> {
    let mut total: u64 = 0;
    for content in portions {
        let mut add = |bytes: u64| total = total.saturating_add(bytes);
        let from = match &content.from {
            Origin::Text(text) => {
                add(text.len() as u64);
                continue;
            }
            Origin::At(Location::Url(_) | Location::Shelf(_)) => return None,
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
            Ok::<_, FillError>(())
        });
        visited.ok()?;
    }
    Some(total)
}

/// Calls `visit` with all files below a folder, ordered by name.
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

/// Taking one portion.
pub struct Taking<'a> {
    /// What is taken.
    pub portion: &'a Portion,
    /// Its path.
    pub fill: &'a mut dyn Fill,
    /// The time for everything younger, in seconds since 1970.
    pub epoch: Option<i64>,
    /// The time for what has none of its own.
    pub now: Timestamp,
    /// The running total.
    pub taken: &'a mut Taken,
    /// Files of the folder that have several names, by device and inode.
    pub seen: &'a mut BTreeMap<(u64, u64), String>,
    /// Whether the work should stop.
    pub is_stopped: &'a dyn Fn() -> bool,
    /// How archives are opened.
    pub options: &'a OpenOptions,
    /// What texts may refer to; `None` if nothing.
    pub names: Option<&'a dyn Naming>,
}

fn unreadable(path: &Path, error: &io::Error) -> FillError {
    FillError::refused(format!("{} cannot be read: {error}", path.display()), "")
}

impl Taking<'_> {
    fn check_stop(&self) -> Result<(), FillError> {
        if (self.is_stopped)() {
            Err(FillError::Cancelled)
        } else {
            Ok(())
        }
    }

    /// A path in the file system: the target, and what is below.
    fn target(&self, below: &str) -> Result<String, FillError> {
        let parts = [clean(&self.portion.to), clean(below)];
        let named: Vec<&str> = parts
            .iter()
            .filter(|p| !p.is_empty())
            .map(String::as_str)
            .collect();
        let path = named.join("/");
        let path = match self.names.filter(|_| path.contains("{{")) {
            Some(names) => clean(&names.rendered(&path)?),
            None => path,
        };
        if path.split('/').any(|name| name == "..") {
            Err(FillError::refused(
                format!("{path:?} leaves the file system"),
                "",
            ))
        } else {
            Ok(format!("/{path}"))
        }
    }

    /// The target of a single file: in a folder, or under the given name.
    fn target_of_file(&self, name: &str) -> Result<String, FillError> {
        if self.portion.to.ends_with('/') {
            self.target(name)
        } else {
            self.target("")
        }
    }

    /// Takes all of it.
    ///
    /// # Errors
    /// [`FillError`].
    pub fn all(&mut self) -> Result<(), FillError> {
        let location = match &self.portion.from {
            Origin::Text(text) => return self.text(text),
            Origin::At(location) => location,
        };
        if let Location::Path(from) = location
            && (from.is_dir() || self.portion.is_packed)
        {
            return if from.is_dir() {
                self.folder(from)
            } else {
                self.single(from)
            };
        }
        let unreadable = |error: OpenError| {
            let what = format!("{location} cannot be read: {error}");
            FillError::refused(what, "")
        };
        let archive = Unpackable::open(location, self.options).map_err(unreadable)?;
        match (archive.is_archive(), location) {
            (true, _) => self.archive(&archive, location),
            // A packed file that is not an archive is copied as it is.
            (false, Location::Path(from)) => self.single(from),
            (false, Location::Url(_) | Location::Shelf(_)) => Err(FillError::refused(
                format!("{location} is not an archive"),
                "a tar, zip or 7z archive; or download it, and give its path",
            )),
        }
    }

    /// A text in the layout itself.
    fn text(&mut self, text: &str) -> Result<(), FillError> {
        let target = self.target("")?;
        let text = match self.names {
            Some(names) => names.rendered(text)?,
            None => text.to_owned(),
        };
        let (uid, gid) = self.portion.owner;
        let attributes = Attributes {
            mode: self.portion.mode.unwrap_or(0o644),
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
    ) -> Result<(), FillError> {
        let size = bytes.len() as u64;
        let put = self
            .fill
            .file(target, attributes, size, &mut bytes, Zeros::Written);
        put?;
        self.taken.files += 1;
        self.taken.bytes += size;
        Ok(())
    }

    /// A file with the names replaced, if it is a text for which that is wanted.
    fn template(&self, from: &Path, facts: &fs::Metadata) -> Result<Option<String>, FillError> {
        let Some(names) = self.names.filter(|_| self.portion.is_template) else {
            return Ok(None);
        };
        if facts.len() > MAX_TEMPLATE {
            return Ok(None);
        }
        let bytes = fs::read(from).map_err(|e| unreadable(from, &e))?;
        match String::from_utf8(bytes) {
            Ok(text) => Ok(Some(names.rendered(&text)?)),
            Err(_) => Ok(None),
        }
    }

    fn single(&mut self, from: &Path) -> Result<(), FillError> {
        let name = from.file_name().unwrap_or_default();
        let target = self.target_of_file(&name.to_string_lossy())?;
        let facts = fs::metadata(from).map_err(|e| unreadable(from, &e))?;
        self.put_file(from, &facts, &target)
    }

    fn attributes(&self, facts: &fs::Metadata) -> Attributes {
        let (uid, gid) = self.portion.owner;
        let own = (facts.permissions().mode() & 0o7777) as u16;
        Attributes {
            mode: self.portion.mode.filter(|_| facts.is_file()).unwrap_or(own),
            uid,
            gid,
            modified: Timestamp::at(self.epoch.unwrap_or(facts.mtime())),
            xattrs: Vec::new(),
        }
    }

    /// Refuses a path that no system could open.
    fn must_be_short(&self, target: &str) -> Result<(), FillError> {
        let (len, most) = (target.chars().count(), self.fill.max_path());
        if len <= most {
            return Ok(());
        }
        let start: String = target.chars().take(40).collect();
        let what = format!("the path {start}… has {len} characters; at most {most} are allowed");
        Err(FillError::refused(what, "fewer nested directories"))
    }

    fn put_file(
        &mut self,
        from: &Path,
        facts: &fs::Metadata,
        target: &str,
    ) -> Result<(), FillError> {
        let attributes = self.attributes(facts);
        if let Some(text) = self.template(from, facts)? {
            return self.put_bytes(text.as_bytes(), target, &attributes);
        }
        let mut file = open_plain(from).map_err(|e| unreadable(from, &e))?;
        // Fewer blocks than its size takes: it has holes.
        let zeros = if facts.blocks() * 512 < facts.len() {
            Zeros::Holes
        } else {
            Zeros::Written
        };
        let size = facts.len();
        let put = self.fill.file(target, &attributes, size, &mut file, zeros);
        put?;
        self.taken.files += 1;
        self.taken.bytes += size;
        Ok(())
    }

    fn folder(&mut self, from: &Path) -> Result<(), FillError> {
        let mut found = Vec::new();
        let walked = walk(from, &mut |path, facts| {
            found.push((path.to_owned(), facts.clone()))
        });
        walked.map_err(|e| unreadable(from, &e))?;
        // The folder itself, unless it stands for the root.
        if !clean(&self.portion.to).is_empty() {
            let own = fs::metadata(from).map_err(|e| unreadable(from, &e))?;
            let target = self.target("")?;
            let made = self.fill.folder(&target, &self.attributes(&own));
            made?;
        }
        for (path, facts) in found {
            self.check_stop()?;
            let relative = path.strip_prefix(from).unwrap_or(&path);
            let target = self.target(&relative.to_string_lossy())?;
            self.must_be_short(&target)?;
            let attributes = self.attributes(&facts);
            let kind = facts.file_type();
            if kind.is_dir() {
                let made = self.fill.folder(&target, &attributes);
                made?;
            } else if kind.is_symlink() {
                let to = fs::read_link(&path).map_err(|e| unreadable(&path, &e))?;
                let to = std::os::unix::ffi::OsStrExt::as_bytes(to.as_os_str());
                let made = self.fill.symlink(&target, to, &attributes);
                made?;
            } else if kind.is_file() {
                let known = self.seen.get(&(facts.dev(), facts.ino())).cloned();
                match known.filter(|_| facts.nlink() > 1) {
                    Some(known) => {
                        let made = self.fill.link(&target, &known);
                        made?;
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

    pub(in super::super) fn archive(
        &mut self,
        archive: &Unpackable,
        location: &Location,
    ) -> Result<(), FillError> {
        let mut picks = Picks::of(&self.portion.picks);
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
                FillError::refused(what, "download or create it again")
            }
        })?;
        match picks.missing(&location.to_string()) {
            missing if missing.is_empty() => Ok(()),
            missing => Err(FillError::Refused(missing)),
        }
    }

    /// The rest of a member's path without the stripped leading folders.
    fn stripped<'p>(&self, rest: &'p str) -> Option<&'p str> {
        let mut rest = rest;
        for _ in 0..self.portion.strip {
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
    ) -> Result<(), FillError> {
        let name = clean(&member.name);
        if name.split('/').any(|part| part == "..") {
            let what = format!(
                "the member {:?} leaves the archive's directory",
                member.name
            );
            return Err(FillError::refused(what, "an archive without such names"));
        }
        let Some(rest) = self.stripped(rest) else {
            return Ok(());
        };
        let target = if rest.is_empty() && member.kind != MemberKind::Folder {
            self.target_of_file(name.rsplit('/').next().unwrap_or(&name))?
        } else {
            self.target(rest)?
        };
        self.must_be_short(&target)?;
        let attributes = self.member_attributes(member);
        match &member.kind {
            MemberKind::Folder => self.fill.folder(&target, &attributes),
            MemberKind::Symlink(to) => self.fill.symlink(&target, to, &attributes),
            MemberKind::Link(to) => {
                let to = clean(to);
                let rest = picks.rest_of(&to).unwrap_or(to);
                let existing = self.target(self.stripped(&rest).unwrap_or(&rest))?;
                self.fill.link(&target, &existing)
            }
            MemberKind::CharacterDevice(major, minor) => {
                let node = NodeKind::CharacterDevice(*major, *minor);
                self.fill.node(&target, node, &attributes)
            }
            MemberKind::BlockDevice(major, minor) => {
                let node = NodeKind::BlockDevice(*major, *minor);
                self.fill.node(&target, node, &attributes)
            }
            MemberKind::Fifo => self.fill.node(&target, NodeKind::Fifo, &attributes),
            MemberKind::File => {
                let zeros = if member.has_holes {
                    Zeros::Holes
                } else {
                    Zeros::Written
                };
                self.taken.files += 1;
                self.taken.bytes += member.size;
                self.fill
                    .file(&target, &attributes, member.size, content, zeros)
            }
        }
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
            // Anything younger than the epoch was made by today's work.
            modified: Timestamp::at(self.epoch.map_or(time, |epoch| time.min(epoch))),
            xattrs: xattrs.collect(),
        }
    }
}
