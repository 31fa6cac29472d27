//! tar, through the crate of that name.

use std::cell::Cell;
use std::io::{self, Read, Seek, SeekFrom};
use std::rc::Rc;

use tar::{Archive, Entry};

use super::choice::is_taken_in_passing;
use super::{Member, Passing, Sink, Wanted, damaged, fault};
use crate::packed::FileCursor;
use crate::{ImageStream, SparseReader, StreamFault, member_name, must_be_understood, sparse_file};

/// More members than an archive with an image has.
const MAX_MEMBERS: usize = 100_000;

/// The most bytes between two members' contents: headers, long names, and whatever else is kept in
/// memory.
const MAX_HEADS: u64 = 4 << 20;

/// All members of a tar file; their contents are skipped.
pub(super) fn list_file(file: FileCursor) -> io::Result<Vec<Member>> {
    let (file, budget) = Metered::new(file);
    let mut archive = Archive::new(file);
    let mut members = Vec::new();
    budget.allow(MAX_HEADS);
    for entry in archive.entries_with_seek()? {
        members.extend(member_of(&mut entry?)?);
        if members.len() >= MAX_MEMBERS {
            break;
        }
        budget.allow(MAX_HEADS);
    }
    Ok(members)
}

pub(super) fn stored_place(file: FileCursor, name: &str) -> Option<(u64, u64)> {
    let (file, budget) = Metered::new(file);
    let mut archive = Archive::new(file);
    budget.allow(MAX_HEADS);
    for entry in archive.entries_with_seek().ok()? {
        let mut entry = entry.ok()?;
        let is_plain = entry.header().entry_type() == tar::EntryType::Regular;
        if member_name(&mut entry).ok()? == name {
            let is_whole = sparse_file(&mut entry).ok()?.is_none();
            must_be_understood(&mut entry).ok()?;
            let place = (entry.raw_file_position(), entry.size());
            return (is_plain && is_whole).then_some(place);
        }
        budget.allow(MAX_HEADS);
    }
    None
}

/// The members up to the first that is taken.
pub(super) fn list_passing(stream: ImageStream, wanted: Option<&str>) -> io::Result<Vec<Member>> {
    let (stream, budget) = Metered::new(Passing::new(stream));
    let mut archive = Archive::new(stream);
    let mut members = Vec::new();
    budget.allow(MAX_HEADS);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let member = member_of(&mut entry)?;
        let is_taken = member
            .as_ref()
            .is_some_and(|member| is_taken_in_passing(member, wanted));
        members.extend(member);
        if is_taken || members.len() >= MAX_MEMBERS {
            break;
        }
        budget.allow(u64::MAX);
        io::copy(&mut entry, &mut io::sink())?;
        budget.allow(MAX_HEADS);
    }
    Ok(members)
}

/// A file with its full size, even if it is stored sparse.
fn member_of<R: Read>(entry: &mut Entry<'_, R>) -> io::Result<Option<Member>> {
    use tar::EntryType::{Continuous, GNUSparse, Regular};
    if !matches!(
        entry.header().entry_type(),
        Regular | Continuous | GNUSparse
    ) {
        return Ok(None);
    }
    let sparse = sparse_file(entry)?;
    Ok(Some(Member {
        name: member_name(entry)?,
        size: Some(sparse.map_or(entry.size(), |sparse| sparse.size)),
    }))
}

pub(super) fn unpack(stream: ImageStream, name: &str, out: &mut Sink) -> io::Result<()> {
    let (stream, budget) = Metered::new(stream);
    let mut archive = Archive::new(stream);
    budget.allow(MAX_HEADS);
    for entry in archive.entries()? {
        let mut entry = entry?;
        budget.allow(u64::MAX);
        if member_name(&mut entry)? != name {
            io::copy(&mut entry, &mut io::sink())?;
            budget.allow(MAX_HEADS);
            continue;
        }
        must_be_understood(&mut entry).map_err(|error| match error.kind() {
            io::ErrorKind::Unsupported => fault(StreamFault::Unsupported {
                what: error.to_string(),
            }),
            _ => error,
        })?;
        let before = out.given;
        let (size, wanted) = match sparse_file(&mut entry)? {
            None => (entry.size(), out.copy(&mut entry)?),
            Some(sparse) => {
                let size = sparse.size;
                (size, out.copy(&mut SparseReader::new(sparse, &mut entry)?)?)
            }
        };
        if wanted == Wanted::No {
            return Ok(());
        }
        if out.given - before < size {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        drop(entry);
        // The layers below check themselves to their ends.
        return io::copy(&mut archive.into_inner(), &mut io::sink()).map(drop);
    }
    Err(damaged("the member no longer exists"))
}

/// A reader with a limit, because the crate keeps headers of any length in memory.
struct Metered<R> {
    inner: R,
    budget: Budget,
}

/// How many bytes may still be read.
#[derive(Clone)]
struct Budget(Rc<Cell<u64>>);

impl Budget {
    fn allow(&self, bytes: u64) {
        self.0.set(bytes);
    }
}

impl<R> Metered<R> {
    fn new(inner: R) -> (Self, Budget) {
        let budget = Budget(Rc::default());
        let metered = Self {
            inner,
            budget: budget.clone(),
        };
        (metered, budget)
    }
}

impl<R: Read> Read for Metered<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = self.budget.0.get();
        if left == 0 {
            return Err(damaged("a member header of several megabytes"));
        }
        let len = self.inner.read(buffer)?;
        self.budget.0.set(left.saturating_sub(len as u64));
        Ok(len)
    }
}

impl<R: Seek> Seek for Metered<R> {
    fn seek(&mut self, target: SeekFrom) -> io::Result<u64> {
        self.inner.seek(target)
    }
}
