//! All members of an archive, one after the other, with their metadata: tar, zip and 7z, in any
//! wrapping, here or on a server.

use std::io::{self, Read};
use std::sync::Arc;

use sevenz_rust2::EntryDecision;
use tar::EntryType;
use zip::ExtraField;

use crate::archive::{open_sevenz, open_zip};
use crate::packed::{FileCursor, PackedBytes, PackedReader};
use crate::source::{open_path, open_url};
use crate::unwrap::decompress;
use crate::{ImageStream, Location, MAX_LAYERS, OpenError, OpenOptions, StreamError, Wrapping};

/// Bytes needed to recognise a file.
const HEAD: usize = 512;
/// The longest target of a symbolic link, in bytes (Linux, `PATH_MAX`).
const MAX_TARGET: u64 = 4096;

/// What a member is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MemberKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link, and its target.
    Symlink(Vec<u8>),
    /// A hard link to an earlier member.
    Link(String),
    /// A character device: major and minor number.
    CharacterDevice(u32, u32),
    /// A block device: major and minor number.
    BlockDevice(u32, u32),
    /// A pipe.
    Fifo,
}

/// The metadata of a member.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MemberFacts {
    /// Its name, exactly as recorded.
    pub name: String,
    /// What it is.
    pub kind: MemberKind,
    /// Permissions; `None` if the archive has none.
    pub mode: Option<u16>,
    /// Numbers of user and group.
    pub owner: (u32, u32),
    /// When it was last changed, in seconds since 1970.
    pub modified: Option<i64>,
    /// Size in bytes.
    pub size: u64,
    /// Whether its zeros should become holes.
    pub has_holes: bool,
    /// Extended attributes.
    pub xattrs: Vec<(String, Vec<u8>)>,
}

/// A file, without the compression around it: an archive, or something else.
pub struct Unpackable {
    packed: Arc<dyn PackedBytes>,
    kind: Option<Wrapping>,
    /// Layers of compression around the archive, outermost first.
    layers: Vec<Wrapping>,
}

/// Why not all members could be visited.
#[derive(Debug)]
pub enum VisitError<E> {
    /// The archive is damaged, or cannot be read.
    Archive(io::Error),
    /// The visitor failed.
    Visitor(E),
}

impl<E> From<io::Error> for VisitError<E> {
    fn from(error: io::Error) -> Self {
        Self::Archive(error)
    }
}

impl Unpackable {
    /// Opens a file or an address. A file on a server is first fetched to an unnamed file.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open(location: &Location, options: &OpenOptions) -> Result<Self, OpenError> {
        let failed = |source: io::Error| OpenError::Stream {
            path: location.to_string().into(),
            source: StreamError::from_io(source),
        };
        let mut packed = match location {
            Location::Path(path) => open_path(path)?.packed,
            Location::Shelf(name) => return Err(OpenError::OnShelf { name: name.clone() }),
            Location::Url(url) => {
                let remote = open_url(location, url, &options.fetch)?.packed;
                options.spool.announce(remote.size()).map_err(failed)?;
                let stream = Box::new(PackedReader::new(remote));
                options.spool.keep(stream).map_err(failed)?
            }
        };
        let (mut kind, mut layers) = look(&packed).map_err(failed)?;
        if !layers.is_empty() && matches!(kind, Some(Wrapping::Zip | Wrapping::SevenZip)) {
            // Their directories are at the end.
            options.spool.announce(None).map_err(failed)?;
            let inner = unwrapped(&packed, &layers).map_err(failed)?;
            packed = options.spool.keep(inner).map_err(failed)?;
            (kind, layers) = (kind, Vec::new());
        }
        Ok(Self {
            packed,
            kind,
            layers,
        })
    }

    /// Whether it has members.
    pub fn is_archive(&self) -> bool {
        self.kind.is_some()
    }

    /// Calls `visit` with each member and its content, in the archive's order.
    ///
    /// # Errors
    /// [`VisitError`].
    pub fn each<E>(
        &self,
        mut visit: impl FnMut(&MemberFacts, &mut dyn Read) -> Result<(), E>,
    ) -> Result<(), VisitError<E>> {
        match self.kind {
            Some(Wrapping::Zip) => each_of_zip(self.cursor()?, &mut visit),
            Some(Wrapping::SevenZip) => each_of_sevenz(self.cursor()?, &mut visit),
            Some(_) => each_of_tar(unwrapped(&self.packed, &self.layers)?, &mut visit),
            None => Err(io::Error::other("it is not an archive").into()),
        }
    }

    fn cursor(&self) -> io::Result<FileCursor> {
        let size = self.packed.size().ok_or(io::ErrorKind::Unsupported)?;
        Ok(FileCursor::new(
            Arc::clone(&self.packed),
            size,
            Arc::default(),
        ))
    }
}

/// What is in a file, and the layers of compression around it.
fn look(packed: &Arc<dyn PackedBytes>) -> io::Result<(Option<Wrapping>, Vec<Wrapping>)> {
    let mut layers = Vec::new();
    for _ in 0..=MAX_LAYERS {
        let mut head = Vec::with_capacity(HEAD);
        let stream = unwrapped(packed, &layers)?;
        stream.take(HEAD as u64).read_to_end(&mut head)?;
        match Wrapping::detect(&head) {
            Some(wrapping) if !wrapping.is_archive() => layers.push(wrapping),
            archive => return Ok((archive, layers)),
        }
    }
    Err(io::Error::other(format!("more than {MAX_LAYERS} layers")))
}

fn unwrapped(packed: &Arc<dyn PackedBytes>, layers: &[Wrapping]) -> io::Result<ImageStream> {
    let mut stream: ImageStream = Box::new(PackedReader::new(Arc::clone(packed)));
    for layer in layers {
        stream = decompress(stream, *layer)?;
    }
    Ok(stream)
}

type Visit<'v, E> = &'v mut dyn FnMut(&MemberFacts, &mut dyn Read) -> Result<(), E>;

fn each_of_tar<E>(stream: ImageStream, visit: Visit<'_, E>) -> Result<(), VisitError<E>> {
    let mut archive = tar::Archive::new(stream);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let Some(mut facts) = tar_facts(&mut entry)? else {
            continue;
        };
        crate::must_be_understood(&mut entry)?;
        let done = match crate::sparse_file(&mut entry)? {
            None => visit(&facts, &mut entry),
            Some(sparse) => {
                facts.size = sparse.size;
                facts.has_holes = true;
                visit(&facts, &mut crate::SparseReader::new(sparse, &mut entry)?)
            }
        };
        done.map_err(VisitError::Visitor)?;
    }
    Ok(())
}

/// `None` for headers that concern only the archive.
fn tar_facts<R: Read>(entry: &mut tar::Entry<'_, R>) -> io::Result<Option<MemberFacts>> {
    let name = crate::member_name(entry)?;
    let mut xattrs = Vec::new();
    for extension in entry.pax_extensions()?.into_iter().flatten() {
        let extension = extension?;
        let key = extension.key().unwrap_or_default();
        if let Some(name) = key.strip_prefix("SCHILY.xattr.") {
            xattrs.push((name.to_owned(), extension.value_bytes().to_vec()));
        }
    }
    let target = entry.link_name_bytes().map(|to| to.into_owned());
    let target = target.unwrap_or_default();
    let size = entry.size();
    let header = entry.header();
    let device = || -> io::Result<(u32, u32)> {
        let number = |found: io::Result<Option<u32>>| Ok::<_, io::Error>(found?.unwrap_or(0));
        Ok((
            number(header.device_major())?,
            number(header.device_minor())?,
        ))
    };
    let kind = match header.entry_type() {
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => MemberKind::File,
        EntryType::Directory => MemberKind::Folder,
        EntryType::Symlink => MemberKind::Symlink(target),
        EntryType::Link => MemberKind::Link(String::from_utf8_lossy(&target).into_owned()),
        EntryType::Char => {
            let (major, minor) = device()?;
            MemberKind::CharacterDevice(major, minor)
        }
        EntryType::Block => {
            let (major, minor) = device()?;
            MemberKind::BlockDevice(major, minor)
        }
        EntryType::Fifo => MemberKind::Fifo,
        _ => return Ok(None),
    };
    let id = |id: u64| u32::try_from(id).unwrap_or(0);
    Ok(Some(MemberFacts {
        name,
        kind,
        mode: Some((header.mode()? & 0o7777) as u16),
        owner: (id(header.uid()?), id(header.gid()?)),
        modified: header
            .mtime()
            .ok()
            .and_then(|time| i64::try_from(time).ok()),
        size,
        has_holes: header.entry_type() == EntryType::GNUSparse,
        xattrs,
    }))
}

/// The kind of a member by its Unix mode (stat(2), `S_IFMT`); `None` for kinds that a file system
/// cannot hold.
fn kind_of_mode(mode: u32, content: &mut dyn Read) -> io::Result<Option<MemberKind>> {
    Ok(match mode & 0o170_000 {
        0 | 0o100_000 => Some(MemberKind::File),
        0o040_000 => Some(MemberKind::Folder),
        0o120_000 => {
            let mut target = Vec::new();
            content.take(MAX_TARGET).read_to_end(&mut target)?;
            Some(MemberKind::Symlink(target))
        }
        0o010_000 => Some(MemberKind::Fifo),
        _ => None,
    })
}

fn each_of_zip<E>(file: FileCursor, visit: Visit<'_, E>) -> Result<(), VisitError<E>> {
    let mut archive = open_zip(file)?;
    for index in 0..archive.len() {
        let broken = |error: zip::result::ZipError| io::Error::other(error.to_string());
        let mut entry = archive.by_index(index).map_err(broken)?;
        let name = entry.name().map_err(broken)?.into_owned();
        let mode = entry.unix_mode();
        let modified = zip_time(&entry);
        let size = entry.size();
        let kind = if entry.is_dir() {
            Some(MemberKind::Folder)
        } else {
            kind_of_mode(mode.unwrap_or(0), &mut entry)?
        };
        let Some(kind) = kind else { continue };
        let facts = MemberFacts {
            name,
            kind,
            mode: mode.map(|mode| (mode & 0o7777) as u16),
            owner: (0, 0),
            modified,
            size,
            has_holes: false,
            xattrs: Vec::new(),
        };
        visit(&facts, &mut entry).map_err(VisitError::Visitor)?;
    }
    Ok(())
}

/// The Unix time, if there is one; otherwise the DOS time, which has no zone, taken as UTC.
fn zip_time<R: Read>(entry: &zip::read::ZipFile<'_, R>) -> Option<i64> {
    let unix = entry.extra_data_fields().find_map(|field| match field {
        ExtraField::ExtendedTimestamp(times) => times.mod_time(),
        _ => None,
    });
    if let Some(seconds) = unix {
        return Some(i64::from(seconds));
    }
    let time = entry.last_modified()?;
    let part = |number: u8| i8::try_from(number).ok();
    let time = jiff::civil::DateTime::new(
        i16::try_from(time.year()).ok()?,
        part(time.month())?,
        part(time.day())?,
        part(time.hour())?,
        part(time.minute())?,
        part(time.second())?,
        0,
    );
    let time = time.ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok()?;
    Some(time.timestamp().as_second())
}

fn each_of_sevenz<E>(file: FileCursor, visit: Visit<'_, E>) -> Result<(), VisitError<E>> {
    /// The upper half of the attributes is a Unix mode.
    const HAS_MODE: u32 = 0x8000;
    let mut reader = open_sevenz(file)?;
    // One thread: several would need more memory than is allowed.
    reader.set_thread_count(1);
    let mut failure = None;
    let each = |entry: &sevenz_rust2::ArchiveEntry, content: &mut dyn Read| {
        let attributes = entry.windows_attributes;
        let has_mode = entry.has_windows_attributes && attributes & HAS_MODE != 0;
        let mode = has_mode.then_some(attributes >> 16);
        let kind = if entry.is_directory {
            Some(MemberKind::Folder)
        } else {
            kind_of_mode(mode.unwrap_or(0), content)?
        };
        let Some(kind) = kind.filter(|_| !entry.is_anti_item) else {
            return Ok(EntryDecision::Continue);
        };
        let time = std::time::SystemTime::from(entry.last_modified_date);
        let time = time.duration_since(std::time::UNIX_EPOCH).ok();
        let time = time.and_then(|time| i64::try_from(time.as_secs()).ok());
        let facts = MemberFacts {
            name: entry.name.clone(),
            kind,
            mode: mode.map(|mode| (mode & 0o7777) as u16),
            owner: (0, 0),
            modified: time.filter(|_| entry.has_last_modified_date),
            size: entry.size,
            has_holes: false,
            xattrs: Vec::new(),
        };
        match visit(&facts, content) {
            Ok(()) => {
                // The member's checksum is checked once all of it has been read.
                io::copy(content, &mut io::sink())?;
                Ok(EntryDecision::Continue)
            }
            Err(error) => {
                failure = Some(error);
                Ok(EntryDecision::Stop)
            }
        }
    };
    let done = reader.for_each_entries_with_decision(each);
    match (failure, done) {
        (Some(error), _) => Err(VisitError::Visitor(error)),
        (None, done) => done.map_err(|e| io::Error::other(e.to_string()).into()),
    }
}
