//! 7z, through the crate `sevenz-rust2`.

use std::io;

use sevenz_rust2::{ArchiveReader, EntryDecision, Error, Password};

use super::{Member, Sink, Wanted, damaged, fault};
use crate::StreamFault;
use crate::packed::FileCursor;

/// Memory for headers and each decoder, in KiB.
const MEMORY_KIB: usize = 160 << 10;

pub(super) fn list(file: FileCursor) -> io::Result<Vec<Member>> {
    let reader = open(file)?;
    let files = reader.archive().files.iter();
    let members = files.filter(|entry| {
        entry.has_stream && !entry.is_directory && !entry.is_anti_item && is_plain(entry)
    });
    Ok(members
        .map(|entry| Member {
            name: entry.name.clone(),
            size: Some(entry.size),
        })
        .collect())
}

/// Links and devices have a mode in the upper half of the attributes, or are reparse points.
fn is_plain(entry: &sevenz_rust2::ArchiveEntry) -> bool {
    const HAS_MODE: u32 = 0x8000;
    const REPARSE_POINT: u32 = 0x400;
    let attributes = entry.windows_attributes;
    let kind = attributes >> 16 & 0o170_000;
    !entry.has_windows_attributes
        || attributes & REPARSE_POINT == 0
            && (attributes & HAS_MODE == 0 || matches!(kind, 0 | 0o100_000))
}

pub(super) fn unpack(file: FileCursor, name: &str, out: &mut Sink) -> io::Result<()> {
    let mut reader = open(file)?;
    // One thread: several would need more memory than is allowed.
    reader.set_thread_count(1);
    let mut found = false;
    let each = |entry: &sevenz_rust2::ArchiveEntry, content: &mut dyn io::Read| {
        if found {
            return Ok(EntryDecision::Stop);
        }
        if entry.name == name {
            found = true;
            if out.copy(content)? == Wanted::No {
                return Ok(EntryDecision::Stop);
            }
        }
        // Reading on lets the reader check the member's checksum.
        Ok(EntryDecision::Continue)
    };
    reader
        .for_each_entries_with_decision(each)
        .map_err(explain)?;
    if found {
        Ok(())
    } else {
        Err(damaged("the member no longer exists"))
    }
}

pub(crate) fn open(file: FileCursor) -> io::Result<ArchiveReader<FileCursor>> {
    ArchiveReader::new_with_memory_limit(file, Password::empty(), MEMORY_KIB).map_err(explain)
}

fn explain(error: Error) -> io::Error {
    match error {
        Error::Io(error, _) => error,
        Error::PasswordRequired | Error::MaybeBadPassword(_) => fault(StreamFault::Encrypted),
        Error::UnsupportedCompressionMethod(method) if method.contains("AES") => {
            fault(StreamFault::Encrypted)
        }
        Error::UnsupportedCompressionMethod(what) => fault(StreamFault::Unsupported { what }),
        Error::Unsupported(what) => fault(StreamFault::Unsupported { what: what.into() }),
        Error::MaxMemLimited { .. } => fault(StreamFault::Memory {
            limit_mib: MEMORY_KIB as u64 >> 10,
        }),
        error => damaged(error),
    }
}
