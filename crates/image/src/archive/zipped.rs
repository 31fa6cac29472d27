//! zip, through the crate of that name.

use std::io;

use zip::ZipArchive;
use zip::read::read_zipfile_from_stream;
use zip::result::ZipError;

use super::choice::is_taken_in_passing;
use super::{Member, Passing, Sink, Wanted, damaged, fault};
use crate::packed::{EndRecord, FileCursor, MAX_DIRECTORY};
use crate::{ImageStream, StreamFault};

/// More members than an archive with an image has.
const MAX_MEMBERS: usize = 100_000;

pub(super) fn list(file: FileCursor) -> io::Result<Vec<Member>> {
    let mut archive = open(file)?;
    let mut members = Vec::new();
    for index in 0..archive.len().min(MAX_MEMBERS) {
        let entry = archive.by_index_raw(index).map_err(explain)?;
        if entry.encrypted() {
            return Err(fault(StreamFault::Encrypted));
        }
        // Links and devices have modes that say so (Info-ZIP, "external file attributes").
        let kind = entry.unix_mode().map_or(0, |mode| mode & 0o170_000);
        if entry.is_file() && matches!(kind, 0 | 0o100_000) {
            members.push(Member {
                name: entry.name().map_err(explain)?.into_owned(),
                size: Some(entry.size()),
            });
        }
    }
    Ok(members)
}

/// The crate keeps the whole directory in memory.
pub(crate) fn open(file: FileCursor) -> io::Result<ZipArchive<FileCursor>> {
    let end = EndRecord::read(file.packed());
    if end.is_some_and(|end| end.directory_len > MAX_DIRECTORY) {
        let what = format!("a directory of more than {} MiB", MAX_DIRECTORY >> 20);
        return Err(fault(StreamFault::Unsupported { what }));
    }
    ZipArchive::new(file).map_err(explain)
}

pub(super) fn unpack(file: FileCursor, name: &str, out: &mut Sink) -> io::Result<()> {
    let mut archive = open(file)?;
    let mut entry = archive.by_name(name).map_err(explain)?;
    let size = entry.size();
    let wanted = out.copy(&mut entry)?;
    if wanted == Wanted::Yes && out.given != size {
        let detail = format!("{} bytes, where the directory says {size}", out.given);
        return Err(damaged(detail));
    }
    Ok(())
}

pub(super) fn stored_place(file: FileCursor, name: &str) -> Option<(u64, u64)> {
    let mut archive = open(file).ok()?;
    let entry = archive.by_name(name).ok()?;
    let is_stored = entry.compression() == zip::CompressionMethod::Stored && !entry.encrypted();
    let start = entry.data_start()?;
    (is_stored && entry.compressed_size() == entry.size()).then_some((start, entry.size()))
}

pub(super) fn list_passing(stream: ImageStream, wanted: Option<&str>) -> io::Result<Vec<Member>> {
    let mut stream = Passing::new(stream);
    let mut members = Vec::new();
    while let Some(mut entry) = read_zipfile_from_stream(&mut stream).map_err(explain)? {
        let member = Member {
            name: entry.name().map_err(explain)?.into_owned(),
            size: Some(entry.size()),
        };
        let is_file = entry.is_file();
        if is_file && is_taken_in_passing(&member, wanted) {
            // The rest of the archive is not needed; dropping the entry would read it.
            std::mem::forget(entry);
            members.push(member);
            return Ok(members);
        }
        io::copy(&mut entry, &mut io::sink())?;
        drop(entry);
        if is_file && members.len() < MAX_MEMBERS {
            members.push(member);
        }
    }
    Ok(members)
}

pub(super) fn unpack_passing(
    mut stream: ImageStream,
    name: &str,
    out: &mut Sink,
) -> io::Result<()> {
    loop {
        let entry = read_zipfile_from_stream(&mut stream).map_err(explain)?;
        let mut entry = entry.ok_or_else(|| damaged("the member no longer exists"))?;
        if entry.name().map_err(explain)? == name {
            if out.copy(&mut entry)? == Wanted::No {
                // Dropping the entry would unpack the rest for nothing.
                std::mem::forget(entry);
                return Ok(());
            }
            break;
        }
        io::copy(&mut entry, &mut io::sink())?;
    }
    // The layers below check themselves to their ends.
    io::copy(&mut stream, &mut io::sink()).map(drop)
}

fn explain(error: ZipError) -> io::Error {
    match error {
        ZipError::Io(error) => error,
        ZipError::UnsupportedArchive(what) if what == ZipError::PASSWORD_REQUIRED => {
            fault(StreamFault::Encrypted)
        }
        ZipError::UnsupportedArchive(what) => fault(StreamFault::Unsupported { what: what.into() }),
        // The directory and its signature are at the end.
        ZipError::InvalidArchive(what) if what.contains("EOCD") => fault(StreamFault::Truncated),
        error => damaged(error),
    }
}
