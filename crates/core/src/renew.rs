//! New identifiers for a medium: of its table, its partitions and its file systems, and in every text
//! on it that names them.

use pinewrit_disk::{BlockDevice, DiskError, Overlay, Window};
use pinewrit_ext4::{
    Attributes, CheckError, EditError, Editor, FileKind, VolumeError as ExtError, Zeros,
};
use pinewrit_fat as fat;
use pinewrit_table::{Ids, SchemeKind, TableEdit, TableError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::inspect::{Inspection, inspect};
use crate::partitions::TableChange;
use pinewrit_volume::grow::now;
use pinewrit_volume::system::fat_files;
use pinewrit_volume::{FilesystemFacts, FilesystemKind, probe};

/// An identifier that was replaced.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Renewal {
    /// The partition; `None` for the medium's own.
    pub partition: Option<u32>,
    /// What it identifies: `disk`, `partition`, or the kind of a file system.
    pub what: &'static str,
    /// As it was.
    pub old: String,
    /// As it is.
    pub new: String,
}

/// A file in which identifiers were replaced.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Followed {
    /// The partition that it lies in.
    pub partition: u32,
    /// Its path.
    pub path: String,
    /// How many were replaced.
    pub count: usize,
}

/// What was renewed, and where it was named.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RenewReport {
    /// The identifiers.
    pub renewals: Vec<Renewal>,
    /// The files that follow.
    pub followed: Vec<Followed>,
    /// Partitions whose file system keeps its identifier, and why.
    pub kept: Vec<(u32, String)>,
}

/// Why identifiers were not renewed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RenewError {
    /// The table cannot be changed.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A FAT file system could not be read or changed.
    #[error(transparent)]
    Fat(fat::EditError),
    /// An ext file system could not be read or changed.
    #[error(transparent)]
    Ext(EditError),
    /// What was changed does not hold together.
    #[error("the file system would not hold together: {0}")]
    Unsound(String),
    /// The device failed.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

impl From<EditError> for RenewError {
    fn from(error: EditError) -> Self {
        match error {
            EditError::Volume(ExtError::Disk(error)) => Self::Disk(error),
            error => Self::Ext(error),
        }
    }
}

impl From<fat::EditError> for RenewError {
    fn from(error: fat::EditError) -> Self {
        match error {
            fat::EditError::Volume(fat::VolumeError::Disk(error)) => Self::Disk(error),
            error => Self::Fat(error),
        }
    }
}

impl From<fat::VolumeError> for RenewError {
    fn from(error: fat::VolumeError) -> Self {
        fat::EditError::from(error).into()
    }
}

/// Folders whose files may name identifiers: command lines, boot menus and their settings. In
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
/// Larger files are no settings.
const MAX_TEXT: u64 = 64 << 10;
/// Where a swap area keeps its UUID.
const SWAP_UUID: u64 = 1036;

/// Works out new identifiers for all of a medium, and the files that have to follow.
///
/// # Errors
/// [`RenewError`].
pub fn prepare<'a>(
    medium: &'a dyn BlockDevice,
    ids: Ids<'_>,
) -> Result<(TableChange<'a>, RenewReport), RenewError> {
    let size = medium.size();
    let before = inspect(medium, Some(size))?;
    let overlay = Overlay::new(medium);
    let mut report = RenewReport::default();
    renew_table(&overlay, &mut report, ids)?;
    for partition in &before.partitions {
        let Some(facts) = &partition.filesystem else {
            continue;
        };
        let window = Window::new(&overlay, partition.range());
        match renew_filesystem(&window, facts, ids)? {
            Renewed::New(old, new) => report.renewals.push(Renewal {
                partition: Some(partition.number),
                what: facts.kind.word(),
                old,
                new,
            }),
            Renewed::Kept(why) => report.kept.push((partition.number, why)),
        }
    }
    report.followed = follow(&overlay, &before, &report)?;
    let after = inspect(&overlay, Some(size))?;
    Ok((TableChange::new(overlay, before, after), report))
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
    report: &mut RenewReport,
    ids: Ids<'_>,
) -> Result<(), RenewError> {
    let mut table = TableEdit::read(device)?;
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
) -> Result<Renewed, RenewError> {
    let Some(old) = facts.id.clone() else {
        return Ok(Renewed::Kept("it has no identifier".to_owned()));
    };
    let uuid = uuid::Builder::from_random_bytes(ids())
        .into_uuid()
        .into_bytes();
    if facts.kind.is_fat() {
        if let Some(why) = fat_fault(window)? {
            return Ok(Renewed::Kept(why));
        }
        let mut editor = fat::Editor::open(window)?;
        editor.set_id([uuid[0], uuid[1], uuid[2], uuid[3]]);
        editor.commit()?;
    } else if facts.kind.is_ext() {
        if let Some(why) = ext_fault(window)? {
            return Ok(Renewed::Kept(why));
        }
        let mut editor = match Editor::open(window, now()) {
            Ok(editor) => editor,
            Err(EditError::Volume(ExtError::Disk(error))) => {
                return Err(error.into());
            }
            Err(error) => return Ok(Renewed::Kept(error.to_string())),
        };
        editor.set_uuid(uuid)?;
        editor.commit()?;
    } else if facts.kind == FilesystemKind::SWAP {
        window.write_at(SWAP_UUID, &uuid)?;
    } else {
        return Ok(Renewed::Kept(format!(
            "that of {} is not changed here",
            facts.kind
        )));
    }
    let new = probe(window)?.and_then(|facts| facts.id);
    Ok(match new {
        Some(new) => Renewed::New(old, new),
        None => Renewed::Kept("it is not recognised".to_owned()),
    })
}

/// Replaces identifiers in all texts that may name them.
fn follow(
    overlay: &dyn BlockDevice,
    found: &Inspection,
    report: &RenewReport,
) -> Result<Vec<Followed>, RenewError> {
    let mut followed = Vec::new();
    for partition in &found.partitions {
        let Some(facts) = &partition.filesystem else {
            continue;
        };
        let window = Window::new(overlay, partition.range());
        let files = if facts.kind.is_fat() {
            follow_in_fat(&window, &report.renewals)?
        } else if facts.kind.is_ext() {
            follow_in_ext(&window, &report.renewals)?
        } else {
            Vec::new()
        };
        followed.extend(files.into_iter().map(|(path, count)| Followed {
            partition: partition.number,
            path,
            count,
        }));
    }
    Ok(followed)
}

fn follow_in_fat(
    window: &Window<'_>,
    renewals: &[Renewal],
) -> Result<Vec<(String, usize)>, RenewError> {
    if fat_fault(window)?.is_some() {
        // That was told already.
        return Ok(Vec::new());
    }
    let mut editor = fat::Editor::open(window)?;
    let mut changed = Vec::new();
    for folder in FAT_FOLDERS {
        for node in fat_files(editor.tree(), folder)? {
            if node.size > MAX_TEXT {
                continue;
            }
            let mut bytes = Vec::new();
            editor.tree().read_to(&node, MAX_TEXT, &mut bytes)?;
            let Some((text, count)) = replaced(&bytes, renewals) else {
                continue;
            };
            let path = format!("{folder}/{}", node.name);
            let (size, mut source) = (text.len() as u64, text.as_bytes());
            let now = now().seconds;
            editor.write_file(&path, size, &mut source, now, fat::Placement::Usual)?;
            changed.push((path, count));
        }
    }
    editor.commit()?;
    match fat_fault(window)? {
        Some(why) if !changed.is_empty() => Err(RenewError::Unsound(why)),
        _ => Ok(changed),
    }
}

/// What is wrong with a FAT file system, if anything is.
fn fat_fault(window: &Window<'_>) -> Result<Option<String>, DiskError> {
    match fat::check(window) {
        Ok(()) => Ok(None),
        Err(fat::CheckError::Volume(fat::VolumeError::Disk(error))) => Err(error),
        Err(fault) => Ok(Some(fault.to_string())),
    }
}

fn follow_in_ext(
    window: &Window<'_>,
    renewals: &[Renewal],
) -> Result<Vec<(String, usize)>, RenewError> {
    if ext_fault(window)?.is_some() {
        return Ok(Vec::new());
    }
    let mut editor = match Editor::open(window, now()) {
        Err(EditError::Volume(ExtError::Disk(error))) => return Err(error.into()),
        // What cannot be changed was told already.
        Err(_) => return Ok(Vec::new()),
        Ok(editor) => editor,
    };
    let mut paths: Vec<String> = EXT_FILES.map(str::to_owned).to_vec();
    for folder in EXT_FOLDERS {
        let tree = editor.tree();
        let found = there(tree.find(folder.as_bytes()))?;
        let names = match found.map(|number| tree.list(number)) {
            None | Some(Err(ExtError::NotDirectory(_))) => Vec::new(),
            Some(names) => names.map_err(EditError::from)?,
        };
        let names = names.into_iter();
        paths.extend(
            names.filter_map(|entry| {
                Some(format!("{folder}/{}", String::from_utf8(entry.name).ok()?))
            }),
        );
    }
    let mut changed = Vec::new();
    for path in paths {
        let tree = editor.tree();
        let Some(number) = there(tree.find(path.as_bytes()))? else {
            continue;
        };
        let facts = tree.metadata(number).map_err(EditError::from)?;
        if facts.kind != FileKind::Regular || facts.size > MAX_TEXT {
            continue;
        }
        let mut bytes = vec![0; facts.size as usize];
        match tree.read_at(number, 0, &mut bytes) {
            // An encrypted one is no text that a loader reads.
            Err(ExtError::Unreadable(_)) => continue,
            read => drop(read.map_err(EditError::from)?),
        }
        let Some((text, count)) = replaced(&bytes, renewals) else {
            continue;
        };
        let attributes = Attributes {
            mode: facts.mode,
            uid: facts.uid,
            gid: facts.gid,
            modified: now(),
            xattrs: tree.xattrs(number).map_err(EditError::from)?,
        };
        let (size, mut source) = (text.len() as u64, text.as_bytes());
        editor.write_file(
            path.as_bytes(),
            &attributes,
            size,
            &mut source,
            Zeros::Written,
        )?;
        changed.push((path, count));
    }
    if !changed.is_empty() {
        editor.commit()?;
        if let Some(why) = ext_fault(window)? {
            return Err(RenewError::Unsound(why));
        }
    }
    Ok(changed)
}

/// What is wrong with an ext file system, if anything is.
fn ext_fault(window: &Window<'_>) -> Result<Option<String>, DiskError> {
    match pinewrit_ext4::check(window) {
        Ok(()) => Ok(None),
        Err(CheckError::Volume(ExtError::Disk(error))) => Err(error),
        Err(fault) => Ok(Some(fault.to_string())),
    }
}

/// What was found; `None` where there is nothing. What cannot be read may name an identifier.
fn there<T>(found: Result<T, ExtError>) -> Result<Option<T>, EditError> {
    match found {
        Err(ExtError::NotFound(_) | ExtError::NotDirectory(_)) => Ok(None),
        found => Ok(Some(found?)),
    }
}

/// A text with new identifiers, and how many; `None` where it is no text or names none.
fn replaced(bytes: &[u8], renewals: &[Renewal]) -> Option<(String, usize)> {
    if bytes.len() as u64 > MAX_TEXT || bytes.contains(&0) {
        return None;
    }
    let mut text = std::str::from_utf8(bytes).ok()?.to_owned();
    let mut count = 0;
    // The disk's own identifier of an MBR is a part of its partitions' ones, and stands alone nowhere.
    let wanted = renewals
        .iter()
        .filter(|one| one.what != "disk" || one.old.len() > 8);
    for renewal in wanted {
        count += replace_word(&mut text, &renewal.old, &renewal.new);
    }
    (count > 0).then_some((text, count))
}

/// Replaces an identifier in any case, where it is not a part of something longer.
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
        // Written as usual, also where it has no letters that would tell: so is the new one.
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
