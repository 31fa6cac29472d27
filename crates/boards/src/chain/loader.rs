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
    /// Where it looks for its text, if nothing but its image says so.
    pub(super) prefix: Option<String>,
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
        prefix: section("mods")
            .filter(|_| kind == LoaderKind::Grub)
            .and_then(|mods| grub_prefix(&content, mods.at)),
    }
}

/// The folder of its text that a GRUB's image names; `None` if it brings a text or a disk of its
/// own, which may lead anywhere (GRUB 2.06, `include/grub/kernel.h`: `grub_module_info64`,
/// `grub_module_header`).
fn grub_prefix(content: &[u8], at: usize) -> Option<String> {
    const DISK: u32 = 1;
    const TEXT: u32 = 2;
    const PREFIX: u32 = 3;
    let area = content.get(at..)?;
    let u32_at = |at: usize| -> Option<u32> {
        let bytes = area.get(at..at.checked_add(4)?)?;
        Some(u32::from_le_bytes(bytes.try_into().ok()?))
    };
    // In images for 32 bits, two words follow at once.
    let is_wide = u32_at(4)? == 0;
    let (offset, size) = match is_wide {
        true => (u32_at(8)?, u32_at(16)?),
        false => (u32_at(4)?, u32_at(8)?),
    };
    let end = usize::try_from(size).ok()?.min(area.len());
    let mut at = usize::try_from(offset).ok()?;
    let mut prefix = None;
    while area.starts_with(b"mimg") && at.checked_add(8)? <= end {
        let len = usize::try_from(u32_at(at + 4)?).ok()?;
        let payload = area.get(at + 8..at.checked_add(len)?)?;
        match u32_at(at)? {
            DISK | TEXT => return None,
            PREFIX => {
                let text = payload.split(|byte| *byte == 0).next()?;
                prefix = Some(String::from_utf8_lossy(text).into_owned());
            }
            _ => {}
        }
        at += len.max(8);
    }
    prefix
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// An image's area with these parts: kind, and content.
    fn area(is_wide: bool, parts: &[(u32, &str)]) -> Vec<u8> {
        let mut content = Vec::new();
        for (kind, payload) in parts {
            content.extend(kind.to_le_bytes());
            content.extend((payload.len() as u32 + 8).to_le_bytes());
            content.extend(payload.as_bytes());
        }
        let head: u32 = if is_wide { 24 } else { 12 };
        let size = head + content.len() as u32;
        let words: &[u32] = match is_wide {
            true => &[0, head, 0, size, 0],
            false => &[head, size],
        };
        let mut area = b"mimg".to_vec();
        area.extend(words.iter().flat_map(|word| word.to_le_bytes()));
        area.extend(content);
        area
    }

    #[rstest]
    #[case::a_folder(&[(0, "code"), (3, "/EFI/hut\0\0\0\0")], Some("/EFI/hut"))]
    #[case::a_text_of_its_own(&[(3, "/EFI/hut\0"), (2, "search")], None)]
    #[case::a_disk_of_its_own(&[(1, "disk"), (3, "/EFI/hut\0")], None)]
    #[case::nothing(&[(0, "code")], None)]
    fn folders(#[case] parts: &[(u32, &str)], #[case] expected: Option<&str>) {
        for is_wide in [true, false] {
            assert_eq!(grub_prefix(&area(is_wide, parts), 0).as_deref(), expected);
        }
    }

    proptest! {
        #[test]
        fn no_bytes_panic(is_wide: bool, at in 0..60_usize, value: u8, cut in 0..60_usize) {
            let mut area = area(is_wide, &[(0, "code"), (3, "/EFI/hut\0")]);
            if let Some(byte) = area.get_mut(at) {
                *byte = value;
            }
            let _ = grub_prefix(&area, 0);
            let _ = grub_prefix(&area[..cut.min(area.len())], 0);
        }
    }
}
