//! tar, through the crate of that name.

use std::io::{self, Read};

use tar::{Archive, Entry};

use super::choice::is_taken_in_passing;
use super::{FileCursor, Member, Sink, Wanted, damaged};
use crate::ImageStream;

/// More members than an archive with an image has.
const MAX_MEMBERS: usize = 100_000;

/// All members of a tar file; their contents are jumped over.
pub(super) fn list_file(file: FileCursor) -> io::Result<Vec<Member>> {
    let mut archive = Archive::new(file);
    let entries = archive.entries_with_seek()?;
    collect(entries, |_| false)
}

/// The members up to the first that is taken.
pub(super) fn list_passing(stream: ImageStream, wanted: Option<&str>) -> io::Result<Vec<Member>> {
    let mut archive = Archive::new(stream);
    collect(archive.entries()?, |member| {
        is_taken_in_passing(member, wanted)
    })
}

fn collect<'a, R: Read + 'a>(
    entries: impl Iterator<Item = io::Result<Entry<'a, R>>>,
    is_taken: impl Fn(&Member) -> bool,
) -> io::Result<Vec<Member>> {
    let mut members = Vec::new();
    for entry in entries {
        let entry = entry?;
        if !entry.header().entry_type().is_file() {
            continue;
        }
        let member = Member {
            name: name_of(&entry),
            size: Some(entry.size()),
        };
        if is_taken(&member) {
            return Ok(vec![member]);
        }
        members.push(member);
        if members.len() >= MAX_MEMBERS {
            break;
        }
    }
    Ok(members)
}

fn name_of<R: Read>(entry: &Entry<'_, R>) -> String {
    String::from_utf8_lossy(&entry.path_bytes()).into_owned()
}

pub(super) fn unpack(stream: ImageStream, name: &str, out: &mut Sink) -> io::Result<()> {
    let mut archive = Archive::new(stream);
    for entry in archive.entries()? {
        let mut entry = entry?;
        if name_of(&entry) != name {
            continue;
        }
        let size = entry.size();
        let before = out.given;
        if out.copy(&mut entry)? == Wanted::No {
            return Ok(());
        }
        if out.given - before < size {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        drop(entry);
        // The layers below check themselves to their ends.
        return io::copy(&mut archive.into_inner(), &mut io::sink()).map(drop);
    }
    Err(damaged("the member is not there any more"))
}
