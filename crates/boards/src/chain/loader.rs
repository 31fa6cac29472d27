//! What a loader is, by its content.

use pinewrit_disk::BlockDevice;
use pinewrit_table::PartitionTable;
use pinewrit_volume::files::FilesystemOf;

use super::Medium;
use super::found::LoaderKind;

/// The largest loader that is looked into, in bytes. Unified images are larger; their heads suffice.
const MAX_LOADER: usize = 8 << 20;
/// The most of a command line in an image, in bytes.
const MAX_OPTIONS: usize = 4096;

/// What was found in a loader's file.
pub(super) struct Looked {
    pub(super) kind: LoaderKind,
    /// The command line that it brings.
    pub(super) options: String,
    pub(super) has_initrd: bool,
}

/// A section of an executable for UEFI.
struct Section {
    name: String,
    at: usize,
    len: usize,
}

/// Looks into the file of a loader.
pub(super) fn look(medium: &Medium<'_>, system: &FilesystemOf, path: &str) -> Looked {
    let content = medium.head(system, path, MAX_LOADER).unwrap_or_default();
    let sections = sections(&content);
    let section = |name: &str| sections.iter().find(|one| one.name == name);
    let has = |text: &[u8]| contains(&content, text);
    let is_kernel = content.get(0x202..0x206) == Some(b"HdrS")
        || content.get(56..60) == Some(b"ARM\x64")
        || content.get(56..60) == Some(b"RSC\x05");
    let kind = if section(".linux").is_some() {
        LoaderKind::Unified
    } else if is_kernel {
        LoaderKind::Kernel
    } else if has(b"Welcome to GRUB!") {
        LoaderKind::Grub
    } else if section(".sdmagic").is_some() || has(b"#### LoaderInfo: systemd-boot") {
        LoaderKind::Entries
    } else if section(".sbat").is_some() && has(b"s\0h\0i\0m") {
        LoaderKind::Shim
    } else {
        LoaderKind::Unknown
    };
    let options = section(".cmdline").and_then(|found| {
        let end = found.at.checked_add(found.len.min(MAX_OPTIONS))?;
        let text = String::from_utf8_lossy(content.get(found.at..end)?).into_owned();
        Some(text.trim_end_matches('\0').trim().to_owned())
    });
    Looked {
        kind,
        options: options.unwrap_or_default(),
        has_initrd: section(".initrd").is_some(),
    }
}

/// The sections of an executable (PE format, "Section Table").
fn sections(content: &[u8]) -> Vec<Section> {
    let u16_at = |at: usize| -> Option<usize> {
        let bytes: [u8; 2] = content.get(at..at.checked_add(2)?)?.try_into().ok()?;
        Some(usize::from(u16::from_le_bytes(bytes)))
    };
    let u32_at = |at: usize| -> Option<usize> {
        let bytes: [u8; 4] = content.get(at..at.checked_add(4)?)?.try_into().ok()?;
        usize::try_from(u32::from_le_bytes(bytes)).ok()
    };
    let read = || {
        let header = u32_at(0x3c)?;
        let (count, optional) = (
            u16_at(header.checked_add(6)?)?,
            u16_at(header.checked_add(20)?)?,
        );
        let table = header.checked_add(24)?.checked_add(optional)?;
        let mut all = Vec::new();
        for index in 0..count.min(96) {
            let at = table.checked_add(index * 40)?;
            let name = content.get(at..at.checked_add(8)?)?;
            let name = String::from_utf8_lossy(name);
            all.push(Section {
                name: name.trim_end_matches('\0').to_owned(),
                len: u32_at(at.checked_add(8)?)?,
                at: u32_at(at.checked_add(20)?)?,
            });
        }
        Some(all)
    };
    match content.starts_with(b"MZ") {
        true => read().unwrap_or_default(),
        false => Vec::new(),
    }
}

fn contains(content: &[u8], text: &[u8]) -> bool {
    content.windows(text.len()).any(|part| part == text)
}

/// What the code in the first sector is that a legacy BIOS runs.
pub(super) fn boot_code(
    device: &dyn BlockDevice,
    table: Option<&PartitionTable>,
) -> Option<LoaderKind> {
    if !table?.has_boot_code {
        return None;
    }
    let mut sector = [0; 512];
    device.read_at(0, &mut sector).ok()?;
    Some(match contains(&sector[..440], b"GRUB") {
        true => LoaderKind::Grub,
        false => LoaderKind::Unknown,
    })
}
