//! Files inside the file systems of a medium, without mounting: one interface for FAT and ext2/3/4.

mod check;
mod edit;
mod error;
mod facts;
pub mod fill;
mod open;
mod place;
mod text;
mod unpack;
mod walk;
mod zone;

use std::io::{Read, Write};

use jiff::tz::TimeZone;
use pinewrit_disk::{BlockDevice, Overlay};
use pinewrit_ext4::{Attributes, Editor, ExtError, FileKind, Timestamp, Tree, Volume, Zeros};
use pinewrit_fat as fat;

pub use check::{Difference, Expected, compare, expected_of, read_expected};
pub use edit::EditTextError;
pub use error::FilesError;
pub use facts::{FileFacts, Kind};
use facts::{ext_facts, fat_facts, fat_hand_on, hand_on};
pub use open::{FilesystemOf, FindError, find_place, open_to_change, open_to_read};
pub use open::{filesystems, first_unseen};
pub use place::{Place, PlaceError, Wanted};
pub use text::{Edit, EditFault, Spot, TextKind, apply as edit_text, apply_as as edit_text_as};
pub use unpack::{Overwrite, Standing, UnpackOptions, UnpackReport, Unpacked, unpack};
pub use walk::{Node, walk};
pub use zone::time_zone;

/// Owner, rights and time for a file, if the file system has them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rights {
    /// Permission bits.
    pub mode: u16,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
}

impl Rights {
    /// Attributes of something that belongs to root.
    pub fn root(mode: u16) -> Self {
        Self {
            mode,
            uid: 0,
            gid: 0,
        }
    }

    /// Attributes of something that belongs to a user.
    pub fn of(mode: u16, (uid, gid): (u32, u32)) -> Self {
        Self { mode, uid, gid }
    }
}

/// An open file system of a medium. Paths begin with `/`; changes are on the device once
/// [`Files::close`] has returned.
pub struct Files<'a> {
    inner: Inner<'a>,
    /// The time of changes; `None` if opened read-only.
    now: Timestamp,
}

enum Inner<'a> {
    FatRead(Box<fat::Volume<&'a dyn BlockDevice>>),
    Fat(Box<fat::Editor<&'a dyn BlockDevice>>),
    ExtRead(Box<Volume<&'a dyn BlockDevice>>),
    /// One that was cut off, as it is when that is finished.
    ExtSettled(Box<Volume<Overlay<&'a dyn BlockDevice>>>),
    Ext(Box<Editor<&'a dyn BlockDevice>>),
}

type Done = Result<(), FilesError>;

/// The parent of a path; empty for the root.
pub fn above(path: &str) -> &str {
    let path = path.trim_end_matches('/');
    path.rsplit_once('/').map_or("", |(above, _)| above)
}

/// A path below a folder.
pub fn join(folder: &str, name: &str) -> String {
    format!("{}/{name}", folder.trim_end_matches('/'))
}

impl<'a> Files<'a> {
    /// Interprets the times of a FAT as local time in this zone instead of UTC.
    #[must_use]
    pub fn with_zone(self, zone: &TimeZone) -> Self {
        let inner = match self.inner {
            Inner::FatRead(volume) => Inner::FatRead(Box::new(volume.with_zone(zone.clone()))),
            Inner::Fat(editor) => Inner::Fat(Box::new(editor.with_zone(zone.clone()))),
            other => other,
        };
        Self { inner, ..self }
    }

    /// The time recorded for changes.
    pub fn now(&self) -> Timestamp {
        self.now
    }

    /// Whether permissions and owners are stored.
    pub fn keeps_rights(&self) -> bool {
        self.fat().is_none()
    }

    /// The files of a FAT.
    fn fat(&self) -> Option<fat::Tree<'_>> {
        match &self.inner {
            Inner::FatRead(volume) => Some(volume.tree()),
            Inner::Fat(editor) => Some(editor.tree()),
            _ => None,
        }
    }

    fn tree(&self) -> Option<Tree<'_>> {
        match &self.inner {
            Inner::ExtRead(volume) => Some(volume.tree()),
            Inner::ExtSettled(volume) => Some(volume.tree()),
            Inner::Ext(editor) => Some(editor.tree()),
            _ => None,
        }
    }

    fn editor(&mut self) -> Result<&mut Editor<&'a dyn BlockDevice>, FilesError> {
        match &mut self.inner {
            Inner::Ext(editor) => Ok(editor),
            _ => Err(FilesError::ReadOnly),
        }
    }

    /// What is at a path; `None` if nothing is there. A link at the end is not followed.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn facts(&self, path: &str) -> Result<Option<FileFacts>, FilesError> {
        let Some(tree) = self.tree() else {
            return self.fat_facts(path);
        };
        let number = match tree.find(path.as_bytes()) {
            Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => return Ok(None),
            number => number?,
        };
        let found = tree.metadata(number)?;
        Ok(Some(ext_facts(tree, number, &found)?))
    }

    fn fat_node(&self, path: &str) -> Result<Option<fat::Node>, FilesError> {
        match self.fat().map(|tree| tree.find(path)) {
            None | Some(Err(fat::FatError::NotFound(_))) => Ok(None),
            Some(found) => Ok(Some(found?)),
        }
    }

    fn fat_facts(&self, path: &str) -> Result<Option<FileFacts>, FilesError> {
        Ok(self.fat_node(path)?.as_ref().map(fat_facts))
    }

    /// Whether a file or folder exists, following links.
    ///
    /// # Errors
    /// [`FilesError`]: it is unknown.
    pub fn has(&self, path: &str) -> Result<bool, FilesError> {
        let Some(tree) = self.tree() else {
            return Ok(self.fat_facts(path)?.is_some());
        };
        match tree.find_target(path.as_bytes()) {
            Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => Ok(false),
            number => Ok(number.map(|_| true)?),
        }
    }

    /// Whether anything has this name, without following links.
    ///
    /// # Errors
    /// [`FilesError`]: it is unknown.
    pub fn has_name(&self, path: &str) -> Result<bool, FilesError> {
        Ok(self.facts(path)?.is_some())
    }

    /// The names in a folder, sorted; `None` if there is no such folder.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn names(&self, folder: &str) -> Result<Option<Vec<String>>, FilesError> {
        let mut names = match (self.fat(), self.tree()) {
            (Some(tree), _) => match self.fat_node(folder)?.filter(|node| node.is_folder) {
                None => return Ok(None),
                Some(node) => {
                    let all = tree.list(&node)?.into_iter();
                    all.map(|node| node.name).collect::<Vec<_>>()
                }
            },
            (_, Some(tree)) => {
                let number = match tree.find_target(folder.as_bytes()) {
                    Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => return Ok(None),
                    number => number?,
                };
                let listed = match tree.list(number) {
                    Err(ExtError::NotDirectory(_)) => return Ok(None),
                    listed => listed?,
                };
                let name = |raw: &[u8]| String::from_utf8_lossy(raw).into_owned();
                listed.iter().map(|entry| name(&entry.name)).collect()
            }
            _ => Vec::new(),
        };
        names.sort();
        Ok(Some(names))
    }

    /// The content of a file of at most `limit` bytes, links followed; `None` if there is none.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn read(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>, FilesError> {
        let too_large = |size| FilesError::TooLarge {
            path: path.to_owned(),
            size,
            limit,
        };
        let mut content = Vec::new();
        match self.size_of(path)? {
            None => return Ok(None),
            Some(size) if size > limit => return Err(too_large(size)),
            Some(_) => self.read_to(path, &mut content)?,
        }
        Ok(Some(content))
    }

    /// The content of a file, unless it is larger than `limit`; `None` for everything else.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn small(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>, FilesError> {
        match self.read(path, limit) {
            Err(FilesError::TooLarge { .. }) => Ok(None),
            read => read,
        }
    }

    /// Size of a file, links followed; `None` if there is none, or it is not a file.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn size_of(&self, path: &str) -> Result<Option<u64>, FilesError> {
        let Some(tree) = self.tree() else {
            let facts = self.fat_facts(path)?;
            return Ok(facts
                .filter(|facts| facts.kind == Kind::File)
                .map(|facts| facts.size));
        };
        let number = match tree.find_target(path.as_bytes()) {
            Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => return Ok(None),
            number => number?,
        };
        let found = tree.metadata(number)?;
        Ok((found.kind == FileKind::Regular).then_some(found.size))
    }

    /// A small text; `None` if there is no such file.
    ///
    /// # Errors
    /// [`FilesError::NotText`], and others.
    pub fn text(&self, path: &str) -> Result<Option<String>, FilesError> {
        let content = self.read(path, MAX_TEXT)?;
        let text = content.map(String::from_utf8).transpose();
        text.map_err(|_| FilesError::NotText(path.to_owned()))
    }

    /// Owner and permissions of a file; `None` if there is none, or it has none.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn rights(&self, path: &str) -> Result<Option<Rights>, FilesError> {
        let facts = self.facts(path)?.filter(|facts| facts.kind == Kind::File);
        Ok(facts.and_then(|facts| Some(Rights::of(facts.mode?, facts.owner?))))
    }

    /// Passes on a file's content, following links.
    ///
    /// # Errors
    /// [`FilesError::NotFound`], or others.
    pub fn read_to(&self, path: &str, taker: &mut dyn Write) -> Done {
        let Some(tree) = self.tree() else {
            let (Some(tree), Some(node)) = (self.fat(), self.fat_node(path)?) else {
                return Err(FilesError::NotFound(path.to_owned()));
            };
            return if node.is_folder {
                Err(FilesError::IsFolder(path.to_owned()))
            } else {
                fat_hand_on(tree, &node, path, taker)
            };
        };
        let number = match tree.find_target(path.as_bytes()) {
            Err(ExtError::NotFound(_)) => return Err(FilesError::NotFound(path.to_owned())),
            number => number?,
        };
        if tree.metadata(number)?.kind == FileKind::Directory {
            return Err(FilesError::IsFolder(path.to_owned()));
        }
        hand_on(tree, number, path, taker)
    }

    /// Creates a file, or replaces its content, rights and owner. A link with that name is
    /// replaced.
    ///
    /// # Errors
    /// [`FilesError`]; on ext, the file is then unchanged.
    pub fn put(&mut self, path: &str, rights: Rights, content: &[u8]) -> Done {
        self.put_from(path, rights, content.len() as u64, &mut &*content)
    }

    /// As [`Files::put`], with `size` bytes from a reader.
    ///
    /// # Errors
    /// As [`Files::put`].
    pub fn put_from(
        &mut self,
        path: &str,
        rights: Rights,
        size: u64,
        content: &mut dyn Read,
    ) -> Done {
        let attributes = rights.attributes(self.now);
        self.put_with(path, &attributes, size, content)
    }

    /// Replaces a file's content in place; all its names, its owner, rights and extended attributes
    /// stay.
    ///
    /// # Errors
    /// [`FilesError::NotFound`], and others.
    pub fn rewrite(&mut self, path: &str, content: &[u8]) -> Done {
        let attributes = self.own_attributes(path)?;
        let (size, mut content) = (content.len() as u64, content);
        if self.fat().is_some() {
            return self.put_with(path, &attributes, size, &mut content);
        }
        let (editor, path) = (self.editor()?, path.as_bytes());
        Ok(editor.write_file(path, &attributes, size, &mut content, Zeros::Written)?)
    }

    /// The attributes of a file, with the current time; FAT has none.
    fn own_attributes(&self, path: &str) -> Result<Attributes, FilesError> {
        let Some(tree) = self.tree() else {
            return Ok(Rights::root(0o644).attributes(self.now));
        };
        let number = tree.find_target(path.as_bytes())?;
        let found = tree.metadata(number)?;
        Ok(Attributes {
            xattrs: tree.xattrs(number)?,
            ..Rights::of(found.mode, (found.uid, found.gid)).attributes(self.now)
        })
    }

    fn put_with(
        &mut self,
        path: &str,
        attributes: &Attributes,
        size: u64,
        content: &mut dyn Read,
    ) -> Done {
        if let Inner::Fat(editor) = &mut self.inner {
            let now = self.now.seconds;
            return Ok(editor.write_file(path, size, content, now, fat::Placement::Usual)?);
        }
        let kind = self.facts(path)?.map(|facts| facts.kind);
        let editor = self.editor()?;
        // Only this name gets new content, not all names of the same file.
        let is_kept = match kind {
            Some(Kind::Link | Kind::Special) => false,
            Some(Kind::File) => editor.names_of_file(path.as_bytes())? == Some(1),
            Some(Kind::Folder) | None => true,
        };
        if !is_kept {
            editor.remove(path.as_bytes())?;
        }
        Ok(editor.write_file(path.as_bytes(), attributes, size, content, Zeros::Written)?)
    }

    /// Creates a file of `size` bytes with all its blocks, of which only the first are written:
    /// `head`. Only ext has such files.
    ///
    /// # Errors
    /// [`FilesError`], with [`pinewrit_ext4::EditError::NoSpace`] inside if there is no room.
    pub fn reserve(&mut self, path: &str, rights: Rights, size: u64, head: &[u8]) -> Done {
        let attributes = rights.attributes(self.now);
        Ok(self
            .editor()?
            .reserve_file(path.as_bytes(), &attributes, size, head)?)
    }

    /// Free bytes, counted while changes are made; only on ext.
    ///
    /// # Errors
    /// [`FilesError::ReadOnly`].
    pub fn free_bytes(&mut self) -> Result<u64, FilesError> {
        Ok(self.editor()?.free_bytes())
    }

    /// Creates a folder and its parents. An existing one is left unchanged.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn make_folders(&mut self, path: &str, rights: Rights) -> Done {
        if path.trim_matches('/').is_empty() || self.has(path)? {
            return Ok(());
        }
        self.make_folders(above(path), rights)?;
        let attributes = rights.attributes(self.now);
        match &mut self.inner {
            Inner::Fat(editor) => Ok(editor.make_folder(path, self.now.seconds)?),
            _ => Ok(self.editor()?.make_folder(path.as_bytes(), &attributes)?),
        }
    }

    /// Moves what is at one path to another in the same file system.
    ///
    /// # Errors
    /// [`FilesError::NotFound`]; something already exists there.
    pub fn rename(&mut self, path: &str, to: &str) -> Done {
        if !self.has_name(path)? {
            return Err(FilesError::NotFound(path.to_owned()));
        }
        match &mut self.inner {
            Inner::Fat(editor) => Ok(editor.rename(path, to)?),
            _ => Ok(self.editor()?.rename(path.as_bytes(), to.as_bytes())?),
        }
    }

    /// Creates a symbolic link, in place of anything but a folder.
    ///
    /// # Errors
    /// [`FilesError::NotOnFat`], and others.
    pub fn link(&mut self, path: &str, target: &str) -> Done {
        if self.fat().is_some() {
            return Err(FilesError::NotOnFat {
                path: path.to_owned(),
                what: "symbolic links",
            });
        }
        let is_there = self.has_name(path)?;
        let attributes = Rights::root(0o777).attributes(self.now);
        let editor = self.editor()?;
        if is_there {
            editor.remove(path.as_bytes())?;
        }
        Ok(editor.make_symlink(path.as_bytes(), target.as_bytes(), &attributes)?)
    }

    /// Changes rights and owner of what is at a path. Does nothing on FAT.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn set_rights(&mut self, path: &str, rights: Rights) -> Done {
        let own = rights.attributes(self.now);
        let Inner::Ext(editor) = &mut self.inner else {
            return Ok(());
        };
        let tree = editor.tree();
        let number = tree.find(path.as_bytes())?;
        let found = tree.metadata(number)?;
        if (found.mode, found.uid, found.gid) == (rights.mode, rights.uid, rights.gid) {
            return Ok(());
        }
        let attributes = Attributes {
            modified: found.modified,
            xattrs: tree.xattrs(number)?,
            ..own
        };
        Ok(editor.set_attributes(path.as_bytes(), &attributes)?)
    }

    /// Removes a file or link, or an empty folder.
    ///
    /// # Errors
    /// [`FilesError::NotFound`], and others.
    pub fn remove(&mut self, path: &str) -> Done {
        if !self.has_name(path)? {
            return Err(FilesError::NotFound(path.to_owned()));
        }
        match &mut self.inner {
            Inner::Fat(editor) => Ok(editor.remove(path)?),
            _ => Ok(self.editor()?.remove(path.as_bytes())?),
        }
    }

    /// Removes what is at a path, with everything below it.
    ///
    /// # Errors
    /// As [`Files::remove`].
    pub fn remove_all(&mut self, path: &str) -> Done {
        let facts = self.facts(path)?;
        if facts.is_some_and(|facts| facts.kind == Kind::Folder) && path.len() < MAX_PATH {
            for name in self.names(path)?.unwrap_or_default() {
                self.remove_all(&join(path, &name))?;
            }
        }
        self.remove(path)
    }

    /// Gives the file system a new identifier from random bytes.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn set_identifier(&mut self, random: [u8; 16]) -> Done {
        match &mut self.inner {
            Inner::Fat(editor) => {
                editor.set_id([random[0], random[1], random[2], random[3]]);
                Ok(())
            }
            _ => Ok(self.editor()?.set_uuid(random)?),
        }
    }

    /// Ends the work: all changes are then on the device.
    ///
    /// # Errors
    /// [`FilesError`].
    pub fn close(self) -> Done {
        match self.inner {
            Inner::FatRead(_) | Inner::ExtRead(_) | Inner::ExtSettled(_) => Ok(()),
            Inner::Fat(mut editor) => Ok(editor.commit()?),
            Inner::Ext(editor) => Ok(editor.commit().map(drop)?),
        }
    }
}

impl Rights {
    fn attributes(self, now: Timestamp) -> Attributes {
        Attributes {
            mode: self.mode,
            uid: self.uid,
            gid: self.gid,
            modified: Timestamp::at(now.seconds),
            xattrs: Vec::new(),
        }
    }
}

/// A larger file is not a text that anyone edits.
pub const MAX_TEXT: u64 = 1 << 20;
/// The kernel allows no longer paths either.
const MAX_PATH: usize = 4096;
