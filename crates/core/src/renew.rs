//! New identifiers for a medium: for its table, its partitions and its file systems, and in every
//! text on it that refers to them.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_table::{Ids, SchemeKind, TableEdit, TableError};
use pinewrit_volume::check::fault;
use pinewrit_volume::files::{Files, FilesError, Kind, join, open_to_change};
use pinewrit_volume::format::set_swap_uuid;
use pinewrit_volume::{
    ErrorFlags, FilesystemFacts, FilesystemKind, Gathered, HiddenFlags, Timestamp, probe,
    recover_all,
};
use schemars::JsonSchema;
use serde::Serialize;

use crate::inspect::{Inspection, inspect};

/// An identifier that was replaced.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Renewal {
    /// The partition; `None` for the medium's own.
    pub partition: Option<u32>,
    /// What it identifies: `disk`, `partition`, or the kind of a file system.
    pub what: &'static str,
    /// The former one.
    pub old: String,
    /// The new one.
    pub new: String,
}

/// A file in which identifiers were replaced.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Followed {
    /// Its partition.
    pub partition: u32,
    /// Its path.
    pub path: String,
    /// How many were replaced.
    pub count: usize,
}

/// What was renewed, and the references that were updated.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RenewReport {
    /// The identifiers.
    pub renewals: Vec<Renewal>,
    /// The updated files.
    pub followed: Vec<Followed>,
    /// Partitions whose file system keeps its identifier, and why; 0 without a table.
    pub kept: Vec<(u32, String)>,
    /// Partitions and paths of files that name an old identifier, but cannot be changed.
    pub elsewhere: Vec<(u32, String)>,
}

/// Why identifiers were not renewed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RenewError {
    /// The table cannot be changed.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A file system could not be read or changed.
    #[error(transparent)]
    Files(FilesError),
    /// The change would leave the file system inconsistent.
    #[error("the file system would be inconsistent: {0}")]
    Unsound(String),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

impl From<FilesError> for RenewError {
    fn from(error: FilesError) -> Self {
        match error.into_disk() {
            Ok(error) => Self::Disk(error),
            Err(error) => Self::Files(error),
        }
    }
}

/// Folders whose files may refer to identifiers: command lines, boot menus and their settings. In
/// `/etc`, only two files.
const FAT_FOLDERS: [&str; 11] = [
    "",
    "/boot",
    "/boot/extlinux",
    "/boot/grub",
    "/extlinux",
    "/grub",
    "/loader",
    "/loader/entries",
    "/EFI",
    "/EFI/BOOT",
    "/overlays",
];
const EXT_FOLDERS: [&str; 9] = [
    "/boot",
    "/boot/extlinux",
    "/boot/grub",
    "/boot/loader/entries",
    "/extlinux",
    "/loader/entries",
    "/etc/default",
    "/etc/kernel",
    "/etc/initramfs-tools/conf.d",
];
const EXT_FILES: [&str; 2] = ["/etc/fstab", "/etc/crypttab"];
/// Larger files are not settings.
const MAX_TEXT: u64 = 64 << 10;
/// Larger files are not searched for identifiers either.
const MAX_SEARCHED: u64 = 1 << 20;

/// Works out new identifiers for a whole medium, and the files to update.
///
/// # Errors
/// [`RenewError`].
pub fn prepare<'m>(
    medium: &'m dyn BlockDevice,
    ids: Ids<'_>,
    flags: ErrorFlags,
    now: Timestamp,
) -> Result<Gathered<'m, RenewReport>, RenewError> {
    // Without a table there is nothing here to give an identifier to.
    TableEdit::read(medium)?;
    let mut recovered = Vec::new();
    let gathered = Gathered::whole(medium, |device| {
        recovered = recover_all(device, now)?;
        let hidden = HiddenFlags::of(device, flags)?;
        let report = renew(device, ids, now)?;
        hidden.give_back(device)?;
        Ok::<_, RenewError>(report)
    });
    Ok(gathered?.with_recovered(recovered))
}

/// Gives a device new identifiers, as part of a larger change: those of its table if it has one,
/// and of its file systems. Texts that name them follow.
///
/// # Errors
/// [`RenewError`].
pub fn renew(
    device: &dyn BlockDevice,
    ids: Ids<'_>,
    now: Timestamp,
) -> Result<RenewReport, RenewError> {
    let before = inspect(device, Some(device.size()))?;
    let mut report = RenewReport::default();
    match TableEdit::read(device) {
        Ok(table) => renew_table(device, table, &mut report, ids)?,
        Err(TableError::NoTable) => {}
        Err(error) => return Err(error.into()),
    }
    let places = places(&before, device.size());
    for (number, range, facts) in &places {
        let window = Window::new(device, *range);
        match renew_filesystem(&window, facts, ids, now)? {
            Renewed::New(old, new) => report.renewals.push(Renewal {
                partition: *number,
                what: facts.kind.word(),
                old,
                new,
            }),
            Renewed::Kept(why) => report.kept.push((number.unwrap_or(0), why)),
        }
    }
    follow(device, &places, &mut report, now)?;
    Ok::<_, RenewError>(report)
}

/// The file systems of a medium: their partitions, ranges and facts.
type FoundAt = (Option<u32>, ByteRange, FilesystemFacts);

fn places(found: &Inspection, size: u64) -> Vec<FoundAt> {
    let inside = found.partitions.iter().filter_map(|partition| {
        let facts = partition.filesystem.clone()?;
        Some((Some(partition.number), partition.range(), facts))
    });
    let whole = found
        .filesystem
        .iter()
        .filter(|_| found.partitions.is_empty());
    let whole = whole.map(|facts| {
        let everything = ByteRange {
            start: 0,
            end: size,
        };
        (None, everything, facts.clone())
    });
    inside.chain(whole).collect()
}

/// The name by which a kernel finds each partition.
fn partition_ids(table: &TableEdit) -> Vec<(u32, String)> {
    let id = |slot: &pinewrit_table::Slot| match table.scheme() {
        SchemeKind::Mbr => format!("{:08x}-{:02x}", table.signature(), slot.number),
        SchemeKind::Gpt => slot.guid.to_string(),
    };
    let slots = table.partitions().iter();
    slots.map(|slot| (slot.number, id(slot))).collect()
}

fn disk_id(table: &TableEdit) -> String {
    match table.scheme() {
        SchemeKind::Mbr => format!("{:08x}", table.signature()),
        SchemeKind::Gpt => table.disk_guid().to_string(),
    }
}

fn renew_table(
    device: &dyn BlockDevice,
    mut table: TableEdit,
    report: &mut RenewReport,
    ids: Ids<'_>,
) -> Result<(), RenewError> {
    let (old_disk, old) = (disk_id(&table), partition_ids(&table));
    table.renew(ids);
    table.write(device)?;
    report.renewals.push(Renewal {
        partition: None,
        what: "disk",
        old: old_disk,
        new: disk_id(&table),
    });
    for ((number, old), (_, new)) in old.into_iter().zip(partition_ids(&table)) {
        report.renewals.push(Renewal {
            partition: Some(number),
            what: "partition",
            old,
            new,
        });
    }
    Ok(())
}

enum Renewed {
    /// The old and the new identifier, in the form that texts have.
    New(String, String),
    Kept(String),
}

fn renew_filesystem(
    window: &Window<'_>,
    facts: &FilesystemFacts,
    ids: Ids<'_>,
    now: Timestamp,
) -> Result<Renewed, RenewError> {
    let Some(old) = facts.id.clone() else {
        return Ok(Renewed::Kept("it has no identifier".to_owned()));
    };
    let uuid = uuid::Builder::from_random_bytes(ids())
        .into_uuid()
        .into_bytes();
    if facts.kind.has_files() {
        if let Some(why) = fault(window)? {
            return Ok(Renewed::Kept(why));
        }
        let mut files = match open_to_change(window, now) {
            Ok(files) => files,
            Err(error) if error.disk().is_some() => return Err(error.into()),
            Err(error) => return Ok(Renewed::Kept(error.to_string())),
        };
        files.set_identifier(uuid)?;
        files.close()?;
    } else if facts.kind == FilesystemKind::SWAP {
        set_swap_uuid(window, uuid)?;
    } else {
        return Ok(Renewed::Kept(format!(
            "Pinewrit cannot change that of {}",
            facts.kind
        )));
    }
    let new = probe(window)?.and_then(|facts| facts.id);
    Ok(match new {
        Some(new) => Renewed::New(old, new),
        None => Renewed::Kept("it was not recognised afterwards".to_owned()),
    })
}

/// Replaces identifiers in all texts that may refer to them.
fn follow(
    device: &dyn BlockDevice,
    places: &[FoundAt],
    report: &mut RenewReport,
    now: Timestamp,
) -> Result<(), RenewError> {
    for (number, range, facts) in places.iter().filter(|place| place.2.kind.has_files()) {
        let window = Window::new(device, *range);
        // Why it cannot be changed has already been reported.
        if fault(&window)?.is_some() {
            continue;
        }
        let (files, elsewhere) = follow_in(&window, facts.kind, &report.renewals, now)?;
        let partition = number.unwrap_or(0);
        report
            .followed
            .extend(files.into_iter().map(|(path, count)| Followed {
                partition,
                path,
                count,
            }));
        let elsewhere = elsewhere.into_iter();
        report
            .elsewhere
            .extend(elsewhere.map(|path| (partition, path)));
    }
    Ok(())
}

/// Files in which identifiers were replaced, and how many; and files that name some, but are no
/// texts that can be changed.
type FollowedIn = (Vec<(String, usize)>, Vec<String>);

fn follow_in(
    window: &Window<'_>,
    kind: FilesystemKind,
    renewals: &[Renewal],
    now: Timestamp,
) -> Result<FollowedIn, RenewError> {
    let mut files = match open_to_change(window, now) {
        Err(error) if error.disk().is_none() => return Ok((Vec::new(), Vec::new())),
        files => files?,
    };
    let mut changed = Vec::new();
    let mut elsewhere = Vec::new();
    for path in candidates(&files, kind)? {
        let facts = files.facts(&path)?;
        if !facts.is_some_and(|facts| facts.kind == Kind::File && facts.size <= MAX_SEARCHED) {
            continue;
        }
        let bytes = match files.read(&path, MAX_SEARCHED) {
            // An encrypted file is not a text that a loader reads.
            Err(error) if error.is_unreadable() => continue,
            bytes => bytes?.unwrap_or_default(),
        };
        if let Some((text, count)) = replaced(&bytes, renewals) {
            files.rewrite(&path, text.as_bytes())?;
            changed.push((path, count));
        } else if names_one(&bytes, renewals) {
            elsewhere.push(path);
        }
    }
    if !changed.is_empty() {
        files.close()?;
        if let Some(why) = fault(window)? {
            return Err(RenewError::Unsound(why));
        }
    }
    Ok((changed, elsewhere))
}

/// Whether bytes that are not a text name an old identifier.
fn names_one(bytes: &[u8], renewals: &[Renewal]) -> bool {
    let bytes = bytes.to_ascii_lowercase();
    wanted(renewals).any(|renewal| {
        let old = renewal.old.to_ascii_lowercase();
        let old = old.as_bytes();
        bytes.windows(old.len()).any(|part| part == old)
    })
}

/// Identifiers that texts may name. The disk identifier of an MBR is part of its partitions'
/// identifiers, and never appears alone.
fn wanted(renewals: &[Renewal]) -> impl Iterator<Item = &Renewal> {
    let alone = |one: &&Renewal| one.what != "disk" || one.old.len() > 8;
    renewals.iter().filter(alone)
}

/// Files that may refer to identifiers.
fn candidates(files: &Files<'_>, kind: FilesystemKind) -> Result<Vec<String>, FilesError> {
    let (own, folders): (&[&str], &[&str]) = if kind.is_fat() {
        (&[], &FAT_FOLDERS)
    } else {
        (&EXT_FILES, &EXT_FOLDERS)
    };
    let mut paths: Vec<String> = own.iter().map(|path| (*path).to_owned()).collect();
    for folder in folders {
        let names = files.names(folder)?.unwrap_or_default();
        paths.extend(names.iter().map(|name| join(folder, name)));
    }
    // Each system has a folder of its own beside the usual one.
    for system in files.names("/EFI")?.unwrap_or_default() {
        let folder = join("/EFI", &system);
        if !folder.eq_ignore_ascii_case("/EFI/BOOT") {
            let names = files.names(&folder)?.unwrap_or_default();
            paths.extend(names.iter().map(|name| join(&folder, name)));
        }
    }
    let units = files.names("/etc/systemd/system")?.unwrap_or_default();
    let is_mount = |name: &&String| name.ends_with(".mount") || name.ends_with(".swap");
    let units = units.iter().filter(is_mount);
    paths.extend(units.map(|name| join("/etc/systemd/system", name)));
    Ok(paths)
}

/// A text with new identifiers, and how many; `None` if it is not text or has none.
fn replaced(bytes: &[u8], renewals: &[Renewal]) -> Option<(String, usize)> {
    if bytes.len() as u64 > MAX_TEXT || bytes.contains(&0) {
        return None;
    }
    let mut text = std::str::from_utf8(bytes).ok()?.to_owned();
    let mut count = 0;
    for renewal in wanted(renewals) {
        count += replace_word(&mut text, &renewal.old, &renewal.new);
    }
    (count > 0).then_some((text, count))
}

/// Replaces an identifier in upper or lower case, unless it is part of something longer.
fn replace_word(text: &mut String, old: &str, new: &str) -> usize {
    let is_part = |c: char| c.is_ascii_alphanumeric() || c == '-';
    let lower = text.to_ascii_lowercase();
    let (usual, old) = (old, old.to_ascii_lowercase());
    let mut result = String::new();
    let (mut from, mut count) = (0, 0);
    for (at, _) in lower.match_indices(&old) {
        let end = at + old.len();
        let before = text[..at].chars().next_back();
        let after = text[end..].chars().next();
        if before.is_some_and(is_part) || after.is_some_and(is_part) {
            continue;
        }
        let found = &text[at..end];
        result += &text[from..at];
        // The usual case, even if there are no letters that would show it: the new one gets it too.
        if found == usual {
            result += new;
        } else if found.chars().any(|c| c.is_ascii_uppercase()) {
            result += &new.to_ascii_uppercase();
        } else {
            result += &new.to_ascii_lowercase();
        }
        from = end;
        count += 1;
    }
    result += &text[from..];
    *text = result;
    count
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identifiers_are_replaced_whole_and_in_their_case() {
        let mut text =
            "root=PARTUUID=1a4bfe11-02 x1a4bfe11-02 UUID=8EA9-3AB7 8ea9-3ab7-1\n".to_owned();
        assert_eq!(replace_word(&mut text, "1a4bfe11-02", "00c0ffee-02"), 1);
        assert_eq!(replace_word(&mut text, "8EA9-3AB7", "ABCD-EF01"), 1);
        assert_eq!(
            text,
            "root=PARTUUID=00c0ffee-02 x1a4bfe11-02 UUID=ABCD-EF01 8ea9-3ab7-1\n"
        );
        // Digits alone have no case; the new one is written as usual.
        let mut text = "UUID=1234-5678 uuid=abcd-ef01\n".to_owned();
        assert_eq!(replace_word(&mut text, "1234-5678", "92D6-6112"), 1);
        assert_eq!(replace_word(&mut text, "ABCD-EF01", "92D6-6113"), 1);
        assert_eq!(text, "UUID=92D6-6112 uuid=92d6-6113\n");
    }
}
