//! The keepsake: what was on the medium where marks are put, kept until it is there again.
//!
//! ```text
//! "PINEKEPT"  version u32 = 1, session [16], size of the medium u64
//! entry*:     offset u64, length u32, bytes [length], BLAKE3 of the entry [32]
//! ```
//! All integers are little-endian, offsets and lengths in bytes. Nothing is marked before its entry
//! is on the disk, so an entry that is cut off at the end is of no importance.

use std::fs::{File, OpenOptions};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use pinewrit_disk::{BlockDevice, ByteRange, DiskError};
use rustix::fs::OFlags;

use crate::MeasureError;
use crate::marks::{SECTOR, Session};

const MAGIC: &[u8; 12] = b"PINEKEPT\x01\0\0\0";
const HEAD: u64 = 12 + 16 + 8;
/// The largest entry in bytes.
pub(crate) const PIECE: usize = 1 << 20;

/// What became of the marks of a measurement that was cut off.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recovery {
    /// There were none.
    Nothing,
    /// So many bytes were put back.
    PutBack(u64),
    /// The medium has none of them: it is another one, or has been written since.
    Elsewhere,
}

/// A keepsake that is being filled.
pub(crate) struct Keepsake {
    path: PathBuf,
    file: File,
    session: Session,
}

/// One entry.
struct Entry {
    offset: u64,
    bytes: Vec<u8>,
    /// Its sum is right.
    is_whole: bool,
}

impl Keepsake {
    /// Begins a keepsake, readable only by its owner.
    pub(crate) fn begin(path: &Path, session: Session, size: u64) -> Result<Self, MeasureError> {
        let failed = |e| failed(path, e);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(failed)?;
        }
        let mut options = OpenOptions::new();
        options.read(true).write(true).create_new(true).mode(0o600);
        let mut file = options.open(path).map_err(failed)?;
        let mut head = Vec::from(MAGIC);
        head.extend(session.0);
        head.extend(size.to_le_bytes());
        file.write_all(&head).map_err(failed)?;
        Ok(Self {
            path: path.to_owned(),
            file,
            session,
        })
    }

    /// Adds what is there now. Unless [`Keepsake::sync`] follows, it may not be marked.
    pub(crate) fn keep(&mut self, offset: u64, bytes: &[u8]) -> Result<(), MeasureError> {
        let mut entry = Vec::with_capacity(bytes.len() + 44);
        entry.extend(offset.to_le_bytes());
        entry.extend((bytes.len() as u32).to_le_bytes());
        entry.extend(bytes);
        let sum = blake3::hash(&entry);
        entry.extend(sum.as_bytes());
        let written = self.file.write_all(&entry);
        written.map_err(|e| failed(&self.path, e))
    }

    pub(crate) fn sync(&self) -> Result<(), MeasureError> {
        self.file.sync_all().map_err(|e| failed(&self.path, e))
    }

    /// Puts everything back, the start of the medium last. The keepsake stays.
    pub(crate) fn put_back(&self, device: &dyn BlockDevice) -> Result<PutBack, MeasureError> {
        put_back((&self.path, &self.file), &self.session, device, Which::All)
    }

    /// Removes it: everything is there again.
    pub(crate) fn remove(self) -> Result<(), MeasureError> {
        remove(&self.path)
    }
}

/// What was put back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct PutBack {
    pub(crate) bytes: u64,
    /// What the medium did not take, in bytes.
    pub(crate) refused: u64,
}

/// Which sectors are put back.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Which {
    All,
    /// Whatever else is there by now was written after the measurement.
    Marked,
}

/// Puts back what a measurement that was cut off has left on the medium.
///
/// # Errors
/// The keepsake or the medium failed; the keepsake stays.
pub fn recover(path: &Path, device: &dyn BlockDevice) -> Result<Recovery, MeasureError> {
    let mut options = OpenOptions::new();
    options
        .read(true)
        .custom_flags(OFlags::NOFOLLOW.bits() as i32);
    let mut file = match options.open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Recovery::Nothing),
        Err(error) => return Err(failed(path, error)),
    };
    let mut head = [0; HEAD as usize];
    let is_whole = file.read_exact(&mut head).is_ok() && head[..12] == *MAGIC;
    if !is_whole {
        // It was cut off while it was begun.
        remove(path)?;
        return Ok(Recovery::Nothing);
    }
    let mut session = Session([0; 16]);
    session.0.copy_from_slice(&head[12..28]);
    let size = u64::from_le_bytes(head[28..].try_into().unwrap_or_default());
    if size != device.size() {
        return Ok(Recovery::Elsewhere);
    }
    let mut is_changed = false;
    for entry in entries(path, &file)? {
        let entry = entry?;
        let mut found = vec![0; entry.bytes.len()];
        match device.read_at(entry.offset, &mut found) {
            _ if !entry.is_whole => is_changed |= is_marked(&session, device, &entry),
            Ok(()) => is_changed |= found != entry.bytes,
            Err(_) => is_changed = true,
        }
    }
    if !is_changed {
        remove(path)?;
        return Ok(Recovery::Nothing);
    }
    match put_back((path, &file), &session, device, Which::Marked)? {
        PutBack { bytes: 0, .. } => Ok(Recovery::Elsewhere),
        PutBack { bytes, .. } => {
            remove(path)?;
            Ok(Recovery::PutBack(bytes))
        }
    }
}

fn put_back(
    (path, file): (&Path, &File),
    session: &Session,
    device: &dyn BlockDevice,
    which: Which,
) -> Result<PutBack, MeasureError> {
    let mut put = PutBack::default();
    let mut first = None;
    let mut is_damaged = false;
    for entry in entries(path, file)? {
        let entry = entry?;
        if !entry.is_whole {
            is_damaged |= is_marked(session, device, &entry);
            continue;
        }
        if entry.offset == 0 {
            first = Some(entry);
            continue;
        }
        put_entry(session, device, &entry, (which, &mut put))?;
    }
    device.flush()?;
    if let Some(entry) = first {
        // With its table the medium looks whole again.
        put_entry(session, device, &entry, (which, &mut put))?;
        device.flush()?;
    }
    match is_damaged {
        true => Err(failed(path, io::ErrorKind::InvalidData.into())),
        false => Ok(put),
    }
}

/// Whether an entry that is not whole is missed: the power was cut before it was on the disk, unless
/// its place is marked.
fn is_marked(session: &Session, device: &dyn BlockDevice, entry: &Entry) -> bool {
    let mut found = vec![0; entry.bytes.len()];
    let read = device.read_at(entry.offset, &mut found);
    read.is_ok() && !marked(session, &found).is_empty()
}

/// A place that takes nothing holds up none of the others, unless the medium is gone.
fn put_entry(
    session: &Session,
    device: &dyn BlockDevice,
    entry: &Entry,
    (which, put): (Which, &mut PutBack),
) -> Result<(), MeasureError> {
    let mut found = vec![0; entry.bytes.len()];
    let whole = ByteRange {
        start: 0,
        end: found.len() as u64,
    };
    let parts = match (which, device.read_at(entry.offset, &mut found)) {
        (Which::All, _) => vec![whole],
        (Which::Marked, Ok(())) => marked(session, &found),
        (Which::Marked, Err(error)) => {
            put.refused += whole.len();
            return must_be_there(device, error);
        }
    };
    for part in parts {
        let bytes = &entry.bytes[part.start as usize..part.end as usize];
        match device.write_at(entry.offset + part.start, bytes) {
            Ok(()) => put.bytes += part.len(),
            Err(error) => {
                put.refused += part.len();
                must_be_there(device, error)?;
            }
        }
    }
    Ok(())
}

/// Passes the error on if nothing else can be read either.
fn must_be_there(device: &dyn BlockDevice, error: DiskError) -> Result<(), MeasureError> {
    let mut start = [0; SECTOR];
    device.read_at(0, &mut start).map_err(|_| error.into())
}

/// The parts that are marks, wherever those belong.
fn marked(session: &Session, bytes: &[u8]) -> Vec<ByteRange> {
    let mut parts: Vec<ByteRange> = Vec::new();
    for (sector, start) in bytes.chunks(SECTOR).zip((0..).step_by(SECTOR)) {
        if session.place_of(sector).is_none() {
            continue;
        }
        let end = start + SECTOR as u64;
        match parts.last_mut() {
            Some(last) if last.end == start => last.end = end,
            _ => parts.push(ByteRange { start, end }),
        }
    }
    parts
}

fn entries<'f>(
    path: &'f Path,
    file: &'f File,
) -> Result<impl Iterator<Item = Result<Entry, MeasureError>> + 'f, MeasureError> {
    let mut reader = BufReader::with_capacity(PIECE, file);
    let begun = reader.seek(SeekFrom::Start(HEAD));
    begun.map_err(|e| failed(path, e))?;
    Ok(std::iter::from_fn(move || {
        next_entry(&mut reader)
            .map_err(|e| failed(path, e))
            .transpose()
    }))
}

/// The next entry; what is cut off ends them.
fn next_entry(reader: &mut impl Read) -> io::Result<Option<Entry>> {
    let mut head = [0; 12];
    if !filled(reader, &mut head)? {
        return Ok(None);
    }
    let len = u32::from_le_bytes(head[8..].try_into().unwrap_or_default()) as usize;
    if len > PIECE {
        return Ok(None);
    }
    let mut bytes = vec![0; len];
    let mut sum = [0; 32];
    if !filled(reader, &mut bytes)? || !filled(reader, &mut sum)? {
        return Ok(None);
    }
    let mut hasher = blake3::Hasher::new();
    hasher.update(&head).update(&bytes);
    let offset = u64::from_le_bytes(head[..8].try_into().unwrap_or_default());
    Ok(Some(Entry {
        offset,
        bytes,
        is_whole: hasher.finalize() == sum,
    }))
}

fn filled(reader: &mut impl Read, buffer: &mut [u8]) -> io::Result<bool> {
    match reader.read_exact(buffer) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(false),
        Err(error) => Err(error),
    }
}

fn remove(path: &Path) -> Result<(), MeasureError> {
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed(path, error)),
        _ => Ok(()),
    }
}

fn failed(path: &Path, source: io::Error) -> MeasureError {
    MeasureError::Keepsake {
        path: path.to_owned(),
        source,
    }
}
