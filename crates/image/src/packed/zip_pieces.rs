//! A zip that its packer cut into disks, shown as one file.
//!
//! APPNOTE.TXT 6.3.10, "ZIP File Format Specification": the directory (section 4.3.12) of such an
//! archive counts offsets from the start of each disk. Joined and with a directory that counts
//! from the start of the whole, it is an ordinary zip.

use std::io;
use std::path::Path;
use std::sync::Arc;

use super::{Files, PackedBytes, Part, PiecesFault, read_exact};
use crate::Wrapping;

const ENTRY: &[u8] = b"PK\x01\x02";
const END: &[u8] = b"PK\x05\x06";
const END64: &[u8] = b"PK\x06\x06";
const LOCATOR64: &[u8] = b"PK\x06\x07";
/// End record without a comment, and the longest comment.
const END_LEN: usize = 22;
const MAX_COMMENT: u64 = 65_535;
/// A directory larger than this is not read.
pub(crate) const MAX_DIRECTORY: u64 = 64 << 20;
const NO_16: u64 = 0xffff;
const NO_32: u64 = 0xffff_ffff;

/// The joined disks with a new directory at the end.
#[derive(Debug)]
struct JoinedZip {
    files: Files,
    /// Bytes of the files that are used unchanged.
    kept: u64,
    directory: Vec<u8>,
}

impl PackedBytes for JoinedZip {
    fn size(&self) -> Option<u64> {
        Some(self.kept + self.directory.len() as u64)
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        if offset < self.kept {
            let left = usize::try_from(self.kept - offset).unwrap_or(usize::MAX);
            let wanted = buffer.len().min(left);
            return self.files.read_at(&mut buffer[..wanted], offset);
        }
        let at = usize::try_from(offset - self.kept).unwrap_or(usize::MAX);
        let rest = self.directory.get(at..).unwrap_or_default();
        let len = rest.len().min(buffer.len());
        buffer[..len].copy_from_slice(&rest[..len]);
        Ok(len)
    }

    fn files(&self) -> &[Part] {
        self.files.files()
    }
}

/// Shows the disks in `files`, which are those of the zip `name`, as one zip.
///
/// # Errors
/// Disks are missing, or this is not a zip cut by its packer.
pub(crate) fn join(files: Files, name: &str) -> Result<Arc<dyn PackedBytes>, PiecesFault> {
    let unlike = || PiecesFault::NoZip {
        name: name.to_owned(),
    };
    let end = EndRecord::read(&files).ok_or_else(unlike)?;
    let mut head = [0; 8];
    let has_head = read_exact(&files, &mut head, 0).is_some();
    if !has_head || Wrapping::detect(&head) != Some(Wrapping::Zip) {
        return Err(unlike());
    }
    check_count(&files, &end, name)?;
    Ok(Arc::new(renumbered(files, &end).ok_or_else(unlike)?))
}

/// Checks that the file at `path`, which has no pieces beside it, is not the last disk of a zip.
///
/// # Errors
/// The other disks are missing.
pub(crate) fn check_alone(path: &Path, file: &Files) -> Result<(), PiecesFault> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    match EndRecord::read(file) {
        Some(end) if name.to_lowercase().ends_with(".zip") => check_count(file, &end, &name),
        _ => Ok(()),
    }
}

fn check_count(files: &Files, end: &EndRecord, name: &str) -> Result<(), PiecesFault> {
    let present = files.files().len() as u64;
    if present > end.this_disk {
        return Ok(());
    }
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    let missing = present..=end.this_disk;
    Err(PiecesFault::Missing {
        names: missing.take(8).map(|n| format!("{stem}.z{n:02}")).collect(),
        present: files.files().len(),
    })
}

fn renumbered(files: Files, end: &EndRecord) -> Option<JoinedZip> {
    let directory_at = absolute(&files, end.directory_disk, end.directory_at)?;
    if end.directory_len > MAX_DIRECTORY {
        return None;
    }
    let mut old = vec![0; end.directory_len as usize];
    read_exact(&files, &mut old, directory_at)?;
    let (mut directory, entries) = renumber(&files, &old)?;
    put_end(&mut directory, directory_at, entries);
    Some(JoinedZip {
        files,
        kept: directory_at,
        directory,
    })
}

/// An offset on a disk, as an offset in the whole.
fn absolute(files: &dyn PackedBytes, disk: u64, offset: u64) -> Option<u64> {
    let start = match files.files() {
        // A zip on a server is never cut.
        [] => 0,
        parts => parts.get(usize::try_from(disk).ok()?)?.start,
    };
    start.checked_add(offset)
}

/// The record at the end of a zip: section 4.3.16, or 4.3.14 for zip64.
pub(crate) struct EndRecord {
    /// Number of the disk that it is on; 0 for a zip that is not cut.
    pub(crate) this_disk: u64,
    directory_disk: u64,
    /// Bytes of the directory.
    pub(crate) directory_len: u64,
    directory_at: u64,
}

impl EndRecord {
    /// Finds it; `None` if there is no readable one.
    pub(crate) fn read(files: &dyn PackedBytes) -> Option<Self> {
        let size = files.size()?;
        let len = size.min(END_LEN as u64 + MAX_COMMENT);
        let mut tail = vec![0; len as usize];
        read_exact(files, &mut tail, size - len)?;
        let at = tail
            .windows(END_LEN)
            .rposition(|window| window.starts_with(END))?;
        let record = &tail[at..];
        let found = Self {
            this_disk: number(record, 4, 2)?,
            directory_disk: number(record, 6, 2)?,
            directory_len: number(record, 12, 4)?,
            directory_at: number(record, 16, 4)?,
        };
        let is_zip64 = found.directory_at == NO_32
            || found.directory_len == NO_32
            || found.this_disk == NO_16
            || found.directory_disk == NO_16;
        if !is_zip64 {
            return Some(found);
        }
        let locator = tail.get(at.checked_sub(20)?..at)?;
        if !locator.starts_with(LOCATOR64) {
            return None;
        }
        let record_at = absolute(files, number(locator, 4, 4)?, number(locator, 8, 8)?)?;
        let mut record = [0; 56];
        read_exact(files, &mut record, record_at)?;
        record.starts_with(END64).then_some(())?;
        Some(Self {
            this_disk: number(&record, 16, 4)?,
            directory_disk: number(&record, 20, 4)?,
            directory_len: number(&record, 40, 8)?,
            directory_at: number(&record, 48, 8)?,
        })
    }
}

/// A little-endian number of `len` bytes.
fn number(bytes: &[u8], at: usize, len: usize) -> Option<u64> {
    let bytes = bytes.get(at..at.checked_add(len)?)?;
    let sum = |sum: u64, &byte: &u8| sum << 8 | u64::from(byte);
    Some(bytes.iter().rev().fold(0, sum))
}

/// The directory with offsets in the whole; and how many entries it has.
fn renumber(files: &Files, old: &[u8]) -> Option<(Vec<u8>, u64)> {
    let mut directory = Vec::with_capacity(old.len() + 1024);
    let mut rest = old;
    let mut entries = 0;
    while rest.starts_with(ENTRY) {
        let name = number(rest, 28, 2)? as usize;
        let extra = number(rest, 30, 2)? as usize;
        let comment = number(rest, 32, 2)? as usize;
        let (head, tail) = rest.split_at_checked(46)?;
        let (name, tail) = tail.split_at_checked(name)?;
        let (extra, tail) = tail.split_at_checked(extra)?;
        let (comment, tail) = tail.split_at_checked(comment)?;
        rest = tail;
        entries += 1;

        let sizes = Sizes::read(head, extra)?;
        let offset = absolute(files, sizes.disk, sizes.offset)?;
        let mut head = head.to_vec();
        let mut wide = Vec::new();
        for (value, at) in [(sizes.unpacked, 24), (sizes.packed, 20), (offset, 42)] {
            let short = match value {
                value if value >= NO_32 => {
                    wide.extend(value.to_le_bytes());
                    NO_32 as u32
                }
                value => value as u32,
            };
            head[at..at + 4].copy_from_slice(&short.to_le_bytes());
        }
        head[34..36].copy_from_slice(&0u16.to_le_bytes());
        let mut new_extra = other_fields(extra)?;
        if !wide.is_empty() {
            new_extra.extend(1u16.to_le_bytes());
            new_extra.extend((wide.len() as u16).to_le_bytes());
            new_extra.extend(wide);
        }
        let extra_len = u16::try_from(new_extra.len()).ok()?;
        head[30..32].copy_from_slice(&extra_len.to_le_bytes());
        directory.extend([&head, name, &new_extra, comment].concat());
    }
    Some((directory, entries))
}

/// The extra fields (section 4.5) except that of zip64.
fn other_fields(extra: &[u8]) -> Option<Vec<u8>> {
    let mut kept = Vec::new();
    let mut rest = extra;
    while rest.len() >= 4 {
        let len = 4 + number(rest, 2, 2)? as usize;
        let (field, tail) = rest.split_at_checked(len)?;
        if number(field, 0, 2)? != 1 {
            kept.extend(field);
        }
        rest = tail;
    }
    Some(kept)
}

struct Sizes {
    packed: u64,
    unpacked: u64,
    disk: u64,
    offset: u64,
}

impl Sizes {
    /// The fields of an entry; those that are too large for it are in the extra field of zip64
    /// (section 4.5.3), in this order.
    fn read(head: &[u8], extra: &[u8]) -> Option<Self> {
        let mut wide = zip64_field(extra)?;
        let mut field = |at: usize, len: usize, none: u64, wide_len: usize| {
            let value = number(head, at, len)?;
            if value != none {
                return Some(value);
            }
            let value = number(wide, 0, wide_len)?;
            wide = &wide[wide_len..];
            Some(value)
        };
        Some(Self {
            unpacked: field(24, 4, NO_32, 8)?,
            packed: field(20, 4, NO_32, 8)?,
            offset: field(42, 4, NO_32, 8)?,
            disk: field(34, 2, NO_16, 4)?,
        })
    }
}

fn zip64_field(extra: &[u8]) -> Option<&[u8]> {
    let mut rest = extra;
    while rest.len() >= 4 {
        let len = 4 + number(rest, 2, 2)? as usize;
        let (field, tail) = rest.split_at_checked(len)?;
        if number(field, 0, 2)? == 1 {
            return Some(&field[4..]);
        }
        rest = tail;
    }
    Some(&[])
}

/// Always with zip64 records: they are valid for small archives, too.
fn put_end(directory: &mut Vec<u8>, directory_at: u64, entries: u64) {
    let len = directory.len() as u64;
    let record_at = directory_at + len;
    directory.extend(END64);
    directory.extend(44u64.to_le_bytes());
    directory.extend(45u16.to_le_bytes());
    directory.extend(45u16.to_le_bytes());
    directory.extend([0; 8]);
    for value in [entries, entries, len, directory_at] {
        directory.extend(value.to_le_bytes());
    }
    directory.extend(LOCATOR64);
    directory.extend([0; 4]);
    directory.extend(record_at.to_le_bytes());
    directory.extend(1u32.to_le_bytes());
    directory.extend(END);
    directory.extend([0; 4]);
    directory.extend([0xff; 12]);
    directory.extend([0; 2]);
}
